"""Base of every edit: a journal that writes rows, keeps the previous rows, reports changes."""

from __future__ import annotations

import itertools
import json
import sqlite3
from collections.abc import Generator
from dataclasses import dataclass, replace
from typing import Any, Protocol

from ...domain.clock import SYSTEM, Clock
from ...domain.errors import UserError
from ...domain.steps import finish
from ..connection import StudyError, transaction, why
from ..facts import Fact, touched_by

Value = str | int | float | None
Row = dict[str, Value]
_kept = itertools.count(1)

# rows that have no meaning without the row they belong to, and go with it
_DEPENDENTS = {
    "reading": (("reading_change", "reading"),),
    "visit": (("condition", "visit"), ("visit_change", "visit"), ("attachment", "visit")),
    "scheme": (("planned_day", "scheme"),),
}
_STATE = {"reading": ("value", "entered", "unit", "status", "note"), "visit": ("client", "start")}
_KEYS = {
    "condition": ("visit", "key"),
    "instrument_metric": ("instrument", "metric"),
    "protocol_item": ("key",),
    "instrument_condition": ("instrument", "key"),
    "station": ("id",),
    "landmark": ("metric",),
    "decision": ("key",),
    "goal": ("client", "metric"),
    "stated": ("metric", "what"),
    "planned_day": ("scheme", "client", "due"),
}


class EditRefused(UserError):
    """An edit that cannot be made; nothing was changed."""


@dataclass(frozen=True, slots=True)
class Touched:
    """What an edit made stale: readings of ``metrics``, and other facts.

    With ``only_adds`` readings were only added.

    ``visit`` is the one visit whose readings were touched, None for several.
    """

    metrics: frozenset[str] = frozenset()
    facts: frozenset[Fact] = frozenset()
    only_adds: bool = True
    visit: int | None = None


class Edit(Protocol):
    """A frozen edit of the study."""

    @property
    def words(self) -> str:
        """What the edit does, for undo."""

    def write(self, journal: Journal) -> None:
        """Validate and write inside the caller's transaction."""


@dataclass(frozen=True, slots=True)
class Changed:
    """One row before and after; None where there was or is no row."""

    table: str
    key: tuple[tuple[str, Value], ...]
    before: tuple[tuple[str, Value], ...] | None
    after: tuple[tuple[str, Value], ...] | None


@dataclass(frozen=True, slots=True)
class Made:
    """Many rows made at once, picked by a condition; ``metrics`` when they are readings."""

    table: str
    where: str
    values: tuple[Value, ...]
    metrics: frozenset[str] = frozenset()


@dataclass(frozen=True, slots=True)
class PutAside:
    """Many rows taken out again, kept in a temporary table."""

    made: Made
    number: int


@dataclass(frozen=True, slots=True)
class Moved:
    """Many rows of which one column went from one value to another.

    Their numbers are kept in a temporary table.
    """

    table: str
    column: str
    before: Value
    after: Value
    number: int
    metrics: frozenset[str]


@dataclass(frozen=True, slots=True)
class Marked:
    """An adopted calibration that was withdrawn or reinstated."""

    calibration: int
    kind: str


Change = Changed | Made | PutAside | Moved | Marked


