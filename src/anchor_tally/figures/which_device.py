"""Figures of *Which device?*: one for each job, in the metric's unit."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from ..analysis.offsets.which_device import Card, WhichDeviceResult
from ..domain.metrics import metric_of
from ..stats.estimate import Estimate
from ..wording.names import axis_name
from .style import Mark, Palette, prepare, rows

BASELINES = {
    "sample_mean": "mean of other clients",
    "bmi_equation": "from body mass index",
    "last_scan": "previous scan",
}
AXIS = {
    "level": "error after correction",
    "change": "error of a change",
    "daily": "smallest detectable change",
}


@dataclass(frozen=True, slots=True)
class Dot:
    """An error with its interval, and how often it is the best; ``hollow`` is a second figure."""

    value: float
    low: float
    high: float
    best: float | None
    hollow: bool = False


@dataclass(frozen=True, slots=True)
class JobInfo:
    """One job: names, dots, which are ruled out, which may be chosen, baselines, axis label."""

    names: tuple[str, ...]
    dots: tuple[tuple[Dot, ...], ...]
    out: tuple[bool, ...]
    may: tuple[bool, ...]
    baselines: Mapping[str, float]
    label: str


def _dot(e: Estimate | None, best: float | None, *, hollow: bool = False) -> tuple[Dot, ...]:
    if e is None:
        return ()
    low, high = (e.value, e.value) if e.interval is None else (e.interval.low, e.interval.high)
    return (Dot(e.value, low, high, best, hollow),)


def _dots(card: Card, job: str) -> tuple[Dot, ...]:
    rated = card.of(job)
    found = _dot(rated.error, rated.best)
    return found + _dot(card.week, None, hollow=True) if job == "daily" else found


def _may(card: Card, job: str) -> bool:
    """Whether a device may be chosen for a job."""
    return card.of(job).best is not None


def info(r: WhichDeviceResult, job: str) -> JobInfo:
    """What the figure of a job shows."""
    m = metric_of(r.metric)
    grey = any(
        c.of(job).error is not None and not _may(c, job) and not c.ruled_out for c in r.cards
    )
    more = "grey: responds too little to change" if grey else ""
    if job == "daily":
        more = "filled: one reading, open: 7-day mean"
    return JobInfo(
        tuple(axis_name(c.instrument.name) for c in r.cards),
        tuple(_dots(c, job) for c in r.cards),
        tuple(bool(c.ruled_out) for c in r.cards),
        tuple(_may(c, job) for c in r.cards),
        r.baselines.get(job, {}),
        f"{AXIS[job]} ({m.difference_unit})\n{more}",
    )


def draw(
    axes: Any, what: JobInfo, marks: tuple[Mark, ...], palette: Palette, family: str, *, named: bool
) -> None:
    """Draw dots with intervals, and baselines as shaded lines."""
    prepare(axes, palette, family)
    ends = [d.high for dots in what.dots for d in dots]
    points = [d.value for dots in what.dots for d in dots] + list(what.baselines.values())
    if not points:
        axes.set_axis_off()
        axes.text(
            0.5,
            0.5,
            "not enough data",
            transform=axes.transAxes,
            ha="center",
            color=palette.faint,
            fontfamily=family,
        )
        return
    axes.set_axis_on()
    # an interval of few clients may be far wider than all dots: it is cut at the edge
    top = min(max([*ends, *points]), 2.2 * max(points)) * 1.12 or 1.0  # all without any error
    for name, at in what.baselines.items():
        axes.axvline(at, color=palette.band, lw=7, zorder=1)
        axes.text(
            at,
            0.45 - len(what.names),
            f" {BASELINES[name]}",
            rotation=90,
            ha="center",
            va="bottom",
            color=palette.faint,
            fontsize=8,
            fontfamily=family,
            zorder=2,
        )
    for k, (dots, mark) in enumerate(zip(what.dots, marks, strict=True)):
        out, may = what.out[k], what.may[k]
        for d in dots:
            ink = mark.colour if may else palette.line
            at = -k - (0.18 if d.hollow else 0)
            axes.plot([d.low, min(d.high, top)], [at, at], color=ink, lw=2, alpha=0.7, zorder=3)
            axes.plot(
                [d.value],
                [at],
                marker=mark.shape,
                ms=7,
                color=ink,
                mfc=palette.surface if d.hollow else ink,
                zorder=4,
            )
        if out:
            axes.axhline(-k, color=palette.faint, lw=1.2, zorder=5)
    rows(axes, what.names if named else [""] * len(what.names), palette, family, size=9)
    axes.set_xlim(0, top)
    axes.set_xlabel(what.label, fontfamily=family, fontsize=9)
