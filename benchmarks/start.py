"""Cold start beside a bare window in the same run: python benchmarks/start.py [offscreen|xcb]."""

import os
import subprocess
import sys
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
from PyQt6.QtWidgets import QApplication
from anchor_tally.ui import application
class Watched(application.MainWindow):
    def __init__(self, *a, **k):
        super().__init__(*a, **k)
        self.seen = False
        self.attached.connect(lambda: self.compare.shown.connect(self.watch))
    def paintEvent(self, event):
        super().paintEvent(event)
        if not self.seen:
            self.seen = True
            print('painted', flush=True)
    def watch(self):
        self.compare.ladder.mpl_connect('draw_event', self.drawn)
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
        for line in child.stdout:
            if line.strip() == word:
                found.append(time.perf_counter() - start)
        child.wait()
        child.stdout.close()
    return min(found)


def main():
    """Print the two ratios."""
    os.environ["QT_QPA_PLATFORM"] = sys.argv[1] if len(sys.argv) > 1 else "offscreen"
    bare, figure = seconds(BARE, "painted"), seconds(BARE_FIGURE, "figure")
    frame, first = seconds(OURS, "painted"), seconds(OURS, "figure")
    print(f"frame painted: {frame:.2f} s, bare window {bare:.2f} s, ratio {frame / bare:.2f} (aim 3)")
    print(f"first figure: {first:.2f} s, bare canvas {figure:.2f} s, ratio {first / figure:.2f} (aim 1.5)")


if __name__ == "__main__":
    main()