class Journal:
    """Writes rows and keeps what stood there.

    Names of tables and columns come from this package only.
    """

    def __init__(self, conn: sqlite3.Connection, clock: Clock = SYSTEM) -> None:
        self.conn, self.clock = conn, clock
        self.changes: list[Change] = []
        self._facts: set[Fact] = set()
        self._metrics: set[str] = set()
        self._visits: set[int | None] = set()
        self._only_adds = True

    # reading
    def rows(self, sql: str, *values: Value) -> list[tuple[Any, ...]]:
        """Rows of a query."""
        return self.conn.execute(sql, values).fetchall()

    def one(self, sql: str, *values: Value) -> tuple[Any, ...] | None:
        """The first row of a query."""
        return self.conn.execute(sql, values).fetchone()  # type: ignore[no-any-return]

    def row_at(self, table: str, key: Row) -> Row | None:
        """A whole row by its key."""
        where = " AND ".join(f"{c} = ?" for c in key)
        cursor = self.conn.execute(f"SELECT * FROM {table} WHERE {where}", tuple(key.values()))
        found = cursor.fetchone()
        return (
            None
            if found is None
            else dict(zip((d[0] for d in cursor.description), found, strict=True))
        )

    # writing
    def insert(self, table: str, row: Row) -> int:
        """Add a row; return its number (0 for a table without numbers)."""
        marks = ", ".join("?" * len(row))
        cursor = self.conn.execute(
            f"INSERT INTO {table} ({', '.join(row)}) VALUES ({marks})", tuple(row.values())
        )
        key: Row = (
            {c: row[c] for c in _KEYS[table]}
            if table in _KEYS
            else {"id": row.get("id", cursor.lastrowid)}
        )
        self._note(table, key, None, row)
        return int(cursor.lastrowid or 0)

    def update(self, table: str, key: Row, row: Row) -> None:
        """Change columns of the row at ``key``; nothing is written where nothing differs."""
        old = self.row_at(table, key)
        if old is None:
            raise EditRefused(
                f"that {table.replace('_', ' ')} is no longer in the study; nothing was changed"
            )
        new = {c: v for c, v in row.items() if old[c] != v or (old[c] is None) != (v is None)}
        if new:
            sets, where = ", ".join(f"{c} = ?" for c in new), " AND ".join(f"{c} = ?" for c in key)
            self.conn.execute(
                f"UPDATE {table} SET {sets} WHERE {where}", (*new.values(), *key.values())
            )
            self._note(table, key, {c: old[c] for c in new}, new, old)

    def delete(self, table: str, key: Row) -> None:
        """Take a row away, with the rows that have no meaning without it."""
        for dependent, column in _DEPENDENTS.get(table, ()):
            names = _KEYS.get(dependent, ("id",))
            picked = f"SELECT {', '.join(names)} FROM {dependent} WHERE {column} = ?"
            for found in self.rows(picked, key["id"]):
                self.delete(dependent, dict(zip(names, found, strict=True)))
        old = self.row_at(table, key)
        if old is not None:
            where = " AND ".join(f"{c} = ?" for c in key)
            self.conn.execute(f"DELETE FROM {table} WHERE {where}", tuple(key.values()))
            self._note(table, key, old, None)

    def put(self, table: str, row: Row) -> None:
        """Set the row of a table whose key is of several columns."""
        key = {c: row[c] for c in _KEYS[table]}
        if self.row_at(table, key) is None:
            self.insert(table, row)
        else:
            self.update(table, key, row)

    def made(
        self,
        table: str,
        where: str,
        values: tuple[Value, ...],
        metrics: frozenset[str] = frozenset(),
    ) -> None:
        """Keep in mind many rows that were written at once."""
        self.changes.append(Made(table, where, values, metrics))
        self._touch_all(table, metrics)

    def move(
        self,
        table: str,
        column: str,
        before: Value,
        after: Value,
        where: str,
        values: tuple[Value, ...],
    ) -> None:
        """Set one column of many readings at once, from one value to another.

        ``where`` picks them by numbered parameters.
        """
        number = next(_kept)
        self.conn.execute(
            f"CREATE TEMP TABLE kept_{number} AS SELECT id FROM main.{table} WHERE {column} IS ?1"
            f" AND {where}",
            (before, *values),
        )
        metrics = self.rows(
            f"SELECT DISTINCT metric FROM main.{table} WHERE id IN (SELECT id FROM"
            f" temp.kept_{number})"
        )
        self._move(Moved(table, column, before, after, number, frozenset(m for (m,) in metrics)))

    def _move(self, moved: Moved) -> None:
        self.conn.execute(
            f"UPDATE main.{moved.table} SET {moved.column} = ? WHERE id IN (SELECT id FROM"
            f" temp.kept_{moved.number})",
            (moved.after,),
        )
        self.changes.append(moved)
        self._touch_all(moved.table, moved.metrics, added=False)

    def mark(self, calibration: int, kind: str) -> None:
        """Withdraw or reinstate an adopted calibration; the record itself stays."""
        self.conn.execute(
            "INSERT INTO calibration_mark (calibration, at, kind) VALUES (?, ?, ?)",
            (calibration, self.clock.stamp(), kind),
        )
        self.changes.append(Marked(calibration, kind))
        self._facts.add("calibrations")

    def adopted(self, calibration: int) -> None:
        """Keep in mind a calibration that was adopted: its way back is a mark, never a removal."""
        self.changes.append(Marked(calibration, "reinstated"))
        self._facts.add("calibrations")

    def log(self, table: str, number: int, old: Row, reason: str, who: str = "") -> None:
        """Write a line of history of a reading or visit: the state ``old`` and the one it has now.

        History only grows.
        """
        new = self.state_of(table, number)
        if new is None or new == old:
            return
        self.conn.execute(
            f"INSERT INTO {table}_change ({table}, at, who, old, new, why) VALUES (?, ?, ?, ?,"
            " ?, ?)",
            (number, self.clock.stamp(), who, json.dumps(old), json.dumps(new), reason),
        )

    def state_of(self, table: str, number: int) -> Row | None:
        """What the history keeps of a reading or visit."""
        row = self.row_at(table, {"id": number})
        return None if row is None else {c: row[c] for c in _STATE[table]}

    def touch_metric(self, metric: str, visit: int | None, *, added: bool) -> None:
        """Note that readings of a metric were touched."""
        self._metrics.add(metric)
        self._visits.add(visit)
        self._only_adds &= added

    def _note(
        self, table: str, key: Row, before: Row | None, after: Row | None, whole: Row | None = None
    ) -> None:
        self.changes.append(
            Changed(
                table,
                tuple(key.items()),
                None if before is None else tuple(before.items()),
                None if after is None else tuple(after.items()),
            )
        )
        full = whole or after or before or {}
        if table == "reading":
            self.touch_metric(str(full["metric"]), int(full["visit"] or 0), added=before is None)
            return
        self._facts |= touched_by(
            table, None if before is None or after is None else frozenset(after)
        )
        if table == "visit" and before and after and "client" in after:  # its readings change hands
            for (metric,) in self.rows(
                "SELECT DISTINCT metric FROM reading WHERE visit = ?", key["id"]
            ):
                self.touch_metric(metric, None, added=False)

    def _touch_all(self, table: str, metrics: frozenset[str], *, added: bool = True) -> None:
        for metric in metrics:
            self.touch_metric(metric, None, added=added)
        self._facts |= touched_by(table)

    # the way back
    def restore(self, change: Change) -> None:
        """Undo one change; what is done to that end is journalled in turn."""
        self._only_adds = False
        match change:
            case Changed(table, key, before, _):
                there = self.row_at(table, dict(key)) is not None
                if before is None:
                    self.delete(table, dict(key))
                elif there:
                    self.update(table, dict(key), dict(before))
                else:
                    self.insert(table, dict(before))
            case Made(table, where, values, metrics):
                for dependent, column in _DEPENDENTS.get(table, ()):
                    self._put_aside(
                        Made(
                            dependent, f"{column} IN (SELECT id FROM {table} WHERE {where})", values
                        )
                    )
                self._put_aside(change)
                self._touch_all(table, metrics, added=False)
            case PutAside(made, number):
                self.conn.execute(f"INSERT INTO main.{made.table} SELECT * FROM temp.kept_{number}")
                self.conn.execute(f"DROP TABLE temp.kept_{number}")
                self.made(made.table, made.where, made.values, made.metrics)
            case Moved(_, _, before, after, _, _):
                self._move(replace(change, before=after, after=before))
            case Marked(calibration, kind):
                self.mark(calibration, "withdrawn" if kind == "reinstated" else "reinstated")

    def _put_aside(self, made: Made) -> None:
        number = next(_kept)
        self.conn.execute(
            f"CREATE TEMP TABLE kept_{number} AS SELECT * FROM main.{made.table} WHERE"
            f" {made.where}",
            made.values,
        )
        self.conn.execute(f"DELETE FROM main.{made.table} WHERE {made.where}", made.values)
        self.changes.append(PutAside(made, number))

    def touched(self) -> Touched:
        """What has become stale."""
        visit = next(iter(self._visits)) if len(self._visits) == 1 else None
        return Touched(frozenset(self._metrics), frozenset(self._facts), self._only_adds, visit)


