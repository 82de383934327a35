"""The whole study as plain tables, and a study made again from them."""

from __future__ import annotations

import json
import math
import sqlite3
from collections.abc import Generator
from dataclasses import dataclass
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from ..domain.calibrations import REASON_KEPT
from ..domain.errors import UserError
from ..domain.events import INSTRUMENT_EVENTS, PERSON_EVENTS
from ..domain.free_text import FreeText
from ..domain.instants import canonical
from ..domain.metrics import metric_named
from ..domain.protocol import OWN
from ..domain.records import ELECTRODES, MOST_REPLICATES
from ..domain.snapshot import VisitColumns
from ..domain.text import plain_name, short
from ..domain.units import unit_named
from .connection import BLOCK, teach_instants, transaction
from .edits.clients import check_day
from .read_calibrations import read_parameters
from .read_columns import free_text
from .row_checks import days_fit

Cell = str | int | float | None


@dataclass(frozen=True, slots=True)
class PlainTable:
    """One table of the package: resource name, table name, typed columns, links and rows.

    ``links`` maps a column to the resource whose ``id`` it names. ``readable`` are columns for
    people, passed over when the study is made again.
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
    ("visit_changes", "visit_change", (("visit", "visits"),)),
    ("conditions", "condition", (("visit", "visits"),)),
    (
        "readings",
        "reading",
        (("visit", "visits"), ("instrument", "instruments"), ("setting", "settings")),
    ),
    ("reading_changes", "reading_change", (("reading", "readings"),)),
    ("calibrations", "calibration", (("instrument", "instruments"),)),
    ("calibration_marks", "calibration_mark", (("calibration", "calibrations"),)),
    ("check_weights", "check_weight", (("instrument", "instruments"),)),
    ("protocol", "protocol_item", ()),
    ("instrument_conditions", "instrument_condition", (("instrument", "instruments"),)),
    ("stations", "station", ()),
    ("landmarks", "landmark", ()),
    ("stated", "stated", ()),
    ("assessor_values", "assessor_value", ()),
    ("decisions", "decision", ()),
    ("events", "event", (("client", "clients"), ("instrument", "instruments"))),
    ("goals", "goal", (("client", "clients"),)),
    ("calendar_rules", "scheme", (("client", "clients"),)),
    ("calendar_days", "planned_day", (("scheme", "calendar_rules"), ("client", "clients"))),
)
# what says who somebody is, or is written by hand: it leaves the file only in a full copy
_PRIVATE = {
    "client": (
        "name",
        "notes",
        "birth",
        "cautions",
        "usual_activity",
        "scans_before",
        "last_scan",
        "cycle",
    ),
    "protocol_item": ("breach",),
    "instrument": ("notes", "price"),
    "visit": ("assessor", "notes"),
    "reading": ("source",),
    "check_weight": ("note",),
    "event": ("note",),
    "scheme": ("label", "reason"),
}
_LEFT_OUT = (
    "client_height",
    "reading_change",
    "visit_change",
    "assessor_value",
    "decision",
    "goal",
)  # whole tables of that kind
# free text that a column must have: what stands there instead, and where
_INSTEAD = {("reading", "note"): "CASE WHEN t.status = 'excluded' THEN 'excluded' ELSE '' END"}
_FROM = {
    "condition": "(SELECT * FROM condition WHERE value IN ('yes', 'no'))",
    "event": "(SELECT * FROM event WHERE client IS NULL)",  # an illness is nobody else's matter
}
# tables with text of which a part must stay: numbered words, and words from a list
_MASKED = frozenset(
    {
        "condition",
        "protocol_item",
        "instrument_condition",
        "setting",
        "station",
        "landmark",
        "event",
        "instrument",
        "calibration",
        "reading",
    }
)
_READABLE = {
    "reading": (
        (
            "client_code",
            "(SELECT c.code FROM visit v JOIN client c ON c.id = v.client WHERE v.id = t.visit)",
        ),
        ("instrument_name", "(SELECT i.name FROM instrument i WHERE i.id = t.instrument)"),
        ("setting_label", "ifnull((SELECT s.label FROM setting s WHERE s.id = t.setting), '')"),
    )
}
_TYPES = {"INTEGER": "integer", "REAL": "number", "TEXT": "string"}


def columns_of(
    conn: sqlite3.Connection, table: str, *, full: bool = True
) -> tuple[tuple[str, str], ...]:
    """Names and types of a table's columns; what is private is left out unless ``full``."""
    rows = conn.execute("SELECT name, type FROM pragma_table_info(?)", (table,)).fetchall()
    return tuple(
        (name, _TYPES[kind]) for name, kind in rows if full or name not in _PRIVATE.get(table, ())
    )


