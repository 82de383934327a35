"""Clients, instruments, settings, protocol, visits and events of a study as records."""

from __future__ import annotations

import sqlite3
from collections.abc import Generator, Iterable
from types import MappingProxyType
from typing import Any, NamedTuple

from ..domain.catalogue import Catalogue
from ..domain.events import AssessorValue, CheckWeight, Event, Goal, Height
from ..domain.protocol import CONDITIONS, ProtocolItem, item_of
from ..domain.records import (
    Attachment,
    Client,
    Instrument,
    Setting,
    StationChoice,
    Visit,
    VisitNote,
)
from ..domain.scheme import DEVICES, MovedDay, Scheme, SchemeRule
from ..domain.stations import station_of
from ..domain.steps import finish
from .connection import BLOCK

_CLIENT = (
    "SELECT id, code, sex, name, birth, cautions, usual_activity, scans_before, last_scan, notes,"
    " cycle FROM client"
)


def _client(row: tuple[Any, ...]) -> Client:
    number, code, sex, name, birth, cautions, activity, scans, last, notes, cycle = row
    known = frozenset(cautions.split())
    return Client(
        number, code, sex, name, birth, known, activity, scans, last, notes, cycle=bool(cycle)
    )


def clients(conn: sqlite3.Connection) -> dict[int, Client]:
    """All clients by id."""
    return {r[0]: _client(r) for r in conn.execute(f"{_CLIENT} ORDER BY code")}


def client_coded(conn: sqlite3.Connection, code: str) -> Client | None:
    """The client with a code."""
    row = conn.execute(f"{_CLIENT} WHERE code = ?", (code,)).fetchone()
    return None if row is None else _client(row)


def instruments(conn: sqlite3.Connection) -> dict[int, Instrument]:
    """All instruments by id."""
    rows = conn.execute(
        "SELECT id, name, kind, equation, electrodes, price, exports_data, notes, position,"
        " repeats, walk, counts FROM instrument ORDER BY id"
    )
    return {
        r[0]: Instrument(
            r[0], r[1], r[2], r[3], r[4], r[5], None if r[6] is None else bool(r[6]), *r[7:12]
        )
        for r in rows
    }


class StudyFacts(NamedTuple):
    """What the study reports about itself; ``gap`` in seconds, ``zone`` an IANA name."""

    title: str
    gap: int
    zone: str
    practice: bool
    blind: bool
    balanced: bool


def study_facts(conn: sqlite3.Connection) -> StudyFacts:
    """The study's title, visit gap and time zone; whether for practice, blind, balanced."""
    row = conn.execute(
        "SELECT title, visit_gap_minutes, zone, practice, blind, balanced FROM study"
    ).fetchone()
    return StudyFacts(row[0], row[1] * 60, row[2], bool(row[3]), bool(row[4]), bool(row[5]))


def data_version(conn: sqlite3.Connection) -> int:
    """A number that changes when another connection has written the file."""
    return int(conn.execute("PRAGMA data_version").fetchone()[0])


def heights(conn: sqlite3.Connection) -> dict[int, tuple[Height, ...]]:
    """Height histories by client, oldest first."""
    out: dict[int, list[Height]] = {}
    for r in conn.execute(
        "SELECT id, client, day, height_cm, entered, unit FROM client_height ORDER BY day"
    ):
        out.setdefault(r[1], []).append(Height(*r))
    return {client: tuple(history) for client, history in out.items()}


def stated_heights(conn: sqlite3.Connection) -> dict[int, float]:
    """The height stated at the newest visit that states one, by client."""
    rows = conn.execute(
        "SELECT client, height_cm, max(instant) FROM visit WHERE height_cm IS NOT NULL GROUP BY"
        " client"
    )
    return {client: height for client, height, _ in rows}


def with_stated_age(conn: sqlite3.Connection) -> frozenset[int]:
    """Clients whose age is stated at a visit."""
    return frozenset(
        c for (c,) in conn.execute("SELECT DISTINCT client FROM visit WHERE age_years IS NOT NULL")
    )


def offered(conn: sqlite3.Connection) -> dict[int, dict[str, float | None]]:
    """Metrics that each instrument shows, in the order of its display, with resolution.

    Keyed by instrument number; the resolution is in the canonical unit (None unknown).
    """
    out: dict[int, dict[str, float | None]] = {}
    for instrument, metric, resolution in conn.execute(
        "SELECT instrument, metric, resolution FROM instrument_metric ORDER BY instrument,"
        " position, metric"
    ):
        out.setdefault(instrument, {})[metric] = resolution
    return out


