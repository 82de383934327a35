"""Usual precision of a scan, for studies that neither repeat scans nor state it."""

from __future__ import annotations

from .metrics import metric_named

_FAT = (0.3, 1.0)  # percentage points
_SHARE = (0.3, 1.5)  # percentage points of other shares of the body
# coefficients of variation
_FAT_MASS, _LEAN, _BODY, _OTHER = (0.01, 0.03), (0.005, 0.02), (0.0005, 0.002), (0.005, 0.03)


def assumed_sd(metric: str, level: float) -> tuple[float, float]:
    """Smallest and largest usual SD of one scan.

    Parameters
    ----------
    metric : str
        Id of the metric.
    level : float
        Mean of the scans, in the metric's unit.

    Returns
    -------
    tuple of float
        In the metric's unit.

    Notes
    -----
    Short-term precision of total-body scans with repositioning: about 0.3 to 1.0 pp of body fat
    and 0.5 to 3 % of masses. It belongs to one laboratory: the range is wide, and whoever knows
    the laboratory's own value states it.

    References
    ----------
    International Society for Clinical Densitometry, Official Positions 2013 (from memory).
    """
    m = metric_named(metric)
    if m is not None and m.unit == "percent":
        return _FAT if "fat" in metric else _SHARE
    if metric == "body_mass":
        low, high = _BODY
    elif "fat" in metric:
        low, high = _FAT_MASS
    elif "lean" in metric or "muscle" in metric:
        low, high = _LEAN
    else:
        low, high = _OTHER
    return low * abs(level), high * abs(level)
