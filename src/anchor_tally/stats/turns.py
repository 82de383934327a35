"""Turns of the trend and shifts of all devices: hypotheses about one client, averaged over.

People begin, stop and relapse on days that nobody notes. A turn adds a ramp to the level from a
day on; a shift adds a step to all impedance devices of a client, which no scan shares. Both are
regressors beside the filter with a normal prior of mean 0, so that what a hypothesis changes in
likelihood, value and change follows from products of innovations.

References
----------
Harrison & Stevens 1976, J R Stat Soc B 38:205 (mixtures of models of change); de Jong & Penzer
1998, J Am Stat Assoc 93:796 (regressors that look for a break); George & McCulloch 1993, J Am Stat
Assoc 88:881 (weights of regressors).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from .best_estimate import WEEK, Contrast, Filtered, Observations, Spreads
from .estimate import Floats, FrozenArrays, Ints

WEEKLY = 12  # turns one week apart before the last day; farther back they are fewer
TURNS = 20  # days tried of each client, at most
# days before the last scan on which all devices may have shifted
BEFORE_SCAN = (1, 4, 8, 12, 16, 21, 28, 35, 42, 56, 70, 84)
SHIFTS = len(BEFORE_SCAN)
SOONEST = 4  # days before the last one on which a turn can still begin
ONE_TURN, TWO_TURNS, SHIFT, SHIFT_AND_TURN = 0.45, 0.36, 0.09, 0.06  # probabilities (assumed)
# SDs of what a turn adds to the weekly trend, in SDs of that trend, equally likely (assumed)
SIZES = (2.5, 7.0)
# beside the variance of a coefficient stands this many times the square by which it is shrunk, so
# that an interval also holds for those whose turn is larger than most (Armstrong, Kolesár &
# Plagborg-Møller 2022, Econometrica 90:2567; the factor is assumed)
SHRUNK = 2.0
LARGE_SHIFT = 10.0  # SD of a shift, in SDs of the weekly trend (assumed)


@dataclass(frozen=True, eq=False)
class Knots(FrozenArrays):
    """Days on which each client's trend may turn and all devices may shift, NaN for none.

    ``turn`` has shape (c, TURNS), ``shift`` (c, SHIFTS). A turn holds from its day on, a shift
    from the day after.
    """

    turn: Floats
    shift: Floats

    @property
    def prior(self) -> Floats:
        """Share of each turn and of each shift among those of its client, (c, TURNS + SHIFTS)."""
        out = []
        for days in (self.turn, self.shift):
            there = ~np.isnan(days)
            before = np.diff(days, axis=1, append=np.nan)
            # days that stand for more weeks are as much more likely
            share = np.where(there, np.where(np.isnan(before), WEEK, before), 0.0)
            out.append(share / np.maximum(share.sum(axis=1, keepdims=True), 1e-300))
        return np.concatenate(out, axis=1)

    def regressors(
        self, client: Ints, day: Ints, slope: npt.ArrayLike, shifts: npt.ArrayLike
    ) -> Floats:
        """What turns and shifts add to readings, shape (n, TURNS + SHIFTS).

        ``slope`` (n,) is what a reading shows of the level, ``shifts`` (n,) 1 where a shift of all
        devices moves it.
        """
        return np.concatenate(
            [
                ramps(self.turn[client], day) * np.asarray(slope)[:, None],
                np.where(day[:, None] > self.shift[client], 1.0, 0.0) * np.asarray(shifts)[:, None],
            ],
            axis=1,
        )

    def ahead(self, day: Ints) -> Floats:
        """What a turn of 1 a week adds to each client's level on a day, (c, TURNS + SHIFTS)."""
        return np.concatenate([ramps(self.turn, day), np.zeros(self.shift.shape)], axis=1)


def ramps(turn: Floats, day: Ints) -> Floats:
    """Weeks since each of some days, 0 before them, shape (n, g)."""
    return np.asarray(np.nan_to_num(np.maximum(day[:, None] - turn, 0.0)) / WEEK)


