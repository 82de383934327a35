"""The course of one client from all sources, and what further readings would tell.

All of it comes from the covariances of the client's own readings, beside the biases and drifts
that the filter has found from everybody's.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt
from scipy.linalg import cho_factor, cho_solve, solve_triangular
from scipy.special import ndtr

from .best_estimate import WEEK, Contrast, Filtered, Observations, Spreads
from .course_model import Model
from .estimate import Floats, FrozenArrays, Ints
from .mixture import LIGHT, Mixture, mixture_of
from .turns import (
    SHIFTS,
    SHRUNK,
    TURNS,
    Beside,
    Hypotheses,
    Knots,
    checked_until,
    knots_of,
    posterior,
    ramps,
)

MOST_NAMED = 4  # stretches of readings that are named as disagreeing
STRETCHES = (1, 7, 14, 28)  # days whose readings are looked at together
MOST_STARTS = 120  # of such stretches, of each length


@dataclass(frozen=True, eq=False)
class Sets(FrozenArrays):
    """Sets of repeats of one client, arrays of shape (n,): day, place of the source, repeats.

    ``moved`` is the rough change of the level, as in ``Observations``.
    """

    day: Ints
    source: Ints
    size: Ints
    moved: Floats

    def joined(self, other: Sets) -> Sets:
        """Both one after the other."""
        return Sets(
            np.concatenate([self.day, other.day]),
            np.concatenate([self.source, other.source]),
            np.concatenate([self.size, other.size]),
            np.concatenate([self.moved, other.moved]),
        )


def sets_of(data: Observations, client: int) -> tuple[Ints, Sets]:
    """Places of a client's readings in ``data``, and their sets."""
    own = np.flatnonzero(data.client == client)
    return own, Sets(data.day[own], data.source[own], data.size[own], data.moved[own])


@dataclass(frozen=True, eq=False)
class Course(FrozenArrays):
    """The level of one client on q days: a mixture over courses and turns.

    Attributes
    ----------
    day : ndarray of int, shape (q,)
        Days asked about.
    part : ndarray, shape (h,)
        Weights of the parts of the mixture, which add up to 1.
    levels : ndarray, shape (h, q)
        Levels under each part.
    covariances : ndarray, shape (k, q, q)
        Their covariances under each course, without turns.
    of : ndarray of int, shape (h,)
        The course of each part.
    more : ndarray, shape (h, e, q)
        What turns and slopes add to a covariance: the sum of products of these with themselves.
    at : int
        Place of the day whose value and shares are told.
    share : ndarray, shape (s,)
        Each source's part of what the readings tell of that day.
    weight : ndarray, shape (n,)
        How much the value moves when a reading moves by 1.
    own : ndarray of int, shape (n,)
        Places of the client's readings.
    turns : ndarray, shape (g,)
        Mean square of the coefficient of each turn and shift.
    shifted : float
        Probability that all devices have shifted.
    level_df, change_df : float
        Degrees of freedom of intervals.
    """

    day: Ints
    part: Floats
    levels: Floats
    covariances: Floats
    of: Ints
    more: Floats
    at: int
    share: Floats
    weight: Floats
    own: Ints
    turns: Floats
    shifted: float
    level_df: float
    change_df: float

    def contrast(self, g: Floats, df: float) -> Mixture:
        """Combinations ``g`` (r, q) of levels, a mixture each."""
        centre = self.levels @ g.T
        base = ((g @ self.covariances) * g).sum(axis=-1)
        variance = base[self.of] + ((self.more @ g.T) ** 2).sum(axis=1)
        return mixture_of(self.part, centre, variance, df)

    @cached_property
    def bands(self) -> Mixture:
        """Level of each day."""
        return self.contrast(np.eye(self.day.size), self.level_df)

    @property
    def level(self) -> Floats:
        """Mean level of each day, (q,)."""
        return self.part @ self.levels

    def change(self, first: int, second: int) -> Mixture:
        """Change between two places of ``day``."""
        g = np.zeros((1, self.day.size))
        g[0, second] += 1.0
        g[0, first] -= 1.0
        return self.contrast(g, self.change_df)


