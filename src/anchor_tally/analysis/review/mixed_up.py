"""Rules by likelihood: one of two repeats, another client's values, exchanged devices, a step.

Each compares a value with what the same client, device and setting showed around it, in robust
SDs, and asks which other explanation fits better.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...domain.metrics import Metric, metric_named
from ...domain.snapshot import Columns, Floats, Ints
from ...stats.estimate import Note, note
from .finding import Finding, Material, Tallies, tallies_of
from .values import expected_of, repeats_apart

PAIR_FAR, LEAST_PAIRS = 6.0, 10  # robust SDs of differences of two repeats; pairs that give them
FAR, NEAR = 4.0, 2.5  # robust SDs of a set that fits badly, and of one that fits well
GAIN = 25.0  # by which another explanation lowers the sum of squares
STEP_SETS, STEP_FAR = 10, 5.5  # sets on each side of a step, and its size in standard errors
STEP_GAP = 10  # days between the two sets about a step, at most
LEAST_SETS = 4


@dataclass(frozen=True, slots=True, eq=False)
class _Sets:
    """Sets of one metric with what is expected of each and the robust SD, arrays of shape (n,)."""

    metric: Metric
    columns: Columns
    t: Tallies
    expected: Floats
    spread: Floats

    @property
    def z(self) -> Floats:
        """Departures in robust SDs; NaN where nothing is expected."""
        return (self.t.median - self.expected) / self.spread

    def around(self, k: int, client: int, item: int, setting: int) -> float:
        """Median of the four sets of another series that are nearest in time to set ``k``."""
        t = self.t
        own = (t.client == client) & (t.instrument == item) & (t.setting == setting)
        rows = np.flatnonzero(own & (t.visit != t.visit[k]))
        if rows.size < LEAST_SETS:
            return np.nan
        near = rows[np.argsort(np.abs(t.instant[rows] - t.instant[k]), kind="stable")[:4]]
        return float(np.median(t.median[near]))


def _sets(m: Material) -> list[_Sets]:
    out = []
    for name, c in m.columns():
        metric = metric_named(name)
        if metric is None or metric.device_only:
            continue
        t = tallies_of(c)
        expected, spread = expected_of(t)
        least = 10.0**-metric.decimals
        out.append(_Sets(metric, c, t, expected, np.maximum(spread, least)))
    return out


def repeats_off(m: Material) -> list[Finding]:
    """Repeats far from the others of their set, and sets of two that are far apart."""
    return [*repeats_apart(m), *one_of_two_repeats(m)]


def one_of_two_repeats(m: Material) -> list[Finding]:
    """Sets of two repeats that differ by far more than the device's pairs usually do.

    The repeat that is farther from the client's other sets is named; both where neither is.
    """
    out = []
    for s in _sets(m):
        t, c = s.t, s.columns
        two = np.flatnonzero(t.size == 2)
        low, high = t.rows[t.start[two]], t.rows[t.start[two] + 1]
        gap = np.abs(c.value[high] - c.value[low])
        for item in np.unique(t.instrument[two]).tolist():
            own = t.instrument[two] == item
            if own.sum() < LEAST_PAIRS:
                continue
            usual = max(1.4826 * float(np.median(gap[own])), 10.0**-s.metric.decimals)
            for at in np.flatnonzero(own & (gap > PAIR_FAR * usual)).tolist():
                k = int(two[at])
                pair = (int(low[at]), int(high[at]))
                off = [abs(float(c.value[r]) - s.expected[k]) for r in pair]
                named = [r for r, x, y in zip(pair, off, off[::-1], strict=True) if x > y + usual]
                rows = named or list(pair)
                shown = c.value[rows[0]]
                other = c.value[[r for r in pair if r != rows[0]]]
                said = note(
                    "review_repeats" if named else "review_pair",
                    value=float(shown),
                    others=(float(other[0]),),
                    unit=s.metric.symbol,
                    decimals=s.metric.decimals,
                )
                severity = "stop" if named else "look"
                weight = float(gap[at]) / max(abs(float(shown)), 1e-9)
                ids = tuple(int(c.reading[r]) for r in rows)
                out.append(_finding("repeats", severity, said, weight, s, k, ids))
    return out


def _finding(
    rule: str, severity: str, said: Note, weight: float, s: _Sets, k: int, ids: tuple[int, ...]
) -> Finding:
    t = s.t
    return Finding(
        rule,
        severity,
        said,
        weight,
        int(t.client[k]),
        int(t.visit[k]),
        int(t.instrument[k]),
        s.metric.id,
        ids,
    )


def exchanged_devices(m: Material) -> list[Finding]:
    """Visits at which two devices fit each other's expected values far better than their own."""
    out = []
    for s in _sets(m):
        t, z = s.t, s.z
        for visit in np.unique(t.visit[np.abs(z) > FAR]).tolist():
            rows = np.flatnonzero((t.visit == visit) & ~np.isnan(z))
            best: tuple[float, int, int] | None = None
            for i, a in enumerate(rows.tolist()):
                for b in rows[i + 1 :].tolist():
                    if t.instrument[a] == t.instrument[b]:
                        continue
                    turned = [
                        (t.median[b] - s.expected[a]) / s.spread[a],
                        (t.median[a] - s.expected[b]) / s.spread[b],
                    ]
                    gain = z[a] ** 2 + z[b] ** 2 - turned[0] ** 2 - turned[1] ** 2
                    fits = max(map(abs, turned)) < NEAR and min(abs(z[a]), abs(z[b])) > NEAR
                    if fits and gain > GAIN and (best is None or gain > best[0]):
                        best = (float(gain), a, b)
            if best is None:
                continue
            gain, a, b = best
            names = [m.snapshot.instruments[int(t.instrument[k])].name for k in (a, b)]
            said = note("review_exchanged", first=names[0], second=names[1])
            ids = (*t.readings(s.columns, a), *t.readings(s.columns, b))
            out.append(_finding("exchanged", "look", said, gain, s, a, ids))
    return out


