"""Look-alikes: which devices move as one, which values are computed, whether parts add up."""

from __future__ import annotations

from collections.abc import Generator, Sequence
from typing import Any

from ....analysis.alike import AS_ONE, AlikeRequest, AlikeResult
from ....domain.lens import Lens
from ....domain.records import Instrument
from ....domain.snapshot import Snapshot
from ....figures import faces as figures
from ....wording import faces as words
from ....wording.statistics import Line
from .face import FacePage


class AlikePage(FacePage):
    """Which are opinions of their own?"""

    key, owner, figure_name = "alike", "alike", "Correlations within clients"
    words = "Comparing devices with each other"
    margins = (110, 10, 80, 10)
    missing = "It needs two devices that were read at the same visits, eight or more."

    def metrics(self) -> tuple[str, ...]:
        shown = {m for _, kind, m in self.session.instrument_lanes() if kind == "device"}
        return tuple(dict.fromkeys((self.session.lens.metric, *sorted(shown))))

    def request(self, snapshot: Snapshot, lens: Lens) -> Generator[Any, None, Any]:
        return AlikeRequest(snapshot, lens).run()

    def say(self, result: AlikeResult) -> str:
        return words.alike_headline(result)

    def lines(self, result: AlikeResult) -> Sequence[Line]:
        return words.alike_lines(result)

    def instrument_of(self, result: AlikeResult) -> Instrument:
        return Instrument(0, "all", "device")

    def paint(self) -> None:
        super().paint()
        if self.results:
            self.under.setText(
                "Correlation of visit values within clients, each client's trend removed; the larger the square, the more alike. "
                f"Framed: {AS_ONE} and more, they move as one. Two that share a formula also share its errors."
            )

    def draw(self, axes: Any, family: str) -> None:
        figures.draw_matrix(axes, figures.matrix(self.results[0]), self.colours, family)
