"""Which devices repeat another one: its readings again, plus a constant for each client."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...domain.records import Instrument
from ...domain.snapshot import OK, Columns, Floats, Ints

COPY = "copy"
LEAST_SHARED = 8  # days beyond one a client on which both were read
MOST_ALONE = 0.1  # share of a copy's days on which it alone was read: those are lost with it


def copies(
    c: Columns, items: Sequence[Instrument], anchor: Instrument | None = None
) -> frozenset[int]:
    """Return the numbers of devices that tell nothing beside another one.

    Two devices that err independently never differ by exactly the same on several days. Of a
    device and its copies the one with the most days is kept. A device that was also read on many
    other days is no copy.

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
    frozenset of int
        Numbers of instruments.
    """
    means = {i.id: _daily(c, i.id) for i in items}
    kept = [] if anchor is None else [_daily(c, anchor.id)]
    out = []
    for k in sorted(means, key=lambda k: -means[k][0].size):
        if any(_repeats(means[k], other) for other in kept):
            out.append(k)
        else:
            kept.append(means[k])
    return frozenset(out)


def _daily(c: Columns, instrument: int) -> tuple[Ints, Ints, Floats]:
    """Client-days of an instrument as one number each, their clients, and the mean of each."""
    rows = np.flatnonzero((c.status == OK) & (c.instrument == instrument))
    width = int(c.day.max(initial=0)) + 1
    keys, at = np.unique(c.client[rows].astype(np.int64) * width + c.day[rows], return_inverse=True)
    mean = np.bincount(at, c.value[rows], keys.size) / np.maximum(np.bincount(at), 1)
    return keys, keys // width, mean


def _repeats(a: tuple[Ints, Ints, Floats], b: tuple[Ints, Ints, Floats]) -> bool:
    """Whether the first device differs from the other by the same on all days of each client."""
    _, x, y = np.intersect1d(a[0], b[0], assume_unique=True, return_indices=True)
    if not x.size or x.size < (1 - MOST_ALONE) * a[0].size:
        return False
    d = a[2][x] - b[2][y]
    clients, first, k = np.unique(a[1][x], return_index=True, return_inverse=True)
    same = np.abs(d - d[first][k]) <= 1e-9 * (1 + np.abs(a[2][x]))
    return bool(x.size >= clients.size + LEAST_SHARED and same.all())
