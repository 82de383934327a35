"""Instruments: what they are and offer, their settings with dates, and their order at the bench."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from PyQt6.QtWidgets import QComboBox, QLineEdit, QPushButton

from ....domain.metrics import metric_named
from ....domain.records import ELECTRODES, Instrument, Setting
from ....domain.repeats import COUNTS, MOST_REPEATS
from ....study.edits.edit import Edit
from ....study.edits.instruments import (
    AddInstrument,
    OfferMetric,
    OrderInstruments,
    PutInstrument,
    StartSetting,
    WithdrawMetric,
)
from ...metric_choice import MetricChoice
from ...widgets import Flow, Table, label, select_on_click
from .card import Card

_LAYOUTS = {"": "not known", "none": "none (plain scale)", "eight": "eight electrodes, by segment"}


class Instruments(Card[Instrument]):
    """References, devices and methods."""

    what = "instrument"
    heads = ("Name", "Kind", "Electrodes", "Repeats", "In force")

    def records(self) -> Mapping[int, Instrument]:
        return self.session.catalogue().instruments

    def build_form(self) -> None:
        self.line("name", "Name")
        self.choice(
            "kind",
            "Kind",
            (("device", "device"), ("reference scan", "reference"), ("method", "method")),
        )
        self.choice("electrodes", "Electrodes", [(_LAYOUTS.get(e, e), e) for e in ELECTRODES])
        self.choice(
            "walk",
            "Typed",
            [("all values, then the next repeat", "down"), ("all repeats of a value", "across")],
        )
        self.choice(
            "repeats", "Repeats at a visit", [(str(n), n) for n in range(1, MOST_REPEATS + 1)]
        )
        self.choice("counts", "Counts", [(words, key) for key, words in COUNTS.items()])
        self.line("price", "Price", "149 EUR")
        self.choice(
            "exports_data",
            "Data can be exported",
            (("not known", None), ("yes", True), ("no", False)),
        )
        self.line("notes", "Notes")
        self._offers()
        self._settings()

    def _offers(self) -> None:
        self.right.addWidget(label("Offers", "title"))
        self.offers = Table(["Metric", "Resolution"], "Metrics offered")
        self.offers.setMaximumHeight(108)
        self.right.addWidget(self.offers)
        self.offered: list[str] = []
        self.metric_box, self.resolution = MetricChoice(), QLineEdit()
        select_on_click(self.resolution)
        self.metric_box.setAccessibleName("Metric offered")
        self.resolution.setPlaceholderText("0.1")
        self.resolution.setAccessibleName("Resolution")
        self.resolution.setFixedWidth(80)
        keep, five, drop = (
            QPushButton("Keep"),
            QPushButton("Add five segments"),
            QPushButton("Remove chosen"),
        )
        five.clicked.connect(lambda: self._keep_metric(segments=True))
        keep.clicked.connect(lambda: self._keep_metric())
        self.resolution.returnPressed.connect(self._keep_metric)
        drop.clicked.connect(self._drop_metric)
        row = Flow()
        for w in (self.metric_box, self.resolution, keep, five, drop):
            row.addWidget(w)
        self.right.addLayout(row)

    def _settings(self) -> None:
        self.right.addWidget(label("Settings", "title"))
        self.settings = Table(["Setting", "From", "For"], "Settings", numeric_from=99)
        self.settings.setMaximumHeight(84)
        self.right.addWidget(self.settings)
        self.label_, self.starts, self.whom = QLineEdit(), QLineEdit(), QComboBox()
        self.label_.setPlaceholderText("athlete mode")
        self.label_.setAccessibleName("Setting")
        self.starts.setAccessibleName("In force from")
        self.starts.setText(self.session.today())
        self.starts.setFixedWidth(110)
        self.whom.setAccessibleName("For which client")
        start = QPushButton("Start setting")
        start.clicked.connect(self._start_setting)
        self.label_.returnPressed.connect(self._start_setting)
        row = Flow()
        for w in (self.label_, self.starts, self.whom, start):
            row.addWidget(w)
        self.right.addLayout(row)
        self.up, self.down = QPushButton("Move up"), QPushButton("Move down")
        self.up.clicked.connect(lambda: self._move(-1))
        self.down.clicked.connect(lambda: self._move(1))
        order = Flow()
        order.addWidget(self.up)
        order.addWidget(self.down)
        self.right.addLayout(order)

    def _in_order(self) -> list[Instrument]:
        return sorted(self.records().values(), key=lambda i: (i.position, i.id))

    def rows(self) -> list[tuple[int, Sequence[str]]]:
        today, items = self.session.today(), self.session.catalogue()
        out: list[tuple[int, Sequence[str]]] = []
        for i in self._in_order():
            layout = i.electrodes or ("not known" if i.kind == "device" else "–")
            out.append(
                (
                    i.id,
                    (
                        i.name,
                        i.kind,
                        layout,
                        str(i.repeats),
                        items.setting_in_force(i.name, today) or "–",
                    ),
                )
            )
        return out

    def show_record(self, record: Instrument) -> None:
        self.title.setText(record.name)
        for name in (
            "name",
            "kind",
            "electrodes",
            "repeats",
            "counts",
            "walk",
            "price",
            "notes",
            "exports_data",
        ):
            self.put(name, getattr(record, name))
        self.fields["electrodes"].setEnabled(record.kind != "reference")
        items = self.session.catalogue()
        offers = items.offers.get(record.id, {})
        self.offered = list(offers)
        lines = []
        for name, step in offers.items():
            m = metric_named(name)
            lines.append(
                (
                    m.label if m else name,
                    "–" if step is None else f"{step:g} {m.symbol if m else ''}".strip(),
                )
            )
        self.offers.fill(lines)
        own = sorted(items.settings_of(record.id), key=lambda s: s.starts)
        who = {c.id: c.code for c in items.clients.values()}
        self.settings.fill(
            [(s.label, s.starts[:10], who.get(s.client or 0, "all clients")) for s in reversed(own)]
        )
        codes: list[int | None] = [None, *who]
        if [self.whom.itemData(k) for k in range(self.whom.count())] != codes:
            self.whom.clear()
            self.whom.addItem("all clients", None)
            for n, code in who.items():
                self.whom.addItem(code, n)

    def adding(self, text: str) -> Edit:
        last = max((i.position for i in self.records().values()), default=0)
        return AddInstrument(Instrument(0, text, "device", position=last + 1))

    def putting(self, record: Instrument) -> Edit:
        return PutInstrument(record)

    def _keep_metric(self, *, segments: bool = False) -> None:
        if self.row is None:
            return
        text = self.resolution.text().strip()
        try:
            names = self.metric_box.segments() if segments else (self.metric_box.chosen(),)
            step = float(text.replace(",", ".")) if text else None
        except ValueError as error:
            what = f'"{text[:30]}" is not a display step' if text else str(error)
            self.say(f"{what}; nothing was changed.")
            return
        if not names:
            self.say("Only fat, lean and muscle have segments; nothing was changed.")
        for name in names:
            if not self.do(OfferMetric(self.row, name, step)):
                return
        self.resolution.clear()

    def _drop_metric(self) -> None:
        k = self.offers.row
        if self.row is not None and 0 <= k < len(self.offered):
            self.do(WithdrawMetric(self.row, self.offered[k]))

    def _start_setting(self) -> None:
        if self.row is not None and self.do(
            StartSetting(
                Setting(
                    0, self.row, self.label_.text(), self.starts.text(), self.whom.currentData()
                )
            )
        ):
            self.label_.clear()

    def _move(self, step: int) -> None:
        order = [i.id for i in self._in_order()]
        k = order.index(self.row) + step if self.row in order else -1
        if self.row is None or not 0 <= k < len(order):
            return
        order.remove(self.row)
        order.insert(k, self.row)
        self.do(OrderInstruments(tuple(order)))
