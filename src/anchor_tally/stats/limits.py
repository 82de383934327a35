"""Bias and limits of agreement for one pair per client, and agreement of pairs."""

from __future__ import annotations

import math
from dataclasses import dataclass

from .distributions import noncentral_t_quantile, normal_quantile, t_estimate, t_quantile, t_two_sided_p
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
    """Slope of the difference on the mean of both, with interval and two-sided p; None when not estimable."""

    slope: Estimate | None
    intercept: float | None
    p: float | None
    centre: float = 0.0


def single_bias(d: Floats, confidence: float = 0.95) -> tuple[Estimate | None, float | None]:
    """Bias and SD of differences ``d`` of shape (n,), t interval (Bland & Altman 1986)."""
    n = d.size
    if n == 0:
        return None, None
    mean = float(d.mean())
    if n == 1:
        return Estimate(mean, None, 1, "mean"), None
    sd = float(d.std(ddof=1))
    return t_estimate(mean, sd / math.sqrt(n), n - 1, n, "t-interval", confidence), sd


def single_limits(d: Floats, coverage: float = 0.95, confidence: float = 0.95) -> Limits | None:
    """Limits of agreement bias ± z·SD with exact intervals from the noncentral t.

    ``d`` has shape (n,), in the metric's unit; None below two pairs. Source: Carkeet 2015, Optom Vis Sci 92:e71,
    the exact parametric interval of each limit on its own.
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


def approximate_limits(d: Floats, multiplier: float = 2.0, confidence: float = 0.95) -> Limits | None:
    """Limits bias ± multiplier·SD with the first published approximate intervals, SE = SD·√(3/n), t with n - 1.

    Kept beside the exact ones so that papers of that time can be checked (Bland & Altman 1986, Lancet i:307).
    """
    n = d.size
    if n < 2:
        return None
    mean, sd = float(d.mean()), float(d.std(ddof=1))
    half = t_quantile(0.5 + confidence / 2, n - 1) * sd * math.sqrt(3 / n)
    low, high = mean - multiplier * sd, mean + multiplier * sd
    coverage = 1 - t_two_sided_p(multiplier, math.inf)
    return Limits(
        low, high, Interval(low - half, low + half), Interval(high - half, high + half), coverage, "single", "approximate-1986"
    )


def single_trend(d: Floats, mean: Floats, confidence: float = 0.95) -> Trend:
    """Least-squares slope of d on the mean of both methods (Bland & Altman 1999, section 3)."""
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
    p = t_two_sided_p(slope / se, n - 2) if se > 1e-13 * max(abs(slope), 1e-300) else float(slope == 0)
    return Trend(t_estimate(slope, se, n - 2, n, "ols", confidence), intercept, p, centre)
