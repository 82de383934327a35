"""Readings of a study as frozen columns, and as records in full."""

from __future__ import annotations

import json
import math
import sqlite3
from collections.abc import Generator
from typing import Any

from ..domain.free_text import FreeText
from ..domain.records import Reading
from ..domain.snapshot import Columns, Growing
from ..domain.stations import landmark_of
from ..domain.steps import finish
from .connection import BLOCK

_COLUMNS = (
    "SELECT r.id, r.visit, v.client, r.instrument, ifnull(r.setting, 0), r.instant,"
    " CAST(julianday(substr(r.taken_at, 1, 10)) - 2440587.5 AS INTEGER), r.timed, r.replicate, CASE"
    " WHEN r.simulated AND NOT s.practice THEN 3 WHEN r.status = 'ok' THEN 0 WHEN r.status ="
    " 'failed' THEN 1 ELSE 2 END, r.value, r.metric FROM reading r JOIN visit v ON v.id = r.visit,"
    " study s WHERE "
)
# a plus before a column keeps the index on it out: the one on the other column leads to fewer rows
_NAMES = (
    "reading",
    "visit",
    "client",
    "instrument",
    "setting",
    "instant",
    "day",
    "timed",
    "replicate",
    "status",
)


MANY = 50_000  # readings of a metric from which on the whole table is walked by number
SHARE = 8  # from one block on also where one of so many readings is of the metric


def _add(growing: Growing, rows: list[tuple[Any, ...]]) -> None:
    if rows:
        cols = list(zip(*rows, strict=True))
        values = [math.nan if v is None else v for v in cols[10]]
        growing.add({**dict(zip(_NAMES, cols, strict=False)), "value": values})


def _block(metric: str, rows: list[tuple[Any, ...]]) -> Columns:
    growing = Growing(metric, len(rows))
    _add(growing, rows)
    return growing.columns()


def count_of(conn: sqlite3.Connection, metric: str) -> int:
    """Number of readings of a metric."""
    return int(
        conn.execute("SELECT count(*) FROM reading WHERE metric = ?", (metric,)).fetchone()[0]
    )


def _by_number(conn: sqlite3.Connection, metric: str) -> bool:
    """Whether to scan the whole table in order.

    The index on the metric would have to be sorted first, in one step.
    """
    n = count_of(conn, metric)
    last = conn.execute("SELECT ifnull(max(id), 0) FROM reading").fetchone()[0]
    return n > MANY or (n > BLOCK and n * SHARE > last)


def fill_steps(conn: sqlite3.Connection, growing: Growing) -> Generator[int, None, bool]:
    """Add the readings of a metric that are not there yet, ordered by number.

    Yields how many there are after each block.

    False when an edit that was taken back has ended the look half-way: what is there is right,
    more may be to come.
    """
    plus = "+" if not growing.n and _by_number(conn, growing.metric) else ""
    cursor = conn.execute(
        f"{_COLUMNS}{plus}r.metric = ? AND r.id > ? ORDER BY r.id", (growing.metric, growing.last)
    )
    while True:
        try:
            rows = cursor.fetchmany(BLOCK)
        except sqlite3.OperationalError as error:
            if "abort" in str(error):
                return False
            raise
        if not rows:
            return True
        _add(growing, rows)
        yield growing.n


def columns(conn: sqlite3.Connection, metric: str) -> Columns:
    """All readings of one metric as read-only columns, ordered by number."""
    growing = Growing(metric, count_of(conn, metric))
    finish(fill_steps(conn, growing))
    return growing.columns()


def some_columns(conn: sqlite3.Connection, metric: str, numbers: tuple[int, ...]) -> Columns:
    """The readings of a metric with these numbers."""
    sql = f"{_COLUMNS}+r.metric = ? AND r.id IN (SELECT value FROM json_each(?)) ORDER BY r.id"
    return _block(metric, conn.execute(sql, (metric, json.dumps(numbers))).fetchall())


