"""Look-alikes: which devices move as one, which values are computed, whether parts add up."""

from __future__ import annotations

from typing import Any

from ....analysis.agreement.redundancy import AS_ONE, RedundancyResult
from ....domain.records import Instrument
from ....figures import views as figures
from ....figures.style import Palette
from .view import ViewPage


class RedundancyPage(ViewPage[RedundancyResult]):
    """Which are opinions of their own?"""

    key, owner, figure_name = "alike", "alike", "Correlations within clients"
    words = "Comparing devices with each other"
    margins = (110, 10, 80, 10)
    missing = "Not enough data: needs two devices read at the same 8 visits or more."

    def metrics(self) -> tuple[str, ...]:
        shown = {m for _, kind, m in self.session.instruments_and_metrics() if kind == "device"}
        return tuple(dict.fromkeys((self.session.lens.metric, *sorted(shown))))

    def instrument_of(self, result: RedundancyResult) -> Instrument:
        return Instrument(0, "all", "device")

    def paint(self) -> None:
        super().paint()
        if self.results:
            self.under.setText(
                "Correlation within clients, each client's trend removed: larger squares are more"
                f" similar. Framed: {AS_ONE} or more. Devices that behave alike may share a sensor,"
                " a formula or the same response to water."
            )

    def draw(self, axes: Any, family: str, palette: Palette) -> None:
        figures.draw_matrix(axes, self.content(), palette, family)

    def content(self) -> figures.MatrixInfo:
        return figures.matrix(self.results[0])
