"""The rows of a station: cells for repeats, written as they are left, walked by Enter."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Protocol

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QLabel, QWidget

from ....analysis.entry.entry_check import Doubt, doubt
from ....analysis.entry.entry_rows import EntryRow, LastVisit
from ....analysis.entry.row_answers import row_answer
from ....analysis.people.cautions import Caution
from ....app.bench import Place
from ....app.session import Session
from ....domain.errors import UserError
from ....domain.metrics import metric_named
from ....domain.records import Reading
from ....domain.units import bare_number
from ....figures.style import Palette
from ....study.edits.readings import AddReadings, CorrectReading, NewReading
from ....wording.bench import doubt_words, last_words, refusal_words, row_words
from ...pages import EvidenceFor
from ...widgets import label, restyle, rich
from .cells import Cell, GridRow, TallyStrip

_WIDTHS = (
    (3, 74, 58),
    (5, 62, 50),
    (10, 48, 40),
)  # most cells of a row, width of each, width in a crowded window


class Bench(Protocol):
    """What the rows know of the visit."""

    def place(self) -> Place | None:
        """Where a reading typed now belongs; None (said in place) when that is not known."""

    def day(self) -> str:
        """Day of the visit as far as it is known."""

    def refuse(self, text: str) -> None:
        """Say in place what could not be done."""


class EntryGrid(QWidget):
    """Rows of one station in one visit.

    ``by_round`` visits all rows for the first repeat, then all for the second. Devices are walked
    one after the other, each down its display (all its values, then the next repeat) or across
    (all repeats of a value), as its card says.
    """

    evidence = pyqtSignal(object)
    entered = pyqtSignal(object)
    typing = pyqtSignal(object, str)
    finished = pyqtSignal()

    def __init__(self, session: Session, palette: Palette, bench: Bench) -> None:
        super().__init__()
        self.setObjectName("page")
        self.session, self.colours, self.bench = session, palette, bench
        self.entry_rows: list[GridRow] = []
        self.columns = 3  # cells of the longest row
        self.by_round, self.narrow, self.crowded, self.one = False, False, False, False
        self.asked = label(
            "", "asked", wrap=True
        )  # what is odd about a typed value, under its cell
        self.asked.setParent(self)
        self.asked.setAccessibleName("Question about this value")
        self.asked.hide()
        self.last = LastVisit()
        self.blind = False  # earlier and corrected values are hidden
        self.visit: int | None = None  # the visit shown, None for a new one
        self._heads: list[QLabel] = []
        self._built: tuple[tuple[EntryRow, ...], bool] | None = None
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 6, 0)
        self._grid.setVerticalSpacing(5)
        self._grid.setHorizontalSpacing(8)

    def build(self, wanted: Sequence[EntryRow], *, by_round: bool, one_instrument: bool) -> None:
        """Make rows; nothing happens when they stand already."""
        self.by_round = by_round
        if self._built == (tuple(wanted), one_instrument):
            return
        self._built = (tuple(wanted), one_instrument)
        self.one = one_instrument
        self.columns = max((plan.cells for plan in wanted), default=3)
        self._clear()
        heads = [
            "Site or value" if one_instrument else "Instrument",
            "" if one_instrument else "Measures",
        ]
        short = self.columns > 3
        heads += [str(n) if short else f"Repeat {n}" for n in range(1, self.columns + 1)] + [
            "Spread",
            "Result",
        ]
        self._heads = [label(head, "faint") for head in heads if wanted]
        for k, words in enumerate(self._heads):
            self._grid.addWidget(words, 0, k)
        for row, plan in enumerate(wanted, start=1):
            self._add(plan, row)
        self.set_narrow(self.narrow)
        self.set_crowded(self.crowded)
        self._grid.setColumnStretch(len(heads) - 1, 1)
        self._grid.setRowStretch(len(self.entry_rows) + 1, 1)

    def _clear(self) -> None:
        while self._grid.count():
            item = self._grid.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        for row in range(self._grid.rowCount()):
            self._grid.setRowStretch(row, 0)
        self.entry_rows = []

    def _add(self, plan: EntryRow, row: int) -> None:
        metric = metric_named(plan.metric)
        text = metric.label if metric else plan.metric
        tag, meaning = label("", "faint"), rich(wrap=True)
        strip = TallyStrip(self.colours, 90 if self.one else 150)
        entry_row = GridRow(plan, text, tag, strip, meaning)
        name = label(text if self.one else plan.instrument, "strong")
        self._grid.addWidget(name, row, 0)
        self._grid.addWidget(tag, row, 1)
        for n in range(1, plan.cells + 1):
            cell = Cell(entry_row, n)
            cell.committed.connect(self._commit)
            cell.failed.connect(self._mark_failed)
            cell.walk.connect(self.focus_next)
            cell.evidence.connect(self._open)
            cell.vertical.connect(self._vertical)
            cell.entered.connect(self.entered)
            cell.settled.connect(self.asked.hide)
            cell.textEdited.connect(lambda typed, c=cell: self.typing.emit(c, typed))
            entry_row.cells.append(cell)
            self._grid.addWidget(cell, row, 1 + n)
            cell.show()  # at once, so that it can take the focus before the layout has run
        self._grid.addWidget(strip, row, 2 + self.columns)
        self._grid.addWidget(meaning, row, 3 + self.columns)
        self.entry_rows.append(entry_row)

    def set_narrow(self, narrow: bool) -> None:
        """Leave out the strips where there is no room for them."""
        self.narrow = narrow
        if self._heads:
            self._heads[2 + self.columns].setVisible(not narrow)
        for entry_row in self.entry_rows:
            entry_row.strip.setVisible(not narrow)

    def set_crowded(self, crowded: bool) -> None:
        """Make cells and words narrow, so that all repeats are seen beside the drawer."""
        self.crowded = crowded
        for entry_row in self.entry_rows:
            entry_row.tag.setWordWrap(crowded)
            entry_row.tag.setMaximumWidth(110 if crowded else 16777215)
            entry_row.tag.setMinimumWidth(110 if crowded and not self.one else 0)
            wide, tight = next((w, t) for most, w, t in _WIDTHS if self.columns <= most)
            for cell in entry_row.cells:
                cell.setFixedWidth(tight if crowded else min(wide, 66) if self.one else wide)

    def set_palette(self, palette: Palette) -> None:
        """Choose the theme of what is painted."""
        self.colours = palette
        for entry_row in self.entry_rows:
            entry_row.strip.colours = palette
            entry_row.strip.update()

    # showing
    def load(
        self, readings: Sequence[Reading], locks: Mapping[str, Caution], who: str, visit: int | None
    ) -> None:
        """Show the readings of the visit.

        ``locks`` maps an instrument to the caution that forbids it.
        """
        self.visit = visit
        items, day = self.session.catalogue(), self.bench.day()
        client, records = items.client_coded(who), self.session.calibrations()
        answers = self.session.visit_note(visit).conditions if visit is not None else {}
        named = {i.name: i.id for i in items.instruments.values()}
        comparable = {
            metric
            for _, kind, metric in self.session.instruments_and_metrics()
            if kind == "reference"
        }
        for entry_row in self.entry_rows:
            plan = entry_row.plan
            at = {r.replicate: r for r in readings if plan.owns(r)}
            for cell in entry_row.cells:
                if not (cell.property("state") == "refused" and cell.hasFocus()):
                    cell.load(at.get(cell.replicate))
                cell.setEnabled(plan.instrument not in locks or cell.reading is not None)
            own = [cell.reading for cell in entry_row.cells if cell.reading is not None]
            setting = own[-1].setting if own else self._setting_now(plan, day, who)
            stale = {
                r.id: self.session.stale(r)
                for r in records
                if (r.instrument, r.metric) == (plan.instrument, plan.metric)
            }
            entry_row.answer = row_answer(
                plan,
                own,
                client=client,
                day=day,
                setting=setting,
                # each spread is a look through the study: only where values stand beside it
                usual=self._usual(plan) if own else None,
                records=records,
                stale=stale,
                locked=locks.get(plan.instrument),
                correcting=not self.one and plan.metric in comparable,
                blind=self.blind,
                other_side=[r for r in readings if plan.on_other_side(r)],
                landmark=items.landmarks.get(plan.metric, "") if self.one else "",
                broken=items.own_breaches(named.get(plan.instrument, 0), answers),
            )
            entry_row.strip.show_answer(entry_row.answer)
            for cell in entry_row.cells:
                cell.hide_value(entry_row.answer.unseen)
            words = row_words(entry_row.answer, one_instrument=self.one)
            last = None if self.blind or entry_row.answer.unseen else self.last.of(plan)
            entry_row.tag.setText(words.tag + last_words(last, plan.metric))
            entry_row.meaning.setText(words.meaning)
            entry_row.meaning.setObjectName("warn" if words.warn else "")
            restyle(entry_row.meaning)
        self.mark_next()

    def _usual(self, plan: EntryRow) -> float | None:
        """Usual SD of repeats of the row's instrument, from before the visit shown."""
        return self.session.usual_spread(plan.instrument, plan.metric, self.visit)

    def _setting_now(self, plan: EntryRow, day: str, who: str) -> str:
        """The setting that a reading typed now gets: the row's own, or the one in force."""
        return (
            plan.setting
            if plan.setting is not None
            else self.session.catalogue().setting_in_force(plan.instrument, day, who)
        )

    # walking
    def ordered(self) -> list[Cell]:
        """Cells in the order in which Enter visits them."""
        cells = [cell for entry_row in self.entry_rows for cell in entry_row.cells]
        if self.by_round:
            return sorted(cells, key=lambda c: c.replicate)  # stable: the rows keep their order
        if self.one:
            return cells
        # one step on the scale is one walk down its display: all its values, then its next repeat
        devices = list(
            dict.fromkeys(
                (entry_row.instrument, entry_row.plan.setting) for entry_row in self.entry_rows
            )
        )
        place = {key: k for k, key in enumerate(devices)}
        return sorted(
            cells,
            key=lambda c: (
                place[c.entry_row.instrument, c.entry_row.plan.setting],
                c.replicate * (c.entry_row.plan.walk == "down"),
            ),
        )

    def mark_next(self) -> None:
        """Show which cell comes next."""
        cells = self.ordered()
        following = next((c for c in cells if not c.text() and c.entry_row.wants(c)), None)
        for c in cells:
            wanted = "next" if c is following else ""
            if c.property("state") in ("", "next") and c.property("state") != wanted:
                c.state(wanted)

    def forget(self) -> None:
        """Drop questions and refused texts: another client or visit is shown."""
        self.asked.hide()
        for cell in self.ordered():
            cell.forget()

    def type_into_next(self, text: str) -> bool:
        """Type into the marked cell what was typed elsewhere; return whether there is one."""
        cells = self.ordered()
        following = next((c for c in cells if not c.text() and c.entry_row.wants(c)), None)
        if following is None or not following.isEnabled():
            return False
        following.setFocus(Qt.FocusReason.OtherFocusReason)
        following.insert(text)
        return True

    def focus_next(self, after: Cell | None) -> None:
        """Walk to the next empty cell that the protocol asks for."""
        cells = self.ordered()
        start = cells.index(after) + 1 if after in cells else 0
        for c in cells[start:] + cells[:start]:
            if not c.text() and c.entry_row.wants(c):
                c.setFocus(Qt.FocusReason.TabFocusReason)
                return
        if after is not None:
            self.finished.emit()

    def _vertical(self, cell: Cell, step: int) -> None:
        k = self.entry_rows.index(cell.entry_row) + step
        if 0 <= k < len(self.entry_rows):
            self.entry_rows[k].cells[
                min(cell.replicate, len(self.entry_rows[k].cells)) - 1
            ].setFocus()

    # writing
    def _commit(self, cell: Cell) -> None:
        text = cell.text().strip()
        if text.lower() in ("f", "failed"):
            self._mark_failed(cell)
            return
        if not text:
            cell.load(cell.reading)
            self.mark_next()
            if cell.reading is not None:
                self.bench.refuse(
                    "Readings are not deleted. Exclude this reading with a reason (F4)."
                )
            return
        self._write(cell, text)

    def _mark_failed(self, cell: Cell) -> None:
        if cell.reading is None or cell.reading.status != "failed":
            self._write(cell, None)
            if cell.property("state") != "refused":
                self.focus_next(cell)

    def _write(self, cell: Cell, typed: str | None) -> None:
        place = self.bench.place()
        if place is None:
            return
        plan = cell.entry_row.plan
        if typed is not None and plan.unit and bare_number(typed):
            typed = f"{typed} {plan.unit}"
        odd = self._doubt(cell, typed)
        if odd is not None:
            cell.ask(odd)
            self._ask_under(
                cell,
                doubt_words(
                    odd, unseen=cell.entry_row.answer is not None and cell.entry_row.answer.unseen
                ),
            )
            return
        cell.state("")
        try:
            if cell.reading is not None:
                self.session.do(CorrectReading(cell.reading.id, typed, "corrected at the bench"))
            else:
                setting = self._setting_now(plan, place.at, place.client)
                new = NewReading(
                    plan.instrument, plan.kind, plan.metric, typed, cell.replicate, setting
                )
                self.session.do(
                    AddReadings(
                        place.client, place.at, (new,), visit=place.visit, fresh=place.fresh
                    )
                )
        except UserError as error:
            cell.state("refused")
            cell.selectAll()
            self.bench.refuse(refusal_words(error))
            return
        self.bench.refuse("")

    def _ask_under(self, cell: Cell, words: str) -> None:
        """Say under a cell what is odd about it."""
        self.bench.refuse("")
        self.asked.setText(words)
        wide = min(460, self.width() - 24)
        self.asked.setFixedWidth(wide)
        self.asked.adjustSize()
        left = max(min(cell.x(), self.width() - wide - 12), 8)
        self.asked.move(left, cell.y() + cell.height() + 2)
        self.asked.show()
        self.asked.raise_()

    def _doubt(self, cell: Cell, typed: str | None) -> Doubt | None:
        """What is odd about a typed value, unless it was kept as read already."""
        metric = metric_named(cell.entry_row.metric)
        if typed is None or metric is None or typed == cell.sure:
            return None
        others = [
            c.reading.value
            for c in cell.entry_row.cells
            if c is not cell
            and c.reading is not None
            and c.reading.status == "ok"
            and c.reading.value is not None
        ]
        usual = self._usual(cell.entry_row.plan) if others else None
        last = None if self.blind else self.last.of(cell.entry_row.plan)
        return doubt(typed, metric, others=others, last=last, usual_sd=usual, mass=self.last.mass)

    def _open(self, cell: Cell) -> None:
        if cell.reading is not None:
            name = f"{cell.entry_row.instrument}, {cell.entry_row.label}, repeat {cell.replicate}"
            self.evidence.emit(EvidenceFor(name, readings=(cell.reading.id,)))
