"""The offset ladder: one rung per instrument on a common axis of difference."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from ..analysis.agreement.agreement import CompareResult
from ..domain.metrics import metric_named
from ..stats.estimate import Interval
from ..wording.names import axis_name
from .style import Mark, Palette, minus, prepare, rows


@dataclass(frozen=True, slots=True)
class Rung:
    """One instrument's bias, interval, limits and client means."""

    name: str
    bias: float | None
    interval: Interval | None
    limits: tuple[float, float] | None
    ticks: tuple[float, ...]
    n: int


@dataclass(frozen=True, slots=True)
class LadderInfo:
    """What the ladder shows."""

    rungs: tuple[Rung, ...]
    label: str
    zone: float | None


def info(results: tuple[CompareResult, ...]) -> LadderInfo:
    """Collect the rungs; a client's tick is the mean difference of that client's pairs."""
    rungs = []
    for r in results:
        ticks: tuple[float, ...] = ()
        if r.pairs.n:
            _, k = np.unique(r.pairs.client, return_inverse=True)
            ticks = tuple((np.bincount(k, r.pairs.d) / np.bincount(k)).tolist())
        rungs.append(
            Rung(
                r.pairs.instrument.name,
                r.bias.value if r.bias else None,
                r.bias.interval if r.bias else None,
                (r.limits.lower, r.limits.upper) if r.limits else None,
                ticks,
                r.pairs.n,
            )
        )
    m = metric_named(results[0].pairs.metric) if results else None
    label = (
        f"{m.label}: difference from {results[0].pairs.compared_with} ({m.difference_unit})"
        if m
        else ""
    )
    return LadderInfo(tuple(rungs), label, results[0].margin if results else None)


def draw(
    axes: Any, what: LadderInfo, marks: tuple[Mark, ...], chosen: int, palette: Palette, family: str
) -> None:
    """Draw the ladder on ``axes``; rung k lies at height −k."""
    prepare(axes, palette, family)
    if what.zone is not None:
        axes.axvspan(-what.zone, what.zone, color=palette.band, zorder=0, lw=0)
    axes.axvline(0, color=palette.reference, lw=1.2, zorder=1)
    for k, (rung, mark) in enumerate(zip(what.rungs, marks, strict=True)):
        if rung.bias is None:
            axes.text(
                0, -k, " no pairs", color=palette.faint, va="center", fontfamily=family, fontsize=9
            )
            continue
        ticks = np.array(rung.ticks)
        alpha = 0.75 if ticks.size < 100 else 0.12
        # markers of one line: a thousand segments of their own take most of the time of the figure
        axes.plot(
            ticks,
            np.full(ticks.size, -k - 0.26),
            ls="none",
            marker="|",
            ms=8,
            mew=1,
            color=mark.colour,
            alpha=alpha,
            zorder=2,
        )
        if rung.limits:
            axes.plot(rung.limits, [-k, -k], color=mark.colour, lw=1.6, ls=mark.line, zorder=3)
            axes.vlines(rung.limits, -k - 0.13, -k + 0.13, color=mark.colour, lw=1.6, zorder=3)
        if rung.interval:
            axes.plot(
                [rung.interval.low, rung.interval.high],
                [-k, -k],
                color=mark.colour,
                lw=6,
                alpha=0.45,
                solid_capstyle="butt",
                zorder=3,
            )
        axes.plot(
            [rung.bias],
            [-k],
            marker=mark.shape,
            ms=8,
            color=mark.colour,
            mec=palette.surface,
            zorder=4,
        )
    rows(axes, [axis_name(r.name) for r in what.rungs], palette, family, chosen=chosen)
    axes.xaxis.set_major_formatter(minus)
    axes.set_xlabel(what.label, fontfamily=family, fontsize=9)
