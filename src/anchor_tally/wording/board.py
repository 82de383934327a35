"""The offset board as text."""

from __future__ import annotations

from dataclasses import dataclass

from ..analysis.offsets.calibrate import CalibrateResult
from ..stats.estimate import Interval
from .names import short_name
from .numbers import MISSING, ci, count, number, signed, span


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
    """Offsets with the longer half of their 95 % CI and the number of scans in brackets."""
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
            pooled.append(
                f"{signed(b.value)}  ± {number(_longer(b.value, b.interval))} "
                f" ({r.comparison.pairs.occasions})"
            )
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
        short_name(r.comparison.pairs.instrument.name) + ("\nsettings combined" if m else "")
        for r, m in zip(results, mixed, strict=True)
    )
    return Board(tuple(heads), ("All clients", *names), tuple(cells))


def offset_words(r: CalibrateResult, client: str) -> tuple[str, str]:
    """How one offset came about, in words with its numbers, and the published source.

    "" for the pooled one.
    """
    pairs = r.comparison.pairs
    pooled = r.pooled.offset if r.pooled is not None else None
    if pooled is None:
        return "", ""
    everyone = (
        f"All clients: {signed(pooled.value, 2)}{ci(pooled.interval, 2, sign=True)}, the mean"
        " difference by generalised least squares."
    )
    own = next((c for c in r.clients if c.client == client), None)
    if own is None:
        return (
            (
                f"{everyone} Difference = {short_name(pairs.instrument.name)} −"
                f" {pairs.reference.name}."
            ),
            "Patterson & Thompson 1971 (REML)",
        )
    part = (
        "Shrunk towards the group mean by 1 − τ²/(τ² + σ²/n) ="
        f" {number(1 - own.shrinkage, 2)}, from {count(own.n, 'scan')}."
    )
    new = f"A new reading differs by {span(own.new, 1, sign=True)} (95 % prediction)."
    return (
        (
            f"{client}: subtract {signed(own.offset, 2)}{ci(own.interval, 2, sign=True)}."
            f" {part} {everyone} {new}"
        ),
        "Henderson 1975, Biometrics 31:423 (BLUP)",
    )