def _masked(free: FreeText, table: str, row: dict[str, Cell]) -> dict[str, Cell]:
    """Return a row with numbered words in the place of free text."""
    out = dict(row)
    if table in ("condition", "protocol_item", "instrument_condition"):
        out["key"] = free.key(str(row["key"]))
        if table == "protocol_item":
            out["label"] = (
                str(out["key"]).removeprefix(OWN).replace("_", " ").capitalize()
                if out["key"] != row["key"]
                else ""
            )
    for name in ("label", "setting", "setting_label"):
        if isinstance(row.get(name), str) and table != "protocol_item":
            out[name] = free.setting(str(row[name]))
    if table == "landmark":
        out["words"] = free.landmarks.get(str(row["words"]), "")
    if table == "event" and row["kind"] not in (*PERSON_EVENTS, *INSTRUMENT_EVENTS):
        out["kind"] = "other"
    if table == "instrument" and row["electrodes"] not in ELECTRODES:
        out["electrodes"] = ""
    if table == "calibration":
        parameters = json.loads(str(row["parameters"]))
        made_of = parameters.get("made_of", {})
        made_of["reason"] = REASON_KEPT if made_of.get("reason") else ""
        made_of["settings"] = [free.setting(str(s)) for s in made_of.get("settings", ())]
        out["parameters"] = json.dumps(parameters)
    return out


def dump_steps(
    conn: sqlite3.Connection, persons: VisitColumns, *, full: bool
) -> Generator[float, None, list[PlainTable]]:
    """Read all tables of a study; yields the share done.

    Parameters
    ----------
    conn : sqlite3.Connection
        The study.
    persons : VisitColumns
        Age in years and height at each visit, which replace birth dates.
    full : bool
        Everything as it is. Otherwise codes only, answers of yes or no, numbered words in the place
        of free text, no names, no cautions, no history.

    Returns
    -------
    list of PlainTable
        One table a resource, in an order in which rows can be put back.
    """
    free = free_text(conn)
    at_visit = {
        v: (None if math.isnan(a) else round(a, 1), None if math.isnan(h) else h)
        for v, a, h in zip(
            persons.visit.tolist(),
            persons.age_years.tolist(),
            persons.height_cm.tolist(),
            strict=True,
        )
    }
    out = []
    for k, (resource, table, links) in enumerate(_TABLES):
        yield k / len(_TABLES)
        if not full and table in _LEFT_OUT:
            continue
        columns = columns_of(conn, table, full=full)
        extra = _READABLE.get(table, ())
        picked = [
            f"t.{name}" if full else f"{_INSTEAD.get((table, name), f't.{name}')} AS {name}"
            for name, _ in columns
        ]
        picked += [f"{sql} AS {name}" for name, sql in extra]
        source = table if full else _FROM.get(table, table)
        rows = []
        cursor = conn.execute(f"SELECT {', '.join(picked)} FROM {source} t ORDER BY 1, 2")
        while block := cursor.fetchmany(BLOCK):
            rows += block
            yield k / len(_TABLES)
        if table == "visit" and not full:
            names = [name for name, _ in columns]
            places = (names.index("age_years"), names.index("height_cm"))
            rows = [
                tuple(
                    at_visit[r[0]][places.index(k)] if k in places else x for k, x in enumerate(r)
                )
                for r in rows
            ]
        whole = (*columns, *((name, "string") for name, _ in extra))
        if not full and table in _MASKED:
            names = [name for name, _ in whole]
            masked = []
            for n, row in enumerate(rows):
                masked.append(
                    tuple(_masked(free, table, dict(zip(names, row, strict=True))).values())
                )
                if n % BLOCK == BLOCK - 1:
                    yield k / len(_TABLES)
            rows = masked
        out.append(
            PlainTable(resource, table, whole, links, tuple(name for name, _ in extra), tuple(rows))
        )
    return out


_FACTS = (
    "uid",
    "title",
    "created_at",
    "visit_gap_minutes",
    "zone",
    "practice",
    "blind",
    "balanced",
)


def study_facts(conn: sqlite3.Connection, *, full: bool) -> dict[str, Cell]:
    """Facts of the study itself; title and identity only in a full copy."""
    row = conn.execute(f"SELECT {', '.join(_FACTS)} FROM study").fetchone()
    facts = dict(zip(_FACTS, row, strict=True))
    return (
        facts
        if full
        else {k: v for k, v in facts.items() if k not in ("uid", "title", "created_at")}
    )


def load(
    conn: sqlite3.Connection,
    facts: dict[str, Cell],
    tables: dict[str, tuple[list[str], list[list[str]]]],
) -> int:
    """Fill an empty study from resources (header, rows of text) in one transaction.

    Returns the number of readings.

    Every value passes the checks that a typed or imported one does. Raises UserError with one
    sentence when a resource does not fit; then nothing is written.
    """
    with transaction(conn):
        conn.execute("PRAGMA defer_foreign_keys = ON")
        _load_facts(conn, facts)
        for resource, table, _ in _TABLES:
            if resource in tables:
                _load_table(conn, resource, table, *tables[resource])
        broken = conn.execute("PRAGMA main.foreign_key_check").fetchone()
        if broken is not None:
            raise UserError(
                f"{broken[0]}: a row names a {broken[2]} that is not in the package; nothing was"
                " imported"
            )
        return int(conn.execute("SELECT count(*) FROM reading").fetchone()[0])


