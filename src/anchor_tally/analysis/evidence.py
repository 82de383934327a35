"""What a number or a point is made of."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .compare import CompareResult
from .pairing import Dropped


@dataclass(frozen=True, slots=True)
class Evidence:
    """Readings behind a figure, what was left out, and the id of the statistic."""

    key: str
    statistic: str
    instrument_readings: tuple[int, ...]
    reference_readings: tuple[int, ...]
    dropped: tuple[Dropped, ...]
    values: tuple[tuple[str, float], ...] = ()


def explain(result: CompareResult, key: str, parts: dict[int, tuple[int, ...]] | None = None) -> Evidence:
    """Explain ``pair:<row index>`` or the name of a statistic.

    ``parts`` maps derived readings to the stored ones behind them.
    """
    pairs = result.pairs
    parts = parts or {}
    if key.startswith("pair:"):
        k = int(key[5:])
        occasion = int(pairs.occasion[k])
        mates = np.flatnonzero(pairs.occasion == occasion)
        own = (k, *[int(m) for m in mates if m != k])
        ids = [i for m in own for i in parts.get(int(pairs.reading[m]), (int(pairs.reading[m]),))]
        values = (("reference", float(pairs.x[k])), ("instrument", float(pairs.y[k])), ("difference", float(pairs.d[k])))
        return Evidence(key, "pair", tuple(ids), pairs.reference_rows[occasion], (), values)
    ids = [i for r in pairs.reading.tolist() for i in parts.get(r, (r,))]
    refs = tuple(i for group in pairs.reference_rows.values() for i in group)
    return Evidence(key, key, tuple(dict.fromkeys(ids)), refs, pairs.dropped)
