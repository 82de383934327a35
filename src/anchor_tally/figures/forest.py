"""The forest of offsets: raw and shrunken, client by client.

And errors on left-out scans beside what needs no device.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from ..analysis.offsets.calibrate import CalibrateResult
from ..domain.metrics import metric_of
from ..stats.estimate import Interval
from ..wording.numbers import count, number
from ..wording.statistics import BASELINE_WORDS, MODEL_LABELS
from .style import Mark, Palette, minus, prepare, rows

MOST = 30  # clients drawn: those farthest from the pooled offset
ROW_HIGH = 14  # pixels that a row needs for its name


@dataclass(frozen=True, slots=True)
class Tree:
    """One client: raw mean difference, shrunken offset with its interval, number of scans."""

    client: str
    raw: float
    offset: float
    interval: Interval
    n: int


@dataclass(frozen=True, slots=True)
class ForestInfo:
    """Clients by offset, the pooled offset with its interval, and how many are not drawn."""

    trees: tuple[Tree, ...]
    pooled: float | None
    interval: Interval | None
    left: int
    label: str


def info(r: CalibrateResult, codes: dict[int, str], room: int = MOST) -> ForestInfo:
    """What the forest shows.

    ``codes`` maps a client's number to the code, ``room`` is for how many rows there is room.
    """
    pairs = r.comparison.pairs
    clients, k = np.unique(pairs.client, return_inverse=True)
    _, first, cell = np.unique(pairs.occasion, return_index=True, return_inverse=True)
    mean = np.bincount(cell, pairs.d) / np.bincount(cell) if pairs.n else np.empty(0)
    owner = k[first]
    raw = np.bincount(owner, mean, minlength=clients.size) / np.maximum(
        np.bincount(owner, minlength=clients.size), 1
    )
    by_code = {
        codes[int(c)]: (float(x), int(n))
        for c, x, n in zip(clients, raw, np.bincount(owner, minlength=clients.size), strict=True)
    }
    own = {c.client: c for c in r.clients}
    pooled = r.pooled.offset if r.pooled is not None else None
    trees = [
        Tree(
            code,
            x,
            own[code].offset if code in own else x,
            own[code].interval if code in own else Interval(x, x),
            n,
        )
        for code, (x, n) in by_code.items()
    ]
    middle = pooled.value if pooled is not None else 0.0
    kept = sorted(trees, key=lambda t: -abs(t.offset - middle))[: min(room, MOST)]
    m = metric_of(pairs.metric)
    unit = m.difference_unit
    return ForestInfo(
        trees=tuple(sorted(kept, key=lambda t: (-t.offset, t.client))),
        pooled=pooled.value if pooled is not None else None,
        interval=pooled.interval if pooled is not None else None,
        left=len(trees) - len(kept),
        label=f"device − scan ({unit}); open: mean difference, filled: offset (95 % CI)",
    )


def draw(
    axes: Any, what: ForestInfo, mark: Mark, chosen: int, palette: Palette, family: str
) -> None:
    """A row a client; the pooled offset as an upright line in its band.

    Client k lies at height −k.
    """
    prepare(axes, palette, family)
    if not what.trees:
        axes.text(
            0.5,
            0.5,
            "no pairs yet",
            transform=axes.transAxes,
            ha="center",
            color=palette.faint,
            fontfamily=family,
        )
        return
    n = len(what.trees)
    y = -np.arange(n, dtype=float)
    if what.interval is not None:
        axes.axvspan(what.interval.low, what.interval.high, color=palette.band, lw=0, zorder=0)
    axes.axvline(0, color=palette.reference, lw=1, zorder=1)
    if what.pooled is not None:
        axes.axvline(what.pooled, color=mark.colour, lw=1.6, ls=mark.line, zorder=1)
        axes.text(
            what.pooled,
            1.005,
            "all clients",
            transform=axes.get_xaxis_transform(),
            ha="center",
            va="bottom",
            color=mark.colour,
            fontsize=9,
            fontfamily=family,
        )
    size = 7 if n <= 20 else 5
    offset = np.array([t.offset for t in what.trees])
    raw = np.array([t.raw for t in what.trees])
    low, high = (
        np.array([getattr(t.interval, end) for t in what.trees]) for end in ("low", "high")
    )
    wide = high > low
    axes.hlines(y[wide], low[wide], high[wide], color=mark.colour, lw=2, zorder=2)
    axes.plot(
        raw,
        y,
        ls="none",
        marker=mark.shape,
        ms=size,
        mfc="none",
        mec=mark.colour,
        mew=1.2,
        zorder=3,
    )
    axes.plot(
        offset[wide],
        y[wide],
        ls="none",
        marker=mark.shape,
        ms=size,
        color=mark.colour,
        mec=palette.surface,
        zorder=4,
    )
    names = [f"{t.client} ({t.n})" for t in what.trees]
    rows(axes, names, palette, family, chosen=chosen, size=9 if n <= 24 else 7.5)
    axes.xaxis.set_major_formatter(minus)
    left = (
        f"\nnot drawn: {count(what.left, 'client')} closest to the pooled offset"
        if what.left
        else ""
    )
    axes.set_xlabel(what.label + left, fontfamily=family, fontsize=9)


@dataclass(frozen=True, slots=True)
class ErrorBar:
    """One prediction of a left-out scan.

    Name, RMSE, words on coverage, whether it uses the device, and whether it is advised.
    """

    name: str
    rmse: float
    said: str
    device: bool
    advised: bool


@dataclass(frozen=True, slots=True)
class ErrorInfo:
    """Errors on left-out scans."""

    bars: tuple[ErrorBar, ...]
    label: str


def errors(r: CalibrateResult) -> ErrorInfo:
    """What the bars show; empty below the clients that leaving out needs."""
    cv = r.cross_validation
    m = metric_of(r.comparison.pairs.metric)
    label = (
        f"error on left-out scans (RMSE, {m.difference_unit})\ncoverage: scans inside the 95 %"
        " interval"
    )
    if cv is None:
        return ErrorInfo((), label)
    bars = []
    for x in cv.models:
        inside = "" if x.covered is None else f" · coverage {number(100 * x.covered.value, 0)} %"
        bars.append(
            ErrorBar(MODEL_LABELS[x.model], x.rmse, inside, device=True, advised=x.model == r.model)
        )
    b = cv.baselines
    values = {
        "last_scan": b.last_scan,
        "other_scans_mean": b.other_scans_mean,
        "sample_mean": b.sample_mean,
        "bmi_equation": b.bmi_equation,
    }
    bars += [
        ErrorBar(BASELINE_WORDS[k], v, "", device=False, advised=False)
        for k, v in values.items()
        if v is not None
    ]
    return ErrorInfo(tuple(bars), label)


def draw_errors(axes: Any, what: ErrorInfo, mark: Mark, palette: Palette, family: str) -> None:
    """Bars: filled with the device, open without it; framed what is advised."""
    prepare(axes, palette, family)
    if not what.bars:
        axes.text(
            0.5,
            0.5,
            "three scanned clients are needed\nto leave one out",
            transform=axes.transAxes,
            ha="center",
            va="center",
            color=palette.faint,
            fontfamily=family,
        )
        axes.set_xticks([])
        axes.set_yticks([])
        return
    most = max(b.rmse for b in what.bars) or 1.0
    for k, b in enumerate(what.bars):
        look = (
            {"color": mark.colour, "alpha": 0.8}
            if b.device
            else {"facecolor": "none", "edgecolor": palette.faint, "hatch": "///"}
        )
        axes.barh(-k, b.rmse, height=0.52, lw=0.8, zorder=2, **look)
        strong = " ← advised" if b.advised else ""
        axes.text(
            b.rmse + most * 0.02,
            -k,
            f"{number(b.rmse, 2)}{strong}{b.said}",
            va="center",
            color=palette.ink,
            fontsize=8.5,
            fontfamily=family,
        )
    rows(axes, [b.name for b in what.bars], palette, family, size=9)
    axes.set_xlim(0, most * 1.9)
    axes.set_xlabel(what.label, fontfamily=family, fontsize=9)
