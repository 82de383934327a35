"""One client through time: day-to-day noise, weekly means, and detection of change."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from scipy import special

from .distributions import t_estimate, t_quantile
from .estimate import Estimate, Floats, FrozenArrays, Interval, Ints
from .offsets import day_to_day

WEEK_DAYS = 7
OWN_DAYS = 10  # days of a client from which on their own noise is used
REAL, LIKELY, NOISE = "real", "likely", "within noise"
NOT_ENOUGH = "not enough"


@dataclass(frozen=True, slots=True)
class Noise:
    """SD of one day's value about what is true of that day's client, and its degrees of freedom.

    ``own``: from this client alone.
    """

    sd: float
    df: float
    own: bool

    @property
    def between_days(self) -> float:
        """Difference of two single days that 95 of 100 pairs stay below without any change.

        The t quantile with ``df`` stands for the normal one, because the SD is estimated.
        """
        return t_quantile(0.975, self.df) * math.sqrt(2) * self.sd


@dataclass(frozen=True, slots=True)
class Verdict:
    """A change between two spans of days: value, interval, verdict and probability.

    ``direction`` is the probability that the true change has this sign, ``exceeds`` that it is
    larger than a target (None: no target).
    """

    change: Estimate
    kind: str
    direction: float
    exceeds: float | None
    first: float
    second: float
    days: tuple[int, int]
    noise: Noise


@dataclass(frozen=True, eq=False)
class WeekMeans(FrozenArrays):
    """Means of the seven days that end with each day, shape (n,).

    With the number of days and half the 95 % interval of noise.
    """

    mean: Floats
    days: Ints
    half: Floats


def noise_of(day: Ints, value: Floats, level: Ints | None = None) -> Noise | None:
    """Day-to-day noise of one client.

    Parameters
    ----------
    day : ndarray of int, shape (n,)
        Days in increasing order.
    value : ndarray, shape (n,)
        Value of each day, in units of the metric.
    level : ndarray of int, shape (n,), optional
        Number of the setting of each day. Settings may differ in level; steps between them are not
        noise.

    Returns
    -------
    Noise or None
        The larger of two SDs. None below four days, and where days lie far apart and are fewer
        than three more than their settings.

    Notes
    -----
    Differences of days at most two weeks apart cancel a slow trend (von Neumann 1941) but are too
    small when neighbouring days are alike. The SD about a straight line is right for those but
    counts a bend as noise. The larger of both claims less. Days farther apart differ by real
    change, so only the line counts there.

    References
    ----------
    von Neumann 1941, Ann Math Stat 12:367.
    """
    k = (
        np.zeros(value.size, dtype=np.int64)
        if level is None
        else np.unique(level, return_inverse=True)[1]
    )
    sd, df = day_to_day(value, k, day, 2 * WEEK_DAYS) or (0.0, 0.0)
    n = np.bincount(k)
    t, v = (x - (np.bincount(k, x) / n)[k] for x in (day.astype(float), value))
    tt, free = float(t @ t), value.size - n.size - 1
    if free > 2 and tt > 0:
        left = v - float(t @ v) / tt * t
        about = math.sqrt(float(left @ left) / free)
        if about > sd or df == 0:
            return Noise(about, float(free), own=True)
    return Noise(sd, df, own=True) if df > 0 else None


def week_means(day: Ints, value: Floats, noise: Noise | None) -> WeekMeans:
    """Mean of the seven days up to each day.

    Parameters
    ----------
    day : ndarray of int, shape (n,)
        Days in increasing order.
    value : ndarray, shape (n,)
        Value of each day.
    noise : Noise or None
        Day-to-day noise; without it the means have no interval.

    Returns
    -------
    WeekMeans
        Means, number of days and half widths, each of shape (n,).
    """
    start = np.searchsorted(day, day - WEEK_DAYS + 1)
    sums = np.concatenate([[0.0], np.cumsum(value)])
    days = np.arange(1, day.size + 1) - start
    half = np.zeros(day.size)
    if noise is not None:
        half = t_quantile(0.975, noise.df) * noise.sd / np.sqrt(np.maximum(days, 1))
    return WeekMeans((sums[1:] - sums[start]) / np.maximum(days, 1), days.astype(np.int64), half)


def around(day: Ints, at: int) -> Ints:
    """Indices of the days within three days of a date.

    Parameters
    ----------
    day : ndarray of int, shape (n,)
        Days in increasing order.
    at : int
        The date.

    Returns
    -------
    ndarray of int
        Where no day is so near, the nearest day within two weeks; else empty.
    """
    near = np.flatnonzero(np.abs(day - at) <= WEEK_DAYS // 2)
    if near.size == 0 and day.size:
        nearest = int(np.abs(day - at).argmin())
        near = np.array([nearest]) if abs(int(day[nearest]) - at) <= 2 * WEEK_DAYS else near
    return np.asarray(near, dtype=np.int64)


def verdict(
    first: Floats,
    second: Floats,
    noise: Noise,
    target: float | None = None,
    moved: tuple[float, float] = (0.0, 0.0),
) -> Verdict:
    """Judge a change of one client between two spans of days.

    Parameters
    ----------
    first, second : (a,), (b,) arrays
        Values of the days of each span; an offset falls out of the difference.
    noise : Noise
        SD of a day and its degrees of freedom.
    target : float, optional
        A change whose being exceeded is given a probability.
    moved : tuple of float
        What the device is known to have drifted meanwhile, and its SD.

    Returns
    -------
    Verdict
        *real* where the 95 % interval of the change excludes zero, *likely* where the 80 % interval
        does, else *within noise*.
    """
    change = float(second.mean() - first.mean()) - moved[0]
    se = math.sqrt(noise.sd**2 * (1 / first.size + 1 / second.size) + moved[1] ** 2)
    df = noise.df
    days = (int(first.size), int(second.size))
    if se <= 0:
        same = abs(change) < 1e-12
        return Verdict(
            Estimate(change, Interval(change, change), sum(days), "exact"),
            NOISE if same else REAL,
            0.5 if same else 1.0,
            None if target is None else float(abs(change) > target),
            float(first.mean()),
            float(second.mean()),
            days,
            noise,
        )
    size = abs(change)
    kind = (
        REAL
        if size > t_quantile(0.975, df) * se
        else LIKELY
        if size > t_quantile(0.9, df) * se
        else NOISE
    )
    return Verdict(
        change=t_estimate(change, se, df, sum(days), "means-of-days"),
        kind=kind,
        direction=float(special.stdtr(df, size / se)),
        exceeds=None if target is None else float(special.stdtr(df, (size - target) / se)),
        first=float(first.mean()),
        second=float(second.mean()),
        days=days,
        noise=noise,
    )


@dataclass(frozen=True, slots=True)
class Rate:
    """Change per week by a straight line, and the line's value at the last day."""

    per_week: Estimate
    now: float


def rate_of(day: Ints, value: Floats, least_days: int = 5, least_span: int = 21) -> Rate | None:
    """Least-squares slope per week.

    Parameters
    ----------
    day : ndarray of int, shape (n,)
        Days in increasing order.
    value : ndarray, shape (n,)
        Value of each day.
    least_days, least_span : int
        Fewest days with a value, and shortest span in days.

    Returns
    -------
    Rate or None
        Slope with a t interval, and the value of the line on the last day. None with fewer days.
    """
    if day.size < least_days or int(day[-1] - day[0]) < least_span:
        return None
    t = (day - day.mean()) / WEEK_DAYS
    tt = float(t @ t)
    slope = float(t @ value) / tt
    left = value - value.mean() - slope * t
    se = math.sqrt(float(left @ left) / (day.size - 2) / tt)
    now = float(value.mean()) + slope * float(t[-1])
    return Rate(t_estimate(slope, se, day.size - 2, int(day.size), "ols"), now)
