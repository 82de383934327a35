"""The difference plot: difference against the mean of both, with bias, limits and their intervals."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from ..analysis.compare import CompareResult
from ..domain.metrics import metric_named
from ..stats.estimate import Interval
from ..wording.numbers import signed
from .style import Mark, Palette, minus, prepare


@dataclass(frozen=True, slots=True)
class Line:
    """A horizontal line with its interval and label."""

    name: str
    value: float
    interval: Interval | None
    label: str


@dataclass(frozen=True, eq=False)
class DifferenceInfo:
    """What the plot shows: one point a pair, lines, the fitted trend."""

    x: np.ndarray
    d: np.ndarray
    lines: tuple[Line, ...]
    trend: tuple[float, float, float] | None
    x_label: str
    y_label: str


def info(r: CompareResult) -> DifferenceInfo:
    """Collect points and lines of one comparison."""
    p = r.pairs
    m = metric_named(p.metric)
    unit = m.difference_unit if m else ""
    lines = []
    if r.limits:
        lines.append(Line("limits", r.limits.upper, r.limits.upper_interval, f"upper limit {signed(r.limits.upper)}"))
    if r.bias:
        lines.append(Line("bias", r.bias.value, r.bias.interval, f"bias {signed(r.bias.value)}"))
    if r.limits:
        lines.append(Line("limits", r.limits.lower, r.limits.lower_interval, f"lower limit {signed(r.limits.lower)}"))
    t = r.trend
    trend = (t.slope.value, t.intercept, t.centre) if t.slope and t.intercept is not None else None
    return DifferenceInfo(
        (p.x + p.y) / 2,
        p.d,
        tuple(lines),
        trend,
        f"mean of {p.instrument.name} and {p.reference.name} ({m.unit if m else ''})",
        f"{p.instrument.name} − {p.reference.name} ({unit})",
    )


def draw(axes: Any, what: DifferenceInfo, mark: Mark, palette: Palette, family: str, chosen: int | None = None) -> None:
    """Draw on ``axes``; the scatter has gid 'pairs' and its points are pickable in the order of the pairs."""
    prepare(axes, palette, family)
    if what.x.size == 0:
        axes.text(0.5, 0.5, "no pairs", transform=axes.transAxes, ha="center", color=palette.faint, fontfamily=family)
        return
    axes.axhline(0, color=palette.reference, lw=1, zorder=1)
    taken: list[float] = []
    low, high = _bounds(what)
    axes.set_ylim(low, high)
    for line in what.lines:
        strong = line.name == "bias"
        if line.interval:
            axes.axhspan(line.interval.low, line.interval.high, color=mark.colour, alpha=0.16 if strong else 0.09, lw=0, zorder=0)
        axes.axhline(line.value, color=mark.colour, lw=1.6 if strong else 1.1, ls="-" if strong else (0, (6, 3)), zorder=2)
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
        axes.plot(ends, icpt + slope * (ends - centre), color=palette.faint, lw=1.2, ls=":", zorder=2)
    many = what.x.size > 300
    points = axes.scatter(
        what.x,
        what.d,
        s=14 if many else 34,
        marker=mark.shape,
        color=mark.colour,
        alpha=0.35 if many else 0.8,
        linewidths=0.6,
        edgecolors=palette.surface,
        zorder=3,
    )
    points.set_gid("pairs")
    if chosen is not None and 0 <= chosen < what.x.size:
        axes.scatter(what.x[chosen], what.d[chosen], s=150, facecolors="none", edgecolors=palette.accent, linewidths=2, zorder=4)
    axes.yaxis.set_major_formatter(minus)
    axes.set_xlabel(what.x_label, fontfamily=family, fontsize=9)
    axes.set_ylabel(what.y_label, fontfamily=family, fontsize=9)


def _bounds(what: DifferenceInfo) -> tuple[float, float]:
    values = [float(what.d.min()), float(what.d.max()), 0.0]
    for line in what.lines:
        values += [line.value] + ([line.interval.low, line.interval.high] if line.interval else [])
    low, high = min(values), max(values)
    pad = 0.06 * (high - low or 1.0)
    return low - pad, high + pad
