"""Repeats that belong together: means and the spread within them."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from .estimate import Floats, FrozenArrays, Ints


@dataclass(frozen=True, eq=False)
class Within(FrozenArrays):
    """Tallies as columns of shape (k,): size and mean.

    ``cell`` (n,) is the tally of each value, ``ss`` the sum of squares within.
    """

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


# median of the range of n standard normal values, n = 2 … 6 (by simulation); 6 serves for more
_MEDIAN_RANGE = np.array([0.954, 1.588, 1.978, 2.257, 2.472])
_OFF = 6.0


def robust_sd(group: Ints, value: Floats) -> tuple[float, int] | None:
    """SD within sets of repeats that one mistyped value does not change.

    Parameters
    ----------
    group : ndarray of int, shape (n,)
        Set of each value.
    value : ndarray, shape (n,)
        Readings.

    Returns
    -------
    tuple of float and int, or None
        SD and number of sets with repeats. None without repeats.

    Notes
    -----
    The median of the ranges gives a first SD; sets whose range is above 6 of it are left out and
    the others pooled.

    References
    ----------
    Rousseeuw & Croux 1993, JASA 88:1273, discuss such scales.
    """
    _, cell, size = np.unique(group, return_inverse=True, return_counts=True)
    if not (size > 1).any():
        return None
    low, high = np.full(size.size, np.inf), np.full(size.size, -np.inf)
    np.minimum.at(low, cell, value)
    np.maximum.at(high, cell, value)
    several = size > 1
    spread = np.where(several, high - low, 0.0)
    first = float(np.median(spread[several] / _MEDIAN_RANGE[np.minimum(size[several], 6) - 2]))
    if first <= 0:  # most tallies repeat one value: what is far off is told by the others that vary
        first = float(np.percentile(spread[several], 90)) / 2
    kept = several & (spread <= _OFF * first + 1e-12)
    inside = kept[cell]
    mean = np.bincount(cell, value, minlength=size.size) / size
    ss = float(((value - mean[cell])[inside] ** 2).sum())
    return math.sqrt(ss / float((size[kept] - 1).sum())), int(several.sum())


def far_off(group: Ints, value: Floats, least: float = 0.0) -> Ints:
    """Indices of outliers within sets of repeats.

    Parameters
    ----------
    group : ndarray of int, shape (n,)
        Set of each value.
    value : ndarray, shape (n,)
        Readings.
    least : float
        Smallest distance that counts.

    Returns
    -------
    ndarray of int
        Values more than 6 robust SDs, and more than ``least``, from the median of the other values
        of their set.

    Notes
    -----
    With fewer than four sets the SD is not known well enough. A value is then an outlier when it
    differs from the other repeats by a quarter of their value and by ten times their range.
    """
    found = robust_sd(group, value)
    if found is None:
        return np.empty(0, dtype=np.int64)
    sd, tallies = found
    order = np.lexsort((value, group))
    _, start, size = np.unique(group[order], return_index=True, return_counts=True)
    cell = np.repeat(np.arange(size.size), size)
    n, place, first = size[cell], np.arange(value.size) - start[cell], start[cell]
    sorted_ = value[order]

    def other(k: Ints) -> Floats:
        """The k-th smallest of the other values of the tally."""
        return np.asarray(
            sorted_[np.minimum(first + k + (k >= place), value.size - 1)], dtype=float
        )

    m = n - 1
    # the nearer of the two middle ones: of three readings, one that is off would pull the middle of
    # the others with it
    middle = other((m - 1) // 2)
    gap = np.minimum(np.abs(sorted_ - middle), np.abs(sorted_ - other(np.maximum(m, 1) // 2)))
    others = other(np.maximum(m - 1, 0)) - other(np.zeros_like(m))
    bound = (
        np.maximum(_OFF * sd, least)
        if tallies >= 4
        else np.maximum(10 * others, np.maximum(0.25 * np.abs(middle), least))
    )
    return np.asarray(np.sort(order[(n > 2) & (gap > bound + 1e-9)]), dtype=np.int64)


def within(group: Ints, value: Floats) -> Within:
    """Group values by set of repeats.

    Parameters
    ----------
    group : ndarray of int, shape (n,)
        Set of each value; any integers.
    value : ndarray, shape (n,)
        Readings.

    Returns
    -------
    Within
        Size and mean of each set, and the sum of squares within sets.
    """
    _, cell, size = np.unique(group, return_inverse=True, return_counts=True)
    mean = np.bincount(cell, value, minlength=size.size) / size
    return Within(
        cell.astype(np.int64), size.astype(np.int64), mean, float(((value - mean[cell]) ** 2).sum())
    )
