"""Find rows that another program has damaged, and name them in one sentence."""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Mapping

from .connection import StudyError
from .read_calibrations import read_parameters

# moments and days, by table and column; the last entry says whether an empty one is allowed
_MOMENTS = (
    ("reading", "taken_at", False),
    ("visit", "start", False),
    ("setting", "starts", False),
    ("client_height", "day", False),
    ("event", "starts", False),
    ("event", "ends", True),
    ("scheme", "starts", True),
    ("scheme", "ends", True),
    ("planned_day", "due", False),
    ("planned_day", "day", True),
    ("check_weight", "taken_at", False),
    ("calibration", "valid_until", False),
    ("calibration", "fitted_at", False),
)
_DAY = "[12][0-9][0-9][0-9]-[01][0-9]-[0-3][0-9]"
_FIRST, _LAST = -2_208_988_800, 7_258_118_400  # instants of the years 1900 and 2200


def check_rows(conn: sqlite3.Connection, parts: Mapping[str, str]) -> None:
    """Look for rows, and parts of the schema, that this program would not have written.

    Parameters
    ----------
    conn : sqlite3.Connection
        A study of today's schema.
    parts : mapping of str to str
        Kind (table, index, trigger) of each part of the schema, by name.

    Raises
    ------
    StudyError
        Names the first that does not fit, and how many more there are.
    """
    found = _foreign_parts(conn, parts) or [
        *_orphans(conn),
        *_odd_moments(conn),
        *_odd_parameters(conn),
        *_odd_rules(conn),
    ]
    if found:
        more = f" (and {len(found) - 1} more)" if len(found) > 1 else ""
        raise StudyError(
            f"another program has changed this study: {found[0]}{more}; the file was not changed."
            " Restore a copy, or correct the rows in that program"
        )


def _foreign_parts(conn: sqlite3.Connection, parts: Mapping[str, str]) -> list[str]:
    """Views and triggers that the schema does not have: none of them is read or run."""
    there = dict(
        conn.execute(
            "SELECT name, type FROM main.sqlite_master WHERE type IN ('table', 'view', 'trigger')"
        )
    )
    out = [
        f"the {kind} {name} is not there"
        for name, kind in parts.items()
        if kind == "table" and there.get(name) != kind
    ]
    return out + [
        f'it holds a {kind} "{name[:40]}"'
        for name, kind in there.items()
        if kind != "table" and name not in parts
    ]


def _orphans(conn: sqlite3.Connection) -> list[str]:
    """Rows that name a row that is not there."""
    return [
        f"{_words(table)} {row} names a {_words(other)} that is not there"
        for table, row, other, _ in conn.execute("PRAGMA main.foreign_key_check")
    ]


def _odd_moments(conn: sqlite3.Connection) -> list[str]:
    """Moments that are none, and instants of no year that a reading can be of."""
    out = []
    for table, column, optional in _MOMENTS:
        empty = f"{column} <> '' AND " if optional else ""
        rows = conn.execute(
            f"SELECT rowid, {column} FROM main.{table} WHERE {empty}({column} NOT GLOB '{_DAY}*'"
            f" OR length({column}) > 10 AND {column} NOT GLOB '{_DAY}T[0-2][0-9]:[0-5][0-9]*')"
        )
        out += [f'{_words(table)} {row} is of "{str(text)[:20]}"' for row, text in rows]
    for table, column in (("reading", "taken_at"), ("visit", "start")):
        rows = conn.execute(
            f"SELECT rowid, {column} FROM main.{table} WHERE instant NOT BETWEEN {_FIRST} AND"
            f" {_LAST} OR timed <> (length({column}) > 10)"
        )
        out += [
            f'{_words(table)} {row} of "{str(text)[:20]}" has another instant' for row, text in rows
        ]
    return out


def _odd_parameters(conn: sqlite3.Connection) -> list[str]:
    """Adopted calibrations that cannot be read."""
    out = []
    for row, text in conn.execute("SELECT id, parameters FROM main.calibration"):
        try:
            read_parameters(text)
        except ValueError as error:
            if "newer program" not in str(error):
                out.append(f"adopted offset {row}: {error}")
    return out


def _odd_rules(conn: sqlite3.Connection) -> list[str]:
    """Rules of the calendar whose days are none."""
    rows = conn.execute("SELECT id, form, days FROM main.scheme")
    return [
        f'rule {row} of the calendar has the days "{days[:20]}"'
        for row, form, days in rows
        if not days_fit(form, days)
    ]


def days_fit(form: str, days: str) -> bool:
    """Whether the text of a rule's days is one: ISO days, else whole numbers, with commas."""
    one = _DAY if form == "days" else r"-?\d{1,4}"
    return re.fullmatch(f"{one}(,{one})*", days) is not None


def _words(table: str) -> str:
    return table.replace("_", " ")
