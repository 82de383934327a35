"""The study as frozen, read-only columns."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field, fields
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from .records import Client, Instrument, Setting

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
STATUS_CODES = {"ok": 0, "failed": 1, "excluded": 2}


def read_only(values: Any, dtype: Any) -> Any:
    """Return ``values`` as an array of ``dtype`` that cannot be written to."""
    array = np.ascontiguousarray(values, dtype=dtype)
    array.setflags(write=False)
    return array


@dataclass(frozen=True, eq=False)
class Columns:
    """Readings of one metric, one element a reading, all arrays of shape (n,).

    ``wall`` is seconds of the wall clock as written; ``timed`` is False where only a date is known (noon
    stands in); ``day`` is the calendar day number. ``value`` is NaN for failed readings only. ``parts`` lists the stored
    readings behind a derived value, and is empty for a stored one.
    """

    metric: str
    reading: Ints
    visit: Ints
    client: Ints
    instrument: Ints
    setting: Ints
    wall: Ints
    day: Ints
    timed: npt.NDArray[np.bool_]
    replicate: Ints
    status: Ints
    value: Floats
    parts: tuple[tuple[int, ...], ...] = ()

    @property
    def n(self) -> int:
        """Number of readings."""
        return int(self.reading.size)


def joined(a: Columns, b: Columns) -> Columns:
    """Two blocks of readings of one metric after each other."""
    names = [f.name for f in fields(Columns) if f.name not in ("metric", "parts")]
    arrays = {k: read_only(np.concatenate([getattr(a, k), getattr(b, k)]), getattr(a, k).dtype) for k in names}
    parts = (a.parts or ((),) * a.n) + (b.parts or ((),) * b.n) if a.parts or b.parts else ()
    return Columns(metric=a.metric, parts=parts, **arrays)


@dataclass(frozen=True, eq=False)
class VisitColumns:
    """Visits, one element a visit: id, client id, wall seconds, age in years, height in cm (NaN unknown)."""

    visit: Ints
    client: Ints
    wall: Ints
    age_years: Floats
    height_cm: Floats


@dataclass(frozen=True, eq=False)
class Snapshot:
    """A study at one revision. Columns are keyed by metric id."""

    revision: int
    title: str
    clients: dict[int, Client]
    instruments: dict[int, Instrument]
    settings: dict[int, Setting]
    visits: VisitColumns
    columns: dict[str, Columns] = field(default_factory=dict)

    def instrument_named(self, name: str) -> Instrument | None:
        """Find an instrument by name or equation id, whatever the case."""
        low = name.strip().lower()
        for item in self.instruments.values():
            if low in (item.name.lower(), item.equation.lower()):
                return item
        return None

    @cached_property
    def digest(self) -> str:
        """A short fingerprint of all values, statuses and settings in this snapshot."""
        h = hashlib.sha256()
        for metric in sorted(self.columns):
            c = self.columns[metric]
            for array in (c.reading, c.value, c.status, c.setting, c.wall):
                h.update(array.tobytes())
        return h.hexdigest()[:16]
