"""What a claimed correlation leaves open: how far one value can be off all the same."""

from __future__ import annotations

import math

from .distributions import normal_quantile


def left_by_correlation(r: float, sd: float, coverage: float = 0.95) -> float:
    """Half-width that holds a share of single values about the best line through a device.

    Parameters
    ----------
    r : float
        Correlation of device and reference, −1 to 1.
    sd : float
        SD of the reference in the group, in its unit.
    coverage : float
        Share of values that the interval holds.

    Returns
    -------
    float
        z·sd·√(1 − r²): the error of one value once bias and slope are known exactly.

    Raises
    ------
    ValueError
        A correlation outside −1 to 1, or a negative SD.

    Notes
    -----
    The variance of the residuals of least squares is sd²·(1 − r²). Bias is in no correlation: a
    device that reads 10 too high in everybody has the same r.

    References
    ----------
    Bland JM, Altman DG. Statistical methods for assessing agreement between two methods of
    clinical measurement. Lancet 1986;327:307–310.

    Examples
    --------
    >>> round(left_by_correlation(0.95, 6.0), 1)
    3.7
    """
    if not -1 <= r <= 1 or sd < 0:
        raise ValueError("a correlation lies from −1 to 1, and an SD is not negative")
    return float(normal_quantile((1 + coverage) / 2)) * sd * math.sqrt(1 - r * r)
