"""The course of one client from all sources, and what further readings would tell.

All of it comes from the covariances of the client's own readings, beside the biases and drifts
that the filter has found from everybody's.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy.linalg import cho_factor, cho_solve, solve_triangular
from scipy.special import ndtr

from .best_estimate import WEEK, Common, Observations, Spreads
from .estimate import Floats, FrozenArrays, Ints

MOST_NAMED = 4  # stretches of readings that are named as disagreeing
STRETCHES = (1, 7, 14, 28)  # days whose readings are looked at together
MOST_STARTS = 120  # of such stretches, of each length


@dataclass(frozen=True, eq=False)
class Model(FrozenArrays):
    """Courses of the level that the likelihood allows, with biases and drifts under each.

    ``weight`` (k,) are their shares of the likelihood, ``origin`` the day from which drifts count.
    """

    tried: tuple[Spreads, ...]
    common: tuple[Common, ...]
    weight: Floats
    origin: int

    @property
    def likeliest(self) -> int:
        """Place of the course with the largest weight."""
        return int(self.weight.argmax())


@dataclass(frozen=True, eq=False)
class Sets(FrozenArrays):
    """Sets of repeats of one client, arrays of shape (n,): day, place of the source, repeats."""

    day: Ints
    source: Ints
    size: Ints

    def joined(self, other: Sets) -> Sets:
        """Both one after the other."""
        return Sets(
            np.concatenate([self.day, other.day]),
            np.concatenate([self.source, other.source]),
            np.concatenate([self.size, other.size]),
        )


@dataclass(frozen=True, eq=False)
class Course(FrozenArrays):
    """The level of one client on some days: arrays of shape (q,), and covariance (q, q).

    Attributes
    ----------
    day, level, covariance : ndarray
        Days asked about, level and its covariance.
    at : int
        Place of the day whose value, trend and shares are told.
    trend, trend_sd : float
        Change a week on that day, and its SD.
    share : ndarray, shape (s,)
        Each source's part of what the readings tell of that day.
    weight : ndarray, shape (n,)
        How much the value moves when a reading moves by 1.
    own : ndarray of int, shape (n,)
        Places of the client's readings.
    """

    day: Ints
    level: Floats
    covariance: Floats
    at: int
    trend: float
    trend_sd: float
    share: Floats
    weight: Floats
    own: Ints

    @property
    def sd(self) -> Floats:
        """SD of each day's level."""
        return np.asarray(np.sqrt(np.maximum(np.diag(self.covariance), 0.0)))

    def change(self, first: int, second: int) -> tuple[float, float]:
        """Change between two places of ``day``, and its SD."""
        g = np.zeros(self.day.size)
        g[second] += 1.0
        g[first] -= 1.0
        variance = float(g @ self.covariance @ g)
        return float(self.level[second] - self.level[first]), float(np.sqrt(max(variance, 0.0)))


def course_of(data: Observations, model: Model, client: int, days: Ints, at: int) -> Course:
    """The smoothed course of one client on any days.

    Parameters
    ----------
    data : Observations
        Readings, of this client at least.
    model : Model
        Courses of the level with their weights.
    client : int
        Number of the client in ``data``.
    days : ndarray of int, shape (q,)
        The days asked about, in increasing order; days after the last reading are forecasts.
    at : int
        Place of the day whose value is told.

    Notes
    -----
    It gives what a smoother gives, by a solution for the client's n readings. Where the likelihood
    allows several courses they are averaged, and their disagreement is in the covariance.
    """
    own = np.flatnonzero(data.client == client)
    sets, y = Sets(data.day[own], data.source[own], data.size[own]), data.value[own]
    means, covariances, weights, shares = [], [], [], []
    for s, common in zip(model.tried, model.common, strict=True):
        v, k, prior = _covariances(sets, days, at, s)
        x = s.regressors(sets.source, (sets.day - model.origin) / WEEK)
        w = _solved(v, k)
        slope = s.slope[sets.source]
        middle = np.append(np.full(days.size, s.middle), 0.0)
        means.append(middle + w @ (y - slope * s.middle - x @ common.value))
        of = w @ x
        covariances.append(prior - w @ k.T + of @ common.covariance @ of.T)
        weights.append(w[at])
        told = np.bincount(sets.source, w[at] * k[at], minlength=s.sources)
        shares.append(np.maximum(told, 0.0) / max(float(np.maximum(told, 0.0).sum()), 1e-300))
    p = model.weight
    mean = p @ np.array(means)
    gap = np.array(means) - mean
    covariance = np.einsum("k,kij->ij", p, np.array(covariances)) + (gap * p[:, None]).T @ gap
    return Course(
        day=days,
        level=mean[:-1],
        covariance=covariance[:-1, :-1],
        at=at,
        trend=float(mean[-1]),
        trend_sd=float(np.sqrt(max(covariance[-1, -1], 0.0))),
        share=p @ np.array(shares),
        weight=p @ np.array(weights),
        own=own,
    )


