"""Instruments: what they are and offer, their settings with dates, and their order at the bench."""

from __future__ import annotations

from datetime import date

from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLineEdit, QPushButton

from ....domain.metrics import METRICS, metric_named
from ....domain.records import ELECTRODES
from ....study.cards import AddRow, PutPair, SetOrder
from ...widgets import Table, label
from .card import Card

_LAYOUTS = {"": "not known", "none": "none (plain scale)", "eight": "eight electrodes, by segment"}


class Instruments(Card):
    """References, devices and methods."""

    table_name, what = "instrument", "instrument"
    heads = ("Name", "Kind", "Electrodes", "Repeats", "Setting in force")

    def build_form(self):
        self.line("name", "Name")
        self.choice("kind", "Kind", (("device", "device"), ("reference scan", "reference"), ("method", "method")))
        self.choice("electrodes", "Electrodes", [(_LAYOUTS.get(e, e), e) for e in ELECTRODES])
        self.choice("repeats", "Repeats at a visit", [(str(n), n) for n in range(1, 6)])
        self.line("price", "Price", "149 EUR")
        self.choice("exports_data", "Data can be exported", (("not known", None), ("yes", 1), ("no", 0)))
        self.line("notes", "Notes")
        self._offers()
        self._settings()

    def _offers(self):
        self.right.addWidget(label("Offers", "title"))
        self.offers = Table(["Metric", "Resolution"], "Metrics offered")
        self.offers.setMaximumHeight(108)
        self.right.addWidget(self.offers)
        self.metric, self.resolution = QComboBox(), QLineEdit()
        for m in METRICS.values():
            self.metric.addItem(f"{m.label} ({m.unit})", m.id)
        self.metric.setAccessibleName("Metric offered")
        self.resolution.setPlaceholderText("0.1")
        self.resolution.setAccessibleName("Resolution")
        self.resolution.setFixedWidth(80)
        keep, drop = QPushButton("Keep"), QPushButton("Remove chosen")
        keep.clicked.connect(self._keep_metric)
        self.resolution.returnPressed.connect(self._keep_metric)
        drop.clicked.connect(self._drop_metric)
        row = QHBoxLayout()
        for w in (self.metric, self.resolution, keep, drop):
            row.addWidget(w)
        self.right.addLayout(row)

    def _settings(self):
        self.right.addWidget(label("Settings", "title"))
        self.settings = Table(["Setting", "From", "For"], "Settings", numeric_from=99)
        self.settings.setMaximumHeight(84)
        self.right.addWidget(self.settings)
        self.label_, self.starts, self.whom = QLineEdit(), QLineEdit(), QComboBox()
        self.label_.setPlaceholderText("athlete mode")
        self.label_.setAccessibleName("Setting")
        self.starts.setAccessibleName("In force from")
        self.starts.setText(date.today().isoformat())
        self.starts.setFixedWidth(110)
        self.whom.setAccessibleName("For which client")
        start = QPushButton("Start setting")
        start.clicked.connect(self._start_setting)
        self.label_.returnPressed.connect(self._start_setting)
        row = QHBoxLayout()
        for w in (self.label_, self.starts, self.whom, start):
            row.addWidget(w)
        self.right.addLayout(row)
        self.up, self.down = QPushButton("Earlier at the bench"), QPushButton("Later at the bench")
        self.up.clicked.connect(lambda: self._move(-1))
        self.down.clicked.connect(lambda: self._move(1))
        order = QHBoxLayout()
        order.addWidget(self.up)
        order.addWidget(self.down)
        order.addStretch(1)
        self.right.addLayout(order)

    def _instruments(self):
        found = [i for i in self.session.snapshot().instruments.values() if i.id > 0]
        return sorted(found, key=lambda i: (i.position, i.id))

    def rows(self):
        today = date.today().isoformat()
        out = []
        for i in self._instruments():
            layout = (i.electrodes or "not known") if i.kind == "device" else "–"
            out.append((i.id, (i.name, i.kind, layout, str(i.repeats), self.session.settings_at(i.name, today) or "–")))
        return out

    def show_row(self, number):
        i = self.session.snapshot().instruments[number]
        self.title.setText(i.name)
        for column in ("name", "kind", "electrodes", "repeats", "price", "notes"):
            self.put(column, getattr(i, column))
        self.put("exports_data", None if i.exports_data is None else int(i.exports_data))
        self.fields["electrodes"].setEnabled(i.kind == "device")
        offers = self.session.offered().get(number, {})
        self.offered = list(offers)
        self.offers.fill(
            [(metric_named(m).label, "–" if r is None else f"{r:g} {metric_named(m).unit}") for m, r in offers.items()]
        )
        snapshot = self.session.snapshot()
        own = sorted((s for s in snapshot.settings.values() if s.instrument == number), key=lambda s: s.starts)
        who = {c.id: c.code for c in snapshot.clients.values()}
        self.settings.fill([(s.label, s.starts[:10], who.get(s.client, "all clients")) for s in reversed(own)])
        codes = [None, *who]
        if [self.whom.itemData(k) for k in range(self.whom.count())] != codes:
            self.whom.clear()
            self.whom.addItem("all clients", None)
            for n, code in who.items():
                self.whom.addItem(code, n)

    def values_of_new(self, text):
        last = max((i.position for i in self._instruments()), default=0)
        return (("name", text), ("kind", "device"), ("position", last + 1))

    def _keep_metric(self):
        if self.row is None:
            return
        m, text = metric_named(self.metric.currentData()), self.resolution.text().strip()
        try:
            step = float(text.replace(",", ".")) if text else None
            if step is not None and not 0 < step < m.high:
                raise ValueError
        except ValueError:
            self.say(f'"{text}" is not a resolution in {m.unit}; nothing was changed.')
            return
        if self.do(PutPair("instrument_metric", (("instrument", self.row), ("metric", m.id)), "resolution", step)):
            self.resolution.clear()

    def _drop_metric(self):
        k = self.offers.currentRow()
        if 0 <= k < len(self.offered):
            keys = (("instrument", self.row), ("metric", self.offered[k]))
            self.do(PutPair("instrument_metric", keys, "resolution", None, there=False))

    def _start_setting(self):
        if self.row is None:
            return
        values = {
            "instrument": self.row,
            "client": self.whom.currentData(),
            "label": self.label_.text().strip(),
            "starts": self.starts.text().strip(),
        }
        if self.do(AddRow("setting", tuple(values.items()))):
            self.label_.clear()

    def _move(self, step):
        order = [i.id for i in self._instruments()]
        k = order.index(self.row) + step if self.row in order else -1
        if not 0 <= k < len(order):
            return
        order.remove(self.row)
        order.insert(k, self.row)
        self.do(SetOrder(tuple(order)))
