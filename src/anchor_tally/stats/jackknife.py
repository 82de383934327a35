"""Intervals from leaving out one client at a time."""

from __future__ import annotations

import math

import numpy as np

from .distributions import t_quantile
from .estimate import Floats, Interval


def of_correlation(value: float, left: Floats, confidence: float) -> Interval | None:
    """Interval of a correlation on the scale of Fisher's z.

    Parameters
    ----------
    value : float
        The correlation.
    left : ndarray, shape (groups,)
        Its values without one client each.
    confidence : float
        Level of the interval.

    Returns
    -------
    Interval or None
        None where a correlation is −1 or 1.

    References
    ----------
    Miller 1974, Biometrika 61:1.
    """
    if abs(value) >= 1 - 1e-12 or not (np.abs(left) < 1 - 1e-12).all():
        return None
    i = _ends(math.atanh(value), np.arctanh(left), confidence)
    return Interval(math.tanh(i.low), math.tanh(i.high))


def of_positive(value: float, left: Floats, confidence: float) -> Interval | None:
    """Interval of a quantity above zero, such as an SD, on the scale of logarithms.

    Parameters
    ----------
    value, left, confidence
        As for ``of_correlation``.

    Returns
    -------
    Interval or None
        None where a value is not above zero.

    References
    ----------
    Miller 1974, Biometrika 61:1.
    """
    if value <= 0 or not (left > 0).all():
        return None
    i = _ends(math.log(value), np.log(left), confidence)
    return Interval(math.exp(i.low), math.exp(i.high))


def _ends(value: float, left: Floats, confidence: float) -> Interval:
    n = left.size
    se = math.sqrt((n - 1) / n * float(((left - left.mean()) ** 2).sum()))
    half = t_quantile(0.5 + confidence / 2, n - 1) * se
    return Interval(value - half, value + half)
