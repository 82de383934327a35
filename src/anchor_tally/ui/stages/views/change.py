"""Change: four quadrants of changes, the noise set aside."""

from __future__ import annotations

from typing import Any

import numpy as np

from ....analysis.agreement.change import ChangeResult
from ....domain.records import Instrument
from ....figures import views as figures
from ....figures.style import Palette
from ...pages import EvidenceFor
from .view import ViewPage


class ChangePage(ViewPage[ChangeResult]):
    """Does it move when the scan moves?"""

    key, owner, figure_name = "change", "change", "Changes in four quadrants"
    words = "Computing changes"
    missing = "A change needs two scans of one client, with readings of the device at both."

    def instrument_of(self, result: ChangeResult) -> Instrument:
        return result.instrument

    def paint(self) -> None:
        super().paint()
        if self.results:
            self.under.setText(
                "Shaded: same direction. Dotted frame: within the error of the scan. Dashed line:"
                " perfect response; solid line: response of the device."
            )

    def draw(self, axes: Any, family: str, palette: Palette) -> None:
        figures.draw_quadrants(
            axes, self.content(), self.mark(palette), palette, family, self.point
        )

    def content(self) -> figures.QuadrantInfo:
        return figures.quadrants(self.results[self.chosen])

    def clicked(self, event: Any) -> None:
        r = self.results[self.chosen]
        found = self.nearest(event, r.dx, r.dy)
        if found is not None:
            self.choose_point(found)

    def open_point(self) -> EvidenceFor | None:
        r = self.results[self.chosen]
        if self.point is None:
            return None
        ids: list[int] = []
        for anchor in (int(r.first[self.point]), int(r.last[self.point])):
            at = np.flatnonzero(r.pairs.occasion == anchor).tolist()
            ids += [
                i
                for k in at
                for i in (
                    r.pairs.parts[k]
                    if r.pairs.parts and r.pairs.parts[k]
                    else (int(r.pairs.reading[k]),)
                )
            ]
            ids += r.pairs.reference_rows[anchor]
        return EvidenceFor(
            f"{r.instrument.name}: one change, both visits", readings=tuple(dict.fromkeys(ids))
        )
