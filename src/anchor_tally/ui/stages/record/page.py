"""Record: one visit at the bench, station by station."""

from __future__ import annotations

from datetime import datetime

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QKeySequence, QShortcut
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

from ....analysis.assessor import errors_of, reading_error
from ....analysis.cautions import cautions_of, scan_cautions
from ....analysis.derive import visit_inputs
from ....analysis.field_method import sensitivity, side_by_side
from ....app.bench import take_measurement
from ....domain.errors import UserError
from ....domain.metrics import METRICS, metric_named
from ....domain.records import KINDS
from ....domain.stations import STATION, STATIONS
from ....domain.units import ValueRefused, parse_quantity
from ....methods.registry import EQUATIONS
from ....study.cards import AddRow, NoteVisit
from ....wording.bench import caution_words
from ....wording.numbers import count
from ....wording.sentences import sentence
from ...widgets import Flow, label
from .check_weights import CheckWeights
from .conditions import ConditionsBar
from .guide import Guide
from .lane_grid import LaneGrid
from .live_device import LiveDevice
from .methods_bench import MethodsBench
from .station_head import StationHead, device_lanes
from .visit_bar import VisitBar

_KEYS = (
    "Enter: next empty cell · F: failed reading · F4: what is kept of this reading · Ctrl+Z: undo · Ctrl+Page down: next station"
)
DEVICES, CHECK, METHODS = "devices", "check_weight", "methods"
LABELS = {DEVICES: "Devices", **{s.id: s.label for s in STATIONS}, CHECK: "Check weight", METHODS: "Methods"}


