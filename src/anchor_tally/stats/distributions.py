"""Quantiles of the t, chi-square and noncentral t distributions on scipy.special only."""

from __future__ import annotations

import numpy as np
from scipy import special
from scipy.optimize import brentq

from .estimate import Estimate, Interval


def t_quantile(p: float, df: float) -> float:
    """Quantile of Student's t distribution.

    Parameters
    ----------
    p : float
        Probability, 0 to 1.
    df : float
        Degrees of freedom; may be fractional or infinite.

    Returns
    -------
    float

    Examples
    --------
    >>> round(t_quantile(0.975, 10), 3)
    2.228
    """
    return float(special.stdtrit(df, p)) if df < 1e10 else float(special.ndtri(p))


def normal_below(z: float) -> float:
    """Probability that a standard normal value is below ``z``."""
    return float(special.ndtr(z))


def largest_difference(p: float, k: int, df: float) -> float:
    """Quantile of the largest standardised difference among ``k`` equal means.

    Parameters
    ----------
    p : float
        Probability, 0 to 1.
    k : int
        Number of means, 2 or more; every pair of them is compared.
    df : float
        Degrees of freedom of their common standard error.

    Returns
    -------
    float
        The studentized range divided by √2, so that it takes the place of Student's t.

    Notes
    -----
    Tukey & Kramer. With unequal errors the level is at least the one that is asked for.

    References
    ----------
    Kramer 1956, Biometrics 12:307; Hayter 1984, Ann Stat 12:61.

    Examples
    --------
    >>> round(largest_difference(0.95, 2, 10), 3)  # of two means it is Student's t
    2.228
    """
    x, weight = np.polynomial.legendre.leggauss(80)
    z = 8.5 * x
    density = 8.5 * weight * np.exp(-(z**2) / 2) / np.sqrt(2 * np.pi)
    # the root of a chi-square divided by its degrees of freedom, at equal shares of probability
    # between its ends
    share = (x + 1) / 2
    spread = np.sqrt(special.chdtri(df, 1 - share) / df) if df < 1e10 else np.ones(x.size)

    def below(width: float) -> float:
        reach = width * np.sqrt(2) * spread
        inside = special.ndtr(z) - special.ndtr(z - reach[:, None])
        return float(weight / 2 @ (k * (inside ** (k - 1) @ density))) - p

    return float(brentq(below, 1e-6, 100.0))


def t_interval(value: float, se: float, df: float, confidence: float = 0.95) -> Interval:
    """Interval value ± t·se.

    Parameters
    ----------
    value, se : float
        Estimate and its standard error.
    df : float
        Degrees of freedom of Student's t.
    confidence : float
        Level of the interval.

    Returns
    -------
    Interval
    """
    half = t_quantile(0.5 + confidence / 2, df) * se
    return Interval(value - half, value + half)


def t_estimate(
    value: float, se: float, df: float, n: int, method: str, confidence: float = 0.95
) -> Estimate:
    """Make an estimate with the interval value ± t·se.

    Parameters
    ----------
    value, se : float
        Estimate and its standard error.
    df : float
        Degrees of freedom of Student's t.
    n : int
        Number of values behind the estimate.
    method : str
        Short name of the method.
    confidence : float
        Level of the interval.

    Returns
    -------
    Estimate
        With ``se`` and ``df`` set.
    """
    return Estimate(value, t_interval(value, se, df, confidence), n, method, se, df)


def t_two_sided_p(t: float, df: float) -> float:
    """Two-sided p-value of a t statistic.

    Parameters
    ----------
    t : float
        The statistic.
    df : float
        Degrees of freedom.

    Returns
    -------
    float
    """
    return float(2 * (special.stdtr(df, -abs(t)) if df < 1e10 else special.ndtr(-abs(t))))


def chi2_quantile(p: float, df: float) -> float:
    """Quantile of the chi-square distribution.

    Parameters
    ----------
    p : float
        Probability, 0 to 1.
    df : float
        Degrees of freedom; may be fractional.

    Returns
    -------
    float
    """
    return float(2 * special.gammaincinv(df / 2, p))


def normal_quantile(p: float) -> float:
    """Quantile of the standard normal distribution.

    Parameters
    ----------
    p : float
        Probability, 0 to 1.

    Returns
    -------
    float
    """
    return float(special.ndtri(p))


def binomial_tail(k: int, n: int, p: float) -> float:
    """Probability of ``k`` or more successes in ``n`` trials.

    Parameters
    ----------
    k, n : int
        Successes and trials.
    p : float
        Probability of a success.

    Returns
    -------
    float

    Examples
    --------
    >>> round(binomial_tail(2, 2, 0.5), 3)
    0.25
    """
    return 1.0 if k <= 0 else float(special.bdtrc(k - 1, n, p))


def noncentral_t_quantile(p: float, df: float, ncp: float) -> float:
    """Quantile of the noncentral t distribution.

    Parameters
    ----------
    p : float
        Probability, 0 to 1.
    df : float
        Degrees of freedom; thousands are fine.
    ncp : float
        Noncentrality.

    Returns
    -------
    float

    References
    ----------
    Johnson, Kotz & Balakrishnan 1995, *Continuous Univariate Distributions* 2, chapter 31.
    """
    return float(special.nctdtrit(df, ncp, p))
