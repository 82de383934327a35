"""Which device? One choice for level, one for change, one for daily use, and requirements."""

from __future__ import annotations

import math
from collections.abc import Callable, Generator, Sequence
from functools import partial
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QCheckBox, QComboBox, QGridLayout, QLineEdit, QWidget

from ....analysis.offsets.which_device import JOBS, MustHaves, WhichDeviceRequest, WhichDeviceResult
from ....domain.lens import Lens
from ....domain.metrics import metric_named
from ....domain.records import Instrument
from ....domain.snapshot import Snapshot
from ....figures import which_device as figures
from ....figures.style import Mark, Palette, marks_of
from ....wording import which_device as words
from ...pages import Surroundings
from ...widgets import Flow, Table, label, letters_wide, paired
from .view import ViewPage

if TYPE_CHECKING:
    from ...canvas import FigureView

NAMES, NARROW = 150, 16  # pixels left of the first figure, which names the devices, and of others


class WhichDevicePage(ViewPage[WhichDeviceResult]):
    """Which device for which job?"""

    key, owner, figure_name = "score", "score", "Error after correction"
    words = "Comparing devices"
    named = False
    missing = "Not enough data: needs readings of at least two devices near a scan."

    def __init__(self, around: Surroundings) -> None:
        super().__init__(around)
        self._request: Callable[[Snapshot, Lens], WhichDeviceRequest] = WhichDeviceRequest
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
            paired("Must show", self.metric_),
            self.segments,
            self.exports,
            paired("Price at most", self.price),
            paired("Failures at most (%)", self.failed),
            paired("Safe for", self.client),
        ):
            must.addWidget(part)
        self.choices = QWidget()
        self.choices.setLayout(must)
        self.column.insertWidget(3, self.choices)
        self.said = {job: label("", wrap=True) for job in JOBS}
        self.plots: dict[str, FigureView] = {}
        self.panels = QGridLayout()  # a grid, so that the rows of all figures stand level
        for k, job in enumerate(JOBS):
            self.panels.addWidget(label(words.TITLES[job], "strong"), 0, k)
            self.panels.addWidget(self.said[job], 1, k, Qt.AlignmentFlag.AlignTop)
            self.panels.setColumnStretch(k, 4 if job == "level" else 3)
        self.panels.setRowStretch(2, 1)
        self.picture.addLayout(self.panels, 3)
        self.cards = Table(list(words.HEADS), "All figures by device")
        self.cards.setMinimumHeight(130)
        self.picture.addWidget(self.cards, 2)
        self.side.hide()

    def _figure(self) -> FigureView:
        if self.figure is None:
            from ...canvas import FigureView

            for k, job in enumerate(JOBS):
                left = NAMES if job == "level" else NARROW
                plot = FigureView(f"{words.TITLES[job]}: errors of the devices", (left, 10, 70, 6))
                self.plots[job] = plot
                self.panels.addWidget(plot, 2, k)
            self.figure = self.plots["level"]
        return self.figure

    def refresh(self) -> None:
        self._fill()
        super().refresh()

    def _fill(self) -> None:
        shown = sorted(
            {m for _, kind, m in self.session.instruments_and_metrics() if kind == "device"}
        )
        names = [
            ("any metric", ""),
            *((m.label, m.id) for m in map(metric_named, shown) if m is not None),
        ]
        people = [
            ("all clients", ""),
            *((c.code, c.code) for c in self.session.catalogue().clients.values() if c.cautions),
        ]
        for box, there in ((self.metric_, names), (self.client, people)):
            if [box.itemData(k) for k in range(box.count())] != [d for _, d in there]:
                chosen = box.currentData()
                box.clear()
                for text, data in there:
                    box.addItem(text, data)
                box.setCurrentIndex(max(box.findData(chosen), 0))

    def _number(self, field: QLineEdit) -> float | None:
        """What is typed; None, and a sentence, where it is no number of 0 or more."""
        text = field.text().strip()
        try:
            value = float(text.replace(",", ".")) if text else None
        except ValueError:
            value = math.nan
        if value is not None and not value >= 0:
            self.message.emit(f'"{text[:20]}" is not a number of 0 or more: no limit is set.', True)
            return None
        return value

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
        named = {i.name: i.id for i in items.instruments.values()}
        has = {i: set(m) for i, m in items.offers.items()}
        for name, _, metric in self.session.instruments_and_metrics():
            has.setdefault(named.get(name, 0), set()).add(metric)
        offers = {i: frozenset(m) for i, m in has.items()}
        self._request = lambda snapshot, lens: WhichDeviceRequest(snapshot, lens, must, offers)
        super().ask()

    def request(
        self, snapshot: Snapshot, lens: Lens
    ) -> Generator[float, None, Sequence[WhichDeviceResult]]:
        return ((yield from self._request(snapshot, lens).run()),)

    def instrument_of(self, result: WhichDeviceResult) -> Instrument:
        return Instrument(0, "all", "device")

    def marks(self, palette: Palette | None = None) -> tuple[Mark, ...]:
        palette = self.colours if palette is None else palette
        known = marks_of(self.session.catalogue().instruments.values(), palette)
        return tuple(known(c.instrument) for c in self.results[0].cards)

    def answer(self, found: Sequence[WhichDeviceResult]) -> None:
        super().answer(found)
        self.side.hide()
        self.cards.fill(words.which_device_lines(found[0]))
        self.cards.show()

    def no_answer(self, text: str) -> None:
        super().no_answer(text)
        self.cards.hide()
        for job in JOBS:
            self.said[job].setText("")
        for plot in self.plots.values():
            plot.hide()

    def paint(self) -> None:
        super().paint()
        if not self.results:
            return
        r = self.results[0]
        self.under.setText(self.notes_of(r))
        self.under.setVisible(bool(r.notes))
        for job in JOBS:
            self.said[job].setText(words.job_words(r, job))
            self.plots[job].show()
        for job in JOBS[1:]:
            self.plots[job].redraw(
                partial(self._draw, job), self.colours, partial(self._content, job)
            )

    def draw(self, axes: Any, family: str, palette: Palette) -> None:
        self._draw("level", axes, family, palette)

    def content(self) -> figures.JobInfo:
        return self._content("level")

    def _content(self, job: str) -> figures.JobInfo:
        return figures.info(self.results[0], job)

    def _draw(self, job: str, axes: Any, family: str, palette: Palette) -> None:
        what, marks = self._content(job), self.marks(palette)
        figures.draw(axes, what, marks, palette, family, named=job == "level")

    def drawer_open(self, is_open: bool) -> None:
        self.crowded = is_open
