"""Bias, limits and trend for repeated pairs of one client."""

from __future__ import annotations

import math

import numpy as np

from .components import NestedFit, fit_nested
from .distributions import normal_quantile, t_estimate, t_two_sided_p
from .estimate import Estimate, Floats, Interval, Ints
from .limits import Limits, Trend, single_limits
from .variance_grid import VarianceGrid


def repeated_bias(fit: NestedFit, confidence: float = 0.95) -> tuple[Estimate, float]:
    """Bias of the nested design by generalised least squares.

    Parameters
    ----------
    fit : NestedFit
        Variance components.
    confidence : float
        Level of the interval.

    Returns
    -------
    bias : Estimate
        With a t interval on Satterthwaite degrees of freedom.
    df : float
        Those degrees of freedom.
    """
    bias = float(fit.beta[0])
    lead = np.zeros(fit.beta.size)
    lead[0] = 1.0
    se = math.sqrt(max(float(fit.beta_cov[0, 0]), 0.0))
    df = (
        fit.satterthwaite(lead)
        if se > 0 and fit.theta_cov.any()
        else float(max(fit.counts[0] - 1, 1))
    )
    if fit.counts[0] > 1:  # never fewer than the clients, never more than the pairs, can support
        df = min(max(df, 1.0), fit.counts[2] - 1)
    return t_estimate(bias, se, df, fit.counts[2], "reml-satterthwaite", confidence), df


def repeated_limits(
    fit: NestedFit,
    bias: Estimate,
    grid: VarianceGrid | None,
    d: Floats,
    client: Ints,
    coverage: float = 0.95,
    confidence: float = 0.95,
    of: int = 1,
) -> Limits:
    """Limits of agreement for one future reading of a new client, or for the mean of repeats.

    Parameters
    ----------
    fit : NestedFit
        REML fit of the differences: client, occasion within client, replicate.
    bias : Estimate
        Mean difference, in the metric's unit.
    grid : VarianceGrid or None
        Grid of variance ratios behind the intervals; None where nothing varies under the clients.
    d : (n,) array
        Differences instrument − reference.
    client : (n,) integer array
        Which client each difference belongs to.
    coverage : float
        Share of future readings between the limits.
    confidence : float
        Level of the intervals of the limits.
    of : int
        Repeats whose mean is taken; 1 for a single reading.

    Returns
    -------
    Limits
        bias ± z·SD, SD² the sum of the REML variances, the replicate part divided by ``of``.
        Intervals by integration over the variance ratios; without a grid those of a single design.

    References
    ----------
    Bland & Altman 2007, J Biopharm Stat 17:571; Carkeet 2015, Optom Vis Sci 92:e71 (single design).
    """
    z = normal_quantile(0.5 + coverage / 2)
    sd = math.sqrt(fit.total_variance - fit.variances[2] * (1 - 1 / of))
    lower: Interval | None
    upper: Interval | None
    if grid is not None:
        lower, upper = grid.limit(-z, confidence, of), grid.limit(z, confidence, of)
    else:
        _, k = np.unique(client, return_inverse=True)
        alone = single_limits(
            np.asarray(np.bincount(k, d) / np.bincount(k), dtype=float), coverage, confidence
        )
        lower = None if alone is None else alone.lower_interval
        upper = None if alone is None else alone.upper_interval
    return Limits(
        bias.value - z * sd,
        bias.value + z * sd,
        lower,
        upper,
        coverage,
        "repeated",
        "reml-integrated",
    )


def repeated_trend(
    d: Floats, mean: Floats, client: Ints, occasion: Ints, confidence: float = 0.95
) -> Trend:
    """Slope of the difference on the mean of both methods in the nested mixed model.

    Parameters
    ----------
    d, mean : ndarray, shape (n,)
        Differences, and means of both methods.
    client, occasion : ndarray of int, shape (n,)
        Client and occasion of each pair.
    confidence : float
        Level of the interval.

    Returns
    -------
    Trend
        Slope with a Satterthwaite t interval; None where it cannot be estimated, or where clients
        cannot be told from occasions beside it.

    Notes
    -----
    The level of a pair is the mean over its occasion. With the mean of each single pair, repeats of
    one occasion, which share the reference value, would lie on a line of slope 2 for any device.
    """
    _, at = np.unique(occasion, return_inverse=True)
    mean = (np.bincount(at, mean) / np.bincount(at))[at]
    centre = float(mean.mean())
    x = mean - centre
    if d.size < 4 or float(x @ x) <= 1e-20 * d.size * max(1.0, centre**2):
        return Trend(None, None, None)
    fit = fit_nested(d, client, occasion, np.column_stack([np.ones(d.size), x]))
    if fit is None or not fit.theta_cov.any() or not fit.levels_apart:
        return Trend(None, None, None)
    slope = float(fit.beta[1])
    se = math.sqrt(max(float(fit.beta_cov[1, 1]), 0.0))
    if se == 0:
        return Trend(None, None, None)
    df = fit.satterthwaite(np.array([0.0, 1.0]))
    p = t_two_sided_p(slope / se, df)
    return Trend(
        t_estimate(slope, se, df, d.size, "reml-satterthwaite", confidence),
        float(fit.beta[0]),
        p,
        centre,
    )
