"""Slope of the difference through time, from pairs.

Drift shows it; it shortens or forbids a calibration.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...domain.snapshot import Floats
from ...stats.estimate import Estimate
from ...stats.time_slope import TimeSlope, moments_apart, slope_beside, slope_on_time
from .pairing import PairSet

WEEK = 7 * 86400.0
LEAST_MOMENTS = 3  # from which on a slope may shorten or forbid a calibration


@dataclass(frozen=True, slots=True)
class OffsetDrift:
    """Slope of the difference per week; ``found`` when its interval leaves zero.

    The last anchor lies so far after the middle.

    ``origin`` is the instant of the middle, at which the mean of all anchors holds.
    ``of_clients``: the clients changed as well, and what the device shows of that can explain the
    slope, so it is not shown to be drift.
    """

    slope: Estimate
    found: bool
    weeks_after_middle: float
    origin: float = 0.0
    of_clients: bool = False

    @property
    def drifts(self) -> bool:
        """Whether a drift of the device is shown."""
        return self.found and not self.of_clients


def weeks_of(pairs: PairSet) -> Floats:
    """Weeks of each pair's anchor since the first of them, (n,)."""
    at = pairs.anchors.instant[pairs.occasion] / WEEK
    return np.asarray(at - at.min(initial=np.inf) if at.size else at, dtype=float)


def periods_beside(pairs: PairSet) -> Floats | None:
    """Setting periods as fixed effects (n, q): one column for each setting but the first.

    None with one setting.
    """
    settings = np.unique(pairs.setting)
    if settings.size < 2:
        return None
    return np.asarray(pairs.setting[:, None] == settings[None, 1:], dtype=float)


def settings_apart(pairs: PairSet) -> Estimate | None:
    """Difference between two settings of the device, where there is one.

    The largest whose interval excludes zero.
    """
    beside = periods_beside(pairs)
    if beside is None:
        return None
    found = []
    for k in range(beside.shape[1]):
        rest = np.delete(beside, k, axis=1)
        e = slope_beside(
            pairs.d, pairs.client, pairs.occasion, beside[:, k], rest if rest.size else None
        )
        if (
            e is not None
            and e.slope.interval is not None
            and not e.slope.interval.low <= 0 <= e.slope.interval.high
        ):
            found.append(e.slope)
    return max(found, key=lambda e: abs(e.value), default=None)


def slope_of(pairs: PairSet) -> TimeSlope | None:
    """Slope of the difference on weeks in the nested mixed model.

    With several settings that within their periods.
    """
    return slope_on_time(
        pairs.d, pairs.client, pairs.occasion, weeks_of(pairs), periods_beside(pairs)
    )


def movement(pairs: PairSet) -> OffsetDrift | None:
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
    return OffsetDrift(found.slope, i.low > 0 or i.high < 0, float(weeks.max()) - middle, origin)
