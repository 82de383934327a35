"""Agreement of pairs: correlation, concordance, error, and equivalence within a margin."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from .distributions import normal_quantile
from .estimate import Estimate, Floats, Interval, Ints, Note, note
from .jackknife import of_correlation


@dataclass(frozen=True, slots=True)
class Agreement:
    """Pearson's r, Lin's concordance, RMSE and MAE of pairs."""

    pearson: Estimate | None
    concordance: Estimate | None
    rmse: float | None
    mae: float | None
    notes: tuple[Note, ...]


def _correlations(s: Floats) -> tuple[Floats, Floats]:
    """Pearson and concordance from moment sums (…, 6): n, x, y, xx, yy, xy.

    NaN where a variance is zero.
    """
    n = s[..., 0]
    mx, my = s[..., 1] / n, s[..., 2] / n
    vx, vy, vxy = s[..., 3] / n - mx**2, s[..., 4] / n - my**2, s[..., 5] / n - mx * my
    tiny = 1e-14
    ok = (vx > tiny) & (vy > tiny)
    r = np.full(n.shape, np.nan)
    np.divide(vxy, np.sqrt(np.abs(vx * vy)), out=r, where=ok)
    total = vx + vy + (mx - my) ** 2
    ccc = np.full(n.shape, np.nan)
    np.divide(2 * vxy, total, out=ccc, where=ok)
    return np.clip(r, -1, 1), ccc


def agreement(x: Floats, y: Floats, client: Ints, confidence: float = 0.95) -> Agreement:
    """Correlation, concordance and error of pairs.

    With one pair per client the intervals are Fisher's and Lin's. With several, both are jackknife
    intervals that leave out whole clients, on the scale of Fisher's z.

    Parameters
    ----------
    x, y : (n,) arrays
        Reference and instrument, in the metric's unit.
    client : (n,) integer array
        Which client each pair belongs to.
    confidence : float
        Level of the intervals.

    Returns
    -------
    Agreement
        An interval is None below three pairs, below five clients with repeats, and where a value
        does not vary; a note states which.

    Notes
    -----
    In simulated studies (6 to 60 clients, 1 to 3 scans, 3 repeats, 600 draws each) the jackknife
    covered the correlation in 94.2 to 96.5 % and the concordance in 90.5 to 95.5 %; resampling
    clients covered them in 89.8 to 94.7 and 72.8 to 93.2 %.

    References
    ----------
    Lin 1989, Biometrics 45:255, with the correction of 2000, Biometrics 56:324. Miller 1974,
    Biometrika 61:1 (the jackknife).
    """
    n = x.size
    if n == 0:
        return Agreement(None, None, None, None, ())
    d = y - x
    rmse, mae = float(np.sqrt(np.mean(d * d))), float(np.mean(np.abs(d)))
    if n < 3:
        return Agreement(None, None, rmse, mae, (note("correlation_needs_three", n=n),))
    if min(float(np.ptp(x)), float(np.ptp(y))) <= 1e-9 * max(1.0, abs(float(x.mean()))):
        return Agreement(None, None, rmse, mae, (note("constant_values"),))
    cx, cy = x - x.mean(), y - x.mean()
    scale = max(float(cx.std()), float(cy.std()))
    scale = scale if scale > 1e-12 * max(1.0, abs(float(x.mean()))) else 1.0
    terms = np.stack([np.ones(n), cx, cy, cx * cx, cy * cy, cx * cy], axis=1) / np.array(
        [1, scale, scale, scale**2, scale**2, scale**2]
    )
    r_, c_ = _correlations(terms.sum(axis=0))
    r, ccc = float(r_), float(c_)
    if math.isnan(r):
        return Agreement(None, None, rmse, mae, (note("constant_values"),))
    _, group = np.unique(client, return_inverse=True)
    groups = int(group.max()) + 1
    z = normal_quantile(0.5 + confidence / 2)
    notes: tuple[Note, ...] = ()
    r_interval: Interval | None = None
    c_interval: Interval | None = None
    method = "fisher"
    if groups == n:
        if abs(r) < 1 - 1e-12 and n > 3:
            half = z / math.sqrt(n - 3)
            r_interval = Interval(math.tanh(math.atanh(r) - half), math.tanh(math.atanh(r) + half))
            u2 = (cx.mean() - cy.mean()) ** 2 / (cx.std() * cy.std())
            if abs(r) > 1e-9:
                q = 1 - ccc**2
                variance = (
                    (1 - r * r) * ccc**2 / (q * r * r)
                    + 2 * ccc**3 * (1 - ccc) * u2 / (r * q * q)
                    - ccc**4 * u2 * u2 / (2 * r * r * q * q)
                ) / (n - 2)
                half = z * math.sqrt(max(variance, 0.0))
                c_interval = Interval(
                    math.tanh(math.atanh(ccc) - half), math.tanh(math.atanh(ccc) + half)
                )
    elif groups >= 5:
        method = "jackknife-clients"
        sums = np.zeros((groups, 6))
        np.add.at(sums, group, terms)
        rest = _correlations(terms.sum(axis=0) - sums)
        r_interval, c_interval = (
            of_correlation(v, left, confidence) for v, left in zip((r, ccc), rest, strict=True)
        )
    else:
        notes = (note("correlation_interval_needs_clients", clients=groups),)
    return Agreement(
        Estimate(r, r_interval, n, method),
        Estimate(ccc, c_interval, n, "lin" if method == "fisher" else method),
        rmse,
        mae,
        notes,
    )


@dataclass(frozen=True, slots=True)
class Equivalence:
    """Two one-sided tests of the bias against ± margin."""

    margin: float
    p: float
    equivalent: bool


def equivalence(
    bias: float, se: float, df: float, margin: float, alpha: float = 0.05
) -> Equivalence:
    """Two one-sided t tests of a bias against ± a margin.

    Parameters
    ----------
    bias, se : float
        Estimate and standard error, in the metric's unit.
    df : float
        Degrees of freedom of t.
    margin : float
        Difference that matters, in the same unit.
    alpha : float
        Level of each test.

    Returns
    -------
    Equivalence
        The larger p of the two tests, and whether it is below ``alpha``.

    References
    ----------
    Schuirmann 1987, J Pharmacokinet Biopharm 15:657.

    Examples
    --------
    >>> equivalence(0.2, 0.4, 20, 2.0).equivalent, equivalence(1.5, 0.4, 20, 2.0).equivalent
    (True, False)
    """
    from scipy import special

    if se <= 0:
        p = 0.0 if abs(bias) < margin else 1.0
    else:
        p = float(
            max(special.stdtr(df, -(bias + margin) / se), special.stdtr(df, (bias - margin) / se))
        )
    return Equivalence(margin, p, p < alpha)
