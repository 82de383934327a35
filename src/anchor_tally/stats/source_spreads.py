"""SDs of the state-space model from the readings of all clients, by moments and what is usual."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt
from scipy.optimize import nnls

from .best_estimate import WEEK, Observations, Spreads
from .estimate import Floats, Ints

TREND = 0.07  # SD that a weekly trend gains in a week, in SDs of that trend (assumed)
SMALLEST = 0.05  # of the usual SD of a day: less is not taken for known
REPEAT, LEAST_REPEAT = 0.3, 0.1  # SD of a repeat where none tells, and at least, of that of a day
LEAST_PAIRS = 15  # pairs of neighbouring days from which on a correlation is taken
LEAST_CLIENTS = 4
LEAST_OFFSET = 0.12  # of the usual SD of offsets: less is not taken for known
USUAL = 6.0  # degrees of freedom that a usual SD counts for (assumed)
FAINT = 0.3  # weight of a guess beside measured variances, whose weight is √(df/2)
MOST_LAG = 7  # days between values that are compared
LINE = 56  # days over which the course of one client is taken as a straight line


@dataclass(frozen=True, slots=True, eq=False)
class Sources:
    """What is known of the sources beside their readings, arrays of shape (s,).

    ``device`` numbers the devices from 0, −1 for scans; ``slope`` is what a source shows of a
    change of 1, ``slope_sd`` its SD; ``step`` the step in which values are shown.
    ``trend``, ``day``, ``offset``, ``drift`` and ``start`` are the usual SDs of the metric;
    ``told_by`` as in ``Spreads``.
    """

    device: Ints
    slope: Floats
    slope_sd: Floats
    shares_morning: npt.NDArray[np.bool_]
    shifts: npt.NDArray[np.bool_]
    scan_sd: float
    step: Floats
    trend: float = 0.15
    day: float = 1.0
    offset: float = 2.5
    drift: float = 0.02
    start: float = 8.0
    told_by: int = -1


@dataclass(frozen=True, slots=True, eq=False)
class Known:
    """SDs of the model, but for those of the level's own course.

    ``gap`` are the weeks between the mornings whose steps gave the shared error: half of what a
    level gains in that time is in it. ``day_df`` are the degrees of freedom behind the SD of days,
    ``offset_df`` those behind the SD of offsets; what is usual counts for some of both.
    """

    spreads: Spreads
    gap: float
    day_df: float
    offset_df: float


def spreads_of(data: Observations, sources: Sources, within: Floats) -> Known:
    """SDs of the model, but for those of the level's own course.

    Parameters
    ----------
    data : Observations
        Readings of all clients, by client and day.
    sources : Sources
        Which source is a scan, which device it belongs to, and what is usual.
    within : ndarray, shape (s,)
        SD of single repeats minutes apart; 0 where none were taken or all were alike.

    Returns
    -------
    Known

    Notes
    -----
    Variances with few degrees of freedom are averaged with the usual one, which counts for USUAL
    degrees of freedom: the mean of a scaled inverse χ² prior and its data. What is left unknown is
    in the degrees of freedom of the intervals.
    """
    device = sources.device
    devices = int(device.max(initial=-1)) + 1
    scans = device[data.source] < 0
    least = SMALLEST * sources.day
    # where nothing was repeated, or repeats were all alike, two sets of one day differ a little
    step = np.hypot(within, sources.step / np.sqrt(12))
    step = np.where(within > 0, np.maximum(step, LEAST_REPEAT * sources.day), REPEAT * sources.day)
    repeat = np.where(device < 0, np.maximum(sources.scan_sd, least), step)
    repeats = np.zeros(devices)
    for d in range(devices):
        own = device[data.source] == d
        if own.any():
            repeats[d] = float((repeat[data.source[own]] ** 2 / data.size[own]).mean())
    total, correlation, morning, gap, df = np.zeros(0), 0.0, 0.0, 0.0, 0.0
    if devices:
        total, correlation, df = _day_errors(data, device, devices, sources.day)
        morning, gap = _morning(data, device, sources.shares_morning, np.maximum(total, least**2))
    day = np.sqrt(np.maximum(total - repeats, least**2))
    level = data.value[scans] if scans.any() else data.value
    spread = float(level.std()) if level.size > 2 else 0.0
    empty = Spreads(
        level=0.0,
        trend=TREND * sources.trend,
        start=max(2 * spread, sources.start),
        start_trend=sources.trend,
        middle=float(level.mean()) if level.size else 0.0,
        offset=np.zeros(device.size),
        day=day,
        repeat=repeat,
        slope=sources.slope,
        slope_sd=np.array([_of_device(sources, d) for d in range(devices)]),
        drift=np.full(devices, sources.drift),
        device=device,
        shares_morning=sources.shares_morning,
        shifts=sources.shifts,
        morning=morning,
        correlation=correlation,
        told_by=sources.told_by,
    )
    offset, offset_df = _offsets(data, empty, sources.offset)
    return Known(replace(empty, offset=offset), gap, USUAL + df, USUAL + offset_df)


def _of_device(sources: Sources, device: int) -> float:
    """SD of what a device shows of a change of 1."""
    return float(sources.slope_sd[np.flatnonzero(sources.device == device)[0]])


def rough_moves(data: Observations, device: Ints, slope: Floats) -> Floats:
    """Change of each client's level since the mean of its readings, roughly, shape (n,).

    Parameters
    ----------
    data : Observations
        Readings by client and day.
    device : ndarray of int, shape (s,)
        Device of each source, −1 for scans.
    slope : ndarray, shape (s,)
        What each source shows of a change of 1.

    Notes
    -----
    Least squares of straight pieces of four weeks, with a constant for each source but the scan.
    """
    out = np.zeros(data.value.size)
    first = np.searchsorted(data.client, np.arange(int(data.client.max(initial=-1)) + 2))
    for begin, end in zip(first[:-1].tolist(), first[1:].tolist(), strict=True):
        day, source = data.day[begin:end], data.source[begin:end]
        if end - begin < 3 or day[0] == day[-1]:
            continue
        span = int(day[-1] - day[0])
        knots = np.linspace(day[0], day[-1], max(min(span // 28 + 1, 20), 2))
        at = (day - knots[0]) / (knots[1] - knots[0])
        hat = np.maximum(1.0 - np.abs(at[:, None] - np.arange(knots.size)), 0.0)
        y = data.value[begin:end] / slope[source]
        read = device[source] >= 0
        apart = (source[:, None] == np.unique(source[read])) * 1.0
        centre = y[~read].mean() if (~read).any() else y.mean()
        found = np.linalg.lstsq(np.column_stack([hat, apart]), y - centre, rcond=1e-8)[0]
        level = hat @ found[: knots.size]
        out[begin:end] = level - level.mean()
    return out


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


def _day_errors(
    data: Observations, device: Ints, devices: int, usual: float
) -> tuple[Floats, float, float]:
    """Variance of one day's mean of each device, its correlation by days, degrees of freedom.

    Differences of two devices on one day are free of the client's level and of what the morning
    does to both. Of one device alone the series about lines of eight weeks is all there is: what
    clients really do within them counts as error then.
    """
    table, client, day = _table(data, device, devices)
    found: list[tuple[int, int, float, float]] = []  # devices, variance, degrees of freedom
    lags = np.zeros((2, MOST_LAG + 1))  # sums of products by lag, and what they would be at lag 0
    counts = np.zeros(MOST_LAG + 1)
    pairs = [(a, b) for a in range(devices) for b in range(a)] or [(0, 0)]
    for a, b in pairs:
        d = table[:, a] - (table[:, b] if a != b else 0.0)
        at = np.flatnonzero(~np.isnan(d))
        if at.size < 3:
            continue
        group = client[at] * 10**4 + (day[at] // LINE if a == b else 0)
        r, df = _about_lines(d[at], group, day[at].astype(float))
        if df < 1:
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
        return np.full(devices, usual**2), 0.0, 0.0
    if devices == 1:
        total = np.array([_with_usual(found[0][2], found[0][3], usual**2)])
    else:
        total = _shared_out(found, devices, usual)
    return total, _correlation(lags, counts), max(df for *_, df in found)


def _shared_out(found: list[tuple[int, int, float, float]], devices: int, usual: float) -> Floats:
    """Variances of devices from those of their differences, by weighted least squares.

    A variance is known to v·√(2/df). Where the differences leave it open, a device has half of the
    smallest difference that it takes part in.
    """
    rows, wanted = [], []
    least = np.full(devices, np.inf)
    for a, b, seen, df in found:
        v = _with_usual(seen, df, 2 * usual**2)
        weight = np.sqrt((df + USUAL) / 2) / v
        row = np.zeros(devices)
        row[[a, b]] = weight
        rows.append(row)
        wanted.append(weight * v)
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


def _with_usual(variance: float, df: float, usual: float) -> float:
    """A variance averaged with the usual one, which counts for USUAL degrees of freedom."""
    return (df * variance + USUAL * usual) / (df + USUAL)


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


def _offsets(data: Observations, s: Spreads, usual: float) -> tuple[Floats, float]:
    """SDs of offsets between clients, from readings and scans of one day; degrees of freedom."""
    out, most = np.full(s.sources, usual), 0.0
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
        # few clients tell little of it: its mean given the data is larger
        out[k] = np.sqrt(max(between, (LEAST_OFFSET * usual) ** 2) * df / max(df - 2, 1))
        most = max(most, float(df))
    return out, most
