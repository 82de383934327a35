"""Bias, limits and trend for repeated pairs of one client."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from .closeness import Limits, Trend
from .components import NestedFit, fit_nested
from .distributions import chi2_quantile, normal_quantile, t_interval, t_two_sided_p
from .estimate import Estimate, Floats, Interval, Ints


@dataclass(frozen=True, slots=True)
class MeanSquares:
    """Unweighted mean squares of the nested design and their weights in the total variance."""

    squares: tuple[float, float, float]
    weights: tuple[float, float, float]
    df: tuple[int, int, int]


def repeated_bias(fit: NestedFit, confidence: float = 0.95) -> tuple[Estimate, float]:
    """Bias (generalised least squares) with a t interval on Satterthwaite degrees of freedom, and those."""
    bias = float(fit.beta[0])
    lead = np.zeros(fit.beta.size)
    lead[0] = 1.0
    se = math.sqrt(max(float(fit.beta_cov[0, 0]), 0.0))
    df = fit.satterthwaite(lead) if se > 0 and fit.theta_cov.any() else float(max(fit.counts[0] - 1, 1))
    if fit.counts[0] > 1:  # never fewer than the clients, never more than the pairs, can support
        df = min(max(df, 1.0), fit.counts[2] - 1)
    return Estimate(bias, t_interval(bias, se, df, confidence), fit.counts[2], "reml-satterthwaite"), df


def mean_squares(d: Floats, client: Ints, occasion: Ints) -> MeanSquares:
    """Unweighted mean squares between clients, occasions and replicates.

    With weights a the sum Σ a·S² is an unbiased estimate of the total variance whatever the (un)balance
    (Thomas & Hultquist 1978, Ann Stat 6:582; Burdick & Graybill 1992, chapter 5).
    """
    _, c = np.unique(client, return_inverse=True)
    cells, cell = np.unique(np.stack([c, occasion]), axis=1, return_inverse=True)
    cell = cell.ravel()
    owner = cells[0]
    size = np.bincount(cell).astype(float)
    mean = np.bincount(cell, d) / size
    per = np.bincount(owner).astype(float)
    client_mean = np.bincount(owner, mean) / per
    n_c, n_o, n = per.size, size.size, d.size
    df = (n_c - 1, n_o - n_c, n - n_o)
    s_c = float(client_mean.var(ddof=1)) if n_c > 1 else 0.0
    s_o = float(((mean - client_mean[owner]) ** 2).sum()) / df[1] if df[1] else 0.0
    s_r = float(((d - mean[cell]) ** 2).sum()) / df[2] if df[2] else 0.0
    # E S_c² = v_c + k1·v_o + k2·v_r ; E S_o² = v_o + h·v_r ; E S_r² = v_r
    k1 = float((1 / per).mean())
    k2 = float((np.bincount(owner, 1 / size) / per**2).mean())
    h = float(((1 - 1 / per[owner]) / size).sum()) / df[1] if df[1] else 0.0
    a_o = 1 - k1 if df[1] else 0.0
    a_r = 1 - k2 - a_o * h if df[2] else 0.0
    return MeanSquares((s_c, s_o, s_r), (1.0 if n_c > 1 else 0.0, a_o, a_r), df)


def total_variance_interval(ms: MeanSquares, confidence: float = 0.95) -> tuple[float, float, float]:
    """Estimate, lower and upper bound of the total variance (Graybill & Wang 1980, JASA 75:869)."""
    low_gap = high_gap = total = 0.0
    for s2, a, df in zip(ms.squares, ms.weights, ms.df, strict=True):
        if a <= 0 or df <= 0:
            continue
        total += a * s2
        low = df * s2 / chi2_quantile(0.5 + confidence / 2, df)
        high = df * s2 / chi2_quantile(0.5 - confidence / 2, df)
        low_gap += (a * (s2 - low)) ** 2
        high_gap += (a * (high - s2)) ** 2
    return total, max(total - math.sqrt(low_gap), 0.0), total + math.sqrt(high_gap)


def repeated_limits(
    fit: NestedFit, bias: Estimate, d: Floats, client: Ints, occasion: Ints, coverage: float = 0.95, confidence: float = 0.95
) -> Limits:
    """Limits for one future reading of a new client, intervals by MOVER (Zou 2013, Stat Methods Med Res 22:630).

    The total variance is that of the REML fit; its interval is that of the unweighted mean squares, scaled to
    the REML total (identical in a balanced design with no zero variance).
    """
    z = normal_quantile(0.5 + coverage / 2)
    sd = math.sqrt(fit.total_variance)
    total, low, high = total_variance_interval(mean_squares(d, client, occasion), confidence)
    lower = upper = None
    if total > 0 and bias.interval is not None:
        sd_low, sd_high = sd * math.sqrt(low / total), sd * math.sqrt(high / total)
        b, low_b, high_b = bias.value, bias.interval.low, bias.interval.high
        near, far = z * (sd - sd_low), z * (sd_high - sd)
        up = b + z * sd
        down = b - z * sd
        upper = Interval(up - math.hypot(b - low_b, near), up + math.hypot(high_b - b, far))
        lower = Interval(down - math.hypot(b - low_b, far), down + math.hypot(high_b - b, near))
    return Limits(bias.value - z * sd, bias.value + z * sd, lower, upper, coverage, "repeated", "reml-mover")


def repeated_trend(d: Floats, mean: Floats, client: Ints, occasion: Ints, confidence: float = 0.95) -> Trend:
    """Slope of d on the mean of both in the nested mixed model, Satterthwaite t.

    The level of a pair is the mean over its anchor: with the mean of single pairs, replicates of one anchor,
    which share the reference value, would lie on a line of slope 2 whatever the instrument does.
    """
    _, at = np.unique(occasion, return_inverse=True)
    mean = (np.bincount(at, mean) / np.bincount(at))[at]
    centre = float(mean.mean())
    x = mean - centre
    if d.size < 4 or float(x @ x) <= 1e-20 * d.size * max(1.0, centre**2):
        return Trend(None, None, None)
    fit = fit_nested(d, client, occasion, np.column_stack([np.ones(d.size), x]))
    if fit is None or not fit.theta_cov.any():
        return Trend(None, None, None)
    slope = float(fit.beta[1])
    se = math.sqrt(max(float(fit.beta_cov[1, 1]), 0.0))
    if se == 0:
        return Trend(None, None, None)
    df = fit.satterthwaite(np.array([0.0, 1.0]))
    p = t_two_sided_p(slope / se, df)
    return Trend(
        Estimate(slope, t_interval(slope, se, df, confidence), d.size, "reml-satterthwaite"), float(fit.beta[0]), p, centre
    )
