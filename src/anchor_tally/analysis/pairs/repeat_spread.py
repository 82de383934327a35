"""How far repeats of one instrument usually differ, and which one is far from the other repeats."""

from __future__ import annotations

import numpy as np

from ...domain.catalogue import Catalogue
from ...domain.instants import zone_named
from ...domain.metrics import metric_named
from ...domain.snapshot import OK, Columns, Floats, Ints
from ...stats.estimate import Note, note
from ...stats.tallies import far_off, robust_sd
from ..people.withheld import withheld
from .pairing import PairSet, stamp

LAST = 1500  # readings of an instrument that its usual spread is taken from
MOST_NAMED = 3


def usual_spread(c: Columns) -> float | None:
    """Robust within-tally SD of one instrument's readings of one metric; None without repeats."""
    ok = np.flatnonzero(c.status == OK)
    if ok.size == 0:
        return None
    # one number for each tally: a visit under one setting
    found = robust_sd(c.visit[ok] * (int(c.setting.max()) + 1) + c.setting[ok], c.value[ok])
    return None if found is None else found[0]


def outlying_repeats(pairs: PairSet, catalogue: Catalogue) -> list[Note]:
    """Outliers among the repeats of pairs, named one by one.

    They affect the result; the first few are named.
    """
    if pairs.n < 3:
        return []
    tally = pairs.visit * (int(pairs.setting.max()) + 1) + pairs.setting
    return outliers_named(tally, pairs.y, pairs.client, pairs.instant, catalogue, pairs.metric)


def outliers_named(
    tally: Ints, value: Floats, client: Ints, instant: Ints, catalogue: Catalogue, name: str
) -> list[Note]:
    """Readings far from the other repeats of one tally, named; all arrays of shape (n,)."""
    found = far_off(tally, value)
    zone, metric = zone_named(catalogue.zone), metric_named(name)
    unit = "%" if metric is None or metric.unit == "percent" else metric.unit
    out = []
    for k in found[:MOST_NAMED].tolist():
        whose = catalogue.clients[int(client[k])]
        if withheld(whose, name):
            hidden = note("far_off_withheld", client=whose.code)
            out += [hidden] if hidden not in out else []
            continue
        others = value[(tally == tally[k]) & (np.arange(value.size) != k)]
        out.append(
            note(
                "far_off",
                client=whose.code,
                at=stamp(int(instant[k]), zone, timed=True),
                value=value[k],
                unit=unit,
                others=tuple(sorted(others.tolist())[:4]),
            )
        )
    if found.size > MOST_NAMED:
        out.append(note("far_off_more", more=found.size - MOST_NAMED))
    return out