def course_of(
    data: Observations, model: Model, client: int, number: int, days: Ints, at: int
) -> Course:
    """The smoothed course of one client on any days.

    Parameters
    ----------
    data : Observations
        Readings, of this client at least.
    model : Model
        What all clients tell.
    client, number : int
        The client's place in ``data``, and its number in the study.
    days : ndarray of int, shape (q,)
        The days asked about, in increasing order; days after the last reading are forecasts.
    at : int
        Place of the day whose value is told.

    Notes
    -----
    It gives what a smoother gives, by a solution for the client's n readings under each course of
    the level; turns are regressors beside it, as in ``levels_of``.
    """
    own, sets = sets_of(data, client)
    y = data.value[own]
    s = model.tried[0]
    p, slope = s.common, s.slope[sets.source]
    knots = _knots_of(sets, s)
    zero = np.zeros(sets.day.size, dtype=np.int64)
    shifts = s.shifts[sets.source] * 1.0
    gamma = knots.regressors(zero, sets.day, slope, shifts)
    common = s.regressors(sets.source, (sets.day - model.origin) / WEEK)
    slopes = s.responses(sets.source, sets.moved)
    rows = np.column_stack([y - slope * s.middle, common, slopes, gamma])
    ahead = np.column_stack([np.zeros((days.size, s.devices)), _ahead(knots, days)])
    found, kept = [], []
    parts_of = _Covariances.of(sets, days, s)
    for x in model.tried:
        v, k, prior = parts_of.under(x)
        lower = np.linalg.cholesky(v)
        white = solve_triangular(lower, rows, lower=True, check_finite=False)
        logs = 2 * np.log(np.diag(lower)).sum() + sets.day.size * math.log(2 * math.pi)
        found.append((white.T @ white, logs))
        kept.append((lower, white, k, prior))
    products = np.array([x for x, _ in found])[:, None]
    nothing = Contrast(*(np.zeros(n) for n in ((1, 1), (1, 1), (1, 1, 1))))
    got = Filtered(products, np.array([[x] for _, x in found]), nothing, nothing)
    hyp = model.hypotheses
    beside = model.beside(np.array([number]))
    each = posterior(got, beside, hyp, knots.prior, model.courses, s.slope_sd, contrasts=False)
    weight = each.weight[:, 0]
    parts: list[tuple[Floats, Floats, Floats, Ints]] = []
    covariances, weights, shares = [], [], []
    for c in range(len(kept)):
        lower, white, k, prior = kept[c]
        share = weight[c]
        use = np.flatnonzero(share > LIGHT * weight.max())
        if not use.size:
            covariances.append(prior * 0.0)
            continue
        half = solve_triangular(lower, k.T, lower=True, check_finite=False)  # (n, q)
        load = np.column_stack([np.zeros((days.size, p)), ahead]) - half.T @ white[:, 1:]
        gram = white[:, 1:].T @ white[:, 1:]
        precision = gram[:p, :p] + beside.precision[0]
        inverse = np.linalg.inv(precision)
        known = white[:, 1 : 1 + p].T @ white[:, 0] + beside.told[0]
        through = inverse @ gram[:p, p:]
        centre = half.T @ white[:, 0] + load[:, :p] @ (inverse @ known)
        covariances.append(prior - half.T @ half + load[:, :p] @ inverse @ load[:, :p].T)
        of = load[:, p:] - load[:, :p] @ through
        cross = white[:, 1 + p :].T @ white[:, 0] - through.T @ known
        left = gram[p:, p:] - through.T @ gram[:p, p:]
        solved = _pairs(hyp, left, cross, of, use, at, s.slope_sd)
        parts.append((share[use], centre + solved.mean, solved.more, np.full(use.size, c)))
        # what the value gains when a reading grows by 1, turns and common figures re-estimated
        back = solve_triangular(lower, white[:, 1:], lower=True, trans="T", check_finite=False)
        plain = solve_triangular(lower, half[:, at], lower=True, trans="T", check_finite=False)
        base = plain + back[:, :p] @ (inverse @ load[at, :p])
        turned = share[use] @ solved.gain
        weights.append(share[use].sum() * base + (back[:, p:] - back[:, :p] @ through) @ turned)
        told = np.bincount(sets.source, plain * k[at], minlength=s.sources)
        told = np.maximum(told, 0.0)
        shares.append(share[use].sum() * told / max(float(told.sum()), 1e-300))
    part, levels, more, of_course = (np.concatenate(x) for x in zip(*parts, strict=True))
    levels = levels + s.middle
    scale = part.sum()
    return Course(
        day=days,
        part=part / scale,
        levels=levels,
        covariances=np.array(covariances),
        of=of_course,
        more=more,
        at=at,
        share=np.sum(shares, axis=0) / scale,
        weight=np.sum(weights, axis=0) / scale,
        own=own,
        turns=_squares(hyp, weight),
        shifted=float(weight[:, hyp.shifts].sum()),
        level_df=model.level_df,
        change_df=model.change_df,
    )