def check_weights(conn: sqlite3.Connection) -> list[CheckWeight]:
    """All check weights, oldest first."""
    rows = conn.execute(
        "SELECT w.id, i.name, w.taken_at, w.nominal_kg, w.shown_kg, w.entered, w.unit, w.note FROM"
        " check_weight w JOIN instrument i ON i.id = w.instrument ORDER BY w.taken_at, w.id"
    )
    return [CheckWeight(*r) for r in rows]


def events(conn: sqlite3.Connection) -> tuple[Event, ...]:
    """All events, oldest first."""
    rows = conn.execute(
        "SELECT id, client, instrument, starts, ends, kind, note FROM event ORDER BY starts, id"
    )
    return tuple(Event(*r) for r in rows)


def uid(conn: sqlite3.Connection) -> str:
    """What identifies the study, whatever its file is called."""
    return str(conn.execute("SELECT uid FROM study").fetchone()[0])


def scheme(conn: sqlite3.Connection) -> Scheme:
    """The rules of the calendar, and the days that were moved."""
    rules = []
    for (
        number,
        client,
        station,
        form,
        days,
        starts,
        ends,
        most,
        label,
        spread,
        reason,
    ) in conn.execute(
        "SELECT id, client, station, form, days, starts, ends, most, label, spread, reason FROM"
        " scheme ORDER BY id"
    ):
        parts = tuple(days.split(","))
        made = parts if form == "days" else tuple(int(d) for d in parts)
        rules.append(
            SchemeRule(
                number, client, station, form, made, starts, ends, most, label, bool(spread), reason
            )
        )
    moved = conn.execute(
        "SELECT scheme, client, due, day FROM planned_day ORDER BY scheme, client, due"
    )
    return Scheme(tuple(rules), tuple(MovedDay(*r) for r in moved))


def measured_steps(
    conn: sqlite3.Connection,
) -> Generator[int, None, tuple[tuple[int, int, str, str], ...]]:
    """Visit, client, station and start of every station of every visit; yields how many."""
    cursor = conn.execute(
        "SELECT DISTINCT v.id, v.client, v.start, i.kind, CASE i.kind WHEN 'method'"
        " THEN r.metric ELSE '' END FROM reading r JOIN visit v ON v.id = r.visit JOIN instrument i"
        " ON i.id = r.instrument"
    )
    found = set[tuple[int, int, str, str]]()
    n = 0
    while block := cursor.fetchmany(BLOCK):
        n += len(block)
        for visit, client, start, kind, metric in block:
            station = DEVICES if kind == "device" else station_of(metric, kind)
            if station is not None:
                found.add((visit, client, station, start))
        yield n
    return tuple(sorted(found))


def goals(conn: sqlite3.Connection) -> tuple[Goal, ...]:
    """All goals."""
    return tuple(
        Goal(*r)
        for r in conn.execute(
            "SELECT client, metric, value, set_at FROM goal ORDER BY client, metric"
        )
    )


def assessor_values(conn: sqlite3.Connection) -> list[AssessorValue]:
    """All values of assessor checks."""
    rows = conn.execute(
        "SELECT id, assessor, day, metric, person, repeat, value, entered, unit FROM assessor_value"
        " ORDER BY assessor, day, metric, id"
    )
    return [AssessorValue(*r) for r in rows]


def protocol(conn: sqlite3.Connection) -> tuple[ProtocolItem, ...]:
    """The conditions as this study has them: those of the registry, then its own."""
    kept = {
        r[0]: r[1:]
        for r in conn.execute(
            "SELECT key, asked, wanted, label, breach FROM protocol_item ORDER BY label, key"
        )
    }
    keys = [
        *(c.key for c in CONDITIONS),
        *(k for k in kept if k not in {c.key for c in CONDITIONS}),
    ]
    items = (
        item_of(
            k,
            None if k not in kept else bool(kept[k][0]),
            *(kept[k][1:] if k in kept else ("", "", "")),
        )
        for k in keys
    )
    return tuple(i for i in items if i is not None)


