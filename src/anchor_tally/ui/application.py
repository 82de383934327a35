"""Starting the window."""

from __future__ import annotations

import logging
import sys
from pathlib import Path

from PyQt6.QtCore import QSettings, QStandardPaths, Qt
from PyQt6.QtWidgets import QApplication

from ..app.demo import demo_session
from ..app.session import Session
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
    try:
        session = _session(argv)
    except UserError as error:
        print(f"anchor-tally: {error}", file=sys.stderr)  # noqa: T201  (no window to say it in)
        return 2
    settings = QSettings("anchor-tally", "anchor-tally")
    follows = app.styleHints().colorScheme() == Qt.ColorScheme.Dark
    window = MainWindow(session, dark=settings.value("dark", follows, type=bool), settings=settings)
    window.show()
    code = app.exec()
    session.close()
    return code
