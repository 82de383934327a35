"""Does a device drift, or do the clients change while it shows only a part of that?

Where all clients change alike, both look the same: the difference moves with time. The device's
slope on the scan within clients tells them apart as far as it is known.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from ...domain.snapshot import Floats
from ...stats.estimate import Estimate, Interval
from ...stats.trend import ScanError
from ...stats.within_clients import centred
from .offset_drift import OffsetDrift, movement, weeks_of
from .pairing import PairSet
from .reference_slopes import scan_error, slopes_on_reference, within_slope

# slopes of the difference within clients that a device can have: from no response to half too much
POSSIBLE = Interval(-1.0, 0.5)


@dataclass(frozen=True, slots=True)
class ClientsCourse:
    """Change of the scans per week that the clients have in common, and what a device shows of it.

    ``share`` is the slope of the difference on the scan within clients, time taken out: 0 for a
    device that shows all of a change. Where it is not ``known`` its interval is what is possible.
    """

    per_week: float
    share: Estimate
    known: bool

    def explained(self, share: float) -> float:
        """Slope of the difference per week that a share explains."""
        return share * self.per_week

    @property
    def ends(self) -> tuple[float, float]:
        """Both ends of the share's interval."""
        i = self.share.interval or POSSIBLE
        return i.low, i.high


def clients_course(pairs: PairSet, error: ScanError) -> ClientsCourse | None:
    """The common course of the clients; None where no client was seen twice."""
    used = np.unique(pairs.occasion)
    client, weeks = pairs.anchors.client[used], pairs.anchors.instant[used] / 604800.0
    t, x = centred(weeks, client), centred(pairs.anchors.mean[used], client)
    tt = float(t @ t)
    if used.size <= pairs.clients or tt <= 0:
        return None
    # as under a drift: the common course of time is taken out of both sides
    free = OffsetDrift(Estimate(0.0, None, 0, ""), True, 0.0)
    within = slopes_on_reference(pairs, error, free).within
    per_week = float(t @ x) / tt
    if within is None or within.slope.interval is None:
        share = Estimate((POSSIBLE.low + POSSIBLE.high) / 2, POSSIBLE, used.size, "possible")
        return ClientsCourse(per_week, share, known=False)
    i = within.slope.interval
    low, high = (min(max(v, POSSIBLE.low), POSSIBLE.high) for v in (i.low, i.high))
    return ClientsCourse(per_week, replace(within.slope, interval=Interval(low, high)), known=True)


def drift_beside(slope: Estimate, course: ClientsCourse | None) -> Estimate:
    """The slope of the difference per week that the clients' change does not explain.

    Parameters
    ----------
    slope : Estimate
        Slope of the difference per week.
    course : ClientsCourse or None
        What the clients' change explains; None for nothing.

    Returns
    -------
    Estimate
        Its interval adds both uncertainties in quadrature; with no estimate of the share it holds
        all that is possible.
    """
    if course is None or slope.interval is None:
        return slope
    i, k = slope.interval, course.per_week
    if not course.known:
        moved = [course.explained(s) for s in course.ends]
        ends = Interval(i.low - max(moved), i.high - min(moved))
        return Estimate(slope.value - sum(moved) / 2, ends, slope.n, f"{slope.method}, bounded")
    value = slope.value - course.explained(course.share.value)
    low, high = course.ends
    over, under = (k * (v - course.share.value) for v in (low, high))
    more, less = max(over, under, 0.0), max(-over, -under, 0.0)
    return Estimate(
        value,
        Interval(
            value - math.hypot(slope.value - i.low, more),
            value + math.hypot(i.high - slope.value, less),
        ),
        slope.n,
        f"{slope.method}, clients' change taken off",
    )


def without_clients_change(pairs: PairSet, course: ClientsCourse, share: float) -> Floats:
    """Differences (n,) with what a share of the clients' common change explains taken off."""
    return np.asarray(pairs.d - course.explained(share) * weeks_of(pairs), dtype=float)


def told_apart(pairs: PairSet, error: ScanError, moved: OffsetDrift | None) -> OffsetDrift | None:
    """Mark a movement that the clients' own change can explain."""
    if moved is None or not moved.found:
        return moved
    i = drift_beside(moved.slope, clients_course(pairs, error)).interval
    shown = i is not None and (i.low > 0 or i.high < 0) and not pairs.instrument.equation
    return replace(moved, of_clients=not shown)


def following(
    pairs: PairSet, reference_sd: float | None
) -> tuple[Estimate | None, OffsetDrift | None]:
    """Slopes from the scans of all clients.

    The device on the scan within clients, and its difference through time. ``reference_sd`` is
    the stated precision of a scan, where there is one.
    """
    moved = movement(pairs)
    return (
        within_slope(pairs, reference_sd, moved),
        told_apart(pairs, scan_error(pairs, reference_sd), moved),
    )
