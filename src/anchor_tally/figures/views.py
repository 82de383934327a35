"""Figures of the views of Compare."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from ..analysis.agreement.change import ChangeResult
from ..analysis.agreement.hydration import HydrationResult
from ..analysis.agreement.redundancy import AS_ONE, RedundancyResult
from ..analysis.agreement.repeatability import RepeatabilityResult
from ..domain.metrics import metric_of
from ..domain.snapshot import Floats, Ints, read_only
from ..stats.estimate import Interval
from ..stats.within_clients import centred
from ..wording.names import axis_name
from ..wording.numbers import signed, span
from .style import Mark, Palette, minus, points, prepare, ring, rows

MOST = 1500  # ticks or points drawn of one instrument


def _unit(metric: str) -> str:
    m = metric_of(metric)
    return m.difference_unit


def _label(metric: str) -> str:
    m = metric_of(metric)
    return m.label


def _thin(values: Any) -> Any:
    return values[:: -(-len(values) // MOST) or 1]


# consistency
@dataclass(frozen=True, slots=True)
class Strip:
    """Deviations of repeats from their tally, the within-tally SD and that from day to day."""

    name: str
    deviations: tuple[float, ...]
    within: float | None
    day: float | None


@dataclass(frozen=True, slots=True)
class StripInfo:
    """One strip an instrument."""

    strips: tuple[Strip, ...]
    label: str


def strips(results: tuple[RepeatabilityResult, ...]) -> StripInfo:
    """What the strips show."""
    found = tuple(
        Strip(
            r.instrument.name,
            tuple(_thin(r.deviation).tolist()),
            r.found.sd.value if r.found.sd else None,
            r.found.day.value if r.found.day else None,
        )
        for r in results
    )
    metric = results[0].metric if results else ""
    return StripInfo(found, f"{_label(metric)}: repeat − mean of its set ({_unit(metric)})")


def draw_strips(
    axes: Any, what: StripInfo, marks: tuple[Mark, ...], chosen: int, palette: Palette, family: str
) -> None:
    """Ticks of single repeats over bands of two SDs: minutes apart (strong), days apart (pale)."""
    prepare(axes, palette, family)
    axes.axvline(0, color=palette.reference, lw=1, zorder=1)
    for k, (strip, mark) in enumerate(zip(what.strips, marks, strict=True)):
        if strip.day is not None:
            axes.barh(
                -k,
                4 * strip.day,
                left=-2 * strip.day,
                height=0.62,
                color=mark.colour,
                alpha=0.12,
                lw=0,
                zorder=0,
            )
        if strip.within is not None:
            axes.barh(
                -k,
                4 * strip.within,
                left=-2 * strip.within,
                height=0.62,
                color=mark.colour,
                alpha=0.3,
                lw=0,
                zorder=0,
            )
        d = np.array(strip.deviations)
        if d.size:
            alpha = 0.8 if d.size < 60 else 0.35 if d.size < 400 else 0.15
            # ticks as the markers of one line: thousands of them are drawn as fast as points
            axes.plot(
                d,
                np.full(d.size, -k),
                ls="none",
                marker="|",
                ms=16,
                mew=1,
                color=mark.colour,
                alpha=alpha,
                zorder=2,
            )
        else:
            axes.text(
                0,
                -k,
                "  no repeats",
                color=palette.faint,
                va="center",
                fontfamily=family,
                fontsize=9,
            )
    rows(axes, [axis_name(s.name) for s in what.strips], palette, family, chosen=chosen)
    reach = max(
        [2.2 * (s.day or 0) for s in what.strips]
        + [3.2 * (s.within or 0) for s in what.strips]
        + [0.3]
    )
    axes.set_xlim(-reach, reach)
    _mark_beyond(axes, what, marks, reach, family)
    axes.xaxis.set_major_formatter(minus)
    axes.set_xlabel(what.label, fontfamily=family, fontsize=9)


def _mark_beyond(
    axes: Any, what: StripInfo, marks: tuple[Mark, ...], reach: float, family: str
) -> None:
    """Mark repeats beyond the axis at its edge, with the value that lies farthest out."""
    for k, (strip, mark) in enumerate(zip(what.strips, marks, strict=True)):
        d = np.array(strip.deviations)
        for side, out in ((-1, d[d < -reach]), (1, d[d > reach])):
            if out.size == 0:
                continue
            far = signed(float(out[np.abs(out).argmax()]))
            said = f"{far} →" if side > 0 else f"← {far}"
            more = f"{out.size}: " if out.size > 1 else ""
            axes.text(
                side * reach * 0.99,
                -k + 0.36,
                f"{more}{said}",
                ha="right" if side > 0 else "left",
                va="center",
                color=mark.colour,
                fontsize=9,
                fontfamily=family,
            )


# change
@dataclass(frozen=True, eq=False)
class QuadrantInfo:
    """Changes of instrument and reference, the zone that is noise, and the line through them."""

    dx: Floats
    dy: Floats
    zone: float
    slope: tuple[float, float] | None
    x_label: str
    y_label: str


def quadrants(r: ChangeResult) -> QuadrantInfo:
    """What the quadrants show."""
    line = r.follows
    shown = line is not None and line.interval is not None and line.interval.low > 0
    return QuadrantInfo(
        r.dx,
        r.dy,
        r.found.zone,
        (
            (line.value, float(r.dy.mean() - line.value * r.dx.mean()))
            if shown and line is not None
            else None
        ),
        f"change of {r.pairs.compared_with} ({_unit(r.metric)})",
        f"change of {axis_name(r.instrument.name)} ({_unit(r.metric)})",
    )


def draw_quadrants(
    axes: Any,
    what: QuadrantInfo,
    mark: Mark,
    palette: Palette,
    family: str,
    point: int | None = None,
) -> None:
    """Points in four quadrants.

    Where both have moved the same way is shaded, the noise is framed.
    """
    prepare(axes, palette, family)
    if what.dx.size == 0:
        axes.text(
            0.5,
            0.5,
            "no changes yet",
            transform=axes.transAxes,
            ha="center",
            color=palette.faint,
            fontfamily=family,
        )
        return
    reach = 1.1 * float(max(np.abs(what.dx).max(), np.abs(what.dy).max(), 2 * what.zone, 0.5))
    for sign in (-1, 1):
        axes.fill_between([0, sign * reach], 0, sign * reach, color=palette.band, lw=0, zorder=0)
    z = what.zone
    if z > 0:
        axes.plot(
            [-z, z, z, -z, -z], [-z, -z, z, z, -z], color=palette.faint, lw=1, ls=":", zorder=1
        )
    axes.plot([-reach, reach], [-reach, reach], color=palette.faint, lw=1, ls=(0, (6, 4)), zorder=1)
    axes.axhline(0, color=palette.reference, lw=1, zorder=1)
    axes.axvline(0, color=palette.reference, lw=1, zorder=1)
    if what.slope is not None:
        ends = np.array([-reach, reach])
        axes.plot(ends, what.slope[1] + what.slope[0] * ends, color=mark.colour, lw=1.6, zorder=2)
    points(axes, what.dx, what.dy, mark, palette)
    if point is not None and point < what.dx.size:
        ring(axes, [what.dx[point]], [what.dy[point]], palette)
    axes.set_xlim(-reach, reach)
    axes.set_ylim(-reach, reach)
    _signed_axes(axes, what.x_label, what.y_label, family)


def _signed_axes(axes: Any, x_label: str, y_label: str, family: str) -> None:
    axes.xaxis.set_major_formatter(minus)
    axes.yaxis.set_major_formatter(minus)
    axes.set_xlabel(x_label, fontfamily=family, fontsize=9)
    axes.set_ylabel(y_label, fontfamily=family, fontsize=9)


# water
@dataclass(frozen=True, eq=False)
class WaterInfo:
    """Fat and water less the client's mean, and the slope after each client's trend."""

    water: Floats
    fat: Floats
    visit: Ints
    slope: tuple[float, float, float] | None
    x_label: str
    y_label: str


def water(r: HydrationResult) -> WaterInfo:
    """What the picture of water shows."""
    s = r.slope.slope if r.slope is not None else None
    slope = (
        (s.value, s.interval.low, s.interval.high)
        if s is not None and s.interval is not None
        else None
    )
    w, f = (centred(v, r.within) if r.n else v for v in (r.water, r.fat))
    return WaterInfo(
        read_only(_thin(w), np.float64),
        read_only(_thin(f), np.float64),
        read_only(_thin(r.visit), np.int64),
        slope,
        f"water of {axis_name(r.instrument.name)} − client's mean (points)",
        f"fat of {axis_name(r.instrument.name)} − client's mean (pp)",
    )


def draw_water(
    axes: Any, what: WaterInfo, mark: Mark, palette: Palette, family: str, point: int | None = None
) -> None:
    """Points within clients, the slope with its interval, and the line of one for one."""
    prepare(axes, palette, family)
    if what.water.size == 0:
        axes.text(
            0.5,
            0.5,
            "no visit with both",
            transform=axes.transAxes,
            ha="center",
            color=palette.faint,
            fontfamily=family,
        )
        return
    reach = 1.1 * float(max(np.abs(what.water).max(), np.abs(what.fat).max(), 0.5))
    ends = np.array([-reach, reach])
    axes.axhline(0, color=palette.reference, lw=1, zorder=1)
    axes.axvline(0, color=palette.reference, lw=1, zorder=1)
    axes.plot(ends, -ends, color=palette.faint, lw=1, ls=(0, (6, 4)), zorder=1)
    axes.annotate(
        "1 : 1", (-0.94 * reach, 0.9 * reach), color=palette.faint, fontsize=9, fontfamily=family
    )
    if what.slope is not None:
        value, low, high = what.slope
        axes.fill_between(
            ends, low * ends, high * ends, color=mark.colour, alpha=0.15, lw=0, zorder=0
        )
        axes.plot(ends, value * ends, color=mark.colour, lw=1.6, zorder=2)
    points(axes, what.water, what.fat, mark, palette)
    if point is not None and point < what.water.size:
        ring(axes, [what.water[point]], [what.fat[point]], palette)
    axes.set_xlim(-reach, reach)
    axes.set_ylim(-reach, reach)
    _signed_axes(axes, what.x_label, what.y_label, family)


# look-alikes
@dataclass(frozen=True, eq=False)
class MatrixInfo:
    """Correlations within clients of every two instruments, and where there is none."""

    names: tuple[str, ...]
    r: Floats
    low: Floats
    high: Floats
    known: Ints


def matrix(r: RedundancyResult) -> MatrixInfo:
    """What the matrix shows."""
    return MatrixInfo(r.names, r.r, r.low, r.high, r.known)


ENDS_FIT = 84  # pixels of a cell from which on the interval fits into it


def draw_matrix(axes: Any, what: MatrixInfo, palette: Palette, family: str) -> None:
    """Squares as large as the correlation, its number and 95 % interval in them.

    The sign by filled or open squares, never by colour alone.
    """
    prepare(axes, palette, family)
    k = len(what.names)
    place = axes.get_window_extent()
    wide = min(place.width, place.height) / (k + 0.2) >= ENDS_FIT
    for a in range(k):
        for b in range(k):
            if a == b:
                continue
            if not what.known[a, b]:
                axes.text(
                    b, -a, "–", ha="center", va="center", color=palette.faint, fontfamily=family
                )
                continue
            value = float(what.r[a, b])
            side = 0.86 * np.sqrt(abs(value))
            axes.add_patch(_square(b, -a, side, palette, filled=value > 0, strong=value >= AS_ONE))
            axes.text(
                b,
                -a + 0.08,
                signed(value, 2),
                ha="center",
                va="center",
                color=palette.ink,
                fontsize=10,
                fontfamily=family,
            )
            ends = span(Interval(float(what.low[a, b]), float(what.high[a, b])), 2, sign=True)
            if wide:
                low = (
                    0.18 if side >= 0.7 else side / 2 + 0.12
                )  # within a large square, below a small one
                axes.text(
                    b,
                    -a - low,
                    ends,
                    ha="center",
                    va="center",
                    color=palette.faint,
                    fontsize=8,
                    fontfamily=family,
                )
    names = [axis_name(n) for n in what.names]
    rows(axes, names, palette, family)
    axes.set_xlim(-0.6, k - 0.4)
    axes.set_ylim(-k + 0.4, 0.6)
    axes.set_aspect("equal", adjustable="box", anchor="W")
    axes.set_xticks([])
    for a, name in enumerate(names):
        axes.text(
            a,
            -0.012,
            name,
            transform=axes.get_xaxis_transform(),
            rotation=30,
            ha="right",
            va="top",
            color=palette.ink,
            fontsize=9,
            fontfamily=family,
        )


def _square(
    x: float, y: float, side: float, palette: Palette, *, filled: bool, strong: bool
) -> Any:
    from matplotlib.patches import Rectangle

    return Rectangle(
        (x - side / 2, y - side / 2),
        side,
        side,
        facecolor=palette.band if filled else "none",
        edgecolor=palette.accent if strong else palette.line,
        lw=2 if strong else 1,
        zorder=1,
    )
