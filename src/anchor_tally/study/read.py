"""Reading a study into frozen columns and records."""

from __future__ import annotations

import json
import math
import sqlite3
from collections.abc import Generator, Iterable
from dataclasses import astuple
from types import MappingProxyType
from typing import Any, NamedTuple

from ..domain.calibrations import FORM_0_EQUATIONS, CalibrationRecord, LineRecord, MadeOf
from ..domain.catalogue import Catalogue
from ..domain.events import AssessorValue, CheckWeight, Event, Goal, Height
from ..domain.free_text import FreeText
from ..domain.protocol import CONDITIONS, ProtocolItem, item_of
from ..domain.records import (
    Attachment,
    Client,
    Instrument,
    Reading,
    Setting,
    StationChoice,
    Visit,
    VisitNote,
)
from ..domain.snapshot import Columns, Growing
from ..domain.stations import landmark_of
from ..domain.steps import finish


def clients(conn: sqlite3.Connection) -> dict[int, Client]:
    """All clients by id."""
    rows = conn.execute(
        "SELECT id, code, sex, name, birth, cautions, usual_activity, scans_before, last_scan,"
        " notes, cycle FROM client ORDER BY code"
    )
    return {
        r[0]: Client(
            r[0],
            r[1],
            r[2],
            r[3],
            r[4],
            frozenset(r[5].split()),
            r[6],
            r[7],
            r[8],
            r[9],
            bool(r[10]),
        )
        for r in rows
    }


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
    """What the study says of itself; ``gap`` in seconds, ``zone`` an IANA name."""

    title: str
    gap: int
    zone: str
    practice: bool
    blind: bool


def study_facts(conn: sqlite3.Connection) -> StudyFacts:
    """The study's title, visit gap, time zone, and whether it is for practice or blind."""
    row = conn.execute(
        "SELECT title, visit_gap_minutes, zone, practice, blind FROM study"
    ).fetchone()
    return StudyFacts(row[0], row[1] * 60, row[2], bool(row[3]), bool(row[4]))


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
BLOCK = 8000  # rows read between two events of the window


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
    """Return what stands in the place of the study's free text when it leaves the file."""
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


def scan_days(conn: sqlite3.Connection, client: str) -> tuple[str, ...]:
    """Days on which a client has readings of a reference, oldest first."""
    rows = conn.execute(
        "SELECT DISTINCT substr(r.taken_at, 1, 10) FROM client c JOIN visit v ON v.client = c.id"
        " JOIN reading r ON r.visit = v.id JOIN instrument i ON i.id = r.instrument WHERE c.code ="
        " ? AND i.kind = 'reference' ORDER BY 1",
        (client,),
    )
    return tuple(r[0] for r in rows)


def in_force(versions: Iterable[tuple[CalibrationRecord, bool]]) -> list[CalibrationRecord]:
    """The newest calibration that is not withdrawn, for each instrument, metric and setting."""
    return list(
        {
            (r.instrument, r.metric, r.setting): r for r, withdrawn in versions if not withdrawn
        }.values()
    )


def calibration_versions(conn: sqlite3.Connection) -> list[tuple[CalibrationRecord, bool]]:
    """Every calibration ever adopted, oldest version first, and whether it was withdrawn."""
    rows = conn.execute(
        "SELECT k.id, i.name, k.metric, k.setting, k.reference, k.model, k.parameters, k.range_low,"
        " k.range_high, k.pairs, k.clients, k.fitted_at, k.valid_until, k.version, k.digest,"
        " ifnull((SELECT kind FROM calibration_mark m WHERE m.calibration = k.id ORDER BY m.id DESC"
        " LIMIT 1), '') = 'withdrawn' FROM calibration k JOIN instrument i ON i.id = k.instrument"
        " ORDER BY k.version"
    ).fetchall()
    out = []
    for r in rows:
        p = read_parameters(r[6])
        record = CalibrationRecord(
            id=r[0],
            instrument=r[1],
            metric=r[2],
            setting=r[3],
            reference=r[4],
            model=r[5],
            pooled=p.pooled,
            clients=p.clients,
            sources=p.sources,
            range_low=r[7],
            range_high=r[8],
            pairs=r[9],
            client_count=r[10],
            fitted_at=r[11],
            valid_until=r[12],
            version=r[13],
            digest=r[14],
            form=p.form,
            made_of=p.made_of,
            line=p.line,
        )
        out.append((record, bool(r[15])))
    return out


