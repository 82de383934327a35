"""Values of published equations, recomputed from raw readings; never stored."""

from __future__ import annotations

from collections.abc import Generator, Mapping
from dataclasses import dataclass, field, replace
from functools import cache
from types import MappingProxyType

import numpy as np

from ...domain.metrics import metric_named
from ...domain.records import Instrument
from ...domain.snapshot import Columns, Floats, Ints, Snapshot, joined, read_only
from ...domain.stations import landmark_of
from ...methods.equation import Equation
from ...methods.registry import EQUATIONS

_NOT_RAW = ("sex", "age_years", "height")


@cache
def raw_metrics() -> frozenset[str]:
    """Metrics that some equation needs."""
    return frozenset(
        k for e in EQUATIONS.values() for k in (*e.all_inputs, *e.substitutes) if k not in _NOT_RAW
    )


@dataclass(frozen=True, eq=False)
class _Raw:
    """One raw metric by visit: median value (NaN where there is none), first row, readings used."""

    value: Floats
    row: Ints
    used: dict[int, tuple[int, ...]]


def _by_visit(c: Columns, usable: np.ndarray, visits: Ints, counts: str = "agree") -> _Raw:
    """Value of a visit: the median of its valid readings.

    Of two the mean; or the mean or last one where the protocol says so.

    Of an instrument read under several settings in one visit (both sides of the body, another
    mode) the first setting counts: what is kept apart at the bench is not averaged here.
    """
    rows = np.flatnonzero((c.status == 0) & usable)
    shift = int(c.instrument.max(initial=0)) + 1
    _, first, own = np.unique(
        c.visit[rows] * shift + c.instrument[rows], return_index=True, return_inverse=True
    )
    rows = rows[c.setting[rows] == c.setting[rows][first][own]]
    by = (c.replicate[rows], c.instant[rows]) if counts == "last" else (c.value[rows],)
    order = rows[np.lexsort((*by, c.visit[rows]))]
    found, start, size = np.unique(c.visit[order], return_index=True, return_counts=True)
    value, row = np.full(visits.size, np.nan), np.full(visits.size, -1)
    if found.size == 0:
        return _Raw(value, row, {})
    at = np.searchsorted(visits, found)
    low, high = order[start + (size - 1) // 2], order[start + size // 2]
    if counts == "mean":
        value[at] = np.add.reduceat(c.value[order], start) / size
    elif counts == "last":
        value[at] = c.value[order[start + size - 1]]
    else:
        value[at] = (c.value[low] + c.value[high]) / 2
    row[at] = order[start]
    groups = np.split(c.reading[order], start[1:])
    return _Raw(value, row, {int(k): tuple(g.tolist()) for k, g in zip(at, groups, strict=True)})


def _inputs(snapshot: Snapshot) -> tuple[dict[str, _Raw], dict[str, Floats]]:
    """Raw metrics by visit, and every input of every equation as one array over the visits.

    NaN where an input is missing.
    """
    visits = snapshot.visits
    reference = [i.id for i in snapshot.instruments.values() if i.kind == "reference"]
    raw: dict[str, _Raw] = {}
    for key in raw_metrics() & snapshot.columns.keys():
        c = snapshot.columns[key]
        raw[key] = _by_visit(
            c,
            ~np.isin(c.instrument, reference),
            visits.visit,
            snapshot.catalogue.rule_of(key).counts,
        )
    sex = {k.id: {"male": 1.0, "female": 0.0}.get(k.sex, np.nan) for k in snapshot.clients.values()}
    nothing = np.full(visits.visit.size, np.nan)
    values = dict.fromkeys(raw_metrics(), nothing) | {k: r.value for k, r in raw.items()}
    values["sex"] = np.array([sex[int(i)] for i in visits.client])
    values["age_years"], values["height"] = visits.age_years, visits.height_cm
    return raw, values


def visit_inputs(snapshot: Snapshot, visit: int) -> dict[str, float]:
    """What the equations can use of one visit, in canonical units.

    Inputs that are not there are left out.

    Body mass falls back on the client's last visit that has one: it is needed before the scale
    is stepped on.
    """
    at = np.flatnonzero(snapshot.visits.visit == visit)
    if at.size == 0:
        return {}
    _, values = _inputs(snapshot)
    k = int(at[0])
    given = {key: float(v[k]) for key, v in values.items() if not np.isnan(v[k])}
    if "body_mass" not in given:
        own = (snapshot.visits.client == snapshot.visits.client[k]) & ~np.isnan(values["body_mass"])
        earlier = np.flatnonzero(own & (snapshot.visits.instant <= snapshot.visits.instant[k]))
        if earlier.size:
            given["body_mass"] = float(
                values["body_mass"][earlier[np.argmax(snapshot.visits.instant[earlier])]]
            )
    return given


@dataclass(frozen=True, eq=False)
class Derived:
    """Values of all equations whose inputs are present.

    Instruments by number, and columns by metric.

    ``outside`` holds the visits that have the inputs, but of a person outside the population.
    """

    instruments: Mapping[int, Instrument]
    columns: Mapping[str, Columns]
    outside: Mapping[int, Ints]
    landmarks: Mapping[int, tuple[str, ...]] = field(default_factory=dict)


def derive_steps(snapshot: Snapshot) -> Generator[float, None, Derived]:
    """Compute every equation for every visit with all its inputs, of a person in its population.

    Yields the share done.

    Readings of a reference are never an input, so that a method stays independent of it.
    """
    visits = snapshot.visits
    instruments: dict[int, Instrument] = {}
    columns: dict[str, Columns] = {}
    if visits.visit.size == 0:
        return Derived(MappingProxyType(instruments), MappingProxyType(columns), {})
    outside: dict[int, Ints] = {}
    mixed = _mixed_landmarks(snapshot)
    raw, values = _inputs(snapshot)
    for number, equation in enumerate(EQUATIONS.values(), start=1):
        yield number / len(EQUATIONS)
        full = equation.filled(values) if equation.instead else values
        complete = ~np.any([*equation.missing(full).values()], axis=0)
        usable = complete & ~np.any([*equation.reasons(full).values()], axis=0)
        if equation.men or equation.women:
            usable &= ~np.isnan(values["sex"])
        existing = next(
            (i for i in snapshot.instruments.values() if i.equation == equation.id), None
        )
        item = existing or Instrument(-number, equation.label, "method", equation.id)
        parts_of = _parts(equation, raw)
        for lead, keep in _leads(equation, raw, usable):
            instruments[item.id] = item
            outside[item.id] = read_only(visits.visit[complete & ~usable], np.int64)
            parts = tuple(tuple(i for u in parts_of for i in u.get(int(k), ())) for k in keep)
            results = equation.function({k: v[keep] for k, v in full.items()})
            for output, result in results.items():
                made = _columns(
                    snapshot,
                    snapshot.columns[lead],
                    raw[lead].row[keep],
                    output,
                    result,
                    item.id,
                    keep,
                    number,
                    parts,
                )
                columns[output] = joined(columns[output], made) if output in columns else made
    sites = {
        e.id: tuple(m for k in (*e.all_inputs, *e.substitutes) if (m := mixed.get(k)))
        for e in EQUATIONS.values()
    }
    landmarks = {i.id: sites[i.equation] for i in instruments.values() if sites[i.equation]}
    return Derived(
        MappingProxyType(instruments),
        MappingProxyType(columns),
        MappingProxyType(outside),
        MappingProxyType(landmarks),
    )


def _mixed_landmarks(snapshot: Snapshot) -> dict[str, str]:
    """Sites whose ok readings were taken at several landmarks, in words, by metric."""
    labels = {
        i: landmark_of(s.label) or "the usual place" for i, s in snapshot.settings.items()
    } | {0: "the usual place"}
    out = {}
    for key in raw_metrics() & snapshot.columns.keys():
        c = snapshot.columns[key]
        places = sorted({labels[int(s)] for s in np.unique(c.setting[c.status == 0])})
        metric = metric_named(key)
        if len(places) > 1 and metric is not None:
            out[key] = f"{metric.name} ({', '.join(places)})"
    return out


def _leads(
    equation: Equation, raw: Mapping[str, _Raw], usable: np.ndarray
) -> list[tuple[str, Ints]]:
    """The raw metric whose reading gives a computed value its time.

    With the visits for which it does: the input that is read last.

    Visits where a substitute is used follow with that one.
    """
    lead = next(
        (k for k in reversed(equation.all_inputs) if k in raw or k in dict(equation.instead)), None
    )
    if lead is None:
        return []
    left, out = usable.copy(), []
    for key in (lead, *dict(equation.instead).get(lead, ())):
        if key in raw:
            keep = np.flatnonzero(left & (raw[key].row >= 0))
            left[keep] = False
            if keep.size:
                out.append((key, keep))
    return out


def _parts(equation: Equation, raw: Mapping[str, _Raw]) -> list[dict[int, tuple[int, ...]]]:
    """The stored readings behind each input, by visit.

    Those of a substitute only where it is used.
    """
    instead, out = dict(equation.instead), []
    for key in equation.all_inputs:
        merged: dict[int, tuple[int, ...]] = {}
        for name in (*reversed(instead.get(key, ())), key):
            if name in raw:
                merged |= raw[name].used
        out.append(merged)
    return out


def with_derived(snapshot: Snapshot, derived: Derived) -> Snapshot:
    """Snapshot with the equations as instruments and their values in its columns."""
    instruments = MappingProxyType({**snapshot.instruments, **derived.instruments})
    columns = {
        m: joined(c, derived.columns[m]) if m in derived.columns else c
        for m, c in snapshot.columns.items()
    }
    return replace(
        snapshot,
        catalogue=replace(snapshot.catalogue, instruments=instruments),
        columns=columns,
        outside=derived.outside,
        landmarks=derived.landmarks,
    )


def _columns(
    snapshot: Snapshot,
    lead: Columns,
    rows: Ints,
    output: str,
    result: Floats,
    item: int,
    keep: Ints,
    number: int,
    parts: tuple[tuple[int, ...], ...],
) -> Columns:
    """Derived readings, at the time of the leading raw reading.

    Impossible values count as failed.
    """
    visits = snapshot.visits
    zeros = np.zeros(keep.size)
    return Columns(
        metric=output,
        # numbers of this snapshot only: what lasts is the equation and the visit
        reading=read_only(-(visits.visit[keep] * 1000 + number), np.int64),
        visit=read_only(visits.visit[keep], np.int64),
        client=read_only(visits.client[keep], np.int64),
        instrument=read_only(np.full(keep.size, item), np.int64),
        setting=read_only(zeros, np.int64),
        instant=read_only(lead.instant[rows], np.int64),
        day=read_only(lead.day[rows], np.int64),
        timed=read_only(lead.timed[rows], np.bool_),
        replicate=read_only(np.ones(keep.size), np.int64),
        status=read_only(np.isnan(result), np.int64),
        value=read_only(result, np.float64),
        parts=parts,
    )
