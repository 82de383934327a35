"""Taking many readings into a study: what is new, what is there already, what contradicts it."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

from ..domain.errors import UserError
from ..domain.metrics import METRICS, metric_named
from ..domain.records import ImportRow, Refused
from .read import wall_clock

Key = tuple[str, str, str, str, str, int]


@dataclass(frozen=True, slots=True)
class ImportCheck:
    """What an import would do."""

    new: tuple[ImportRow, ...]
    already_there: int
    refused: tuple[Refused, ...]


def _key(r: ImportRow) -> Key:
    return (r.client, r.taken_at, r.instrument, r.setting, r.metric, r.replicate)


def check(conn: sqlite3.Connection, rows: tuple[ImportRow, ...]) -> ImportCheck:
    """Compare rows with the study and with each other; nothing is written."""
    there: dict[Key, tuple[float | None, str]] = {}
    for *key, value, status in conn.execute(
        "SELECT c.code, r.taken_at, i.name, ifnull(s.label, ''), r.metric, r.replicate, r.value, r.status FROM reading r"
        " JOIN visit v ON v.id = r.visit JOIN client c ON c.id = v.client JOIN instrument i ON i.id = r.instrument"
        " LEFT JOIN setting s ON s.id = r.setting"
    ):
        there[tuple(key)] = (value, status)
    sexes = dict(conn.execute("SELECT code, sex FROM client WHERE sex <> ''").fetchall())
    kinds = dict(conn.execute("SELECT name, kind FROM instrument").fetchall())
    seen: dict[Key, ImportRow] = {}
    new: list[ImportRow] = []
    refused: list[Refused] = []
    same = 0
    for r in rows:
        key = _key(r)
        if r.sex and sexes.setdefault(r.client, r.sex) != r.sex:
            refused.append(Refused(r.line, "sex", r.sex, f"client {r.client} is {sexes[r.client]} elsewhere"))
        elif kinds.setdefault(r.instrument, r.kind) != r.kind:
            refused.append(Refused(r.line, "kind", r.kind, f"{r.instrument} is a {kinds[r.instrument]} elsewhere"))
        elif key in there:
            value, _status = there[key]
            if value == r.value or (
                value is not None and r.value is not None and abs(value - r.value) < 1e-9 * max(1.0, abs(value))
            ):
                same += 1
            else:
                refused.append(Refused(r.line, "value", r.entered, f"the study already holds {value} for this reading"))
        elif key in seen:
            first = seen[key]
            if first.value == r.value and first.status == r.status:
                same += 1
            else:
                refused.append(
                    Refused(
                        r.line,
                        "value",
                        r.entered,
                        f"contradicts line {first.line}: same client, time, instrument, metric and replicate",
                    )
                )
        else:
            seen[key] = r
            new.append(r)
    return ImportCheck(tuple(new), same, tuple(refused))


@dataclass(frozen=True, slots=True)
class Created:
    """Ids made by an import, so that it can be taken back."""

    readings: tuple[int, ...]
    visits: tuple[int, ...]
    clients: tuple[int, ...]
    instruments: tuple[int, ...]
    settings: tuple[int, ...]


def ensure_metric(conn: sqlite3.Connection, metric: str) -> None:
    """Make sure that a metric of the registry has its row."""
    m = METRICS.get(metric) or metric_named(metric)
    if m is not None:
        conn.execute("INSERT OR IGNORE INTO metric VALUES (?, ?, ?, ?)", (m.id, m.unit, m.low, m.high))


def _note_visit(conn: sqlite3.Connection, visit: int, r: ImportRow, source: str) -> None:
    """Keep age, height and conditions with the visit; a second, different statement refuses the import."""
    known = conn.execute("SELECT age_years, height_cm FROM visit WHERE id = ?", (visit,)).fetchone()
    stated: dict[str, tuple[object, object]] = {"age_years": (known[0], r.age_years), "height_cm": (known[1], r.height_cm)}
    kept = dict(conn.execute("SELECT key, value FROM condition WHERE visit = ?", (visit,)).fetchall()) if r.conditions else {}
    stated |= {f"condition:{key}": (kept.get(key), text) for key, text in r.conditions}
    for what, (old, new) in stated.items():
        if old is not None and new is not None and old != new:
            raise UserError(
                f"{source}, line {r.line}, {what}: {new} differs from {old} at the same visit of {r.client}; nothing was imported"
            )
    if (known[0] is None and r.age_years is not None) or (known[1] is None and r.height_cm is not None):
        conn.execute(
            "UPDATE visit SET age_years = ifnull(age_years, ?), height_cm = ifnull(height_cm, ?) WHERE id = ?",
            (r.age_years, r.height_cm, visit),
        )
    for key, text in r.conditions:
        if key not in kept:
            conn.execute("INSERT INTO condition VALUES (?, ?, ?)", (visit, key, text))


def insert(conn: sqlite3.Connection, rows: tuple[ImportRow, ...], source: str) -> Created:
    """Insert rows inside the caller's transaction; visits form where readings lie closer than the study's gap."""
    gap = conn.execute("SELECT visit_gap_minutes FROM study").fetchone()[0] * 60
    made: dict[str, list[int]] = {"client": [], "instrument": [], "setting": [], "visit": []}
    clients = dict(conn.execute("SELECT code, id FROM client").fetchall())
    instruments = dict(conn.execute("SELECT name, id FROM instrument").fetchall())
    settings = {(i, label): s for i, label, s in conn.execute("SELECT instrument, label, id FROM setting ORDER BY starts DESC")}

    def add(table: str, sql: str, values: tuple[object, ...]) -> int:
        number = conn.execute(sql, values).lastrowid
        if number is None:
            raise sqlite3.IntegrityError(f"no row was made in {table}")
        made[table].append(number)
        return number

    for metric in {r.metric for r in rows}:
        ensure_metric(conn, metric)
    moments: dict[str, tuple[int, int, bool]] = {t: wall_clock(t) for t in {r.taken_at for r in rows}}
    ordered = sorted(rows, key=lambda r: (r.client, moments[r.taken_at][0], r.line))
    for r in ordered:
        if r.client not in clients:
            clients[r.client] = add("client", "INSERT INTO client (code, sex) VALUES (?, ?)", (r.client, r.sex))
        elif r.sex:
            conn.execute("UPDATE client SET sex = ? WHERE id = ? AND sex = ''", (r.sex, clients[r.client]))
        if r.instrument not in instruments:
            instruments[r.instrument] = add(
                "instrument", "INSERT INTO instrument (name, kind) VALUES (?, ?)", (r.instrument, r.kind)
            )
        where = (instruments[r.instrument], r.setting)
        if r.setting and where not in settings:
            settings[where] = add(
                "setting", "INSERT INTO setting (instrument, label, starts) VALUES (?, ?, ?)", (*where, r.taken_at)
            )
    times: dict[tuple[str, bool], list[tuple[int, int]]] = {}
    for code, visit, taken in conn.execute(
        "SELECT DISTINCT c.code, v.id, r.taken_at FROM reading r JOIN visit v ON v.id = r.visit JOIN client c ON c.id = v.client"
    ):
        wall, _, timed = wall_clock(taken)
        times.setdefault((code, timed), []).append((wall, visit))
    last: tuple[str, bool, int, int] | None = None
    batch: list[tuple[object, ...]] = []
    for r in ordered:
        wall, _, timed = moments[r.taken_at]
        near = [(abs(wall - w), v) for w, v in times.get((r.client, timed), ()) if abs(wall - w) < gap]
        if near:
            visit = min(near)[1]
        elif last is not None and last[:2] == (r.client, timed) and wall - last[2] < gap:
            visit = last[3]
        else:
            visit = add("visit", "INSERT INTO visit (client, start) VALUES (?, ?)", (clients[r.client], r.taken_at))
        last = (r.client, timed, wall, visit)
        _note_visit(conn, visit, r, source)
        instrument = instruments[r.instrument]
        batch.append(
            (
                visit,
                r.taken_at,
                instrument,
                settings[instrument, r.setting] if r.setting else None,
                r.metric,
                r.value,
                r.entered,
                r.unit,
                r.replicate,
                r.status,
                r.note,
                source,
            )
        )
    top = conn.execute("SELECT ifnull(max(id), 0) FROM reading").fetchone()[0]
    conn.executemany(
        "INSERT INTO reading (visit, taken_at, instrument, setting, metric, value, entered, unit, replicate, status, note, source)"
        " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        batch,
    )
    return Created(
        tuple(range(top + 1, top + 1 + len(batch))),
        tuple(made["visit"]),
        tuple(made["client"]),
        tuple(made["instrument"]),
        tuple(made["setting"]),
    )
