"""One course per client from scans and every device: a Gaussian state-space model.

A reading of source s of client i on day t is

    y = slope_s·level_i(t) + bias_s + drift_d·weeks + offset_is + day_idt + morning_it + error.

The level has a weekly trend (local linear trend). A source is an instrument in one setting at one
time of day; its offset for a client is constant. Day errors of one device are autocorrelated
(AR(1) by calendar days). Impedance devices share the error of a morning. Biases and drifts are
common to all clients. They, the turns and shifts of a client, and the error of each slope are
regressors beside the filter: it gives their products, and ``turns`` does the rest.

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

WIDE = 12.0  # SD of a bias before any reading, in SDs of the level at a client's first day
WEEK = 7.0
CACHE = 120_000  # numbers of the states that are filtered together: more leave a processor's cache
BLOCK = 24  # steps whose innovations are multiplied together


@dataclass(frozen=True, eq=False)
class Observations(FrozenArrays):
    """Means of sets of repeats of all clients, arrays of shape (n,), by client and day.

    ``client`` counts from 0; ``day`` is a calendar day number; ``source`` a place in the arrays of
    ``Spreads``; ``size`` the number of repeats. ``moved`` is a rough change of the level since the
    client's mean, which a device's slope multiplies.
    """

    client: Ints
    day: Ints
    source: Ints
    value: Floats
    size: Ints
    moved: Floats

    def of_clients(self, clients: Ints) -> Observations:
        """Readings of some clients, given in increasing order; they are numbered anew from 0."""
        own = np.flatnonzero(np.isin(self.client, clients))
        return Observations(
            np.searchsorted(clients, self.client[own]),
            self.day[own],
            self.source[own],
            self.value[own],
            self.size[own],
            self.moved[own],
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
    slope_sd : ndarray, shape (d,)
        SD of what each device shows of a change of 1, about its slope.
    drift : ndarray, shape (d,)
        SD of each device's drift per week before any reading; 0 for none.
    device : ndarray of int, shape (s,)
        Number of the device of a source; −1 for scans, which have no bias.
    shares_morning : ndarray of bool, shape (s,)
        Whether the error of a morning is shared.
    shifts : ndarray of bool, shape (s,)
        Whether a shift of all devices moves the source.
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
    slope_sd: Floats
    drift: Floats
    device: Ints
    shares_morning: npt.NDArray[np.bool_]
    shifts: npt.NDArray[np.bool_]
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

    @property
    def common(self) -> int:
        """Number of figures that all clients have in common: biases and drifts."""
        return self.sources + self.devices

    def responses(self, source: Ints, moved: Floats) -> Floats:
        """What an error of each device's slope adds to each reading, shape (n, d)."""
        out = np.zeros((source.size, self.devices))
        at = np.flatnonzero(self.device[source] >= 0)
        out[at, self.device[source[at]]] = moved[at]
        return out

    def regressors(self, source: Ints, weeks: Floats) -> Floats:
        """What multiplies biases (s) and drifts (d) in each reading, shape (n, s + d)."""
        out = np.zeros((source.size, self.common))
        at = np.flatnonzero(self.device[source] >= 0)
        device = self.device[source[at]]
        out[at, source[at]] = source[at] != self.told_by
        out[at, self.sources + device] = weeks[at]
        return out

    def prior_precision(self) -> Floats:
        """Precision of biases and drifts before any reading, about 0, shape (s + d,)."""
        bias = np.full(self.sources, WIDE * self.start)
        return np.asarray(np.concatenate([bias, np.maximum(self.drift, 1e-6)]) ** -2.0)

    def noise(self, source: Ints, size: Ints) -> Floats:
        """Variance of the mean of a set of repeats about its day, shape (n,)."""
        return np.asarray(self.repeat[source] ** 2 / size, dtype=float)


@dataclass(frozen=True, eq=False)
class Contrast(FrozenArrays):
    """A combination of levels of each client, under each course of the level.

    ``value`` and ``variance`` (k, c) are those with all regressors at 0; ``load`` (k, c, r) is what
    it gains when a regressor's coefficient grows by 1.
    """

    value: Floats
    variance: Floats
    load: Floats


@dataclass(frozen=True, eq=False)
class Filtered(FrozenArrays):
    """What the filter gives of each client c under each course k.

    ``products`` (k, c, 1 + r, 1 + r) are sums of products of the standardised innovations of the
    readings and of the r regressors; ``logs`` (k, c) sums of log(2π·variance).
    """

    products: Floats
    logs: Floats
    level: Contrast
    change: Contrast


