"""Figure of a planned change across the bands of a device."""

from __future__ import annotations

from typing import Any

from ..analysis.plan.precision import WouldShow
from ..domain.metrics import metric_of
from .style import Palette, prepare


def draw(axes: Any, w: WouldShow, metric: str, palette: Palette, family: str) -> None:
    """Draw the true course from start to goal, with the bands of one morning and of seven."""
    prepare(axes, palette, family)
    x, y = (0.0, w.weeks), (w.start, w.start + w.change)
    for half, shade, words in (
        (w.band_single, 0.35, "95 % of single mornings"),
        (w.band_week, 0.9, "95 % of 7-day means"),
    ):
        low, high = [v - half for v in y], [v + half for v in y]
        axes.fill_between(
            x, low, high, color=palette.band, alpha=shade, lw=0, zorder=0, label=words
        )
        for edge in (low, high):
            axes.plot(x, edge, color=palette.faint, lw=0.8, zorder=1)
    axes.plot(x, y, color=palette.accent, lw=2.2, zorder=2, label="true course")
    axes.margins(0.02, 0.1)
    legend = axes.legend(loc="best", frameon=False, prop={"family": family, "size": 8})
    for text in legend.get_texts():
        text.set_color(palette.ink)
    m = metric_of(metric)
    axes.set_xlabel("weeks", fontfamily=family, fontsize=9)
    axes.set_ylabel(f"{m.label} ({m.symbol})", fontfamily=family, fontsize=9)
