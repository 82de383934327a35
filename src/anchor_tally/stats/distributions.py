"""Quantiles of the t, chi-square and noncentral t distributions on scipy.special only."""

from __future__ import annotations

import math

import numpy as np
from scipy import special

_NODES, _WEIGHTS = np.polynomial.legendre.leggauss(240)


def t_quantile(p: float, df: float) -> float:
    """Quantile of Student's t."""
    return float(special.stdtrit(df, p)) if df < 1e10 else float(special.ndtri(p))


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
    """Quantile of the noncentral t with ``df`` >= 1 degrees of freedom and noncentrality ``ncp``.

    T <= t exactly when Z <= t*S - ncp with S = sqrt(chi2_df/df), so the distribution function is the mean of
    Phi(t*S - ncp) over S, taken by Gauss-Legendre quadrature over the bulk of S (error below 1e-12). This
    holds at any n, where series expansions lose digits (Johnson, Kotz & Balakrishnan 1995, chapter 31).
    """
    low = math.sqrt(2 * special.gammaincinv(df / 2, 1e-16) / df)
    high = math.sqrt(2 * special.gammainccinv(df / 2, 1e-16) / df)
    s = 0.5 * (high - low) * _NODES + 0.5 * (high + low)
    log_density = math.log(2) + (df / 2) * math.log(df / 2) - special.gammaln(df / 2) + (df - 1) * np.log(s) - df * s * s / 2
    weight = 0.5 * (high - low) * _WEIGHTS * np.exp(log_density)
    weight /= weight.sum()

    spread = math.sqrt(1 + ncp * ncp / (2 * df)) + 1
    left, right = ncp - 3 * spread, ncp + 3 * spread
    while weight @ special.ndtr(left * s - ncp) > p:
        left -= 4 * spread
    while weight @ special.ndtr(right * s - ncp) < p:
        right += 4 * spread * (1 + abs(right))
    # Newton kept inside a shrinking bracket; scipy.optimize alone would cost a third of the program's start
    t = 0.5 * (left + right)
    for _ in range(200):
        z = t * s - ncp
        excess = float(weight @ special.ndtr(z)) - p
        left, right = (t, right) if excess < 0 else (left, t)
        slope = float(weight @ (s * np.exp(-0.5 * z * z))) / math.sqrt(2 * math.pi)
        step = t - excess / slope if slope > 0 else left
        new = step if left < step < right else 0.5 * (left + right)
        if abs(new - t) <= 1e-13 * (1 + abs(t)):
            return new
        t = new
    return t
