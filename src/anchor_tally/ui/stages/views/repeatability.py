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

    key, owner, figure_name = "consistency", "consistency", "Strips of repeats"
    words = "Looking at repeats"
    margins = (150, 20, 52, 8)
    named = False
    missing = "Take two or three readings of a device minutes apart, on several days."

    def instrument_of(self, result: RepeatabilityResult) -> Instrument:
        return result.instrument

    def paint(self) -> None:
        super().paint()
        if self.results:
            self.under.setText(
                "Strong band: two SDs of repeats minutes apart. Pale band: two SDs of a client's"
                " value from day to day, change and all."
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
            f"{r.instrument.name}: repeats, those farthest off first",
            readings=tuple(int(r.reading[k]) for k in worst),
        )