def knots_of(first: Ints, last: Ints, checked: Floats) -> Knots:
    """Days that are tried for each client, backwards from the last one.

    Parameters
    ----------
    first, last : ndarray of int, shape (c,)
        Days of the first and last reading.
    checked : ndarray, shape (c,)
        Last day up to which scans tell a shift of all devices from a change; NaN for none.
    """
    weeks = WEEK * np.arange(WEEKLY)
    span = np.maximum(last - first, 0)
    # beyond the last weeks the days lie evenly over what is left
    rest = np.maximum(span - SOONEST - weeks[-1], 0.0)
    wide = np.maximum(rest / (TURNS - WEEKLY + 1), WEEK)[:, None]
    far = SOONEST + weeks[-1] + wide * np.arange(1, TURNS - WEEKLY + 1)
    near = np.broadcast_to(SOONEST + weeks, (first.size, WEEKLY))
    turn = np.floor(last[:, None] - np.concatenate([near, far], axis=1))
    shift = checked[:, None] - np.array(BEFORE_SCAN)
    out = [np.where(x >= first[:, None] + SOONEST, x, np.nan)[:, ::-1] for x in (turn, shift)]
    return Knots(*out)


def checked_until(data: Observations, s: Spreads, clients: int) -> Floats:
    """Day of the last of two scans or more of each client who is read by impedance, else NaN, (c,).

    After it nothing tells a shift of all devices from a change: it is taken for one.
    """
    scan = s.device[data.source] < 0
    last = np.full(clients, -1.0)
    np.maximum.at(last, data.client[scan], data.day[scan])
    first = np.full(clients, np.inf)
    np.minimum.at(first, data.client[scan], data.day[scan])
    read = np.bincount(data.client, s.shifts[data.source], clients)
    return np.where((last > first) & (read > 0), last, np.nan)


@dataclass(frozen=True, eq=False)
class Hypotheses(FrozenArrays):
    """Pairs of regressors of a client that may be at work, arrays of shape (h,).

    ``first`` and ``second`` are places of regressors, TURNS + SHIFTS for none; ``sd_first`` and
    ``sd_second`` the prior SDs of their coefficients; ``probability`` that of a pair of its kind.
    """

    first: Ints
    second: Ints
    sd_first: Floats
    sd_second: Floats
    probability: Floats

    @property
    def shifts(self) -> npt.NDArray[np.bool_]:
        """Which of them are about a shift of all devices, (h,)."""
        return np.asarray((self.first >= TURNS) & (self.first < TURNS + SHIFTS))

    def log_prior(self, prior: Floats) -> Floats:
        """Logarithm of each client's prior of each hypothesis, (c, h); ``prior`` as of ``Knots``.

        What a client has no days for goes to no turn.
        """
        share = np.concatenate([prior, np.ones((prior.shape[0], 1))], axis=1)
        out = self.probability * share[:, self.first] * share[:, self.second]
        # two turns: each pair is listed once, so that their sum is not that of all pairs
        out = np.where(out > 0, out, 0.0)
        out[:, 0] = np.maximum(1.0 - out[:, 1:].sum(axis=1), 0.02)
        with np.errstate(divide="ignore"):
            return np.log(out)


def hypotheses(scale: float, *, shifts: bool) -> Hypotheses:
    """All hypotheses: none, one turn, two turns, a shift, a shift and a turn.

    Parameters
    ----------
    scale : float
        SD of the weekly trend, in the metric's unit.
    shifts : bool
        Whether shifts of all devices are looked for.
    """
    none, sizes = TURNS + SHIFTS, [scale * x for x in SIZES]
    coarse = range(1, TURNS, 2)
    rows: list[tuple[int, int, float, float, float]] = [(none, none, 1.0, 1.0, 1.0)]
    each = 1 / len(sizes)
    rows += [(i, none, s, 1.0, ONE_TURN * each) for i in range(TURNS) for s in sizes]
    pairs = [(i, j) for i in coarse for j in coarse if i < j]
    # the shares of every second turn are half of all, and each pair is there once
    two = TWO_TURNS * 8 * each**2
    rows += [(i, j, s, z, two) for i, j in pairs for s in sizes for z in sizes]
    if shifts:
        step = scale * LARGE_SHIFT
        moved = range(TURNS, TURNS + SHIFTS)
        rows += [(i, none, step, 1.0, SHIFT) for i in moved]
        rows += [
            (i, j, step, z, SHIFT_AND_TURN * 2 * each) for i in moved for j in coarse for z in sizes
        ]
    columns = [np.array(x) for x in zip(*rows, strict=True)]
    return Hypotheses(*columns)


