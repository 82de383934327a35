"""Days of one client with one instrument: raw, corrected, and corrected for water."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date

import numpy as np
import numpy.typing as npt

from ...domain.calibrations import CalibrationRecord
from ...domain.lens import Lens
from ...domain.records import Client, Instrument
from ...domain.snapshot import Columns, Floats, Ints, Snapshot, read_only
from ...domain.steps import finish
from ...stats.estimate import Estimate, FrozenArrays, Note
from ...stats.offsets import day_to_day
from ...stats.one_client import OWN_DAYS, Noise, WeekMeans, noise_of, week_means
from ...stats.within_clients import centred
from ..agreement.hydration import FAT, WATER, HydrationRequest
from ..offsets.record import correct_series, record_for
from ..pairs.comparator import CannotCompare, find_comparator
from ..pairs.offset_drift import OffsetDrift
from ..pairs.reference_slopes import shows_too_little
from ..pairs.series import rows_of_instrument, series_of
from .device_slopes import device_slopes

_EPOCH = date(1970, 1, 1).toordinal()


@dataclass(frozen=True, eq=False)
class Days(FrozenArrays):
    """Daily means, shape (n,), in the order of time.

    ``day`` is the ordinal of the date; ``setting`` and ``visit`` are those of the first set
    of the day.
    """

    day: Ints
    value: Floats
    setting: Ints
    visit: Ints


@dataclass(frozen=True, eq=False)
class TrackSeries(FrozenArrays):
    """Days of a client with one instrument, shape (n,).

    Raw and corrected daily means with the prediction interval, and weekly means.

    ``corrected`` shows where there is a correction. ``follows`` is the slope of the device on
    the scan within clients, ``moved`` that of its difference through time, of all clients (None:
    not known).
    """

    instrument: Instrument
    day: Ints
    raw: Floats
    value: Floats
    low: Floats
    high: Floats
    corrected: npt.NDArray[np.bool_]
    setting: Ints
    week: WeekMeans
    noise: Noise | None
    follows: Estimate | None
    moved: OffsetDrift | None
    version: int
    notes: tuple[Note, ...]

    @property
    def counts(self) -> bool:
        """Whether it may be used for change."""
        return not shows_too_little(self.follows)


def days_of(c: Columns, rows: Ints) -> Days:
    """Means of the tallies of each day; readings of two settings on one day stay apart."""
    settings = int(c.setting.max(initial=0)) + 1
    _, first, cell = np.unique(
        c.visit[rows] * settings + c.setting[rows], return_index=True, return_inverse=True
    )
    tally = np.bincount(cell, c.value[rows]) / np.bincount(cell)
    at = rows[first]
    key, start, back = np.unique(
        c.day[at] * settings + c.setting[at], return_index=True, return_inverse=True
    )
    value = np.bincount(back, tally) / np.bincount(back) if key.size else np.empty(0)
    return Days(
        day=read_only(key // settings + _EPOCH, np.int64),
        value=value,
        setting=read_only(c.setting[at][start], np.int64),
        visit=read_only(c.visit[at][start], np.int64),
    )


def client_days(
    snapshot: Snapshot, item: Instrument, metric: str, client: Client, setting: str | None = None
) -> Days | None:
    """The days of a client with an instrument; None without readings."""
    c = snapshot.columns.get(metric)
    if c is None:
        return None
    rows = rows_of_instrument(
        snapshot, Lens(metric, clients=frozenset({client.code}), setting=setting), item, metric
    )
    return days_of(c, rows) if rows.size else None


def track_series(
    snapshot: Snapshot,
    counted: Snapshot,
    lens: Lens,
    item: Instrument,
    client: Client,
    records: Iterable[CalibrationRecord],
    stale: frozenset[int],
    water: str,
) -> tuple[TrackSeries | None, bool]:
    """The series, and whether a correction by water is to be had for it.

    Each setting is corrected by its own calibration. ``counted`` is the study without the readings
    that wait; slopes of all clients are those of Drift, which counts them.
    """
    days = client_days(counted, item, lens.metric, client, lens.setting)
    if days is None:
        return None, False
    labels, kept, notes, version = (
        {0: ""} | {i: s.label for i, s in snapshot.settings.items()},
        tuple(records),
        list[Note](),
        0,
    )
    value, low, high = (days.value.copy() for _ in range(3))
    known = np.zeros(days.day.size, dtype=bool)
    for number in np.unique(days.setting).tolist():
        at = np.flatnonzero(days.setting == number)
        record = record_for(kept, item.name, lens.metric, labels[number])
        texts = [date.fromordinal(d).isoformat() for d in days.day[at].tolist()]
        is_stale = record is not None and record.id in stale
        fixed = correct_series(
            record, client.code, days.value[at], texts, [labels[number]] * at.size, stale=is_stale
        )
        value[at], low[at], high[at], known[at] = fixed.value, fixed.low, fixed.high, fixed.known
        notes += fixed.notes
        if record is not None and fixed.known.any():
            version = max(version, record.version)
    moved, offered = _by_water(snapshot, lens, item, client, days.visit, water)
    value, low, high = value + moved, low + moved, high + moved
    noise = _noise(counted, lens, item, days.day, value, None if known.all() else days.setting)
    following, moving = _of_everyone(snapshot, lens, item)
    return (
        TrackSeries(
            instrument=item,
            day=days.day,
            raw=days.value,
            value=value,
            low=low,
            high=high,
            corrected=known,
            setting=days.setting,
            week=week_means(days.day, value, noise),
            noise=noise,
            follows=following,
            moved=moving,
            version=version,
            notes=tuple(dict.fromkeys(notes)),
        ),
        offered,
    )


def _noise(
    snapshot: Snapshot,
    lens: Lens,
    item: Instrument,
    day: Ints,
    value: Floats,
    settings_of: Ints | None,
) -> Noise | None:
    """The client's own noise, within the settings where values are not corrected.

    With few days that of all clients with this device.
    """
    own = noise_of(day, value, settings_of)
    if own is not None and day.size >= OWN_DAYS:
        return own
    everyone = series_of(
        snapshot.columns[lens.metric],
        rows_of_instrument(snapshot, Lens(lens.metric), item, lens.metric),
    )
    settings = int(everyone.setting.max(initial=0)) + 1
    found = day_to_day(everyone.mean, everyone.client * settings + everyone.setting, everyone.day)
    return own if found is None else Noise(found[0], found[1], own=False)


def _of_everyone(
    snapshot: Snapshot, lens: Lens, item: Instrument
) -> tuple[Estimate | None, OffsetDrift | None]:
    """Slopes from the scans of all clients.

    The device on the scan within clients, and its difference through time.
    """
    try:
        reference = find_comparator(snapshot, lens)
    except CannotCompare:
        return None, None
    if reference.kind != "reference":
        return None, None
    found = device_slopes(snapshot, lens, item, reference)
    return found.follows, found.moved


def _by_water(
    snapshot: Snapshot, lens: Lens, item: Instrument, client: Client, visits: Ints, how: str
) -> tuple[Floats, bool]:
    """What a correction by water adds at each visit.

    And whether one is offered: never where fat and water are one number.
    """
    none = np.zeros(visits.size)
    if lens.metric != FAT or WATER not in snapshot.columns or item.kind != "device":
        return none, False
    try:
        found = finish(HydrationRequest(snapshot, Lens(FAT), item.name).run())[0]
    except CannotCompare:
        return none, False
    own = found.client == client.id
    if found.circular or not own.any() or (how == "slope" and found.slope is None):
        return none, False
    if how == "off":
        return none, True
    per_point = (
        1.0 if how == "rule" else -found.slope.slope.value if found.slope is not None else 0.0
    )
    seen, water = found.visit[own], centred(found.water, found.within)[own]
    order = np.argsort(seen)
    place = np.minimum(np.searchsorted(seen[order], visits), seen.size - 1)
    there = seen[order][place] == visits
    return np.asarray(np.where(there, per_point * water[order][place], 0.0), dtype=float), True
