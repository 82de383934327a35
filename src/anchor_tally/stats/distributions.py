"""Quantiles of the t, chi-square and noncentral t distributions on scipy.special only."""

from __future__ import annotations

from scipy import special

from .estimate import Estimate, Interval


def t_quantile(p: float, df: float) -> float:
    """Quantile of Student's t."""
    return float(special.stdtrit(df, p)) if df < 1e10 else float(special.ndtri(p))


def t_interval(value: float, se: float, df: float, confidence: float = 0.95) -> Interval:
    """Interval value ± t·se of Student's t with ``df`` degrees of freedom."""
    half = t_quantile(0.5 + confidence / 2, df) * se
    return Interval(value - half, value + half)


def t_estimate(
    value: float, se: float, df: float, n: int, method: str, confidence: float = 0.95
) -> Estimate:
    """Return an estimate with the interval value ± t·se of Student's t, its standard error and degrees of freedom with it."""
    return Estimate(value, t_interval(value, se, df, confidence), n, method, se, df)


def t_two_sided_p(t: float, df: float) -> float:
    """Two-sided p-value of a t statistic."""
    return float(2 * (special.stdtr(df, -abs(t)) if df < 1e10 else special.ndtr(-abs(t))))


def chi2_quantile(p: float, df: float) -> float:
    """Quantile of chi-square; ``df`` may be fractional."""
    return float(2 * special.gammaincinv(df / 2, p))


def normal_quantile(p: float) -> float:
    """Quantile of the standard normal."""
    return float(special.ndtri(p))


def noncentral_t_quantile(p: float, df: float, ncp: float) -> float:
    """Quantile of the noncentral t with ``df`` degrees of freedom and noncentrality ``ncp``.

    SciPy's own, which holds at n in the thousands too (Johnson, Kotz & Balakrishnan 1995,
    chapter 31).
    """
    return float(special.nctdtrit(df, ncp, p))