@dataclass(frozen=True, slots=True)
class Restore:
    """The way back from an edit, or forward again: every row as it was."""

    words: str
    changes: tuple[Change, ...]
    again: bool = False

    def write(self, journal: Journal) -> None:
        """Undo the changes, the last one first; corrected readings keep a line of history."""
        for change in reversed(self.changes):
            number = (
                dict(change.key).get("id")
                if isinstance(change, Changed) and change.table in _STATE
                else None
            )
            old = (
                journal.state_of(change.table, int(number))
                if number and isinstance(change, Changed)
                else None
            )
            journal.restore(change)
            if old is not None and number and isinstance(change, Changed):
                journal.log(
                    change.table,
                    int(number),
                    old,
                    f"{'redo' if self.again else 'undo'}: {self.words}",
                )


def run(conn: sqlite3.Connection, edit: Edit, clock: Clock = SYSTEM) -> tuple[Restore, Touched]:
    """Apply one edit in one transaction; return the way back and what was touched."""

    def once(journal: Journal) -> Generator[float, None, None]:
        yield 0.0
        edit.write(journal)

    return finish(_guarded(conn, edit, once, clock))


class LongEdit(Edit, Protocol):
    """An edit that is written in steps."""

    def steps(self, journal: Journal) -> Generator[float, None, None]:
        """Write in slices inside the caller's transaction; yields the share done."""