def other_client(m: Material) -> list[Finding]:
    """Visits whose values are far from their client's, and near those of another one.

    All sets of a visit count together; a visit that two devices explain is left to
    ``exchanged_devices``.
    """
    every = _sets(m)
    swapped = {f.visit for f in exchanged_devices(m)}
    far: dict[int, None] = {}
    for s in every:
        far |= dict.fromkeys(s.t.visit[np.abs(s.z) > FAR].tolist())
    out = []
    for visit in far:
        sets = [(s, k) for s in every for k in np.flatnonzero(s.t.visit == visit).tolist()]
        known = [(s, k) for s, k in sets if not np.isnan(s.z[k])]
        own = np.array([s.z[k] for s, k in known])
        if visit in swapped or float((np.abs(own) > NEAR).mean()) < 0.5:
            continue
        client = int(known[0][0].t.client[known[0][1]])
        fits: list[tuple[float, int]] = []
        for who in np.unique(np.concatenate([s.t.client for s, _ in known])).tolist():
            if who == client:
                continue
            theirs = np.array([_under(s, k, who) for s, k in known])
            if np.isnan(theirs).any() or np.abs(theirs).max() > NEAR:
                continue
            fits.append((float(own @ own - theirs @ theirs), who))
        if not fits or max(fits)[0] < GAIN:
            continue
        gain, who = max(fits)
        s, k = known[int(np.abs(own).argmax())]
        said = note("review_other_client", name=m.snapshot.clients[who].code, sets=len(known))
        ids = tuple(i for x, j in known for i in x.t.readings(x.columns, j))
        out.append(_finding("other_client", "look", said, gain, s, k, ids))
    return out


def _under(s: _Sets, k: int, client: int) -> float:
    """Departure of a set from what is expected of another client."""
    t = s.t
    at = s.around(k, client, int(t.instrument[k]), int(t.setting[k]))
    return float((t.median[k] - at) / s.spread[k])


