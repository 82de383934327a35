"""SDs of the state-space model from the readings of all clients, by moments and by likelihood."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt
from scipy.optimize import nnls

from .best_estimate import WEEK, Common, Levels, Observations, Spreads, filter_clients
from .client_course import Model
from .estimate import Floats, Ints

# SD that a level gains in a week, tried by likelihood. The readings of a squad cannot tell less
# than the smallest (assumed) from it; with smaller ones the interval of a change covers too little
# where a level wanders by 0.1 to 0.3 a week
LEVELS = (0.15, 0.2, 0.27, 0.36, 0.5)
TRENDS = (0.003, 0.015, 0.05)  # SD that a weekly trend gains in a week
START_TREND = 0.15  # SD of a weekly trend (assumed): 95 % of people within 0.3 a week
DRIFT = 0.02  # SD of a device's drift per week where scans do not tell (assumed)
OFFSET = 2.5  # SD of offsets between people where too few were scanned (assumed)
SMALLEST = 0.05
LEAST_PAIRS = 15  # pairs of neighbouring days from which on a correlation is taken
LEAST_CLIENTS = 4
FAINT = 0.3  # weight of a guess beside measured variances, whose weight is √(df/2)
MOST_LAG = 7  # days between values that are compared
FIRST_CLIENTS = 20  # by whom courses are left out before everybody is looked at
FAINTEST = 1e-3  # share of the likelihood below which a course is left out


@dataclass(frozen=True, slots=True, eq=False)
class Sources:
    """What is known of the sources beside their readings, arrays of shape (s,).

    ``device`` numbers the devices from 0, −1 for scans; ``slope`` is what a source shows of a
    change of 1; ``step`` the step in which values are shown; ``scale`` what multiplies the SDs
    assumed here, which are those of body fat in percentage points; ``told_by`` as in ``Spreads``.
    """

    device: Ints
    slope: Floats
    shares_morning: npt.NDArray[np.bool_]
    scan_sd: float
    step: Floats
    scale: float = 1.0
    told_by: int = -1


def spreads_of(data: Observations, sources: Sources, within: Floats) -> tuple[Spreads, float]:
    """SDs of the model, but for those of the level's own course.

    Parameters
    ----------
    data : Observations
        Readings of all clients, by client and day.
    sources : Sources
        Which source is a scan, which device it belongs to.
    within : ndarray, shape (s,)
        SD of single repeats minutes apart; 0 where none were taken.

    Returns
    -------
    Spreads
        Variances with few degrees of freedom are raised to their mean given the data, df/(df − 2),
        since they are used as if known.
    float
        Weeks between the mornings whose steps gave the shared error: half of what a level gains
        in that time is in it.
    """
    device = sources.device
    devices = int(device.max(initial=-1)) + 1
    scans = device[data.source] < 0
    repeat = np.where(device < 0, sources.scan_sd, np.hypot(within, sources.step / np.sqrt(12)))
    repeats = np.zeros(devices)
    for d in range(devices):
        own = device[data.source] == d
        if own.any():
            repeats[d] = float((repeat[data.source[own]] ** 2 / data.size[own]).mean())
    total, correlation, morning, gap = np.zeros(0), 0.0, 0.0, 0.0
    if devices:
        total, correlation = _day_errors(data, device, devices)
        morning, gap = _morning(data, device, sources.shares_morning, total)
    alone = devices == 1  # its own series holds the shared error as well
    shared = np.zeros(devices)
    if alone and sources.shares_morning.any():
        shared[:] = morning**2
    day = np.sqrt(np.maximum(total - repeats - shared, SMALLEST**2))
    level = data.value[scans] if scans.any() else data.value
    spread = float(level.std()) if level.size > 2 else 0.0
    empty = Spreads(
        level=LEVELS[0] * sources.scale,
        trend=TRENDS[1] * sources.scale,
        start=max(2 * spread, 8.0 * sources.scale),
        start_trend=START_TREND * sources.scale,
        middle=float(level.mean()) if level.size else 0.0,
        offset=np.zeros(device.size),
        day=day,
        repeat=repeat,
        slope=sources.slope,
        drift=np.full(devices, DRIFT * sources.scale),
        device=device,
        shares_morning=sources.shares_morning,
        morning=morning,
        correlation=correlation,
        told_by=sources.told_by,
    )
    return replace(empty, offset=_offsets(data, empty, OFFSET * sources.scale)), gap


def _table(data: Observations, device: Ints, devices: int) -> tuple[Floats, Ints, Ints]:
    """Means by client and day in a column a device, NaN where there is none; clients and days.

    Levels of different sources of one device are taken out per client first, so that a change of
    setting is no error of a day.
    """
    own = np.flatnonzero(device[data.source] >= 0)
    client, day, source = data.client[own], data.day[own], data.source[own]
    value = data.value[own]
    width = int(data.day.max(initial=0)) + 1
    rows, at = np.unique(client * width + day, return_inverse=True)
    d = device[source]
    cell = at * devices + d
    count = np.bincount(cell, minlength=rows.size * devices)
    _, level = np.unique(client * device.size + source, return_inverse=True)
    first = np.full(int(client.max(initial=-1)) * devices + devices, -1)
    several = np.bincount(client * devices + d, minlength=first.size)
    _, one = np.unique(level, return_index=True)
    sources_of = np.bincount((client * devices + d)[one], minlength=first.size)
    split = sources_of[client * devices + d] > 1
    mean = np.bincount(level, value) / np.bincount(level)
    whole = np.bincount(client * devices + d, value, several.size) / np.maximum(several, 1)
    value = np.where(split, value - mean[level] + whole[client * devices + d], value)
    total = np.bincount(cell, value, rows.size * devices)
    table = np.where(count > 0, total / np.maximum(count, 1), np.nan).reshape(-1, devices)
    return table, rows // width, rows % width


def _day_errors(data: Observations, device: Ints, devices: int) -> tuple[Floats, float]:
    """Variance of one day's mean of each device, repeats included, and its correlation by days.

    Differences of two devices on one day are free of the client's level and of what the morning
    does to both. Of one device alone the series about a line is all there is: what clients really
    do counts as error then.
    """
    table, client, day = _table(data, device, devices)
    found: list[tuple[int, int, float, float]] = []  # devices, variance, degrees of freedom
    lags = np.zeros((2, MOST_LAG + 1))  # sums of products by lag, and what they would be at lag 0
    counts = np.zeros(MOST_LAG + 1)
    pairs = [(a, b) for a in range(devices) for b in range(a)] or [(0, 0)]
    for a, b in pairs:
        d = table[:, a] - (table[:, b] if a != b else 0.0)
        at = np.flatnonzero(~np.isnan(d))
        if at.size < LEAST_PAIRS:
            continue
        r, df = _about_lines(d[at], client[at], day[at].astype(float))
        if df < LEAST_PAIRS / 2:
            continue
        variance = float(r @ r) / df
        if variance <= 1e-18 * (1.0 + float(d[at] @ d[at]) / at.size):
            continue  # they differ by a straight line, exactly: that tells nothing of their errors
        found.append((a, b, variance, df))
        for h in range(1, MOST_LAG + 1):
            key, later = client[at] * 10**7 + day[at], client[at] * 10**7 + day[at] + h
            place = np.minimum(np.searchsorted(key, later), key.size - 1)
            there = key[place] == later
            lags[0, h] += float((r[there] * r[place[there]]).sum()) / variance
            lags[1, h] += int(there.sum())
            counts[h] += int(there.sum())
    if not found:
        return np.full(devices, 1.0), 0.0
    if devices == 1:
        total = np.array([found[0][2] * _raised(found[0][3])])
    else:
        total = _shared_out(found, devices)
    return total, _correlation(lags, counts)


def _shared_out(found: list[tuple[int, int, float, float]], devices: int) -> Floats:
    """Variances of devices from those of their differences, by weighted least squares.

    A variance is known to v·√(2/df). Where the differences leave it open, a device has half of the
    smallest difference that it takes part in.
    """
    rows, wanted = [], []
    least = np.full(devices, np.inf)
    for a, b, v, df in found:
        weight = np.sqrt(df / 2) / v
        row = np.zeros(devices)
        row[[a, b]] = weight
        rows.append(row)
        wanted.append(weight * v * _raised(df))
        least[[a, b]] = np.minimum(least[[a, b]], v)
    known = np.isfinite(least)
    half = np.where(known, least, least[known].mean()) / 2
    for d in range(devices):
        row = np.zeros(devices)
        row[d] = FAINT / half[d]
        rows.append(row)
        wanted.append(FAINT)
    variances, _ = nnls(np.array(rows), np.array(wanted))
    return np.maximum(variances, 0.1 * half)


def _raised(df: float) -> float:
    return df / (df - 2) if df > 4 else 2.0


def _about_lines(value: Floats, group: Ints, t: Floats) -> tuple[Floats, float]:
    """Residuals about a straight line of each group, and their degrees of freedom."""
    _, k = np.unique(group, return_inverse=True)
    n = np.bincount(k)
    y, t = (x - (np.bincount(k, x) / n)[k] for x in (value, t))
    tt = np.bincount(k, t * t)
    slope = np.bincount(k, t * y) / np.where(tt > 0, tt, 1.0)
    return y - slope[k] * t, float(np.maximum(n - 2, 0).sum())


def _correlation(lags: Floats, counts: Floats) -> float:
    """Correlation one day apart whose powers are nearest to those found at all lags."""
    if counts[1:4].sum() < LEAST_PAIRS:
        return 0.0
    known = np.flatnonzero(counts > 0)
    seen = lags[0, known] / lags[1, known]
    tried = np.arange(0.0, 0.985, 0.01)
    gap = (seen - tried[:, None] ** known) ** 2 @ counts[known]
    return float(tried[gap.argmin()])


def _morning(
    data: Observations, device: Ints, shares: npt.NDArray[np.bool_], day_variance: Floats
) -> tuple[float, float]:
    """SD of the error of a morning, from how steps of two devices go together; weeks of a step."""
    devices = int(device.max(initial=-1)) + 1
    table, client, day = _table(data, device, devices)
    own: list[int] = sorted(set(device[shares & (device >= 0)].tolist()))
    total, n, weeks, weights = 0.0, 0, 0.0, 0.0
    same = (client[1:] == client[:-1]) & (day[1:] - day[:-1] <= MOST_LAG)
    for a in own:
        for b in own:
            if b >= a:
                continue
            x, y = table[1:, a] - table[:-1, a], table[1:, b] - table[:-1, b]
            there = same & ~np.isnan(x) & ~np.isnan(y)
            weight = 1 / float(day_variance[a] * day_variance[b])  # steady devices tell more
            total += weight * float((x[there] * y[there]).sum())
            weeks += weight * float((day[1:] - day[:-1])[there].sum()) / WEEK
            weights += weight * int(there.sum())
            n += int(there.sum())
    if n < LEAST_PAIRS:
        return 0.0, 0.0
    return float(np.sqrt(max(total / (2 * weights), 0.0))), weeks / weights


def _offsets(data: Observations, s: Spreads, assumed: float) -> Floats:
    """SDs of offsets between clients, from readings and scans of one day."""
    out = np.full(s.sources, assumed)
    tells = s.device < 0
    if s.told_by >= 0:
        tells[s.told_by] = True
    out[tells] = 0.0
    width = int(data.day.max(initial=0)) + 1
    key = data.client * width + data.day
    scan = tells[data.source]
    days, at = np.unique(key[scan], return_inverse=True)
    mean = np.bincount(at, data.value[scan]) / np.bincount(at) if days.size else np.empty(0)
    number = np.bincount(at) if days.size else np.empty(0, dtype=np.int64)
    error = (
        s.repeat**2 + np.where(s.device >= 0, s.day[s.device] ** 2, 0.0)
        if s.devices
        else s.repeat**2
    )
    for k in np.flatnonzero(~tells):
        own = np.flatnonzero(data.source == k)
        place = np.minimum(np.searchsorted(days, key[own]), max(days.size - 1, 0))
        there = days[place] == key[own] if days.size else np.zeros(own.size, dtype=bool)
        own, place = own[there], place[there]
        clients, c = np.unique(data.client[own], return_inverse=True)
        if clients.size < LEAST_CLIENTS:
            continue
        n = np.bincount(c)
        d = data.value[own] - s.slope[k] * mean[place]  # the offset of a source with this slope
        each = np.bincount(c, d) / n
        shared = s.morning**2 if s.shares_morning[k] else 0.0
        noise = (
            s.day[s.device[k]] ** 2
            + shared
            + float((s.repeat[k] ** 2 / data.size[own]).mean())
            + float((s.slope[k] ** 2 * error[tells].max() / number[place]).mean())
        )
        df = clients.size - 1
        between = float(each.var(ddof=1)) - noise * float((1 / n).mean())
        out[k] = np.sqrt(max(between, 0.3**2) * df / max(df - 2, 1))
    return out


@dataclass(frozen=True, slots=True, eq=False)
class Estimated:
    """Levels of all clients, averaged over the courses that the likelihood allows."""

    model: Model
    levels: Levels


def estimate_levels(
    data: Observations, s: Spreads, gap: float, since: Ints, until: Ints, now: Ints, origin: int
) -> Estimated:
    """Levels and changes of all clients, the SDs of the level's course weighed by likelihood.

    Parameters
    ----------
    data : Observations
        Readings of all clients, by client and day.
    s : Spreads
        The other SDs.
    gap : float
        Weeks between the mornings that gave the shared error, as ``spreads_of`` returns it.
    since, until, now : ndarray of int, shape (c,)
        The two days of the change, and the day of the value.
    origin : int
        Day from which drifts count.

    Notes
    -----
    All combinations of LEVELS and TRENDS are equally likely beforehand. What they give is averaged
    with the marginal likelihood as weight, and their disagreement is part of the SD. Those with
    less than a thousandth of the weight are left out; with many clients, those that a part of
    them makes as unlikely already.
    """
    scale = s.start_trend / START_TREND
    tried = [_with_course(s, gap, x * scale, y * scale) for x in LEVELS for y in TRENDS]
    if since.size > 2 * FIRST_CLIENTS:
        some = np.linspace(0, since.size - 1, FIRST_CLIENTS).round().astype(np.int64)
        asked = (since[some], until[some], now[some])
        first = filter_clients(data.of_clients(some), tried, *asked, origin)
        tried = [tried[k] for k in _likely(first)[0]]
    found = filter_clients(data, tried, since, until, now, origin)
    kept, weight = _likely(found)
    common = tuple(found[k][0] for k in kept)
    model = Model(tuple(tried[k] for k in kept), common, weight, origin)
    return Estimated(model, _mixed_levels(weight, [found[k][1] for k in kept]))


def _likely(found: Sequence[tuple[Common, Levels]]) -> tuple[Ints, Floats]:
    """Places of the courses that are not too unlikely, and their shares of the likelihood."""
    logs = np.array([common.log_likelihood for common, _ in found])
    weight = np.exp(logs - logs.max())
    kept = np.flatnonzero(weight > FAINTEST * weight.sum())
    return kept, weight[kept] / weight[kept].sum()


def levels_of(data: Observations, model: Model, since: Ints, until: Ints, now: Ints) -> Levels:
    """Levels of clients whose model is known already, arrays of days as in ``estimate_levels``."""
    found = filter_clients(data, model.tried, since, until, now, model.origin, model.common)
    return _mixed_levels(model.weight, [levels for _, levels in found])


def _mixed_levels(weight: Floats, levels: Sequence[Levels]) -> Levels:
    value = _mixed(weight, [x.value for x in levels], [x.value_sd for x in levels])
    return Levels(
        *value, *_mixed(weight, [x.change for x in levels], [x.change_sd for x in levels])
    )


def _with_course(s: Spreads, gap: float, level: float, trend: float) -> Spreads:
    """The SDs with another course of the level, whose part in the shared error is taken out."""
    left = max(s.morning**2 - level**2 * gap / 2, 0.0)
    return replace(s, level=level, trend=trend, morning=float(np.sqrt(left)))


def _mixed(weight: Floats, means: list[Floats], sds: list[Floats]) -> tuple[Floats, Floats]:
    m, v = np.array(means), np.array(sds) ** 2
    mean = weight @ m
    return mean, np.sqrt(weight @ (v + (m - mean) ** 2))
