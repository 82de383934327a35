"""Record: one visit at the bench, station by station."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from functools import cached_property

from PyQt6.QtGui import QKeySequence, QResizeEvent, QShortcut
from PyQt6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from ....analysis.bench import device_lanes, locks
from ....analysis.cautions import Caution, cautions_of, scan_cautions
from ....analysis.derive import visit_inputs
from ....analysis.field_method import station_results
from ....app.bench import Place, last_values, take_measurement
from ....app.find import Found
from ....domain.errors import UserError
from ....domain.metrics import METRICS, metric_named
from ....domain.records import Client, Instrument, Reading, VisitNote
from ....domain.stations import STATION, STATIONS
from ....domain.units import ValueRefused, parse_quantity
from ....figures.style import Palette
from ....study.edits.clients import AddClient
from ....study.edits.visits import NoteVisit
from ....wording.bench import bench_headline, caution_words, more_lanes_words, unknown_client_words
from ....wording.sentences import sentence
from ...pages import Page, Surroundings
from ...widgets import Flow, label
from .cells import Cell, Lane
from .check_weights import CheckWeights
from .conditions import ConditionsBar
from .guide import Guide
from .lane_grid import LaneGrid
from .live_device import LiveDevice
from .methods_bench import MethodsBench
from .station_head import StationHead
from .visit_bar import VisitBar

_KEYS = (
    "Enter: next empty cell · F: failed reading · F4: what is kept of this reading · Ctrl+Z: undo · Ctrl+Page down: next station"
)
DEVICES, CHECK, METHODS = "devices", "check", "methods"
LABELS = {DEVICES: "Devices", **{s.id: s.label for s in STATIONS}, CHECK: "Check weight", METHODS: "Methods"}
NARROW, CROWDED = 1000, 720  # widths of the page from which on strips, and the guide, have no room


class RecordStage(Page):
    """Type repeats, see at once what is kept and what it means."""

    def __init__(self, around: Surroundings) -> None:
        super().__init__(around)
        self.added: list[tuple[str, str, str]] = []
        self.station, self.crowded = DEVICES, False
        self.bar = VisitBar(self.session)
        self.client, self.visits, self.when, self.assessor = self.bar.client, self.bar.visits, self.bar.when, self.bar.assessor
        self.bar.chosen.connect(self._chosen)
        self.bar.assessor_named.connect(self._note_assessor)
        self.bar.message.connect(self.message)
        self.bar.unknown.connect(lambda code: self.refuse(unknown_client_words(code)))
        self.headline = label("", "headline", wrap=True)
        self.hint = label(_KEYS, "faint", wrap=True)
        self.trouble = label("", "warn", wrap=True)
        self.trouble.setAccessibleName("What went wrong")
        self.trouble.hide()
        self.caution = label("", "caution", wrap=True)
        self.caution.setAccessibleName("Caution")
        self.caution.hide()
        self.conditions = ConditionsBar()
        self.conditions.noted.connect(lambda answers: self._note(conditions=answers))
        self.head = StationHead(self.session)
        self.head.changed.connect(self.refresh)
        self.grid = LaneGrid(self.session, self.colours, self)
        self.grid.evidence.connect(self.evidence)
        self.grid.entered.connect(self._cell_entered)
        self.grid.typing.connect(self._typing)
        self.grid.finished.connect(self._station_done)
        self.guide = Guide(self.colours)
        self.live = LiveDevice(self.session, self)
        self.live.message.connect(self.message)
        self.live.file_wanted.connect(self.file_wanted)
        self._lay_out()
        for keys, slot in (
            ("Ctrl+PgDown", lambda: self._step_station(1)),
            ("Ctrl+PgUp", lambda: self._step_station(-1)),
            ("F7", self._conditions_done),
        ):
            QShortcut(QKeySequence(keys), self, slot)

    def _lay_out(self) -> None:
        self.tabs: dict[str, QPushButton] = {}
        group, tabs = QButtonGroup(self), Flow(4)
        for key, text in LABELS.items():
            button = QPushButton(text)
            button.setObjectName("tab")
            button.setCheckable(True)
            button.setAccessibleName(f"Station {text}")
            button.clicked.connect(lambda _=False, k=key: self.go_station(k))
            group.addButton(button)
            self.tabs[key] = button
            tabs.addWidget(button)
        self.tabs[DEVICES].setChecked(True)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(self.grid)
        lanes = QHBoxLayout()
        lanes.addWidget(scroll, 1)
        lanes.addWidget(self.guide)
        bench = self._bench = QWidget()
        column = QVBoxLayout(bench)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.head)
        column.addLayout(lanes, 1)
        column.addWidget(self.live)
        self.adder = self._adder()
        column.addWidget(self.adder)
        self.stack = QStackedWidget()
        self.stack.addWidget(bench)
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 10, 16, 8)
        box.setSpacing(6)
        for widget in (self.headline, self.bar, self.caution, self.conditions):
            box.addWidget(widget)
        box.addLayout(tabs)
        box.addWidget(self.trouble)
        box.addWidget(self.stack, 1)
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
        made = MethodsBench()
        self.stack.addWidget(made)
        return made

    def _adder(self) -> QWidget:
        place = QWidget()
        row = Flow()
        place.setLayout(row)
        self.new_instrument = QLineEdit()
        self.new_instrument.setPlaceholderText("Another instrument")
        self.new_instrument.setAccessibleName("Name of another instrument")
        self.new_instrument.setFixedWidth(150)
        self.new_kind, self.new_metric = QComboBox(), QComboBox()
        self.new_kind.addItems(["device", "method", "reference"])
        self.new_kind.setAccessibleName("Kind of instrument")
        for m in METRICS.values():
            self.new_metric.addItem(f"{m.label} ({m.unit})", m.id)
        self.new_metric.setAccessibleName("What it measures")
        self.new_metric.setMinimumContentsLength(18)
        self.new_metric.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        add = QPushButton("Add lane")
        add.clicked.connect(self._add_lane)
        self.new_instrument.returnPressed.connect(self._add_lane)
        self.more = label("", "faint")
        for w in (self.new_instrument, self.new_kind, self.new_metric, add, self.more):
            row.addWidget(w)
        return place

    def _add_lane(self) -> None:
        name = self.new_instrument.text().strip()
        if not name:
            return
        known = next((i for i in self.session.catalogue().instruments.values() if i.name.lower() == name.lower()), None)
        kind = known.kind if known else self.new_kind.currentText()
        self.add_lane(known.name if known else name, kind, self.new_metric.currentData())
        self.new_instrument.clear()
        cells = [lane.cells[0] for lane in self.lanes if lane.instrument == (known.name if known else name)]
        if cells:
            cells[-1].setFocus()

    def add_lane(self, instrument: str, kind: str, metric: str) -> None:
        """Show a lane for an instrument that has no reading yet."""
        if (instrument, kind, metric) not in self.added:
            self.added.append((instrument, kind, metric))
        self.refresh()

    @property
    def lanes(self) -> list[Lane]:
        """The lanes shown."""
        return self.grid.lanes

    # the visit, as the lanes see it
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
            self.refuse(f'"{self.when.text()}" is not a date and time such as 2026-03-02 06:40; nothing was written.')
        elif not self.who():
            self.refuse("Choose or type a client's code first; nothing was written.")
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

    def _place_foot(self) -> None:
        """Ports and new lanes give way where there is little room."""
        self.adder.setVisible(self.station == DEVICES and not self.crowded)
        self.live.setVisible(self.station in (DEVICES, "scan") and not self.crowded)

    def _place_guide(self) -> None:
        station = STATION.get(self.station)
        self.guide.setVisible(station is not None and station.kind == "method" and not self.crowded)

    def _client(self) -> Client | None:
        return self.session.catalogue().client_coded(self.who())

    def _conditions_done(self) -> None:
        """Note what is open as wanted, and go to the first cell: one key."""
        self.conditions.note_all()
        self.grid.focus_next(None)

    def _chosen(self) -> None:
        self.refuse("")
        self.refresh()
        self.grid.focus_next(None)

    def go_station(self, key: str) -> None:
        """Show a station and go to its next empty cell."""
        self.station = key
        self.tabs[key].setChecked(True)
        self.refuse("")
        self.refresh()
        if key == METHODS:
            self.methods.take_from_visit(self._inputs())
            self.methods.focus_first()
        elif key == CHECK:
            self.check.nominal.setFocus()
        elif self.who():
            self.grid.focus_next(None)
        else:
            self.client.setFocus()

    def _step_station(self, step: int) -> None:
        keys = list(LABELS)
        self.go_station(keys[(keys.index(self.station) + step) % len(keys)])

    def _station_done(self) -> None:
        keys = list(LABELS)
        following = LABELS[keys[keys.index(self.station) + 1]]
        self.message.emit(f"{LABELS[self.station]}: nothing more is asked for. Ctrl+Page down: {following}.", False)

    def _show_station(self, own: Sequence[Reading]) -> None:
        station = STATION.get(self.station)
        other = self.check if self.station == CHECK else self.methods if self.station == METHODS else None
        self.stack.setCurrentWidget(other or self._bench)
        self.head.setVisible(station is not None)
        self._place_guide()
        self.live.show_station(self.station)
        self._place_foot()
        self.hint.setVisible(self.station not in (CHECK, METHODS))
        self.hint.setText(f"{station.reminder}\n{_KEYS}" if station and station.kind == "reference" else _KEYS)
        if station is None:
            self.grid.setting = None
            lanes, others = device_lanes(self.session.catalogue(), self.session.instrument_lanes(), self.added, own)
            self.more.setText(more_lanes_words(others))
            self.grid.build(lanes, by_round=False, one_instrument=False)
            return
        used = [r.setting for r in own if r.kind == station.kind and r.metric in station.metrics]
        self.head.show_station(station, self.visit, self.who(), self.day() or "9999-12-31", used)
        self.grid.setting = self.head.label_of_setting
        self.grid.build(self.head.lanes(), by_round=station.repeats == 2, one_instrument=True)

    def _inputs(self) -> dict[str, float]:
        client = self._client()
        return visit_inputs(self.session.person(client.id), self.visit) if client and self.visit is not None else {}

    def _load(self, own: Sequence[Reading], note: VisitNote) -> None:
        self.conditions.build(self.session.catalogue().asked)
        self.conditions.show_answers(note.conditions)
        self.bar.show_assessor(note.assessor)
        empty = not self.lanes and self.station == DEVICES
        self.headline.setText(
            bench_headline(self.who(), len(own), noted=bool(note.conditions), empty=empty, before=self.bar.before)
        )
        for key, button in self.tabs.items():
            station = STATION.get(key)
            kept = {r.metric for r in own if station and r.metric in station.metrics and r.kind == station.kind}
            button.setText(LABELS[key] + (f" · {len(kept)}" if kept else ""))
        locked = self._cautions()
        if self.station == CHECK:
            self.check.refresh()
        elif self.station != METHODS:
            self.grid.blind = self.session.catalogue().blind and not self.bar.is_closed(self.session.catalogue().gap)
            self.grid.last, self.grid.mass = last_values(self.session, self.who(), self.visit)
            self.grid.load(own, locked, self.who(), self.visit)
            if self.station in STATION:
                focused = next((c.lane for c in self.grid.ordered() if c.hasFocus()), self.lanes[0] if self.lanes else None)
                self.guide.show_site(focused.plan if focused else None, STATION[self.station].reminder)
                self._show_results({})

    def _cautions(self) -> Mapping[str, Caution]:
        """Show the cautions of the client; return the instruments that must not be used."""
        client = self._client()
        there = list(self.session.catalogue().instruments.values())
        names = {i.name for i in there}
        there += [Instrument(0, name, kind) for name, kind, _ in self.added if name not in names]
        if self.station in STATION:
            there += [Instrument(0, self.head.name, STATION[self.station].kind, electrodes="none")]
        found = locks(client, there)
        texts = [caution_words(c) for c in (cautions_of(client, self.day()) if client else ())]
        if self.station == "impedance" and client:
            forbidding = next((c for c in cautions_of(client) if c.forbids == "impedance"), None)
            if forbidding is not None:
                found[self.head.name] = forbidding
        if self.station == "scan" and client:
            day = self.day() or datetime.now().isoformat()
            texts += [sentence(n) for n in scan_cautions(client, self.session.scan_days(client.code), day)]
        self.caution.setText("⚠ " + "  ".join(texts))
        self.caution.setVisible(bool(texts))
        return found

    def _cell_entered(self, cell: Cell) -> None:
        if self.station in STATION:
            self.guide.show_site(cell.lane.plan, STATION[self.station].reminder)

    def _typing(self, cell: Cell, text: str) -> None:
        """Results follow while a first repeat is being typed; the mean with those before comes when the cell is left."""
        metric = metric_named(cell.lane.metric)
        if self.station not in STATION or cell.replicate > 1 or metric is None:
            return
        try:
            value = parse_quantity(text, metric).value
        except ValueRefused:
            return
        self._show_results({cell.lane.metric: value})

    def _show_results(self, typed: dict[str, float]) -> None:
        client, values = self._client(), self.session.assessor_values()
        sex = client.sex if client else ""
        lines, errors = station_results(STATION[self.station], self._inputs() | typed, sex, values, self.assessor.text().strip())
        self.guide.show_results(lines, errors)

    def take_tally(
        self, place: Place | None, instrument: str, values: Sequence[tuple[str, str]] | None, reason: str, *, simulated: bool
    ) -> str:
        """Take what a device sent for the person who stood on it, as one edit: (metric, text with unit), or None for a failure.

        Each value goes into the next free repeat of the visit. Returns the sentence that says why nothing was taken, or "".
        """
        if place is None:
            return "A device has sent a reading, but no client was chosen when it began: nothing was taken."
        items = self.session.catalogue()
        item = next((i for i in items.instruments.values() if i.name == instrument), Instrument(0, instrument, "device"))
        lock = locks(items.client_coded(place.client), [item]).get(instrument)
        if lock is not None:
            return f"Nothing was taken from {instrument}. {caution_words(lock)}"
        kept: Sequence[tuple[str, str | None]]
        if values is None:
            kept = [(next((x.metric for x in self.lanes if x.instrument == instrument), "body_fat_percent"), None)]
        else:
            kept = list(values)
        try:
            take_measurement(self.session, place, instrument=instrument, values=kept, reason=reason, simulated=simulated)
        except UserError as error:
            return f"{error}."
        self.refuse("")
        return ""

    # writing around the readings
    def _note(self, *, conditions: tuple[tuple[str, str | None], ...] = (), assessor: str | None = None) -> None:
        place = self.place()
        if place is None:
            return
        at = self.bar.visit.start if self.bar.visit else place.at
        try:
            if self._client() is None:
                self.session.do(AddClient(Client(0, place.client)))
            self.session.do(NoteVisit(place.client, at, conditions, assessor, visit=place.visit, fresh=place.fresh))
        except UserError as error:
            self.refuse(str(error))

    def _note_assessor(self, name: str) -> None:
        before = self.session.visit_note(self.visit).assessor if self.visit is not None else ""
        if name != before and (self.visit is not None or name):
            self._note(assessor=name)

    def show_found(self, found: Found) -> None:
        self.client.setEditText(found.client or found.key)
        self.bar.choose_client()
        at = next((k for k in range(1, self.visits.count()) if str(self.visits.itemData(k).id) == found.key), 0)
        if found.kind == "visit" and at:
            self.visits.setCurrentIndex(at)
            self.bar.choose_visit()

    def leave(self) -> None:
        self.live.stop()
