"""Does a difference move through time? A slope, a robust slope, steps with a permutation test, and a control chart.

All work on the nested design of ``components``: readings of occasions (anchors) of clients, with weeks as the time of an occasion.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from scipy import special

from .components import NestedFit, fit_nested
from .distributions import normal_quantile, t_interval, t_quantile, t_two_sided_p
from .estimate import Estimate, Floats, FrozenArrays, Interval, Ints
from .variance_grid import OccasionMeans

LAMBDA, LIMIT = 0.2, 2.7
RESAMPLES = 1999
LEAST_SIDE = 2  # occasions on each side of a step
PREFERRED = 3.0  # deviance by which a split at a known change may be worse than the best one and is still preferred
LEAST_DAYS = 3.0  # days apart from which moments are different ones
MOST_STEPS = 3
FORGOTTEN = 300  # errors back of which nothing is left in an average: 0.8^300 is 1e-29

# ratios of client and occasion variance over the lowest one, at which the likelihood of splits is looked at
_CLIENT = np.r_[0.0, np.geomspace(0.03, 3000.0, 16)]
_OCCASION = np.r_[0.0, np.geomspace(0.05, 1000.0, 13)]


@dataclass(frozen=True, slots=True)
class TimeSlope:
    """Slope per week with its interval, two-sided p and degrees of freedom; ``level`` is the fitted mean at ``middle`` (weeks).

    ``level_variance`` and ``covariance`` belong to the level, and to the level with the slope: a band is made of them.
    """

    slope: Estimate
    p: float
    df: float
    middle: float
    level: float
    level_variance: float
    covariance: float
    slope_variance: float

    def band(self, weeks: Floats) -> tuple[Floats, Floats, Floats]:
        """Fitted line at ``weeks`` and its 95 % band, all of one shape."""
        t = weeks - self.middle
        line = self.level + self.slope.value * t
        variance = np.maximum(self.level_variance + 2 * t * self.covariance + t * t * self.slope_variance, 0.0)
        half = t_quantile(0.975, self.df) * np.sqrt(variance)
        return line, line - half, line + half


@dataclass(frozen=True, slots=True)
class RobustSlope:
    """Median slope of all pairs of moments of one client, its rank interval, and Mann–Kendall's p over clients as blocks."""

    slope: Estimate
    p: float
    pairs: int


@dataclass(frozen=True, slots=True)
class Step:
    """A step: weeks of the last occasion before and of the first one after it, its size, and the p of the whole search.

    ``known`` is the place, among the known changes, of the one that lies between both; None for none.
    """

    before: float
    after: float
    size: Estimate
    p: float
    known: int | None


@dataclass(frozen=True, slots=True)
class Search:
    """What a search found: steps in the order in which they were found, and whether a slope says it better.

    ``p`` is that of the first look, over a slope and all splits together; None where nothing could be permuted.
    """

    steps: tuple[Step, ...]
    slope_is_better: bool
    p: float | None
    splits: int


@dataclass(frozen=True, eq=False)
class Chart(FrozenArrays):
    """EWMA of standardised one-step errors in the order of time, (k,): weeks, the averages, their limits, places of occasions."""

    weeks: Floats
    value: Floats
    limit: Floats
    place: Ints

    @property
    def signals(self) -> Ints:
        """Places beyond the limits."""
        return np.flatnonzero(np.abs(self.value) > self.limit)


def moments_apart(weeks: Floats) -> int:
    """How many moments there are that lie at least ``LEAST_DAYS`` apart."""
    if weeks.size == 0:
        return 0
    ordered = np.sort(weeks) * 7
    return 1 + int((np.diff(ordered) >= LEAST_DAYS).sum())


def slope_on_time(d: Floats, client: Ints, occasion: Ints, weeks: Floats, beside: Floats | None = None) -> TimeSlope | None:
    """Slope of ``d`` (N,) on ``weeks`` (N,) in the nested mixed model, REML; t interval with Satterthwaite degrees of freedom.

    ``beside`` (N, q) are further fixed effects (setting periods). None with one moment only, or where ``slope_beside`` has none.
    """
    return slope_beside(d, client, occasion, weeks, beside) if moments_apart(weeks) > 1 else None


