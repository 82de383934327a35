"""Bias and limits of agreement for one pair per client, and agreement of pairs."""

from __future__ import annotations

import math
from dataclasses import dataclass

from .distributions import (
    noncentral_t_quantile,
    normal_quantile,
    t_estimate,
    t_quantile,
    t_two_sided_p,
)
from .estimate import Estimate, Floats, Interval


@dataclass(frozen=True, slots=True)
class Limits:
    """Limits of agreement with an interval each; ``design`` is 'single' or 'repeated'."""

    lower: float
    upper: float
    lower_interval: Interval | None
    upper_interval: Interval | None
    coverage: float
    design: str
    method: str


@dataclass(frozen=True, slots=True)
class Trend:
    """Slope of the difference on the mean of both, with interval and two-sided p.

    None when not estimable.
    """

    slope: Estimate | None
    intercept: float | None
    p: float | None
    centre: float = 0.0


def single_bias(d: Floats, confidence: float = 0.95) -> tuple[Estimate | None, float | None]:
    """Bias and SD of the differences of one pair a client.

    Parameters
    ----------
    d : (n,) array
        Differences instrument − reference, in the metric's unit.
    confidence : float
        Level of the interval.

    Returns
    -------
    bias : Estimate or None
        Mean difference with a t interval; without an interval for one pair, None for none.
    sd : float or None
        SD of one difference; None below two pairs.

    References
    ----------
    Bland & Altman 1986, Lancet i:307.

    Examples
    --------
    >>> import numpy as np
    >>> bias, sd = single_bias(np.array([1.0, 2.0, 3.0]))
    >>> bias.value, bias.df, round(bias.se, 4), sd
    (2.0, 2, 0.5774, 1.0)
    """
    n = d.size
    if n == 0:
        return None, None
    mean = float(d.mean())
    if n == 1:
        return Estimate(mean, None, 1, "mean"), None
    sd = float(d.std(ddof=1))
    return t_estimate(mean, sd / math.sqrt(n), n - 1, n, "t-interval", confidence), sd


def single_limits(d: Floats, coverage: float = 0.95, confidence: float = 0.95) -> Limits | None:
    """Limits of agreement of one pair a client, with exact intervals.

    Parameters
    ----------
    d : (n,) array
        Differences instrument − reference, in the metric's unit.
    coverage : float
        Share of differences between the limits.
    confidence : float
        Level of the interval of each limit on its own.

    Returns
    -------
    Limits or None
        bias ± z·SD with intervals from the noncentral t; None below two pairs.

    References
    ----------
    Carkeet 2015, Optom Vis Sci 92:e71 (the exact parametric interval of each limit on its own).

    Examples
    --------
    >>> import numpy as np
    >>> limits = single_limits(np.array([-1.0, 0.0, 1.0, 2.0]))
    >>> round(limits.lower, 2), round(limits.upper, 2)
    (-2.03, 3.03)
    """
    n = d.size
    if n < 2:
        return None
    z = normal_quantile(0.5 + coverage / 2)
    mean, sd = float(d.mean()), float(d.std(ddof=1))
    root = math.sqrt(n)
    inner = noncentral_t_quantile(0.5 - confidence / 2, n - 1, z * root) / root
    outer = noncentral_t_quantile(0.5 + confidence / 2, n - 1, z * root) / root
    return Limits(
        mean - z * sd,
        mean + z * sd,
        Interval(mean - outer * sd, mean - inner * sd),
        Interval(mean + inner * sd, mean + outer * sd),
        coverage,
        "single",
        "exact-noncentral-t",
    )


def approximate_limits(
    d: Floats, multiplier: float = 2.0, confidence: float = 0.95
) -> Limits | None:
    """Limits of agreement with the approximate intervals of the first publication.

    They allow results of papers of that time to be checked; the program itself uses the exact
    intervals.

    Parameters
    ----------
    d : ndarray, shape (n,)
        One difference a client.
    multiplier : float
        SDs on each side of the bias.
    confidence : float
        Level of the intervals of the limits.

    Returns
    -------
    Limits or None
        Bias ± multiplier·SD; SE of a limit SD·√(3/n), t with n − 1. None below two pairs.

    References
    ----------
    Bland & Altman 1986, Lancet i:307.
    """
    n = d.size
    if n < 2:
        return None
    mean, sd = float(d.mean()), float(d.std(ddof=1))
    half = t_quantile(0.5 + confidence / 2, n - 1) * sd * math.sqrt(3 / n)
    low, high = mean - multiplier * sd, mean + multiplier * sd
    coverage = 1 - t_two_sided_p(multiplier, math.inf)
    return Limits(
        low,
        high,
        Interval(low - half, low + half),
        Interval(high - half, high + half),
        coverage,
        "single",
        "approximate-1986",
    )


def single_trend(d: Floats, mean: Floats, confidence: float = 0.95) -> Trend:
    """Least-squares slope of the difference on the mean of both methods.

    Parameters
    ----------
    d, mean : ndarray, shape (n,)
        Differences, and means of both methods, one pair a client.
    confidence : float
        Level of the interval.

    Returns
    -------
    Trend
        Its slope is None below three pairs or where the mean does not vary.

    References
    ----------
    Bland & Altman 1999, Stat Methods Med Res 8:135, section 3.
    """
    n = d.size
    if n < 3:
        return Trend(None, None, None)
    centre = float(mean.mean())
    x = mean - centre
    sxx = float(x @ x)
    if sxx <= 1e-20 * max(1.0, centre * centre) * n:
        return Trend(None, None, None)
    slope = float(x @ d) / sxx
    intercept = float(d.mean())
    residual = d - intercept - slope * x
    rss = float(residual @ residual)
    se = math.sqrt(rss / (n - 2) / sxx)
    p = (
        t_two_sided_p(slope / se, n - 2)
        if se > 1e-13 * max(abs(slope), 1e-300)
        else float(slope == 0)
    )
    return Trend(t_estimate(slope, se, n - 2, n, "ols", confidence), intercept, p, centre)