def visit_columns(conn: sqlite3.Connection, metric: str, visit: int) -> Columns:
    """The readings of a metric at one visit, ordered by number."""
    return _block(
        metric,
        conn.execute(
            f"{_COLUMNS}+r.metric = ? AND r.visit = ? ORDER BY r.id", (metric, visit)
        ).fetchall(),
    )


def last_columns(
    conn: sqlite3.Connection, metric: str, instrument: int, most: int, before_visit: int
) -> Columns:
    """The last ``most`` readings of an instrument, those of one visit left out."""
    sql = f"{_COLUMNS}r.metric = ? AND r.instrument = ? AND r.visit <> ? ORDER BY r.id DESC LIMIT ?"
    return _block(
        metric, conn.execute(sql, (metric, instrument, before_visit, most)).fetchall()[::-1]
    )


def client_columns(
    conn: sqlite3.Connection, client: int, metrics: frozenset[str]
) -> dict[str, Columns]:
    """The readings of one client, by metric."""
    sql = f"{_COLUMNS}v.client = ? AND r.metric IN (SELECT value FROM json_each(?)) ORDER BY r.id"
    by_metric: dict[str, list[tuple[Any, ...]]] = {}
    for row in conn.execute(sql, (client, json.dumps(sorted(metrics)))):
        by_metric.setdefault(row[11], []).append(row)
    return {metric: _block(metric, rows) for metric, rows in by_metric.items()}


_READING = (
    "SELECT r.id, r.visit, c.code, r.taken_at, i.name, i.kind, ifnull(s.label, ''), r.metric,"
    " r.value, r.entered, r.unit, r.replicate, r.status, r.note, c.sex, ifnull(v.age_years, ''),"
    " ifnull(v.height_cm, ''), r.source, r.simulated FROM reading r JOIN visit v ON v.id = r.visit"
    " JOIN client c ON c.id = v.client JOIN instrument i ON i.id = r.instrument LEFT JOIN setting s"
    " ON s.id = r.setting "
)


def readings(
    conn: sqlite3.Connection, ids: list[int] | None = None, visit: int | None = None
) -> list[Reading]:
    """Readings in full, for forms, evidence and export.

    All, those with ``ids``, or those of one visit.
    """
    if visit is not None:
        rows = conn.execute(_READING + "WHERE r.visit = ? ORDER BY r.id", (visit,)).fetchall()
    elif ids is not None:
        marks = ",".join("?" * len(ids))
        rows = conn.execute(
            _READING + f"WHERE r.id IN ({marks}) ORDER BY r.instant, r.id", ids
        ).fetchall()
    else:
        return finish(readings_steps(conn))
    return [_reading(r) for r in rows]


def readings_steps(conn: sqlite3.Connection) -> Generator[int, None, list[Reading]]:
    """Read all readings in full, by client and time; yields how many were read."""
    out: list[Reading] = []
    cursor = conn.execute(_READING + "ORDER BY c.code, r.instant, r.id")
    while block := cursor.fetchmany(BLOCK):
        out += [_reading(r) for r in block]
        yield len(out)
    return out


def free_text(conn: sqlite3.Connection) -> FreeText:
    """Return what replaces the study's free text when it leaves the file."""
    keys = conn.execute(
        "SELECT key FROM condition UNION SELECT key FROM protocol_item UNION SELECT key FROM"
        " instrument_condition"
    )
    labels = conn.execute(
        "SELECT label FROM setting UNION SELECT setting FROM station UNION SELECT setting FROM"
        " calibration"
    )
    words = conn.execute("SELECT words FROM landmark")
    return FreeText.of(
        (k for (k,) in keys), (*(w for (w,) in words), *(landmark_of(s) for (s,) in labels))
    )


def _reading(r: tuple[Any, ...]) -> Reading:
    age, height = ("" if x == "" else f"{x:g}" for x in r[15:17])
    return Reading(*r[:15], age, height, r[17], bool(r[18]))  # type: ignore[call-arg]  # the columns in the order of the fields
