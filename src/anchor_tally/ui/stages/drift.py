"""Drift: the difference of one instrument through time, control chart, and its changes."""

from __future__ import annotations

from collections.abc import Generator, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, Any

import numpy as np
from PyQt6.QtWidgets import QComboBox, QLineEdit, QPushButton, QWidget

from ...analysis.time.drift import Change, DriftRequest, DriftResult
from ...domain.events import INSTRUMENT_EVENTS, Event
from ...domain.instants import zone_named
from ...domain.lens import Lens
from ...domain.records import Instrument
from ...domain.snapshot import Snapshot
from ...figures import drift as figures
from ...figures.style import Palette
from ...study.edits.edit import Edit
from ...study.edits.events import AddEvent, RemoveEvent
from ...study.edits.periods import BeginPeriod, JoinPeriod, MovePeriod
from ...wording import drift as words
from ...wording.statistics import Line
from ...wording.views import notes_words
from ..instrument_page import InstrumentPage
from ..pages import EvidenceFor, Surroundings
from ..widgets import Flow, paired

if TYPE_CHECKING:
    from ..canvas import FigureView

NEAR = 10  # pixels within which a click takes a selected change


class DriftPage(InstrumentPage[DriftResult, tuple[DriftResult, ...]]):
    """Has an instrument moved?

    A click into the picture takes a day, on which a change can be noted.
    """

    owner, figure_name, words = "drift", "Difference through time", "Computing drift"
    missing = "Drift needs readings of a device at several scans of the same clients."
    margins = (66, 20, 30, 10)

    def __init__(self, around: Surroundings) -> None:
        super().__init__(around)
        self.at: float | None = None  # the instant that was clicked
        self.change: Change | None = None  # the selected change
        self.info: figures.DriftInfo | None = None
        self.chart: FigureView | None = None
        self.day, self.what, self.text = QLineEdit(), QComboBox(), QLineEdit()
        self.day.setPlaceholderText("2026-03-02")
        self.day.setFixedWidth(96)
        self.what.addItems(["setting", *INSTRUMENT_EVENTS])
        self.text.setPlaceholderText("new setting or remark")
        self.text.setMinimumWidth(190)
        self.text.returnPressed.connect(self._note)
        self.note = QPushButton("&Note change")
        self.move_ = QPushButton("Move change")
        self.away = QPushButton("Delete change")
        self.note.clicked.connect(self._note)
        self.move_.clicked.connect(self._move)
        self.away.clicked.connect(self._take_away)
        row = Flow(6)
        for part in (
            paired("Changed on", self.day, "Day of the change"),
            paired("what", self.what, "What was changed"),
            self.text,
        ):
            row.addWidget(part)
        for button in (self.note, self.move_, self.away):
            row.addWidget(button)
        self.text.setAccessibleName("New setting, or a remark on the change")
        self.editor = QWidget()
        self.editor.setLayout(row)
        self.column.addWidget(self.editor)
        self._show_change()

    # asking and saying
    def _now(self) -> tuple[Any, ...]:
        around: tuple[Any, ...] = (
            (self.session.events(), tuple(self.session.check_weights()))
            if not self.session.writing
            else ()
        )
        return (*super()._now(), *around)

    def request(
        self, snapshot: Snapshot, lens: Lens
    ) -> Generator[float, None, tuple[DriftResult, ...]]:
        return DriftRequest(
            snapshot, lens, events=self._events, weights=self._weights, kept=self.results
        ).run()

    def ask(self) -> None:
        """Collect what belongs to the readings in this thread; the worker sees copies only."""
        if not self.session.writing:
            self._events, self._weights = self.session.events(), tuple(self.session.check_weights())
        super().ask()

    _events: tuple[Event, ...] = ()
    _weights: tuple[Any, ...] = ()

    def say(self, result: DriftResult) -> str:
        return words.drift_headline(result)

    def lines(self, result: DriftResult) -> Sequence[Line]:
        return words.drift_lines(result)

    def notes_of(self, result: DriftResult) -> str:
        return "\n".join(x for x in (words.side_words(result), notes_words(result.notes)) if x)

    def answer(self, found: tuple[DriftResult, ...]) -> None:
        if found:
            self.take(found)
        else:
            self.no_answer("no device or method has readings of this metric")

    def instrument_of(self, result: DriftResult) -> Instrument:
        return result.instrument

    def no_answer(self, text: str) -> None:
        super().no_answer(text)
        self.editor.hide()
        if self.chart is not None:
            self.chart.hide()

    # drawing
    def paint(self) -> None:
        super().paint()
        if not self.results:
            return
        r = self.results[self.chosen]
        self.under.setText(
            words.drift_advice(r) + " Click a point to see its readings, or a day to note a change."
        )
        self.info = figures.info(r, self.session.catalogue().zone)
        if self.change is not None and self.change not in self.info.changes:  # taken back meanwhile
            self._let_go()
        self._chart().redraw(
            lambda axes, family, palette: figures.draw_chart(
                axes, self._shown(), self.mark(palette), palette, family
            ),
            self.colours,
            self._shown,
        )
        self._chart().show()
        self.editor.setVisible(not r.instrument.equation and not self.session.read_only)

    def _shown(self) -> figures.DriftInfo:
        if self.info is None:
            self.info = figures.info(self.results[self.chosen], self.session.catalogue().zone)
        return self.info

    def _chart(self) -> FigureView:
        if self.chart is None:
            from ..canvas import FigureView

            self.chart = FigureView("Control chart", (66, 20, 46, 6))
            self.picture.addWidget(self.chart)
            self.picture.setStretch(0, 5)
            self.picture.setStretch(1, 2)
        return self.chart

    def draw(self, axes: Any, family: str, palette: Palette) -> None:
        figures.draw(axes, self._shown(), self.mark(palette), palette, family, self.point, self.at)

    def content(self) -> figures.DriftInfo:
        return self._shown()

    # choosing
    def choose(self, k: int) -> None:
        self.at, self.change = None, None
        super().choose(k)
        self._show_change()

    def answer_day(self, instant: float) -> str:
        """The day of an instant in the study's zone."""
        return (
            datetime.fromtimestamp(instant, zone_named(self.session.catalogue().zone))
            .date()
            .isoformat()
        )

    def clicked(self, event: Any) -> None:
        what = self._shown()
        if event.xdata is None or not what.instant.size:
            return
        days = figures.positions(what)
        found = self.nearest(event, days, what.difference)
        if found is not None:
            self.at = self.change = None
            self.choose_point(found)
            self._show_change()
            return
        self.point = None
        self.at = figures.instant_at(event.xdata)
        scale = abs(
            self._figure().axes.transData.transform((1, 0))[0]
            - self._figure().axes.transData.transform((0, 0))[0]
        )
        near = [c for c in what.changes if abs(c.at - self.at) / 86400 * scale <= NEAR]
        self.change = near[0] if near else None
        self.day.setText(self.answer_day(self.at if self.change is None else self.change.at))
        self._figure().redraw(self.draw, self.colours, self.content)
        self._show_change()
        self.text.setFocus()

    def _show_change(self) -> None:
        for button in (self.move_, self.away):
            button.setVisible(self.change is not None)
        self.move_.setVisible(self.change is not None and self.change.setting)

    def open_point(self) -> EvidenceFor | None:
        if self.point is None:
            return None
        r = self.results[self.chosen]
        instant, client = r.instant[self.point], r.client[self.point]
        rows = np.flatnonzero(
            (r.pairs.client == client) & (r.pairs.anchors.instant[r.pairs.occasion] == instant)
        ).tolist()
        ids = [
            i
            for k in rows
            for i in (
                r.pairs.parts[k]
                if r.pairs.parts and r.pairs.parts[k]
                else (int(r.pairs.reading[k]),)
            )
        ]
        ids += r.pairs.reference_rows[int(r.pairs.occasion[rows[0]])]
        return EvidenceFor(
            f"{r.instrument.name}: one scan visit", readings=tuple(dict.fromkeys(ids))
        )

    # editing the periods
    def _note(self) -> None:
        if not self.results:  # Enter in the field of a page without an answer
            return
        r, text = self.results[self.chosen], self.text.text()
        if self.what.currentText() == "setting":
            self._do(BeginPeriod(r.instrument.id, text, self.day.text()))
        else:
            self._do(
                AddEvent(
                    Event(
                        0, None, r.instrument.id, self.day.text(), "", self.what.currentText(), text
                    )
                )
            )

    def _of_change(self) -> int | None:
        """Return the number of the setting, or of the event, that the chosen change stands for.

        None when it is gone.
        """
        change = self.change
        if change is None:
            return None
        item, day = self.results[self.chosen].instrument.id, self.answer_day(change.at)
        if change.setting:
            own = self.session.catalogue().settings_of(item)
            found = (
                s.id
                for s in own
                if s.client is None and s.label == change.words and s.starts[:10] == day
            )
        else:
            noted = self.session.events()
            found = (
                e.id
                for e in noted
                if e.instrument == item and e.kind == change.words and e.starts[:10] == day
            )
        number = next(found, None)
        if number is None:
            self._let_go()
            self.message.emit("That change is no longer in the study.", True)
        return number

    def _let_go(self) -> None:
        """No change is chosen any more."""
        self.at = self.change = None
        self._show_change()

    def _move(self) -> None:
        number = self._of_change()
        if number is not None:
            self._do(MovePeriod(number, self.day.text()))

    def _take_away(self) -> None:
        setting, number = self.change is not None and self.change.setting, self._of_change()
        if number is not None:
            self._do(JoinPeriod(number) if setting else RemoveEvent(number))

    def _do(self, edit: Edit) -> None:
        if self.edit(edit, "Saved. Undo removes it."):
            self.text.clear()
            self._let_go()