def sds_after(
    model: Model, own: Sets, further: Iterable[Sets], days: Ints, contrast: Floats
) -> Floats:
    """SD of a contrast of levels after each of several further sets of readings.

    Parameters
    ----------
    model : Model
        Courses of the level with their weights.
    own : Sets
        What the client has.
    further : iterable of Sets
        What would be added, each beside ``own``; its values need not be known.
    days : ndarray of int, shape (q,)
        Days of the contrast.
    contrast : ndarray, shape (q,)
        Weights of their levels.

    Returns
    -------
    ndarray, shape (f,)
        SDs by all courses, with biases and drifts known as well as now.
    """
    g, alternatives = np.append(contrast, 0.0), list(further)
    every = own
    for more in alternatives:
        every = every.joined(more)
    n, sizes = own.day.size, [more.day.size for more in alternatives]
    first = n + np.cumsum([0, *sizes])
    places = [
        np.concatenate([np.arange(n), np.arange(start, start + size)])
        for start, size in zip(first, sizes, strict=False)
    ]
    variance = np.zeros(len(alternatives))
    for share, s, common in zip(model.weight, model.tried, model.common, strict=True):
        v, k, prior = _covariances(every, days, 0, s)
        x = s.regressors(every.source, (every.day - model.origin) / WEEK)
        h, before = g @ k, float(g @ prior @ g)
        for j, at in enumerate(places):
            w = _solved(v[np.ix_(at, at)], h[at])
            of = w @ x[at]
            variance[j] += share * float(before - w @ h[at] + of @ common.covariance @ of)
    return np.asarray(np.sqrt(np.maximum(variance, 0.0)))


def sds_as_they_come(
    model: Model, own: Sets, further: Sets, taken: Ints, days: Ints, contrast: Floats
) -> Floats:
    """SD of contrasts of levels after some, and more, of further sets of readings.

    Parameters
    ----------
    model, own : Model, Sets
        As in ``sds_after``.
    further : Sets
        What would be added, in the order in which it comes.
    taken : ndarray of int, shape (f,)
        How many of them are there.
    days : ndarray of int, shape (f, q)
        Days of the contrast after each number of them.
    contrast : ndarray, shape (q,)
        Weights of their levels.

    Returns
    -------
    ndarray, shape (f,)
        SDs by all courses, with biases and drifts known as well as now.

    Notes
    -----
    The Cholesky factor of the first readings is the first part of that of all, so that one serves
    every number of them.
    """
    asked, at = np.unique(days, return_inverse=True)
    g = np.zeros((taken.size, asked.size + 1))
    np.add.at(g, (np.arange(taken.size)[:, None], at.reshape(days.shape)), contrast)
    sets, sizes = own.joined(further), own.day.size + taken
    variance = np.zeros(taken.size)
    for share, s, common in zip(model.weight, model.tried, model.common, strict=True):
        v, k, prior = _covariances(sets, asked, 0, s)
        x = s.regressors(sets.source, (sets.day - model.origin) / WEEK)
        both = np.column_stack([(g @ k).T, x])
        if both.size:
            both = solve_triangular(np.linalg.cholesky(v), both, lower=True, check_finite=False)
        told, of_common = both[:, : taken.size], both[:, taken.size :]
        for j, size in enumerate(sizes.tolist()):
            h, of = told[:size, j], told[:size, j] @ of_common[:size]
            variance[j] += share * float(g[j] @ prior @ g[j] - h @ h + of @ common.covariance @ of)
    return np.asarray(np.sqrt(np.maximum(variance, 0.0)))


