"""How far repeats of one instrument usually differ."""

from __future__ import annotations

import numpy as np

from ..domain.snapshot import Snapshot


def usual_spread(snapshot: Snapshot, metric: str) -> dict[str, float]:
    """Pooled within-tally SD by instrument name; instruments without repeats are left out."""
    c = snapshot.columns.get(metric)
    if c is None:
        return {}
    ok = np.flatnonzero(c.status == 0)
    if ok.size == 0:
        return {}
    # one number for each tally: ids are positive, so their ranges multiply
    settings, visits = int(c.setting.max()) + 1, int(c.visit.max()) + 1
    key, cell = np.unique((c.instrument[ok] * settings + c.setting[ok]) * visits + c.visit[ok], return_inverse=True)
    instrument = key // (settings * visits)
    size = np.bincount(cell)
    mean = np.bincount(cell, c.value[ok]) / size
    square = np.bincount(cell, (c.value[ok] - mean[cell]) ** 2)
    out = {}
    for item in np.unique(instrument):
        of = instrument == item
        df = int((size[of] - 1).sum())
        if df > 0:
            out[snapshot.instruments[int(item)].name] = float(np.sqrt(square[of].sum() / df))
    return out
