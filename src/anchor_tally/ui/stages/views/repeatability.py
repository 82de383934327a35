"""Consistency: strips of repeats over bands of minutes and days."""

from __future__ import annotations

from typing import Any

from ....analysis.agreement.repeatability import RepeatabilityResult
from ....domain.records import Instrument
from ....figures import views as figures
from ...pages import EvidenceFor
from .view import ViewPage

MOST = 500


class RepeatabilityPage(ViewPage[RepeatabilityResult]):
    """How far do repeats differ?"""

    key, owner, figure_name = "consistency", "consistency", "Repeats of all devices"
    words = "Computing repeatability"
    margins = (150, 20, 52, 8)
    named = False
    missing = "Take two or three readings of a device minutes apart, on several days."

    def instrument_of(self, result: RepeatabilityResult) -> Instrument:
        return result.instrument

    def paint(self) -> None:
        super().paint()
        if self.results:
            self.under.setText(
                "Dark band: ± 2 SD of repeats minutes apart. Light band: ± 2 SD from day to day"
                " (visits at most three days apart)."
            )

    def draw(self, axes: Any, family: str) -> None:
        figures.draw_strips(
            axes, figures.strips(self.results), self.marks(), self.chosen, self.colours, family
        )

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