def slope_beside(d: Floats, client: Ints, occasion: Ints, along: Floats, beside: Floats | None = None) -> TimeSlope | None:
    """Slope of ``d`` on ``along`` (N,) beside other fixed effects ``beside`` (N, q) in the nested mixed model.

    No more degrees of freedom than occasions can give: occasions less clients less fixed effects. None where the slope cannot be told
    from what stands beside it, or nothing varies.
    """
    middle = float(along.mean()) if along.size else 0.0
    columns = [np.ones(d.size), along - middle] + ([] if beside is None else list(beside.T))
    x = np.column_stack(columns)
    if d.size < 3 or np.linalg.matrix_rank(x) < x.shape[1]:
        return None
    fit = fit_nested(d, client, occasion, x)
    if fit is None or not fit.theta_cov.any():
        return None
    free = _free(fit, x.shape[1])
    slope, variance = float(fit.beta[1]), float(fit.beta_cov[1, 1])
    if variance <= 0 or free < 1:
        return None
    df = min(fit.satterthwaite(np.eye(x.shape[1])[1]), free)
    se = math.sqrt(variance)
    lead = np.eye(x.shape[1])[0]
    if beside is not None:  # the level of all readings together
        lead[2:] = beside.mean(axis=0)
    return TimeSlope(
        slope=Estimate(slope, t_interval(slope, se, df), d.size, "reml-satterthwaite"),
        p=t_two_sided_p(slope / se, df),
        df=df,
        middle=middle,
        level=float(lead @ fit.beta),
        level_variance=float(lead @ fit.beta_cov @ lead),
        covariance=float((fit.beta_cov @ lead)[1]),
        slope_variance=variance,
    )


def _free(fit: NestedFit, fixed: int) -> float:
    """Most degrees of freedom of a slope within clients; between them where each was seen once."""
    clients, occasions, _ = fit.counts
    inside = occasions - clients - (fixed - 1)
    return float(inside if inside >= 1 else occasions - fixed)


def robust_slope(y: Floats, client: Ints, weeks: Floats) -> RobustSlope | None:
    """Theil–Sen slope and Mann–Kendall test within clients (Sen 1968, JASA 63:1379; Hirsch, Slack & Smith 1982, Water Resour Res 18:107).

    Slopes of all pairs of one client's occasions are pooled; S is summed over clients, with ties in its variance. Where each client
    was seen once all are one block. None below three pairs.
    """
    _, block, size = np.unique(client, return_inverse=True, return_counts=True)
    if size.max(initial=0) < 2:
        block, size = np.zeros(y.size, dtype=np.int64), np.array([y.size])
    order = np.lexsort((weeks, block))
    y, weeks, block = y[order], weeks[order], block[order]
    first, second = _pairs_of(size)
    run = weeks[second] - weeks[first]
    apart = run * 7 >= LEAST_DAYS
    first, second, run = first[apart], second[apart], run[apart]
    if first.size < 3:
        return None
    rise = y[second] - y[first]
    slopes = np.sort(rise / run)
    s = float(np.sign(rise).sum())
    variance = float((size * (size - 1) * (2 * size + 5)).sum()) / 18 - _ties(block, y) - _ties(block, np.round(weeks * 7))
    if variance <= 0:
        return None
    z = (abs(s) - 1) / math.sqrt(variance) if s else 0.0
    half = normal_quantile(0.975) * math.sqrt(variance)
    low, high = (slopes.size - half) / 2, (slopes.size + half) / 2
    interval = None
    if low >= 0 and high <= slopes.size - 1:
        interval = Interval(
            float(np.interp(low, np.arange(slopes.size), slopes)), float(np.interp(high, np.arange(slopes.size), slopes))
        )
    p = float(2 * special.ndtr(-max(z, 0.0)))
    return RobustSlope(Estimate(float(np.median(slopes)), interval, y.size, "theil-sen-within"), min(p, 1.0), int(slopes.size))


