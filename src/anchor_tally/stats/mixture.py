"""Mixtures of Student's t distributions: quantiles and probabilities, many at once."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from scipy import special

from .estimate import Floats, FrozenArrays

NORMAL = 400.0  # degrees of freedom from which on t is taken as normal
LIGHT = 2e-3  # share of the largest weight below which a part is left out of quantiles


@dataclass(frozen=True, eq=False)
class Mixture(FrozenArrays):
    """K mixtures of H parts each: weights, means and SDs, arrays of shape (h, k).

    Weights of one mixture add up to 1. ``df`` are the degrees of freedom of all parts.
    """

    weight: Floats
    centre: Floats
    scale: Floats
    df: float

    @property
    def mean(self) -> Floats:
        """Mean of each mixture, shape (k,)."""
        return np.asarray((self.weight * self.centre).sum(axis=0))

    @property
    def sd(self) -> Floats:
        """Root of the weighted squares of the parts' SDs and of their departures, shape (k,)."""
        apart = self.centre - self.mean
        return np.asarray(np.sqrt((self.weight * (self.scale**2 + apart**2)).sum(axis=0)))

    def quantile(self, p: float) -> Floats:
        """Value below which each mixture has the share ``p``, shape (k,).

        Each part stands as a normal one whose quantile at ``p`` is that of its t: exact for one
        part, and ten times as fast for many.
        """
        z = float(special.ndtri(p))
        wide = float(special.stdtrit(self.df, p)) / z if self.df < NORMAL and z else 1.0
        return mixture_quantile(
            p, self.mean, self.sd * wide, self.weight, self.centre, self.scale * wide, math.inf
        )

    def below(self, value: float) -> Floats:
        """Share of each mixture below a value, shape (k,)."""
        z = (value - self.centre) / np.maximum(self.scale, 1e-300)
        below = special.stdtr(self.df, z) if self.df < NORMAL else special.ndtr(z)
        return np.asarray((self.weight * below).sum(axis=0))


def mixture_of(weight: Floats, centre: Floats, variance: Floats, df: float) -> Mixture:
    """A mixture without the parts that no quantile shows.

    Parameters
    ----------
    weight : ndarray, shape (h,) or (h, k)
        Weights, of any sum.
    centre, variance : ndarray, shape (h, k)
        Means and variances of the parts.
    df : float
        Degrees of freedom.
    """
    weight = np.broadcast_to(weight if weight.ndim == 2 else weight[:, None], centre.shape)
    weight = np.where(weight > LIGHT * weight.max(axis=0), weight, 0.0)
    most = int((weight > 0).sum(axis=0).max())
    order = np.argpartition(-weight, most - 1, axis=0)[:most]
    weight, centre, variance = (
        np.take_along_axis(x, order, axis=0) for x in (weight, centre, variance)
    )
    return Mixture(weight / weight.sum(axis=0), centre, np.sqrt(np.maximum(variance, 0.0)), df)


def mixture_quantile(
    p: float, mean: Floats, sd: Floats, weight: Floats, loc: Floats, scale: Floats, df: float
) -> Floats:
    """Quantiles of mixtures of t by Newton steps that fall back on bisection, all K at once.

    Parameters
    ----------
    p : float
        Probability.
    mean, sd : ndarray, shape (k,)
        About where the mixtures lie.
    weight : ndarray, shape (h, 1) or (h, k)
        Weights that add up to 1.
    loc, scale : ndarray, shape (h, k)
        Means and SDs of the parts.
    df : float
        Degrees of freedom.
    """
    normal = df >= NORMAL
    t = float(special.ndtri(p) if normal else special.stdtrit(df, p))
    low, high = mean - 20 * sd * max(abs(t), 1), mean + 20 * sd * max(abs(t), 1)
    q, scale = mean + t * sd, np.maximum(scale, 1e-300)
    few = min(df, NORMAL)
    constant = math.exp(math.lgamma((few + 1) / 2) - math.lgamma(few / 2)) / math.sqrt(
        few * math.pi
    )
    for _ in range(40):
        z = (q - loc) / scale
        below = special.ndtr(z) if normal else special.stdtr(df, z)
        gap = (weight * below).sum(axis=0) - p
        slope = (weight * (constant * (1 + z * z / few) ** (-(few + 1) / 2) / scale)).sum(axis=0)
        low, high = (
            np.where(gap < 0, np.maximum(low, q), low),
            np.where(gap > 0, np.minimum(high, q), high),
        )
        step = np.divide(gap, slope, out=np.full_like(gap, np.inf), where=slope > 0)
        trial = q - step
        inside = (trial > low) & (trial < high)
        moved = np.where(inside, trial, (low + high) / 2)
        # the error that is left after a Newton step is of the order of its square
        enough = np.where(inside, 1e-4, 1e-6) * (sd + 1e-300)
        if np.all(np.abs(moved - q) <= enough):
            return np.asarray(moved, dtype=float)
        q = moved
    return np.asarray(q, dtype=float)
