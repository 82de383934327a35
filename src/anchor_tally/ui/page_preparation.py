"""Pages made before they are opened, one a turn and when nothing else runs."""

from __future__ import annotations

import gc
import threading
from collections.abc import Callable, Mapping

from PyQt6.QtCore import QObject, QTimer, pyqtSignal
from PyQt6.QtWidgets import QWidget

from .jobs import Jobs
from .page_table import PAGES, import_pages
from .pages import Page

IDLE_MS = 60
USUAL = gc.get_threshold()
NEVER = 10**9  # so many searches of the younger objects before one of all objects


class PagePreparation(QObject):
    """Imports and makes the pages that were not opened yet, so that opening only fills them."""

    ready = pyqtSignal()  # all pages are there

    def __init__(
        self, parent: QObject, made: Callable[[], Mapping[str, Page]], make: Callable[[str], Page]
    ) -> None:
        super().__init__(parent)
        self.made, self.make = made, make
        self.jobs: Jobs | None = None
        self.settled = self._another = False
        self._importing: threading.Thread | None = None
        self._idle = QTimer(self)
        self._idle.setInterval(IDLE_MS)
        self._idle.timeout.connect(self._turn)

    @property
    def waiting(self) -> bool:
        """Whether there is still something to prepare."""
        return self._idle.isActive()

    def begin(self, jobs: Jobs) -> None:
        """The first answer stands: prepare the rest once it is drawn.

        Python does not search all objects for garbage before all pages are there: that would
        hold the window for 0.1 s in the middle of whatever the user does.
        """
        self.jobs = jobs
        if not self.settled:
            gc.set_threshold(*USUAL[:2], NEVER)
        if not self._idle.isActive():
            self._idle.start()

    def again(self) -> None:
        """The study has changed: what was prepared from it is looked at again."""
        if self.jobs is not None:
            self._idle.start()

    def stop(self) -> None:
        """The study is closed."""
        self.jobs = None
        self._idle.stop()
        gc.set_threshold(*USUAL)
        if self.settled:
            gc.unfreeze()
            self.settled, self._another = False, True

    @staticmethod
    def drawn() -> bool:
        """Whether no figure waits.

        What is visible goes before what is prepared.
        """
        from .canvas import FigureView

        return FigureView.all_drawn()

    def _turn(self) -> None:
        if self.jobs is None:
            self._idle.stop()
        elif self.jobs.busy() or not self.drawn():
            return
        elif self._importing is None:  # beside the first picture it would double its time
            self._importing = threading.Thread(target=import_pages, name="pages", daemon=True)
            self._importing.start()
        elif not self._importing.is_alive():
            missing = [key for key in PAGES if key not in self.made()]
            if missing:
                page = self.make(missing[0])
                for widget in (page, *page.findChildren(QWidget)):
                    widget.ensurePolished()  # else the first opening would give each its style
            else:
                self._idle.stop()
                self._settle()
                self.ready.emit()

    def _settle(self) -> None:
        """Modules and pages stay: each search through them would stop the window."""
        if self.settled:
            return
        self.settled = True
        if self._another:
            gc.collect()  # what belonged to the study before would be held for good once frozen
        gc.freeze()
        gc.set_threshold(*USUAL)
