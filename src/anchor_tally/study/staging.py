"""Rows staged beside a study before import.

What is new, known or contradicting is known before anything is written.

The staged rows lie in temporary tables of the same connection: a million of them cost disk, not
memory, and nothing of the study is touched until they are taken.
"""

from __future__ import annotations

import itertools
import json
import re
import sqlite3
from collections.abc import Callable, Generator, Iterable
from dataclasses import dataclass
from typing import Any

from ..domain.import_rows import ImportCard, ImportRow, Refused
from ..domain.instants import Moment, NotAMoment, moment, zone_named
from .cards import born, news_of

BLOCK = 4000
SAMPLE = 200
_NOTHING = (None, None, ())
_number = itertools.count(1)


@dataclass(frozen=True, slots=True)
class Staged:
    """Staged rows: how many are new, known or refused, the first ones, and where they are."""

    number: int
    new: int
    already_there: int
    refused: tuple[Refused, ...]
    sample: tuple[ImportRow, ...]
    metrics: frozenset[str]
    sexes: tuple[tuple[str, str], ...]
    statements: tuple[tuple[int, float | None, float | None, tuple[tuple[str, str], ...], int], ...]
    cards: tuple[ImportCard, ...] = ()
    cautioned: tuple[
        tuple[str, str, str, int], ...
    ] = ()  # client with a caution, instrument, kind, readings
    respelled: tuple[tuple[str, str], ...] = ()  # instruments as written, and as they are known
    seen: int = 0  # readings of the table, refused ones too

    @property
    def merged(self) -> int:
        """Readings that are the same as another one of the table."""
        return self.seen - self.new - self.already_there - len(self.refused)

    @property
    def adds(self) -> bool:
        """Whether taking it would add anything."""
        return bool(self.new or self.cards)


def _spelling(name: str) -> str:
    """A name without capitals, and without blanks or hyphens but between two digits."""
    return re.sub(r"(?<!\d)[\s_‐‑–-]+|[\s_‐‑–-]+(?!\d)", "", name.casefold())


