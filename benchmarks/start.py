"""Cold start beside a bare window in one run, offscreen and in a real window.

``python benchmarks/start.py``.
"""

import os
import shutil
import subprocess
import sys
import threading
import time

BARE = """
import sys
from PyQt6.QtWidgets import QApplication, QMainWindow, QLabel
from PyQt6.QtCore import QTimer
a = QApplication([])
class W(QMainWindow):
    def paintEvent(self, event):
        super().paintEvent(event); print('painted', flush=True); QTimer.singleShot(0, a.quit)
w = W(); w.setCentralWidget(QLabel('bare')); w.resize(1280, 800); w.show(); a.exec()
"""
BARE_FIGURE = """
import sys
from PyQt6.QtWidgets import QApplication, QMainWindow
from PyQt6.QtCore import QTimer
from matplotlib.backends.backend_qtagg import FigureCanvasQTAgg
from matplotlib.figure import Figure
a = QApplication([]); w = QMainWindow(); c = FigureCanvasQTAgg(Figure()); c.figure.add_subplot().plot([1, 2, 3])
w.setCentralWidget(c); w.resize(1280, 800); w.show()
c.mpl_connect('draw_event', lambda e: (print('figure', flush=True), QTimer.singleShot(0, a.quit))); a.exec()
"""
OURS = """
import os, sys
os.environ.setdefault('OPENBLAS_NUM_THREADS', '1')
from PyQt6.QtCore import QTimer
from anchor_tally.ui import application
class Watched(application.MainWindow):
    def __init__(self, *a, **k):
        super().__init__(*a, **k)
        self.painted.connect(lambda: print('painted', flush=True))
        self.attached.connect(lambda: self.page('compare').shown.connect(self.look_at_figure))
    def look_at_figure(self):
        self.page('compare').ladder.mpl_connect('draw_event', self.drawn)
    def drawn(self, _):
        print('figure', flush=True)
        QTimer.singleShot(0, self.close)
application.MainWindow = Watched
sys.exit(application.main(['--demo']))
"""


def seconds(code, word):
    """Seconds from the start of a fresh process until it prints ``word``; the best of five."""
    found = []
    for _ in range(5):
        start = time.perf_counter()
        child = subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, text=True)
        late = threading.Timer(60, child.kill)  # a start that fails must not wait for ever
        late.start()
        for line in child.stdout:
            if line.strip() == word:
                found.append(time.perf_counter() - start)
        child.wait()
        late.cancel()
        child.stdout.close()
    return min(found)


def screen():
    """Offscreen, then a real X display with a window manager where there is one.

    Yields the platform's name.
    """
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    yield "offscreen"
    if not (shutil.which("Xvfb") and shutil.which("openbox")):
        print("xcb: install xvfb and openbox to measure in a real window")
        return
    display = ":87"
    server = subprocess.Popen(
        ["Xvfb", display, "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL
    )
    os.environ |= {"DISPLAY": display, "QT_QPA_PLATFORM": "xcb"}
    time.sleep(1)
    manager = subprocess.Popen(["openbox"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    time.sleep(1)
    yield "xcb"
    manager.terminate()
    server.terminate()


def main():
    """Print the ratios on each platform."""
    for name in screen():
        bare, figure = seconds(BARE, "painted"), seconds(BARE_FIGURE, "figure")
        frame, first = seconds(OURS, "painted"), seconds(OURS, "figure")
        print(
            f"{name}: frame painted {frame:.2f} s, bare window {bare:.2f} s, ratio"
            f" {frame / bare:.2f} (aim 3)"
        )
        print(
            f"{name}: first figure {first:.2f} s, bare canvas {figure:.2f} s, ratio"
            f" {first / figure:.2f} (aim 2)"
        )


if __name__ == "__main__":
    main()
