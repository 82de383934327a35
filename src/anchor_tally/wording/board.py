"""The offset board as text."""

from __future__ import annotations

from dataclasses import dataclass

from ..analysis.calibrate import CalibrateResult
from ..stats.estimate import Interval
from .names import short_name
from .numbers import MISSING, number, signed


@dataclass(frozen=True, slots=True)
class Board:
    """Column heads (instruments), row heads (pooled, then clients) and cells by row."""

    columns: tuple[str, ...]
    rows: tuple[str, ...]
    cells: tuple[tuple[str, ...], ...]


def _longer(value: float, interval: Interval) -> float:
    """The longer side of an interval that need not be symmetric."""
    return max(interval.high - value, value - interval.low)


def board(results: tuple[CalibrateResult, ...]) -> Board:
    """Offsets with the longer side of their 95 % interval and the number of anchors in brackets."""
    names = sorted({c.client for r in results for c in r.clients})
    by_client = [{c.client: c for c in r.clients} for r in results]
    pooled = []
    for r in results:
        b = r.pooled.offset if r.pooled else None
        if b is None:
            pooled.append(MISSING)
        elif b.interval is None:
            pooled.append(f"{signed(b.value)}  ± ?  ({r.comparison.pairs.occasions})")
        else:
            pooled.append(f"{signed(b.value)}  ± {number(_longer(b.value, b.interval))}  ({r.comparison.pairs.occasions})")
    cells = [tuple(pooled)]
    for name in names:
        line = []
        for offsets in by_client:
            c = offsets.get(name)
            if c is None:
                line.append(MISSING)
                continue
            line.append(f"{signed(c.offset)}  ± {number(_longer(c.offset, c.interval))}  ({c.n})")
        cells.append(tuple(line))
    mixed = [any(n.code == "settings_pooled" for n in r.comparison.pairs.notes) for r in results]
    heads = (
        short_name(r.comparison.pairs.instrument.name) + ("\nsettings mixed" if m else "")
        for r, m in zip(results, mixed, strict=True)
    )
    return Board(tuple(heads), ("All clients (pooled)", *names), tuple(cells))
