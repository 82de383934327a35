"""The difference plot.

Difference against the mean of both, with bias, limits and their intervals.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..analysis.agreement.agreement import CompareResult
from ..domain.metrics import metric_of
from ..domain.snapshot import Floats, Ints, read_only
from ..stats.estimate import Interval
from ..wording.names import axis_name
from ..wording.numbers import signed
from .style import Mark, Palette, minus, points, prepare, ring

MOST = 4000  # points that are drawn


@dataclass(frozen=True, slots=True)
class Line:
    """A horizontal line with its interval and label."""

    name: str
    value: float
    interval: Interval | None
    label: str


@dataclass(frozen=True, eq=False)
class DifferenceInfo:
    """What the plot shows: points (each with its place among the pairs), lines, the fitted trend.

    Of more than MOST pairs an even selection is drawn, and ``said`` tells so.
    """

    x: Floats
    d: Floats
    pair: Ints
    said: str
    lines: tuple[Line, ...]
    trend: tuple[float, float, float] | None
    x_label: str
    y_label: str


def info(r: CompareResult) -> DifferenceInfo:
    """Collect points and lines of one comparison."""
    p = r.pairs
    m = metric_of(p.metric)
    unit = m.difference_unit
    lines = []
    if r.limits:
        lines.append(
            Line(
                "limits",
                r.limits.upper,
                r.limits.upper_interval,
                f"upper limit {signed(r.limits.upper)}",
            )
        )
    if r.bias:
        lines.append(Line("bias", r.bias.value, r.bias.interval, f"bias {signed(r.bias.value)}"))
    if r.limits:
        lines.append(
            Line(
                "limits",
                r.limits.lower,
                r.limits.lower_interval,
                f"lower limit {signed(r.limits.lower)}",
            )
        )
    t, grows = r.trend, r.reference_trend.between
    # a line is drawn only where the error is shown to grow with the value; the classical slope
    # alone shows nothing of the kind
    shown_to = (
        grows is not None
        and grows.slope.interval is not None
        and not grows.slope.interval.low <= 0 <= grows.slope.interval.high
    )
    trend = (
        (t.slope.value, t.intercept, t.centre)
        if shown_to and t.slope and t.intercept is not None
        else None
    )
    step = -(-p.n // MOST) or 1
    shown = np.arange(0, p.n, step)
    name = axis_name(p.instrument.name)
    return DifferenceInfo(
        x=read_only(((p.x + p.y) / 2)[shown], np.float64),
        d=read_only(p.d[shown], np.float64),
        pair=read_only(shown, np.int64),
        said=f"{shown.size:,} of {p.n:,} pairs drawn" if step > 1 else "",
        lines=tuple(lines),
        trend=trend,
        x_label=(f"mean of {name} and {p.compared_with} ({m.symbol if m else ''})"),
        y_label=f"{name} − {p.compared_with} ({unit})",
    )


def nearest(
    what: DifferenceInfo, to_pixels: Callable[[Any], Any], x: float, y: float, reach: float = 14.0
) -> int | None:
    """The pair whose point lies nearest to a place on the screen, within ``reach`` pixels."""
    if what.x.size == 0:
        return None
    at = to_pixels(np.column_stack([what.x, what.d]))
    gap = np.hypot(at[:, 0] - x, at[:, 1] - y)
    return int(what.pair[int(gap.argmin())]) if gap.min() < reach else None


def step(what: DifferenceInfo, pair: int | None, step: int) -> int | None:
    """The next pair to the right or left of one, beginning at the left."""
    order = np.argsort(what.x, kind="stable")
    if order.size == 0:
        return None
    at = np.flatnonzero(what.pair[order] == pair)
    where = int(at[0]) + step if at.size else 0
    return int(what.pair[order[where % order.size]])


def draw(
    axes: Any,
    what: DifferenceInfo,
    mark: Mark,
    palette: Palette,
    family: str,
    chosen: int | None = None,
) -> None:
    """Draw on ``axes``.

    The scatter has gid 'pairs' and its points are pickable in the order of the pairs.
    """
    prepare(axes, palette, family)
    if what.x.size == 0:
        axes.text(
            0.5,
            0.5,
            "no pairs",
            transform=axes.transAxes,
            ha="center",
            color=palette.faint,
            fontfamily=family,
        )
        return
    axes.axhline(0, color=palette.reference, lw=1, zorder=1)
    taken: list[float] = []
    low, high = _bounds(what)
    axes.set_ylim(low, high)
    for line in what.lines:
        strong = line.name == "bias"
        if line.interval:
            axes.axhspan(
                line.interval.low,
                line.interval.high,
                color=mark.colour,
                alpha=0.16 if strong else 0.09,
                lw=0,
                zorder=0,
            )
        axes.axhline(
            line.value,
            color=mark.colour,
            lw=1.6 if strong else 1.1,
            ls="-" if strong else (0, (6, 3)),
            zorder=2,
        )
        if all(abs(line.value - y) > 0.06 * (high - low) for y in taken):
            axes.annotate(
                line.label,
                (1.0, line.value),
                xycoords=("axes fraction", "data"),
                xytext=(6, 0),
                textcoords="offset points",
                va="center",
                color=palette.ink,
                fontsize=9,
                fontfamily=family,
                annotation_clip=False,
            )
            taken.append(line.value)
    if what.trend:
        slope, icpt, centre = what.trend
        ends = np.array([what.x.min(), what.x.max()])
        axes.plot(
            ends, icpt + slope * (ends - centre), color=palette.faint, lw=1.2, ls=":", zorder=2
        )
    points(axes, what.x, what.d, mark, palette).set_gid("pairs")
    at = np.flatnonzero(what.pair == chosen) if chosen is not None else np.empty(0, dtype=np.int64)
    if at.size:
        ring(axes, what.x[at], what.d[at], palette)
    axes.yaxis.set_major_formatter(minus)
    axes.set_xlabel(
        f"{what.x_label}  ·  {what.said}" if what.said else what.x_label,
        fontfamily=family,
        fontsize=9,
    )
    axes.set_ylabel(what.y_label, fontfamily=family, fontsize=9)


def _bounds(what: DifferenceInfo) -> tuple[float, float]:
    values = [float(what.d.min()), float(what.d.max()), 0.0]
    for line in what.lines:
        values += [line.value] + ([line.interval.low, line.interval.high] if line.interval else [])
    low, high = min(values), max(values)
    pad = 0.06 * (high - low or 1.0)
    return low - pad, high + pad
