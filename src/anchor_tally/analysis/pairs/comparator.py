"""The comparator: a reference, or else another device, a method or the consensus of devices.

Only a reference shows the true value. Everything made against another comparator says so.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from itertools import pairwise

import numpy as np

from ...domain.errors import UserError
from ...domain.lens import Lens
from ...domain.metrics import metric_named
from ...domain.records import Instrument
from ...domain.snapshot import OK, Columns, Ints, Snapshot, joined, read_only
from ..people.withheld import all_withheld

CONSENSUS = Instrument(-(10**9), "Consensus", "device")
LEAST_OTHERS = 2  # devices that a consensus is made of at least, the one compared left out


class CannotCompare(UserError):
    """A question that the study cannot answer as asked."""


def no_client(code: str) -> str:
    """Why nothing is told of a code that no client has."""
    return f'no client has the code "{code[:40]}"' if code else "choose a client"


def _named(metric: str) -> str:
    found = metric_named(metric)
    return f'"{metric}", an unknown metric' if found is None else found.name


def readers_of(snapshot: Snapshot, metric: str) -> list[Instrument]:
    """Instruments that have ok readings of a metric, in the study's order."""
    c = snapshot.columns.get(metric)
    used = set(c.instrument[c.status == OK].tolist()) if c is not None else set()
    return [i for i in snapshot.instruments.values() if i.id in used]


def refuse_withheld(snapshot: Snapshot, lens: Lens, metric: str) -> None:
    """Raise CannotCompare with the reason where no client of the lens may be shown."""
    c = snapshot.columns.get(metric)
    if c is None:
        return
    people = (snapshot.clients[i] for i in np.unique(c.client).tolist())
    why = all_withheld(
        (p for p in people if lens.clients is None or p.code in lens.clients), metric
    )
    if why:
        raise CannotCompare(why)


def may_be_shown(snapshot: Snapshot, client: Ints, metric: str) -> bool:
    """Whether a metric of one of these clients at least may be shown; also of nobody."""
    people = (snapshot.clients[i] for i in np.unique(client).tolist())
    return not all_withheld(people, metric)


def find_comparator(snapshot: Snapshot, lens: Lens) -> Instrument:
    """Find the comparator that the lens names, or the only reference that has the metric.

    Raises CannotCompare when there is none, with what could stand in.
    """
    metric = metric_named(lens.metric)
    if metric is not None and metric.device_only:
        raise CannotCompare(f"{metric.name} is a value of one device only and cannot be compared")
    if lens.reference is not None:
        if lens.reference.strip().lower() == CONSENSUS.name.lower():
            return CONSENSUS
        named = snapshot.instrument_named(lens.reference)
        if named is None:
            raise CannotCompare(f'no instrument is called "{lens.reference}"')
        return named
    found = [i for i in readers_of(snapshot, lens.metric) if i.kind == "reference"]
    if not found:
        raise CannotCompare(
            f"no scan with {_named(lens.metric)} yet: import scan results, or enter them under"
            " Record › Scan"
        )
    if len(found) > 1:
        raise CannotCompare(
            f"several scans show {_named(lens.metric)}: {', '.join(i.name for i in found)};"
            " choose one"
        )
    return found[0]


def substitutes(readers: Iterable[tuple[str, str]]) -> tuple[str, ...]:
    """Names that may replace a reference: the consensus first, then devices and methods.

    ``readers`` holds (name, kind) of instruments that have the metric.
    """
    there = [(name, kind) for name, kind in readers if kind != "reference"]
    devices = [name for name, kind in there if kind == "device"]
    return (
        *((CONSENSUS.name,) if len(devices) > LEAST_OTHERS else ()),
        *(name for name, _ in there),
    )


def with_consensus(snapshot: Snapshot, c: Columns, compared: Instrument) -> Columns:
    """Add a consensus of the other devices at each visit to the columns.

    It is the mean of their visit means, from two devices on.

    ``compared`` is left out of it, so that no device is compared with itself.
    """
    devices = [
        i.id for i in snapshot.instruments.values() if i.kind == "device" and i.id != compared.id
    ]
    rows = np.flatnonzero((c.status == OK) & np.isin(c.instrument, devices))
    if rows.size == 0:
        return c
    order = rows[np.lexsort((c.instrument[rows], c.visit[rows]))]
    new_tally = np.append(
        True, (np.diff(c.visit[order]) != 0) | (np.diff(c.instrument[order]) != 0)
    )
    tally = np.cumsum(new_tally) - 1
    size = np.bincount(tally)
    mean = np.bincount(tally, c.value[order]) / size
    instant = np.bincount(tally, c.instant[order]) / size
    first = order[new_tally]
    visits, start, devices_in = np.unique(c.visit[first], return_index=True, return_counts=True)
    enough = devices_in >= LEAST_OTHERS
    if not enough.any():
        return c
    at = first[start[enough]]
    value = (np.add.reduceat(mean, start) / devices_in)[enough]
    when = (np.add.reduceat(instant, start) / devices_in)[enough]
    cuts = np.searchsorted(c.visit[order], np.append(visits, visits[-1] + 1))
    groups = [tuple(c.reading[order[a:b]].tolist()) for a, b in pairwise(cuts.tolist())]
    parts = tuple(g for g, wanted in zip(groups, enough, strict=True) if wanted)
    made = Columns(
        metric=c.metric,
        reading=read_only(-(c.visit[at] * 1000 + 999), np.int64),
        visit=c.visit[at],
        client=c.client[at],
        instrument=_filled(at, CONSENSUS.id),
        setting=_filled(at, 0),
        instant=read_only(np.rint(when), np.int64),
        day=c.day[at],
        timed=c.timed[at],
        replicate=_filled(at, 1),
        status=_filled(at, OK),
        value=read_only(value, np.float64),
        parts=parts,
    )
    return joined(c, made)


def _filled(at: Ints, value: int) -> Ints:
    return np.full(at.size, value, dtype=np.int64)


def words_of(comparator: Instrument) -> str:
    """Its name; of one that is no reference, that it is none."""
    return (
        comparator.name if comparator.kind == "reference" else f"{comparator.name}, not a reference"
    )


def others_of(snapshot: Snapshot, lens: Lens, comparator: Instrument) -> list[Instrument]:
    """Instruments to compare: those with readings, less references and comparator."""
    return [
        i
        for i in readers_of(snapshot, lens.metric)
        if i.kind != "reference" and i.id != comparator.id
    ]


def lens_for(snapshot: Snapshot, lens: Lens, item: Instrument) -> Lens:
    """Lens for one of several instruments.

    A setting that the instrument does not have is dropped.
    """
    if lens.setting is None or lens.setting in {
        s.label for s in snapshot.catalogue.settings_of(item.id)
    }:
        return lens
    return replace(lens, setting=None)