def _knots_of(sets: Sets, s: Spreads) -> Knots:
    """Days on which the client of some sets may have turned."""
    zero = np.zeros(sets.day.size, dtype=np.int64)
    alone = Observations(zero, sets.day, sets.source, sets.moved, sets.size, sets.moved)
    first, last = sets.day.min(keepdims=True), sets.day.max(keepdims=True)
    return knots_of(first, last, checked_until(alone, s, 1))


def _ahead(knots: Knots, days: Ints) -> Floats:
    """What turns and shifts add to the level on each of some days, (q, g)."""
    turn = ramps(np.repeat(knots.turn, days.size, axis=0), days)
    return np.concatenate([turn, np.zeros((days.size, knots.shift.shape[1]))], axis=1)


@dataclass(frozen=True, slots=True, eq=False)
class _Solved:
    """What each hypothesis adds to q levels: means (h, q), roots of variances (h, e, q).

    ``gain`` (h, g) is what the level that is told gains from products with each regressor.
    """

    mean: Floats
    more: Floats
    gain: Floats


def _pairs(
    hyp: Hypotheses, gram: Floats, cross: Floats, of: Floats, use: Ints, at: int, slope_sd: Floats
) -> _Solved:
    """Hypotheses ``use`` of one client under one course, solved as pairs of regressors."""
    g = gram.shape[0]
    wide = np.zeros((g + 1, g + 1))
    wide[:g, :g] = gram
    cross, of = np.append(cross, 0.0), np.column_stack([of, np.zeros(of.shape[0])])
    n = slope_sd.size
    i, j = n + hyp.first[use], n + hyp.second[use]
    a, d = wide[i, i] + hyp.sd_first[use] ** -2.0, wide[j, j] + hyp.sd_second[use] ** -2.0
    c = wide[i, j]
    det = a * d - c * c
    b = (d * cross[i] - c * cross[j]) / det
    e = (a * cross[j] - c * cross[i]) / det
    qi, qj = of[:, i].T, of[:, j].T
    # variance d·qi² − 2c·qi·qj + a·qj² over det, as a sum of two squares
    one = qi / np.sqrt(a)[:, None]
    two = (qj - (c / a)[:, None] * qi) * np.sqrt(a / det)[:, None]
    by_i = (d[:, None] * qi - c[:, None] * qj) / det[:, None]
    by_j = (a[:, None] * qj - c[:, None] * qi) / det[:, None]
    off = [
        sd * (of[:, k] - by_i * wide[i, k][:, None] - by_j * wide[j, k][:, None])
        for k, sd in enumerate(slope_sd.tolist())
    ]
    wider = math.sqrt(SHRUNK)
    off += [wider * by_i / hyp.sd_first[use, None], wider * by_j / hyp.sd_second[use, None]]
    gain, rows = np.zeros((use.size, g + 1)), np.arange(use.size)
    gain[rows, i] += by_i[:, at]
    gain[rows, j] += by_j[:, at]
    mean = qi * b[:, None] + qj * e[:, None]
    return _Solved(mean, np.stack([one, two, *off], axis=1), gain[:, :g])