def filter_clients(
    data: Observations,
    tried: Sequence[Spreads],
    since: Ints,
    until: Ints,
    now: Ints,
    origin: int,
    own: Floats | None = None,
    ahead: tuple[Floats, Floats] | None = None,
) -> Filtered:
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
    own : ndarray, shape (n, g), optional
        Further regressors of each reading, whose coefficients belong to its client alone.
    ahead : tuple of ndarray, each of shape (c, g), optional
        What a coefficient of these adds to the level on the day of the value, and to the change.

    Returns
    -------
    Filtered
        Regressors are those of ``Spreads.regressors``, of ``Spreads.responses``, and of ``own``.

    Notes
    -----
    Readings are taken in one by one on each day, clients and courses side by side. The levels of
    the two days are kept as states, so that no pass backwards is needed.
    """
    clients = since.size
    none = np.zeros((clients, 0))
    level_of, change_of = ahead or (none, none)
    ends = np.searchsorted(data.client, np.arange(clients + 1))
    s = tried[0]
    states = s.sources + s.devices + 5
    width = 1 + s.common + s.devices + (0 if own is None else own.shape[1])
    side = max(CACHE // (len(tried) * states * max(states, width)), 8)
    out = []
    for begin in range(0, clients, side):
        end = min(begin + side, clients)
        rows, some = slice(ends[begin], ends[end]), slice(begin, end)
        part = Observations(
            data.client[rows] - begin,
            data.day[rows],
            data.source[rows],
            data.value[rows],
            data.size[rows],
            data.moved[rows],
        )
        days = (since[some], until[some], now[some])
        regressors = None if own is None else own[rows]
        out.append(
            _filter(part, tried, days, origin, regressors, (level_of[some], change_of[some]))
        )
    return Filtered(
        np.concatenate([x.products for x in out], axis=1),
        np.concatenate([x.logs for x in out], axis=1),
        _joined([x.level for x in out]),
        _joined([x.change for x in out]),
    )


def _joined(parts: list[Contrast]) -> Contrast:
    """Contrasts of several groups of clients, one after the other."""
    return Contrast(
        np.concatenate([x.value for x in parts], axis=1),
        np.concatenate([x.variance for x in parts], axis=1),
        np.concatenate([x.load for x in parts], axis=1),
    )


def _filter(
    data: Observations,
    tried: Sequence[Spreads],
    days: tuple[Ints, Ints, Ints],
    origin: int,
    own: Floats | None,
    ahead: tuple[Floats, Floats],
) -> Filtered:
    """As ``filter_clients``, for so few clients that what is computed stays near the processor."""
    since, until, now = days
    s, many = tried[0], len(tried)
    grid = _grid(data, since, until, now)
    clients, steps, slots = grid.row.shape
    first_day, first_effect = 2 + s.sources, 2 + s.sources + s.devices
    m = first_effect + 3
    shared, first, second = m - 3, m - 2, m - 1
    show = np.zeros((s.sources, m))
    show[:, 0] = s.slope
    show[np.arange(s.sources), 2 + np.arange(s.sources)] = 1.0
    known = np.flatnonzero(s.device >= 0)
    show[known, first_day + s.device[known]] = 1.0
    show[s.shares_morning, shared] = 1.0
    weeks = (data.day - origin) / WEEK
    parts = [data.value[:, None], s.regressors(data.source, weeks)]
    parts.append(s.responses(data.source, data.moved))
    rows = np.concatenate(parts if own is None else [*parts, own], axis=1)
    width = rows.shape[1]
    a = np.zeros((many, clients, m, width))
    a[..., 0, 0] = s.middle
    v = np.zeros((many, clients, m, m))
    v[..., 0, 0], v[..., 1, 1] = s.start**2, s.start_trend**2
    at = np.arange(2, first_day)
    v[..., at, at] = np.where(s.device >= 0, s.offset, 0.0) ** 2
    at = np.arange(first_day, first_effect)
    v[..., at, at] = s.day**2

    noise = s.noise(data.source, data.size)
    products, logs = np.zeros((many, clients, width, width)), np.zeros((many, clients))
    kept = np.zeros((many, clients, BLOCK * slots, width))
    wide, square = np.empty_like(a), np.empty_like(v)  # for products, so that none is made anew
    filled = 0
    course = _Courses.of(tried)
    for k in range(steps):
        _predict(a, v, grid.gap[:, k], s, course, shared)
        for mark, where in ((grid.first[:, k], first), (grid.second[:, k], second)):
            c = np.flatnonzero(mark)
            if not c.size:
                continue
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
            n = c.size
            np.multiply(gain[..., :, None], e[..., None, :], out=wide[:, :n])
            state += wide[:, :n]
            np.multiply(gain[..., :, None], vh[..., None, :], out=square[:, :n])
            part -= square[:, :n]
            if not everyone:
                a[:, c], v[:, c] = state, part
            kept[:, c, filled] = e / np.sqrt(f)[..., None]
            logs[:, c] += np.log(2 * math.pi * f)
            filled += 1
        if filled > (BLOCK - 1) * slots or k == steps - 1:
            some = kept[:, :, :filled]
            products += np.swapaxes(some, 2, 3) @ some
            kept[:, :, :filled] = 0.0
            filled = 0
    return Filtered(
        products,
        logs,
        _contrast(a, v, _unit(m, {0: 1.0}), ahead[0]),
        _contrast(a, v, _unit(m, {second: 1.0, first: -1.0}), ahead[1]),
    )


def _contrast(a: Floats, v: Floats, g: Floats, ahead: Floats) -> Contrast:
    """A combination of states of each client."""
    of = g @ a
    load = -of[..., 1:]
    load[..., load.shape[-1] - ahead.shape[-1] :] += ahead
    variance = np.einsum("i,kcij,j->kc", g, v, g)
    return Contrast(of[..., 0], np.maximum(variance, 0.0), load)


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
