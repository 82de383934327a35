"""Which devices repeat another one: its readings again, plus a constant for each client."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...domain.records import Instrument
from ...domain.snapshot import OK, Columns, Floats, Ints

COPY = "copy"
LEAST_SHARED = 8  # days beyond one a client on which both were read


def copies(c: Columns, items: Sequence[Instrument]) -> frozenset[int]:
    """Return the numbers of devices that tell nothing beside another one.

    Two devices that err independently never differ by exactly the same on several days. Of a
    device and its copies the one with the most readings is kept.

    Parameters
    ----------
    c : Columns
        Readings of one metric.
    items : sequence of Instrument
        Devices that would be combined.

    Returns
    -------
    frozenset of int
        Numbers of instruments.
    """
    means = {i.id: _daily(c, i.id) for i in items}
    order = sorted(means, key=lambda k: -means[k][0].size)
    kept: list[int] = []
    for k in order:
        if not any(_repeats(means[k], means[other]) for other in kept):
            kept.append(k)
    return frozenset(order) - frozenset(kept)


def _daily(c: Columns, instrument: int) -> tuple[Ints, Ints, Floats]:
    """Client-days of an instrument as one number each, their clients, and the mean of each."""
    rows = np.flatnonzero((c.status == OK) & (c.instrument == instrument))
    width = int(c.day.max(initial=0)) + 1
    keys, at = np.unique(c.client[rows].astype(np.int64) * width + c.day[rows], return_inverse=True)
    mean = np.bincount(at, c.value[rows], keys.size) / np.maximum(np.bincount(at), 1)
    return keys, keys // width, mean


def _repeats(a: tuple[Ints, Ints, Floats], b: tuple[Ints, Ints, Floats]) -> bool:
    """Whether two devices differ by the same on all days of each client."""
    _, x, y = np.intersect1d(a[0], b[0], assume_unique=True, return_indices=True)
    if not x.size:
        return False
    d = a[2][x] - b[2][y]
    clients, first, k = np.unique(a[1][x], return_index=True, return_inverse=True)
    same = np.abs(d - d[first][k]) <= 1e-9 * (1 + np.abs(a[2][x]))
    return bool(x.size >= clients.size + LEAST_SHARED and same.all())