def stations(conn: sqlite3.Connection) -> dict[str, StationChoice]:
    """What was chosen for the stations."""
    rows = conn.execute("SELECT id, metrics, setting, unit, repeats, counts FROM station")
    return {r[0]: StationChoice(r[0], tuple(r[1].split()), *r[2:]) for r in rows}


def decisions(conn: sqlite3.Connection) -> dict[str, tuple[str, str]]:
    """Decision and reason about findings of the review, by their key."""
    return {
        key: (decision, reason)
        for key, decision, reason in conn.execute("SELECT key, decision, reason FROM decision")
    }


def assessors(conn: sqlite3.Connection) -> dict[int, str]:
    """Who measured, by visit, where it is known."""
    return dict(conn.execute("SELECT id, assessor FROM visit WHERE assessor <> ''").fetchall())


def attachments(conn: sqlite3.Connection, visit: int) -> list[Attachment]:
    """Files beside a visit, in the order in which they were added."""
    rows = conn.execute(
        "SELECT id, path, sha256 FROM attachment WHERE visit = ? ORDER BY id", (visit,)
    )
    return [Attachment(*r) for r in rows]


def settings(conn: sqlite3.Connection) -> dict[int, Setting]:
    """All settings by id."""
    return {
        r[0]: Setting(*r)
        for r in conn.execute("SELECT id, instrument, label, starts, client FROM setting")
    }


def catalogue(conn: sqlite3.Connection) -> Catalogue:
    """Everything but the readings and visits."""
    facts = study_facts(conn)
    return Catalogue(
        title=facts.title,
        gap=facts.gap,
        zone=facts.zone,
        practice=facts.practice,
        blind=facts.blind,
        balanced=facts.balanced,
        clients=MappingProxyType(clients(conn)),
        instruments=MappingProxyType(instruments(conn)),
        settings=MappingProxyType(settings(conn)),
        heights=MappingProxyType(heights(conn)),
        offers=MappingProxyType(offered(conn)),
        protocol=protocol(conn),
        wanted_by=MappingProxyType(
            {
                (i, k): w
                for i, k, w in conn.execute(
                    "SELECT instrument, key, wanted FROM instrument_condition"
                )
            }
        ),
        stations=MappingProxyType(stations(conn)),
        landmarks=MappingProxyType(
            dict(conn.execute("SELECT metric, words FROM landmark").fetchall())
        ),
        stated=MappingProxyType(
            {(m, what): v for m, what, v in conn.execute("SELECT metric, what, value FROM stated")}
        ),
    )


def metrics_present(conn: sqlite3.Connection) -> list[str]:
    """Ids of the metrics that have readings."""
    return [
        r[0]
        for r in conn.execute(
            "SELECT id FROM metric WHERE EXISTS (SELECT 1 FROM reading WHERE metric = metric.id)"
        )
    ]


def conditions(conn: sqlite3.Connection) -> dict[int, dict[str, str]]:
    """Conditions by visit."""
    return finish(conditions_steps(conn))


def conditions_steps(conn: sqlite3.Connection) -> Generator[int, None, dict[int, dict[str, str]]]:
    """The same; yields how many visits were read."""
    out: dict[int, dict[str, str]] = {}
    cursor = conn.execute("SELECT visit, key, value FROM condition ORDER BY visit, key")
    while block := cursor.fetchmany(BLOCK):
        for visit, key, value in block:
            out.setdefault(visit, {})[key] = value
        yield len(out)
    return out


def visit_note(conn: sqlite3.Connection, visit: int) -> VisitNote:
    """Conditions, assessor and remarks of a visit."""
    row = conn.execute("SELECT assessor, notes FROM visit WHERE id = ?", (visit,)).fetchone() or (
        "",
        "",
    )
    return VisitNote(
        dict(conn.execute("SELECT key, value FROM condition WHERE visit = ?", (visit,)).fetchall()),
        *row,
    )


def remarks(conn: sqlite3.Connection, client: str, most: int = 5) -> tuple[tuple[str, str], ...]:
    """What was written at the visits of a client, the newest first: day and remark."""
    rows = conn.execute(
        "SELECT substr(v.start, 1, 10), v.notes FROM visit v JOIN client c ON c.id = v.client"
        " WHERE c.code = ? AND v.notes <> '' ORDER BY v.instant DESC LIMIT ?",
        (client, most),
    )
    return tuple((day, text) for day, text in rows)


