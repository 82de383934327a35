"""How far repeats of one instrument usually differ."""

from __future__ import annotations

import numpy as np

from ..domain.snapshot import OK, Columns

LAST = 1500  # readings of an instrument that its usual spread is taken from


def usual_spread(c: Columns) -> float | None:
    """Pooled within-tally SD of one instrument's readings of one metric; None without repeats."""
    ok = np.flatnonzero(c.status == OK)
    if ok.size == 0:
        return None
    # one number for each tally: a visit under one setting
    _, cell = np.unique(c.visit[ok] * (int(c.setting.max()) + 1) + c.setting[ok], return_inverse=True)
    size = np.bincount(cell)
    mean = np.bincount(cell, c.value[ok]) / size
    df = int((size - 1).sum())
    return float(np.sqrt(((c.value[ok] - mean[cell]) ** 2).sum() / df)) if df else None
