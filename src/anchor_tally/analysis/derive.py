"""Values of published equations, recomputed from raw readings; never stored."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..domain.records import Instrument
from ..domain.snapshot import Columns, Floats, Ints, Snapshot, read_only
from ..methods.registry import EQUATIONS, Equation

_PERSON = ("sex", "age_years", "height")


def raw_metrics() -> frozenset[str]:
    """Metrics that some equation needs."""
    return frozenset(k for e in EQUATIONS.values() for k in e.inputs if k not in _PERSON)


def _median_by_visit(c: Columns, usable: np.ndarray) -> tuple[Ints, Floats, Ints, list[tuple[int, ...]]]:
    """Visits, median of their ok readings, first row, and the readings used."""
    rows = np.flatnonzero((c.status == 0) & usable)
    order = rows[np.lexsort((c.value[rows], c.visit[rows]))]
    visits, start, size = np.unique(c.visit[order], return_index=True, return_counts=True)
    low, high = order[start + (size - 1) // 2], order[start + size // 2]
    groups = np.split(c.reading[order], start[1:]) if visits.size else []
    return visits, (c.value[low] + c.value[high]) / 2, order[start], [tuple(g.tolist()) for g in groups]


def with_methods(snapshot: Snapshot) -> Snapshot:
    """Return the snapshot with one method instrument for each equation whose inputs are there.

    Each visit with all inputs yields one value from the median of the visit's ok readings (the mean of
    two). Readings of a reference are never an input, so that a method stays independent of it.
    """
    instruments, columns = dict(snapshot.instruments), dict(snapshot.columns)
    reference = [i.id for i in instruments.values() if i.kind == "reference"]
    for number, equation in enumerate(EQUATIONS.values(), start=1):
        made = _derive(snapshot, equation, reference, number)
        if made is None:
            continue
        existing = next((i for i in instruments.values() if i.equation == equation.id), None)
        item = existing or Instrument(-number, equation.label, "method", equation.id)
        instruments[item.id] = item
        made = replace(made, instrument=read_only(np.full(made.n, item.id), np.int64))
        columns[equation.output] = _joined(columns.get(equation.output), made)
    return replace(snapshot, instruments=instruments, columns=columns)


def _derive(snapshot: Snapshot, equation: Equation, reference: list[int], number: int) -> Columns | None:
    visits = snapshot.visits
    at: Ints = visits.visit
    values: dict[str, Floats] = {}
    parts: list[list[tuple[int, ...]]] = []
    lead: tuple[Columns, Ints] | None = None
    for key in equation.inputs:
        if key in _PERSON:
            continue
        c = snapshot.columns.get(key)
        if c is None or c.n == 0:
            return None
        v, median, first, used = _median_by_visit(c, ~np.isin(c.instrument, reference))
        common, ia, ib = np.intersect1d(at, v, return_indices=True)
        values = {k: x[ia] for k, x in values.items()} | {key: median[ib]}
        parts = [[p[i] for i in ia] for p in parts] + [[used[i] for i in ib]]
        lead = (c, first[ib])
        at = common
    if lead is None or at.size == 0:
        return None
    order = np.searchsorted(visits.visit, at)
    sex = {k.id: {"male": 1.0, "female": 0.0}.get(k.sex, np.nan) for k in snapshot.clients.values()}
    client = visits.client[order]
    values["sex"] = np.array([sex[int(i)] for i in client])
    values["age_years"], values["height"] = visits.age_years[order], visits.height_cm[order]
    usable = np.all([~np.isnan(values[k]) for k in equation.inputs], axis=0)
    usable &= equation.applies(values)
    if not usable.any():
        return None
    keep = np.flatnonzero(usable)
    result = equation.function({k: v[keep] for k, v in values.items()})
    c, first = lead[0], lead[1][keep]
    return Columns(
        metric=equation.output,
        reading=read_only(-(number * 10_000_000 + at[keep]), np.int64),
        visit=read_only(at[keep], np.int64),
        client=read_only(client[keep], np.int64),
        instrument=read_only(np.zeros(keep.size), np.int64),
        setting=read_only(np.zeros(keep.size), np.int64),
        wall=read_only(c.wall[first], np.int64),
        day=read_only(c.day[first], np.int64),
        timed=read_only(c.timed[first], np.bool_),
        replicate=read_only(np.ones(keep.size), np.int64),
        status=read_only(np.zeros(keep.size), np.int64),
        value=read_only(result, np.float64),
        parts=tuple(tuple(i for group in (p[k] for p in parts) for i in group) for k in keep),
    )


def _joined(a: Columns | None, b: Columns) -> Columns:
    if a is None:
        return b
    names = ("reading", "visit", "client", "instrument", "setting", "wall", "day", "timed", "replicate", "status", "value")
    arrays = {k: read_only(np.concatenate([getattr(a, k), getattr(b, k)]), getattr(a, k).dtype) for k in names}
    return Columns(metric=a.metric, parts=(a.parts or ((),) * a.n) + b.parts, **arrays)