@dataclass(frozen=True, eq=False)
class Posterior(FrozenArrays):
    """What is known of c clients under k courses and h hypotheses.

    ``weight`` (k, c, h) adds up to 1 for each client. ``information`` (c, p, p) and ``told``
    (c, p) are what a client tells of the figures that all have in common.
    """

    weight: Floats
    information: Floats
    told: Floats
    level: tuple[Floats, Floats]
    change: tuple[Floats, Floats]


@dataclass(frozen=True, eq=False)
class Beside(FrozenArrays):
    """What others tell each client of the common figures: precision (c, p, p), and times mean."""

    precision: Floats
    told: Floats


def posterior(
    found: Filtered,
    beside: Beside,
    hyp: Hypotheses,
    prior: Floats,
    courses: Floats,
    slope_sd: Floats,
    *,
    contrasts: bool = True,
) -> Posterior:
    """Weigh hypotheses about each client, the common figures integrated out.

    Parameters
    ----------
    found : Filtered
        Products of innovations, and the contrasts asked for.
    beside : Beside
        What is known of the common figures without the client.
    hyp : Hypotheses
        The hypotheses.
    prior : ndarray, shape (c, g)
        Share of each regressor of a client, as of ``Knots.prior``.
    courses : ndarray, shape (k,)
        Prior probability of each course of the level.
    slope_sd : ndarray, shape (d,)
        SD of each device's slope. Readings of devices do not tell of it: its errors add to the
        variances, and nothing is learned (a considered parameter; Schmidt 1966, Adv Control Syst
        3:293, from memory).
    contrasts : bool
        Whether means and variances of level and change are wanted.

    Returns
    -------
    Posterior
        ``level`` and ``change`` are means and variances, (k, c, h) each.
    """
    p = beside.told.shape[-1]
    r = _reduced(found, beside, p)
    gram, cross = _padded(r.gram), _padded(r.cross)
    n = slope_sd.size
    i, j = n + hyp.first, n + hyp.second
    a = gram[..., i, i] + hyp.sd_first**-2.0
    d = gram[..., j, j] + hyp.sd_second**-2.0
    c = gram[..., i, j]
    u, w = cross[..., i], cross[..., j]
    det = a * d - c * c
    gain = (d * u * u - 2 * c * u * w + a * w * w) / det
    log = r.log[..., None] + 0.5 * (gain - np.log(det * (hyp.sd_first * hyp.sd_second) ** 2))
    log = log + hyp.log_prior(prior) + np.log(courses)[:, None, None]
    log -= log.max(axis=(0, 2), keepdims=True)
    weight = np.exp(log)
    weight /= weight.sum(axis=(0, 2), keepdims=True)
    told = []
    for x in (found.level, found.change) if contrasts else ():
        mean, variance, of = r.contrast(x, p)
        of = _padded(of)
        qi, qj = of[..., i], of[..., j]
        # what the contrast gains from the products of i and j with any other
        by_i, by_j = (d * qi - c * qj) / det, (a * qj - c * qi) / det
        shrunk = (by_i / hyp.sd_first) ** 2 + (by_j / hyp.sd_second) ** 2
        variance = variance[..., None] + qi * by_i + qj * by_j + SHRUNK * shrunk
        for k in range(n):
            off = of[..., k, None] - by_i * gram[..., i, k] - by_j * gram[..., j, k]
            variance = variance + (slope_sd[k] * off) ** 2
        told.append((mean[..., None] + by_i * u + by_j * w, variance))
    information, common = _told_in_common(found, hyp, weight, p, n)
    nothing = (np.empty(0), np.empty(0))
    return Posterior(weight, information, common, *(told or (nothing, nothing)))


