"""One instrument's ok readings of a metric through a lens, and their means visit by visit."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...domain.lens import Lens
from ...domain.records import Instrument
from ...domain.snapshot import EXCLUDED, OK, Columns, Floats, Ints, Snapshot, read_only
from ...stats.estimate import Note, note
from .comparator import CannotCompare, may_be_shown


@dataclass(frozen=True, eq=False)
class Series:
    """Sets of repeats (one instrument, visit and setting) as columns of shape (m,).

    Sorted by client and time; ``size`` is the number of readings of each.
    """

    visit: Ints
    client: Ints
    setting: Ints
    instant: Floats
    day: Ints
    mean: Floats
    size: Ints

    @property
    def n(self) -> int:
        """Number of tallies."""
        return int(self.visit.size)


def rows_of_instrument(
    snapshot: Snapshot,
    lens: Lens,
    instrument: Instrument,
    metric: str,
    notes: list[Note] | None = None,
) -> Ints:
    """Indices of an instrument's valid readings among the metric's columns.

    Limited to the lens' clients and setting.

    With no setting chosen all count, and a note names what is mixed.
    """
    c = snapshot.columns.get(metric)
    if c is None:
        return np.empty(0, dtype=np.int64)
    own = c.instrument == instrument.id
    if lens.clients is not None:
        own &= np.isin(c.client, [i for i, k in snapshot.clients.items() if k.code in lens.clients])
    wanted, put_out = own & (c.status == OK), int((own & (c.status == EXCLUDED)).sum())
    if put_out and notes is not None:
        notes.append(note("excluded_readings", n=put_out))
    labels = {i: s.label for i, s in snapshot.settings.items()} | {0: "no setting"}
    if lens.setting is not None and lens.setting in {
        s.label for s in snapshot.catalogue.settings_of(instrument.id)
    }:
        wanted &= np.isin(c.setting, [i for i, label in labels.items() if label == lens.setting])
    if not may_be_shown(snapshot, c.client[wanted], metric):
        return np.empty(0, dtype=np.int64)
    present = sorted({labels[int(s)] for s in np.unique(c.setting[wanted])})
    if len(present) > 1 and notes is not None:
        notes.append(note("settings_pooled", settings=tuple(present)))
    return np.flatnonzero(wanted)


def series_of(c: Columns, rows: Ints) -> Series:
    """Means of the readings at ``rows`` by visit and setting, in the order of client and time."""
    key = c.visit[rows] * (int(c.setting.max(initial=0)) + 1) + c.setting[rows]
    _, first, cell, size = np.unique(
        key, return_index=True, return_inverse=True, return_counts=True
    )
    at = rows[first]
    instant = np.bincount(cell, c.instant[rows], minlength=size.size) / np.maximum(size, 1)
    mean = np.bincount(cell, c.value[rows], minlength=size.size) / np.maximum(size, 1)
    order = np.lexsort((instant, c.setting[at], c.client[at]))
    return Series(
        visit=read_only(c.visit[at][order], np.int64),
        client=read_only(c.client[at][order], np.int64),
        setting=read_only(c.setting[at][order], np.int64),
        instant=read_only(instant[order], np.float64),
        day=read_only(c.day[at][order], np.int64),
        mean=read_only(mean[order], np.float64),
        size=read_only(size[order], np.int64),
    )


def instrument_asked(snapshot: Snapshot, name: str) -> Instrument:
    """The instrument of a question. Raises CannotCompare for a name that nothing has."""
    item = snapshot.instrument_named(name)
    if item is None:
        raise CannotCompare(f'no instrument is called "{name}"')
    return item
