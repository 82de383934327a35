"""Slopes of a device on the reference, between and within clients: does it respond to change?"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ...domain.scan_precision import assumed_sd
from ...stats.estimate import Estimate
from ...stats.trend import ReferenceTrend, ScanError, reference_error, reference_trend
from ...stats.within_clients import centred
from .offset_drift import OffsetDrift, periods_beside, weeks_of
from .pairing import PairSet

FOLLOWS = 0.5  # a device whose slope is surely below this shows too little of a change
# the answers on a device's response to change, the same in every view
RESPONDS, SIZE_UNCERTAIN, TOO_LITTLE, UNKNOWN = (
    "responds",
    "size_uncertain",
    "too_little",
    "unknown",
)


def scan_error(pairs: PairSet, stated: float | None) -> ScanError:
    """Error of one scan from the anchors that made pairs.

    ``stated`` is its stated precision, where there is one. With neither the usual range is
    assumed.
    """
    used = np.unique(pairs.occasion)
    level = float(pairs.anchors.mean[used].mean()) if used.size else 0.0
    return reference_error(
        pairs.anchors.n[used], pairs.anchors.ss[used], stated, assumed_sd(pairs.metric, level)
    )


def slopes_on_reference(
    pairs: PairSet, error: ScanError, moved: OffsetDrift | None = None
) -> ReferenceTrend:
    """Slopes of the difference on the reference, between clients and within them.

    Of the slope within clients the settings of the device are first taken out of both sides:
    their levels would look like changes of clients. So is the common course of time of a device
    that moves: else a drift that goes against the clients' own course looks like a device that
    is stuck.
    """
    scans = pairs.anchors.n[pairs.occasion].astype(float)
    found = reference_trend(pairs.d, pairs.x, scans, pairs.client, pairs.occasion, error)
    beside = periods_beside(pairs)
    columns = [] if beside is None else list(beside.T)
    if (
        moved is not None and moved.found and not pairs.instrument.equation
    ):  # a formula has nothing that drifts
        columns.append(weeks_of(pairs))
    if not columns or found.within is None:
        return found
    t = np.column_stack([centred(c, pairs.client) for c in columns])
    d, x = (
        v - t @ np.linalg.lstsq(t, centred(v, pairs.client), rcond=None)[0]
        for v in (pairs.d, pairs.x)
    )
    return replace(
        found, within=reference_trend(d, x, scans, pairs.client, pairs.occasion, error).within
    )


def follows(pairs: PairSet, trend: ReferenceTrend, moved: OffsetDrift | None) -> Estimate | None:
    """Slope of the device on the scan within clients: near 1 it follows, near 0 it is stuck.

    None where that cannot be estimated.
    """
    drifts = moved is not None and moved.found
    within = slopes_on_reference(pairs, trend.reference, moved).within if drifts else trend.within
    if within is None or within.slope.interval is None:
        return None
    return within.slope.moved(1.0)


def within_slope(
    pairs: PairSet, reference_sd: float | None, moved: OffsetDrift | None
) -> Estimate | None:
    """``follows`` from pairs alone.

    ``reference_sd`` is the stated precision of a scan, where there is one.
    """
    if pairs.occasions <= pairs.clients or pairs.n < 4:
        return None
    return follows(pairs, slopes_on_reference(pairs, scan_error(pairs, reference_sd)), moved)


def answer_on_change(slope: Estimate | None) -> str:
    """Whether a device responds to change, from the interval of its slope within clients.

    Parameters
    ----------
    slope : Estimate or None
        Slope of the device on the scan within clients; 1 for a device that shows all of a change.

    Returns
    -------
    str
        RESPONDS from 0.5 on, SIZE_UNCERTAIN above 0, TOO_LITTLE below 0.5; UNKNOWN where the
        interval holds both 0 and 0.5, or where there is none. What is not shown is never taken
        as absent.
    """
    if slope is None or slope.interval is None:
        return UNKNOWN
    i = slope.interval
    if i.high < FOLLOWS:
        return TOO_LITTLE
    if i.low >= FOLLOWS:
        return RESPONDS
    return SIZE_UNCERTAIN if i.low > 1e-6 else UNKNOWN


def shows_too_little(slope: Estimate | None) -> bool:
    """Whether a device surely shows less than FOLLOWS of a client's change."""
    return answer_on_change(slope) == TOO_LITTLE