def _load_facts(conn: sqlite3.Connection, facts: dict[str, Cell]) -> None:
    known = (
        "uid",
        "title",
        "created_at",
        "visit_gap_minutes",
        "zone",
        "practice",
        "blind",
        "balanced",
    )
    kept = {k: v for k, v in facts.items() if k in known and v is not None}
    try:
        for name in ("uid", "title", "created_at", "zone"):
            if name in kept and not isinstance(kept[name], str):
                raise ValueError(f"{name} is not a text")
        if "title" in kept:
            kept["title"] = plain_name(str(kept["title"])) or "Study"
        if "zone" in kept:
            ZoneInfo(str(kept["zone"]))
        if kept:
            sets = ", ".join(f"{name} = ?" for name in kept)
            conn.execute(f"UPDATE study SET {sets}", tuple(kept.values()))
        teach_instants(conn, conn.execute("SELECT zone FROM study").fetchone()[0])
    except (sqlite3.Error, ValueError, OverflowError, OSError, ZoneInfoNotFoundError) as error:
        raise UserError(
            f"datapackage.json: the facts of the study do not fit ({short(error)}); nothing was"
            " imported"
        ) from error


def _load_table(
    conn: sqlite3.Connection, resource: str, table: str, header: list[str], rows: list[list[str]]
) -> None:
    types = dict(columns_of(conn, table))
    picked = [(k, name) for k, name in enumerate(header) if name in types]
    names = [name for _, name in picked]
    if len(set(names)) < len(names):
        raise UserError(f"{resource}.csv, line 1: a column stands twice; nothing was imported")
    if not {"id"} & types.keys() <= set(names):
        raise UserError(f"{resource}.csv, line 1: the column id is missing; nothing was imported")
    if table in ("visit", "reading"):  # moments of any earlier form get their instant here
        names += [name for name in ("instant", "timed") if name not in names]
    sql = f"INSERT INTO {table} ({', '.join(names)}) VALUES ({', '.join('?' * len(names))})"
    for number, cells in enumerate(rows, start=2):
        try:
            row = {name: _value(cells[k], types[name]) for k, name in picked}
            _check(conn, table, row)
            conn.execute(sql, [row[name] for name in names])
        except IndexError as error:
            raise UserError(
                f"{resource}.csv, line {number}: the row is cut off; nothing was imported"
            ) from error
        except (ValueError, OverflowError, KeyError, UserError, sqlite3.Error) as error:
            raise UserError(
                f"{resource}.csv, line {number}: {short(error)}; nothing was imported"
            ) from error


def _check(conn: sqlite3.Connection, table: str, row: dict[str, Cell]) -> None:
    """The checks that a typed row goes through and that the schema cannot make.

    Raises UserError or ValueError.
    """
    for name in ("code", "name", "label", "assessor", "person", "key"):
        if isinstance(row.get(name), str) and row[name] != plain_name(str(row[name])):
            raise ValueError(f"{name} holds marks that no text has, or is too long")
    for name in ("birth", "last_scan"):
        if row.get(name):
            check_day(str(row[name]), partial=True)
    for name in ("start", "starts", "taken_at", "day", "ends"):
        bound = name == "ends" or table in ("scheme", "planned_day")  # may be open
        if row.get(name) is not None and not (bound and row[name] == ""):
            row[name] = canonical(str(row[name]))
    if table == "scheme" and not days_fit(str(row.get("form")), str(row.get("days"))):
        raise ValueError("the days of the rule are none")
    if "metric" in row:
        metric = metric_named(str(row["metric"]))
        if metric is None:
            raise ValueError(f"metric {str(row['metric'])[:40]} is not known")
        conn.execute(
            "INSERT OR IGNORE INTO metric VALUES (?, ?, ?, ?)",
            (metric.id, metric.unit, metric.low, metric.high),
        )
    if table == "reading":
        if not 1 <= int(row.get("replicate") or 0) <= MOST_REPLICATES:
            raise ValueError("a repeat is a whole number from 1")
        if row.get("unit") is not None and unit_named(str(row["unit"])) != row["unit"]:
            raise ValueError("this unit is not known")
    at = (
        row.get("taken_at")
        if table == "reading"
        else row.get("start")
        if table == "visit"
        else None
    )
    if at is not None:
        row["instant"], row["timed"] = conn.execute(
            "SELECT instant_of(?), timed_of(?)", (at, at)
        ).fetchone()
    if table == "calibration":
        read_parameters(str(row.get("parameters")))
        for name in ("valid_until", "fitted_at"):
            canonical(str(row.get(name)))
    if any(isinstance(x, float) and not math.isfinite(x) for x in row.values()):
        raise ValueError("a number is not finite")


def _value(text: str, kind: str) -> Cell:
    if kind == "string":
        return text
    if text == "":
        return None
    return int(text) if kind == "integer" else float(text)