def _squares(hyp: Hypotheses, weight: Floats) -> Floats:
    """Mean square of the prior coefficient of each turn and shift, by its probability, (g,)."""
    share = weight.sum(axis=0)
    out = np.zeros(TURNS + SHIFTS + 1)
    np.add.at(out, hyp.first, share * hyp.sd_first**2)
    np.add.at(out, hyp.second, share * hyp.sd_second**2)
    return out[:-1]


@dataclass(frozen=True, eq=False)
class Ahead(FrozenArrays):
    """What is needed to tell how much further readings of a client would narrow.

    One normal distribution stands for the mixture: ``course`` has the mean squares of its courses,
    ``turns`` (g,) those of its turns and shifts.
    """

    sets: Sets
    course: Spreads
    turns: Floats
    knots: Knots
    beside: Beside
    origin: int

    def covariance(self, every: Sets, *, shifts: bool = True) -> tuple[Floats, Floats]:
        """Covariance (n, n) of sets of the client, and what turns add to each (n, g)."""
        s = self.course
        zero = np.zeros(every.day.size, dtype=np.int64)
        moved = s.shifts[every.source] * 1.0 * shifts
        gamma = self.knots.regressors(zero, every.day, s.slope[every.source], moved)
        gamma = gamma * np.sqrt(self.turns)
        x = s.regressors(every.source, (every.day - self.origin) / WEEK)
        slopes = s.responses(every.source, every.moved) * s.slope_sd
        v, _, _ = _Covariances.of(every, every.day[:1], s).under(s)
        common = np.linalg.inv(self.beside.precision[0])
        return v + gamma @ gamma.T + x @ common @ x.T + slopes @ slopes.T, gamma

    def joint(self, every: Sets, days: Ints) -> tuple[Floats, Floats, Floats, Floats]:
        """Covariance of sets (n, n), of levels on some days with them (q, n), of these (q, q).

        At the end the covariance of sets with turns and shifts of SD 1, (n, g).
        """
        v, gamma = self.covariance(every)
        _, k, prior = _Covariances.of(every, days, self.course).under(self.course)
        ahead = self.ahead(days)
        return v, k + ahead @ gamma.T, prior + ahead @ ahead.T, gamma

    def ahead(self, days: Ints) -> Floats:
        """What turns and shifts of SD 1 add to the level on some days, (q, g)."""
        return np.asarray(_ahead(self.knots, days) * np.sqrt(self.turns))


def ahead_of(data: Observations, model: Model, client: int, number: int, course: Course) -> Ahead:
    """What further readings of a client are judged by."""
    _, sets = sets_of(data, client)
    weight = np.bincount(course.of, course.part, len(model.tried))
    level, morning = (
        math.sqrt(float(weight @ np.array([x**2 for x in sds])))
        for sds in zip(*((s.level, s.morning) for s in model.tried), strict=True)
    )
    mean = replace(model.tried[0], level=level, morning=morning)
    knots = _knots_of(sets, model.tried[0])
    beside = model.beside(np.array([number]))
    return Ahead(sets, mean, course.turns, knots, beside, model.origin)


