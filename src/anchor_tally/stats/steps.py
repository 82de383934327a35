"""Step changes of the difference.

Found by maximum likelihood over split dates and tested by permutation.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from .components import fit_nested
from .distributions import t_estimate
from .estimate import Estimate, Floats, Ints
from .time_slope import LEAST_DAYS, free_df
from .variance_grid import OccasionMeans

RESAMPLES = 1999


LEAST_SIDE = 2  # occasions on each side of a step


PREFERRED = 3.0  # a split at a known change wins within this deviance of the best split


MOST_STEPS = 3


# ratios of client and occasion variance over the lowest one, at which the likelihood of splits is
# looked at
_CLIENT = np.r_[0.0, np.geomspace(0.03, 3000.0, 16)]


_OCCASION = np.r_[0.0, np.geomspace(0.05, 1000.0, 13)]


@dataclass(frozen=True, slots=True)
class Step:
    """A step: weeks of the occasions before and after it, its size, and p of the whole search.

    ``known`` is the place, among the known changes, of the one that lies between both; None for
    none.
    """

    before: float
    after: float
    size: Estimate
    p: float
    known: int | None


@dataclass(frozen=True, slots=True)
class Search:
    """Result of a search: steps in the order found, and whether a slope fits better.

    ``p`` is that of the first look, over a slope and all splits together; None where nothing
    could be permuted. ``lead`` is how much better, in deviance, the chosen one of slope and first
    step fits than the other; None where neither was chosen.
    """

    steps: tuple[Step, ...]
    slope_is_better: bool
    p: float | None
    splits: int
    lead: float | None = None


# steps
@dataclass(frozen=True, slots=True)
class _Products:
    """Inverse covariance of occasion means at one pair of ratios.

    Weights (M,), and the clients' part (C,).
    """

    s: OccasionMeans
    w: Floats
    taken: Floats
    logdet: float

    def sums(self, x: Floats) -> Floats:
        """Weighted sums of the columns of ``x`` (M, q) over each client, (C, q)."""
        return np.asarray(np.add.reduceat(self.w[:, None] * x, self.s.starts, axis=0))

    def times(self, x: Floats) -> Floats:
        """The inverse times the columns of ``x`` (M, q)."""
        sums = self.sums(x) * self.taken[:, None]
        return np.asarray(self.w[:, None] * (x - sums[self.s.client_of]), dtype=float)


def _products(s: OccasionMeans, client_ratio: float, occasion_ratio: float) -> _Products:
    v = occasion_ratio + 1 / s.size
    w = 1 / v
    total = s.per_client(w)
    logdet = float(np.log(s.size * v).sum() + np.log1p(client_ratio * total).sum())
    return _Products(s, w, client_ratio / (1 + client_ratio * total), logdet)


def _deviances(
    s: OccasionMeans, y: Floats, base: Floats, columns: Floats
) -> tuple[Floats, float, tuple[float, float]]:
    """Deviance (ML) with each of ``columns`` (M, S) beside ``base`` (M, p).

    Also that of ``base`` alone, and its ratios.

    Maximised over a grid of the variance ratios, the lowest variance being profiled out.
    """
    repeats, several = s.n > s.mean.size, s.mean.size > s.clients.size
    squares = columns**2
    best, alone, at = np.full(columns.shape[1], np.inf), np.inf, (0.0, 0.0)
    inside = float(s.ss.sum())
    for go in _OCCASION if repeats and several else (0.0,):
        for gc in _CLIENT if several or repeats else (0.0,):
            v = _products(s, float(gc), float(go))
            x, r = v.times(base), v.times(y[:, None])[:, 0]
            a = np.linalg.inv(base.T @ x)
            cross, own = x.T @ columns, x.T @ y
            # only the diagonal of columns' V^-1 columns is needed
            zz = v.w @ squares - v.taken @ v.sums(columns) ** 2 - (cross * (a @ cross)).sum(axis=0)
            zy = r @ columns - cross.T @ a @ own
            rss = inside + float(y @ r) - float(own @ a @ own)
            told = zz > 1e-9 * max(float(np.abs(zz).max(initial=0.0)), 1e-300)
            gain = np.divide(zy**2, zz, out=np.zeros_like(zy), where=told)
            here = v.logdet + s.n * math.log(max(rss, 1e-300))
            best = np.minimum(best, v.logdet + s.n * np.log(np.maximum(rss - gain, 1e-300)))
            if here < alone:
                alone, at = here, (float(gc), float(go))
    return best, float(alone), at


def _permuted_p(
    s: OccasionMeans,
    y: Floats,
    base: Floats,
    columns: Floats,
    at: tuple[float, float],
    rng: np.random.Generator,
    resamples: int,
) -> float:
    """P of the largest score of any of ``columns``: residuals of ``base`` permuted within clients.

    Source: Freedman & GridRow 1983, J Bus Econ Stat 1:292.

    Occasions of one client are exchangeable in the model; where each client was seen once,
    clients are.
    """
    v = _products(s, *at)
    x, z = v.times(base), v.times(columns)
    a = np.linalg.inv(base.T @ x)
    left = z - x @ (a @ (base.T @ z))  # P times the columns
    scale = np.einsum("ms,ms->s", columns, left)
    told = scale > 1e-9 * float(scale.max(initial=0.0))
    if not told.any():
        return 1.0
    left, scale = left[:, told], scale[told]
    residual = y - base @ (a @ (x.T @ y))
    block = s.client_of if s.mean.size > s.clients.size else np.zeros(y.size, dtype=np.int64)

    def largest(values: Floats) -> Floats:
        return np.asarray(((values @ left) ** 2 / scale).max(axis=-1), dtype=float)

    seen = float(largest(residual))
    order = np.argsort(block + rng.random((resamples, y.size)), axis=1)
    drawn = largest(residual[order])
    return (1 + int((drawn >= seen * (1 - 1e-12)).sum())) / (resamples + 1)


def find_steps(
    s: OccasionMeans,
    weeks: Floats,
    d: Floats,
    client: Ints,
    occasion: Ints,
    known: tuple[float, ...],
    resamples: int = RESAMPLES,
    seed: int = 0,
) -> Search:
    """Find step changes of the difference between device and reference.

    Parameters
    ----------
    s : OccasionMeans
        Mean difference of each of the M occasions.
    weeks : ndarray, shape (M,)
        Time of each occasion.
    d : ndarray, shape (N,)
        Differences of the readings.
    client, occasion : ndarray of int, shape (N,)
        Client and occasion of each reading.
    known : tuple of float
        Weeks at which something was changed. A split there is preferred when its deviance is
        within ``PREFERRED`` of the best.
    resamples, seed : int
        Permutations of the test and seed of the generator.

    Returns
    -------
    Search
        Steps found one after the other, each beside those before it, with the p-value of the
        first.

    Notes
    -----
    The first test is over a slope and all splits together, so that its p-value allows for the
    search. A step beside a slope costs one parameter more.
    """
    y, m = s.mean - float(s.mean.mean()), s.mean.size
    ordered = np.unique(weeks)
    cut = ordered[1:]
    splits = (weeks[:, None] >= cut[None, :]).astype(float)
    fair = (
        (splits.sum(axis=0) >= LEAST_SIDE)
        & ((1 - splits).sum(axis=0) >= LEAST_SIDE)
        & (np.diff(ordered) * 7 >= LEAST_DAYS)
    )
    splits, cut, before = splits[:, fair], cut[fair], ordered[:-1][fair]
    time = (weeks - weeks.mean())[:, None]
    if m < 4 or not cut.size or float(time.std()) <= 0:
        return Search((), slope_is_better=False, p=None, splits=int(cut.size))
    holds = [
        next((k for k, at in enumerate(known) if low < at <= high), None)
        for low, high in zip(before, cut, strict=True)
    ]
    at_change = np.array([k is not None for k in holds])
    rng, base, steps = np.random.default_rng(seed), np.ones((m, 1)), list[Step]()
    cell = _cells(s, client, occasion)
    first_p: float | None = None
    lead: float | None = None
    for _ in range(MOST_STEPS):
        columns = np.column_stack([time, splits])
        deviance, alone, at = _deviances(s, y, base, columns)
        if not math.isfinite(alone):
            break
        p = _permuted_p(s, y, base, columns, at, rng, resamples)
        first_p = p if first_p is None else first_p
        if p >= 0.05:
            break
        worth = deviance[1:] - PREFERRED * at_change
        best = int(worth.argmin())
        gap = float(worth[best] + 2 - deviance[0])
        lead = abs(gap) if lead is None else lead
        if gap >= 0:  # AIC: where a step lies is one parameter more
            return Search(
                tuple(steps), slope_is_better=True, p=first_p, splits=int(cut.size), lead=lead
            )
        base = np.column_stack([base, splits[:, best]])
        size = _size(d, client, occasion, base[cell])
        if size is None:
            break
        steps.append(Step(float(before[best]), float(cut[best]), size, p, holds[best]))
    if len(steps) > 1:  # sizes beside each other
        whole = [_size(d, client, occasion, base[cell], k) for k in range(1, base.shape[1])]
        steps = [
            Step(x.before, x.after, e or x.size, x.p, x.known)
            for x, e in zip(steps, whole, strict=False)
        ]
    return Search(tuple(steps), slope_is_better=False, p=first_p, splits=int(cut.size), lead=lead)


def _cells(s: OccasionMeans, client: Ints, occasion: Ints) -> Ints:
    """The place in ``s`` of each reading."""
    span = int(occasion.max()) - int(occasion.min()) + 1
    own = s.client_of * span + (s.occasions - occasion.min())
    return np.asarray(
        np.searchsorted(
            own, np.searchsorted(s.clients, client) * span + (occasion - occasion.min())
        ),
        dtype=np.int64,
    )


def _size(d: Floats, client: Ints, occasion: Ints, x: Floats, column: int = -1) -> Estimate | None:
    """A step's size in the nested mixed model, REML, t interval."""
    fit = fit_nested(d, client, occasion, x)
    if fit is None:
        return None
    column %= x.shape[1]
    size, variance = float(fit.beta[column]), float(fit.beta_cov[column, column])
    if variance <= 0 or not fit.theta_cov.any():
        return Estimate(size, None, d.size, "reml")
    df = min(fit.satterthwaite(np.eye(x.shape[1])[column]), max(free_df(fit, x.shape[1]), 1.0))
    return t_estimate(size, math.sqrt(variance), df, d.size, "reml-satterthwaite")
