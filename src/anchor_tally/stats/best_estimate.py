"""One course per client from scans and every device: a Gaussian state-space model.

A reading of source s of client i on day t is

    y = slope_s·level_i(t) + bias_s + drift_d·weeks + offset_is + day_idt + morning_it + error.

The level has a weekly trend (local linear trend). A source is an instrument in one setting; its
offset for a client is constant. Day errors of one device are autocorrelated (AR(1) by calendar
days). Impedance devices share the error of a morning. Biases and drifts are common to all clients
and are estimated by generalised least squares beside the clients' states, so that scans are used
once, and no offset is averaged away by more mornings.

References
----------
Durbin & Koopman 2012, Time Series Analysis by State Space Methods, 2nd ed., chapters 2 to 5;
de Jong 1991, Ann Stat 19:1073 (regressors beside a filter).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from .estimate import Floats, FrozenArrays, Ints

WIDE = 100.0  # SD of a bias before any reading, in the metric's unit
WEEK = 7.0


@dataclass(frozen=True, eq=False)
class Observations(FrozenArrays):
    """Means of sets of repeats of all clients, arrays of shape (n,), by client and day.

    ``client`` counts from 0; ``day`` is a calendar day number; ``source`` a place in the arrays of
    ``Spreads``; ``size`` the number of repeats.
    """

    client: Ints
    day: Ints
    source: Ints
    value: Floats
    size: Ints

    def of_clients(self, clients: Ints) -> Observations:
        """Readings of some clients, given in increasing order; they are numbered anew from 0."""
        own = np.flatnonzero(np.isin(self.client, clients))
        return Observations(
            np.searchsorted(clients, self.client[own]),
            self.day[own],
            self.source[own],
            self.value[own],
            self.size[own],
        )


@dataclass(frozen=True, eq=False)
class Spreads(FrozenArrays):
    """SDs of the model in the metric's unit; arrays of shape (s,), one a source.

    Attributes
    ----------
    level : float
        SD that the level gains in a week beside its trend.
    trend : float
        SD that the weekly trend gains in a week.
    start : float
        SD of the level at a client's first day, about ``middle``.
    start_trend : float
        SD of the weekly trend at a client's first day.
    middle : float
        Mean level before any reading.
    offset, repeat : ndarray, shape (s,)
        SDs of the client's offset and of one repeat; of a scan only the second.
    day : ndarray, shape (d,)
        SD of each device's error of a day.
    slope : ndarray, shape (s,)
        What the source shows of a change of 1.
    drift : ndarray, shape (d,)
        SD of each device's drift per week before any reading; 0 for none.
    device : ndarray of int, shape (s,)
        Number of the device of a source; −1 for scans, which have no bias.
    shares_morning : ndarray of bool, shape (s,)
        Whether the error of a morning is shared.
    morning : float
        SD of that error.
    correlation : float
        Correlation of day errors of one device one calendar day apart.
    told_by : int
        Without scans the source whose level is told: it has no bias. −1 with scans.
    """

    level: float
    trend: float
    start: float
    start_trend: float
    middle: float
    offset: Floats
    day: Floats
    repeat: Floats
    slope: Floats
    drift: Floats
    device: Ints
    shares_morning: npt.NDArray[np.bool_]
    morning: float
    correlation: float
    told_by: int = -1

    @property
    def sources(self) -> int:
        """Number of sources."""
        return int(self.offset.size)

    @property
    def devices(self) -> int:
        """Number of devices."""
        return int(self.drift.size)

    def regressors(self, source: Ints, weeks: Floats) -> Floats:
        """What multiplies biases (s) and drifts (d) in each reading, shape (n, s + d)."""
        out = np.zeros((source.size, self.sources + self.devices))
        at = np.flatnonzero(self.device[source] >= 0)
        out[at, source[at]] = source[at] != self.told_by
        out[at, self.sources + self.device[source[at]]] = weeks[at]
        return out

    def prior_precision(self) -> Floats:
        """Precision of biases and drifts before any reading, shape (s + d,)."""
        drift = np.where(self.drift > 0, self.drift, 1e-6)
        return np.concatenate([np.full(self.sources, WIDE**-2.0), drift**-2.0])

    def noise(self, source: Ints, size: Ints) -> Floats:
        """Variance of the mean of a set of repeats about its day, shape (n,)."""
        return np.asarray(self.repeat[source] ** 2 / size, dtype=float)


@dataclass(frozen=True, eq=False)
class Common(FrozenArrays):
    """Biases and drifts of all clients together: estimate (p,), covariance (p, p), likelihood."""

    value: Floats
    covariance: Floats
    log_likelihood: float


@dataclass(frozen=True, eq=False)
class Levels(FrozenArrays):
    """Level now, and change between two days, of each client: arrays of shape (c,).

    SDs are those of the estimates.
    """

    value: Floats
    value_sd: Floats
    change: Floats
    change_sd: Floats


def filter_clients(
    data: Observations,
    tried: Sequence[Spreads],
    since: Ints,
    until: Ints,
    now: Ints,
    origin: int,
    known: Sequence[Common] | None = None,
) -> list[tuple[Common, Levels]]:
    """Filter all clients side by side, for several courses of the level at once.

    Parameters
    ----------
    data : Observations
        Readings in the order of client and day.
    tried : sequence of Spreads
        The SDs of the model; they differ in ``level``, ``trend`` and ``morning`` only.
    since, until, now : ndarray of int, shape (c,)
        The two days of the change and the day of the value; ``now`` is not before any reading nor
        before ``until``.
    origin : int
        Day from which drifts count.
    known : sequence of Common, optional
        Biases and drifts found from other readings, one a course; by default these readings tell.

    Returns
    -------
    list of (Common, Levels)
        For each course biases and drifts with the marginal log-likelihood of all readings, and
        what is known at the end of each client's readings.

    Notes
    -----
    Readings are taken in one by one on each day, clients and courses side by side. The levels of
    the two days are kept as states, so that no pass backwards is needed. Biases and drifts pass
    through the same filter as regressors.
    """
    s, many = tried[0], len(tried)
    grid = _grid(data, since, until, now)
    clients, steps, slots = grid.row.shape
    p = s.sources + s.devices
    m = p + 5
    shared, first, second = m - 3, m - 2, m - 1
    show = np.zeros((s.sources, m))
    show[:, 0] = s.slope
    show[np.arange(s.sources), 2 + np.arange(s.sources)] = 1.0
    own = np.flatnonzero(s.device >= 0)
    show[own, 2 + s.sources + s.device[own]] = 1.0
    show[s.shares_morning, shared] = 1.0
    a = np.zeros((many, clients, m, 1 + p))
    a[..., 0, 0] = s.middle
    v = np.zeros((many, clients, m, m))
    v[..., 0, 0], v[..., 1, 1] = s.start**2, s.start_trend**2
    at = np.arange(2, 2 + s.sources)
    v[..., at, at] = np.where(s.device >= 0, s.offset, 0.0) ** 2
    at = np.arange(2 + s.sources, 2 + p)
    v[..., at, at] = s.day**2

    rows = np.column_stack([data.value, s.regressors(data.source, (data.day - origin) / WEEK)])
    noise = s.noise(data.source, data.size)
    sums, logs = np.zeros((many, 1 + p, 1 + p)), np.zeros(many)
    course = _Courses.of(tried)
    for k in range(steps):
        _predict(a, v, grid.gap[:, k], s, course, shared)
        for mark, where in ((grid.first[:, k], first), (grid.second[:, k], second)):
            c = np.flatnonzero(mark)
            a[:, c, where] = a[:, c, 0]
            v[:, c, where, :] = v[:, c, 0, :]
            v[:, c, :, where] = v[:, c, :, 0]
            v[:, c, where, where] = v[:, c, 0, 0]
        for j in range(slots):
            c = np.flatnonzero(grid.row[:, k, j] >= 0)
            if not c.size:
                break
            everyone = c.size == clients  # then no copies are made
            r = grid.row[c, k, j]
            h = show[data.source[r]]
            part = v if everyone else v[:, c]
            state = a if everyone else a[:, c]
            vh = (part @ h[:, :, None])[..., 0]
            f = (vh * h).sum(axis=-1) + noise[r]
            e = rows[r] - (h[:, None, :] @ state)[..., 0, :]
            gain = vh / f[..., None]
            state += gain[..., :, None] * e[..., None, :]
            part -= gain[..., :, None] * vh[..., None, :]
            if not everyone:
                a[:, c], v[:, c] = state, part
            sums += np.swapaxes(e, 1, 2) @ (e / f[..., None])
            logs += np.log(2 * math.pi * f).sum(axis=1)
    out = []
    for k in range(many):
        common = _common(sums[k], float(logs[k]), s) if known is None else known[k]
        value, value_sd = _contrast(a[k], v[k], common, _unit(m, {0: 1.0}))
        change, change_sd = _contrast(a[k], v[k], common, _unit(m, {second: 1.0, first: -1.0}))
        out.append((common, Levels(value, value_sd, change, change_sd)))
    return out


def _unit(m: int, at: dict[int, float]) -> Floats:
    out = np.zeros(m)
    for k, x in at.items():
        out[k] = x
    return out


@dataclass(frozen=True, slots=True, eq=False)
class _Courses:
    """What differs between the courses that are tried: variances, shape (k, 1)."""

    level: Floats
    trend: Floats
    morning: Floats

    @classmethod
    def of(cls, tried: Sequence[Spreads]) -> _Courses:
        return cls(
            *(
                np.array([x], dtype=float).T ** 2
                for x in (
                    [s.level for s in tried],
                    [s.trend for s in tried],
                    [s.morning for s in tried],
                )
            )
        )


def _predict(a: Floats, v: Floats, days: Floats, s: Spreads, course: _Courses, shared: int) -> None:
    """Move states and their covariances on by so many days (c,), in place."""
    weeks = days / WEEK
    a[..., 0, :] += weeks[:, None] * a[..., 1, :]
    v[..., 0, :] += weeks[:, None] * v[..., 1, :]
    v[..., :, 0] += weeks[:, None] * v[..., :, 1]
    v[..., 0, 0] += course.trend * weeks**3 / 3 + course.level * weeks
    cross = course.trend * weeks**2 / 2
    v[..., 0, 1] += cross
    v[..., 1, 0] += cross
    v[..., 1, 1] += course.trend * weeks
    lo, hi = 2 + s.sources, 2 + s.sources + s.devices
    kept = s.correlation**days if s.correlation > 0 else (days == 0).astype(float)
    a[..., lo:hi, :] *= kept[:, None, None]
    v[..., lo:hi, :] *= kept[:, None, None]
    v[..., :, lo:hi] *= kept[:, None, None]
    at = np.arange(lo, hi)
    v[..., at, at] += s.day**2 * (1 - kept[:, None] ** 2)
    # another morning: nothing of the last one is left
    fresh = np.flatnonzero((days > 0) | (v[:, :, shared, shared] == 0).all(axis=0))
    a[:, fresh, shared] = 0.0
    v[:, fresh, shared, :] = 0.0
    v[:, fresh, :, shared] = 0.0
    v[:, fresh, shared, shared] = course.morning


def _contrast(a: Floats, v: Floats, common: Common, g: Floats) -> tuple[Floats, Floats]:
    """A combination of states of each client, and its SD."""
    of = np.einsum("i,ciq->cq", g, a)
    mean = of[:, 0] - of[:, 1:] @ common.value
    variance = np.einsum("i,cij,j->c", g, v, g)
    variance = variance + np.einsum("cq,qr,cr->c", of[:, 1:], common.covariance, of[:, 1:])
    return mean, np.sqrt(np.maximum(variance, 0.0))


def _common(sums: Floats, logs: float, s: Spreads) -> Common:
    prior = s.prior_precision()
    precision = sums[1:, 1:] + np.diag(prior)
    covariance: Floats = np.asarray(np.linalg.inv(precision), dtype=float)
    value = covariance @ sums[1:, 0]
    _, after = np.linalg.slogdet(precision)
    fit = float(sums[0, 0] - sums[1:, 0] @ value)
    log_likelihood = -0.5 * (logs + fit + float(after) - float(np.log(prior).sum()))
    return Common(value, covariance, log_likelihood)


@dataclass(frozen=True, slots=True, eq=False)
class _Grid:
    """Readings by client, step of time and place within the step; −1 where there is none."""

    row: Ints
    gap: Floats
    first: npt.NDArray[np.bool_]
    second: npt.NDArray[np.bool_]


def _grid(data: Observations, since: Ints, until: Ints, now: Ints) -> _Grid:
    clients = since.size
    codes = np.arange(clients)
    client = np.concatenate([data.client, codes, codes, codes])
    day = np.concatenate([data.day, since, until, now])
    width = int(day.max()) + 1 if day.size else 1
    key = client * width + day
    steps, at = np.unique(key, return_inverse=True)
    owner = steps // width
    start = np.searchsorted(owner, codes)
    place = np.arange(steps.size) - start[owner]
    n = int(place.max()) + 1 if steps.size else 0
    gap = np.zeros((clients, n))
    days = steps % width
    later = place > 0
    gap[owner[later], place[later]] = days[later] - days[np.flatnonzero(later) - 1]
    step = at[: data.client.size]
    order = np.argsort(step, kind="stable")
    begin = np.searchsorted(step[order], np.arange(steps.size))
    slot = np.arange(step.size) - begin[step[order]]
    row = np.full((clients, n, int(slot.max(initial=-1)) + 1), -1, dtype=np.int64)
    row[owner[step[order]], place[step[order]], slot] = order
    marks = []
    for k in range(2):
        mark = np.zeros((clients, n), dtype=bool)
        own = at[data.client.size + k * clients : data.client.size + (k + 1) * clients]
        mark[owner[own], place[own]] = True
        marks.append(mark)
    return _Grid(row, gap, marks[0], marks[1])
