"""Figure of one client's level from all sources: course with band, scans, readings behind it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from ..analysis.time.best_estimate_result import BestEstimateResult, SourcePoints
from ..analysis.time.track import TrackResult
from ..domain.metrics import metric_of
from ..stats.estimate import Floats, FrozenArrays, Ints
from ..wording.names import short_name
from .style import Mark, Palette, dates, prepare
from .track import draw_days, draw_goal, events_of, plot_days


@dataclass(frozen=True, eq=False)
class BestCourseInfo(FrozenArrays):
    """Content of the figure: course (q,) with the ends of its 95 % interval, scans, readings."""

    day: Ints
    level: Floats
    low: Floats
    high: Floats
    scans: SourcePoints | None
    readings: tuple[SourcePoints, ...]
    scan_half: float
    events: tuple[tuple[int, int, str], ...]
    since: int
    until: int
    goal: float | None
    label: str


def in_unit(what: BestCourseInfo, factor: float, label: str) -> BestCourseInfo:
    """The same picture in another unit: ``factor`` times each value, under this label."""

    def scaled(points: SourcePoints) -> SourcePoints:
        return replace(points, value=points.value * factor)

    return replace(
        what,
        level=what.level * factor,
        low=what.low * factor,
        high=what.high * factor,
        scans=None if what.scans is None else scaled(what.scans),
        readings=tuple(map(scaled, what.readings)),
        scan_half=what.scan_half * factor,
        goal=None if what.goal is None else what.goal * factor,
        label=label,
    )


def info(track: TrackResult, r: BestEstimateResult) -> BestCourseInfo:
    """What the figure of a client shows: ``r`` with the events of ``track``."""
    m = metric_of(r.metric)
    label = f"{m.label} ({m.symbol})" if m.symbol else m.label
    if r.relative:
        label = f"{m.label}: change since the first day ({m.difference_unit})"
    elif not r.tied:
        label += f", level of {short_name(r.anchor)}"
    return BestCourseInfo(
        r.day,
        r.level,
        r.low,
        r.high,
        next((p for p in r.points if p.scan), None),
        tuple(p for p in r.points if not p.scan),
        1.96 * r.scan_sd,
        events_of(track),
        r.change.since,
        r.change.until,
        None if r.goal is None or r.relative else r.goal.goal,
        label,
    )


def draw(
    axes: Any, what: BestCourseInfo, marks: Mapping[str, Mark], palette: Palette, family: str
) -> None:
    """Draw the course on ``axes``; ``marks`` are by name of the instrument."""
    prepare(axes, palette, family)
    told = (what.since, what.until) if what.since < what.until else ()
    draw_days(axes, what.events, told, palette, family)
    if what.goal is not None:
        draw_goal(axes, what.goal, palette, family)
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
    axes.fill_between(x, what.low, what.high, color=palette.accent, alpha=0.2, lw=0, zorder=2)
    axes.plot(x, what.level, color=palette.accent, lw=2.4, zorder=3)
    if what.scans is not None:
        mark = marks[what.scans.name]
        at = plot_days(what.scans.day) + 0.5
        for x_scan, value in zip(at.tolist(), what.scans.value.tolist(), strict=True):
            ends = [value - what.scan_half, value + what.scan_half]
            axes.plot([x_scan, x_scan], ends, color=mark.colour, lw=1.2, zorder=4)
        axes.plot(
            at,
            what.scans.value,
            ls="none",
            marker=mark.shape,
            ms=8,
            color=mark.colour,
            mec=palette.surface,
            zorder=4,
        )
    dates(axes)
    axes.set_ylabel(what.label, fontfamily=family, fontsize=9)
    less = "open: less offset" if what.scans is not None else "open: readings"
    scan = "diamond: scan; " if what.scans is not None else ""
    axes.set_xlabel(f"band: 95 % interval; {scan}{less}", fontfamily=family, fontsize=9)
