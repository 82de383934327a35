"""What a page of the window is, and the one table of pages."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QWidget

from ..app.actions import FACE_PAGES
from ..app.session import Session
from ..domain.errors import UserError
from ..figures.style import Palette
from ..study.edits.edit import Edit
from .jobs import Jobs

if TYPE_CHECKING:
    from ..analysis.evidence import Evidence
    from ..app.find import Found


@dataclass(frozen=True, slots=True)
class Surroundings:
    """What a page is built with: the study, the colours, and the runner of long work."""

    session: Session
    palette: Palette
    jobs: Jobs


class Page(QWidget):
    """A page. It shows the study when it is told to refresh; everything it says goes out by signals.

    ``message`` says something in the footer (text, whether it is trouble); ``evidence`` opens the drawer; ``wanted`` asks for
    another page by its id, ``opened`` for something found, ``counted`` tells how many things want a look, ``file_wanted`` for the import of a file; ``shown`` tells that an answer is on the screen.
    """

    message = pyqtSignal(str, bool)
    evidence = pyqtSignal(object)
    wanted = pyqtSignal(str)
    file_wanted = pyqtSignal(str)
    shown = pyqtSignal()
    opened = pyqtSignal(object)
    counted = pyqtSignal(int)

    def __init__(self, around: Surroundings) -> None:
        super().__init__()
        self.setObjectName("page")
        self.session, self.colours, self.jobs = around.session, around.palette, around.jobs

    def refresh(self) -> None:
        """Show the study as it is now."""
        raise NotImplementedError

    def edit(self, edit: Edit, said: str = "") -> bool:
        """Make an edit of the study; what was done, or what is wrong with it, is said in the footer. Returns whether it was made."""
        try:
            self.session.do(edit)
        except UserError as error:
            self.message.emit(f"{error}.", True)
            return False
        if said:
            self.message.emit(said, False)
        return True

    def set_palette(self, palette: Palette) -> None:
        """Choose the theme of what is painted."""
        self.colours = palette

    def drawer_open(self, is_open: bool) -> None:
        """The evidence drawer was opened or closed beside this page."""

    def show_found(self, found: Found) -> None:
        """Show what the find box has found, on a page that can."""

    def leave(self) -> None:
        """Let go of timers and devices: the study is being closed."""


@dataclass(frozen=True, slots=True)
class EvidenceFor:
    """What the drawer is to show: an explanation with the name of its instrument, or single readings under a title."""

    name: str
    evidence: Evidence | None = None
    readings: tuple[int, ...] = ()
    formula: str = ""  # how a figure was made from the readings, in words
    source: str = ""
    unseen: bool = False  # no value is shown: the client may be looking


def _plan() -> type[Page]:
    from .stages.plan.page import PlanStage

    return PlanStage


def _record() -> type[Page]:
    from .stages.record.page import RecordStage

    return RecordStage


def _compare() -> type[Page]:
    from .stages.compare import CompareStage

    return CompareStage


def _calibrate() -> type[Page]:
    from .stages.calibrate.page import CalibrateStage

    return CalibrateStage


def _drift() -> type[Page]:
    from .stages.drift import DriftPage

    return DriftPage


def _track() -> type[Page]:
    from .stages.track import TrackPage

    return TrackPage


def _review() -> type[Page]:
    from .stages.review import ReviewPage

    return ReviewPage


def _importing() -> type[Page]:
    from .stages.importing.page import ImportPage

    return ImportPage


def _face(key: str) -> type[Page]:
    from .stages.faces.alike import AlikePage
    from .stages.faces.change import ChangePage
    from .stages.faces.consistency import ConsistencyPage
    from .stages.faces.score import ScorePage
    from .stages.faces.water import WaterPage

    faces: tuple[type[Page], ...] = (ConsistencyPage, ChangePage, WaterPage, AlikePage, ScorePage)
    return faces[FACE_PAGES.index(key)]


def import_pages() -> None:
    """Import what the pages need, so that the first opening of each is quick; runs on a thread of its own while nothing else does."""
    for page in PAGES.values():
        page()


# a page is built, and what it needs imported, when it is first opened
PAGES: dict[str, Callable[[], type[Page]]] = {
    "plan": _plan,
    "record": _record,
    "review": _review,
    "compare": _compare,
    "drift": _drift,
    "calibrate": _calibrate,
    "track": _track,
    "import": _importing,
    **{key: partial(_face, key) for key in FACE_PAGES},
}
