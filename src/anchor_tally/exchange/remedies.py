"""Refused rows in groups, each with the one remedy that would take all of them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from ..domain.import_rows import Refused
from ..domain.metrics import HEIGHT, metric_named
from ..domain.units import UNITS, ValueRefused, parse_quantity
from .dates import ORDERS, iso_moment
from .guessing import with_unit
from .mapping import Mapping
from .tables import Table

_ORDER = (
    "g",
    "lb",
    "mm",
    "cm",
    "in",
    "m",
    "ft",
    "share",
    "kg",
)  # units that a table may be in without saying so
_ENOUGH = 0.9  # share of the refused cells that a remedy has to take
_NUMBERS = re.compile(r'-?\d[\d.,]*|"[^"]*"')


@dataclass(frozen=True, slots=True)
class RefusedGroup:
    """Rows refused for one reason in one column.

    How many, the first line, examples, and the remedy with its mapping; ``as_failed`` where the
    values are outside the possible range and can be imported as failed readings.
    """

    count: int
    line: int
    column: str
    reason: str
    examples: tuple[str, ...]
    remedy: str = ""
    mapping: Mapping | None = None
    as_failed: bool = False


def grouped(
    refused: Iterable[Refused], table: Table | None = None, mapping: Mapping | None = None
) -> tuple[RefusedGroup, ...]:
    """Groups of refused rows, the largest first.

    With the table they come from also what would help.
    """
    found: dict[tuple[str, str], list[Refused]] = {}
    for r in refused:
        found.setdefault((r.column, _NUMBERS.sub("…", r.reason)), []).append(r)
    groups = []
    for (column, _), rows in found.items():
        texts = tuple(dict.fromkeys(r.text for r in rows))
        words, better = (
            _remedy(texts, column, table, mapping)
            if table is not None and mapping is not None
            else ("", None)
        )
        failed = better is None and all(r.as_failed is not None for r in rows)
        groups.append(
            RefusedGroup(
                len(rows),
                rows[0].line,
                column,
                rows[0].reason,
                texts[:3],
                "Import these as failed readings" if failed else words,
                better,
                failed,
            )
        )
    return tuple(sorted(groups, key=lambda g: -g.count))


def _remedy(
    texts: Sequence[str], column: str, table: Table, mapping: Mapping
) -> tuple[str, Mapping | None]:
    if column not in table.header:
        return "", None
    k = table.header.index(column)
    c = mapping.columns[k]
    if c.role == "taken_at":
        return _other_order(texts, mapping)
    metric = (
        metric_named(c.metric) if c.role == "reading" else HEIGHT if c.role == "height_cm" else None
    )
    if metric is None:
        return "", None
    for unit in _ORDER:
        if (
            UNITS[unit][0] == metric.dimension
            and unit != (c.unit or metric.unit)
            and _take(texts, metric.id, unit) >= _ENOUGH
        ):
            return f"Read {column} in {_WORDS.get(unit, unit)}", with_unit(mapping, k, unit)
    return "", None


_WORDS = {
    "g": "grams (g)",
    "lb": "pounds (lb)",
    "share": "shares of 1",
    "m": "metres (m)",
    "ft": "feet (ft)",
    "in": "inches (in)",
}


def _take(texts: Sequence[str], metric: str, unit: str) -> float:
    """The share of cells that would be taken in another unit."""
    m = HEIGHT if metric == HEIGHT.id else metric_named(metric)
    taken = 0
    for text in texts:
        try:
            if m is not None:
                parse_quantity(text, m, unit)
                taken += 1
        except ValueRefused:
            continue
    return taken / max(len(texts), 1)


def _other_order(texts: Sequence[str], mapping: Mapping) -> tuple[str, Mapping | None]:
    for order, words in ORDERS.items():
        if order == mapping.date_order:
            continue
        try:
            for text in texts:
                iso_moment(text, "", order)
        except ValueError:
            continue
        return f"Read dates {words}", replace(mapping, date_order=order)
    return "", None
