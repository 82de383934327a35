"""Consistency: strips of repeats over bands of minutes and days."""

from __future__ import annotations

from collections.abc import Generator, Sequence
from typing import Any

from PyQt6.QtWidgets import QComboBox

from ....analysis.agreement.repeatability import RepeatabilityResult
from ....app.views import Ask
from ....domain.lens import Lens
from ....domain.records import Instrument
from ....domain.snapshot import Snapshot
from ....figures import views as figures
from ....figures.style import Palette
from ....stats.near_days import MOST_NEAR_DAYS, NEAR_DAYS
from ....wording.numbers import count
from ...pages import EvidenceFor, Surroundings
from ...widgets import Flow, paired
from .view import ViewPage

MOST = 500


class RepeatabilityPage(ViewPage[RepeatabilityResult]):
    """How far do repeats differ?"""

    key, owner, figure_name = "consistency", "consistency", "Repeats of all devices"
    words = "Computing repeatability"
    margins = (150, 20, 52, 8)
    named = False
    missing = "Take two or three readings of a device minutes apart, on several days."

    def __init__(self, around: Surroundings) -> None:
        super().__init__(around)
        self.near = QComboBox()
        for days in range(1, MOST_NEAR_DAYS + 1):
            self.near.addItem(count(days, "day"), days)
        self.near.setCurrentIndex(self.near.findData(NEAR_DAYS))
        self.near.activated.connect(lambda _k: self.ask())
        row = Flow()
        row.addWidget(paired("Day to day: visits apart by up to", self.near))
        self.column.insertLayout(1, row)

    def request(
        self, snapshot: Snapshot, lens: Lens
    ) -> Generator[float, None, Sequence[RepeatabilityResult]]:
        near = int(self.near.currentData())
        return self.answered_by.ask(Ask(snapshot, lens, near_days=near))

    def instrument_of(self, result: RepeatabilityResult) -> Instrument:
        return result.instrument

    def paint(self) -> None:
        super().paint()
        if self.results:
            near = count(int(self.near.currentData()), "day")
            self.under.setText(
                "Dark band: ± 2 SD of repeats minutes apart. Light band: ± 2 SD from day to day"
                f" (visits at most {near} apart)."
            )

    def draw(self, axes: Any, family: str, palette: Palette) -> None:
        figures.draw_strips(axes, self.content(), self.marks(palette), self.chosen, palette, family)

    def content(self) -> figures.StripInfo:
        return figures.strips(self.results)

    def clicked(self, event: Any) -> None:
        if event.ydata is not None:
            self.choose(round(-event.ydata))

    def open_point(self) -> EvidenceFor | None:
        r = self.results[self.chosen]
        worst = sorted(range(r.deviation.size), key=lambda k: -abs(r.deviation[k]))[:MOST]
        return EvidenceFor(
            f"{r.instrument.name}: repeats, largest deviations first",
            readings=tuple(int(r.reading[k]) for k in worst),
        )
