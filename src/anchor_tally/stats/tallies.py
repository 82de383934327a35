"""Repeats that belong together: means and the spread within them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .estimate import Floats, FrozenArrays, Ints


@dataclass(frozen=True, eq=False)
class Within(FrozenArrays):
    """Tallies as columns of shape (k,): size and mean; ``cell`` (n,) is the tally of each value, ``ss`` the sum of squares within."""

    cell: Ints
    size: Ints
    mean: Floats
    ss: float

    @property
    def df(self) -> int:
        """Degrees of freedom within tallies."""
        return int((self.size - 1).sum())

    @property
    def variance(self) -> float | None:
        """Pooled variance within tallies; None without repeats."""
        return self.ss / self.df if self.df > 0 else None


def within(group: Ints, value: Floats) -> Within:
    """Group ``value`` (n,) by the equal numbers of ``group`` (n,), which may be any integers."""
    _, cell, size = np.unique(group, return_inverse=True, return_counts=True)
    mean = np.bincount(cell, value, minlength=size.size) / size
    return Within(cell.astype(np.int64), size.astype(np.int64), mean, float(((value - mean[cell]) ** 2).sum()))
