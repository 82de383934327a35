"""Control chart of the difference: exponentially weighted means of standardised errors."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .components import NestedFit
from .estimate import Floats, FrozenArrays, Ints
from .variance_grid import OccasionMeans

LAMBDA = 0.2  # weight of the newest error
# limits in SD of the average that one chart in 20 of a stable device passes, by number of errors
# (200,000 simulated charts each, 60,000 from 640 on)
_ERRORS = np.array([5, 10, 20, 41, 80, 160, 320, 640, 1280])
_LIMITS = np.array([2.478, 2.684, 2.903, 3.126, 3.326, 3.525, 3.707, 3.887, 4.067])


def limit_of(errors: int) -> float:
    """Limits of a chart of so many errors, in SD of the average.

    Limits of one width for charts of any length would be passed by 5 % of stable devices with ten
    scans, and by half with 160.
    """
    return float(np.interp(np.log(max(errors, 1)), np.log(_ERRORS), _LIMITS))


FORGOTTEN = 300  # errors back of which nothing is left in an average: 0.8^300 is 1e-29


@dataclass(frozen=True, eq=False)
class Chart(FrozenArrays):
    """EWMA of standardised one-step errors in the order of time, shape (k,).

    Weeks, averages, their limits and indices of occasions.
    """

    weeks: Floats
    value: Floats
    limit: Floats
    place: Ints

    @property
    def signals(self) -> Ints:
        """Places beyond the limits."""
        return np.flatnonzero(np.abs(self.value) > self.limit)


# control chart
def control_chart(s: OccasionMeans, weeks: Floats, fit: NestedFit) -> Chart | None:
    """Exponentially weighted means of the standardised errors of one step ahead.

    Parameters
    ----------
    s : OccasionMeans
        Means of the differences of each occasion.
    weeks : (M,) array
        Times of the occasions.
    fit : NestedFit
        Variances at which errors are standardised.

    Returns
    -------
    Chart or None
        λ 0.2, and limits that 5 % of the charts of a stable device pass. An error is what an
        occasion differs from what the client's earlier occasions and the mean of all before
        predict; errors are independent while
        nothing drifts.

    References
    ----------
    Roberts 1959, Technometrics 1:239; Brown, Durbin & Evans 1975, J R Stat Soc B 37:149 (recursive
    residuals); Lucas & Saccucci 1990, Technometrics 32:1.
    """
    m = s.mean.size
    client, day, repeat = fit.variances
    v = day + repeat / s.size
    if m < 4 or float(v.min()) <= 0:
        return None
    order = np.lexsort((weeks, s.client_of))
    w, y = 1 / v[order], s.mean[order] - float(s.mean.mean())
    group = s.client_of[order]
    starts = np.flatnonzero(np.r_[True, np.diff(group) > 0])
    before, before_y = _earlier(w, starts, group), _earlier(w * y, starts, group)
    mean = np.divide(before_y, before, out=np.zeros(m), where=before > 0)
    shrink = client * before / (1 + client * before)
    sd = np.sqrt(client * (1 - shrink) + v[order])
    y_free, x_free = (y - shrink * mean) / sd, (1 - shrink) / sd  # independent, with mean x·level
    by_time = np.lexsort((group, weeks[order]))
    y_free, x_free = y_free[by_time], x_free[by_time]
    xx, xy = np.cumsum(x_free**2), np.cumsum(x_free * y_free)
    foretold = xy[:-1] / xx[:-1]
    error = (y_free[1:] - x_free[1:] * foretold) / np.sqrt(1 + x_free[1:] ** 2 / xx[:-1])
    k = np.arange(1, error.size + 1)
    weights = LAMBDA * (1 - LAMBDA) ** np.arange(min(error.size, FORGOTTEN))
    value = np.convolve(error, weights)[: error.size]
    limit = limit_of(error.size) * np.sqrt(LAMBDA / (2 - LAMBDA) * (1 - (1 - LAMBDA) ** (2.0 * k)))
    place = order[by_time][1:]
    return Chart(weeks[place], np.asarray(value, dtype=float), limit, place.astype(np.int64))


def _earlier(values: Floats, starts: Ints, group: Ints) -> Floats:
    """Sums of what lies before each in its group."""
    running = np.cumsum(values) - values
    return np.asarray(running - running[starts][group], dtype=float)
