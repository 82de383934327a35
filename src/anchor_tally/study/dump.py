"""The whole study as plain tables, and a study made again from them."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

from ..domain.errors import UserError
from .importing import ensure_metric
from .open_file import transaction

Cell = str | int | float | None


@dataclass(frozen=True, slots=True)
class PlainTable:
    """One table: resource name, table name, columns with their type (integer, number or string), links, rows.

    ``links`` maps a column to the resource whose ``id`` it names. ``readable`` are columns for people, passed over when the
    study is made again.
    """

    resource: str
    table: str
    columns: tuple[tuple[str, str], ...]
    links: tuple[tuple[str, str], ...]
    readable: tuple[str, ...]
    rows: tuple[tuple[Cell, ...], ...]


# resource, table, links; in an order in which rows can be put back
_TABLES: tuple[tuple[str, str, tuple[tuple[str, str], ...]], ...] = (
    ("clients", "client", ()),
    ("heights", "client_height", (("client", "clients"),)),
    ("instruments", "instrument", ()),
    ("offered_metrics", "instrument_metric", (("instrument", "instruments"),)),
    ("settings", "setting", (("instrument", "instruments"), ("client", "clients"))),
    ("visits", "visit", (("client", "clients"),)),
    ("conditions", "condition", (("visit", "visits"),)),
    ("readings", "reading", (("visit", "visits"), ("instrument", "instruments"), ("setting", "settings"))),
    ("reading_changes", "reading_change", (("reading", "readings"),)),
    ("calibrations", "calibration", (("instrument", "instruments"),)),
    ("calibration_marks", "calibration_mark", (("calibration", "calibrations"),)),
    ("check_weights", "check_weight", (("instrument", "instruments"),)),
    ("protocol", "protocol_item", ()),
    ("assessor_values", "assessor_value", ()),
)
_PRIVATE = {"client": ("name", "notes")}  # never leaves the file
_READABLE = {
    "reading": (
        ("client_code", "(SELECT c.code FROM visit v JOIN client c ON c.id = v.client WHERE v.id = t.visit)"),
        ("instrument_name", "(SELECT i.name FROM instrument i WHERE i.id = t.instrument)"),
        ("setting_label", "ifnull((SELECT s.label FROM setting s WHERE s.id = t.setting), '')"),
    )
}
_TYPES = {"INTEGER": "integer", "REAL": "number", "TEXT": "string"}


def columns_of(conn: sqlite3.Connection, table: str) -> tuple[tuple[str, str], ...]:
    """Names and types of a table's columns, private ones left out."""
    rows = conn.execute("SELECT name, type FROM pragma_table_info(?)", (table,)).fetchall()
    return tuple((name, _TYPES[kind]) for name, kind in rows if name not in _PRIVATE.get(table, ()))


def dump(conn: sqlite3.Connection) -> list[PlainTable]:
    """All tables of a study. Names and private notes of clients are left out."""
    out = []
    for resource, table, links in _TABLES:
        columns = columns_of(conn, table)
        extra = _READABLE.get(table, ())
        picked = [f"t.{name}" for name, _ in columns] + [f"{sql} AS {name}" for name, sql in extra]
        rows = conn.execute(f"SELECT {', '.join(picked)} FROM {table} t ORDER BY 1, 2").fetchall()  # noqa: S608  (fixed names)
        whole = (*columns, *((name, "string") for name, _ in extra))
        out.append(PlainTable(resource, table, whole, links, tuple(name for name, _ in extra), tuple(rows)))
    return out


def study_facts(conn: sqlite3.Connection) -> dict[str, Cell]:
    """Title, identity and settings of the study itself."""
    row = conn.execute("SELECT uid, title, created_at, visit_gap_minutes FROM study").fetchone()
    return dict(zip(("uid", "title", "created_at", "visit_gap_minutes"), row, strict=True))


def load(conn: sqlite3.Connection, facts: dict[str, Cell], tables: dict[str, tuple[list[str], list[list[str]]]]) -> int:
    """Fill an empty study from resources (header, rows of text) in one transaction; returns the number of readings.

    Raises UserError with one sentence when a resource does not fit.
    """
    with transaction(conn):
        try:
            conn.execute(
                "UPDATE study SET uid = ?, title = ?, created_at = ?, visit_gap_minutes = ?",
                (facts["uid"], facts["title"], facts["created_at"], facts["visit_gap_minutes"]),
            )
        except sqlite3.Error as error:
            raise UserError(f"datapackage.json: the facts of the study do not fit ({error}); nothing was imported") from error
        for resource, table, _ in _TABLES:
            if resource not in tables:
                continue
            header, rows = tables[resource]
            types = dict(columns_of(conn, table))
            picked = [(k, name) for k, name in enumerate(header) if name in types]
            if "metric" in types and "metric" in header:
                at = header.index("metric")
                for metric in {row[at] for row in rows if len(row) > at}:
                    ensure_metric(conn, metric)
            names = ", ".join(name for _, name in picked)
            sql = f"INSERT INTO {table} ({names}) VALUES ({', '.join('?' * len(picked))})"  # noqa: S608  (names of the schema)
            for number, row in enumerate(rows, start=2):
                try:
                    conn.execute(sql, [_value(row[k], types[name]) for k, name in picked])
                except (ValueError, IndexError, sqlite3.Error) as error:
                    raise UserError(f"{resource}.csv, line {number}: {error}; nothing was imported") from error
        return int(conn.execute("SELECT count(*) FROM reading").fetchone()[0])


def _value(text: str, kind: str) -> Cell:
    if kind == "string":
        return text
    if text == "":
        return None
    return int(text) if kind == "integer" else float(text)
