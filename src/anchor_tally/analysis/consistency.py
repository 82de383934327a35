"""How far repeats of one instrument usually differ."""

from __future__ import annotations

import math

import numpy as np

from ..domain.snapshot import OK, Columns
from ..stats.tallies import within

LAST = 1500  # readings of an instrument that its usual spread is taken from


def usual_spread(c: Columns) -> float | None:
    """Pooled within-tally SD of one instrument's readings of one metric; None without repeats."""
    ok = np.flatnonzero(c.status == OK)
    if ok.size == 0:
        return None
    # one number for each tally: a visit under one setting
    variance = within(c.visit[ok] * (int(c.setting.max()) + 1) + c.setting[ok], c.value[ok]).variance
    return None if variance is None else math.sqrt(variance)