def codes_by_last_visit(conn: sqlite3.Connection) -> list[str]:
    """Codes of all clients, the one seen last first."""
    sql = (
        "SELECT c.code FROM client c ORDER BY (SELECT max(v.instant) FROM visit v WHERE v.client ="
        " c.id) DESC NULLS LAST, c.code"
    )
    return [code for (code,) in conn.execute(sql)]


def units_typed(conn: sqlite3.Connection, client: int) -> dict[str, str]:
    """The unit in which each metric of a client was mostly typed."""
    found = conn.execute(
        "SELECT r.metric, r.unit FROM reading r JOIN visit v ON v.id = r.visit WHERE v.client = ?"
        " GROUP BY r.metric, r.unit ORDER BY count(*)",
        (client,),
    ).fetchall()
    return {str(metric): str(unit) for metric, unit in found}  # the most frequent comes last


def visits_of(conn: sqlite3.Connection, client: str) -> list[Visit]:
    """Visits of a client, newest first."""
    rows = conn.execute(
        "SELECT v.id, v.start, v.instant, v.timed FROM visit v JOIN client c ON c.id = v.client"
        " WHERE c.code = ? ORDER BY v.instant DESC, v.id DESC",
        (client,),
    )
    return [Visit(number, start, instant, bool(timed)) for number, start, instant, timed in rows]


def visit_near(
    conn: sqlite3.Connection, client: str, instant: int, *, timed: bool, gap: int
) -> int | None:
    """Visit of a client with start or reading nearest to an instant, within ``gap`` seconds."""
    row = conn.execute(
        "SELECT v.id FROM client c JOIN visit v ON v.client = c.id LEFT JOIN reading r ON r.visit ="
        " v.id WHERE c.code = ?1 AND ((v.timed = ?3 AND abs(v.instant - ?2) < ?4) OR (r.timed = ?3"
        " AND abs(r.instant - ?2) < ?4)) ORDER BY min(ifnull(CASE WHEN r.timed = ?3 THEN"
        " abs(r.instant - ?2) END, ?4), CASE WHEN v.timed = ?3 THEN abs(v.instant - ?2) ELSE ?4"
        " END), v.id LIMIT 1",
        (client, instant, int(timed), gap),
    ).fetchone()
    return None if row is None else int(row[0])


def history(conn: sqlite3.Connection, reading: int) -> list[tuple[str, str, str, str]]:
    """Changes of a reading, oldest first: when, old, new, why."""
    return conn.execute(
        "SELECT at, old, new, why FROM reading_change WHERE reading = ? ORDER BY id", (reading,)
    ).fetchall()


def series_known(conn: sqlite3.Connection) -> list[tuple[str, str, str]]:
    """Instrument, kind and metric of everything read in the study.

    In the order of the bench and of first use.
    """
    return conn.execute(
        "SELECT name, kind, metric FROM (SELECT i.id, i.name, i.kind, i.position, m.id AS metric,"
        " (SELECT min(r.id) FROM reading r WHERE r.metric = m.id AND r.instrument = i.id) AS first"
        " FROM instrument i CROSS JOIN metric m) WHERE first IS NOT NULL ORDER BY kind ="
        " 'reference', position, id, first"
    ).fetchall()


def has_impedance(conn: sqlite3.Connection, client: str, instruments: Iterable[int]) -> bool:
    """Whether a client has a reading of one of some instruments."""
    wanted = list(instruments)
    found = conn.execute(
        "SELECT 1 FROM client c JOIN visit v ON v.client = c.id JOIN reading r ON r.visit = v.id"
        f" WHERE c.code = ? AND r.instrument IN ({', '.join('?' * len(wanted))}) LIMIT 1",
        (client, *wanted),
    )
    return found.fetchone() is not None


def scan_days(conn: sqlite3.Connection, client: str) -> tuple[str, ...]:
    """Days on which a client has readings of a reference, oldest first."""
    rows = conn.execute(
        "SELECT DISTINCT substr(r.taken_at, 1, 10) FROM client c JOIN visit v ON v.client = c.id"
        " JOIN reading r ON r.visit = v.id JOIN instrument i ON i.id = r.instrument WHERE c.code ="
        " ? AND i.kind = 'reference' ORDER BY 1",
        (client,),
    )
    return tuple(r[0] for r in rows)
