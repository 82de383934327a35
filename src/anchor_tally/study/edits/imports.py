"""Import staged rows as one edit.

Clients, instruments, settings, visits and readings.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Generator
from dataclasses import dataclass, replace
from typing import Any

from ...domain.errors import UserError
from ...domain.import_rows import ImportCard, ImportRow
from ...domain.records import Client
from ...domain.repeats import MOST_REPEATS
from ...domain.steps import finish
from ...domain.text import plain_name
from ..read import client_coded
from ..staging import Staged, drop_tables, stage
from .clients import AddClient, AddHeight, PutClient
from .edit import EditRefused, Journal
from .readings import begin_by, ensure_metric, period_of
from .visits import moments_of, nearest

LARGE = 20_000  # rows from which on the indexes are built once, at the end


@dataclass(frozen=True, slots=True)
class TakeStaged:
    """Take in what was staged."""

    staged: Staged
    source: str

    @property
    def words(self) -> str:
        """What the edit does."""
        return f"import {self.source}"

    def write(self, journal: Journal) -> None:
        """Write all staged rows."""
        finish(self.steps(journal))

    def steps(self, journal: Journal) -> Generator[float, None, None]:
        """Write in slices; yields the share done."""
        yield from take(journal, self.staged, plain_name(self.source))


@dataclass(frozen=True, slots=True)
class ImportReadings:
    """Take in parsed rows: all of them, or none."""

    rows: tuple[ImportRow, ...]
    source: str

    @property
    def words(self) -> str:
        """What the edit does."""
        return f"import {self.source}"

    def write(self, journal: Journal) -> None:
        """Insert what is new; a row that contradicts the study refuses the whole."""
        staged = finish(stage(journal.conn, self.rows, today=journal.clock.today().isoformat()))
        if staged.refused:
            r = staged.refused[0]
            raise EditRefused(
                f"{self.source}, line {r.line}, {r.column}: {r.reason}; nothing was imported"
            )
        TakeStaged(staged, self.source).write(journal)


def take(journal: Journal, staged: Staged, source: str) -> Generator[float, None, None]:
    """Write staged rows inside the caller's transaction; yields the share done.

    Visits form where readings of a client lie closer than the study's gap. Raises UserError when
    age, height or a condition is stated twice, differently, for one visit.
    """
    k, conn = staged.number, journal.conn
    for card in staged.cards:
        _write_card(journal, card)
    for metric in staged.metrics:
        ensure_metric(journal, metric)
    used = f"IN (SELECT moment FROM staged_{k})"
    sexes = dict(staged.sexes)
    clients = dict(conn.execute("SELECT code, id FROM client").fetchall())
    unknown = {number for (number,) in conn.execute("SELECT id FROM client WHERE sex = ''")}
    for (code,) in conn.execute(
        f"SELECT DISTINCT client FROM moment_{k} WHERE id {used} ORDER BY id"
    ).fetchall():
        if code not in clients:
            clients[code] = journal.insert("client", {"code": code, "sex": sexes.get(code, "")})
        elif code in sexes and clients[code] in unknown:
            journal.update("client", {"id": clients[code]}, {"sex": sexes[code]})
    series_known = conn.execute(
        "SELECT l.id, l.instrument, l.kind, l.label, l.instrument_id, min(m.taken_at) FROM (SELECT"
        f" DISTINCT series, moment FROM staged_{k}) s JOIN moment_{k} m ON m.id = s.moment JOIN"
        f" series_{k} l ON l.id = s.series GROUP BY l.id ORDER BY l.id"
    ).fetchall()
    # repeats are planned as they came in: nobody planned others
    came = dict(
        conn.execute(
            f"SELECT l.instrument, max(s.replicate) FROM staged_{k} s JOIN series_{k} l ON l.id ="
            " s.series GROUP BY l.instrument"
        ).fetchall()
    )
    for series, name, kind, label, known, starts in series_known:
        row = (
            None
            if known
            else conn.execute("SELECT id FROM instrument WHERE name = ?", (name,)).fetchone()
        )
        item = known or (
            row[0]
            if row
            else journal.insert(
                "instrument",
                {"name": name, "kind": kind, "repeats": max(1, min(came[name], MOST_REPEATS))},
            )
        )
        ids = conn.execute(
            "SELECT id FROM setting WHERE instrument = ? AND label = ?", (item, label)
        ).fetchall()
        setting = ids[0][0] if len(ids) == 1 else None
        if label and not ids:
            setting = journal.insert(
                "setting", {"instrument": item, "client": None, "label": label, "starts": starts}
            )
        elif setting is not None:
            begin_by(journal, setting, starts)
        conn.execute(
            f"UPDATE series_{k} SET instrument_id = ?, setting_id = ? WHERE id = ?",
            (item, setting, series),
        )
    fresh = _place(journal, k, clients)
    _note_visits(journal, k, staged, source, fresh)
    top = conn.execute(
        "SELECT ifnull(max(seq), 0) FROM sqlite_sequence WHERE name = 'reading'"
    ).fetchone()[0]
    last = conn.execute(f"SELECT ifnull(max(id), 0) FROM moment_{k}").fetchone()[0]
    step = max(last // 25, 500)
    _choose_settings(journal, k)
    whole = staged.new >= LARGE
    if whole:
        _lift(conn, k)
    for low in range(0, last + 1, step):
        conn.execute(
            "INSERT INTO reading (visit, taken_at, instrument, setting, metric, value, entered,"
            " unit, replicate, status, note, source, instant, timed) SELECT m.visit, m.taken_at,"
            f" l.instrument_id, ifnull(l.setting_id, (SELECT setting FROM choice_{k} x WHERE"
            " x.moment = s.moment AND x.series = s.series)), l.metric, s.value, s.entered, s.unit,"
            f" s.replicate, s.status, s.note, ?, m.instant, m.timed FROM staged_{k} s JOIN"
            f" moment_{k} m ON m.id = s.moment JOIN series_{k} l ON l.id = s.series WHERE s.moment"
            " > ? AND s.moment <= ? ORDER BY s.line",
            (source, low, low + step),
        )
        yield min((low + step) / (last or 1), 1.0)
    if whole:
        _restore(conn, k)
    end = conn.execute("SELECT ifnull(max(id), 0) FROM reading").fetchone()[0]
    journal.made("reading", "id BETWEEN ? AND ?", (top + 1, max(end, top)), staged.metrics)
    drop_tables(conn, k)


def _write_card(journal: Journal, card: ImportCard) -> None:
    """Add a person, or what is new of one; a height counts from today, the day it became known."""
    old = client_coded(journal.conn, card.code)
    if old is None:
        AddClient(
            Client(0, card.code, card.sex, card.name, card.birth, card.cautions, notes=card.notes)
        ).write(journal)
    else:
        new = replace(
            old,
            sex=old.sex or card.sex,
            name=old.name or card.name,
            birth=old.birth or card.birth,
            cautions=old.cautions | card.cautions,
            notes="\n".join(n for n in (old.notes, card.notes) if n),
        )
        PutClient(new).write(journal)
    if card.height is not None:
        known = client_coded(journal.conn, card.code)
        day = journal.clock.today().isoformat()
        AddHeight(known.id if known else 0, day, card.height).write(journal)


_GUARDS = ("reading_range", "reading_key", "reading_metric")


def _lift(conn: sqlite3.Connection, k: int) -> None:
    """Look at all ranges at once, then take the guards of single rows off until the rows are in.

    Everything happens in the caller's transaction: a failure brings the guards back with the rest.
    """
    odd = conn.execute(
        f"SELECT s.line FROM staged_{k} s JOIN series_{k} l ON l.id = s.series LEFT JOIN metric m"
        " ON m.id = l.metric WHERE s.value IS NOT NULL AND ifnull(s.value NOT BETWEEN m.low AND"
        " m.high, 1) LIMIT 1"
    ).fetchone()
    if odd:
        raise sqlite3.IntegrityError(f"line {odd[0]}: value outside the possible range")
    conn.execute(
        f"CREATE TEMP TABLE guard_{k} AS SELECT sql FROM main.sqlite_master WHERE name IN (?,"
        " ?, ?)",
        _GUARDS,
    )
    conn.execute("DROP TRIGGER main.reading_range")
    conn.execute("DROP INDEX main.reading_key")
    conn.execute("DROP INDEX main.reading_metric")


def _restore(conn: sqlite3.Connection, k: int) -> None:
    """Put the guards back; building the unique index looks for repeated readings again."""
    for (sql,) in conn.execute(f"SELECT sql FROM guard_{k}").fetchall():
        conn.execute(sql)


def _choose_settings(journal: Journal, k: int) -> None:
    """Choose the period of a label by date.

    The client's own period comes first.
    """
    conn = journal.conn
    conn.execute(
        f"CREATE TEMP TABLE choice_{k} (moment INTEGER, series INTEGER, setting INTEGER, PRIMARY"
        " KEY (moment, series))"
    )
    for series, instrument, label in conn.execute(
        f"SELECT id, instrument_id, label FROM series_{k} WHERE setting_id IS NULL AND label <> ''"
        " AND instrument_id IS NOT NULL"
    ).fetchall():
        periods = conn.execute(
            "SELECT id, client, starts FROM setting WHERE instrument = ? AND label = ? ORDER BY"
            " starts",
            (instrument, label),
        ).fetchall()
        for moment, taken, client in conn.execute(
            f"SELECT DISTINCT m.id, m.taken_at, v.client FROM staged_{k} s JOIN moment_{k} m ON"
            " m.id = s.moment JOIN visit v ON v.id = m.visit WHERE s.series = ?",
            (series,),
        ).fetchall():
            chosen = period_of(periods, client, taken)
            if chosen is not None:
                begin_by(journal, chosen, taken)
            conn.execute(f"INSERT INTO choice_{k} VALUES (?, ?, ?)", (moment, series, chosen))


def _place(journal: Journal, k: int, clients: dict[str, int]) -> range:
    """Find or make the visit of each staged moment.

    An existing one within the gap, one just made, or a new one.

    Returns the numbers of the new visits.
    """
    conn = journal.conn
    gap = conn.execute("SELECT visit_gap_minutes FROM study").fetchone()[0] * 60
    first = conn.execute(
        "SELECT ifnull(max(seq), 0) + 1 FROM sqlite_sequence WHERE name = 'visit'"
    ).fetchone()[0]
    waiting: dict[str, list[tuple[int, int, int, str]]] = {}
    for number, code, taken, instant, timed in conn.execute(
        f"SELECT id, client, taken_at, instant, timed FROM moment_{k} WHERE visit IS NULL AND id IN"
        f" (SELECT moment FROM staged_{k})"
    ):
        waiting.setdefault(code, []).append((timed, instant, number, taken))
    found: list[tuple[int, int]] = []
    new: list[tuple[int, int, str, int, int]] = []
    for code, moments in waiting.items():
        known = moments_of(journal, clients[code])
        there = {
            timed: sorted((w, v) for w, t, v in known if t == timed) for timed in (True, False)
        }
        last: tuple[int, int, int] | None = None
        for timed, instant, number, taken in sorted(moments):
            near = nearest(there[bool(timed)], instant, gap) if there[bool(timed)] else None
            if near is not None:
                visit = near
            elif last is not None and last[0] == timed and instant - last[1] < gap:
                visit = last[2]
            else:
                visit = first + len(new)
                new.append((visit, clients[code], taken, instant, timed))
            last = (timed, instant, visit)
            found.append((visit, number))
    conn.executemany(
        "INSERT INTO visit (id, client, start, instant, timed) VALUES (?, ?, ?, ?, ?)", new
    )
    conn.executemany(f"UPDATE moment_{k} SET visit = ? WHERE id = ?", found)
    fresh = range(first, first + len(new))
    if new:
        journal.made("visit", "id BETWEEN ? AND ?", (fresh.start, fresh.stop - 1))
    return fresh


def _note_visits(journal: Journal, k: int, staged: Staged, source: str, fresh: range) -> None:
    """Keep age, height and conditions with the visits.

    A second, different statement refuses the import.

    ``fresh`` visits were just made: nothing is known of them yet.
    """
    conn = journal.conn
    where = dict(
        conn.execute(
            f"SELECT id, visit FROM moment_{k} WHERE id IN (SELECT moment FROM staged_{k})"
        ).fetchall()
    )
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
            known = conn.execute(
                "SELECT age_years, height_cm FROM visit WHERE id = ?", (visit,)
            ).fetchone()
            visits[visit] = {"age_years": known[0], "height_cm": known[1]}
            for key, text in conn.execute(
                "SELECT key, value FROM condition WHERE visit = ?", (visit,)
            ):
                visits[visit][f"condition:{key}"] = text
        said: dict[str, Any] = {"age_years": age, "height_cm": height} | {
            f"condition:{key}": text for key, text in conditions
        }
        for what, new in said.items():
            old = visits[visit].get(what)
            if old is not None and new is not None and old != new:
                code = conn.execute(
                    f"SELECT client FROM moment_{k} WHERE id = ?", (moment,)
                ).fetchone()[0]
                raise UserError(
                    f"{source}, line {line}, {what}: {new} differs from {old} at the same visit of"
                    f" {code}; nothing was imported"
                )
            if old is None and new is not None:
                visits[visit][what] = changed.setdefault(visit, {})[what] = new
    new = {visit: c for visit, c in changed.items() if visit in fresh}
    conn.executemany(
        "UPDATE visit SET age_years = ?, height_cm = ? WHERE id = ?",
        [(c.get("age_years"), c.get("height_cm"), visit) for visit, c in new.items()],
    )
    conn.executemany(
        "INSERT INTO condition VALUES (?, ?, ?)",
        [(visit, key, text) for visit, c in new.items() for key, text in _conditions(c)],
    )
    for visit, c in changed.items():
        if visit in new:
            continue
        journal.update(
            "visit",
            {"id": visit},
            {what: c[what] for what in ("age_years", "height_cm") if what in c},
        )
        for key, text in _conditions(c):
            journal.put("condition", {"visit": visit, "key": key, "value": text})


def _conditions(said: dict[str, Any]) -> list[tuple[str, str]]:
    return [
        (what.removeprefix("condition:"), text)
        for what, text in said.items()
        if what.startswith("condition:")
    ]
