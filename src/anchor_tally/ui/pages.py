"""What a page of the window is."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QWidget

from ..app.session import Session
from ..domain.errors import UserError
from ..figures.style import Palette
from ..study.edits.edit import Edit
from ..study.edits.instruments import PutInstrument
from .disclosure import Disclosure
from .jobs import Jobs

if TYPE_CHECKING:
    from ..analysis.agreement.evidence import Evidence
    from ..app.find import Found


@dataclass(frozen=True, slots=True)
class Surroundings:
    """What a page is built with.

    The study, the colours, the runner of long work, and whether tables show all statistics.
    """

    session: Session
    palette: Palette
    jobs: Jobs
    disclosure: Disclosure


class Page(QWidget):
    """A page.

    It shows the study when ``refresh`` is called; everything it says goes out by signals.

    ``message`` says something in the footer (text, whether it is trouble); ``evidence`` opens
    the drawer; ``wanted`` asks for another page by its id, ``opened`` for something found,
    ``counted`` carries the number of findings, ``file_wanted`` for the import of a file,
    ``acted`` for an action of the table, ``measured`` for the bench (client,
    station), ``case_wanted`` for a training case, ``drawn_wanted`` for
    a study drawn with a truth and a seed;
    ``shown`` is sent when an answer is on the screen.
    """

    message = pyqtSignal(str, bool)
    evidence = pyqtSignal(object)
    wanted = pyqtSignal(str)
    file_wanted = pyqtSignal(str)
    acted = pyqtSignal(str)
    shown = pyqtSignal()
    opened = pyqtSignal(object)
    counted = pyqtSignal(int)
    measured = pyqtSignal(str, str)
    case_wanted = pyqtSignal(str)
    drawn_wanted = pyqtSignal(object, int)

    def __init__(self, around: Surroundings) -> None:
        super().__init__()
        self.setObjectName("page")
        self.session, self.colours, self.jobs = around.session, around.palette, around.jobs
        self.disclosure = around.disclosure

    def refresh(self) -> None:
        """Show the study as it is now."""
        raise NotImplementedError

    def edit(self, edit: Edit, said: str = "") -> bool:
        """Make an edit of the study.

        What was done, or what is wrong with it, is shown in the footer. Returns whether it was
        made.
        """
        try:
            self.session.do(edit)
        except UserError as error:
            self.message.emit(f"{error}.", True)
            return False
        if said:
            self.message.emit(said, False)
        return True

    def name_scan(self, name: str) -> None:
        """Make an instrument the reference: its readings are scans."""
        i = self.session.catalogue().instrument_named(name)
        if i is not None:
            self.edit(
                PutInstrument(replace(i, kind="reference")),
                f"{name} is the reference scan now. Undo takes it back.",
            )

    def set_palette(self, palette: Palette) -> None:
        """Choose the theme of what is painted."""
        self.colours = palette

    def drawer_open(self, is_open: bool) -> None:
        """The evidence drawer was opened or closed beside this page."""

    def show_found(self, found: Found) -> None:
        """Show what the find box has found, on a page that can."""

    def take_client(self, code: str) -> None:
        """Show the selected client, on a page about one client."""

    def show_part(self, part: str) -> None:
        """Show a part of a page that has parts."""

    def leave(self) -> None:
        """Let go of timers and devices: the study is being closed."""


@dataclass(frozen=True, slots=True)
class EvidenceFor:
    """Content of the drawer: an explanation with its instrument, or readings under a title."""

    name: str
    evidence: Evidence | None = None
    readings: tuple[int, ...] = ()
    formula: str = ""  # how a figure was made from the readings, in words
    source: str = ""
