"""The study as frozen, read-only columns."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, fields, replace
from datetime import date
from typing import Any

import numpy as np
import numpy.typing as npt

from .catalogue import Catalogue
from .records import Client, Instrument, Setting

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
# states of a reading in columns; simulated: of no real device, in a study that is not for practice;
# held: a finding of the review about it waits for a decision; only Track sets it
OK, FAILED, EXCLUDED, SIMULATED, HELD = 0, 1, 2, 3, 4
_EPOCH = date(1970, 1, 1).toordinal()


def read_only(values: Any, dtype: Any) -> Any:
    """Return ``values`` as an array of ``dtype`` that cannot be written to."""
    array = np.ascontiguousarray(values, dtype=dtype)
    array.setflags(write=False)
    return array


@dataclass(frozen=True, eq=False)
class Columns:
    """Readings of one metric, one element a reading, all arrays of shape (n,).

    ``instant`` is seconds since 1970 in UTC; ``timed`` is False where only a date is known (noon
    stands in); ``day`` is the calendar day number as written. ``reading`` is the stored number;
    a computed value has a negative one that means nothing outside this snapshot: its source is
    its equation and visit . ``value`` is NaN for failed readings only. ``parts`` lists the
    stored readings behind a derived value, and is empty for a stored one.
    """

    metric: str
    reading: Ints
    visit: Ints
    client: Ints
    instrument: Ints
    setting: Ints
    instant: Ints
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


_DTYPES = {
    f.name: np.bool_ if f.name == "timed" else np.float64 if f.name == "value" else np.int64
    for f in fields(Columns)
    if f.name not in ("metric", "parts")
}


def joined(*blocks: Columns) -> Columns:
    """Blocks of readings of one metric after each other."""
    if len(blocks) == 1:
        return blocks[0]
    names = [f.name for f in fields(Columns) if f.name not in ("metric", "parts")]
    arrays = {
        k: read_only(np.concatenate([getattr(b, k) for b in blocks]), getattr(blocks[0], k).dtype)
        for k in names
    }
    parts: tuple[tuple[int, ...], ...] = ()
    if any(b.parts for b in blocks):
        parts = tuple(p for b in blocks for p in b.parts or ((),) * b.n)
    return Columns(metric=blocks[0].metric, parts=parts, **arrays)


class Growing:
    """Columns that grow at their end without a copy.

    Arrays that were handed out before do not change.

    ``filling`` shows that somebody is adding to them just now.
    """

    def __init__(self, metric: str, expected: int = 0) -> None:
        self.metric, self.n, self.filling = metric, 0, False
        self._given: Columns | None = None
        self._arrays = {
            k: np.empty(expected + expected // 16 + 64, dtype) for k, dtype in _DTYPES.items()
        }

    @property
    def last(self) -> int:
        """Number of the last reading, 0 without any."""
        return int(self._arrays["reading"][self.n - 1]) if self.n else 0

    def add(self, block: Mapping[str, Any]) -> None:
        """Add rows: values by column."""
        end = self.n + len(block["reading"])
        for name, array in self._arrays.items():
            if end > array.size:
                wider = np.empty(end + end // 8 + 64, array.dtype)
                wider[: self.n] = array[: self.n]
                self._arrays[name] = array = wider
            array[self.n : end] = block[name]
        self.n = end

    def with_rows(self, place: Ints, rows: Columns) -> Growing:
        """A copy with other rows at ``place``; what was given out before stays as it was."""
        out = Growing(self.metric)
        out.n = self.n
        for name, array in self._arrays.items():
            out._arrays[name] = array.copy()
            out._arrays[name][place] = getattr(rows, name)
        return out

    def columns(self) -> Columns:
        """What is there now, read-only; the same object until something is added."""
        if self._given is None or self._given.n != self.n:
            views: dict[str, Any] = {name: array[: self.n] for name, array in self._arrays.items()}
            for view in views.values():
                view.setflags(write=False)
            self._given = Columns(metric=self.metric, **views)
        return self._given


def empty(metric: str) -> Columns:
    """No reading of a metric."""
    return Growing(metric).columns()


@dataclass(frozen=True, eq=False)
class VisitColumns:
    """Visits, one element each: number, client, instant, age in years, height in cm.

    NaN where not known.
    """

    visit: Ints
    client: Ints
    instant: Ints
    age_years: Floats
    height_cm: Floats


@dataclass(frozen=True, eq=False)
class Snapshot:
    """A study at one revision: its catalogue, visits, and columns by metric.

    A revision stands for one content.

    ``outside`` names, by the number of an equation's instrument, visits of people outside its
    population; ``landmarks`` the sites that were taken at several landmarks for it. ``inputs`` are
    the stored readings that equations use or that these are compared with, by metric.
    ``confirmed`` are keys of review findings that somebody has looked at and left as they are;
    ``now`` is the moment at which the study was read, in seconds.
    """

    revision: int
    catalogue: Catalogue
    visits: VisitColumns
    columns: Mapping[str, Columns] = field(default_factory=dict)
    outside: Mapping[int, Ints] = field(default_factory=dict)
    landmarks: Mapping[int, tuple[str, ...]] = field(default_factory=dict)
    inputs: Mapping[str, Columns] = field(default_factory=dict)
    confirmed: frozenset[str] = frozenset()
    now: float = np.inf

    @property
    def clients(self) -> Mapping[int, Client]:
        """Clients by number."""
        return self.catalogue.clients

    @property
    def instruments(self) -> Mapping[int, Instrument]:
        """Instruments by number, those of equations among them."""
        return self.catalogue.instruments

    @property
    def settings(self) -> Mapping[int, Setting]:
        """Settings by number."""
        return self.catalogue.settings

    def instrument_named(self, name: str) -> Instrument | None:
        """An instrument by name or equation id, whatever the case."""
        return self.catalogue.instrument_named(name)


def between(snapshot: Snapshot, first: str, last: str) -> Snapshot:
    """The study with the readings of some days only.

    Parameters
    ----------
    snapshot : Snapshot
        The whole study.
    first, last : str
        ISO days, both included; empty for no bound.

    Returns
    -------
    Snapshot
        Clients, instruments and visits as before.
    """
    low, high = (
        np.int64(date.fromisoformat(d).toordinal() - _EPOCH) if d else None for d in (first, last)
    )
    columns = {}
    for metric, c in snapshot.columns.items():
        kept = np.ones(c.n, dtype=bool)
        if low is not None:
            kept &= c.day >= low
        if high is not None:
            kept &= c.day <= high
        arrays = {k: read_only(getattr(c, k)[kept], dtype) for k, dtype in _DTYPES.items()}
        parts = (
            tuple(p for p, k in zip(c.parts, kept.tolist(), strict=True) if k) if c.parts else ()
        )
        columns[metric] = Columns(metric=metric, parts=parts, **arrays)
    return replace(snapshot, columns=columns)