def _pairs_of(size: Ints) -> tuple[Ints, Ints]:
    """Places of every two of each block; blocks of ``size`` lie one after the other."""
    begin = np.cumsum(size) - size
    before = np.arange(int(size.sum())) - np.repeat(begin, size)  # how many of its block lie before each
    second = np.repeat(np.arange(before.size), before)
    within = np.arange(second.size) - np.repeat(np.cumsum(before) - before, before)
    return np.asarray(np.repeat(begin, size)[second] + within, dtype=np.int64), np.asarray(second, dtype=np.int64)


def _ties(block: Ints, values: Floats) -> float:
    """What equal values of a block take off the variance of S."""
    _, size = np.unique(np.column_stack([block, values]), axis=0, return_counts=True)
    return float((size * (size - 1) * (2 * size + 5)).sum()) / 18


# steps
@dataclass(frozen=True, slots=True)
class _Products:
    """Inverse covariance of occasion means at one pair of ratios: weights (M,), and what clients take off (C,)."""

    s: OccasionMeans
    w: Floats
    taken: Floats
    logdet: float

    def times(self, x: Floats) -> Floats:
        """The inverse times the columns of ``x`` (M, q)."""
        sums = np.add.reduceat(self.w[:, None] * x, self.s.starts, axis=0) * self.taken[:, None]
        return np.asarray(self.w[:, None] * (x - sums[self.s.client_of]), dtype=float)


def _products(s: OccasionMeans, client_ratio: float, occasion_ratio: float) -> _Products:
    v = occasion_ratio + 1 / s.size
    w = 1 / v
    total = s.per_client(w)
    logdet = float(np.log(s.size * v).sum() + np.log1p(client_ratio * total).sum())
    return _Products(s, w, client_ratio / (1 + client_ratio * total), logdet)


def _deviances(s: OccasionMeans, y: Floats, base: Floats, columns: Floats) -> tuple[Floats, float, tuple[float, float]]:
    """Deviance (ML) with each of ``columns`` (M, S) beside ``base`` (M, p), that of ``base`` alone, and its ratios.

    Maximised over a grid of the variance ratios, the lowest variance being profiled out.
    """
    repeats, several = s.n > s.mean.size, s.mean.size > s.clients.size
    best, alone, at = np.full(columns.shape[1], np.inf), np.inf, (0.0, 0.0)
    inside = float(s.ss.sum())
    for go in _OCCASION if repeats and several else (0.0,):
        for gc in _CLIENT if several or repeats else (0.0,):
            v = _products(s, float(gc), float(go))
            x, z, r = v.times(base), v.times(columns), v.times(y[:, None])[:, 0]
            a = np.linalg.inv(base.T @ x)
            cross, own = x.T @ columns, x.T @ y
            zz = np.einsum("ms,ms->s", columns, z) - np.einsum("ps,pq,qs->s", cross, a, cross)
            zy = z.T @ y - cross.T @ a @ own
            rss = inside + float(y @ r) - float(own @ a @ own)
            told = zz > 1e-9 * max(float(np.abs(zz).max(initial=0.0)), 1e-300)
            gain = np.divide(zy**2, zz, out=np.zeros_like(zy), where=told)
            here = v.logdet + s.n * math.log(max(rss, 1e-300))
            best = np.minimum(best, v.logdet + s.n * np.log(np.maximum(rss - gain, 1e-300)))
            if here < alone:
                alone, at = here, (float(gc), float(go))
    return best, float(alone), at


