"""Shares with their intervals, of single pairs and of pairs that come several from a client."""

from __future__ import annotations

import math

import numpy as np

from .distributions import normal_quantile, t_quantile
from .estimate import Estimate, Floats, Interval, Ints


def wilson(k: int, n: int, confidence: float = 0.95) -> Estimate | None:
    """A share with Wilson's interval.

    Parameters
    ----------
    k, n : int
        Successes and trials.
    confidence : float
        Level of the interval.

    Returns
    -------
    Estimate or None
        None for no trial.

    References
    ----------
    Wilson 1927, JASA 22:209.

    Examples
    --------
    >>> share = wilson(81, 263)
    >>> round(share.interval.low, 3), round(share.interval.high, 3)
    (0.255, 0.366)
    """
    return _wilson(k / n, n, normal_quantile(0.5 + confidence / 2), n) if n else None


def clustered_share(hit: Floats, client: Ints, confidence: float = 0.95) -> Estimate | None:
    """A share of pairs that come several from each client.

    Parameters
    ----------
    hit : ndarray, shape (n,)
        1 for a success, else 0.
    client : ndarray of int, shape (n,)
        Client of each.
    confidence : float
        Level of the interval.

    Returns
    -------
    Estimate or None
        Wilson's interval with the effective number of pairs in the place of their number, and t
        of clients − 1 in the place of z. None without pairs.

    Notes
    -----
    The effective number is p(1 − p) over the variance of the share between clients; it is never
    more than the number of pairs, and that of clients where all pairs are alike.

    References
    ----------
    Korn & Graubard 1998, Survey Methodology 24:193; Wilson 1927, JASA 22:209.
    """
    n = hit.size
    if n == 0:
        return None
    _, k, size = np.unique(client, return_inverse=True, return_counts=True)
    c = size.size
    if c == n:
        return wilson(int(hit.sum()), n, confidence)
    if c < 2:
        return Estimate(float(hit.mean()), None, n, "share")
    share = float(hit.mean())
    gap = np.bincount(k, hit) - share * size
    variance = float(gap @ gap) / n**2 * c / (c - 1)
    effective = float(c)
    if variance > 0:
        effective = min(max(share * (1 - share) / variance, 1.0), float(n))
    return _wilson(share, effective, t_quantile(0.5 + confidence / 2, c - 1), n)


def _wilson(share: float, n: float, z: float, pairs: int) -> Estimate:
    z2 = z * z
    centre = (share + z2 / (2 * n)) / (1 + z2 / n)
    half = z * math.sqrt(share * (1 - share) / n + z2 / (4 * n * n)) / (1 + z2 / n)
    return Estimate(
        share, Interval(max(centre - half, 0.0), min(centre + half, 1.0)), pairs, "wilson"
    )
