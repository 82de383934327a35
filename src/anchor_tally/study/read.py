"""Reading a study into frozen columns and records."""

from __future__ import annotations

import math
import sqlite3
from datetime import date, datetime

import numpy as np

from ..domain.protocol import ASKED_AT_FIRST, CONDITIONS
from ..domain.records import AssessorValue, CheckWeight, Client, Instrument, Reading, Setting
from ..domain.snapshot import STATUS_CODES, Columns, read_only

_EPOCH = date(1970, 1, 1).toordinal()


def wall_clock(text: str) -> tuple[int, int, bool]:
    """Wall seconds, day number and whether a time of day is known, of an ISO date or date-time."""
    if len(text) == 10:
        day = date.fromisoformat(text).toordinal() - _EPOCH
        return day * 86400 + 43200, day, False
    moment = datetime.fromisoformat(text)
    day = moment.toordinal() - _EPOCH
    return day * 86400 + moment.hour * 3600 + moment.minute * 60 + moment.second, day, True


def clients(conn: sqlite3.Connection) -> dict[int, Client]:
    """All clients by id."""
    rows = conn.execute(
        "SELECT id, code, sex, name, birth, cautions, usual_activity, scans_before, last_scan, notes FROM client ORDER BY code"
    )
    return {r[0]: Client(r[0], r[1], r[2], r[3], r[4], frozenset(r[5].split()), *r[6:10]) for r in rows}


def instruments(conn: sqlite3.Connection) -> dict[int, Instrument]:
    """All instruments by id."""
    rows = conn.execute(
        "SELECT id, name, kind, equation, electrodes, price, exports_data, notes, position, repeats FROM instrument ORDER BY id"
    )
    return {r[0]: Instrument(r[0], r[1], r[2], r[3], r[4], r[5], None if r[6] is None else bool(r[6]), *r[7:10]) for r in rows}


def heights(conn: sqlite3.Connection, client: int) -> list[tuple[int, str, float, str, str]]:
    """Height history of a client, oldest first: row id, day, cm, as entered, unit."""
    return conn.execute(
        "SELECT id, day, height_cm, entered, unit FROM client_height WHERE client = ? ORDER BY day", (client,)
    ).fetchall()


def offered(conn: sqlite3.Connection) -> dict[int, dict[str, float | None]]:
    """Metrics that an instrument offers, with their resolution in the canonical unit (None unknown), by instrument id."""
    out: dict[int, dict[str, float | None]] = {}
    for instrument, metric, resolution in conn.execute("SELECT instrument, metric, resolution FROM instrument_metric"):
        out.setdefault(instrument, {})[metric] = resolution
    return out


def check_weights(conn: sqlite3.Connection) -> list[CheckWeight]:
    """All check weights, oldest first."""
    rows = conn.execute(
        "SELECT w.id, i.name, w.taken_at, w.nominal_kg, w.shown_kg, w.entered, w.unit, w.note FROM check_weight w"
        " JOIN instrument i ON i.id = w.instrument ORDER BY w.taken_at, w.id"
    )
    return [CheckWeight(*r) for r in rows]


def assessor_values(conn: sqlite3.Connection) -> list[AssessorValue]:
    """All values of assessor checks."""
    rows = conn.execute(
        "SELECT id, assessor, day, metric, person, repeat, value, entered, unit FROM assessor_value"
        " ORDER BY assessor, day, metric, id"
    )
    return [AssessorValue(*r) for r in rows]


def protocol(conn: sqlite3.Connection) -> tuple[str, ...]:
    """Keys of the conditions that this study asks for, in the protocol's order."""
    chosen = dict(conn.execute("SELECT key, asked FROM protocol_item").fetchall())
    return tuple(c.key for c in CONDITIONS if chosen.get(c.key, int(c.key in ASKED_AT_FIRST)))


def settings(conn: sqlite3.Connection) -> dict[int, Setting]:
    """All settings by id."""
    return {r[0]: Setting(*r) for r in conn.execute("SELECT id, instrument, label, starts, client FROM setting")}


def metrics_present(conn: sqlite3.Connection) -> list[str]:
    """Ids of the metrics that have readings."""
    return [r[0] for r in conn.execute("SELECT id FROM metric WHERE EXISTS (SELECT 1 FROM reading WHERE metric = metric.id)")]


def columns(conn: sqlite3.Connection, metric: str, after: int = 0) -> Columns:
    """Readings of one metric as read-only columns, ordered by id: all, or those with an id beyond ``after``."""
    rows = conn.execute(
        "SELECT r.id, r.visit, v.client, r.instrument, ifnull(r.setting, 0), r.taken_at, r.replicate, r.status, r.value"
        " FROM reading r JOIN visit v ON v.id = r.visit WHERE r.metric = ? AND r.id > ? ORDER BY r.id",
        (metric, after),
    ).fetchall()
    parsed: dict[str, tuple[int, int, bool]] = {}
    for r in rows:
        if r[5] not in parsed:
            parsed[r[5]] = wall_clock(r[5])
    cols = list(zip(*rows, strict=True)) if rows else [()] * 9
    when = [parsed[t] for t in cols[5]]
    return Columns(
        metric=metric,
        reading=read_only(cols[0], np.int64),
        visit=read_only(cols[1], np.int64),
        client=read_only(cols[2], np.int64),
        instrument=read_only(cols[3], np.int64),
        setting=read_only(cols[4], np.int64),
        wall=read_only([w[0] for w in when], np.int64),
        day=read_only([w[1] for w in when], np.int64),
        timed=read_only([w[2] for w in when], np.bool_),
        replicate=read_only(cols[6], np.int64),
        status=read_only([STATUS_CODES[s] for s in cols[7]], np.int64),
        value=read_only([math.nan if v is None else v for v in cols[8]], np.float64),
    )


