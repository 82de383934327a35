"""Does a difference move through time?

A slope, a robust slope, steps with a permutation test, and a control chart.

All work on the nested design of ``components``: readings of occasions (anchors) of clients, with
weeks as the time of an occasion.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from scipy import special

from .components import NestedFit, fit_nested
from .distributions import normal_quantile, t_estimate, t_quantile, t_two_sided_p
from .estimate import Estimate, Floats, Interval, Ints

LEAST_DAYS = 3.0  # days apart from which moments are different ones


@dataclass(frozen=True, slots=True)
class TimeSlope:
    """Slope per week with its interval, two-sided p and degrees of freedom.

    ``level`` is the fitted mean at ``middle`` (weeks).

    ``level_variance`` and ``covariance`` belong to the level, and to the level with the slope: a
    band is made of them.
    """

    slope: Estimate
    p: float
    df: float
    middle: float
    level: float
    level_variance: float
    covariance: float
    slope_variance: float

    def band(self, weeks: Floats) -> tuple[Floats, Floats, Floats]:
        """Fitted line at ``weeks`` and its 95 % band, all of one shape."""
        t = weeks - self.middle
        line = self.level + self.slope.value * t
        variance = np.maximum(
            self.level_variance + 2 * t * self.covariance + t * t * self.slope_variance, 0.0
        )
        half = t_quantile(0.975, self.df) * np.sqrt(variance)
        return line, line - half, line + half


@dataclass(frozen=True, slots=True)
class RobustSlope:
    """Median slope over pairs of moments of one client, with rank interval.

    And Mann–Kendall's p with clients as blocks.
    """

    slope: Estimate
    p: float
    pairs: int


def moments_apart(weeks: Floats) -> int:
    """Number of moments that lie at least ``LEAST_DAYS`` apart.

    Parameters
    ----------
    weeks : ndarray, shape (n,)
        Times in weeks.

    Returns
    -------
    int
    """
    if weeks.size == 0:
        return 0
    ordered = np.sort(weeks) * 7
    return 1 + int((np.diff(ordered) >= LEAST_DAYS).sum())


def slope_on_time(
    d: Floats, client: Ints, occasion: Ints, weeks: Floats, beside: Floats | None = None
) -> TimeSlope | None:
    """Slope of the difference on time in the nested mixed model.

    Parameters
    ----------
    d : (N,) array
        Differences, in the metric's unit.
    client, occasion : (N,) integer arrays
        Whose pair it is, and of which anchor.
    weeks : (N,) array
        Time of the anchor.
    beside : (N, q) array, optional
        Further fixed effects, such as setting periods.

    Returns
    -------
    TimeSlope or None
        Slope a week by REML with Satterthwaite degrees of freedom. None with one moment only,
        or where the slope cannot be separated from the other terms.
    """
    return slope_beside(d, client, occasion, weeks, beside) if moments_apart(weeks) > 1 else None


def slope_beside(
    d: Floats, client: Ints, occasion: Ints, along: Floats, beside: Floats | None = None
) -> TimeSlope | None:
    """Slope of the difference beside other fixed effects in the nested mixed model.

    Parameters
    ----------
    d : ndarray, shape (N,)
        Differences.
    client, occasion : ndarray of int, shape (N,)
        Client and occasion of each pair.
    along : ndarray, shape (N,)
        Covariate of the slope, for instance the time in weeks.
    beside : ndarray, shape (N, q), optional
        Other fixed effects.

    Returns
    -------
    TimeSlope or None
        None where the slope is not identified beside the other effects, or nothing varies.

    Notes
    -----
    Degrees of freedom are Satterthwaite's, at most occasions less clients less fixed effects. None
    as well where several clients, some measured more than once, leave one degree of freedom: it
    cannot tell the variance between clients from that between occasions.
    """
    middle = float(along.mean()) if along.size else 0.0
    columns = [np.ones(d.size), along - middle] + ([] if beside is None else list(beside.T))
    x = np.column_stack(columns)
    if d.size < 3 or np.linalg.matrix_rank(x) < x.shape[1]:
        return None
    fit = fit_nested(d, client, occasion, x)
    if fit is None or not fit.theta_cov.any() or not fit.levels_apart:
        return None
    free = free_df(fit, x.shape[1])
    slope, variance = float(fit.beta[1]), float(fit.beta_cov[1, 1])
    if variance <= 0 or free < 1:
        return None
    df = min(fit.satterthwaite(np.eye(x.shape[1])[1]), free)
    se = math.sqrt(variance)
    lead = np.eye(x.shape[1])[0]
    if beside is not None:  # the level of all readings together
        lead[2:] = beside.mean(axis=0)
    return TimeSlope(
        slope=t_estimate(slope, se, df, d.size, "reml-satterthwaite"),
        p=t_two_sided_p(slope / se, df),
        df=df,
        middle=middle,
        level=float(lead @ fit.beta),
        level_variance=float(lead @ fit.beta_cov @ lead),
        covariance=float((fit.beta_cov @ lead)[1]),
        slope_variance=variance,
    )


def free_df(fit: NestedFit, fixed: int) -> float:
    """Largest degrees of freedom that a slope through time can have.

    Parameters
    ----------
    fit : NestedFit
        Variance components.
    fixed : int
        Number of fixed effects.

    Returns
    -------
    float
        Those within clients; those between clients where each client was measured once.
    """
    clients, occasions, _ = fit.counts
    inside = occasions - clients - (fixed - 1)
    return float(inside if inside >= 1 else occasions - fixed)


def robust_slope(y: Floats, client: Ints, weeks: Floats) -> RobustSlope | None:
    """Theil–Sen slope and Mann–Kendall test within clients.

    Parameters
    ----------
    y : ndarray, shape (n,)
        Mean difference of each occasion.
    client : ndarray of int, shape (n,)
        Client of each occasion.
    weeks : ndarray, shape (n,)
        Time of each occasion.

    Returns
    -------
    RobustSlope or None
        None below three pairs of occasions.

    Notes
    -----
    Slopes of all pairs of occasions of one client are pooled; S is summed over clients, with ties
    in its variance. Where each client was measured once, all clients are one block.

    References
    ----------
    Sen 1968, JASA 63:1379; Hirsch, Slack & Smith 1982, Water Resour Res 18:107.
    """
    _, block, size = np.unique(client, return_inverse=True, return_counts=True)
    if size.max(initial=0) < 2:
        block, size = np.zeros(y.size, dtype=np.int64), np.array([y.size])
    order = np.lexsort((weeks, block))
    y, weeks, block = y[order], weeks[order], block[order]
    first, second = _pairs_of(size)
    run = weeks[second] - weeks[first]
    apart = run * 7 >= LEAST_DAYS
    first, second, run = first[apart], second[apart], run[apart]
    if first.size < 3:
        return None
    rise = y[second] - y[first]
    slopes = np.sort(rise / run)
    s = float(np.sign(rise).sum())
    variance = (
        float((size * (size - 1) * (2 * size + 5)).sum()) / 18
        - _ties(block, y)
        - _ties(block, np.round(weeks * 7))
    )
    if variance <= 0:
        return None
    z = (abs(s) - 1) / math.sqrt(variance) if s else 0.0
    half = normal_quantile(0.975) * math.sqrt(variance)
    low, high = (slopes.size - half) / 2, (slopes.size + half) / 2
    interval = None
    if low >= 0 and high <= slopes.size - 1:
        interval = Interval(
            float(np.interp(low, np.arange(slopes.size), slopes)),
            float(np.interp(high, np.arange(slopes.size), slopes)),
        )
    p = float(2 * special.ndtr(-max(z, 0.0)))
    return RobustSlope(
        Estimate(float(np.median(slopes)), interval, y.size, "theil-sen-within"),
        min(p, 1.0),
        int(slopes.size),
    )


def _pairs_of(size: Ints) -> tuple[Ints, Ints]:
    """Places of every two of each block; blocks of ``size`` lie one after the other."""
    begin = np.cumsum(size) - size
    before = np.arange(int(size.sum())) - np.repeat(
        begin, size
    )  # how many of its block lie before each
    second = np.repeat(np.arange(before.size), before)
    within = np.arange(second.size) - np.repeat(np.cumsum(before) - before, before)
    return np.asarray(np.repeat(begin, size)[second] + within, dtype=np.int64), np.asarray(
        second, dtype=np.int64
    )


def _ties(block: Ints, values: Floats) -> float:
    """What equal values of a block take off the variance of S."""
    _, size = np.unique(np.column_stack([block, values]), axis=0, return_counts=True)
    return float((size * (size - 1) * (2 * size + 5)).sum()) / 18


def rounds_needed(
    sd: float, clients: int, anchors: float, gap_weeks: float, bound: float, most: int = 12
) -> int | None:
    """Further scans of each client until the slope is known well enough.

    Parameters
    ----------
    sd : float
        SD of an occasion's mean difference within a client.
    clients : int
        Number of clients.
    anchors : float
        Scans of each client so far.
    gap_weeks : float
        Weeks between scans.
    bound : float
        Wanted half width of the interval of the slope, per week.
    most : int
        Largest number of scans that is tried.

    Returns
    -------
    int or None
        None when more than ``most`` scans would be needed.

    Notes
    -----
    Σ(t − t̄)² of k moments Δ apart is Δ²·k(k² − 1)/12; t has clients·(k − 1) − 1 degrees of
    freedom.
    """
    k = np.arange(
        max(math.ceil(anchors), 1) + 1, max(math.ceil(anchors), 1) + most + 1, dtype=float
    )
    df = clients * (k - 1) - 1
    fair = df >= 1
    spread = gap_weeks * np.sqrt(clients * k * (k * k - 1) / 12)
    half = special.stdtrit(np.maximum(df, 1.0), 0.975) * sd / spread
    enough = np.flatnonzero(fair & (half <= bound))
    return int(enough[0]) + 1 if enough.size else None


def summary_slopes(
    y: Floats, client: Ints, weeks: Floats, least: int = 5, block: Ints | None = None
) -> tuple[Estimate, float] | None:
    """Mean of the clients' own least-squares slopes.

    Parameters
    ----------
    y : ndarray, shape (n,)
        Values.
    client : ndarray of int, shape (n,)
        Client of each value.
    weeks : ndarray, shape (n,)
        Time of each value.
    least : int
        Fewest moments of a client; clients with fewer are left out.
    block : ndarray of int, shape (n,), optional
        Stretches of a client that have a level of their own.

    Returns
    -------
    tuple of Estimate and float, or None
        Mean slope with a t interval over clients, and its p-value. None below three clients.

    Notes
    -----
    Autocorrelation of a client's values does not bias the interval, since it is made over clients.

    References
    ----------
    Matthews et al. 1990, BMJ 300:230.
    """
    _, k, size = np.unique(client, return_inverse=True, return_counts=True)
    keep = size[k] >= least
    y, weeks, k = y[keep], weeks[keep], np.unique(k[keep], return_inverse=True)[1]
    if k.size == 0:
        return None
    level = k if block is None else np.unique(block[keep], return_inverse=True)[1]
    n = np.bincount(level)
    t = weeks - (np.bincount(level, weeks) / n)[level]
    tt = np.bincount(k, t * t)
    moved = tt > 0
    slopes = np.bincount(k, t * y)[moved] / tt[moved]
    if slopes.size < 3:
        return None
    mean, se = float(slopes.mean()), float(slopes.std(ddof=1)) / math.sqrt(slopes.size)
    if se <= 0:
        return None
    df = slopes.size - 1
    return t_estimate(mean, se, df, int(keep.sum()), "summary-slopes"), t_two_sided_p(mean / se, df)


def straight_line(y: Floats, weeks: Floats) -> tuple[Estimate, float] | None:
    """Least-squares slope of one series on time.

    Parameters
    ----------
    y : (n,) array
        Values.
    weeks : (n,) array
        Their times.

    Returns
    -------
    slope : Estimate
        Slope a week with a t interval.
    p : float
        Two-sided p. Both come as one tuple, or None below three moments.

    Examples
    --------
    >>> import numpy as np
    >>> slope, p = straight_line(np.array([1.0, 2.1, 2.9, 4.0]), np.array([0.0, 1.0, 2.0, 3.0]))
    >>> round(slope.value, 2), p < 0.01
    (0.98, True)
    """
    t = weeks - weeks.mean() if y.size else weeks
    tt = float(t @ t)
    if y.size < 3 or tt <= 0:
        return None
    slope = float(t @ y) / tt
    left = y - y.mean() - slope * t
    df = y.size - 2
    se = math.sqrt(float(left @ left) / df / tt)
    if se <= 1e-12 * max(1.0, abs(slope)):
        return Estimate(slope, Interval(slope, slope), y.size, "ols"), (
            1.0 if abs(slope) <= 1e-12 else 0.0
        )
    return t_estimate(slope, se, df, y.size, "ols"), t_two_sided_p(slope / se, df)
