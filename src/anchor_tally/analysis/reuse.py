"""What an answer about one instrument stands on, as a fingerprint: an edit elsewhere does not compute it anew."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable

import numpy as np

from ..domain.lens import Lens
from ..domain.records import Instrument
from ..domain.snapshot import Snapshot

_READ = ("reading", "visit", "client", "setting", "instant", "day", "timed", "replicate", "status", "value")


def content_key(snapshot: Snapshot, lens: Lens, items: Iterable[Instrument], *beside: object) -> bytes:
    """Fingerprint of the readings of ``items`` in the lens' metric, of the lens, and of all else that such an answer hangs on.

    ``beside`` is what else was asked; its text must tell it apart.
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
    h = hashlib.blake2b(repr(told).encode(), digest_size=16)
    c = snapshot.columns.get(lens.metric)
    if c is not None:
        rows = np.flatnonzero(np.isin(c.instrument, numbers))
        h.update(np.ascontiguousarray(c.instrument[rows]).tobytes())
        for name in _READ:
            h.update(np.ascontiguousarray(getattr(c, name)[rows]).tobytes())
    return h.digest()
