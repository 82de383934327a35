"""Offsets: what is subtracted from a reading, pooled and for each client.

Their intervals account for estimated variances.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from .components import NestedFit
from .day_steps import day_steps
from .distributions import t_interval
from .estimate import Estimate, Floats, FrozenArrays, Interval, Ints
from .near_days import MOST_NEAR_DAYS
from .variance_grid import VarianceGrid


@dataclass(frozen=True, eq=False)
class ClientOffsets(FrozenArrays):
    """Partially pooled offsets, one element a client, all of shape (C,).

    ``offset`` is the pooled bias plus the BLUP at the REML variances; ``low`` and ``high`` its
    interval, ``sd`` its SD over the variances. ``new_low`` and ``new_high`` hold the difference
    of one new reading on a new occasion.
    """

    clients: Ints
    offset: Floats
    sd: Floats
    low: Floats
    high: Floats
    occasions: Ints
    shrinkage: Floats
    new_low: Floats
    new_high: Floats


@dataclass(frozen=True, slots=True)
class PooledOffset:
    """The offset for a client who was not measured against the reference.

    ``new`` holds the difference of one such reading.

    ``new`` is None where the spread between clients cannot be estimated.
    """

    offset: Estimate
    new: Interval | None


def pooled_from_single(d: Floats, bias: Estimate, sd: float | None) -> PooledOffset:
    """Pooled offset from one pair a client.

    Parameters
    ----------
    d : ndarray, shape (n,)
        Differences.
    bias : Estimate
        Their mean.
    sd : float or None
        Their SD; None with one pair.

    Returns
    -------
    PooledOffset
        The difference of a new client lies within t·sd·√(1 + 1/n), t with n − 1; None without SD.
    """
    if sd is None or d.size < 2:
        return PooledOffset(bias, None)
    return PooledOffset(
        bias, t_interval(bias.value, sd * math.sqrt(1 + 1 / d.size), float(d.size - 1))
    )


def pooled_from_grid(grid: VarianceGrid, bias: Estimate) -> PooledOffset:
    """Pooled offset of the nested design.

    Parameters
    ----------
    grid : VarianceGrid
        Integration over the variance ratios.
    bias : Estimate
        The offset with its interval.

    Returns
    -------
    PooledOffset
        The interval of a new client's reading holds the spread between clients, occasions and
        repeats, and the uncertainty of these spreads.
    """
    low, high = grid.quantiles(grid.beta[:, None], (1 / grid.nodes.s + grid.spread)[:, None])
    return PooledOffset(bias, Interval(float(low[0]), float(high[0])))


def pooled_from_stated(fit: NestedFit, bias: Estimate, client_sd: float) -> PooledOffset:
    """Pooled offset when the user states the spread between clients.

    Parameters
    ----------
    fit : NestedFit
        Fitted components of the clients that were measured.
    bias : Estimate
        The offset.
    client_sd : float
        Stated SD between clients, in units of the metric.

    Returns
    -------
    PooledOffset
        The interval of a new client's reading uses the stated spread between clients and the
        fitted spread of occasions and repeats.
    """
    theta = np.array([client_sd**2, fit.variances[1], max(fit.variances[2], 1e-12)])
    lower = fit.variances[1] + fit.variances[2]
    variance = float(fit.sums.beta_covariance(theta)[0, 0]) + client_sd**2 + lower
    df = (
        float(max(fit.counts[1] - fit.counts[0], 1))
        if fit.counts[1] > fit.counts[0]
        else float(max(fit.counts[2] - 1, 1))
    )
    stated = client_sd**2 * (1 + 1 / fit.counts[0]) / variance
    # only the fitted part of the variance is uncertain (Satterthwaite with one estimated component)
    return PooledOffset(
        bias, t_interval(bias.value, math.sqrt(variance), df / max((1 - stated) ** 2, 1e-9))
    )


def client_offsets(fit: NestedFit, grid: VarianceGrid | None) -> ClientOffsets:
    """Offset of each client, shrunk towards that of all.

    Parameters
    ----------
    fit : NestedFit
        REML fit of the differences.
    grid : VarianceGrid or None
        Grid of variance ratios over which the intervals are integrated; None where nothing
        varies under the clients: their offsets are exact then.

    Returns
    -------
    tuple of ClientOffset
        BLUP at the REML variances, its interval and that of a new difference, in the order of
        clients.

    References
    ----------
    Henderson 1975, Biometrics 31:423.
    """
    if grid is None:
        exact = fit.beta[0] + fit.blup
        low = high = new_low = new_high = exact
        sd = np.zeros(exact.size)
    else:
        mean, variance = grid.client_means()
        low, high = grid.quantiles(mean, variance)
        new_low, new_high = grid.quantiles(mean, variance + (1 + grid.nodes.go)[:, None])
        centre = grid.weight @ mean
        sd = np.sqrt(grid.weight @ (variance * grid.residual[:, None] + (mean - centre) ** 2))
    return ClientOffsets(
        clients=fit.clients,
        offset=fit.beta[0] + fit.blup,
        sd=sd,
        low=low,
        high=high,
        occasions=fit.occasions_per_client.astype(np.int64),
        shrinkage=fit.shrinkage,
        new_low=new_low,
        new_high=new_high,
    )


def day_to_day(
    value: Floats, group: Ints, day: Ints, most: float = MOST_NEAR_DAYS
) -> tuple[float, float] | None:
    """SD from day to day by differences of neighbouring days.

    Parameters
    ----------
    value : ndarray, shape (n,)
        Values in the order of time within their group.
    group : ndarray of int, shape (n,)
        Series that each value belongs to.
    day : ndarray of int, shape (n,)
        Number of the calendar day.
    most : float
        Days between neighbours that count.

    Returns
    -------
    tuple of float, or None
        SD and degrees of freedom. None below three differences.
    """
    steps = day_steps(value, group, day, most)
    if steps.step.size < 3:
        return None
    return math.sqrt(steps.variance), steps.df
