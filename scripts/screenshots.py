"""Make the pictures of docs/screenshots from the demo study: python scripts/screenshots.py [FOLDER]."""

import os
import sys
import tempfile
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

from PyQt6.QtCore import QEventLoop, QSettings, QTimer

from anchor_tally.app.demo import demo_session
from anchor_tally.ui.application import make_application
from anchor_tally.ui.main_window import MainWindow


def until(signal, action):
    """Do something and wait for its signal (10 s at most)."""
    loop = QEventLoop()
    signal.connect(loop.quit)
    QTimer.singleShot(10_000, loop.quit)
    action()
    loop.exec()


def main(folder: Path) -> None:
    """Walk through the stages and keep a picture of each."""
    app = make_application([])
    with tempfile.TemporaryDirectory() as place:
        session = demo_session(Path(place))
        window = MainWindow(session, settings=QSettings(f"{place}/settings.ini", QSettings.Format.IniFormat))
        until(window.compare.shown, window.show)

        def keep(name: str) -> None:
            for _ in range(5):
                app.processEvents()
            window.grab().save(str(folder / f"{name}.png"))
            print(folder / f"{name}.png")

        keep("compare")
        window.compare._choose_point(40)
        keep("evidence")
        window.drawer.hide()
        until(window.calibrate.shown, lambda: window.go("calibrate"))
        window.calibrate.adopt.click()
        keep("calibrate")
        window.go("record")
        window.record.client.setCurrentText("Merle")
        window.record.bar.choose_client("Merle")
        window.record.visits.setCurrentIndex(1)
        window.record.bar.choose_visit(1)
        keep("record")
        window.set_dark(True)
        until(window.compare.shown, lambda: window.go("compare"))
        keep("compare-dark")
        window.close()
        session.close()


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path(__file__).parent.parent / "docs" / "screenshots")