def _padded(x: Floats) -> Floats:
    """With a regressor of zeros at the end of the last axis, and of the one before if square."""
    square = x.ndim == 4
    out = np.zeros((*x.shape[:2], *(n + 1 for n in x.shape[2:])))
    if square:
        out[..., :-1, :-1] = x
    else:
        out[..., :-1] = x
    return out


@dataclass(frozen=True, slots=True, eq=False)
class _Reduced:
    """Products with the common figures integrated out: of the client's own regressors alone.

    ``log`` (k, c) is the log-likelihood without any of them, but for a constant of the client.
    """

    gram: Floats
    cross: Floats
    log: Floats
    inverse: Floats
    middle: Floats
    through: Floats

    def contrast(self, x: Contrast, p: int) -> tuple[Floats, Floats, Floats]:
        """Mean and variance (k, c) without hypotheses, and loads (k, c, g) of their regressors."""
        q = x.load[..., :p]
        mean = x.value + (q * self.middle).sum(axis=-1)
        variance = x.variance + np.einsum("kci,kcij,kcj->kc", q, self.inverse, q)
        return mean, variance, x.load[..., p:] - (q[..., None, :] @ self.through)[..., 0, :]


def _reduced(found: Filtered, beside: Beside, p: int) -> _Reduced:
    s = found.products
    common, own = s[..., 1 : 1 + p, 1 : 1 + p], s[..., 1 + p :, 1 + p :]
    between = s[..., 1 : 1 + p, 1 + p :]
    precision = common + beside.precision
    known = s[..., 1 : 1 + p, 0] + beside.told
    inverse: Floats = np.asarray(np.linalg.inv(precision), dtype=float)
    middle = (inverse @ known[..., None])[..., 0]
    through = inverse @ between
    fit = s[..., 0, 0] - (known * middle).sum(axis=-1)
    _, size = np.linalg.slogdet(precision)
    return _Reduced(
        own - np.swapaxes(between, -1, -2) @ through,
        s[..., 1 + p :, 0] - (np.swapaxes(between, -1, -2) @ middle[..., None])[..., 0],
        -0.5 * (found.logs + fit + size),
        inverse,
        middle,
        through,
    )


def _told_in_common(
    found: Filtered, hyp: Hypotheses, weight: Floats, p: int, n: int
) -> tuple[Floats, Floats]:
    """What each client tells of the common figures, averaged over courses and hypotheses."""
    s = found.products
    own, between = _padded(s[..., 1 + p + n :, 1 + p + n :]), s[..., 1 : 1 + p, 1 + p + n :]
    k, c, h = np.nonzero(weight > 1e-3)
    w = weight[k, c, h]
    i, j = hyp.first[h], hyp.second[h]
    a = own[k, c, i, i] + hyp.sd_first[h] ** -2.0
    d = own[k, c, j, j] + hyp.sd_second[h] ** -2.0
    b = own[k, c, i, j]
    det = a * d - b * b
    taken = np.zeros_like(own)
    for one, two, part in ((i, i, d), (j, j, a), (i, j, -b), (j, i, -b)):
        np.add.at(taken, (k, c, one, two), w * part / det)
    taken = taken[..., :-1, :-1]
    share = weight.sum(axis=2)
    information = np.einsum("kc,kcij->cij", share, s[..., 1 : 1 + p, 1 : 1 + p])
    told = np.einsum("kc,kci->ci", share, s[..., 1 : 1 + p, 0])
    back = between @ taken
    information = information - (back @ np.swapaxes(between, -1, -2)).sum(axis=0)
    told = told - (back @ s[..., 1 + p + n :, 0][..., None])[..., 0].sum(axis=0)
    return information, told
