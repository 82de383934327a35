"""Adopted calibrations: their origin, their validity, and the correction of readings."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date

import numpy as np
import numpy.typing as npt

from ...domain.calibrations import FORM_0_EQUATIONS, CalibrationRecord
from ...domain.snapshot import Columns, Floats, Ints, Snapshot
from ...stats.estimate import FrozenArrays, Interval, Note, note


def rows_of(snapshot: Snapshot, metric: str, readings: Iterable[int]) -> Ints:
    """Rows of stored readings."""
    return np.flatnonzero(
        np.isin(snapshot.columns[metric].reading, np.fromiter(readings, np.int64))
    )


def rows_named(snapshot: Snapshot, c: Columns, sources: Sequence[str]) -> Ints:
    """Rows of the readings that a record names."""
    mask = np.isin(c.reading, [int(s) for s in sources if "@" not in s])
    computed: dict[str, list[int]] = {}
    for equation, _, visit in (s.partition("@") for s in sources if "@" in s):
        computed.setdefault(equation, []).append(int(visit))
    for equation, visits in computed.items():
        items = [i.id for i in snapshot.instruments.values() if i.equation == equation]
        mask |= (c.reading < 0) & np.isin(c.instrument, items) & np.isin(c.visit, visits)
    return np.flatnonzero(mask)


def source_names(snapshot: Snapshot, c: Columns, rows: Ints) -> npt.NDArray[np.str_]:
    """Permanent keys of readings: the stored number, or ``equation@visit`` of a computed value."""
    names = c.reading[rows].astype(np.str_).astype(object)
    for item in np.unique(c.instrument[rows[c.reading[rows] < 0]]):
        at = np.flatnonzero((c.reading[rows] < 0) & (c.instrument[rows] == item))
        names[at] = f"{snapshot.instruments[int(item)].equation}@" + c.visit[rows[at]].astype(
            np.str_
        ).astype(object)
    return names.astype(np.str_)


def fingerprint(
    snapshot: Snapshot, metric: str, rows: Ints, form: int = 2
) -> tuple[tuple[str, ...], str]:
    """Names of readings and a fingerprint of their values and states.

    Form 0 is that of the first records, over numbers that hung on the order of the equations; it
    is kept to see whether one of those is stale.
    """
    c = snapshot.columns[metric]
    names = source_names(snapshot, c, rows)
    h = hashlib.sha256()
    if form == 0:
        numbers = np.array([_form_0(name) for name in names.tolist()], dtype=np.int64)
        order = np.argsort(numbers)
        h.update(numbers[order].tobytes())
    else:
        order = np.argsort(names)
        h.update("\n".join(names[order].tolist()).encode())
    for array in (c.value, c.status):
        h.update(np.ascontiguousarray(array[rows[order]]).tobytes())
    return tuple(names[order].tolist()), h.hexdigest()[:16]


def _form_0(name: str) -> int:
    """The number by which a first record knew a reading."""
    equation, _, visit = name.partition("@")
    return (
        int(name)
        if not visit
        else -((FORM_0_EQUATIONS.index(equation) + 1) * 10_000_000 + int(visit))
    )


def is_stale(record: CalibrationRecord, snapshot: Snapshot) -> bool:
    """Whether a reading behind a record has changed since.

    ``snapshot`` needs those readings only.
    """
    c = snapshot.columns.get(record.metric)
    if c is None:
        return True
    names, digest = fingerprint(
        snapshot, record.metric, rows_named(snapshot, c, record.sources), record.form
    )
    return set(names) != set(record.sources) or digest != record.digest


def record_for(
    records: Sequence[CalibrationRecord], instrument: str, metric: str, setting: str
) -> CalibrationRecord | None:
    """The calibration in force for a reading: that of its setting.

    Without one the newest of the instrument, to say what is missing.
    """
    own = [r for r in records if (r.instrument, r.metric) == (instrument, metric)]
    return next((r for r in own if serves_setting(r, setting)), own[-1] if own else None)


def serves_setting(record: CalibrationRecord, setting: str) -> bool:
    """Whether a record was made from readings of a setting.

    Its own setting, or any of those that were pooled in it.
    """
    return setting == record.setting or (not record.setting and setting in record.made_of.settings)


@dataclass(frozen=True, slots=True)
class Corrected:
    """A corrected reading with its 95 % prediction interval and the notes on it.

    ``value`` and ``interval`` are None where the record does not serve this client or this
    setting; ``notes`` state why.
    """

    value: float | None
    interval: Interval | None
    version: int
    notes: tuple[Note, ...]


def correct(
    record: CalibrationRecord,
    client: str,
    value: float,
    day: str,
    setting: str,
    *,
    stale: bool = False,
) -> Corrected:
    """Correct one reading: reading − offset, with the interval of a new difference.

    Parameters
    ----------
    record : CalibrationRecord
        The adopted calibration.
    client : str
        Code of the client.
    value : float
        The reading, in the metric's unit.
    day : str
        ISO date of the reading.
    setting : str
        Label of the setting under which it was taken.
    stale : bool
        What ``is_stale`` says of the record.

    Returns
    -------
    Corrected
        Without a value where the record does not serve this client or this setting; a note says
        why.
    """
    if not serves_setting(record, setting):
        used, calibrated = (
            setting or "none",
            record.setting or ", ".join(s for s in record.made_of.settings if s) or "none",
        )
        return Corrected(
            None, None, record.version, (note("other_setting", used=used, calibrated=calibrated),)
        )
    found = _corrected(record, client, np.array([value], dtype=float), (day,))
    if found is None:
        return Corrected(
            None,
            None,
            record.version,
            (note("not_for_others", clients=tuple(sorted(record.clients))),),
        )
    fixed, low, high = (float(x[0]) for x in found)
    return Corrected(
        fixed, Interval(low, high), record.version, _notes(record, client, value, day, stale=stale)
    )


def _notes(
    record: CalibrationRecord, client: str, value: float, day: str, *, stale: bool
) -> tuple[Note, ...]:
    """What is to be kept in mind of a corrected reading."""
    made, own = record.made_of, client in record.clients
    notes: list[Note] = []
    if not record.range_low <= value <= record.range_high:
        notes.append(note("outside_range", low=record.range_low, high=record.range_high))
    if day[:10] > record.valid_until:
        until = record.valid_until
        if made.drift is not None and made.drift_from:
            notes.append(note("expired_growing", until=until))
        else:
            notes.append(note("expired", until=until))
    if not own and (record.clients or client not in made.clients):
        notes.append(note("new_client"))
    if made.comparator != "reference":
        notes.append(note("provisional_by_method", method=record.reference))
    elif made.provisional and own:
        notes.append(note("provisional"))
    if made.drifts:
        notes.append(note("grown"))
    if made.reason:
        notes.append(note("against_advice"))
    if stale:
        notes.append(note("stale"))
    return tuple(notes)


def _corrected(
    record: CalibrationRecord, client: str, value: Floats, day: Sequence[str]
) -> tuple[Floats, Floats, Floats] | None:
    """Corrected values (n,) of one client with the ends of their intervals.

    None where the record does not serve the client.

    A new difference lies so many weeks from where the offset holds; under a shown drift its
    interval grows from there. Without one it grows from the end of the validity, by the drift that
    the scans do not rule out.
    """
    own = record.clients.get(client)
    ends = own[:3] if own else record.pooled
    at, half = value, np.zeros(value.size)
    if record.line is not None:
        at = record.line.reference(value)
        if own is None:
            ends, half = (0.0, 0.0, 0.0), record.line.half(value)
    if ends is None:
        return None
    offset, low, high = ends
    less = more = np.zeros(value.size)
    made = record.made_of
    if made.drift is not None and made.drift_from:
        start = date.fromisoformat(made.drift_from).toordinal()
        weeks = (np.array([date.fromisoformat(d[:10]).toordinal() for d in day]) - start) / 7
        weeks = weeks if made.drifts else np.maximum(weeks, 0.0)
        moved = np.array(made.drift)[:, None] * weeks
        less, more = np.minimum(moved.min(axis=0), 0.0), np.maximum(moved.max(axis=0), 0.0)
    return at - offset, at - high - half - more, at - low + half - less


@dataclass(frozen=True, eq=False)
class CorrectedSeries(FrozenArrays):
    """Readings of one client corrected together, (n,): NaN-free.

    ``known`` shows where there is a corrected value.

    ``value`` is the reading itself where there is none; ``low`` and ``high`` are its 95 %
    prediction interval.
    """

    value: Floats
    low: Floats
    high: Floats
    known: npt.NDArray[np.bool_]
    notes: tuple[Note, ...]


def correct_series(
    record: CalibrationRecord | None,
    client: str,
    value: Floats,
    day: Sequence[str],
    settings: Sequence[str],
    *,
    stale: bool,
) -> CorrectedSeries:
    """Correct many readings of one client at once.

    ``value`` has shape (n,); ``day`` and ``settings`` have length n.

    The notes name what holds of the last reading, or of the smallest one, each once.
    """
    known = np.zeros(value.size, dtype=bool)
    if record is None or not value.size:
        return CorrectedSeries(value.copy(), value.copy(), value.copy(), known, ())
    served = np.array([serves_setting(record, s) for s in settings])
    found = _corrected(record, client, value.astype(float), day) if served.any() else None
    if found is None:
        why = correct(record, client, float(value[0]), day[0], settings[0], stale=stale).notes
        return CorrectedSeries(value.copy(), value.copy(), value.copy(), known, why)
    last, least = (
        int(np.flatnonzero(served)[-1]),
        int(np.flatnonzero(served)[value[served].argmin()]),
    )
    notes = {
        n.code: n
        for k in {last, least}
        for n in _notes(record, client, float(value[k]), day[k], stale=stale)
    }
    fixed, low, high = (np.where(served, x, value) for x in found)
    return CorrectedSeries(fixed, low, high, served, tuple(notes.values()))
