"""Frozen edits. Each validates, writes in one transaction, and returns its inverse and the metrics it touched."""

from __future__ import annotations

import json
import sqlite3
from dataclasses import dataclass
from datetime import datetime
from typing import Protocol

from ..domain.errors import UserError
from ..domain.metrics import Metric, metric_named
from ..domain.records import CalibrationRecord, ImportRow
from ..domain.units import parse_quantity
from .importing import Created, check, insert
from .open_file import StudyError, transaction


class EditRefused(UserError):
    """An edit that cannot be made; nothing was changed."""


class Command(Protocol):
    """An edit of the study."""

    @property
    def words(self) -> str:
        """What the edit does, for undo."""

    def apply(self, conn: sqlite3.Connection) -> tuple[Command, frozenset[str]]:
        """Write inside the caller's transaction."""


def run(conn: sqlite3.Connection, command: Command) -> tuple[Command, frozenset[str]]:
    """Apply one command in one transaction."""
    try:
        with transaction(conn):
            return command.apply(conn)
    except sqlite3.IntegrityError as error:
        raise EditRefused(f"{command.words}: refused by the study file ({error}); nothing was changed") from error
    except sqlite3.OperationalError as error:
        raise StudyError(f"{command.words}: the study cannot be written ({error}); nothing was changed") from error


def _now() -> str:
    return datetime.now().astimezone().isoformat(timespec="seconds")


def _metric(name: str) -> Metric:
    found = metric_named(name)
    if found is None:
        raise EditRefused(f"metric {name} is not known; nothing was changed")
    return found


@dataclass(frozen=True, slots=True)
class ImportReadings:
    """Take in parsed rows: all of them, or none."""

    rows: tuple[ImportRow, ...]
    source: str

    @property
    def words(self) -> str:
        """What the edit does."""
        return f"import {self.source}"

    def apply(self, conn: sqlite3.Connection) -> tuple[Command, frozenset[str]]:
        """Insert what is new; a row that contradicts the study refuses the whole."""
        found = check(conn, self.rows)
        if found.refused:
            r = found.refused[0]
            raise EditRefused(f"{self.source}, line {r.line}, {r.column}: {r.reason}; nothing was imported")
        made = insert(conn, found.new, self.source)
        return _TakeBack(made, self), frozenset(r.metric for r in found.new)


@dataclass(frozen=True, slots=True)
class _TakeBack:
    """Remove what an entry or import made."""

    made: Created
    again: ImportReadings

    @property
    def words(self) -> str:
        """What the edit does."""
        return self.again.words

    def apply(self, conn: sqlite3.Connection) -> tuple[Command, frozenset[str]]:
        """Delete the rows made, newest first."""
        metrics = frozenset(r.metric for r in self.again.rows)
        conn.executemany("DELETE FROM reading WHERE id = ?", [(i,) for i in self.made.readings])
        conn.executemany("DELETE FROM condition WHERE visit = ?", [(i,) for i in self.made.visits])
        for table, ids in (
            ("visit", self.made.visits),
            ("setting", self.made.settings),
            ("instrument", self.made.instruments),
            ("client", self.made.clients),
        ):
            conn.executemany(f"DELETE FROM {table} WHERE id = ?", [(i,) for i in ids])  # noqa: S608  (fixed names)
        return self.again, metrics


def add_reading(
    *,
    client: str,
    taken_at: str,
    instrument: str,
    kind: str,
    metric: str,
    typed: str | None,
    replicate: int,
    setting: str = "",
    note: str = "",
) -> ImportReadings:
    """One reading typed at the bench; ``typed`` None is a failed reading."""
    m = _metric(metric)
    if typed is None:
        row = ImportRow(
            0, client, "", None, None, taken_at, instrument, kind, setting, metric, None, "", m.unit, replicate, "failed", note
        )
    else:
        q = parse_quantity(typed, m)
        row = ImportRow(
            0,
            client,
            "",
            None,
            None,
            taken_at,
            instrument,
            kind,
            setting,
            metric,
            q.value,
            q.entered,
            q.unit,
            replicate,
            "ok",
            note,
        )
    return ImportReadings((row,), "bench")


@dataclass(frozen=True, slots=True)
class ReadingState:
    """What can be changed of a reading."""

    value: float | None
    entered: str
    unit: str
    status: str
    note: str


@dataclass(frozen=True, slots=True)
class SetReading:
    """Change a reading's value or status, with the reason; the history keeps both states."""

    reading: int
    state: ReadingState
    why: str
    who: str = ""

    @property
    def words(self) -> str:
        """What the edit does."""
        return {"excluded": "exclude a reading", "failed": "mark a reading failed"}.get(self.state.status, "change a reading")

    def apply(self, conn: sqlite3.Connection) -> tuple[Command, frozenset[str]]:
        """Write the state and the history row."""
        row = conn.execute(
            "SELECT value, entered, unit, status, note, metric FROM reading WHERE id = ?", (self.reading,)
        ).fetchone()
        if row is None:
            raise EditRefused("that reading is no longer in the study; nothing was changed")
        old, s = ReadingState(*row[:5]), self.state
        conn.execute(
            "UPDATE reading SET value = ?, entered = ?, unit = ?, status = ?, note = ? WHERE id = ?",
            (s.value, s.entered, s.unit, s.status, s.note, self.reading),
        )
        conn.execute(
            "INSERT INTO reading_change (reading, at, who, old, new, why) VALUES (?, ?, ?, ?, ?, ?)",
            (self.reading, _now(), self.who, _state_text(old), _state_text(s), self.why),
        )
        return SetReading(self.reading, old, f"undo: {self.why}", self.who), frozenset([row[5]])


