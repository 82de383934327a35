"""What can happen to the study's file from outside, looked at once a second."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from ..domain.errors import UserError

if TYPE_CHECKING:
    from ..app.session import Session

LOOK_MS, MIRROR_MS = 1000, 2000


class StudyWatch(QObject):
    """Notices a lost file and what another window wrote; keeps the copy in memory up to date."""

    said = pyqtSignal(str, bool)  # a sentence, and whether it is trouble
    lost = pyqtSignal(bool)  # whether the file is gone, so that a copy should be saved

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self.session: Session | None = None
        self._looks = QTimer(self)
        self._looks.setInterval(LOOK_MS)
        self._looks.timeout.connect(self.look)
        self._mirrors = QTimer(self)
        self._mirrors.setInterval(MIRROR_MS)
        self._mirrors.setSingleShot(True)
        self._mirrors.timeout.connect(self._mirror)

    def watch(self, session: Session) -> None:
        """Begin to look after a study, until it is closed."""
        self.session = session
        session.closed.append(lambda: self._closed(session))
        self._looks.start()
        self._mirrors.start()

    def _closed(self, session: Session) -> None:
        """Look after nothing: no timer outlives the study."""
        if self.session is session:
            self.session = None
            self._looks.stop()
            self._mirrors.stop()

    def changed(self) -> None:
        """The study has changed: its copy in memory follows when the changes have paused."""
        self._mirrors.start()

    def look(self) -> None:
        """Has another window written the study, or something happened to its file?"""
        session = self.session
        if session is None or session.path is None:
            return
        trouble = session.lost()
        self.lost.emit(bool(trouble))
        if trouble:
            self.said.emit(f"{trouble}.", True)
        elif session.read_only:
            try:
                session.follow()
            except UserError as error:
                self.said.emit(str(error), True)

    def _mirror(self) -> None:
        if self.session is not None and not self.session.lost():
            self.session.keep_mirror()