def _permuted_p(
    s: OccasionMeans, y: Floats, base: Floats, columns: Floats, at: tuple[float, float], rng: np.random.Generator, resamples: int
) -> float:
    """P of the largest score of any of ``columns``: residuals of ``base`` permuted within clients (Freedman & Lane 1983, J Bus Econ Stat 1:292).

    Occasions of one client are exchangeable in the model; where each client was seen once, clients are.
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
    """Steps of the difference: the split with the largest likelihood, a permutation p, and again beside what was found.

    ``weeks`` (M,) are those of the occasions of ``s``; ``d``, ``client`` and ``occasion`` (N,) the readings; ``known`` weeks at which
    something was changed. A split that holds a known change is preferred when its deviance is within ``PREFERRED`` of the best. The
    first look is over a slope and all splits together, so that its p guards both. A step beside a slope costs one parameter more.
    """
    y, m = s.mean - float(s.mean.mean()), s.mean.size
    ordered = np.unique(weeks)
    cut = ordered[1:]
    splits = (weeks[:, None] >= cut[None, :]).astype(float)
    fair = (splits.sum(axis=0) >= LEAST_SIDE) & ((1 - splits).sum(axis=0) >= LEAST_SIDE) & (np.diff(ordered) * 7 >= LEAST_DAYS)
    splits, cut, before = splits[:, fair], cut[fair], ordered[:-1][fair]
    time = (weeks - weeks.mean())[:, None]
    if m < 4 or not cut.size or float(time.std()) <= 0:
        return Search((), slope_is_better=False, p=None, splits=int(cut.size))
    holds = [next((k for k, at in enumerate(known) if low < at <= high), None) for low, high in zip(before, cut, strict=True)]
    at_change = np.array([k is not None for k in holds])
    rng, base, steps = np.random.default_rng(seed), np.ones((m, 1)), list[Step]()
    cell = _cells(s, client, occasion)
    first_p: float | None = None
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
        if deviance[0] <= worth[best] + 2:  # AIC: where a step lies is one parameter more
            return Search(tuple(steps), slope_is_better=True, p=first_p, splits=int(cut.size))
        base = np.column_stack([base, splits[:, best]])
        size = _size(d, client, occasion, base[cell])
        if size is None:
            break
        steps.append(Step(float(before[best]), float(cut[best]), size, p, holds[best]))
    if len(steps) > 1:  # sizes beside each other
        whole = [_size(d, client, occasion, base[cell], k) for k in range(1, base.shape[1])]
        steps = [Step(x.before, x.after, e or x.size, x.p, x.known) for x, e in zip(steps, whole, strict=False)]
    return Search(tuple(steps), slope_is_better=False, p=first_p, splits=int(cut.size))


def _cells(s: OccasionMeans, client: Ints, occasion: Ints) -> Ints:
    """The place in ``s`` of each reading."""
    span = int(occasion.max()) - int(occasion.min()) + 1
    own = s.client_of * span + (s.occasions - occasion.min())
    return np.asarray(
        np.searchsorted(own, np.searchsorted(s.clients, client) * span + (occasion - occasion.min())), dtype=np.int64
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
    df = min(fit.satterthwaite(np.eye(x.shape[1])[column]), max(_free(fit, x.shape[1]), 1.0))
    return Estimate(size, t_interval(size, math.sqrt(variance), df), d.size, "reml-satterthwaite")


# control chart
def control_chart(s: OccasionMeans, weeks: Floats, fit: NestedFit) -> Chart | None:
    """EWMA of what each occasion differs from what those before it foretold, in its SDs (Roberts 1959, Technometrics 1:239).

    The error of one step ahead: from the client's earlier occasions and the mean of all before, at the fitted variances; errors are
    independent while nothing moves (recursive residuals, Brown, Durbin & Evans 1975, J R Stat Soc B 37:149). λ 0.2, L 2.7 (Lucas &
    Saccucci 1990, Technometrics 32:1). None below four occasions.
    """
    m = s.mean.size
    client, day, repeat = fit.variances
    v = day + repeat / s.size
    if m < 4 or float(v.min()) <= 0:
        return None
    order = np.lexsort((weeks, s.client_of))
    w, y = 1 / v[order], s.mean[order] - float(s.mean.mean())
    group = s.client_of[order]
    starts = np.flatnonzero(np.r_[True, np.diff(group) > 0])
    before, before_y = _earlier(w, starts, group), _earlier(w * y, starts, group)
    mean = np.divide(before_y, before, out=np.zeros(m), where=before > 0)
    shrink = client * before / (1 + client * before)
    sd = np.sqrt(client * (1 - shrink) + v[order])
    y_free, x_free = (y - shrink * mean) / sd, (1 - shrink) / sd  # independent, with mean x·level
    by_time = np.lexsort((group, weeks[order]))
    y_free, x_free = y_free[by_time], x_free[by_time]
    xx, xy = np.cumsum(x_free**2), np.cumsum(x_free * y_free)
    foretold = xy[:-1] / xx[:-1]
    error = (y_free[1:] - x_free[1:] * foretold) / np.sqrt(1 + x_free[1:] ** 2 / xx[:-1])
    k = np.arange(1, error.size + 1)
    weights = LAMBDA * (1 - LAMBDA) ** np.arange(min(error.size, FORGOTTEN))
    value = np.convolve(error, weights)[: error.size]
    limit = LIMIT * np.sqrt(LAMBDA / (2 - LAMBDA) * (1 - (1 - LAMBDA) ** (2.0 * k)))
    place = order[by_time][1:]
    return Chart(weeks[place], np.asarray(value, dtype=float), limit, place.astype(np.int64))


def _earlier(values: Floats, starts: Ints, group: Ints) -> Floats:
    """Sums of what lies before each in its group."""
    running = np.cumsum(values) - values
    return np.asarray(running - running[starts][group], dtype=float)


def rounds_needed(sd: float, clients: int, anchors: float, gap_weeks: float, bound: float, most: int = 12) -> int | None:
    """Further anchors of each client, ``gap_weeks`` apart, until the slope is known to ± ``bound`` a week; None above ``most``.

    ``sd`` is that of an occasion's mean difference within a client; Σ(t − t̄)² of k moments Δ apart is Δ²·k(k² − 1)/12, and t has the
    degrees of freedom of clients·(k − 1) − 1 occasions.
    """
    k = np.arange(max(math.ceil(anchors), 1) + 1, max(math.ceil(anchors), 1) + most + 1, dtype=float)
    df = clients * (k - 1) - 1
    fair = df >= 1
    spread = gap_weeks * np.sqrt(clients * k * (k * k - 1) / 12)
    half = special.stdtrit(np.maximum(df, 1.0), 0.975) * sd / spread
    enough = np.flatnonzero(fair & (half <= bound))
    return int(enough[0]) + 1 if enough.size else None


def summary_slopes(
    y: Floats, client: Ints, weeks: Floats, least: int = 5, block: Ints | None = None
) -> tuple[Estimate, float] | None:
    """Mean of the clients' own least-squares slopes, t over clients (Matthews et al. 1990, BMJ 300:230), and its p.

    Serial likeness of a client's values does not touch it. ``block`` cuts a client's values into stretches with a level each.
    Clients with fewer than ``least`` moments say nothing; None below three.
    """
    _, k, size = np.unique(client, return_inverse=True, return_counts=True)
    keep = size[k] >= least
    y, weeks, k = y[keep], weeks[keep], np.unique(k[keep], return_inverse=True)[1]
    if k.size == 0:
        return None
    level = k if block is None else np.unique(block[keep], return_inverse=True)[1]
    n = np.bincount(level)
    t = weeks - (np.bincount(level, weeks) / n)[level]
    tt = np.bincount(k, t * t)
    moved = tt > 0
    slopes = np.bincount(k, t * y)[moved] / tt[moved]
    if slopes.size < 3:
        return None
    mean, se = float(slopes.mean()), float(slopes.std(ddof=1)) / math.sqrt(slopes.size)
    if se <= 0:
        return None
    df = slopes.size - 1
    return Estimate(mean, t_interval(mean, se, df), int(keep.sum()), "summary-slopes"), t_two_sided_p(mean / se, df)


def straight_line(y: Floats, weeks: Floats) -> tuple[Estimate, float] | None:
    """Least-squares slope of one series on time with its t interval and p; None below three moments."""
    t = weeks - weeks.mean() if y.size else weeks
    tt = float(t @ t)
    if y.size < 3 or tt <= 0:
        return None
    slope = float(t @ y) / tt
    left = y - y.mean() - slope * t
    df = y.size - 2
    se = math.sqrt(float(left @ left) / df / tt)
    if se <= 1e-12 * max(1.0, abs(slope)):
        return Estimate(slope, Interval(slope, slope), y.size, "ols"), 1.0 if abs(slope) <= 1e-12 else 0.0
    return Estimate(slope, t_interval(slope, se, df), y.size, "ols"), t_two_sided_p(slope / se, df)
