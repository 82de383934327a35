"""Quantiles of the t, chi-square and noncentral t distributions on scipy.special only."""

from __future__ import annotations

from scipy import special

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