def sds_after(known: Ahead, further: Iterable[Sets], days: Ints, contrast: Floats) -> Floats:
    """SDs of contrasts of levels after each of several further sets of readings.

    Parameters
    ----------
    known : Ahead
        What the client has.
    further : iterable of Sets
        What would be added, each beside what there is; its values need not be known.
    days : ndarray of int, shape (q,)
        Days of the contrast.
    contrast : ndarray, shape (r, q)
        Weights of their levels in each of r combinations.

    Returns
    -------
    ndarray, shape (f, r)
        SDs.
    """
    every, takes, n = known.sets, list[Ints](), known.sets.day.size
    for more in further:
        begin = every.day.size
        every = every.joined(more)
        takes.append(np.concatenate([np.arange(n), np.arange(begin, every.day.size)]))
    v, k, prior, gamma = known.joint(every, days)
    h, before = contrast @ k, ((contrast @ prior) * contrast).sum(axis=1)
    turned = contrast @ known.ahead(days)
    out = []
    for at in takes:
        told = _solved(v[np.ix_(at, at)], h[:, at])
        shrunk = ((turned - told @ gamma[at]) ** 2).sum(axis=1)
        out.append(before - (told * h[:, at]).sum(axis=1) + SHRUNK * shrunk)
    return np.asarray(np.sqrt(np.maximum(out, 0.0)))


