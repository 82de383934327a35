"""Readings that wait: a finding says not to use them, and nobody has decided about it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from weakref import WeakKeyDictionary

import numpy as np
import numpy.typing as npt

from ...domain.catalogue import Catalogue
from ...domain.snapshot import HELD, OK, Columns, Snapshot
from .finding import Finding, Material
from .mixed_up import repeats_off
from .scans import scans_at_odds
from .values import LARGER, at_odds, sites_in_order, without_one_repeat
from .visits import dated_ahead

# what was found in columns that have not changed since, while the catalogue is the same
_KNOWN: WeakKeyDictionary[Columns, tuple[Catalogue, tuple[Finding, ...]]] = WeakKeyDictionary()


@dataclass(frozen=True, eq=False)
class HeldBack:
    """A metric without the readings that wait.

    ``columns`` has them in the state ``HELD``; ``findings`` say why, with the rows of each.
    ``questioned`` are findings about readings that count, but differ from the client's history.
    """

    columns: Columns
    findings: tuple[tuple[Finding, tuple[int, ...]], ...]
    questioned: tuple[tuple[Finding, tuple[int, ...]], ...]


def beside(metric: str) -> frozenset[str]:
    """Other metrics that a reading of this one is compared with."""
    pairs = [{small, large} for small, large in LARGER.items()]
    return frozenset().union(*(p - {metric} for p in pairs if metric in p))


def held_back(snapshot: Snapshot, metric: str) -> HeldBack:
    """Hold back readings of a metric that a finding says not to use.

    Parameters
    ----------
    snapshot : Snapshot
        The study with the columns of the metric, its ``inputs`` and what is ``beside`` it.
    metric : str
        The metric.

    Returns
    -------
    HeldBack
        The metric without these readings; the same columns object where nothing waits.

    Notes
    -----
    Findings are those of the review that say "do not use" (stop); one that was confirmed holds
    back nothing. A value of an equation waits with any of its inputs.
    """
    column = snapshot.columns[metric]
    stored = {metric: column}
    near = snapshot.inputs if column.parts else beside(metric)
    stored |= {k: c for k, c in snapshot.inputs.items() if k in near and k != metric}
    seen = replace(snapshot, columns=stored)
    found = [f for c in stored.values() for f in _of_one(seen, c)]
    material = Material(seen, now=snapshot.now)
    found += [*sites_in_order(material), *dated_ahead(material)]
    out: list[tuple[Finding, tuple[int, ...]]] = []
    questioned: list[tuple[Finding, tuple[int, ...]]] = []
    for f in found:
        to = out if f.severity == "stop" else questioned if f.rule == "at_odds" else None
        if to is None or f.key in snapshot.confirmed:
            continue
        rows = _rows(column, f, stored)
        rows = rows[column.status[rows] == OK]
        if rows.size:
            to.append((f, tuple(rows.tolist())))
    columns = _without(column, [r for _, rows in out for r in rows])
    return HeldBack(columns, tuple(out), tuple(questioned))


def _without(c: Columns, rows: list[int]) -> Columns:
    if not rows:
        return c
    state = c.status.copy()
    state[rows] = HELD
    state.setflags(write=False)
    return replace(c, status=state)


def _of_one(s: Snapshot, c: Columns) -> tuple[Finding, ...]:
    """What the rules that look at one metric alone find in it."""
    known = _KNOWN.get(c)
    if known is None or known[0] is not s.catalogue:
        material = Material(replace(s, columns={c.metric: c}))
        found = [*at_odds(material), *repeats_off(material), *scans_at_odds(material)]
        known = _KNOWN[c] = s.catalogue, tuple(without_one_repeat(found))
    return known[1]


def _rows(c: Columns, f: Finding, stored: Mapping[str, Columns]) -> npt.NDArray[np.int64]:
    """Rows of a metric that a finding is about, values of equations among them."""
    if f.rule == "ahead":
        return np.flatnonzero(c.visit == f.visit)
    ids = set(f.readings)
    if f.rule == "sites_order":  # nobody knows which of the two is meant
        both = [stored[m] for m in (f.metric, LARGER[f.metric])]
        ids = {i for x in both for i in x.reading[x.visit == f.visit].tolist()}
    own = np.isin(c.reading, list(ids))
    if c.parts:
        own |= np.fromiter((not ids.isdisjoint(p) for p in c.parts), bool, c.n)
    return np.flatnonzero(own)
