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
    keys, cell = np.unique(np.stack([c.instrument[ok], c.setting[ok], c.visit[ok]]), axis=1, return_inverse=True)
    cell = cell.ravel()
    size = np.bincount(cell)
    mean = np.bincount(cell, c.value[ok]) / size
    square = np.bincount(cell, (c.value[ok] - mean[cell]) ** 2)
    out = {}
    for item in np.unique(keys[0]):
        of = keys[0] == item
        df = int((size[of] - 1).sum())
        if df > 0:
            out[snapshot.instruments[int(item)].name] = float(np.sqrt(square[of].sum() / df))
    return out