class RecordStage(QWidget):
    """Type repeats, see at once what is kept and what it means."""

    message = pyqtSignal(str, bool)
    evidence = pyqtSignal(object, str)
    import_wanted = pyqtSignal(str)

    def __init__(self, session, palette):
        super().__init__()
        self.setObjectName("page")
        self.session = session
        self.added, self.station = [], DEVICES
        self.bar = VisitBar(session)
        self.client, self.visits, self.when, self.assessor = self.bar.client, self.bar.visits, self.bar.when, self.bar.assessor
        self.bar.chosen.connect(self._chosen)
        self.bar.assessor_named.connect(self._note_assessor)
        self.headline = label("", "headline", wrap=True)
        self.hint = label(_KEYS, "faint")
        self.trouble = label("", "warn", wrap=True)
        self.trouble.setAccessibleName("What went wrong")
        self.trouble.hide()
        self.caution = label("", "caution", wrap=True)
        self.caution.setAccessibleName("Caution")
        self.caution.hide()
        self.conditions = ConditionsBar()
        self.conditions.noted.connect(lambda answers: self._note(conditions=answers))
        self.head = StationHead(session)
        self.head.changed.connect(self.refresh)
        self.grid = LaneGrid(session, palette, self)
        self.grid.evidence.connect(self.evidence)
        self.grid.entered.connect(self._cell_entered)
        self.grid.typing.connect(self._typing)
        self.grid.finished.connect(self._station_done)
        self.guide = Guide(palette)
        self.check = CheckWeights(session)
        self.methods = MethodsBench(session)
        self.live = LiveDevice(session, self)
        self.check.message.connect(self.message)
        self.live.message.connect(self.message)
        self.live.import_wanted.connect(self.import_wanted)
        self._lay_out()
        for keys, slot in (
            ("Ctrl+PgDown", lambda: self._step_station(1)),
            ("Ctrl+PgUp", lambda: self._step_station(-1)),
            ("F7", self.conditions.note_all),
        ):
            QShortcut(QKeySequence(keys), self, slot)

    def _lay_out(self):
        self.tabs, group, tabs = {}, QButtonGroup(self), Flow(4)
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
        bench = QWidget()
        column = QVBoxLayout(bench)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.head)
        column.addLayout(lanes, 1)
        column.addWidget(self.live)
        self.adder = self._adder()
        column.addWidget(self.adder)
        self.stack = QStackedWidget()
        for w in (bench, self.check, self.methods):
            self.stack.addWidget(w)
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 10, 16, 8)
        box.setSpacing(6)
        box.addWidget(self.headline)
        box.addWidget(self.bar)
        box.addWidget(self.caution)
        box.addWidget(self.conditions)
        box.addLayout(tabs)
        box.addWidget(self.trouble)
        box.addWidget(self.stack, 1)
        box.addWidget(self.hint)

    def _adder(self):
        place = QWidget()
        row = QHBoxLayout(place)
        row.setContentsMargins(0, 0, 0, 0)
        self.new_instrument = QLineEdit()
        self.new_instrument.setPlaceholderText("Another instrument")
        self.new_instrument.setAccessibleName("Name of another instrument")
        self.new_instrument.setFixedWidth(170)
        self.new_kind, self.new_metric = QComboBox(), QComboBox()
        self.new_kind.addItems(["device", "method", "reference"])
        self.new_kind.setAccessibleName("Kind of instrument")
        for m in METRICS.values():
            self.new_metric.addItem(f"{m.label} ({m.unit})", m.id)
        self.new_metric.setAccessibleName("What it measures")
        add = QPushButton("Add lane")
        add.clicked.connect(self._add_lane)
        self.new_instrument.returnPressed.connect(self._add_lane)
        for w in (self.new_instrument, self.new_kind, self.new_metric, add):
            row.addWidget(w)
        row.addStretch(1)
        return place

    def _add_lane(self):
        name = self.new_instrument.text().strip()
        if name and self.new_kind.currentText() in KINDS:
            self.add_lane(name, self.new_kind.currentText(), self.new_metric.currentData())
            self.new_instrument.clear()
            cells = [lane.cells[0] for lane in self.lanes if lane.instrument == name]
            if cells:
                cells[-1].setFocus()

    def add_lane(self, instrument, kind, metric):
        """Show a lane for an instrument that has no reading yet."""
        if (instrument, kind, metric) not in self.added:
            self.added.append((instrument, kind, metric))
        self.refresh()

    @property
    def lanes(self):
        return self.grid.lanes

    @property
    def meanings(self):
        return self.grid.meanings

    # the visit, as the lanes see it
    @property
    def visit(self):
        return self.bar.visit

    def who(self):
        """The client's code."""
        return self.bar.who

    def moment(self, *, quiet=False):
        """Date and time of the visit, or None (said unless ``quiet``)."""
        at = self.bar.moment
        if at is None and not quiet:
            self.refuse(f'"{self.when.text()}" is not a date and time such as 2026-03-02 06:40; nothing was written.')
        return at

    def refuse(self, text):
        """Say in place what could not be done; empty text takes it away."""
        self.trouble.setText(text)
        self.trouble.setVisible(bool(text))

    # what is shown
    def refresh(self, *_):
        """Show the study as it is now."""
        self.bar.refresh()
        self._show_station()
        self._load()

    def resizeEvent(self, event):
        super().resizeEvent(event)
        narrow = event.size().width() < 1000
        self.guide.set_narrow(narrow)
        self.grid.set_narrow(narrow)

    def set_palette(self, palette):
        """Choose the theme of what is painted."""
        self.grid.set_palette(palette)
        self.guide.set_palette(palette)

    def _client(self):
        return next((c for c in self.session.snapshot().clients.values() if c.code == self.who()), None)

    def _chosen(self):
        self.refuse("")
        self.refresh()
        self.grid.focus_next(None)

    def go_station(self, key):
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

    def _step_station(self, step):
        keys = list(LABELS)
        self.go_station(keys[(keys.index(self.station) + step) % len(keys)])

    def _station_done(self):
        keys = list(LABELS)
        following = LABELS[keys[keys.index(self.station) + 1]]
        self.message.emit(f"{LABELS[self.station]}: nothing more is asked for. Ctrl+Page down: {following}.", False)

    def _show_station(self):
        station = STATION.get(self.station)
        self.stack.setCurrentIndex({CHECK: 1, METHODS: 2}.get(self.station, 0))
        self.head.setVisible(station is not None)
        self.guide.setVisible(station is not None and station.kind == "method")
        self.adder.setVisible(self.station == DEVICES)
        self.live.show_station(self.station)
        self.hint.setVisible(self.station not in (CHECK, METHODS))
        self.hint.setText(f"{station.reminder}\n{_KEYS}" if station and station.kind == "reference" else _KEYS)
        if station is None:
            self.grid.setting = None
            self.grid.build(device_lanes(self.session, self.added), False, False)
            return
        own = self.session.readings(visit=self.visit[0]) if self.visit else []
        used = [r.setting for r in own if r.kind == station.kind and r.metric in station.metrics]
        self.head.show_station(station, self.visit, self.who(), self.moment(quiet=True) or "9999-12-31", used)
        self.grid.setting = self.head.label_of_setting
        self.grid.build(self.head.lanes(), station.repeats == 2, True)

    def _inputs(self):
        return visit_inputs(self.session.snapshot(), self.visit[0]) if self.visit else {}

    def _load(self):
        readings = self.session.readings(visit=self.visit[0]) if self.visit else []
        answers, assessor, _ = self.session.visit_note(self.visit[0]) if self.visit else ({}, "", "")
        self.conditions.build(self.session.protocol())
        self.conditions.show_answers(answers)
        self.bar.show_assessor(assessor)
        self.headline.setText(self._headline(readings, answers))
        for key, button in self.tabs.items():
            station = STATION.get(key)
            kept = {r.metric for r in readings if station and r.metric in station.metrics and r.kind == station.kind}
            button.setText(LABELS[key] + (f" · {len(kept)}" if kept else ""))
        locks = self._cautions()
        if self.station == CHECK:
            self.check.refresh()
        elif self.station != METHODS:
            self.grid.load(readings, locks)
            if self.station in STATION:
                focused = next((c.lane for c in self.grid.ordered() if c.hasFocus()), self.lanes[0] if self.lanes else None)
                self.guide.show_site(focused, STATION[self.station].reminder)
                self._show_results({})

    def _headline(self, readings, answers):
        if readings:
            later = "" if answers else " Conditions are not noted yet (F7)."
            return f"{self.who()}: {count(len(readings), 'reading')} kept in this visit.{later}"
        if self.lanes or self.station != DEVICES:
            return f"{self.who()}: type the first reading." if self.who() else "Choose a client, or type the code of a new one."
        return "Add an instrument below, or import readings (Ctrl+I)."

    def _cautions(self):
        """Show the cautions of the client; return the instruments that must not be used, with the reason."""
        client = self._client()
        found = cautions_of(client) if client else ()
        why = {c.forbids: caution_words(c) for c in reversed(found) if c.forbids}
        locks = {}
        for i in self.session.snapshot().instruments.values():
            reason = why.get("impedance") if i.is_impedance else why.get("scan") if i.kind == "reference" else None
            if reason:
                locks[i.name] = reason
        if "impedance" in why:
            locks |= {name: why["impedance"] for name, kind, _ in self.added if kind == "device" and name not in locks}
        if self.station in ("impedance", "scan") and self.station in why:
            locks[self.head.name] = why[self.station]
        texts = [caution_words(c) for c in found]
        if self.station == "scan" and client:
            day = self.moment(quiet=True) or datetime.now().isoformat()
            texts += [sentence(n) for n in scan_cautions(client, self.session.scan_days(client.code), day)]
        self.caution.setText("⚠ " + "  ".join(texts))
        self.caution.setVisible(bool(texts))
        return locks

    def _cell_entered(self, cell):
        if self.station in STATION:
            self.guide.show_site(cell.lane, STATION[self.station].reminder)

    def _typing(self, cell, text):
        """Results follow while a first repeat is being typed; the mean with those before comes when the cell is left."""
        if self.station not in STATION or cell.replicate > 1:
            return
        try:
            value = parse_quantity(text, metric_named(cell.lane.metric)).value
        except ValueRefused:
            return
        self._show_results({cell.lane.metric: value})

    def _show_results(self, typed):
        given = self._inputs() | typed
        client = self._client()
        if client and client.sex:
            given.setdefault("sex", 1.0 if client.sex == "male" else 0.0)
        station = STATION[self.station]
        metrics = set(station.metrics) if station.kind == "method" else set()  # a reference is no input of an equation
        lines = [x for x in side_by_side(given) if metrics & set(EQUATIONS[x.id].all_inputs)]
        tem = errors_of(self.session.assessor_values(), self.assessor.text().strip())
        errors = {}
        if tem:
            for x in lines:
                if x.value is not None:
                    errors[x.id] = reading_error(sensitivity(EQUATIONS[x.id], given), tem, station.repeats)
        self.guide.show_results(lines, errors)

    def take_tally(self, instrument, values, reason):
        """Take what a device sent, as one edit: (metric, text with unit) pairs, or None for a failed reading.

        Each value goes into the next free repeat of the visit. Returns the sentence that says why nothing was taken, or "".
        """
        who, at = self.who(), self.moment(quiet=True)
        if not who or at is None:
            return "A device has sent a reading, but no client is chosen: nothing was taken."
        lock = self._cautions().get(instrument, "")
        if lock:
            return f"Nothing was taken from {instrument}. {lock}"
        if values is None:
            values = [(next((x.metric for x in self.lanes if x.instrument == instrument), "body_fat_percent"), None)]
        visit = self.visit[0] if self.visit else None
        try:
            take_measurement(self.session, client=who, at=at, visit=visit, instrument=instrument, values=values, reason=reason)
        except UserError as error:
            return f"{error}."
        self.refuse("")
        return ""

    # writing around the readings
    def _note(self, **what):
        at = self.moment()
        if at is None:
            return
        if not self.who():
            self.refuse("Choose or type a client's code first; nothing was written.")
            return
        try:
            if self._client() is None:
                self.session.do(AddRow("client", (("code", self.who()),)))
            self.session.do(NoteVisit(self.who(), self.visit[1] if self.visit else at, **what))
        except UserError as error:
            self.refuse(str(error))

    def _note_assessor(self, name):
        before = self.session.visit_note(self.visit[0])[1] if self.visit else ""
        if name != before:
            self._note(fields=(("assessor", name),))