def run_steps(
    conn: sqlite3.Connection, edit: LongEdit, clock: Clock = SYSTEM
) -> Generator[float, None, tuple[Restore, Touched]]:
    """Apply a long edit in one transaction, in steps.

    Closing the generator takes everything back.
    """
    return (yield from _guarded(conn, edit, edit.steps, clock))


def _guarded(
    conn: sqlite3.Connection, edit: Edit, steps: Any, clock: Clock
) -> Generator[float, None, tuple[Restore, Touched]]:
    """Run steps in one transaction, with what the file refuses turned into a sentence."""
    journal = Journal(conn, clock)
    try:
        with transaction(conn):
            yield from steps(journal)
    except sqlite3.IntegrityError as error:
        raise EditRefused(
            f"{edit.words}: refused by the study file ({error}); nothing was changed"
        ) from error
    except sqlite3.Error as error:
        raise StudyError(
            f"{edit.words}: the study cannot be written ({why(error)}); nothing was changed"
        ) from error
    except OverflowError as error:
        raise EditRefused(
            f"{edit.words}: a number is too large for the study file; nothing was changed"
        ) from error
    again = isinstance(edit, Restore) and not edit.again
    return Restore(edit.words, tuple(journal.changes), again), journal.touched()


def discard(conn: sqlite3.Connection, edits: list[Restore]) -> None:
    """Let go of what edits that will never be done again have put aside."""
    for edit in edits:
        for change in edit.changes:
            if isinstance(change, PutAside | Moved):
                conn.execute(f"DROP TABLE IF EXISTS temp.kept_{change.number}")
