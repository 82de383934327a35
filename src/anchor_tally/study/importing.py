"""Taking staged rows into a study: clients, instruments, settings, visits and readings, in one transaction."""

from __future__ import annotations

import sqlite3
from bisect import bisect_left
from collections.abc import Generator, Iterator
from dataclasses import dataclass
from typing import Any

from ..domain.errors import UserError
from ..domain.metrics import metric_named
from .read import wall_clock
from .staging import Staged, drop_tables

LARGE = 20_000  # rows from which on the indexes are built once, at the end


@dataclass(frozen=True, slots=True)
class Created:
    """What an import made, so that it can be taken back: a range of reading ids (first, last) and the ids of the rest."""

    readings: tuple[int, int]
    visits: tuple[int, ...]
    clients: tuple[int, ...]
    instruments: tuple[int, ...]
    settings: tuple[int, ...]
    metrics: frozenset[str]

    def rows(self) -> Iterator[tuple[str, str, tuple[Any, ...]]]:
        """Each table with the condition that picks what was made there, in an order in which it can be deleted."""
        yield "reading", "id BETWEEN ? AND ?", self.readings
        for table, column, ids in (
            ("condition", "visit", self.visits),
            ("visit", "id", self.visits),
            ("setting", "id", self.settings),
            ("instrument", "id", self.instruments),
            ("client", "id", self.clients),
        ):
            yield table, f"{column} IN (SELECT value FROM json_each(?))", (str(list(ids)),)


def ensure_metric(conn: sqlite3.Connection, metric: str) -> None:
    """Make sure that a metric of the registry has its row."""
    m = metric_named(metric)
    if m is not None:
        conn.execute("INSERT OR IGNORE INTO metric VALUES (?, ?, ?, ?)", (m.id, m.unit, m.low, m.high))