_READING = (
    "SELECT r.id, r.visit, c.code, r.taken_at, i.name, i.kind, ifnull(s.label, ''), r.metric, r.value, r.entered, r.unit,"
    " r.replicate, r.status, r.note, c.sex, ifnull(v.age_years, ''), ifnull(v.height_cm, '')"
    " FROM reading r JOIN visit v ON v.id = r.visit JOIN client c ON c.id = v.client"
    " JOIN instrument i ON i.id = r.instrument LEFT JOIN setting s ON s.id = r.setting "
)


def readings(conn: sqlite3.Connection, ids: list[int] | None = None, visit: int | None = None) -> list[Reading]:
    """Readings in full, for forms, evidence and export: all, those with ``ids``, or those of one visit."""
    if visit is not None:
        rows = conn.execute(_READING + "WHERE r.visit = ? ORDER BY r.id", (visit,)).fetchall()
    elif ids is not None:
        marks = ",".join("?" * len(ids))
        rows = conn.execute(_READING + f"WHERE r.id IN ({marks}) ORDER BY r.taken_at, r.id", ids).fetchall()
    else:
        rows = conn.execute(_READING + "ORDER BY c.code, r.taken_at, r.id").fetchall()
    return [Reading(*r[:15], *("" if x == "" else f"{x:g}" for x in r[15:17])) for r in rows]


def conditions(conn: sqlite3.Connection) -> dict[int, dict[str, str]]:
    """Conditions by visit."""
    out: dict[int, dict[str, str]] = {}
    for visit, key, value in conn.execute("SELECT visit, key, value FROM condition ORDER BY visit, key"):
        out.setdefault(visit, {})[key] = value
    return out


def visit_note(conn: sqlite3.Connection, visit: int) -> tuple[dict[str, str], str, str]:
    """Conditions, assessor and remarks of a visit."""
    row = conn.execute("SELECT assessor, notes FROM visit WHERE id = ?", (visit,)).fetchone() or ("", "")
    return dict(conn.execute("SELECT key, value FROM condition WHERE visit = ?", (visit,)).fetchall()), row[0], row[1]


def visits_of(conn: sqlite3.Connection, client: str) -> list[tuple[int, str]]:
    """Visits of a client, newest first: id and start."""
    return conn.execute(
        "SELECT v.id, v.start FROM visit v JOIN client c ON c.id = v.client WHERE c.code = ? ORDER BY v.start DESC", (client,)
    ).fetchall()


def history(conn: sqlite3.Connection, reading: int) -> list[tuple[str, str, str, str]]:
    """Changes of a reading, oldest first: when, old, new, why."""
    return conn.execute("SELECT at, old, new, why FROM reading_change WHERE reading = ? ORDER BY id", (reading,)).fetchall()


def lanes(conn: sqlite3.Connection) -> list[tuple[str, str, str]]:
    """Instrument, kind and metric of everything read in the study, in the order of the bench and of first use."""
    return conn.execute(
        "SELECT name, kind, metric FROM (SELECT i.id, i.name, i.kind, i.position, m.id AS metric,"
        " (SELECT min(r.id) FROM reading r WHERE r.metric = m.id AND r.instrument = i.id) AS first"
        " FROM instrument i CROSS JOIN metric m) WHERE first IS NOT NULL ORDER BY kind = 'reference', position, id, first"
    ).fetchall()


def scan_days(conn: sqlite3.Connection, client: str) -> tuple[str, ...]:
    """Days on which a client has readings of a reference, oldest first."""
    rows = conn.execute(
        "SELECT DISTINCT substr(r.taken_at, 1, 10) FROM client c JOIN visit v ON v.client = c.id JOIN reading r ON r.visit = v.id"
        " JOIN instrument i ON i.id = r.instrument WHERE c.code = ? AND i.kind = 'reference' ORDER BY 1",
        (client,),
    )
    return tuple(r[0] for r in rows)


def setting_in_force(conn: sqlite3.Connection, instrument: str, day: str, client: str = "") -> str:
    """Label of the newest setting of an instrument that starts on or before ``day``, or empty.

    A setting of this very client goes before one for all.
    """
    row = conn.execute(
        "SELECT s.label FROM setting s JOIN instrument i ON i.id = s.instrument LEFT JOIN client c ON c.id = s.client"
        " WHERE i.name = ? AND substr(s.starts, 1, 10) <= ? AND (s.client IS NULL OR c.code = ?)"
        " ORDER BY s.client IS NULL, s.starts DESC, s.id DESC LIMIT 1",
        (instrument, day[:10], client),
    ).fetchone()
    return row[0] if row else ""