class Parameters(NamedTuple):
    """Parameters of an adopted calibration, of any form that was ever written."""

    form: int
    pooled: tuple[float, float, float] | None
    clients: dict[str, tuple[float, float, float, int]]
    sources: tuple[str, ...]
    made_of: MadeOf
    line: LineRecord | None


NEWEST_FORM = 3


def read_parameters(text: str) -> Parameters:
    """Parameters from their text.

    Raises ValueError for anything else, and for a form of a newer program.

    Forms 0 and 1 kept an SD and degrees of freedom where today's keeps the ends of the interval.
    """
    try:
        p = json.loads(text)
        form = int(p.get("form", 0))
        if form > NEWEST_FORM:
            raise ValueError(f"parameters of form {form} are of a newer program")
        ends = _ends if form < 2 else _plain_ends
        pooled = None if form >= 2 and p["pooled"] is None else ends(p["pooled"])
        clients = {str(k): (*ends(v[:3]), int(v[3])) for k, v in p["clients"].items()}
        sources = (
            tuple(str(s) for s in p["sources"])
            if form
            else tuple(_named(int(i)) for i in p["readings"])
        )
        made_of = _made_of(p["made_of"]) if form >= 2 else MadeOf(clients=tuple(clients))
        line = (
            LineRecord(**{k: float(v) for k, v in p["line"].items()})
            if form >= 3 and p.get("line")
            else None
        )
    except (KeyError, TypeError, AttributeError, IndexError, OverflowError) as error:
        raise ValueError("the parameters of a calibration are not whole") from error
    if not all(
        math.isfinite(x)
        for v in ((pooled or ()), *clients.values(), made_of.drift or (), _values(line))
        for x in v
    ):
        raise ValueError("the parameters of a calibration are not whole")
    return Parameters(form, pooled, clients, sources, made_of, line)


def _values(line: LineRecord | None) -> tuple[float, ...]:
    return () if line is None else astuple(line)


def _plain_ends(values: list[float]) -> tuple[float, float, float]:
    offset, low, high = (float(x) for x in values)
    return offset, low, high


def _ends(values: list[float]) -> tuple[float, float, float]:
    offset, sd, df = (float(x) for x in values)
    if not (math.isfinite(sd) and sd >= 0 and df > 0):
        raise TypeError("not an SD and degrees of freedom")
    from ..stats.distributions import t_interval  # brings SciPy, for old records only

    interval = t_interval(offset, sd, df)
    return offset, interval.low, interval.high


def _made_of(p: dict[str, Any]) -> MadeOf:
    shown = p["lens_clients"]
    return MadeOf(
        clients=tuple(str(c) for c in p["clients"]),
        settings=tuple(str(c) for c in p["settings"]),
        anchors=int(p["anchors"]),
        last_anchor=str(p["last_anchor"]),
        window_hours=float(p["window_hours"]),
        around=bool(p["around"]),
        lens_clients=None if shown is None else tuple(str(c) for c in shown),
        client_sd=None if p["client_sd"] is None else float(p["client_sd"]),
        advice=str(p["advice"]),
        reason=str(p["reason"]),
        provisional=bool(p["provisional"]),
        comparator=str(p.get("comparator", "reference")),
        drift=None if p.get("drift") is None else (float(p["drift"][0]), float(p["drift"][1])),
        drift_from=str(p.get("drift_from", "")),
    )


def _named(number: int) -> str:
    """Reading of a form 0 record.

    A negative number stands for an equation's place in the registry and the visit.
    """
    if number > 0:
        return str(number)
    place, visit = divmod(-number, 10_000_000)
    return f"{FORM_0_EQUATIONS[place - 1]}@{visit}"