def _state_text(s: ReadingState) -> str:
    return json.dumps({"value": s.value, "entered": s.entered, "unit": s.unit, "status": s.status, "note": s.note})


def _state(conn: sqlite3.Connection, reading: int) -> tuple[ReadingState, str]:
    row = conn.execute("SELECT value, entered, unit, status, note, metric FROM reading WHERE id = ?", (reading,)).fetchone()
    if row is None:
        raise EditRefused("that reading is no longer in the study; nothing was changed")
    return ReadingState(*row[:5]), row[5]


def correct_reading(conn: sqlite3.Connection, reading: int, typed: str | None, why: str) -> SetReading:
    """A new value for a reading (None: failed)."""
    old, metric = _state(conn, reading)
    if typed is None:
        return SetReading(reading, ReadingState(None, "", old.unit, "failed", old.note), why)
    q = parse_quantity(typed, _metric(metric), old.unit)
    return SetReading(reading, ReadingState(q.value, q.entered, q.unit, "ok", old.note if old.status == "ok" else ""), why)


def exclude_reading(conn: sqlite3.Connection, reading: int, reason: str) -> SetReading:
    """Exclude a reading; the reason is required and kept."""
    if not reason.strip():
        raise EditRefused("an exclusion needs a reason; nothing was changed")
    old, _ = _state(conn, reading)
    if old.value is None:
        raise EditRefused("a failed reading has nothing to exclude; nothing was changed")
    return SetReading(reading, ReadingState(old.value, old.entered, old.unit, "excluded", reason.strip()), reason.strip())


def put_back(conn: sqlite3.Connection, reading: int) -> SetReading:
    """Take an excluded reading back in."""
    old, _ = _state(conn, reading)
    return SetReading(reading, ReadingState(old.value, old.entered, old.unit, "ok", ""), "put back")


@dataclass(frozen=True, slots=True)
class AdoptCalibration:
    """Write an adopted calibration as the next version; what it supersedes stays."""

    record: CalibrationRecord
    kind: str
    equation: str = ""

    @property
    def words(self) -> str:
        """What the edit does."""
        return f"adopt the offset of {self.record.instrument}"

    def apply(self, conn: sqlite3.Connection) -> tuple[Command, frozenset[str]]:
        """Insert the record (and the method's instrument row when it has none yet)."""
        r = self.record
        row = conn.execute("SELECT id FROM instrument WHERE name = ?", (r.instrument,)).fetchone()
        instrument = (
            row[0]
            if row
            else conn.execute(
                "INSERT INTO instrument (name, kind, equation) VALUES (?, ?, ?)", (r.instrument, self.kind, self.equation)
            ).lastrowid
        )
        version = conn.execute(
            "SELECT ifnull(max(version), 0) + 1 FROM calibration WHERE instrument = ? AND metric = ? AND setting = ?",
            (instrument, r.metric, r.setting),
        ).fetchone()[0]
        parameters = json.dumps({"pooled": r.pooled, "clients": r.clients, "readings": r.readings})
        number = conn.execute(
            "INSERT INTO calibration (instrument, metric, setting, reference, model, parameters, range_low, range_high, pairs,"
            " clients, fitted_at, valid_until, version, digest) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (
                instrument,
                r.metric,
                r.setting,
                r.reference,
                r.model,
                parameters,
                r.range_low,
                r.range_high,
                r.pairs,
                r.client_count,
                r.fitted_at,
                r.valid_until,
                version,
                r.digest,
            ),
        ).lastrowid
        return _MarkCalibration(int(number or 0), "withdrawn"), frozenset()


@dataclass(frozen=True, slots=True)
class _MarkCalibration:
    """Withdraw or reinstate an adopted calibration; the record itself is never edited."""

    calibration: int
    kind: str

    @property
    def words(self) -> str:
        """What the edit does."""
        return "adopt an offset"

    def apply(self, conn: sqlite3.Connection) -> tuple[Command, frozenset[str]]:
        """Write the mark."""
        conn.execute(
            "INSERT INTO calibration_mark (calibration, at, kind) VALUES (?, ?, ?)", (self.calibration, _now(), self.kind)
        )
        return _MarkCalibration(self.calibration, "reinstated" if self.kind == "withdrawn" else "withdrawn"), frozenset()


def calibrations_in_force(conn: sqlite3.Connection) -> list[CalibrationRecord]:
    """The newest calibration that is not withdrawn, for each instrument, metric and setting."""
    rows = conn.execute(
        "SELECT k.id, i.name, k.metric, k.setting, k.reference, k.model, k.parameters, k.range_low, k.range_high, k.pairs, k.clients,"
        " k.fitted_at, k.valid_until, k.version, k.digest FROM calibration k JOIN instrument i ON i.id = k.instrument"
        " WHERE ifnull((SELECT kind FROM calibration_mark m WHERE m.calibration = k.id ORDER BY m.id DESC LIMIT 1), '') <> 'withdrawn'"
        " ORDER BY k.version"
    ).fetchall()
    latest: dict[tuple[str, str, str], CalibrationRecord] = {}
    for r in rows:
        p = json.loads(r[6])
        latest[r[1], r[2], r[3]] = CalibrationRecord(
            r[0],
            r[1],
            r[2],
            r[3],
            r[4],
            r[5],
            tuple(p["pooled"]),
            {k: tuple(v) for k, v in p["clients"].items()},
            tuple(p["readings"]),
            *r[7:],
        )
    return list(latest.values())
