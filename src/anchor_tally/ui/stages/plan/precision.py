"""Precision planner: how many clients, scans, mornings and repeats, and what one more brings."""

from __future__ import annotations

import math
from collections.abc import Generator
from dataclasses import replace
from types import MappingProxyType
from typing import TYPE_CHECKING

from PyQt6.QtCore import Qt, QTimer, pyqtSignal
from PyQt6.QtWidgets import (
    QComboBox,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QScrollArea,
    QSlider,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from ....analysis.plan.precision import (
    USUAL,
    Curve,
    CurveRequest,
    Precision,
    PrecisionRequest,
    Source,
    SpreadsRequest,
    StudySpreads,
    group_power,
    mornings_counted,
    would_show,
)
from ....app.jobs import Job
from ....app.session import Session
from ....domain.costs import Costs
from ....domain.lens import Lens
from ....domain.metrics import metric_of
from ....domain.text import as_sentence
from ....figures.style import Palette
from ....stats.planning import Design, Spreads
from ....wording.numbers import number, span
from ....wording.plan import (
    INTERVALS,
    ORIGINS,
    group_words,
    option_rows,
    option_sentences,
    power_words,
    precision_headline,
    would_show_words,
)
from ...widgets import Table, label, paired
from .tab import Tab

if TYPE_CHECKING:
    from ....figures.precision import PrecisionInfo
    from ...canvas import FigureView

SPREADS = (
    ("client", "Offset between clients"),
    ("scan", "One scan"),
    ("day", "Device, day to day"),
    ("repeat", "Device, repeats"),
)
LEVERS = (
    ("clients", "Clients", 2, 200),
    ("scans", "Scans of each", 1, 12),
    ("mornings", "Mornings around a scan", 1, 14),
    ("repeats", "Repeats on a morning", 1, 10),
)
REST_MS = 250  # after the last change of a slider the fine computation begins


class PrecisionTab(Tab):
    """The planner. ``told`` carries its first sentence, ``ready`` comes with the table."""

    told = pyqtSignal(str)
    ready = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.sources: dict[str, Source] = {}
        self.found: dict[str, StudySpreads] = {}
        self.plan: Precision | None = None
        self.figure: FigureView | None = None
        self.curve: PrecisionInfo | None = None
        self._asked = -1
        self._filling = False
        self.device, self.interval = QComboBox(), QComboBox()
        for key, words in INTERVALS.items():
            self.interval.addItem(words, key)
        self.device.activated.connect(lambda _k: self._ask_spreads())
        self.interval.activated.connect(lambda _k: self._follow())
        form = QFormLayout()
        form.setVerticalSpacing(4)
        form.setRowWrapPolicy(QFormLayout.RowWrapPolicy.WrapLongRows)
        self.sliders: dict[str, QSlider] = {}
        self.spins: dict[str, QSpinBox] = {}
        for key, words, low, high in LEVERS:
            form.addRow(label(words, "faint"), self._lever(key, words, low, high))
        self.fields: dict[str, QLineEdit] = {}
        self.origins = {key: label("", "faint", wrap=True) for key, _ in SPREADS}
        for key, words in SPREADS:
            field = QLineEdit()
            field.setFixedWidth(64)
            field.setAccessibleName(f"SD: {words}")
            field.editingFinished.connect(lambda k=key: self._typed(k))
            self.fields[key] = field
            holder = QWidget()
            row = QHBoxLayout(holder)
            row.setContentsMargins(0, 0, 0, 0)
            row.addWidget(field)
            row.addWidget(self.origins[key], 1)
            form.addRow(label(f"SD: {words}", "faint"), holder)
        self.change, self.weeks, self.start = QLineEdit("-2"), QLineEdit("8"), QLineEdit("22")
        self.shows = QComboBox()
        self.shows.addItem("the half-width by scans", "half")
        self.shows.addItem("what it would show of a change", "change")
        self.shows.activated.connect(lambda _k: self._follow())
        self.would = label("", wrap=True)
        self.wanted, self.minutes, self.money = QLineEdit(), QLineEdit("30"), QLineEdit()
        for words, field, hint in (
            ("Wanted half-width (±)", self.wanted, "none"),
            ("Minutes for a scan", self.minutes, "30"),
            ("Money for a scan", self.money, "0"),
            ("Planned change", self.change, "-2"),
            ("in weeks", self.weeks, "8"),
            ("Value at the start", self.start, "22"),
        ):
            field.setMaximumWidth(80)
            field.setPlaceholderText(hint)
            field.setAccessibleName(words)
            field.editingFinished.connect(self._follow)
            form.addRow(label(words, "faint"), field)
        holder = QWidget()
        holder.setObjectName("page")
        column = QVBoxLayout(holder)
        column.setContentsMargins(0, 0, 8, 0)
        column.addWidget(paired("Device", self.device))
        column.addWidget(paired("Plan for", self.interval))
        column.addLayout(form)
        column.addStretch(1)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(holder)
        scroll.setMinimumWidth(380)
        self.picture = QVBoxLayout()
        self.sentences = label("", wrap=True)
        self.table = Table(
            ["Change of the design", "Half-width", "Scans", "Hours", "Money"], "What more brings"
        )
        self.table.setMinimumHeight(140)
        self.power = label("", "faint", wrap=True)
        right = QVBoxLayout()
        right.addWidget(paired("Picture", self.shows))
        right.addLayout(self.picture, 3)
        right.addWidget(self.would)
        right.addWidget(self.sentences)
        right.addWidget(self.table, 2)
        right.addWidget(self.power)
        box = QHBoxLayout(self)
        box.setContentsMargins(0, 6, 0, 0)
        box.setSpacing(14)
        self.refused = label("", "warn", wrap=True)
        left = QVBoxLayout()
        left.addWidget(scroll, 1)
        left.addWidget(self.refused)  # below what scrolls, so that it is always seen
        box.addLayout(left, 2)
        box.addLayout(right, 3)
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(REST_MS)
        self._rest.timeout.connect(self._compute)
        self._set(USUAL, dict.fromkeys(("client", "scan", "day", "repeat"), Source("usual")))

    def _lever(self, key: str, words: str, low: int, high: int) -> QWidget:
        slider, spin = QSlider(Qt.Orientation.Horizontal), QSpinBox()
        for w in (slider, spin):
            w.setRange(low, high)
        slider.setAccessibleName(f"{words} (slider)")
        spin.setAccessibleName(words)
        spin.setMaximumWidth(70)
        slider.valueChanged.connect(spin.setValue)
        spin.valueChanged.connect(slider.setValue)
        spin.valueChanged.connect(lambda _v: self._follow())
        self.sliders[key], self.spins[key] = slider, spin
        holder = QWidget()
        row = QHBoxLayout(holder)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(slider, 1)
        row.addWidget(spin)
        return holder

    # what is known
    @property
    def planned_metric(self) -> str:
        """The metric that is planned for: that of the lens."""
        return self.session.lens.metric

    def refresh(self) -> None:
        """Offer the devices of the study; ask for its spreads when it has changed."""
        if self.session.writing or self._asked == self.session.edits:
            self._tell()
            return
        first = self._asked < 0
        self._asked = self.session.edits
        self.found.clear()
        names = [n for n, kind in self.session.readers(self.planned_metric) if kind == "device"]
        now = self.device.currentText()
        self.device.clear()
        self.device.addItems([*names, "a usual device"])
        self.device.setCurrentIndex(max(self.device.findText(now), 0))
        if first:
            self._set_design(Design(max(len(self.session.catalogue().clients), 8), 2, 1, 3))
        self._ask_spreads()

    def _ask_spreads(self) -> None:
        name, metric = self.device.currentText(), self.planned_metric
        if self.device.currentIndex() == self.device.count() - 1:
            self._set(USUAL, dict.fromkeys(("client", "scan", "day", "repeat"), Source("usual")))
            self._follow()
            return
        if name in self.found:
            self._known(name, self.found[name])
            return
        job = Job(
            "Computing the spreads of the device",
            lambda: self.session.snapshot_steps(metric),
            lambda s: SpreadsRequest(s, Lens(metric), name).run(),
        )
        assert self.jobs is not None
        self.jobs.start("spreads", job, lambda found: self._known(name, found), self._unknown)

    def _unknown(self, text: str) -> None:
        """The study has no pairs of this device: usual values stand for it."""
        self._set(USUAL, dict.fromkeys(("client", "scan", "day", "repeat"), Source("usual")))
        self._follow()
        self.refused.setText(as_sentence(f"{text}: usual values are used"))

    def _known(self, name: str, found: StudySpreads) -> None:
        first = not self.found
        self.found[name] = found
        if first and found.design is not None:
            self._set_design(found.design)
        self._set(found.spreads, dict(found.sources))
        self._follow()

    def _set_design(self, d: Design) -> None:
        self._filling = True
        for key, spin in self.spins.items():
            spin.setValue(getattr(d, key))
        self._filling = False

    def _set(self, s: Spreads, sources: dict[str, Source]) -> None:
        self.sources = sources
        for key, _ in SPREADS:
            self.fields[key].setText(number(getattr(s, key), 2))
            source = sources[key]
            said = ORIGINS[source.origin]
            if source.interval is not None:
                unit = metric_of(self.planned_metric).difference_unit
                said += f", 95 % CI {span(source.interval, 1)} {unit}"
            self.origins[key].setText(said)

    def _typed(self, key: str) -> None:
        if self.fields[key].isModified():
            self.fields[key].setModified(False)
            self.sources[key] = Source("typed")
            self.origins[key].setText(ORIGINS["typed"])
            self._follow()

    # computing
    def _number(self, field: QLineEdit, words: str, low: float = 0.0) -> float | None:
        text = field.text().strip().replace(",", ".").replace("−", "-")
        if not text:
            return None
        try:
            value = float(text)
        except ValueError:
            value = math.nan
        if not low <= value < 1e4:
            least = f"{low:g}".replace("-", "−")
            raise ValueError(f"{words}: “{field.text()[:20]}” is not a number of {least} or more")
        return value

    def _inputs(self) -> tuple[Spreads, Design, float | None, Costs] | None:
        """What is typed; None, and a sentence, where something is no number."""
        try:
            values = {k: self._number(self.fields[k], f"SD: {words}") for k, words in SPREADS}
            wanted = self._number(self.wanted, "Wanted half-width", 0.001)
            minutes = self._number(self.minutes, "Minutes for a scan")
            money = self._number(self.money, "Money for a scan")
        except ValueError as error:
            self.refused.setText(f"{error}.")
            return None
        spreads = Spreads(
            **{k: v if v is not None else 0.0 for k, v in values.items()},
            correlation=self._of_study().correlation,
        )
        if spreads.day + spreads.scan + spreads.repeat == 0:
            self.refused.setText("Without any spread there is nothing to plan: type an SD.")
            return None
        design = Design(**{key: spin.value() for key, spin in self.spins.items()})
        there = self._design_of_study()
        if there is not None and there.scans == design.scans:  # as many were missed so far
            design = replace(design, kept=there.kept)
        costs = Costs(
            scan_minutes=30.0 if minutes is None else minutes, money=0.0 if money is None else money
        )
        return spreads, design, wanted, costs

    def _of_study(self) -> Spreads:
        """The spreads of the chosen device as the study has them; else the usual ones."""
        found = self.found.get(self.device.currentText())
        return USUAL if found is None else found.spreads

    def _design_of_study(self) -> Design | None:
        """The design behind them."""
        found = self.found.get(self.device.currentText())
        return None if found is None else found.design

    def _follow(self) -> None:
        """Draw the picture at once, and compute the rest when the slider rests."""
        if self._filling or self.jobs is None:
            return
        self.refused.setText("")
        given = self._inputs()
        if given is None:
            return
        spreads, design, wanted, _ = given
        self._rest.start()
        if self._would(spreads, design):
            return
        request = CurveRequest(spreads, design, self.interval.currentData(), wanted)
        job = Job("Drawing the plan", _nothing, lambda _x: request.run())
        self.jobs.start("curve", job, self._draw, self._failed)

    def _compute(self) -> None:
        given = self._inputs()
        if given is None or self.jobs is None:
            return
        spreads, design, wanted, costs = given
        margin = self.session.catalogue().margin(metric_of(self.planned_metric))
        request = PrecisionRequest(
            spreads,
            MappingProxyType(dict(self.sources)),
            design,
            self.interval.currentData(),
            wanted,
            margin,
            costs=costs,
            counted=mornings_counted(self.session.lens),
        )
        job = Job("Computing the plan", _nothing, lambda _x: request.run())
        self.jobs.start("precision", job, self._answer, self._failed)

    def _failed(self, text: str) -> None:
        self.refused.setText(text)

    def _would(self, spreads: Spreads, design: Design) -> bool:
        """Say what the device would show of a planned change; returns whether it is the picture."""
        try:
            change = self._number(self.change, "Planned change", -100)
            weeks = self._number(self.weeks, "Weeks", 0.1)
            start = self._number(self.start, "Value at the start")
        except ValueError as error:
            self.refused.setText(f"{error}.")
            self.would.setText("")
            return False
        if not change or weeks is None or start is None:
            self.would.setText("")
            return False
        found = would_show(spreads, change, weeks, start, design.repeats)
        group = group_power(spreads, change, design.clients, design.repeats)
        self.would.setText(
            f"{would_show_words(found, self.planned_metric)}"
            f" {group_words(group, self.planned_metric)}"
        )
        if self.shows.currentData() != "change":
            return False
        from ....figures import would_show as figure

        self._canvas().redraw(
            lambda axes, family, palette: figure.draw(
                axes, found, self.planned_metric, palette, family
            ),
            self.colours,
            lambda: found,
        )
        return True

    def _canvas(self) -> FigureView:
        from ...canvas import FigureView

        if self.figure is None:
            self.figure = FigureView("Picture of the plan", (60, 14, 48, 8))
            self.figure.setMinimumHeight(160)
            self.picture.addWidget(self.figure)
        return self.figure

    def _draw(self, found: Curve) -> None:
        from ....figures import precision as figure

        what = figure.info(found, self.planned_metric)
        self.curve = what
        self._canvas().redraw(
            lambda axes, family, palette: figure.draw(axes, what, palette, family),
            self.colours,
            lambda: what,
        )

    def _answer(self, found: Precision) -> None:
        self.plan = found
        self.table.fill(option_rows(found, self.planned_metric))
        self.sentences.setText(" ".join(option_sentences(found, self.planned_metric)))
        self.power.setText(" ".join(power_words(found, self.planned_metric)))
        self._tell()
        self.ready.emit()

    def _tell(self) -> None:
        if self.plan is not None:
            name = self.device.currentText()
            head = name[:1].upper() + name[1:]
            self.told.emit(f"{head}. {precision_headline(self.plan, self.planned_metric)}")

    def set_palette(self, palette: Palette) -> None:
        """Choose the theme."""
        self.colours = palette
        if self.figure is not None and self.jobs is not None:
            self._follow()


def _nothing() -> Generator[float, None, None]:
    """Nothing is read for a plan."""
    yield 0.0