def take(conn: sqlite3.Connection, staged: Staged, source: str) -> Generator[float, None, Created]:
    """Write staged rows inside the caller's transaction; yields the share done.

    Visits form where readings of a client lie closer than the study's gap. Raises UserError when age, height or a condition
    is stated twice, differently, for one visit.
    """
    k = staged.number
    made: dict[str, list[int]] = {"client": [], "instrument": [], "setting": [], "visit": []}

    def add(table: str, sql: str, values: tuple[object, ...]) -> int:
        number = conn.execute(sql, values).lastrowid
        if number is None:
            raise sqlite3.IntegrityError(f"no row was made in {table}")
        made[table].append(number)
        return number

    for metric in staged.metrics:
        ensure_metric(conn, metric)
    used = f"IN (SELECT moment FROM staged_{k})"
    sexes = dict(staged.sexes)
    clients = dict(conn.execute("SELECT code, id FROM client").fetchall())
    for (code,) in conn.execute(f"SELECT DISTINCT client FROM moment_{k} WHERE id {used} ORDER BY id").fetchall():
        if code not in clients:
            clients[code] = add("client", "INSERT INTO client (code, sex) VALUES (?, ?)", (code, sexes.get(code, "")))
        elif code in sexes:
            conn.execute("UPDATE client SET sex = ? WHERE id = ? AND sex = ''", (sexes[code], clients[code]))
    lanes = conn.execute(
        f"SELECT l.id, l.instrument, l.kind, l.label, l.instrument_id, min(m.taken_at)"
        f" FROM (SELECT DISTINCT lane, moment FROM staged_{k}) s JOIN moment_{k} m ON m.id = s.moment"
        f" JOIN lane_{k} l ON l.id = s.lane GROUP BY l.id ORDER BY l.id"
    ).fetchall()
    for lane, name, kind, label, known, starts in lanes:
        row = None if known else conn.execute("SELECT id FROM instrument WHERE name = ?", (name,)).fetchone()
        item = known or (row[0] if row else add("instrument", "INSERT INTO instrument (name, kind) VALUES (?, ?)", (name, kind)))
        ids = conn.execute("SELECT id FROM setting WHERE instrument = ? AND label = ?", (item, label)).fetchall()
        setting = ids[0][0] if len(ids) == 1 else None
        if label and not ids:
            setting = add("setting", "INSERT INTO setting (instrument, label, starts) VALUES (?, ?, ?)", (item, label, starts))
        conn.execute(f"UPDATE lane_{k} SET instrument_id = ?, setting_id = ? WHERE id = ?", (item, setting, lane))
    _place(conn, k, clients, add)
    _note_visits(conn, k, staged, source, frozenset(made["visit"]))
    top = conn.execute("SELECT ifnull(max(id), 0) FROM reading").fetchone()[0]
    last = conn.execute(f"SELECT ifnull(max(id), 0) FROM moment_{k}").fetchone()[0]
    step = max(last // 25, 500)
    _choose_settings(conn, k)
    whole = staged.new >= LARGE
    if whole:
        _lift(conn, k)
    for low in range(0, last + 1, step):
        conn.execute(
            "INSERT INTO reading (visit, taken_at, instrument, setting, metric, value, entered, unit, replicate, status, note, source)"
            " SELECT m.visit, m.taken_at, l.instrument_id,"
            f" ifnull(l.setting_id, (SELECT setting FROM choice_{k} x WHERE x.moment = s.moment AND x.lane = s.lane)),"
            " l.metric, s.value, s.entered, s.unit, s.replicate, s.status, s.note, ?"
            f" FROM staged_{k} s JOIN moment_{k} m ON m.id = s.moment JOIN lane_{k} l ON l.id = s.lane"
            " WHERE s.moment > ? AND s.moment <= ? ORDER BY s.line",
            (source, low, low + step),
        )
        yield min((low + step) / (last or 1), 1.0)
    if whole:
        _restore(conn, k)
    end = conn.execute("SELECT ifnull(max(id), 0) FROM reading").fetchone()[0]
    drop_tables(conn, k)
    return Created(
        (top + 1, end),
        tuple(made["visit"]),
        tuple(made["client"]),
        tuple(made["instrument"]),
        tuple(made["setting"]),
        staged.metrics,
    )


_GUARDS = ("reading_range", "reading_key", "reading_metric")


def _lift(conn: sqlite3.Connection, k: int) -> None:
    """Look at all ranges at once, then take the guards of single rows off until the rows are in.

    Everything happens in the caller's transaction: a failure brings the guards back with the rest.
    """
    odd = conn.execute(
        f"SELECT s.line FROM staged_{k} s JOIN lane_{k} l ON l.id = s.lane LEFT JOIN metric m ON m.id = l.metric"
        " WHERE s.value IS NOT NULL AND ifnull(s.value NOT BETWEEN m.low AND m.high, 1) LIMIT 1"
    ).fetchone()
    if odd:
        raise sqlite3.IntegrityError(f"line {odd[0]}: value outside the possible range")
    conn.execute(f"CREATE TEMP TABLE guard_{k} AS SELECT sql FROM main.sqlite_master WHERE name IN (?, ?, ?)", _GUARDS)
    conn.execute("DROP TRIGGER main.reading_range")
    conn.execute("DROP INDEX main.reading_key")
    conn.execute("DROP INDEX main.reading_metric")


def _restore(conn: sqlite3.Connection, k: int) -> None:
    """Put the guards back; building the unique index looks for repeated readings again."""
    for (sql,) in conn.execute(f"SELECT sql FROM guard_{k}").fetchall():
        conn.execute(sql)


def _choose_settings(conn: sqlite3.Connection, k: int) -> None:
    """Where a label was in force several times (or for one client), choose the period by date, the client's own first."""
    conn.execute(f"CREATE TEMP TABLE choice_{k} (moment INTEGER, lane INTEGER, setting INTEGER, PRIMARY KEY (moment, lane))")
    for lane, instrument, label in conn.execute(
        f"SELECT id, instrument_id, label FROM lane_{k} WHERE setting_id IS NULL AND label <> '' AND instrument_id IS NOT NULL"
    ).fetchall():
        periods = conn.execute(
            "SELECT starts, client, id FROM setting WHERE instrument = ? AND label = ? ORDER BY starts", (instrument, label)
        ).fetchall()
        for moment, taken, client in conn.execute(
            f"SELECT DISTINCT m.id, m.taken_at, v.client FROM staged_{k} s JOIN moment_{k} m ON m.id = s.moment"
            " JOIN visit v ON v.id = m.visit WHERE s.lane = ?",
            (lane,),
        ).fetchall():
            fitting = [p for p in periods if p[1] in (None, client)] or periods
            begun = [p for p in fitting if p[0][:10] <= taken[:10]]
            chosen = max(begun, key=lambda p: (p[1] is not None, p[0])) if begun else fitting[0]
            conn.execute(f"INSERT INTO choice_{k} VALUES (?, ?, ?)", (moment, lane, chosen[2]))


def _place(conn: sqlite3.Connection, k: int, clients: dict[str, int], add: Any) -> None:
    """Give each staged moment its visit: one there already within the gap, one just made, or a new one."""
    gap = conn.execute("SELECT visit_gap_minutes FROM study").fetchone()[0] * 60
    waiting: dict[str, list[tuple[bool, int, int, str]]] = {}
    for number, code, taken in conn.execute(
        f"SELECT id, client, taken_at FROM moment_{k} WHERE visit IS NULL AND id IN (SELECT moment FROM staged_{k})"
    ):
        wall, _, timed = wall_clock(taken)
        waiting.setdefault(code, []).append((timed, wall, number, taken))
    found: list[tuple[int, int]] = []
    for code, moments in waiting.items():
        there = {timed: sorted((w, v) for w, t, v in visit_times(conn, clients[code]) if t == timed) for timed in (True, False)}
        last: tuple[bool, int, int] | None = None
        for timed, wall, number, taken in sorted(moments):
            near = nearest(there[timed], wall, gap) if there[timed] else None
            if near is not None:
                visit = near
            elif last is not None and last[0] == timed and wall - last[1] < gap:
                visit = last[2]
            else:
                visit = add("visit", "INSERT INTO visit (client, start) VALUES (?, ?)", (clients[code], taken))
            last = (timed, wall, visit)
            found.append((visit, number))
    conn.executemany(f"UPDATE moment_{k} SET visit = ? WHERE id = ?", found)


def nearest(times: list[tuple[int, int]], wall: int, gap: int) -> int | None:
    """The visit of the nearest of sorted (wall seconds, visit) that lies closer than ``gap``; None when none does."""
    k = bisect_left(times, (wall,))
    near = [(abs(wall - w), v) for w, v in times[max(k - 1, 0) : k + 1] if abs(wall - w) < gap]
    return min(near)[1] if near else None


def visit_times(conn: sqlite3.Connection, client: int) -> list[tuple[int, bool, int]]:
    """Every moment of a client's visits: wall seconds, whether the time of day is known, visit."""
    out = []
    for visit, taken in conn.execute(
        "SELECT v.id, v.start FROM visit v WHERE v.client = ?1 UNION"
        " SELECT v.id, r.taken_at FROM visit v JOIN reading r ON r.visit = v.id WHERE v.client = ?1",
        (client,),
    ):
        wall, _, timed = wall_clock(taken)
        out.append((wall, timed, visit))
    return out


def _note_visits(conn: sqlite3.Connection, k: int, staged: Staged, source: str, fresh: frozenset[int]) -> None:
    """Keep age, height and conditions with the visits; a second, different statement refuses the import.

    ``fresh`` visits were just made: nothing is known of them yet.
    """
    where = dict(conn.execute(f"SELECT id, visit FROM moment_{k} WHERE id IN (SELECT moment FROM staged_{k})").fetchall())
    told: dict[int, tuple[float | None, float | None, tuple[tuple[str, str], ...]]] = {}
    visits: dict[int, dict[str, Any]] = {}
    changed: dict[int, dict[str, Any]] = {}
    for moment, age, height, conditions, line in staged.statements:
        if moment not in where:
            continue
        visit = where[moment]
        if told.get(visit) == (age, height, conditions):
            continue  # said before at another moment of the same visit
        told[visit] = (age, height, conditions)
        if visit not in visits and visit in fresh:
            visits[visit] = {}
        elif visit not in visits:
            known = conn.execute("SELECT age_years, height_cm FROM visit WHERE id = ?", (visit,)).fetchone()
            visits[visit] = {"age_years": known[0], "height_cm": known[1]}
            for key, text in conn.execute("SELECT key, value FROM condition WHERE visit = ?", (visit,)):
                visits[visit][f"condition:{key}"] = text
        said: dict[str, Any] = {"age_years": age, "height_cm": height} | {f"condition:{key}": text for key, text in conditions}
        for what, new in said.items():
            old = visits[visit].get(what)
            if old is not None and new is not None and old != new:
                code = conn.execute(f"SELECT client FROM moment_{k} WHERE id = ?", (moment,)).fetchone()[0]
                raise UserError(
                    f"{source}, line {line}, {what}: {new} differs from {old} at the same visit of {code}; nothing was imported"
                )
            if old is None and new is not None:
                visits[visit][what] = changed.setdefault(visit, {})[what] = new
    conn.executemany(
        "UPDATE visit SET age_years = ifnull(age_years, ?), height_cm = ifnull(height_cm, ?) WHERE id = ?",
        [(c.get("age_years"), c.get("height_cm"), visit) for visit, c in changed.items()],
    )
    conn.executemany(
        "INSERT INTO condition VALUES (?, ?, ?)",
        [
            (visit, what.removeprefix("condition:"), text)
            for visit, c in changed.items()
            for what, text in c.items()
            if what.startswith("condition:")
        ],
    )
