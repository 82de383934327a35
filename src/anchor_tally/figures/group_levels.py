"""Figure of all clients: the level of each today with its interval, and where it was before."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from ..analysis.time.group_levels import ClientLevel
from ..domain.metrics import metric_of
from .style import Palette, prepare, rows

MOST_ROWS = 40  # that can be read; the table has all


@dataclass(frozen=True, slots=True)
class LevelRow:
    """A client: code, level now with its interval, and level four weeks before."""

    code: str
    now: float
    low: float
    high: float
    before: float


@dataclass(frozen=True, slots=True)
class GroupInfo:
    """Content of the figure."""

    rows: tuple[LevelRow, ...]
    label: str


def info(shown: Sequence[ClientLevel], metric: str) -> GroupInfo:
    """What the figure of some clients shows; those without a value are left out."""
    m = metric_of(metric)
    found = []
    for r in shown:
        if r.value is None or r.value.interval is None or r.change is None:
            continue
        i = r.value.interval
        c = r.change.change
        before = r.value.value - (0.0 if c is None else c.value)
        found.append(LevelRow(r.client.code, r.value.value, i.low, i.high, before))
    return GroupInfo(tuple(found[:MOST_ROWS]), f"{m.label} ({m.symbol})" if m.symbol else m.label)


def draw(axes: Any, what: GroupInfo, palette: Palette, family: str) -> None:
    """Draw a row a client."""
    prepare(axes, palette, family)
    for k, r in enumerate(what.rows):
        axes.plot([r.low, r.high], [-k, -k], color=palette.accent, lw=1.6, alpha=0.55, zorder=2)
        axes.plot([r.before, r.now], [-k, -k], color=palette.accent, lw=3.2, zorder=3)
    y = [-k for k in range(len(what.rows))]
    axes.scatter(
        [r.before for r in what.rows],
        y,
        s=26,
        marker="|",
        color=palette.accent,
        linewidths=1.6,
        zorder=4,
    )
    axes.scatter(
        [r.now for r in what.rows],
        y,
        s=40,
        color=palette.accent,
        edgecolors=palette.surface,
        zorder=5,
    )
    rows(axes, [r.code for r in what.rows], palette, family, size=9)
    axes.grid(axis="x", color=palette.line, lw=0.6)
    axes.set_axisbelow(True)
    axes.set_xlabel(f"{what.label}; bar: four weeks before", fontfamily=family, fontsize=9)
