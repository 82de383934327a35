"""Frozen edits. Each validates, writes in one transaction, and returns its inverse and the metrics it touched."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Generator
from dataclasses import dataclass
from datetime import datetime
from itertools import count
from typing import Any, Protocol

from ..domain.errors import UserError
from ..domain.metrics import Metric, metric_named
from ..domain.records import CalibrationRecord, ImportRow
from ..domain.steps import finish
from ..domain.units import parse_quantity
from .importing import Created, take
from .open_file import StudyError, transaction
from .staging import Staged, stage

_kept = count(1)


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

    def once() -> Generator[float, None, tuple[Command, frozenset[str]]]:
        yield 0.0
        return command.apply(conn)

    return finish(_guarded(conn, command.words, once()))


def run_steps(conn: sqlite3.Connection, command: TakeStaged) -> Generator[float, None, tuple[Command, frozenset[str]]]:
    """Apply a long command in one transaction, in steps; closing the generator takes everything back."""
    return (yield from _guarded(conn, command.words, command.steps(conn)))


def _guarded(
    conn: sqlite3.Connection, words: str, steps: Generator[float, None, tuple[Command, frozenset[str]]]
) -> Generator[float, None, tuple[Command, frozenset[str]]]:
    """Run steps in one transaction, with what the file refuses turned into a sentence."""
    try:
        with transaction(conn):
            return (yield from steps)
    except sqlite3.IntegrityError as error:
        raise EditRefused(f"{words}: refused by the study file ({error}); nothing was changed") from error
    except sqlite3.OperationalError as error:
        raise StudyError(f"{words}: the study cannot be written ({error}); nothing was changed") from error


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
        staged = finish(stage(conn, self.rows))
        if staged.refused:
            r = staged.refused[0]
            raise EditRefused(f"{self.source}, line {r.line}, {r.column}: {r.reason}; nothing was imported")
        return TakeStaged(staged, self.source).apply(conn)


@dataclass(frozen=True, slots=True)
class TakeStaged:
    """Take in what was staged."""

    staged: Staged
    source: str

    @property
    def words(self) -> str:
        """What the edit does."""
        return f"import {self.source}"

    def apply(self, conn: sqlite3.Connection) -> tuple[Command, frozenset[str]]:
        """Write all staged rows."""
        return finish(self.steps(conn))

    def steps(self, conn: sqlite3.Connection) -> Generator[float, None, tuple[Command, frozenset[str]]]:
        """Write in slices inside the caller's transaction; yields the share done."""
        made = yield from take(conn, self.staged, self.source)
        return _TakeBack(made, self.words), made.metrics


@dataclass(frozen=True, slots=True)
class _TakeBack:
    """Remove what an entry or import made, keeping it aside for a redo."""

    made: Created
    words: str

    def apply(self, conn: sqlite3.Connection) -> tuple[Command, frozenset[str]]:
        """Move the rows made into temporary tables."""
        number = next(_kept)
        for table, where, values in self.made.rows():
            # names are fixed and a number
            conn.execute(f"CREATE TEMP TABLE kept_{number}_{table} AS SELECT * FROM main.{table} WHERE {where}", values)  # noqa: S608
            conn.execute(f"DELETE FROM main.{table} WHERE {where}", values)  # noqa: S608
        return _TakeAgain(self.made, self.words, number), self.made.metrics


@dataclass(frozen=True, slots=True)
class _TakeAgain:
    """Put back what was taken back."""

    made: Created
    words: str
    number: int

    def apply(self, conn: sqlite3.Connection) -> tuple[Command, frozenset[str]]:
        """Move the rows back into the study, with their ids."""
        for table, _, _ in reversed(list(self.made.rows())):
            conn.execute(f"INSERT INTO main.{table} SELECT * FROM kept_{self.number}_{table}")  # noqa: S608
            conn.execute(f"DROP TABLE kept_{self.number}_{table}")
        return _TakeBack(self.made, self.words), self.made.metrics


def bench_row(
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
) -> ImportRow:
    """One reading made at the bench; ``typed`` None is a failed reading."""
    m = _metric(metric)
    q = None if typed is None else parse_quantity(typed, m)
    value, entered, unit = (None, "", m.unit) if q is None else (q.value, q.entered, q.unit)
    status = "failed" if q is None else "ok"
    return ImportRow(
        0, client, "", None, None, taken_at, instrument, kind, setting, metric, value, entered, unit, replicate, status, note
    )  # fmt: skip


def add_reading(**what: Any) -> ImportReadings:
    """One reading typed at the bench (arguments of ``bench_row``)."""
    return ImportReadings((bench_row(**what),), "bench")


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