def level_steps(m: Material) -> list[Finding]:
    """Overnight steps of one device with one client, beside its course and the other devices.

    A line with a step is fitted to up to ten sets before and after each place; where other
    devices were read on both sides, their middle is taken off first, so that what the client
    changes is in neither.
    """
    out = []
    for s in _sets(m):
        t = s.t
        if s.metric.dimension == "length":  # tape and folds are not read day by day
            continue
        series = np.stack([t.client, t.instrument, t.setting])
        begin = np.flatnonzero(np.append(True, np.any(np.diff(series, axis=1) != 0, axis=0)))
        for first, last in zip(begin, np.append(begin[1:], t.visit.size), strict=True):
            item = m.snapshot.instruments.get(int(t.instrument[first]))
            if last - first < 2 * LEAST_SETS or item is None or item.kind != "device":
                continue
            rows = np.arange(first, last)
            found = _step(s, rows)
            if found is None:
                continue
            k, size, ratio = found
            said = note(
                "review_step", gap=size, unit=s.metric.difference_unit, decimals=s.metric.decimals
            )
            ids = tuple(i for r in rows[rows >= k].tolist() for i in t.readings(s.columns, r))
            out.append(_finding("step", "look", said, ratio, s, k, ids))
    return out


def _step(s: _Sets, rows: Ints) -> tuple[int, float, float] | None:
    """First set after the largest step of a series, its size, and that over its standard error."""
    t = s.t
    day, beside = t.instant[rows] / 86400.0, _others(s, rows)
    value = t.median[rows] - (0.0 if np.isnan(beside).all() else beside)
    best: tuple[int, float, float] | None = None
    for at in range(LEAST_SETS, rows.size - LEAST_SETS + 1):
        near = np.arange(max(at - STEP_SETS, 0), min(at + STEP_SETS, rows.size))
        near = near[~np.isnan(value[near])]
        before = int((near < at).sum())
        if min(before, near.size - before) < LEAST_SETS or day[at] - day[at - 1] > STEP_GAP:
            continue
        x = np.column_stack([np.ones(near.size), day[near] - day[at], near >= at])
        inverse = np.linalg.pinv(x.T @ x)
        beta = inverse @ (x.T @ value[near])
        left = value[near] - x @ beta
        free = near.size - 3
        # the scatter about the step, no less than what the device usually shows
        sd = max(float(np.sqrt(left @ left / free)), 0.7 * _usual(s, rows))
        ratio = abs(float(beta[2])) / (sd * float(np.sqrt(inverse[2, 2])))
        # of two devices of which one has stepped, the other one's own values have not
        own = float((inverse @ (x.T @ t.median[rows][near]))[2])
        if own * beta[2] <= 0 or abs(own) < abs(beta[2]) / 2:
            continue
        if ratio > STEP_FAR and (best is None or ratio > best[2]):
            best = (int(rows[at]), float(beta[2]), ratio)
    return best


def _usual(s: _Sets, rows: Ints) -> float:
    """Robust SD of the sets of a series, or a step of its display."""
    known = s.spread[rows][~np.isnan(s.spread[rows])]
    return float(np.median(known)) if known.size else 10.0**-s.metric.decimals


def _others(s: _Sets, rows: Ints) -> Floats:
    """Middle of the other devices at each set's visit, each less its own middle; NaN for none."""
    t = s.t
    client, item = int(t.client[rows[0]]), int(t.instrument[rows[0]])
    beside = np.flatnonzero((t.client == client) & (t.instrument != item))
    if beside.size < 2 * LEAST_SETS:
        return np.zeros(rows.size)
    series, k = np.unique(
        np.stack([t.instrument[beside], t.setting[beside]]), axis=1, return_inverse=True
    )
    k = k.ravel()
    middle = np.array([np.median(t.median[beside][k == j]) for j in range(series.shape[1])])
    moved = t.median[beside] - middle[k]
    out = np.full(rows.size, np.nan)
    for i, r in enumerate(rows.tolist()):
        own = moved[t.visit[beside] == t.visit[r]]
        if own.size:
            out[i] = np.median(own)
    return out
