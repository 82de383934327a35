"""One client through time: noise from day to day, means of a week, and whether a change is more than noise."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from scipy import special

from .distributions import normal_quantile, t_estimate, t_quantile
from .estimate import Estimate, Floats, FrozenArrays, Interval, Ints
from .offsets import day_to_day

WEEK_DAYS = 7
OWN_DAYS = 10  # days of a client from which on their own noise is used
MOST_DAYS = 60  # mornings on each side beyond which nobody is asked for more
FARTHEST = 5 * 365  # days ahead beyond which no date is told
REAL, LIKELY, NOISE = "real", "likely", "within noise"


@dataclass(frozen=True, slots=True)
class Noise:
    """SD of one day's value about what is true of that day's client, and its degrees of freedom; ``own``: from this client alone."""

    sd: float
    df: float
    own: bool


@dataclass(frozen=True, slots=True)
class Verdict:
    """A change between two spans of days: the change with its interval, in one word what it is, and how likely.

    ``direction`` is the probability that the true change has this sign, ``exceeds`` that it is
    larger than a target (None: no target). ``settle`` is how many mornings on each side would
    settle a change of this size; None for more than ``MOST_DAYS``.
    """

    change: Estimate
    kind: str
    direction: float
    exceeds: float | None
    settle: int | None
    first: float
    second: float
    days: tuple[int, int]
    noise: Noise


@dataclass(frozen=True, eq=False)
class WeekMeans(FrozenArrays):
    """Means of the seven days that end with each day (n,), the days in them, and half the 95 % interval of noise."""

    mean: Floats
    days: Ints
    half: Floats


def noise_of(day: Ints, value: Floats, level: Ints | None = None) -> Noise | None:
    """Noise of one client's days (n,), in the order of time: the larger of two SDs, None below four days.

    Successive differences let a slow trend fall out (von Neumann 1941, Ann Math Stat 12:367),
    but days that are alike hide in them; the SD about a straight line sees those, but takes a
    bend for noise. The larger one claims less. ``level`` (n,) numbers settings that read on
    levels of their own: no step between them is noise.
    """
    k = (
        np.zeros(value.size, dtype=np.int64)
        if level is None
        else np.unique(level, return_inverse=True)[1]
    )
    found = day_to_day(value, k)
    if found is None:
        return None
    sd, df = found
    n = np.bincount(k)
    t, v = (x - (np.bincount(k, x) / n)[k] for x in (day.astype(float), value))
    tt, free = float(t @ t), value.size - n.size - 1
    if free > 2 and tt > 0:
        left = v - float(t @ v) / tt * t
        about = math.sqrt(float(left @ left) / free)
        if about > sd:
            return Noise(about, float(free), own=True)
    return Noise(sd, float(df), own=True)


def week_means(day: Ints, value: Floats, noise: Noise | None) -> WeekMeans:
    """Means of the seven days up to each day, from those that have a value."""
    start = np.searchsorted(day, day - WEEK_DAYS + 1)
    sums = np.concatenate([[0.0], np.cumsum(value)])
    days = np.arange(1, day.size + 1) - start
    half = np.zeros(day.size)
    if noise is not None:
        half = t_quantile(0.975, noise.df) * noise.sd / np.sqrt(np.maximum(days, 1))
    return WeekMeans((sums[1:] - sums[start]) / np.maximum(days, 1), days.astype(np.int64), half)


def around(day: Ints, at: int) -> Ints:
    """Places of the days within three of ``at``; where there is none, of the nearest day within two weeks."""
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
            Estimate(change, Interval(change, change), sum(days), "exact"), NOISE if same else REAL, 0.5 if same else 1.0,
            None if target is None else float(abs(change) > target), None, float(first.mean()), float(second.mean()), days, noise,
        )  # fmt: skip
    size = abs(change)
    kind = (
        REAL
        if size > t_quantile(0.975, df) * se
        else LIKELY
        if size > t_quantile(0.9, df) * se
        else NOISE
    )
    settle = (
        math.ceil(2 * (normal_quantile(0.975) * noise.sd / size) ** 2)
        if size > 0
        else MOST_DAYS + 1
    )
    return Verdict(
        change=t_estimate(change, se, df, sum(days), "means-of-days"),
        kind=kind,
        direction=float(special.stdtr(df, size / se)),
        exceeds=None if target is None else float(special.stdtr(df, (size - target) / se)),
        settle=settle if settle <= MOST_DAYS else None,
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
    """Least-squares slope per week with its t interval; None below five days, or three weeks."""
    if day.size < least_days or int(day[-1] - day[0]) < least_span:
        return None
    t = (day - day.mean()) / WEEK_DAYS
    tt = float(t @ t)
    slope = float(t @ value) / tt
    left = value - value.mean() - slope * t
    se = math.sqrt(float(left @ left) / (day.size - 2) / tt)
    now = float(value.mean()) + slope * float(t[-1])
    return Rate(t_estimate(slope, se, day.size - 2, int(day.size), "ols"), now)


def days_to(goal: float, rate: Rate) -> tuple[int, int | None] | None:
    """Earliest and latest day from now at which a goal is reached at this rate; the latest is None where it may never be.

    None where the rate goes the other way, the goal is reached, or lies years away. By the ends
    of the rate's interval.
    """
    gap = goal - rate.now
    i = rate.per_week.interval
    if i is None or gap == 0:
        return None
    toward = (i.low, i.high) if gap > 0 else (-i.high, -i.low)
    slow, fast = toward
    if fast <= 0:
        return None
    size = abs(gap) * WEEK_DAYS
    if size / fast > FARTHEST:
        return None
    return math.floor(size / fast), math.ceil(size / slow) if slow * FARTHEST > size else None


def disagreement(change: Floats, se: Floats) -> tuple[float, float] | None:
    """Cochran's Q of several estimates of one change.

    Parameters
    ----------
    change, se : (k,) arrays
        Estimates and their standard errors.

    Returns
    -------
    tuple of float or None
        Q and its p from χ² with k − 1 degrees of freedom; None below two estimates.

    References
    ----------
    Cochran 1954, Biometrics 10:101.
    """
    if change.size < 2 or (se <= 0).any():
        return None
    w = 1 / se**2
    mean = float(w @ change / w.sum())
    q = float(w @ (change - mean) ** 2)
    return q, float(special.chdtrc(change.size - 1, q))