class _Stage:
    """State of staging.

    Numbers of moments (client and time) and series (instrument and setting), rows by block.
    """

    def __init__(self, conn: sqlite3.Connection, where: Callable[[int], str], today: str) -> None:
        self.conn, self.k, self.where, self.today = conn, next(_number), where, today
        conn.execute(
            f"CREATE TEMP TABLE staged_{self.k} (moment INTEGER, series INTEGER, replicate INTEGER,"
            " line INTEGER, value REAL, entered TEXT, unit TEXT, status TEXT, note TEXT, PRIMARY"
            " KEY (moment, series, replicate)) WITHOUT ROWID"
        )
        conn.execute(
            f"CREATE TEMP TABLE moment_{self.k} (id INTEGER PRIMARY KEY, client TEXT, taken_at"
            " TEXT, instant INTEGER, timed INTEGER, visit INTEGER)"
        )
        # a client's visits that hold readings of this instant; more than one where a new visit was
        # begun at once
        conn.execute(
            f"CREATE TEMP TABLE there_{self.k} (moment INTEGER, visit INTEGER, PRIMARY KEY (moment,"
            " visit)) WITHOUT ROWID"
        )
        conn.execute(
            f"CREATE TEMP TABLE series_{self.k} (id INTEGER PRIMARY KEY, instrument TEXT, kind"
            " TEXT, label TEXT, metric TEXT, instrument_id INTEGER, setting_id INTEGER)"
        )
        self.sexes = dict(conn.execute("SELECT code, sex FROM client").fetchall())
        self.spelled: dict[str, str] = {}
        self.respelled: dict[str, str] = {}
        self.seen = 0
        for (name,) in conn.execute("SELECT name FROM instrument ORDER BY id"):
            self.spelled.setdefault(_spelling(name), name)
        self.kinds = dict(conn.execute("SELECT name, kind FROM instrument").fetchall())
        self.known = frozenset(self.sexes)
        self.zone = zone_named(conn.execute("SELECT zone FROM study").fetchone()[0])
        self.visits: dict[str, dict[tuple[int, int], list[int]]] = {}
        self.instants: dict[str, Moment] = {}
        self.moments: dict[tuple[str, str], int] = {}
        self.by_instant: dict[tuple[str, int, bool], int] = {}
        self.series_known: dict[tuple[str, str, str, str, str, str], int] = {}
        self.series_numbers: dict[tuple[str, str, str], int] = {}
        self.stated: dict[int, tuple[float | None, float | None, tuple[tuple[str, str], ...]]] = {}
        self.statements: dict[
            tuple[int, float | None, float | None, tuple[tuple[str, str], ...]], int
        ] = {}
        self.metrics: set[str] = set()
        self.refused: list[Refused] = []
        self.sample: list[ImportRow] = []
        self.cards: dict[str, ImportCard] = {}
        self.same = 0

    def block(self, rows: list[ImportRow | ImportCard | Refused]) -> None:
        """Stage one block of rows."""
        batch: list[tuple[Any, ...]] = []
        origin: list[ImportRow] = []
        moments, series_known, stated = self.moments, self.series_known, self.stated
        new_moments: list[tuple[Any, ...]] = []
        new_series: list[tuple[Any, ...]] = []
        new_there: list[tuple[int, int]] = []
        wanted = len(self.sample) < SAMPLE
        for r in rows:
            if isinstance(r, ImportCard):
                before = len(self.refused)
                self._card(r)
                self.seen += len(self.refused) - before  # a refused card is accounted for as well
                continue
            self.seen += 1
            if isinstance(r, Refused):
                self.refused.append(r)
                continue
            (
                line,
                client,
                sex,
                age,
                height,
                taken,
                instrument,
                kind,
                setting,
                metric,
                value,
                entered,
                unit,
                rep,
                status,
                note,
                conds,
            ) = r
            known = self.spelled.setdefault(_spelling(instrument), instrument)
            known = instrument if instrument in self.kinds else known
            if known != instrument:
                self.respelled[instrument] = known
                instrument, r = known, r._replace(instrument=known)
            series = series_known.get((client, sex, instrument, kind, setting, metric))
            if series is None:
                told = self._contradiction(line, client, sex, instrument, kind)
                if told is not None:
                    self.refused.append(told)
                    continue
                series = self.series_numbers.get((instrument, setting, metric))
                if series is None:
                    series = self.series_numbers[instrument, setting, metric] = (
                        len(self.series_numbers) + 1
                    )
                    new_series.append(
                        (
                            series,
                            instrument,
                            kind,
                            setting,
                            metric,
                            *self._series_ids(instrument, setting),
                        )
                    )
                    self.metrics.add(metric)
                series_known[client, sex, instrument, kind, setting, metric] = series
            at = moments.get((client, taken))
            if at is None:
                try:
                    m = self._instant(taken)
                except NotAMoment as error:
                    self.refused.append(Refused(line, "taken_at", taken, str(error)))
                    continue
                at = self.by_instant.get((client, m.instant, m.timed))
                if at is None:
                    at = self.by_instant[client, m.instant, m.timed] = len(self.by_instant) + 1
                    visits = self._visits_of(client, m)
                    new_moments.append(
                        (at, client, taken, m.instant, int(m.timed), visits[0] if visits else None)
                    )
                    new_there += [(at, v) for v in visits]
                moments[client, taken] = at
            about = (age, height, conds)
            if stated.get(at) != about and about != _NOTHING:
                stated[at] = about
                self.statements.setdefault((at, *about), line)
            batch.append((at, series, rep, line, value, entered, unit, status, note))
            if wanted:
                origin.append(r)
        with _block(self.conn):
            self.conn.executemany(
                f"INSERT INTO moment_{self.k} VALUES (?, ?, ?, ?, ?, ?)", new_moments
            )
            self.conn.executemany(f"INSERT INTO there_{self.k} VALUES (?, ?)", new_there)
            self.conn.executemany(
                f"INSERT INTO series_{self.k} VALUES (?, ?, ?, ?, ?, ?, ?)", new_series
            )
            before = self.conn.total_changes
            self.conn.executemany(
                f"INSERT OR IGNORE INTO staged_{self.k} VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)", batch
            )
            if self.conn.total_changes - before < len(batch):
                self._repeated(batch)
        self.sample += origin[: SAMPLE - len(self.sample)]

    def _card(self, card: ImportCard) -> None:
        """Keep what a card adds to the study.

        One that contradicts it, or another card, is refused.
        """
        if card.sex and (self.sexes.get(card.code) or card.sex) != card.sex:
            self.refused.append(
                Refused(
                    card.line,
                    "sex",
                    card.sex,
                    f"client {card.code} is {self.sexes[card.code]} elsewhere",
                )
            )
            return
        whole = born(card, self.today)
        if isinstance(whole, Refused):
            self.refused.append(whole)
            return
        found = news_of(self.conn, whole, self.cards.get(card.code))
        if isinstance(found, Refused):
            self.refused.append(found)
        elif found is not None:
            self.cards[card.code] = found
        if card.sex:
            self.sexes[card.code] = card.sex

    def _contradiction(
        self, line: int, client: str, sex: str, instrument: str, kind: str
    ) -> Refused | None:
        if sex and (self.sexes.get(client) or sex) != sex:
            return Refused(line, "sex", sex, f"client {client} is {self.sexes[client]} elsewhere")
        if self.kinds.setdefault(instrument, kind) != kind:
            return Refused(
                line, "kind", kind, f"{instrument} is a {self.kinds[instrument]} elsewhere"
            )
        if sex:
            self.sexes[client] = sex
        return None

    def _instant(self, taken: str) -> Moment:
        """The instant of a text; the texts of a table come again and again."""
        found = self.instants.get(taken)
        if found is None:
            if len(self.instants) > 50_000:
                self.instants.clear()
            found = self.instants[taken] = moment(taken, self.zone)
        return found

    def _visits_of(self, client: str, m: Moment) -> list[int]:
        """The visits that hold readings of this client and instant already."""
        if client not in self.known:
            return []
        if client not in self.visits:
            there = self.visits[client] = {}
            for instant, timed, visit in self.conn.execute(
                "SELECT DISTINCT r.instant, r.timed, r.visit FROM client c JOIN visit v ON v.client"
                " = c.id JOIN reading r ON r.visit = v.id WHERE c.code = ? ORDER BY r.visit",
                (client,),
            ):
                there.setdefault((instant, timed), []).append(visit)
        return self.visits[client].get((m.instant, int(m.timed)), [])

    def _series_ids(self, instrument: str, label: str) -> tuple[int | None, int | None]:
        """Instrument id, and setting id when there is exactly one of that label."""
        row = self.conn.execute(
            "SELECT id FROM instrument WHERE name = ?", (instrument,)
        ).fetchone()
        if row is None:
            return None, None
        ids = self.conn.execute(
            "SELECT id FROM setting WHERE instrument = ? AND label = ?", (row[0], label)
        ).fetchall()
        return row[0], ids[0][0] if len(ids) == 1 else None

    def _repeated(self, batch: list[tuple[Any, ...]]) -> None:
        """Rows of a block whose key was staged before: the same again, or a contradiction."""
        for at, series, rep, line, value, entered, _unit, status, _note in batch:
            first, there, was = self.conn.execute(
                f"SELECT line, value, status FROM staged_{self.k} WHERE moment = ? AND series = ?"
                " AND replicate = ?",
                (at, series, rep),
            ).fetchone()
            if first == line:
                continue
            if there == value and was == status:
                self.same += 1
            else:
                why = (
                    f"contradicts {self.where(first)}: same client, time, instrument, metric and"
                    " replicate"
                )
                self.refused.append(Refused(line, "value", entered, why))

    def against_study(self) -> None:
        """Take out what the study holds already; a reading with another value is refused."""
        k = self.k
        join = (
            # CROSS JOIN keeps the order: each staged row looks up its visit's readings by their key
            f"FROM staged_{k} s CROSS JOIN moment_{k} m ON m.id = s.moment CROSS JOIN series_{k} l"
            f" ON l.id = s.series CROSS JOIN there_{k} h ON h.moment = m.id CROSS JOIN reading r ON"
            " r.visit = h.visit AND r.instant = m.instant AND r.timed = m.timed AND r.instrument ="
            " l.instrument_id AND r.metric = l.metric AND r.replicate = s.replicate LEFT JOIN"
            " setting t ON t.id = r.setting WHERE ifnull(t.label, '') = l.label"
        )
        equal = "(s.value IS r.value OR abs(s.value - r.value) < 1e-9 * max(1.0, abs(r.value)))"
        with _block(self.conn):
            known = self.conn.execute(
                f"SELECT s.moment, s.series, s.replicate, s.line, s.entered, r.value, {equal}"
                f" {join}"
            ).fetchall()
            for *_key, line, entered, value, same in known:
                if same:
                    self.same += 1
                else:
                    self.refused.append(
                        Refused(
                            line,
                            "value",
                            entered,
                            f"the study already holds {value} for this reading",
                        )
                    )
            self.conn.executemany(
                f"DELETE FROM staged_{k} WHERE moment = ? AND series = ? AND replicate = ?",
                [row[:3] for row in known],
            )
        if known:
            lines = {row[3] for row in known}
            self.sample = [r for r in self.sample if r.line not in lines]

    def done(self) -> Staged:
        """What has been staged."""
        new = self.conn.execute(f"SELECT count(*) FROM staged_{self.k}").fetchone()[0]
        refused = tuple(sorted(self.refused, key=lambda r: r.line))
        sexes = tuple((c, s) for c, s in self.sexes.items() if s)
        statements = tuple((*what, line) for what, line in self.statements.items())
        cards = tuple(self.cards.values())
        careful = {
            code for (code,) in self.conn.execute("SELECT code FROM client WHERE cautions <> ''")
        }
        careful |= {c.code for c in cards if c.cautions}
        cautioned = self._readings_of(careful)
        return Staged(
            self.k,
            new,
            self.same,
            refused,
            tuple(self.sample),
            frozenset(self.metrics),
            sexes,
            statements,
            cards,
            cautioned,
            tuple(self.respelled.items()),
            self.seen,
        )

    def _readings_of(self, codes: set[str]) -> tuple[tuple[str, str, str, int], ...]:
        """How many staged readings of each instrument are of these clients."""
        if not codes:
            return ()
        rows = self.conn.execute(
            f"SELECT m.client, l.instrument, l.kind, count(*) FROM staged_{self.k} s JOIN"
            f" moment_{self.k} m ON m.id = s.moment JOIN series_{self.k} l ON l.id = s.series WHERE"
            " m.client IN (SELECT value FROM json_each(?)) GROUP BY 1, 2, 3 ORDER BY 1, 2",
            (json.dumps(sorted(codes)),),
        )
        return tuple(rows.fetchall())


