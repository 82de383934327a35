"""Score card: must-haves that rule out, weights that can be moved, and how sure the order is."""

from __future__ import annotations

from collections.abc import Callable, Generator, Sequence
from typing import Any

from PyQt6.QtWidgets import QCheckBox, QComboBox, QLineEdit, QSpinBox, QWidget

from ....analysis.agreement.which_device import (
    CRITERIA,
    MustHaves,
    WhichDeviceRequest,
    WhichDeviceResult,
)
from ....domain.lens import Lens
from ....domain.metrics import metric_named
from ....domain.records import Instrument
from ....domain.snapshot import Snapshot
from ....figures import views as figures
from ....figures.style import Mark, marks_of
from ....wording import views as words
from ...pages import Surroundings
from ...widgets import Flow, Table, letters_wide, paired
from .view import ViewPage

_WEIGHTS = {"closeness": "Closeness", "change": "Following change", "consistency": "Consistency"}


class WhichDevicePage(ViewPage[WhichDeviceResult]):
    """Which one to keep?"""

    key, owner, figure_name = "score", "score", "Score card"
    words = "Scoring"
    margins = (170, 10, 52, 8)
    missing = "It needs pairs with a scan (or another comparator) of at least two instruments."

    def __init__(self, around: Surroundings) -> None:
        super().__init__(around)
        self._request: Callable[[Snapshot, Lens], WhichDeviceRequest] = WhichDeviceRequest
        self.weights = {name: QSpinBox() for name in CRITERIA}
        row = Flow(8)
        for name, box in self.weights.items():
            box.setRange(0, 10)
            box.setValue(5)
            box.valueChanged.connect(lambda _v: self.ask())
            row.addWidget(paired(_WEIGHTS[name], box, f"Weight of {_WEIGHTS[name].lower()}"))
        self.metric_, self.client = QComboBox(), QComboBox()
        self.segments, self.exports = QCheckBox("segments"), QCheckBox("data export")
        self.price, self.failed = QLineEdit(), QLineEdit()
        for field, hint in ((self.price, "any"), (self.failed, "any")):
            field.setFixedWidth(64)
            field.setPlaceholderText(hint)
            field.editingFinished.connect(self.ask)
        for box_ in (self.metric_, self.client):
            letters_wide(box_, 14)
            box_.activated.connect(lambda _k: self.ask())
        for tick in (self.segments, self.exports):
            tick.clicked.connect(lambda _on: self.ask())
        must = Flow(8)
        for part in (
            paired("It must show", self.metric_),
            self.segments,
            self.exports,
            paired("cost at most", self.price),
            paired("fail in at most (%)", self.failed),
            paired("be allowed for", self.client),
        ):
            must.addWidget(part)
        self.choices = QWidget()
        self.choices.setLayout(must)
        self.sliders = QWidget()
        self.sliders.setLayout(row)
        self.column.insertWidget(3, self.choices)
        self.column.insertWidget(4, self.sliders)
        self.cards = Table(
            [
                "Instrument",
                "Error",
                "Of change",
                "Shows of 1",
                "Repeats",
                "Failed",
                "Price",
                "Score",
            ],
            "Score card",
        )
        self.picture.addWidget(self.cards, 1)
        self.side.hide()

    def refresh(self) -> None:
        self._fill()
        super().refresh()

    def _fill(self) -> None:
        shown = sorted(
            {m for _, kind, m in self.session.instruments_and_metrics() if kind == "device"}
        )
        names = [
            ("anything", ""),
            *((m.label, m.id) for m in map(metric_named, shown) if m is not None),
        ]
        people = [
            ("anybody", ""),
            *((c.code, c.code) for c in self.session.catalogue().clients.values() if c.cautions),
        ]
        for box, there in ((self.metric_, names), (self.client, people)):
            if [box.itemData(k) for k in range(box.count())] != [d for _, d in there]:
                chosen = box.currentData()
                box.clear()
                for text, data in there:
                    box.addItem(text, data)
                box.setCurrentIndex(max(box.findData(chosen), 0))

    @staticmethod
    def _number(field: QLineEdit) -> float | None:
        try:
            return float(field.text().replace(",", ".")) if field.text().strip() else None
        except ValueError:
            field.clear()
            return None

    def ask(self) -> None:
        """Take down what is asked, here; the worker sees frozen things only."""
        items = self.session.catalogue()
        must = MustHaves(
            self.metric_.currentData() or "",
            self.segments.isChecked(),
            self.exports.isChecked(),
            self._number(self.price),
            self._number(self.failed),
            self.client.currentData() or "",
        )
        weights = {name: float(box.value()) for name, box in self.weights.items()}
        named = {i.name: i.id for i in items.instruments.values()}
        has = {i: set(m) for i, m in items.offers.items()}
        for name, _, metric in self.session.instruments_and_metrics():
            has.setdefault(named.get(name, 0), set()).add(metric)
        offers = {i: frozenset(m) for i, m in has.items()}
        self._request = lambda snapshot, lens: WhichDeviceRequest(
            snapshot, lens, must, weights, offers
        )
        super().ask()

    def request(
        self, snapshot: Snapshot, lens: Lens
    ) -> Generator[float, None, Sequence[WhichDeviceResult]]:
        return ((yield from self._request(snapshot, lens).run()),)

    def instrument_of(self, result: WhichDeviceResult) -> Instrument:
        return Instrument(0, "all", "device")

    def marks(self) -> tuple[Mark, ...]:
        known = marks_of(self.session.catalogue().instruments.values(), self.colours)
        return tuple(known(c.instrument) for c in self.results[0].cards)

    def answer(self, found: Sequence[WhichDeviceResult]) -> None:
        super().answer(found)
        self.side.hide()
        self.cards.fill(words.which_device_lines(found[0]))
        self.cards.show()

    def no_answer(self, text: str) -> None:
        super().no_answer(text)
        self.cards.hide()

    def paint(self) -> None:
        super().paint()
        if self.results:
            r = self.results[0]
            said = (words.keep_words(r), self.notes_of(r))
            self.under.setText(" ".join(s for s in said if s))

    def draw(self, axes: Any, family: str) -> None:
        figures.draw_score(
            axes, figures.score(self.results[0]), self.marks(), -1, self.colours, family
        )

    def drawer_open(self, is_open: bool) -> None:
        self.crowded = is_open
