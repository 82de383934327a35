"""Are there more extreme values than under a normal distribution?"""

from __future__ import annotations

import math

import numpy as np

from .estimate import Floats

LEAST_VALUES = 20
HEAVY = 0.01  # p below which tails count as heavy


def kurtosis_p(residual: Floats) -> float | None:
    """One-sided p-value that the tails are no heavier than normal.

    Parameters
    ----------
    residual : ndarray, shape (n,)
        Residuals about their mean.

    Returns
    -------
    float or None
        Small for heavy tails. None below 20 values, or where they do not vary.

    References
    ----------
    Anscombe & Glynn 1983, Biometrika 70:227.
    """
    n = residual.size
    if n < LEAST_VALUES:
        return None
    e = residual - residual.mean()
    m2 = float((e**2).mean())
    if m2 <= 0:
        return None
    b2 = float((e**4).mean()) / m2**2
    expected = 3 * (n - 1) / (n + 1)
    variance = 24 * n * (n - 2) * (n - 3) / ((n + 1) ** 2 * (n + 3) * (n + 5))
    x = (b2 - expected) / math.sqrt(variance)
    skew = 6 * (n * n - 5 * n + 2) / ((n + 7) * (n + 9))
    skew *= math.sqrt(6 * (n + 3) * (n + 5) / (n * (n - 2) * (n - 3)))
    a = 6 + 8 / skew * (2 / skew + math.sqrt(1 + 4 / skew**2))
    ratio = (1 - 2 / a) / (1 + x * math.sqrt(2 / (a - 4)))
    z = (1 - 2 / (9 * a) - float(np.cbrt(ratio))) / math.sqrt(2 / (9 * a))
    return 0.5 * math.erfc(z / math.sqrt(2))
