"""Starting the window."""

from __future__ import annotations

import logging
import sys
from collections.abc import Sequence
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING

from PyQt6.QtCore import QSettings, QStandardPaths, Qt, QTimer
from PyQt6.QtWidgets import QApplication

from ..domain.errors import UserError
from .main_window import MainWindow
from .theme import load_fonts

if TYPE_CHECKING:
    from ..app.session import Session

log = logging.getLogger("anchor_tally")
PATIENCE_MS = (
    4000  # a screen that asks for no picture by then never will: the study is opened all the same
)


def make_application(argv: Sequence[str]) -> QApplication:
    """The one QApplication, with fonts."""
    there = QApplication.instance()
    app = there if isinstance(there, QApplication) else QApplication(list(argv))
    app.setApplicationName("anchor-tally")
    app.setStyle("Fusion")
    load_fonts()
    return app


def _session(argv: Sequence[str]) -> Session:
    from ..app.demo import demo_session  # after the first paint: brings NumPy
    from ..app.session import Session

    if "--demo" in argv:
        return demo_session()
    files = [a for a in argv if a.endswith(".tally")]
    if files:
        return Session.open(Path(files[0]))
    place = Path(QStandardPaths.writableLocation(QStandardPaths.StandardLocation.AppDataLocation))
    try:
        place.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise UserError(
            f"{place}: cannot be written ({error.strerror}). Open or create a study in another"
            " folder"
        ) from error
    first = place / "my-study.tally"
    return Session.open(first) if first.exists() else Session.new(first, "My study")


def watch_faults(window: MainWindow) -> None:
    """A fault in a slot is logged and shown in the footer; the window lives on."""

    def hook(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        if issubclass(kind, KeyboardInterrupt):
            QApplication.quit()
        elif isinstance(error, UserError):
            window.say(str(error), True)
        else:
            log.error("an error in the program", exc_info=(kind, error, trace))
            window.fault(error)

    sys.excepthook = hook


def open_after_first_paint(window: MainWindow, argv: Sequence[str]) -> None:
    """Open the study once the frame is on the screen, since it imports everything heavy."""

    def attach() -> None:
        if begun:
            return
        begun.append(True)
        try:
            window.attach(_session(argv))
        except UserError as error:
            window.trouble(str(error))
        except Exception:
            log.exception("the study could not be opened")
            window.trouble(
                "The study could not be opened because of an error in the program. The file was not"
                " changed."
            )

    begun: list[bool] = []
    window.painted.connect(attach)
    QTimer.singleShot(PATIENCE_MS, attach)


def wants_dark(app: QApplication, settings: QSettings) -> bool:
    """Whether the window is dark: as it was left, at first as the desktop is."""
    hints = app.styleHints()
    follows = hints is not None and hints.colorScheme() == Qt.ColorScheme.Dark
    return bool(settings.value("dark", follows, type=bool))


def main(argv: Sequence[str]) -> int:
    """Open the window; return the exit code."""
    logging.basicConfig(level=logging.WARNING)
    app = make_application(["anchor-tally", *argv])
    settings = QSettings("anchor-tally", "anchor-tally")
    window = MainWindow(dark=wants_dark(app, settings), settings=settings)
    watch_faults(window)
    open_after_first_paint(window, argv)
    window.show()
    code = app.exec()
    window.close()
    return code
