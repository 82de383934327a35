"""Which of several devices has the smallest error, how certain that is, and what to expect."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from .distributions import t_quantile
from .estimate import Estimate, Floats, Interval
from .resample import client_weights

DRAWS = 1000
LEAST_CLIENTS = 3


@dataclass(frozen=True, slots=True)
class Ranking:
    """Errors of K devices, how often each is the best, and the expected error of the best one.

    ``best`` is the share of resamples of the clients; ``expected`` the error of the device that
    is chosen, measured on clients that had no part in the choice.
    """

    errors: tuple[Estimate | None, ...]
    best: tuple[float | None, ...]
    chosen: int | None
    expected: float | None
    clients: int


def root_mean(sums: Floats) -> Floats:
    """Root of a mean: ``sums`` (..., 2) hold a sum of squares and its count; NaN without any."""
    count = sums[..., 1]
    mean = np.divide(sums[..., 0], count, out=np.full(count.shape, np.nan), where=count > 0)
    return np.asarray(np.sqrt(mean), dtype=float)


def rank(
    parts: Floats,
    value: Callable[[Floats], Floats] = root_mean,
    seed: int = 1,
    confidence: float = 0.95,
) -> Ranking:
    """Rank devices by an error that is made of sums over clients.

    Parameters
    ----------
    parts : ndarray, shape (C, K, m)
        Sums of each client and device.
    value : callable
        Error from sums of shape (..., m); NaN where they hold too little.
    seed : int
        Seed of the resampled clients.
    confidence : float
        Level of the intervals.

    Returns
    -------
    Ranking
        Below three clients no device is chosen.

    Notes
    -----
    Intervals are jackknife intervals over clients of the logarithm of the error, t with the number
    of clients − 1. The best device of several states too small an error, since it was chosen for
    it. In each resample the device with the smallest error is therefore judged by the clients
    that were not drawn (Efron & Tibshirani 1997, JASA 92:548, out of the bag).
    """
    devices = parts.shape[1]
    there = np.flatnonzero(parts.any(axis=(1, 2)))
    used = parts[there]
    total = used.sum(axis=0)
    at_all = value(total)
    errors = tuple(
        _jackknifed(float(at_all[k]), used[:, k], total[k], value, confidence)
        for k in range(devices)
    )
    known = np.flatnonzero(~np.isnan(at_all))
    if used.shape[0] < LEAST_CLIENTS or known.size == 0:
        return Ranking(errors, (None,) * devices, None, None, int(used.shape[0]))
    flat = used.reshape(used.shape[0], -1)
    wins = np.zeros(devices)
    outside, judged = 0.0, 0
    for counts in client_weights(used.shape[0], DRAWS, seed, flat.shape[1]):
        found = value((counts @ flat).reshape(counts.shape[0], *used.shape[1:]))
        winner = np.where(np.isnan(found), np.inf, found).argmin(axis=1)
        wins += np.bincount(winner, minlength=devices)
        left = ((counts == 0) @ flat).reshape(found.shape[0], *used.shape[1:])
        error = value(left[np.arange(winner.size), winner])
        outside += float(np.nansum(error**2))
        judged += int((~np.isnan(error)).sum())
    return Ranking(
        errors,
        tuple(float(w / DRAWS) if k in known else None for k, w in enumerate(wins)),
        int(known[at_all[known].argmin()]),
        math.sqrt(outside / judged) if judged else None,
        int(used.shape[0]),
    )


def _jackknifed(
    error: float, parts: Floats, total: Floats, value: Callable[[Floats], Floats], confidence: float
) -> Estimate | None:
    """One error with its interval; ``parts`` (C, m) by client."""
    if math.isnan(error):
        return None
    own = parts[parts.any(axis=1)]
    n = own.shape[0]
    left = value(total - own)
    if n < LEAST_CLIENTS or error <= 0 or np.isnan(left).any() or float(left.min()) <= 0:
        return Estimate(error, None, n, "jackknife-clients")
    logs = np.log(left)
    se = math.sqrt((n - 1) / n * float(((logs - logs.mean()) ** 2).sum()))
    half = t_quantile(0.5 + confidence / 2, n - 1) * se
    ends = Interval(error * math.exp(-half), error * math.exp(half))
    return Estimate(error, ends, n, "jackknife-clients", error * se, float(n - 1))
