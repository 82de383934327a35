"""Is one value of a device computed from others of the same reading?"""

from __future__ import annotations

import math

import numpy as np

from .estimate import Floats, Ints
from .repeatability import display_step
from .within_clients import detrended

LEAST_DF = 5
ALLOWED = 1.5  # times the SD that rounding alone leaves
VARIES = 3.0  # times that SD by which the value itself must vary


def is_derived(
    value: Floats, others: tuple[Floats, ...], client: Ints, time: Floats
) -> bool | None:
    """Whether a value follows from others within the rounding of both.

    Parameters
    ----------
    value : ndarray, shape (n,)
        The value of each reading, for instance body fat.
    others : tuple of ndarray, each of shape (n,)
        Other values of the same readings, for instance body water and body mass.
    client : ndarray of int, shape (n,)
        Client (and setting) of each reading.
    time : ndarray, shape (n,)
        Time of each reading.

    Returns
    -------
    bool or None
        None where too few readings vary enough to see it.

    Notes
    -----
    Each client's straight course is taken out of all, since real changes of two measured values go
    along. What is left of the value is fitted by what is left of the others: of a computed value
    only rounding remains.
    """
    _, k, size = np.unique(client, return_inverse=True, return_counts=True)
    keep = size[k] > 2
    client, time = client[keep], time[keep]
    y = detrended(value[keep], client, time)
    x = np.column_stack([detrended(o[keep], client, time) for o in others])
    df = y.size - 2 * int((size > 2).sum()) - x.shape[1]
    if df < LEAST_DF:
        return None
    slope = np.linalg.lstsq(x, y, rcond=None)[0]
    left = y - x @ slope
    steps = [display_step(v) or 0.0 for v in (value[keep], *(o[keep] for o in others))]
    rounding = math.hypot(steps[0], *(b * s for b, s in zip(slope, steps[1:], strict=True)))
    rounding /= math.sqrt(12)
    if math.sqrt(float(y @ y) / df) < VARIES * max(rounding, 1e-9):
        return None
    return math.sqrt(float(left @ left) / df) <= ALLOWED * max(rounding, 1e-9)
