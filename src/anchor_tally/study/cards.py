"""Edits of what stands around the readings: clients, instruments, settings, heights, check weights, protocol, assessor values."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass
from typing import Any

from ..domain.errors import UserError
from ..domain.records import ELECTRODES, KINDS
from .importing import ensure_metric, nearest, visit_times
from .read import wall_clock

Value = str | int | float | None

# what may be written, by table; the schema's checks still hold
_COLUMNS: dict[str, frozenset[str]] = {
    "client": frozenset(["code", "name", "sex", "birth", "cautions", "usual_activity", "scans_before", "last_scan", "notes"]),
    "instrument": frozenset(["name", "kind", "electrodes", "price", "exports_data", "notes", "position", "repeats"]),
    "setting": frozenset(["instrument", "client", "label", "starts"]),
    "client_height": frozenset(["client", "day", "height_cm", "entered", "unit"]),
    "instrument_metric": frozenset(["instrument", "metric", "resolution"]),
    "check_weight": frozenset(["instrument", "taken_at", "nominal_kg", "shown_kg", "entered", "unit", "note"]),
    "protocol_item": frozenset(["key", "asked"]),
    "assessor_value": frozenset(["assessor", "day", "metric", "person", "repeat", "value", "entered", "unit"]),
    "visit": frozenset(["assessor", "notes", "age_years", "height_cm"]),
}
_NOUN = {
    "client_height": "height",
    "instrument_metric": "metric offered",
    "check_weight": "check weight",
    "protocol_item": "condition asked for",
    "assessor_value": "check value",
}


class CardRefused(UserError):
    """A card that cannot be written; nothing was changed."""


def _names(table: str, columns: tuple[str, ...]) -> None:
    if table not in _COLUMNS or not set(columns) <= _COLUMNS[table]:
        raise ValueError(f"{table} has no columns {columns}")


def _validate(table: str, values: dict[str, Value]) -> None:
    """What the schema cannot say in a sentence."""
    noun = _NOUN.get(table, table)
    for column in ("code", "name", "label", "assessor", "person"):
        if (
            column in values
            and column in _COLUMNS[table]
            and not str(values[column] or "").strip()
            and (table, column) not in (("client", "name"), ("visit", "assessor"))
        ):
            raise CardRefused(f"the {noun} needs a {'name' if column in ('name', 'assessor') else column}; nothing was changed")
    if values.get("kind", "device") not in KINDS:
        raise CardRefused(f"an instrument is a {', '.join(KINDS[:-1])} or {KINDS[-1]}; nothing was changed")
    if values.get("electrodes", "") not in ELECTRODES:
        raise CardRefused(f'electrode layout "{values["electrodes"]}" is not known; nothing was changed')
    for column in ("birth", "last_scan", "starts", "day", "taken_at"):
        text = values.get(column)
        if isinstance(text, str) and text:
            try:
                wall_clock(text if len(text) >= 10 else f"{text}-07-01"[:10] if column in ("birth", "last_scan") else text)
            except ValueError as error:
                form = (
                    "a year, a month or a day such as 1994 or 1994-05-17"
                    if column in ("birth", "last_scan")
                    else "a day such as 2026-03-02"
                )
                raise CardRefused(f'"{text}" is not {form}; nothing was changed') from error


@dataclass(frozen=True, slots=True)
class AddRow:
    """Add a card; ``number`` is given again when an undone addition is redone."""

    table: str
    values: tuple[tuple[str, Value], ...]
    number: int | None = None

    @property
    def words(self) -> str:
        """What the edit does."""
        return f"add a {_NOUN.get(self.table, self.table)}"

    def apply(self, conn: sqlite3.Connection) -> tuple[_RemoveRow, frozenset[str]]:
        """Insert the row."""
        values = dict(self.values)
        _names(self.table, tuple(values))
        _validate(self.table, values)
        if "metric" in values:
            ensure_metric(conn, str(values["metric"]))
        if self.number is not None:
            values["id"] = self.number
        marks = ", ".join("?" * len(values))
        try:
            number = conn.execute(
                f"INSERT INTO {self.table} ({', '.join(values)}) VALUES ({marks})", tuple(values.values())
            ).lastrowid
        except sqlite3.IntegrityError as error:
            if "UNIQUE" in str(error):
                name = next((str(values[c]) for c in ("code", "name", "label", "day") if c in values), "this")
                raise CardRefused(f"{name} is there already; nothing was changed") from error
            raise
        return _RemoveRow(self.table, number or 0, self), frozenset()


@dataclass(frozen=True, slots=True)
class _RemoveRow:
    """Take an added card away again."""

    table: str
    number: int
    added: AddRow

    @property
    def words(self) -> str:
        """What the edit does."""
        return self.added.words

    def apply(self, conn: sqlite3.Connection) -> tuple[AddRow, frozenset[str]]:
        """Delete the row."""
        conn.execute(f"DELETE FROM {self.table} WHERE id = ?", (self.number,))
        return AddRow(self.table, self.added.values, self.number), frozenset()


@dataclass(frozen=True, slots=True)
class ChangeRow:
    """Change fields of a card."""

    table: str
    number: int
    values: tuple[tuple[str, Value], ...]

    @property
    def words(self) -> str:
        """What the edit does."""
        return f"change a {_NOUN.get(self.table, self.table)}"

    def apply(self, conn: sqlite3.Connection) -> tuple[ChangeRow, frozenset[str]]:
        """Update the row; the inverse holds what stood there."""
        columns = tuple(c for c, _ in self.values)
        _names(self.table, columns)
        _validate(self.table, dict(self.values))
        old = conn.execute(f"SELECT {', '.join(columns)} FROM {self.table} WHERE id = ?", (self.number,)).fetchone()
        if old is None:
            raise CardRefused(f"that {_NOUN.get(self.table, self.table)} is no longer in the study; nothing was changed")
        sets = ", ".join(f"{c} = ?" for c in columns)
        try:
            conn.execute(f"UPDATE {self.table} SET {sets} WHERE id = ?", (*(v for _, v in self.values), self.number))
        except sqlite3.IntegrityError as error:
            if "UNIQUE" in str(error):
                raise CardRefused(f"{self.values[0][1]} is there already; nothing was changed") from error
            raise
        return ChangeRow(self.table, self.number, tuple(zip(columns, old, strict=True))), frozenset()


@dataclass(frozen=True, slots=True)
class PutPair:
    """Set or clear the value of a pair of keys: a metric that an instrument offers, a condition that is asked for.

    ``value`` None with ``there`` False clears the row.
    """

    table: str
    keys: tuple[tuple[str, Value], ...]
    column: str
    value: Value
    there: bool = True

    @property
    def words(self) -> str:
        """What the edit does."""
        return f"change a {_NOUN.get(self.table, self.table)}"

    def apply(self, conn: sqlite3.Connection) -> tuple[PutPair, frozenset[str]]:
        """Write or clear the row."""
        keys = dict(self.keys)
        _names(self.table, (*keys, self.column))
        if "metric" in keys:
            ensure_metric(conn, str(keys["metric"]))
        where = " AND ".join(f"{c} = ?" for c in keys)
        old = conn.execute(f"SELECT {self.column} FROM {self.table} WHERE {where}", tuple(keys.values())).fetchone()
        conn.execute(f"DELETE FROM {self.table} WHERE {where}", tuple(keys.values()))
        if self.there:
            marks = ", ".join("?" * (len(keys) + 1))
            conn.execute(
                f"INSERT INTO {self.table} ({', '.join(keys)}, {self.column}) VALUES ({marks})", (*keys.values(), self.value)
            )
        return PutPair(self.table, self.keys, self.column, old[0] if old else None, old is not None), frozenset()


@dataclass(frozen=True, slots=True)
class SetOrder:
    """Put instruments in an order at the bench: their ids, first to last."""

    ids: tuple[int, ...]
    positions: tuple[int, ...] = ()  # given in an inverse

    @property
    def words(self) -> str:
        """What the edit does."""
        return "change the order at the bench"

    def apply(self, conn: sqlite3.Connection) -> tuple[SetOrder, frozenset[str]]:
        """Number the instruments."""
        known = dict(conn.execute("SELECT id, position FROM instrument").fetchall())
        new = self.positions or tuple(range(1, len(self.ids) + 1))
        conn.executemany("UPDATE instrument SET position = ? WHERE id = ?", list(zip(new, self.ids, strict=True)))
        return SetOrder(self.ids, tuple(known[i] for i in self.ids)), frozenset()


@dataclass(frozen=True, slots=True)
class NoteVisit:
    """Note conditions (key to answer; None takes an answer back), assessor or remarks of a visit.

    The visit is the one of the client around ``at``, within the study's gap; it is made when there is none yet.
    """

    client: str
    at: str
    conditions: tuple[tuple[str, str | None], ...] = ()
    fields: tuple[tuple[str, Value], ...] = ()
    made: int | None = None  # set in an inverse: the visit to take away with the note

    @property
    def words(self) -> str:
        """What the edit does."""
        return "note the conditions of a visit" if self.conditions else "note a visit"

    def apply(self, conn: sqlite3.Connection) -> tuple[NoteVisit, frozenset[str]]:
        """Write the answers."""
        visit, made = self._visit(conn)
        old: list[tuple[str, str | None]] = []
        for key, answer in self.conditions:
            row = conn.execute("SELECT value FROM condition WHERE visit = ? AND key = ?", (visit, key)).fetchone()
            old.append((key, row[0] if row else None))
            if answer is None:
                conn.execute("DELETE FROM condition WHERE visit = ? AND key = ?", (visit, key))
            else:
                conn.execute("INSERT OR REPLACE INTO condition VALUES (?, ?, ?)", (visit, key, answer))
        was: tuple[tuple[str, Value], ...] = ()
        if self.fields:
            columns = tuple(c for c, _ in self.fields)
            _names("visit", columns)
            row = conn.execute(f"SELECT {', '.join(columns)} FROM visit WHERE id = ?", (visit,)).fetchone()
            was = tuple(zip(columns, row, strict=True))
            sets = ", ".join(f"{c} = ?" for c in columns)
            conn.execute(f"UPDATE visit SET {sets} WHERE id = ?", (*(v for _, v in self.fields), visit))
        if self.made is not None:
            conn.execute("DELETE FROM visit WHERE id = ? AND id NOT IN (SELECT visit FROM reading)", (self.made,))
        return NoteVisit(self.client, self.at, tuple(old), was, visit if made else None), frozenset()

    def _visit(self, conn: sqlite3.Connection) -> tuple[int, bool]:
        row = conn.execute("SELECT id FROM client WHERE code = ?", (self.client,)).fetchone()
        if row is None:
            raise CardRefused(f"client {self.client} is not in the study yet; nothing was changed")
        gap = conn.execute("SELECT visit_gap_minutes FROM study").fetchone()[0] * 60
        wall, _, timed = wall_clock(self.at)
        near = nearest(sorted((w, v) for w, t, v in visit_times(conn, row[0]) if t == timed), wall, gap)
        if near is not None:
            return near, False
        return int(conn.execute("INSERT INTO visit (client, start) VALUES (?, ?)", (row[0], self.at)).lastrowid or 0), True


@dataclass(frozen=True, slots=True)
class Together:
    """Several edits of cards as one: all or none, undone at once."""

    edits: tuple[Any, ...]
    words: str

    def apply(self, conn: sqlite3.Connection) -> tuple[Together, frozenset[str]]:
        """Apply them in order; the inverse runs backwards."""
        done = [edit.apply(conn) for edit in self.edits]
        touched: frozenset[str] = frozenset().union(*(metrics for _, metrics in done))
        return Together(tuple(inverse for inverse, _ in reversed(done)), self.words), touched
