"""How long pages and edits hold the window, beside the drawing of a bare figure in the same run.

``python benchmarks/heartbeat.py``. Computing time of the window's thread between two beats of a timer: other programs
change it less than elapsed time.
"""

import os
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure
from PyQt6.QtCore import QEventLoop, QSettings, Qt, QTimer
from PyQt6.QtTest import QTest
from studies import large_study

from anchor_tally.domain.records import Setting
from anchor_tally.study.edits.instruments import StartSetting
from anchor_tally.ui.application import make_application
from anchor_tally.ui.canvas import FigureView
from anchor_tally.ui.main_window import MainWindow

PAGES = ("record", "plan", "review", "drift", "calibrate", "track", "report", "change", "score")


def bare_figure():
    """Computing time of one drawing of a figure with a line (s), the best of ten."""
    canvas = FigureCanvasAgg(Figure((12.8, 8.0)))
    canvas.figure.add_subplot().plot([1, 2, 3])
    found = []
    for _ in range(10):
        start = time.thread_time()
        canvas.draw()
        found.append(time.thread_time() - start)
    return min(found)


class Watch:
    """The window under a timer that beats every few milliseconds."""

    def __init__(self, window, app):
        self.window, self.app, self.worst, self.last = window, app, 0.0, 0.0
        self.timer = QTimer(window)
        self.timer.timeout.connect(self._beat)

    def _beat(self):
        now = time.thread_time()
        self.worst, self.last = max(self.worst, now - self.last), now

    def held(self, action):
        """The longest time (s) that an action and what follows it hold the window."""
        window, wait = self.window, QEventLoop.ProcessEventsFlag.WaitForMoreEvents
        self.worst, self.last = 0.0, time.thread_time()
        self.timer.start(2)
        action()
        self._beat()
        quiet = 0
        while quiet < 5:
            self.app.processEvents(wait)
            quiet = 0 if window.jobs.busy() or not FigureView.all_drawn() else quiet + 1
        self.timer.stop()
        return self.worst


def actions(window):
    """What is done, by name, in order."""
    session = window.session
    for key in PAGES:
        yield f"{key} opened", lambda key=key: window.go(key)

    def client():
        record = window.page("record")
        window.go("record")
        record.client.setEditText("C07")
        record.bar.choose_client()

    def typed():
        cell = window.page("record").entry_rows[0].cells[0]
        cell.setFocus()
        QTest.keyClicks(cell, "21.5")
        QTest.keyClick(cell, Qt.Key.Key_Return)

    yield "client chosen", client
    yield "value typed", typed
    yield "its undo", window.undo
    yield "setting begun", lambda: session.do(StartSetting(Setting(0, 1, "b", "2026-05-01")))
    yield "compare again", lambda: window.go("compare")
    yield "theme", lambda: window.set_dark(True)


def main():
    """Print the longest hold of each action at two sizes."""
    app, bare = make_application([]), bare_figure()
    print(f"a bare figure is drawn in {1000 * bare:.0f} ms")
    for clients in (60, 480):
        with tempfile.TemporaryDirectory() as folder:
            session = large_study(Path(folder) / "large.tally", clients)
            settings = QSettings(f"{folder}/s.ini", QSettings.Format.IniFormat)
            window = MainWindow(session, settings=settings)
            watch = Watch(window, app)
            window.show()
            watch.held(lambda: None)
            print(f"{len(session.readings()):,} readings     ms   × a bare figure")
            for name, action in actions(window):
                held = watch.held(action)
                print(f"  {name:20}{1000 * held:6.0f}{held / bare:12.1f}")
            window.close()


if __name__ == "__main__":
    sys.exit(main())
