"""A page about one instrument at a time: sentence, figure, table and choice of instrument."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, Generic, Protocol, TypeVar

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ..domain.records import Instrument
from ..domain.text import as_sentence
from ..figures.style import Mark, Palette, marks_of
from ..stats.estimate import Note
from ..wording.glossary import meaning_of
from ..wording.names import short_name
from ..wording.statistics import Line
from ..wording.views import notes_words
from .pages import EvidenceFor, Surroundings
from .question_page import A, QuestionPage
from .remedy import Remedy
from .widgets import Choices, Table, label, tip

if TYPE_CHECKING:
    from .canvas import FigureView

WIDE_ENOUGH = 1500  # pixels of the window from which on table and drawer are side by side


class Noted(Protocol):
    """A result with notes."""

    @property
    def notes(self) -> tuple[Note, ...]:
        """What is to be kept in mind."""


N = TypeVar("N", bound=Noted)


class InstrumentPage(QuestionPage[A], Generic[N, A]):
    """One question. A subclass asks, says what a result means, and draws the chosen one."""

    figure_name, missing = "", ""
    named = True  # the instruments stand over the picture; not where the picture holds them all
    margins = (66, 20, 54, 10)

    def __init__(self, around: Surroundings) -> None:
        super().__init__(around)
        self.results: tuple[N, ...] = ()
        self.chosen = 0
        self.point: int | None = None
        self.crowded = False
        self.headline = label("Reading the study…", "headline", wrap=True)
        self.under = label("", "faint", wrap=True)
        self.names = Choices()
        self.names.chosen.connect(self.choose)
        self.table = Table(["Figure", "Value", "95 % interval"], "Figures of the chosen instrument")
        self.table.setMinimumWidth(430)
        self.table.setMaximumWidth(470)
        self.every = QPushButton("A&ll statistics")
        self.every.setCheckable(True)
        self.every.setChecked(self.disclosure.all)
        tip(self.every, "Show every statistic, or only the rows that answer the question")
        self.every.toggled.connect(self.disclosure.show_all)
        self.disclosure.changed.connect(self._disclosed)
        self.notes = label("", "faint", wrap=True)
        self.figure: FigureView | None = None
        self.side = QWidget()
        side = QVBoxLayout(self.side)
        side.setContentsMargins(0, 0, 0, 0)
        side.addWidget(self.table, 1)
        side.addWidget(self.every, 0, Qt.AlignmentFlag.AlignLeft)
        side.addWidget(self.notes)
        self.side.setMaximumWidth(470)
        self.body = QHBoxLayout()
        self.picture = QVBoxLayout()
        self.body.addLayout(self.picture, 1)
        self.body.addWidget(self.side)
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(16, 10, 16, 10)
        for w in (self.headline, self.under, self.names):
            self.column.addWidget(w)
        self.remedy = Remedy()
        self.remedy.wanted.connect(self.wanted)
        self.remedy.acted.connect(self.acted)
        self.remedy.scan_named.connect(self.name_scan)
        self.column.addWidget(self.remedy)
        self.column.addLayout(self.body, 1)
        self.spare = QWidget()
        self.column.addWidget(self.spare, 1)
        self.spare.hide()

    # what a page says and draws
    def say(self, result: N) -> str:
        """The first sentence."""
        raise NotImplementedError

    def lines(self, result: N) -> Sequence[Line]:
        """Figures beside the picture."""
        raise NotImplementedError

    def notes_of(self, result: N) -> str:
        """What is to be kept in mind."""
        return notes_words(result.notes)

    def draw(self, axes: Any, family: str, palette: Palette) -> None:
        """Draw the chosen result."""
        raise NotImplementedError

    def instrument_of(self, result: N) -> Instrument:
        """The instrument of a result."""
        raise NotImplementedError

    def open_point(self) -> EvidenceFor | None:
        """What the chosen point is made of."""
        return None

    # showing
    def no_answer(self, text: str) -> None:
        self.results = ()
        self.headline.setText(as_sentence(text))
        self.under.setText(self.missing)
        self.table.fill([])
        self.notes.setText("")
        for w in (self.side, self.names, self.figure):
            if w is not None:
                w.hide()
        self.spare.show()
        if not self.session.read_only:
            self.remedy.offer(self.session.possible_scans())
        self.shown.emit()

    def take(self, found: Sequence[N]) -> None:
        """Show one result an instrument; the one that was chosen stays so."""
        names = [self.instrument_of(r).name for r in self.results]
        before = names[self.chosen] if self.chosen < len(names) else ""
        self.results = tuple(found)
        names = [self.instrument_of(r).name for r in self.results]
        self.point = None
        self.show_results(names.index(before) if before in names else 0)

    def show_results(self, chosen: int) -> None:
        """Show the results that there are, ``chosen`` selected."""
        names = self.choices_shown()
        self.chosen = chosen
        self.spare.hide()
        self.remedy.hide()
        self.side.setVisible(not self.crowded)
        self.names.fill(names)
        self.names.setVisible(self.named and len(names) > 1)
        self._figure().show()
        self.paint()
        self.shown.emit()

    def choices_shown(self) -> list[str]:
        """What can be chosen over the picture, by default each instrument."""
        return [short_name(self.instrument_of(r).name) for r in self.results]

    def mark_choice(self) -> None:
        """Mark what is shown among the choices."""
        self.names.mark(self.chosen)

    def _figure(self) -> FigureView:
        if self.figure is None:
            from .canvas import FigureView

            self.figure = FigureView(self.figure_name, self.margins)
            self.figure.clicked.connect(self.clicked)
            self.figure.stepped.connect(self.step)
            self.figure.opened.connect(self.open_chosen)
            self.picture.insertWidget(0, self.figure, 1)
        return self.figure

    def content(self) -> object:
        """What the picture shows, as a dataclass."""
        raise NotImplementedError

    def mark(self, palette: Palette | None = None) -> Mark:
        """The mark of the chosen instrument, in the present colours or in others."""
        return self.marks(palette)[self.chosen]

    def marks(self, palette: Palette | None = None) -> tuple[Mark, ...]:
        """The mark of each result's instrument, in the present colours or in others."""
        palette = self.colours if palette is None else palette
        known = marks_of(self.session.catalogue().instruments.values(), palette)
        return tuple(known(self.instrument_of(r)) for r in self.results)

    def paint(self) -> None:
        """Show the chosen result."""
        if not self.results:
            return
        r = self.results[self.chosen]
        self.mark_choice()
        self.headline.setText(self.say(r))
        self.fill_table(r)
        self.notes.setText(self.notes_of(r))
        self._figure().redraw(self.draw, self.colours, self.content)

    def fill_table(self, result: N) -> None:
        """Show the figures of a result: the main ones, or all."""
        lines = self.lines(result)
        self.show_lines([x.main for x in lines], [(x.name, x.value, x.interval) for x in lines])

    def show_lines(
        self, main: Sequence[bool], rows: Sequence[tuple[str, str, str]], tips: Sequence[str] = ()
    ) -> list[int]:
        """Fill the table with the main rows, or with all; return which rows are shown."""
        few = any(main) and not all(main)
        self.every.setVisible(few)
        shown = [k for k in range(len(rows)) if self.disclosure.all or not few or main[k]]
        said = tips or [meaning_of(row[0]) for row in rows]
        self.table.fill([rows[k] for k in shown], tips=[said[k] for k in shown])
        return shown

    def _disclosed(self, every: bool) -> None:
        self.every.setChecked(every)
        if self.results:
            self.fill_table(self.results[self.chosen])

    def choose(self, k: int) -> None:
        """Choose an instrument."""
        if 0 <= k < len(self.results):
            self.chosen, self.point = k, None
            self.paint()

    def clicked(self, event: Any) -> None:
        """A click into the picture."""

    def step(self, by: int) -> None:
        """An arrow key in the picture."""
        self.choose(self.chosen + by)

    def open_chosen(self) -> None:
        """Open what is chosen in the drawer."""
        found = self.open_point() if self.results else None
        if found is not None:
            self.evidence.emit(found)

    def choose_point(self, k: int) -> None:
        """Choose a point and open it."""
        self.point = k
        self._figure().redraw(self.draw, self.colours, self.content)
        self.open_chosen()

    def nearest(self, event: Any, x: Any, y: Any, reach: float = 14.0) -> int | None:
        """The point nearest to a click, within a few pixels."""
        if event.xdata is None or not len(x):
            return None
        at = self._figure().axes.transData.transform(np.column_stack([x, y]))
        gap = np.hypot(at[:, 0] - event.x, at[:, 1] - event.y)
        return int(gap.argmin()) if gap.min() < reach else None

    def set_palette(self, palette: Palette) -> None:
        super().set_palette(palette)
        self.paint()

    def drawer_open(self, is_open: bool) -> None:
        window = self.window()
        self.crowded = is_open and window is not None and window.width() < WIDE_ENOUGH
        self.side.setVisible(bool(self.results) and not self.crowded)