def sds_as_they_come(
    known: Ahead, further: Sets, taken: Ints, days: Ints, contrast: Floats
) -> Floats:
    """SD of contrasts of levels after some, and more, of further sets of readings.

    Parameters
    ----------
    known : Ahead
        What the client has.
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
        SDs.
    """
    asked, at = np.unique(days, return_inverse=True)
    g = np.zeros((taken.size, asked.size))
    np.add.at(g, (np.arange(taken.size)[:, None], at.reshape(days.shape)), contrast)
    v, k, prior, gamma = known.joint(known.sets.joined(further), asked)
    # the factor of the first readings is the first part of that of all
    rows = np.column_stack([(g @ k).T, gamma])
    told = solve_triangular(np.linalg.cholesky(v), rows, lower=True, check_finite=False)
    out, turned, f = np.einsum("fi,ij,fj->f", g, prior, g), g @ known.ahead(asked), taken.size
    for j, size in enumerate((known.sets.day.size + taken).tolist()):
        shrunk = turned[j] - told[:size, j] @ told[:size, f:]
        out[j] += SHRUNK * float(shrunk @ shrunk) - float(told[:size, j] @ told[:size, j])
    return np.asarray(np.sqrt(np.maximum(out, 0.0)))


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
    data: Observations, known: Ahead, course: Course, level: float = 0.005
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
    turns included as they are known. The largest is taken out and the
    rest looked at again, so that one odd source does not make the others odd. P-values are times
    the number of stretches looked at (Bonferroni).
    """
    own = course.own
    found: list[Disagreement] = []
    smallest: float | None = None
    while len(found) < MOST_NAMED:
        odd = _oddest(data, own, known)
        smallest = odd[0].p if odd is not None and smallest is None else smallest
        if odd is None or odd[0].p >= level:
            break
        found.append(odd[0])
        own = np.setdiff1d(own, odd[1])
    return _joined(found), smallest


def _innovations(data: Observations, own: Ints, known: Ahead) -> tuple[Floats, Floats]:
    """Precision (n, n) of a client's readings, and that times what they depart by (n,).

    Without shifts of all devices: what would be one is looked for.
    """
    s = known.course
    sets = Sets(data.day[own], data.source[own], data.size[own], data.moved[own])
    whole, _ = known.covariance(sets, shifts=False)
    precision: Floats = np.asarray(np.linalg.inv(whole), dtype=float)
    x = s.regressors(sets.source, (sets.day - known.origin) / WEEK)
    middle = np.linalg.solve(known.beside.precision[0], known.beside.told[0])
    return precision, precision @ (data.value[own] - s.slope[sets.source] * s.middle - x @ middle)


def _oddest(data: Observations, own: Ints, known: Ahead) -> tuple[Disagreement, Ints] | None:
    sets = Sets(data.day[own], data.source[own], data.size[own], data.moved[own])
    if np.unique(sets.source).size < 2:
        return None
    precision, rest = _innovations(data, own, known)
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


@dataclass(frozen=True, slots=True)
class Contradicted:
    """A scan that differs by ``gap`` from what all devices report; ``p`` for all scans together."""

    day: int
    gap: float
    p: float


def contradictions(
    data: Observations, known: Ahead, course: Course, level: float = 0.05
) -> tuple[Contradicted, ...]:
    """Scans with which the devices of a client disagree, shifts of all devices left aside.

    Notes
    -----
    Each scan is compared with its prediction from all other readings, as ``disagreements`` does;
    p-values are times the number of scans. With the likeliest shift of all devices in the model
    there would be none.
    """
    own = course.own
    s = known.course
    scans = np.flatnonzero(s.device[data.source[own]] < 0)
    if not scans.size or scans.size == own.size:
        return ()
    precision, rest = _innovations(data, own, known)
    out = []
    for day in np.unique(data.day[own[scans]]).tolist():
        at = scans[data.day[own[scans]] == day]
        covariance = np.linalg.inv(precision[np.ix_(at, at)])
        gap = float((covariance @ rest[at]).mean())
        p = 2 * float(ndtr(-abs(gap) / float(np.sqrt(covariance.mean()))))
        p = min(1.0, p * np.unique(data.day[own[scans]]).size)
        if p < level:
            out.append(Contradicted(day, gap, p))
    return tuple(out)


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


@dataclass(frozen=True, slots=True, eq=False)
class _Covariances:
    """Covariances that are linear in the squares of the SDs of a course.

    Of readings (n, n), of levels on some days with them (q, n), of these (q, q).
    """

    fixed: tuple[Floats, Floats, Floats]
    walk: tuple[Floats, Floats, Floats]
    together: Floats

    @classmethod
    def of(cls, sets: Sets, days: Ints, s: Spreads) -> _Covariances:
        """Those of a client's sets and of levels on some days."""
        day, source = sets.day, sets.source
        begin = int(min(day.min(initial=days[0]), days[0]))
        t, q = (day - begin) / WEEK, (days - begin) / WEEK
        slope = s.slope[source]
        both = np.multiply.outer(slope, slope)
        v = both * _level_covariance(t, t, s)
        same = source[:, None] == source[None, :]
        device = s.device[source]
        known = device >= 0
        v += np.where(same & known[:, None], s.offset[source][:, None] ** 2, 0.0)
        apart = np.abs(day[:, None] - day[None, :])
        alike = (device[:, None] == device[None, :]) & known[:, None]
        kept = s.correlation ** apart.astype(float) if s.correlation > 0 else (apart == 0) * 1.0
        if s.devices:
            v += np.where(alike, s.day[device][:, None] ** 2 * kept, 0.0)
        shares = s.shares_morning[source]
        together = ((apart == 0) & shares[:, None] & shares[None, :]) * 1.0
        v[np.arange(day.size), np.arange(day.size)] += s.noise(source, sets.size)
        k = _level_covariance(q, t, s) * slope[None, :]
        walk = np.minimum.outer(q, t) * slope[None, :]
        fixed = (v, k, _level_covariance(q, q, s))
        walks = (both * np.minimum.outer(t, t), walk, np.minimum.outer(q, q))
        return cls(fixed, walks, together)

    def under(self, s: Spreads) -> tuple[Floats, Floats, Floats]:
        """Under one course of the level."""
        v, k, prior = (a + s.level**2 * b for a, b in zip(self.fixed, self.walk, strict=True))
        return v + s.morning**2 * self.together, k, prior


def _level_covariance(t: Floats, u: Floats, s: Spreads) -> Floats:
    """Covariance of levels at so many weeks from the client's first day, without the walk."""
    low, high = np.minimum.outer(t, u), np.maximum.outer(t, u)
    turning = s.trend**2 * low**2 * (3 * high - low) / 6
    return np.asarray(s.start**2 + s.start_trend**2 * np.multiply.outer(t, u) + turning)