class _block:  # noqa: N801  (reads as a statement)
    """One transaction for a block of temporary rows, unless one is open already."""

    def __init__(self, conn: sqlite3.Connection) -> None:
        self.conn, self.own = conn, not conn.in_transaction

    def __enter__(self) -> None:
        if self.own:
            self.conn.execute("BEGIN")

    def __exit__(self, kind: type[BaseException] | None, *rest: object) -> None:
        if self.own:
            self.conn.execute("COMMIT" if kind is None else "ROLLBACK")


def _line(number: int) -> str:
    return f"line {number}"


def stage(
    conn: sqlite3.Connection,
    rows: Iterable[ImportRow | ImportCard | Refused],
    where: Callable[[int], str] = _line,
    *,
    today: str,
) -> Generator[int, None, Staged]:
    """Stage rows; yields the number of rows seen after each block, returns what an import would do.

    ``where`` puts the number of a line into words; ``today`` is an ISO date, after which nobody is
    born.
    """
    work = _Stage(conn, where, today)
    source = iter(rows)
    seen = 0
    try:
        while block := list(itertools.islice(source, BLOCK)):
            work.block(block)
            seen += len(block)
            yield seen
        work.against_study()
    except BaseException:
        drop_tables(conn, work.k)
        raise
    return work.done()


def drop_tables(conn: sqlite3.Connection, number: int) -> None:
    """Remove the temporary tables of one staging."""
    for table in ("staged", "moment", "there", "series", "choice", "guard"):
        conn.execute(f"DROP TABLE IF EXISTS temp.{table}_{number}")


def drop(conn: sqlite3.Connection, staged: Staged) -> None:
    """Give up what was staged."""
    drop_tables(conn, staged.number)
