"""What a number or a point is made of."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from .agreement import CompareResult


@dataclass(frozen=True, slots=True)
class Evidence:
    """Readings behind a figure, what was left out, and the ids of the statistic and metric."""

    key: str
    statistic: str
    instrument_readings: tuple[int, ...]
    reference_readings: tuple[int, ...]
    left_out: tuple[tuple[str, int], ...]
    values: tuple[tuple[str, float], ...] = ()
    compared_with: str = "scan"
    metric: str = ""


def explain(result: CompareResult, key: str) -> Evidence:
    """Explain ``pair:<row index>`` or the name of a statistic.

    Behind a computed value stand the readings it was made from.
    """
    pairs = result.pairs

    def behind(rows: Iterable[int]) -> list[int]:
        return [
            i
            for m in rows
            for i in (
                pairs.parts[m] if pairs.parts and pairs.parts[m] else (int(pairs.reading[m]),)
            )
        ]

    if key.startswith("pair:"):
        k = int(key[5:])
        occasion = int(pairs.occasion[k])
        mates = np.flatnonzero(pairs.occasion == occasion).tolist()
        values = (
            ("reference", float(pairs.x[k])),
            ("instrument", float(pairs.y[k])),
            ("difference", float(pairs.d[k])),
        )
        with_ = "scan" if pairs.reference.kind == "reference" else pairs.compared_with
        own = (k, *(m for m in mates if m != k))
        readings = tuple(behind(own)), pairs.reference_rows[occasion]
        return Evidence(key, "pair", *readings, (), values, with_, pairs.metric)
    refs = tuple(i for group in pairs.reference_rows.values() for i in group)
    return Evidence(
        key, key, tuple(dict.fromkeys(behind(range(pairs.n)))), refs, pairs.left_out.counts
    )
