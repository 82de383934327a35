"""Speed of offsets, drift and one client on 37,000 readings.

Beside plain group sums over the same rows: ``python benchmarks/board.py``.

60 clients, 8 instruments, 26 weeks, 3 repeats (every second week, and at the scans of weeks 0,
12 and 24). "Opened" is from the click to the drawn figures of a page that was never opened
before; "reflected" from excluding one reading that offsets stand on to the drawn board, the
median of nine.
"""

import os
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
from PyQt6.QtCore import QEventLoop, QSettings, QTimer
from studies import large_study

from anchor_tally.study.edits.readings import ExcludeReading
from anchor_tally.ui.application import make_application
from anchor_tally.ui.main_window import MainWindow


def main():
    """Time it."""
    app = make_application([])
    folder = Path(tempfile.mkdtemp())
    session = large_study(folder / "board.tally")
    c = session.snapshot().columns["body_fat_percent"]
    key = c.instrument * 1000 + c.client

    def sums():
        _, cell = np.unique(key, return_inverse=True)
        n = np.bincount(cell)
        return np.bincount(cell, c.value) / n, np.bincount(cell, c.value**2) / n

    plain = min(_timed(sums) for _ in range(5))
    print(f"{c.n:,} readings; plain group sums {1e3 * plain:.1f} ms")
    window = MainWindow(
        session, settings=QSettings(str(folder / "s.ini"), QSettings.Format.IniFormat)
    )
    window.resize(1280, 800)
    from anchor_tally.ui.canvas import FigureView

    def until(page, act):
        loop = QEventLoop()
        page.shown.connect(loop.quit)
        QTimer.singleShot(60000, loop.quit)
        start = time.perf_counter()
        act()
        loop.exec()
        page.shown.disconnect(loop.quit)
        told = time.perf_counter() - start
        app.processEvents()  # a page that has just come up asks for its figures now
        while not FigureView.all_drawn():
            app.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
        return told, time.perf_counter() - start

    until(window.page("compare"), window.show)
    end = time.monotonic() + 3
    while time.monotonic() < end:  # what is made ready while nothing else is asked for
        app.processEvents()
    for name in ("calibrate", "drift", "track"):
        page = window.page(name)
        told, drawn = until(page, lambda n=name: window.go(n))
        print(
            f"{name:10} opened: told {1e3 * told:6.0f} ms, drawn {1e3 * drawn:6.0f} ms"
            f" ({drawn / plain:5.0f} × the sums)"
        )
    page = window.page("calibrate")
    window.go("calibrate")
    app.processEvents()
    while not FigureView.all_drawn():
        app.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
    pairs = {
        k: page.results[k].comparison.pairs for k in (0, 3)
    }  # the instrument in the picture, and another
    for words, k in (("in the picture", 0), ("of another instrument", 3)):
        times = []
        for reading in pairs[k].reading[:90:10].tolist():  # readings that offsets stand on
            times.append(
                until(page, lambda r=int(reading): session.do(ExcludeReading(r, "slipped")))
            )
        told, drawn = np.median(times, axis=0)
        most = max(d for _, d in times)
        print(
            f"edit {words} reflected on the board: told {1e3 * told:4.0f} ms, drawn"
            f" {1e3 * drawn:4.0f} ms (at most {1e3 * most:.0f}; {drawn / plain:3.0f} × the sums)"
        )
    window.close()
    session.close()


def _timed(act):
    start = time.perf_counter()
    act()
    return time.perf_counter() - start


if __name__ == "__main__":
    main()
