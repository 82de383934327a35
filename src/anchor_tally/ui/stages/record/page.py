"""Record: one visit at the bench, station by station."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import cached_property

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeyEvent, QKeySequence, QResizeEvent, QShortcut
from PyQt6.QtWidgets import (
    QHBoxLayout,
    QPushButton,
    QScrollArea,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from ....analysis.agreement.hydration import FAT
from ....analysis.entry.assessor import errors_of
from ....analysis.entry.entry_rows import device_rows, may_be_said
from ....analysis.entry.field_method import station_results
from ....analysis.pairs.computed_values import visit_inputs
from ....analysis.people.cautions import Caution, open_locks
from ....analysis.people.withheld import fat_unseen, withheld
from ....app.bench import (
    Place,
    Standing,
    answer_safety,
    cautions_at,
    device_order,
    last_visit,
    safety_open,
)
from ....app.find import Found
from ....domain.errors import UserError
from ....domain.metrics import metric_named
from ....domain.records import Client, Instrument, Reading, VisitNote
from ....domain.sites import SITES_OF_BODY
from ....domain.stations import CLICK_ADVICE, STATION
from ....domain.units import ValueRefused, parse_quantity
from ....figures.style import Palette
from ....study.edits.clients import AddClient
from ....study.edits.visits import NoteVisit
from ....wording.bench import (
    NOT_A_DIAGNOSIS,
    bench_headline,
    error_words,
    more_rows_words,
    order_words,
    unknown_client_words,
)
from ...pages import Page, Surroundings
from ...widgets import label
from .adder import Adder
from .cells import Cell, GridRow
from .check_weights import CheckWeights
from .conditions import ConditionsBar
from .entry_grid import EntryGrid
from .guide import Guide
from .level_after import LevelAfter
from .live_device import LiveDevice
from .methods_bench import MethodsBench
from .person import PersonBar
from .safety_question import SafetyQuestion
from .sent_reading import take_sent
from .station_head import StationHead
from .station_tabs import CHECK, DEVICES, LABELS, METHODS, StationTabs
from .visit_bar import VisitBar
from .visit_notes import VisitNotes

_KEYS = (
    "Enter: next empty cell · F: failed reading · F4: exclude or remark · F8: another setting ·"
    " Ctrl+Page down: next station"
)
LOW = 720  # height of the page below which the guide gives way to the card of a station
NARROW, CROWDED = 1000, 720  # widths of the page from which on strips, and the guide, have no room


class RecordStage(Page):
    """Type repeats, see at once what is kept and what it means."""

    def __init__(self, around: Surroundings) -> None:
        super().__init__(around)
        self.added: list[tuple[str, str, str]] = []
        self.also: dict[
            str, tuple[str, ...]
        ] = {}  # further settings of an instrument in the visit shown
        self.typing_unseen = (
            False  # rows of fat are shown, without their numbers, to a client who is to see none
        )
        self.station, self.crowded = DEVICES, False
        self.bar = VisitBar(self.session)
        self.client, self.visits, self.when, self.assessor = (
            self.bar.client,
            self.bar.visits,
            self.bar.when,
            self.bar.assessor,
        )
        self.bar.chosen.connect(self._chosen)
        self.bar.assessor_named.connect(self._note_assessor)
        self.bar.message.connect(self.message)
        self.bar.unknown.connect(lambda code: self.refuse(unknown_client_words(code)))
        self.notes = VisitNotes(self.session)
        self.notes.remarked.connect(self._note_remark)
        self.notes.message.connect(self.message)
        self.person = PersonBar(self.session)
        self.person.message.connect(self.message)
        self.unseen = QPushButton("Enter hidden fat values")
        self.unseen.setCheckable(True)
        self.unseen.toggled.connect(self._unseen_toggled)
        self.headline = label("", "headline", wrap=True)
        self.hint = label(_KEYS, "faint", wrap=True)
        self.trouble = label("", "warn", wrap=True)
        self.trouble.setAccessibleName("Reason of the failure")
        self.trouble.hide()
        self.caution = label("", "caution", wrap=True)
        self.caution.setAccessibleName("Caution")
        self.caution.hide()
        self.safety = SafetyQuestion()
        self.safety.answered.connect(self._safety_answered)
        self.conditions = ConditionsBar()
        self.conditions.noted.connect(lambda answers: self._note(conditions=answers))
        self.head = StationHead(self.session)
        self.head.changed.connect(self.refresh)
        self.head.card.message.connect(self.message)
        self.head.more.toggled.connect(lambda _on: self._place_guide())
        self.grid = EntryGrid(self.session, self.colours, self)
        self.grid.evidence.connect(self.evidence)
        self.grid.entered.connect(self._cell_entered)
        self.grid.typing.connect(self._typing)
        self.grid.finished.connect(self._station_done)
        self.guide = Guide(self.colours)
        self.level = LevelAfter(self.session, self.jobs, self)
        self.live = LiveDevice(self.session, self)
        self.live.message.connect(self.message)
        self.live.file_wanted.connect(self.file_wanted)
        self._lay_out()
        for keys, slot in (
            ("Ctrl+PgDown", lambda: self._step_station(1)),
            ("Ctrl+PgUp", lambda: self._step_station(-1)),
            ("F7", self._conditions_done),
            ("F8", self._ask_setting),
        ):
            QShortcut(QKeySequence(keys), self, slot)

    def _lay_out(self) -> None:
        self.tabs = StationTabs(self.session, self)
        self.tabs.wanted.connect(self.go_station)
        self.tabs.more_wanted.connect(self.refresh)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        scroll.setWidget(self.grid)
        entry_rows = QHBoxLayout()
        entry_rows.addWidget(scroll, 1)
        entry_rows.addWidget(self.guide)
        bench = self._bench = QWidget()
        column = QVBoxLayout(bench)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.head)
        column.addLayout(entry_rows, 1)
        column.addWidget(self.live)
        self.adder = Adder(self.session)
        self.adder.entry_row.connect(self._row_wanted)
        self.adder.setting.connect(self._setting_wanted)
        self.adder.message.connect(self.message)
        self.new_instrument, self.new_kind, self.new_metric = (
            self.adder.name,
            self.adder.kind,
            self.adder.what,
        )
        self.more = self.adder.more
        column.addWidget(self.adder)
        self.stack = QStackedWidget()
        self.stack.addWidget(bench)
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 10, 16, 8)
        box.setSpacing(6)
        self.bar.row.addWidget(self.notes)
        self.bar.row.addWidget(self.unseen)
        for widget in (
            self.headline,
            self.bar,
            self.person,
            self.caution,
            self.safety,
            self.conditions,
        ):
            box.addWidget(widget)
        box.addLayout(self.tabs)
        box.addWidget(self.trouble)
        box.addWidget(self.stack, 1)
        box.addWidget(self.level.line)  # below the rows, which must not move while one types
        box.addWidget(self.hint)

    @cached_property
    def check(self) -> CheckWeights:
        """The station of check weights, made when it is first opened."""
        made = CheckWeights(self.session)
        made.message.connect(self.message)
        self.stack.addWidget(made)
        return made

    @cached_property
    def methods(self) -> MethodsBench:
        """The bench of the equations, made when it is first opened."""
        made = MethodsBench(self.colours)
        self.stack.addWidget(made)
        return made

    def _row_wanted(self, instrument: str, kind: str, metric: str) -> None:
        self.add_row(instrument, kind, metric)
        cells = [
            entry_row.cells[0]
            for entry_row in self.entry_rows
            if (entry_row.instrument, entry_row.metric) == (instrument, metric)
        ]
        if cells:
            cells[-1].setFocus()

    def _ask_setting(self) -> None:
        """Ask for one more setting of the selected instrument, to be read in the same visit."""
        entry_row = next((c.entry_row for c in self.grid.ordered() if c.hasFocus()), None)
        if self.station == DEVICES and entry_row is not None and entry_row.plan.kind == "device":
            self.adder.show()
            self.adder.ask_setting(entry_row.instrument)

    def _setting_wanted(self, instrument: str, setting: str) -> None:
        self.also[instrument] = tuple(dict.fromkeys((*self.also.get(instrument, ()), setting)))
        self.refresh()
        entry_row = next(
            (x for x in self.entry_rows if (x.instrument, x.plan.setting) == (instrument, setting)),
            None,
        )
        if entry_row is not None:
            entry_row.cells[0].setFocus()

    def _unseen_toggled(self, on: bool) -> None:
        self.typing_unseen = on
        self.refresh()

    def add_row(self, instrument: str, kind: str, metric: str) -> None:
        """Show a row for an instrument that has no reading yet."""
        if (instrument, kind, metric) not in self.added:
            self.added.append((instrument, kind, metric))
        self.refresh()

    @property
    def entry_rows(self) -> list[GridRow]:
        """The rows shown."""
        return self.grid.entry_rows

    # the visit, as the rows see it
    @property
    def visit(self) -> int | None:
        """Number of the visit shown, None for a new one."""
        return self.bar.visit.id if self.bar.visit else None

    def who(self) -> str:
        """The client's code."""
        return self.bar.who

    def day(self) -> str:
        """Date and time of the visit as far as it is known."""
        return self.bar.moment or ""

    def place(self) -> Place | None:
        """Where a reading typed now belongs; None (said in place) when that is not known."""
        if self.bar.moment is None:
            self.refuse(
                f'"{self.when.text()}" is not a date and time such as 2026-03-02 06:40; nothing was'
                " written."
            )
        elif not self.who():
            self.refuse("Choose or type a client's code first; nothing was saved.")
        elif self.bar.place is None:
            self.refuse(unknown_client_words(self.who()))
        return self.bar.place

    def refuse(self, text: str) -> None:
        """Say in place what could not be done; empty text takes it away."""
        self.trouble.setText(text)
        self.trouble.setVisible(bool(text))

    # what is shown
    def refresh(self) -> None:
        self.bar.refresh()
        own = self.session.readings(visit=self.visit) if self.visit is not None else []
        note = self.session.visit_note(self.visit) if self.visit is not None else VisitNote({})
        self._show_station(own)
        self._load(own, note)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        if event is not None:
            width = event.size().width()
            self.guide.set_narrow(width < NARROW)
            self.grid.set_narrow(width < NARROW)
            self.crowded = width < CROWDED
            self.grid.set_crowded(self.crowded)
            self._place_foot()
            self._place_guide()

    def set_palette(self, palette: Palette) -> None:
        super().set_palette(palette)
        self.grid.set_palette(palette)
        self.guide.set_palette(palette)
        if "methods" in self.__dict__:  # made when it is first opened
            self.methods.set_palette(palette)

    def _place_foot(self) -> None:
        """Ports and new rows give way where there is little room."""
        self.adder.setVisible(self.station == DEVICES and not self.crowded)
        self.live.setVisible(self.station in (DEVICES, "scan") and not self.crowded)

    def _place_guide(self) -> None:
        station = STATION.get(self.station)
        room = not self.crowded and not (self.head.more.isChecked() and self.height() < LOW)
        self.guide.setVisible(station is not None and station.kind == "method" and room)

    def _client(self) -> Client | None:
        return self.session.catalogue().client_coded(self.who())

    def _safety_answered(self, word: str) -> None:
        try:
            answer_safety(self.session, self.who(), word)
        except UserError as error:
            self.refuse(str(error))
            return
        self.refresh()
        self.grid.focus_next(None)

    def _first(self) -> None:
        """Go to what comes first: the question, else the first empty cell."""
        if self.safety.isVisibleTo(self):
            self.safety.buttons["none"].setFocus(Qt.FocusReason.OtherFocusReason)
        else:
            self.grid.focus_next(None)

    def _conditions_done(self) -> None:
        """Note what is open as wanted, and go to the first cell: one key."""
        self.conditions.note_all()
        self._first()

    def _chosen(self) -> None:
        self.refuse("")
        self.grid.forget()
        self.also.clear()
        self.unseen.setChecked(False)
        self.refresh()
        self._first()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Digits that are typed beside the fields go to the marked cell."""
        text = event.text() if event is not None else ""
        free = text.isdigit() and self.grid.isVisible() and bool(self.who())
        if not (free and self.grid.type_into_next(text)):
            super().keyPressEvent(event)

    def show_part(self, part: str) -> None:
        self.go_station(part)

    def take_client(self, code: str) -> None:
        """Choose a client by its code, and mark the first cell."""
        if code:
            self.client.setEditText(code)
            self.bar.choose_client()

    def go_station(self, key: str) -> None:
        """Show a station and go to its next empty cell."""
        self.station = key
        self.tabs.buttons[key].setChecked(True)
        self.refuse("")
        self.refresh()
        if key == METHODS:
            self.methods.take_from_visit(
                self._inputs(), sums_only=bool(withheld(self._client(), FAT))
            )
            self.methods.focus_first()
        elif key == CHECK:
            self.check.nominal.setFocus()
        elif self.who():
            self._first()
        else:
            self.client.setFocus()

    def _step_station(self, step: int) -> None:
        self.go_station(self.tabs.beside(self.station, step))

    def _station_done(self) -> None:
        following = LABELS[self.tabs.beside(self.station, 1)]
        self.message.emit(f"{LABELS[self.station]}: complete. Ctrl+Page down: {following}.", False)

    def _show_station(self, own: Sequence[Reading]) -> None:
        station = STATION.get(self.station)
        client = self._client()
        no_fat = fat_unseen(client) and not self.typing_unseen
        self.unseen.setVisible(fat_unseen(client))
        self.tabs.show_used(self.station, without_fat=fat_unseen(client))
        other = (
            self.check
            if self.station == CHECK
            else self.methods
            if self.station == METHODS
            else None
        )
        self.stack.setCurrentWidget(other or self._bench)
        self.head.setVisible(station is not None)
        self._place_guide()
        self.live.show_station(self.station)
        self._place_foot()
        self.hint.setVisible(self.station not in (CHECK, METHODS))
        words = f"{station.reminder}\n{_KEYS}" if station and station.kind == "reference" else _KEYS
        self.hint.setText(f"{words} · {NOT_A_DIAGNOSIS}")
        if station is None:
            order = device_order(self.session, self.who(), self.visit)
            if order and self.station == DEVICES:
                self.hint.setText(f"{order_words(order)} · {self.hint.text()}")
            entry_rows, others = device_rows(
                self.session.catalogue(),
                self.session.instruments_and_metrics(),
                self.added,
                own,
                also=self.also,
                day=self.day() or "9999-12-31",
                client=self.who(),
                without_fat=no_fat,
                order=order,
            )
            self.more.setText(more_rows_words(others))
            self.grid.build(entry_rows, by_round=False, one_instrument=False)
            return
        used = [r.setting for r in own if r.kind == station.kind and r.metric in station.metrics]
        self.head.without_fat = no_fat
        self.head.show_station(station, self.visit, self.who(), self.day() or "9999-12-31", used)
        self.grid.build(self.head.entry_rows(), by_round=station.repeats == 2, one_instrument=True)

    def _inputs(self) -> dict[str, float]:
        client = self._client()
        return (
            visit_inputs(self.session.person(client.id), self.visit)
            if client and self.visit is not None
            else {}
        )

    def _load(self, own: Sequence[Reading], note: VisitNote) -> None:
        self.person.show_client(self._client(), self.day())
        self.conditions.build(self.session.catalogue().conditions_for(self._client()))
        self.notes.show_visit(self.visit, note.notes)
        self.conditions.show_answers(note.conditions)
        self.bar.show_assessor(note.assessor)
        empty = not self.entry_rows and self.station == DEVICES
        self.headline.setText(
            bench_headline(
                self.who(),
                len(own),
                noted=bool(note.conditions),
                empty=empty,
                before=self.bar.before,
            )
        )
        self.tabs.show_counts(
            {
                key: len({r.metric for r in own if r.metric in x.metrics and r.kind == x.kind})
                for key, x in STATION.items()
            }
        )
        locked = self._cautions()
        if self.station == CHECK:
            self.check.refresh()
        elif self.station != METHODS:
            self.grid.blind = self.session.catalogue().blind and not self.bar.is_closed(
                self.session.catalogue().gap
            )
            self.grid.last = last_visit(self.session, self.who(), self.visit)
            self.grid.load(own, locked, self.who(), self.visit)
            if self.station in STATION:
                focused = next(
                    (c.entry_row for c in self.grid.ordered() if c.hasFocus()),
                    self.entry_rows[0] if self.entry_rows else None,
                )
                self._show_site(focused)
                self._show_results({})
        self._tell_level(own)

    def _tell_level(self, own: Sequence[Reading]) -> None:
        items = self.session.catalogue()
        blind = items.blind and not self.bar.is_closed(items.gap)
        self.level.follow(self._client(), own, hidden=blind or self.station == CHECK)

    def _cautions(self) -> Mapping[str, Caution]:
        """Show the cautions of the client; return the instruments that must not be used."""
        client = self._client()
        there = list(self.session.catalogue().instruments.values())
        names = {i.name for i in there}
        there += [Instrument(0, name, kind) for name, kind, _ in self.added if name not in names]
        if self.station in STATION:
            electrodes = "hand and foot" if self.station == "impedance" else "none"
            kind = STATION[self.station].kind
            there.append(Instrument(0, self.head.name, kind, electrodes=electrodes))
        person = client or Client(0, self.who())
        texts, found = cautions_at(self.session, person, self.day(), self.station, there)
        named = {x.instrument for x in self.entry_rows}
        asks = bool(self.bar.place) and safety_open(self.session, self.who())
        self.safety.show_for(self.who(), wanted=asks and bool(named & open_locks(there).keys()))
        self.caution.setText("⚠ " + "  ".join(texts))
        self.caution.setVisible(bool(texts))
        return found

    def _cell_entered(self, cell: Cell) -> None:
        if self.station in STATION:
            self._show_site(cell.entry_row)
        elif self.visit is not None:
            self._tell_level(self.session.readings(visit=self.visit))

    def _show_site(self, entry_row: GridRow | None) -> None:
        """Show the site, the assessor's error, the landmark and the calliper's hint."""
        reminder, assessor = STATION[self.station].reminder, self.assessor.text().strip()
        if "click" in self.head.label_of_setting:
            reminder = f"{reminder} {CLICK_ADVICE}"
        if entry_row is None:
            self.guide.show_site(None, reminder)
            return
        errors = errors_of(self.session.assessor_values(), assessor) if assessor else {}
        error = (
            error_words(entry_row.metric, assessor, errors)
            if entry_row.metric in SITES_OF_BODY
            else ""
        )
        self.guide.show_site(
            entry_row.plan,
            reminder,
            error,
            self.session.catalogue().landmarks.get(entry_row.metric, ""),
        )

    def _typing(self, cell: Cell, text: str) -> None:
        """Results follow while a first repeat is being typed.

        The mean with those before comes when the cell is left.
        """
        metric = metric_named(cell.entry_row.metric)
        if self.station not in STATION or cell.replicate > 1 or metric is None:
            return
        try:
            value = parse_quantity(text, metric).value
        except ValueRefused:
            return
        self._show_results({cell.entry_row.metric: value})

    def _show_results(self, typed: dict[str, float]) -> None:
        client, values = self._client(), self.session.assessor_values()
        sex = client.sex if client else ""
        lines, errors = station_results(
            STATION[self.station], self._inputs() | typed, sex, values, self.assessor.text().strip()
        )
        if withheld(client, FAT):
            lines = [x for x in lines if may_be_said(x.metric)]
        self.guide.show_results(lines, errors)

    def take_tally(
        self,
        standing: Standing | None,
        values: Sequence[tuple[str, str]] | None,
        reason: str,
        *,
        simulated: bool,
    ) -> str:
        """Save what a device sent for the person who stood on it, as one edit.

        (Metric, text with unit), or None for a failure.

        Each value goes into the next free repeat of the visit. Returns the sentence that says
        why nothing was taken, or "".
        """
        known = (
            x.metric for x in self.entry_rows if standing and x.instrument == standing.instrument
        )
        said = take_sent(
            self.session,
            standing,
            values,
            reason,
            simulated=simulated,
            metric=next(known, "body_fat_percent"),
        )
        if not said:
            self.refuse("")
        return said

    # writing around the readings
    def _note(
        self,
        *,
        conditions: tuple[tuple[str, str | None], ...] = (),
        assessor: str | None = None,
        remark: str | None = None,
    ) -> None:
        place = self.place()
        if place is None:
            return
        at = self.bar.visit.start if self.bar.visit else place.at
        try:
            if self._client() is None:
                self.session.do(AddClient(Client(0, place.client)))
            self.session.do(
                NoteVisit(place.client, at, conditions, assessor, remark, place.visit, place.fresh)
            )
        except UserError as error:
            self.refuse(str(error))

    def _note_assessor(self, name: str) -> None:
        before = self.session.visit_note(self.visit).assessor if self.visit is not None else ""
        if name != before and (self.visit is not None or name):
            self._note(assessor=name)

    def _note_remark(self, text: str) -> None:
        before = self.session.visit_note(self.visit).notes if self.visit is not None else ""
        if text != before and (self.visit is not None or text):
            self._note(remark=text)

    def show_found(self, found: Found) -> None:
        self.client.setEditText(found.client or found.key)
        self.bar.choose_client()
        visits = [str(self.visits.itemData(k).id) for k in range(1, self.visits.count())]
        if found.kind == "visit" and found.key in visits:
            self.visits.setCurrentIndex(1 + visits.index(found.key))
            self.bar.choose_visit()

    def leave(self) -> None:
        self.live.stop()
