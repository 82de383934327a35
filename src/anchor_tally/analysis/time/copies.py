"""Which readings repeat another device: the same again, plus a constant for each client."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ...domain.records import Instrument
from ...domain.snapshot import OK, Columns, Floats, Ints, read_only
from ...stats.estimate import FrozenArrays

COPY = "copy"
LEAST_SHARED = 8  # days beyond one a client on which both were read
MOST_ALONE = 0.1  # share of a copy's days on which it alone was read: those are lost with it


@dataclass(frozen=True, eq=False)
class Copies(FrozenArrays):
    """Devices that tell nothing beside another one, and rows of others that repeat one.

    ``instruments`` are numbers of devices, ``rows`` (r,) indices of readings.
    """

    instruments: frozenset[int]
    rows: Ints


def copies(c: Columns, items: Sequence[Instrument], anchor: Instrument | None = None) -> Copies:
    """Find what is the same reading under another name.

    Two devices that err independently never differ by exactly the same on several days. Of a
    device and its copies the one with the most days is kept. Of a device that was also read on
    many other days only the days that repeat are named.

    Parameters
    ----------
    c : Columns
        Readings of one metric.
    items : sequence of Instrument
        Devices that would be combined.
    anchor : Instrument, optional
        A device that is kept in any case.

    Returns
    -------
    Copies
        Devices and readings that count for nothing.
    """
    means = {i.id: _daily(c, i.id) for i in items}
    kept = [] if anchor is None else [_daily(c, anchor.id)]
    out, rows = [], list[Ints]()
    for k in sorted(means, key=lambda k: -means[k].key.size):
        again = [_repeated(means[k], other) for other in kept]
        if any(x.size and x.size >= (1 - MOST_ALONE) * means[k].key.size for x in again):
            out.append(k)
            continue
        kept.append(means[k])
        rows += [means[k].row[np.isin(means[k].day, x)] for x in again]
    found = np.unique(np.concatenate(rows)) if rows else np.empty(0)
    return Copies(frozenset(out), read_only(found, np.int64))


@dataclass(frozen=True, eq=False)
class _Daily:
    """Client-days (d,) of a device as one number each, their clients and means.

    ``row`` (r,) are its readings, ``day`` (r,) the place of each among the client-days.
    """

    key: Ints
    client: Ints
    mean: Floats
    row: Ints
    day: Ints


def _daily(c: Columns, instrument: int) -> _Daily:
    rows = np.flatnonzero((c.status == OK) & (c.instrument == instrument))
    width = int(c.day.max(initial=0)) + 1
    keys, at = np.unique(c.client[rows].astype(np.int64) * width + c.day[rows], return_inverse=True)
    mean = np.bincount(at, c.value[rows], keys.size) / np.maximum(np.bincount(at), 1)
    return _Daily(keys, keys // width, mean, rows, at)


def _repeated(a: _Daily, b: _Daily) -> Ints:
    """Client-days of the first device on which it differs from the other by the same, (s,).

    All days of a client on which both were read, or none.
    """
    _, x, y = np.intersect1d(a.key, b.key, assume_unique=True, return_indices=True)
    d = a.mean[x] - b.mean[y]
    clients, first, k = np.unique(a.client[x], return_index=True, return_inverse=True)
    same = np.abs(d - d[first][k]) <= 1e-9 * (1 + np.abs(a.mean[x]))
    repeats = x.size >= clients.size + LEAST_SHARED and same.all()
    return np.asarray(x if repeats else x[:0], dtype=np.int64)