@dataclass(frozen=True, slots=True)
class Disagreement:
    """Readings of a source, first to last day, that differ from the others beyond chance.

    ``gap`` is their mean less what the other sources tell; ``p`` is corrected for all the
    stretches that were looked at.
    """

    source: int
    first: int
    last: int
    gap: float
    p: float


def disagreements(
    data: Observations, model: Model, client: int, level: float = 0.005
) -> tuple[tuple[Disagreement, ...], float | None]:
    """Weeks in which a source differs from all others of the client beyond chance.

    Returns
    -------
    tuple of Disagreement
        Those with a p-value below ``level``.
    float or None
        The smallest p-value; None with one source.

    Notes
    -----
    The mean of a source's readings of one day, one, two and four weeks is compared with its
    prediction from all other readings, its own on other days among them (normalised innovation),
    by the likeliest course. The largest is taken out and the rest looked at again, so that one odd
    source does not make the others odd. P-values are times the number of stretches looked at
    (Bonferroni).
    """
    own = np.flatnonzero(data.client == client)
    s, common = model.tried[model.likeliest], model.common[model.likeliest]
    found: list[Disagreement] = []
    smallest: float | None = None
    while len(found) < MOST_NAMED:
        odd = _oddest(data, own, s, common, model.origin)
        smallest = odd[0].p if odd is not None and smallest is None else smallest
        if odd is None or odd[0].p >= level:
            break
        found.append(odd[0])
        own = np.setdiff1d(own, odd[1])
    return _joined(found), smallest


def _oddest(
    data: Observations, own: Ints, s: Spreads, common: Common, origin: int
) -> tuple[Disagreement, Ints] | None:
    sets = Sets(data.day[own], data.source[own], data.size[own])
    if np.unique(sets.source).size < 2:
        return None
    v, _, _ = _covariances(sets, sets.day[:1], 0, s)
    x = s.regressors(sets.source, (sets.day - origin) / WEEK)
    precision = np.linalg.inv(v + x @ common.covariance @ x.T)
    rest = precision @ (data.value[own] - s.slope[sets.source] * s.middle - x @ common.value)
    best: tuple[Disagreement, Ints] | None = None
    looked, size = 0, 0.0
    for k in np.unique(sets.source).tolist():
        at = np.flatnonzero(sets.source == k)
        for inside in _stretches(sets.day[at]):
            there = at[inside]
            covariance = np.linalg.inv(precision[np.ix_(there, there)])
            gap = float((covariance @ rest[there]).mean())
            z = abs(gap) / float(np.sqrt(covariance.mean()))
            looked += 1
            if z > size:
                days = sets.day[there]
                size = z
                odd = Disagreement(int(k), int(days.min()), int(days.max()), gap, 1.0)
                best = (odd, own[there])
    if best is None:
        return None
    odd, out = best
    p = min(1.0, 2 * float(ndtr(-size)) * looked)
    return Disagreement(odd.source, odd.first, odd.last, odd.gap, p), out


