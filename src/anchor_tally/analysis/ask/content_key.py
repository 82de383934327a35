"""Fingerprint of what a result about one instrument depends on.

An edit elsewhere does not compute it again.
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from ...domain.lens import Lens
from ...domain.records import Instrument
from ...domain.snapshot import Snapshot

_READ = (
    "instrument",
    "reading",
    "visit",
    "client",
    "setting",
    "instant",
    "day",
    "timed",
    "replicate",
    "status",
    "value",
)


ContentKey = tuple[str | int, ...]


def content_key(
    snapshot: Snapshot, lens: Lens, items: Iterable[Instrument], *beside: object
) -> ContentKey:
    """Fingerprint of the readings of ``items``, of the lens and of all other inputs.

    ``beside`` is what else was asked; its text must differ.
    """
    there = tuple(items)
    numbers = sorted({i.id for i in there})
    catalogue = snapshot.catalogue
    told = (
        lens,
        there,
        catalogue.gap,
        catalogue.zone,
        sorted((k, v) for k, v in catalogue.stated.items() if k[0] == lens.metric),
        [s for n in numbers for s in catalogue.settings_of(n)],
        [(i, c.code) for i, c in snapshot.clients.items()],
        [(n, snapshot.outside[n].tolist()) for n in numbers if n in snapshot.outside],
        [(n, snapshot.landmarks[n]) for n in numbers if n in snapshot.landmarks],
        beside,
    )
    c = snapshot.columns.get(lens.metric)
    if c is None:
        return (repr(told),)
    rows = np.flatnonzero(np.isin(c.instrument, numbers))
    # by the language's own keyed hash, 64 bits a column: it holds within one run, and is six times
    # as fast as a digest
    # a value of an equation may be the same though the readings behind it are others
    parts = hash(c.parts) if any(i.equation for i in there) else 0
    return (repr(told), parts, *(hash(getattr(c, name)[rows].tobytes()) for name in _READ))
