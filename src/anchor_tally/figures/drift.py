"""The drift figure.

The difference through time with scans, setting periods and fitted line, and the control chart
below.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np

from ..analysis.pairs.offset_drift import WEEK
from ..analysis.time.drift import STEPPED, Change, DriftResult, Period
from ..domain.instants import zone_named
from ..domain.metrics import metric_of
from ..domain.snapshot import Floats, Ints, read_only
from ..stats.control_chart import Chart
from .style import Mark, Palette, dates, minus, points, prepare, ring

CLUSTER = 2.0  # days within which anchors share one upright line
LINES = 40  # clients up to which each one's points are joined


@dataclass(frozen=True, eq=False)
class DriftInfo:
    """What is drawn: instants and differences of anchors, whose they are; days of anchors.

    The line with its band, or levels of steps.
    """

    instant: Floats
    difference: Floats
    client: Ints
    anchors: Floats
    line: tuple[Floats, Floats, Floats, Floats] | None
    levels: tuple[tuple[float, float, float], ...]
    periods: tuple[Period, ...]
    changes: tuple[Change, ...]
    chart: Chart | None
    start: float
    end: float
    label: str
    zone: str


def info(r: DriftResult, zone: str) -> DriftInfo:
    """What the picture of a result shows.

    The client's own part is taken out of every difference.
    """
    m = metric_of(r.metric)
    unit = m.difference_unit
    if r.instant.size == 0:
        none = np.empty(0)
        return DriftInfo(
            none,
            none,
            np.empty(0, dtype=np.int64),
            none,
            None,
            (),
            (),
            r.changes,
            None,
            0.0,
            0.0,
            "",
            zone,
        )
    start, end = float(r.instant.min()), float(r.instant.max())
    anchors = np.sort(r.instant)
    anchors = anchors[np.append(True, np.diff(anchors) > CLUSTER * 86400)]
    line = None
    slope = r.slope if r.verdict != STEPPED else None
    if slope is not None and slope.slope.interval is not None and end > start:
        at = np.linspace(0, (end - start) / WEEK, 40)
        line = (start + at * WEEK, *slope.band(at))
    inside = tuple(c for c in r.changes if start - 30 * 86400 <= c.at <= end + 30 * 86400)
    label = f"device − scan, adjusted for client ({unit})"
    return DriftInfo(
        r.instant,
        r.centred,
        r.client,
        anchors,
        line,
        _levels(r, start, end),
        r.periods,
        inside,
        r.chart,
        start,
        end,
        label,
        zone,
    )


def _levels(r: DriftResult, start: float, end: float) -> tuple[tuple[float, float, float], ...]:
    """Mean difference of the spans between steps: from, to, level."""
    if r.verdict != STEPPED:
        return ()
    cuts = [start, *sorted(s.instant for s in r.steps), end]
    out = []
    for low, high in itertools.pairwise(cuts):
        inside = (r.instant >= low) & ((r.instant < high) if high < end else (r.instant <= high))
        if inside.any():
            out.append((low, high, float(r.centred[inside].mean())))
    return tuple(out)


def _days(what: DriftInfo, instants: Any) -> Any:
    zone = zone_named(what.zone)
    return np.array(
        [datetime.fromtimestamp(float(x), zone) for x in np.atleast_1d(instants)], dtype=object
    )


def draw(
    axes: Any,
    what: DriftInfo,
    mark: Mark,
    palette: Palette,
    family: str,
    point: int | None,
    at: float | None,
) -> None:
    """Points of anchors over spans of settings; dashed: a change that was noted.

    The line with its band, or the level of each span.

    ``at`` is an instant that was chosen in the picture.
    """
    prepare(axes, palette, family)
    if what.instant.size == 0:
        axes.text(
            0.5,
            0.5,
            "no scans with readings yet",
            transform=axes.transAxes,
            ha="center",
            color=palette.faint,
            fontfamily=family,
        )
        return
    low, high = float(what.difference.min()), float(what.difference.max())
    room = max(high - low, 1.0)
    axes.set_ylim(low - 0.12 * room, high + 0.3 * room)
    pad = max((what.end - what.start) * 0.03, 3 * 86400)
    axes.set_xlim(*_days(what, [what.start - pad, what.end + pad]))
    for k, p in enumerate(what.periods):
        ends = _days(
            what,
            [
                p.start if k else what.start - pad,
                p.end if k < len(what.periods) - 1 else what.end + pad,
            ],
        )
        if k % 2:
            axes.axvspan(*ends, color=palette.band, alpha=0.8, lw=0, zorder=0)
        axes.text(
            ends[0],
            0.985,
            f" {p.label}",
            transform=axes.get_xaxis_transform(),
            va="top",
            color=palette.faint,
            fontsize=9,
            fontfamily=family,
        )
    for x in _days(what, what.anchors):
        axes.axvline(x, color=palette.line, lw=1, zorder=1)
    for c in what.changes:
        x = _days(what, c.at)[0]
        axes.axvline(x, color=palette.warn, lw=1.4, ls=(0, (4, 3)), zorder=2)
        if c.setting:
            continue  # its name stands over the span that it begins
        axes.text(
            x,
            0.91,
            f" {c.words}",
            transform=axes.get_xaxis_transform(),
            va="top",
            color=palette.warn,
            fontsize=9,
            fontfamily=family,
        )
    axes.axhline(0, color=palette.reference, lw=1, zorder=1)
    when = _days(what, what.instant)
    clients = np.unique(what.client)
    if clients.size <= LINES:
        for c in clients:
            own = np.flatnonzero(what.client == c)
            own = own[np.argsort(what.instant[own])]
            axes.plot(
                when[own], what.difference[own], color=mark.colour, lw=0.8, alpha=0.25, zorder=2
            )
    points(axes, when, what.difference, mark, palette)
    if what.line is not None:
        x, middle, lower, upper = what.line
        days = _days(what, x)
        axes.fill_between(days, lower, upper, color=mark.colour, alpha=0.18, lw=0, zorder=1)
        axes.plot(days, middle, color=mark.colour, lw=2, ls=mark.line, zorder=4)
    for begin, end, level in what.levels:
        axes.plot(_days(what, [begin, end]), [level, level], color=mark.colour, lw=2.4, zorder=4)
    if point is not None:
        ring(axes, [when[point]], [what.difference[point]], palette)
    if at is not None:
        axes.axvline(_days(what, at)[0], color=palette.accent, lw=2, zorder=5)
    axes.yaxis.set_major_formatter(minus)
    axes.set_ylabel(what.label, fontfamily=family, fontsize=9)
    dates(axes)


def draw_chart(axes: Any, what: DriftInfo, mark: Mark, palette: Palette, family: str) -> None:
    """Draw the control chart.

    Moving averages of one-step errors, their limits, and rings round values beyond them.
    """
    prepare(axes, palette, family)
    chart = what.chart
    if chart is None:
        axes.text(
            0.5,
            0.5,
            "not enough scans for a control chart",
            transform=axes.transAxes,
            ha="center",
            color=palette.faint,
            fontfamily=family,
        )
        axes.set_xticks([])
        axes.set_yticks([])
        return
    # in the order of time, not by date: all clients of a day follow each other
    k = np.arange(1, chart.value.size + 1)
    axes.set_xlim(0, chart.value.size + 1)
    axes.axhline(0, color=palette.reference, lw=1)
    for x in np.flatnonzero(np.diff(chart.weeks) * 7 > CLUSTER) + 1.5:
        axes.axvline(x, color=palette.line, lw=1, zorder=0)
    for side in (1, -1):
        axes.plot(k, side * chart.limit, color=palette.faint, lw=1, ls="--")
    axes.plot(k, chart.value, color=mark.colour, lw=1.4, marker=mark.shape, ms=3)
    beyond = chart.signals
    if beyond.size:
        axes.plot(
            k[beyond],
            chart.value[beyond],
            ls="none",
            marker="o",
            ms=9,
            mfc="none",
            mec=palette.warn,
            mew=1.6,
        )
    top = max(float(np.abs(chart.value).max()), float(chart.limit.max())) * 1.25
    axes.set_ylim(-top, top)
    axes.yaxis.set_major_formatter(minus)
    axes.set_ylabel("EWMA (SD)", fontfamily=family, fontsize=9)
    axes.set_xlabel("scans in order of time (line: new day)", fontfamily=family, fontsize=9)


def positions(what: DriftInfo) -> Floats:
    """Where the points lie along the axis of time."""
    from matplotlib.dates import date2num

    return read_only(date2num(_days(what, what.instant)), np.float64)  # type: ignore[no-untyped-call, no-any-return]


def instant_at(position: float) -> float:
    """The instant of a place on the axis of time."""
    from matplotlib.dates import num2date

    return float(num2date(position).timestamp())  # type: ignore[no-untyped-call]
