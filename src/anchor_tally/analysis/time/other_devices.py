"""Drift of a device beside the others, visit by visit.

Weaker evidence than scans, since the other devices may drift as well.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...domain.lens import Lens
from ...domain.records import Instrument
from ...domain.snapshot import Floats, Ints, Snapshot
from ...stats.estimate import Estimate
from ...stats.time_slope import summary_slopes
from ..pairs.offset_drift import WEEK
from ..pairs.series import Series, rows_of_instrument, series_of

_LEAST_DEVICES = 3


def slope_beside_others(
    snapshot: Snapshot, lens: Lens, item: Instrument, moving: Sequence[Instrument] = ()
) -> tuple[Estimate, float, int] | None:
    """Slope per week of a device on the median of the other devices within clients.

    With its p-value and the number of clients.

    Those that are ``moving`` are no witnesses: the median of few is pulled by one that drifts. A
    client's visits are cut where any device, in any of its settings, begins or ends with that
    client. Within such a stretch the same devices are there, and each is taken as its departure
    from its own mean of the stretch: so what the client changes is in all of them alike, and a
    device or setting that comes and goes makes no jump.
    """
    c = snapshot.columns.get(lens.metric)
    if c is None or item.equation:
        return None
    everyone = Lens(lens.metric, clients=lens.clients)
    devices = [
        i
        for i in snapshot.instruments.values()
        if i.kind == "device" and not i.equation and i not in moving
    ]
    if item not in devices or len(devices) < _LEAST_DEVICES:
        return None
    all_ = [
        series_of(
            c, rows_of_instrument(snapshot, everyone if i is not item else lens, i, lens.metric)
        )
        for i in devices
    ]
    own = all_.pop(devices.index(item))
    if not own.n or not any(part.n for part in all_):
        return None
    order = _order_of_visits([own, *all_])
    cuts = _cuts([own, *all_], order)
    parts = [_departures(part, _stretches(part, order, cuts)) for part in all_ if part.n]
    visits, departures = (np.concatenate(x) for x in zip(*parts, strict=True))
    if not visits.size:
        return None
    seen, cell, size = np.unique(visits, return_inverse=True, return_counts=True)
    others = _medians(
        cell, departures, size
    )  # one device that drifts does not carry the others away
    place = np.minimum(np.searchsorted(seen, own.visit), seen.size - 1)
    there = (seen[place] == own.visit) & (size[place] >= _LEAST_DEVICES - 1)
    stretch = _stretches(own, order, cuts)[there]
    found = summary_slopes(
        own.mean[there] - others[place[there]],
        own.client[there],
        own.instant[there] / WEEK,
        block=stretch,
    )
    return None if found is None else (*found, int(np.unique(own.client[there]).size))


def _order_of_visits(parts: Sequence[Series]) -> Ints:
    """Index of each visit in the order of client and time (−1 where it is absent)."""
    visit, client, instant = (
        np.concatenate([getattr(p, name) for p in parts]) for name in ("visit", "client", "instant")
    )
    seen, first = np.unique(visit[np.lexsort((instant, visit))], return_index=True)
    at = np.lexsort((instant, visit))[first]
    place = np.full(int(visit.max()) + 1, -1, dtype=np.int64)
    place[seen[np.lexsort((instant[at], client[at]))]] = np.arange(seen.size)
    return place


def _by_setting(part: Series) -> Ints:
    """A number for each client and setting."""
    return part.client * (int(part.setting.max(initial=0)) + 1) + part.setting


def _cuts(parts: Sequence[Series], order: Ints) -> Ints:
    """Visits at which a device in one setting begins with a client, and those after it ends."""
    out = []
    for part in parts:
        if part.n:
            place, key = order[part.visit], _by_setting(part)
            by = np.lexsort((place, key))
            _, first, size = np.unique(key[by], return_index=True, return_counts=True)
            out += [place[by][first], place[by][first + size - 1] + 1]
    return np.unique(np.concatenate(out))


def _stretches(part: Series, order: Ints, cuts: Ints) -> Ints:
    """The stretch of each tally: tallies of one client and setting with no cut between them."""
    at = np.searchsorted(cuts, order[part.visit], side="right")
    settings = int(part.setting.max(initial=0)) + 1
    return np.asarray(
        np.unique(at * settings + part.setting, return_inverse=True)[1], dtype=np.int64
    )


def _departures(part: Series, stretch: Ints) -> tuple[Ints, Floats]:
    """Visits and departures from the mean of the stretch.

    Nothing of a tally that is alone in it.
    """
    size = np.bincount(stretch)
    together = size[stretch] > 1
    return (
        part.visit[together],
        (part.mean - (np.bincount(stretch, part.mean) / size)[stretch])[together],
    )


def _medians(cell: Ints, value: Floats, size: Ints) -> Floats:
    """The median of each cell, (cells,)."""
    ordered = value[np.lexsort((value, cell))]
    start = np.cumsum(size) - size
    return np.asarray(
        (ordered[start + (size - 1) // 2] + ordered[start + size // 2]) / 2, dtype=float
    )
