"""Figure of one client's level from all sources: course with band, scans, readings behind it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from ..analysis.time.best_estimate import BestEstimateResult, SourcePoints
from ..domain.metrics import metric_of
from ..stats.estimate import Floats, FrozenArrays, Ints
from .style import Mark, Palette, dates, prepare
from .track import plot_days


@dataclass(frozen=True, eq=False)
class BestCourseInfo(FrozenArrays):
    """Content of the figure: course (q,) with half its 95 % interval, scans, other readings."""

    day: Ints
    level: Floats
    half: Floats
    scans: SourcePoints | None
    readings: tuple[SourcePoints, ...]
    scan_half: float
    since: int
    until: int
    label: str


def info(r: BestEstimateResult) -> BestCourseInfo:
    """What the figure of a result shows."""
    m = metric_of(r.metric)
    return BestCourseInfo(
        r.day,
        r.level,
        r.half,
        next((p for p in r.points if p.scan), None),
        tuple(p for p in r.points if not p.scan),
        1.96 * r.scan_sd,
        r.since,
        r.until,
        f"{m.label} ({m.symbol})" if m.symbol else m.label,
    )


def draw(
    axes: Any, what: BestCourseInfo, marks: Mapping[str, Mark], palette: Palette, family: str
) -> None:
    """Draw the course on ``axes``; ``marks`` are by name of the instrument."""
    prepare(axes, palette, family)
    for p in what.readings:
        mark = marks[p.name]
        axes.plot(
            plot_days(p.day) + 0.5,
            p.value,
            ls="none",
            marker=mark.shape,
            ms=4,
            mfc="none",
            mec=mark.colour,
            alpha=0.45,
            zorder=1,
        )
    x = plot_days(what.day) + 0.5
    low, high = what.level - what.half, what.level + what.half
    axes.fill_between(x, low, high, color=palette.accent, alpha=0.2, lw=0, zorder=2)
    axes.plot(x, what.level, color=palette.accent, lw=2.4, zorder=3)
    if what.scans is not None:
        mark = marks[what.scans.name]
        axes.errorbar(
            plot_days(what.scans.day) + 0.5,
            what.scans.value,
            yerr=what.scan_half,
            ls="none",
            marker=mark.shape,
            ms=8,
            color=mark.colour,
            mec=palette.surface,
            elinewidth=1.2,
            zorder=4,
        )
    dates(axes)
    axes.set_ylabel(what.label, fontfamily=family, fontsize=9)
    axes.set_xlabel("band: 95 %; diamond: scan; open: less offset", fontfamily=family, fontsize=9)
