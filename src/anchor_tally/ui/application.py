"""Starting the window."""

from __future__ import annotations

import logging
import sys
from pathlib import Path

from PyQt6.QtCore import QSettings, QStandardPaths, Qt, QTimer
from PyQt6.QtWidgets import QApplication

from ..domain.errors import UserError
from .main_window import MainWindow
from .theme import load_fonts


def make_application(argv):
    """The one QApplication, with fonts."""
    app = QApplication.instance() or QApplication(argv)
    app.setApplicationName("anchor-tally")
    app.setStyle("Fusion")
    load_fonts()
    return app


def _session(argv):
    from ..app.demo import demo_session  # after the first paint: brings NumPy
    from ..app.session import Session

    if "--demo" in argv:
        return demo_session()
    files = [a for a in argv if a.endswith(".tally")]
    if files:
        return Session.open(Path(files[0]))
    place = Path(QStandardPaths.writableLocation(QStandardPaths.StandardLocation.AppDataLocation))
    place.mkdir(parents=True, exist_ok=True)
    first = place / "my-study.tally"
    return Session.open(first) if first.exists() else Session.new(first, "My study")


def main(argv):
    """Open the window; return the exit code."""
    logging.basicConfig(level=logging.WARNING)
    app = make_application(["anchor-tally", *argv])
    settings = QSettings("anchor-tally", "anchor-tally")
    follows = app.styleHints().colorScheme() == Qt.ColorScheme.Dark
    window = MainWindow(dark=settings.value("dark", follows, type=bool), settings=settings)
    trouble = []

    def attach():
        try:
            window.attach(_session(argv))
        except UserError as error:
            trouble.append(str(error))
            app.exit(2)

    window.show()
    app.processEvents()  # the frame is on the screen before anything heavy is imported
    QTimer.singleShot(0, attach)
    code = app.exec()
    if trouble:
        print(f"anchor-tally: {trouble[0]}", file=sys.stderr)  # noqa: T201  (the window has nothing to show)
    if window.session is not None:
        window.session.close()
    return code
