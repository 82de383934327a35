"""Differences between neighbouring days of one series: variation from day to day.

Neighbours weeks apart differ by real change as well, so only near ones count.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .estimate import Floats, FrozenArrays, Ints
from .near_days import NEAR_DAYS


@dataclass(frozen=True, eq=False)
class DaySteps(FrozenArrays):
    """Differences of neighbours, shape (k,): ``step``, and the place of the second of each.

    ``df`` are the degrees of freedom of their mean square.
    """

    step: Floats
    second: Ints
    df: float

    @property
    def variance(self) -> float:
        """Half the mean square: variance of one value about what is true on its day."""
        return float(self.step @ self.step) / (2 * self.step.size) if self.step.size else 0.0


def day_steps(
    value: Floats, series: Ints, day: Ints, most: float = NEAR_DAYS, least: float = 1
) -> DaySteps:
    """Differences of neighbours of one series that lie at most so many days apart.

    Parameters
    ----------
    value : ndarray, shape (m,)
        One value a visit, in the order of time within a series.
    series : ndarray of int, shape (m,)
        Series of each value, for instance client and setting.
    day : ndarray of int, shape (m,)
        Number of the calendar day.
    most, least : float
        Days between neighbours that count.

    Returns
    -------
    DaySteps

    Notes
    -----
    A slow trend cancels in the differences. Two that share a value are correlated by −1/2, so k
    differences with a such pairs have k/(1 + a/(2k)) degrees of freedom: k for isolated pairs of
    days, 2k/3 for a long run.

    References
    ----------
    von Neumann 1941, Ann Math Stat 12:367.
    """
    gap = np.diff(day)
    near = (series[1:] == series[:-1]) & (gap >= least) & (gap <= most)
    second = np.flatnonzero(near) + 1
    k = second.size
    sharing = int((np.diff(second) == 1).sum())
    step = np.asarray(value[second] - value[second - 1], dtype=float)
    return DaySteps(step, second.astype(np.int64), k / (1 + sharing / (2 * k)) if k else 0.0)
