"""Regression of the instrument (y) on the reference (x) with error in both."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from .distributions import t_quantile
from .estimate import Estimate, Floats, Interval, Ints


@dataclass(frozen=True, slots=True)
class Line:
    """A fitted line y = intercept + slope·x; ``ratio`` is var(error y)/var(error x)."""

    slope: Estimate
    intercept: Estimate
    ratio: float


def least_squares(x: Floats, y: Floats, confidence: float = 0.95) -> Line | None:
    """Ordinary least squares of y on x.

    Parameters
    ----------
    x, y : ndarray, shape (n,)
        Reference, taken as free of error, and device.
    confidence : float
        Level of the t intervals.

    Returns
    -------
    Line or None
        None below three points or where x does not vary.
    """
    n = x.size
    cx = x - x.mean() if n else x
    sxx = float(cx @ cx)
    if n < 3 or sxx <= 1e-18 * n * max(1.0, float(np.abs(x).max())) ** 2:
        return None
    slope = float(cx @ y) / sxx
    icpt = float(y.mean()) - slope * float(x.mean())
    rest = y - icpt - slope * x
    s = math.sqrt(float(rest @ rest) / (n - 2))
    t = t_quantile(0.5 + confidence / 2, n - 2)
    half, at_zero = t * s / math.sqrt(sxx), t * s * math.sqrt(1 / n + float(x.mean()) ** 2 / sxx)
    return Line(
        Estimate(slope, Interval(slope - half, slope + half), n, "ols"),
        Estimate(icpt, Interval(icpt - at_zero, icpt + at_zero), n, "ols"),
        math.inf,
    )


def _deming(s: Floats, ratio: float) -> tuple[Floats, Floats]:
    n = s[..., 0]
    mx, my = s[..., 1] / n, s[..., 2] / n
    vx, vy, vxy = s[..., 3] / n - mx**2, s[..., 4] / n - my**2, s[..., 5] / n - mx * my
    slope = (vy - ratio * vx + np.sqrt((vy - ratio * vx) ** 2 + 4 * ratio * vxy**2)) / (2 * vxy)
    return slope, my - slope * mx


def deming(
    x: Floats, y: Floats, client: Ints, ratio: float = 1.0, confidence: float = 0.95
) -> Line | None:
    """Deming regression of y on x, with jackknife intervals over clients.

    Parameters
    ----------
    x, y : (n,) arrays
        Reference and instrument, in one unit.
    client : (n,) integer array
        Clients that are left out in turn.
    ratio : float
        Error variance of y over that of x.
    confidence : float
        Level of the intervals.

    Returns
    -------
    Line or None
        Slope and intercept; without intervals when leaving out one client leaves no covariance.
        None for fewer than four clients or without covariance.

    References
    ----------
    Linnet 1993, Clin Chem 39:424.
    """
    _, group = np.unique(client, return_inverse=True)
    groups = int(group.max()) + 1 if x.size else 0
    if groups < 4:
        return None
    ax, ay = float(x.mean()), float(y.mean())
    cx, cy = x - ax, y - ay
    if (
        abs(float(cx @ cy)) <= 1e-12 * math.sqrt(float(cx @ cx) * float(cy @ cy))
        or float(cx @ cx) == 0
    ):
        return None
    terms = np.stack([np.ones(x.size), cx, cy, cx * cx, cy * cy, cx * cy], axis=1)
    total = terms.sum(axis=0)
    sums = np.stack([np.bincount(group, col, minlength=groups) for col in terms.T], axis=1)
    slope, icpt = _deming(total, ratio)
    rest = total - sums
    # without some client the values may not vary together: then the jackknife has nothing to say
    n, sx, sy, sxx, syy, sxy = rest.T
    spread_x, spread_y = (
        np.maximum(sxx / n - (sx / n) ** 2, 0),
        np.maximum(syy / n - (sy / n) ** 2, 0),
    )
    together = np.abs(sxy / n - sx * sy / n**2) > 1e-12 * np.sqrt(spread_x * spread_y) + 1e-300
    slopes, icpts = _deming(rest, ratio) if together.all() else (np.zeros(0), np.zeros(0))
    t = t_quantile(0.5 + confidence / 2, groups - 1)

    def estimate(value: float, left_out: Floats) -> Estimate:
        if left_out.size == 0:
            return Estimate(value, None, x.size, "deming")
        pseudo = groups * value - (groups - 1) * left_out
        half = t * float(pseudo.std(ddof=1)) / math.sqrt(groups)
        return Estimate(value, Interval(value - half, value + half), x.size, "deming-jackknife")

    at_origin = ay - ax * slopes + icpts
    return Line(
        estimate(float(slope), slopes), estimate(float(ay - ax * slope + icpt), at_origin), ratio
    )
