"""Figure of the precision planner: expected half-width by scans, a line for each repeats."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from ..analysis.plan.precision import Curve
from ..domain.metrics import metric_of
from ..wording.numbers import count, number
from ..wording.plan import INTERVALS
from .style import Palette, prepare

STYLES = ("-", "--", ":", "-.")


@dataclass(frozen=True, slots=True)
class PrecisionInfo:
    """Lines by number of repeats, the wanted half-width, the chosen design, axis labels."""

    scans: tuple[int, ...]
    lines: tuple[tuple[str, tuple[float | None, ...]], ...]
    wanted: float | None
    chosen: tuple[int, float] | None
    label: str


def info(c: Curve, metric: str) -> PrecisionInfo:
    """What the figure shows."""
    chosen = None
    for repeats, widths in c.lines:
        if repeats == c.design.repeats and c.design.scans in c.scans:
            at = widths[c.scans.index(c.design.scans)]
            chosen = (c.design.scans, at) if at is not None else None
    unit = metric_of(metric).difference_unit
    lines = tuple((count(k, "repeat"), widths) for k, widths in c.lines)
    return PrecisionInfo(c.scans, lines, c.wanted, chosen, f"{INTERVALS[c.interval]}: ± {unit}")


def draw(axes: Any, what: PrecisionInfo, palette: Palette, family: str) -> None:
    """Draw one line a number of repeats; the wanted half-width as a band from zero."""
    prepare(axes, palette, family)
    if what.wanted is not None:
        axes.axhspan(0, what.wanted, color=palette.band, lw=0, zorder=0)
        axes.text(
            what.scans[-1],
            what.wanted,
            f"wanted: ±{number(what.wanted)}",
            ha="right",
            va="bottom",
            color=palette.faint,
            fontsize=8,
            fontfamily=family,
        )
    ends: list[float] = []
    for k, (words, widths) in enumerate(what.lines):
        points = [(s, w) for s, w in zip(what.scans, widths, strict=True) if w is not None]
        if not points:
            continue
        x, y = zip(*points, strict=True)
        ends += y
        style = STYLES[k % len(STYLES)]
        colour = palette.inks[k % len(palette.inks)]
        axes.plot(x, y, style, color=colour, lw=1.8, label=words, zorder=2)
    if what.chosen is not None:
        axes.plot(
            *what.chosen, marker="o", ms=9, color=palette.accent, mec=palette.surface, zorder=3
        )
    if ends:
        axes.set_ylim(0, 1.12 * max([*ends, what.wanted or 0.0]) or 1.0)
        legend = axes.legend(loc="upper right", frameon=False, prop={"family": family, "size": 9})
        for text in legend.get_texts():
            text.set_color(palette.ink)
    axes.set_xlim(what.scans[0] - 0.3, what.scans[-1] + 0.3)
    axes.set_xticks(what.scans)
    axes.set_xlabel("scans of each client", fontfamily=family, fontsize=9)
    axes.set_ylabel(what.label, fontfamily=family, fontsize=9)
