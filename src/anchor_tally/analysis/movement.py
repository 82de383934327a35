"""The slope of the difference through time, from pairs: what Drift tells, and what shortens or forbids a calibration."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ..domain.snapshot import Floats
from ..stats.estimate import Estimate, Interval
from ..stats.through_time import TimeSlope, moments_apart, slope_beside, slope_on_time
from ..stats.trend import ReferenceTrend, ScanError, reference_error, reference_trend
from ..stats.within_clients import centred
from .pairing import PairSet

WEEK = 7 * 86400.0
FOLLOWS = 0.5  # a device whose slope within clients surely lies under this shows too little of a change to speak on it
LEAST_MOMENTS = 3  # from which on a slope may shorten or forbid a calibration


@dataclass(frozen=True, slots=True)
class Movement:
    """Slope of the difference per week; ``found`` when its interval leaves zero; the last anchor lies so far after the middle.

    ``origin`` is the instant of the middle, at which the mean of all anchors holds.
    """

    slope: Estimate
    found: bool
    weeks_after_middle: float
    origin: float = 0.0


def weeks_of(pairs: PairSet) -> Floats:
    """Weeks of each pair's anchor since the first of them, (n,)."""
    at = pairs.anchors.instant[pairs.occasion] / WEEK
    return np.asarray(at - at.min(initial=np.inf) if at.size else at, dtype=float)


def periods_beside(pairs: PairSet) -> Floats | None:
    """Setting periods as fixed effects (n, q): one column for each setting but the first; None with one setting."""
    settings = np.unique(pairs.setting)
    if settings.size < 2:
        return None
    return np.asarray(pairs.setting[:, None] == settings[None, 1:], dtype=float)


def settings_apart(pairs: PairSet) -> Estimate | None:
    """The difference between two settings of the device, where one is shown: the largest whose interval leaves zero."""
    beside = periods_beside(pairs)
    if beside is None:
        return None
    found = []
    for k in range(beside.shape[1]):
        rest = np.delete(beside, k, axis=1)
        e = slope_beside(pairs.d, pairs.client, pairs.occasion, beside[:, k], rest if rest.size else None)
        if e is not None and e.slope.interval is not None and not e.slope.interval.low <= 0 <= e.slope.interval.high:
            found.append(e.slope)
    return max(found, key=lambda e: abs(e.value), default=None)


def slope_of(pairs: PairSet) -> TimeSlope | None:
    """Slope of the difference on weeks in the nested mixed model; with several settings that within their periods."""
    return slope_on_time(pairs.d, pairs.client, pairs.occasion, weeks_of(pairs), periods_beside(pairs))


def movement(pairs: PairSet) -> Movement | None:
    """The slope where clients were seen again at three moments or more; None otherwise."""
    weeks = weeks_of(pairs)
    if pairs.n < 4 or pairs.occasions <= pairs.clients or moments_apart(weeks) < LEAST_MOMENTS:
        return None
    found = slope_of(pairs)
    if found is None or found.slope.interval is None:
        return None
    i = found.slope.interval
    middle = float(weeks.mean())
    origin = float(pairs.anchors.instant[pairs.occasion].min()) + middle * WEEK
    return Movement(found.slope, i.low > 0 or i.high < 0, float(weeks.max()) - middle, origin)


def scan_error(pairs: PairSet, stated: float | None) -> ScanError:
    """Error of one scan from the anchors that made pairs; ``stated`` is its stated precision, where there is one."""
    used = np.unique(pairs.occasion)
    return reference_error(pairs.anchors.n[used], pairs.anchors.ss[used], stated)


def slopes_on_reference(pairs: PairSet, error: ScanError, moved: Movement | None = None) -> ReferenceTrend:
    """Slopes of the difference on the reference, between clients and within them.

    Of the slope within clients the settings of the device are first taken out of both sides: their levels would look like changes of
    clients. So is the common course of time of a device that moves: else a drift that goes against the clients' own course looks
    like a device that is stuck.
    """
    scans = pairs.anchors.n[pairs.occasion].astype(float)
    found = reference_trend(pairs.d, pairs.x, scans, pairs.client, pairs.occasion, error)
    beside = periods_beside(pairs)
    columns = [] if beside is None else list(beside.T)
    if moved is not None and moved.found and not pairs.instrument.equation:  # a formula has nothing that drifts
        columns.append(weeks_of(pairs))
    if not columns or found.within is None:
        return found
    t = np.column_stack([centred(c, pairs.client) for c in columns])
    d, x = (v - t @ np.linalg.lstsq(t, centred(v, pairs.client), rcond=None)[0] for v in (pairs.d, pairs.x))
    return replace(found, within=reference_trend(d, x, scans, pairs.client, pairs.occasion, error).within)


def follows(pairs: PairSet, trend: ReferenceTrend, moved: Movement | None) -> Estimate | None:
    """Slope of the device on the scan within clients: near 1 it follows, near 0 it is stuck. None where that cannot be told."""
    drifts = moved is not None and moved.found
    within = slopes_on_reference(pairs, trend.reference, moved).within if drifts else trend.within
    if within is None or within.slope.interval is None:
        return None
    i = within.slope.interval
    return Estimate(1 + within.slope.value, Interval(1 + i.low, 1 + i.high), within.slope.n, within.slope.method)


def within_slope(pairs: PairSet, reference_sd: float | None, moved: Movement | None) -> Estimate | None:
    """``follows`` from pairs alone; ``reference_sd`` is the stated precision of a scan, where there is one."""
    if pairs.occasions <= pairs.clients or pairs.n < 4:
        return None
    return follows(pairs, slopes_on_reference(pairs, scan_error(pairs, reference_sd)), moved)


def following(pairs: PairSet, reference_sd: float | None) -> tuple[Estimate | None, Movement | None]:
    """What scans of all clients tell: the slope of the device on the scan within them, and that of its difference through time."""
    moved = movement(pairs)
    return within_slope(pairs, reference_sd, moved), moved


def shows_too_little(slope: Estimate | None) -> bool:
    """Whether a device surely shows less than FOLLOWS of a client's change."""
    return slope is not None and slope.interval is not None and slope.interval.high < FOLLOWS