def _stretches(day: Ints) -> npt.NDArray[np.bool_]:
    """Which readings lie in each stretch of days, shape (stretches, n)."""
    starts = np.unique(day)
    starts = starts[:: -(-starts.size // MOST_STARTS)][:, None]
    parts = [(day >= starts) & (day < starts + length) for length in STRETCHES]
    return np.asarray(np.unique(np.concatenate(parts), axis=0))


def _joined(found: Sequence[Disagreement]) -> tuple[Disagreement, ...]:
    """Weeks that follow each other in one source and direction, as one."""
    out: list[Disagreement] = []
    for d in sorted(found, key=lambda d: (d.source, d.first)):
        before = out[-1] if out else None
        if (
            before is not None
            and before.source == d.source
            and d.first - before.last <= 10
            and (before.gap > 0) == (d.gap > 0)
        ):
            gap = (before.gap + d.gap) / 2
            out[-1] = Disagreement(d.source, before.first, d.last, gap, min(before.p, d.p))
        else:
            out.append(d)
    return tuple(out)


def independent_mornings(day: Ints, correlation: float) -> float:
    """Number of independent mornings that tell as much as these days, whose errors are AR(1).

    It is the sum of the inverse of their correlation matrix.
    """
    days = np.unique(day)
    if not days.size or correlation <= 0:
        return float(days.size)
    kept = correlation ** np.diff(days).astype(float)
    return float(1.0 + ((1 - kept) / (1 + kept)).sum())


def _solved(v: Floats, k: Floats) -> Floats:
    """k·v⁻¹ of a covariance ``v``, by its Cholesky factor."""
    if not v.size:
        return np.zeros(k.shape)
    return np.asarray(cho_solve(cho_factor(v, lower=True, check_finite=False), k.T).T)


def _covariances(sets: Sets, days: Ints, at: int, s: Spreads) -> tuple[Floats, Floats, Floats]:
    """Covariances of readings (n, n), of days and trend with them (q + 1, n), of those (q + 1,)².

    The trend of the day at place ``at`` comes last.
    """
    day, source = sets.day, sets.source
    begin = int(min(day.min(initial=days[0]), days[0]))
    t, q = (day - begin) / WEEK, (days - begin) / WEEK
    slope = s.slope[source]
    v = slope[:, None] * _level_covariance(t, t, s) * slope[None, :]
    same = source[:, None] == source[None, :]
    device = s.device[source]
    known = device >= 0
    v += np.where(same & known[:, None], s.offset[source][:, None] ** 2, 0.0)
    apart = np.abs(day[:, None] - day[None, :])
    alike = (device[:, None] == device[None, :]) & known[:, None]
    kept = s.correlation ** apart.astype(float) if s.correlation > 0 else (apart == 0) * 1.0
    if s.devices:
        v += np.where(alike, s.day[device][:, None] ** 2 * kept, 0.0)
    together = s.shares_morning[source]
    v += np.where((apart == 0) & together[:, None] & together[None, :], s.morning**2, 0.0)
    v[np.arange(day.size), np.arange(day.size)] += s.noise(source, sets.size)
    trend = float(q[at])
    k = np.vstack([_level_covariance(q, t, s), _trend_covariance(trend, t, s)]) * slope[None, :]
    prior = np.empty((q.size + 1, q.size + 1))
    prior[:-1, :-1] = _level_covariance(q, q, s)
    prior[-1, :-1] = prior[:-1, -1] = _trend_covariance(trend, q, s)
    prior[-1, -1] = s.start_trend**2 + s.trend**2 * trend
    return v, k, prior


def _level_covariance(t: Floats, u: Floats, s: Spreads) -> Floats:
    """Covariance of levels at so many weeks from the client's first day."""
    low, high = np.minimum.outer(t, u), np.maximum.outer(t, u)
    walk = s.level**2 * low + s.trend**2 * low**2 * (3 * high - low) / 6
    return np.asarray(s.start**2 + s.start_trend**2 * np.multiply.outer(t, u) + walk)


def _trend_covariance(t: float, u: Floats, s: Spreads) -> Floats:
    """Covariance of the trend at week ``t`` with levels at weeks ``u``."""
    low = np.minimum(t, u)
    return np.asarray(s.start_trend**2 * u + s.trend**2 * (u * low - low**2 / 2))
