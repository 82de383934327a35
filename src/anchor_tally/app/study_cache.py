"""What is kept of a study between edits, and which edit makes what of it stale."""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterable
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any, Literal

import numpy as np

from ..analysis.ask.question import Asked
from ..analysis.offsets.record import is_stale
from ..analysis.pairs.computed_values import Derived, derive_steps, raw_metrics, with_derived
from ..analysis.pairs.repeat_spread import LAST, usual_spread
from ..analysis.plan.schedule import Measured, ordinal
from ..analysis.review.held_back import beside
from ..domain.calibrations import CalibrationRecord
from ..domain.catalogue import Catalogue
from ..domain.clock import SYSTEM, Clock
from ..domain.events import Event, Goal
from ..domain.instants import zone_named
from ..domain.lens import Lens
from ..domain.scheme import Scheme
from ..domain.snapshot import Growing, Snapshot, VisitColumns
from ..domain.steps import finish
from ..study import read, read_calibrations, read_columns
from ..study.connection import StudyError
from ..study.edits.edit import Touched
from ..study.facts import Fact
from ..study.visits import visits, visits_steps


class StudyCache:
    """A study as it was read last.

    An edit drops the pieces it touched; they are read again when they are asked for.
    """

    def __init__(self, conn: Any, clock: Clock = SYSTEM) -> None:
        self._conn, self.clock = conn, clock
        self.lens = Lens()
        self.writing = False  # an import is half written: nothing is read meanwhile
        self._outputs: tuple[
            str, ...
        ] = ()  # metrics that equations yielded when they were computed last
        self._revision = 0
        self.edits = 0  # grows with every edit of anything
        self._around = 0  # edits of what belongs to the readings
        self._revisions: dict[str, int] = {}
        self._forget_all()

    def _start_anew(self) -> None:
        self._forget_all()
        self._revision += 1
        self.edits += 1
        self._revisions.clear()

    def _forget_all(self) -> None:
        self._columns: dict[str, Growing] = {}
        self._grown: set[str] = set()
        self._catalogue: Catalogue | None = None
        self._visits: VisitColumns | None = None
        self._heights: dict[int, float] | None = None
        self._aged: frozenset[int] | None = None
        self._derived: Derived | None = None
        self._snapshots: dict[str, Snapshot] = {}
        self._versions: list[tuple[CalibrationRecord, bool]] | None = None
        self._codes: list[str] | None = None
        self._events: tuple[Event, ...] | None = None
        self._goals: tuple[Goal, ...] | None = None
        self._scheme: Scheme | None = None
        self._measured: tuple[Measured, ...] | None = None
        self._stale: dict[int, bool] = {}
        self._spreads: dict[tuple[str, str, int], float | None] = {}
        self._people: dict[int, Snapshot] = {}
        self._series_known: list[tuple[str, str, str]] | None = None
        self._present: list[str] | None = None

    def _forget(self, touched: Touched) -> None:
        """Drop what an edit has made stale; columns that only grew are kept and read on."""
        self.edits += 1
        for metric in touched.metrics & self._columns.keys():
            if touched.only_adds:
                self._grown.add(metric)
            elif not self._patched(metric, touched.visit):
                del self._columns[metric]
                self._grown.discard(metric)
        self._forget_spreads(touched)
        if touched.metrics or touched.facts & ANSWERS:
            self._revision += 1
        for piece in PIECES:
            if piece.is_stale(touched):
                piece.drop(self, touched)

    def _forget_spreads(self, touched: Touched) -> None:
        """Usual spreads depend on the readings of one metric.

        Where one visit was touched, on those of that visit only.
        """
        if (
            touched.visit is not None and touched.only_adds and "visits" in touched.facts
        ):  # a visit just made: what was known before it holds
            self._spreads |= {
                (m, i, touched.visit): v for (m, i, at), v in self._spreads.items() if at == 0
            }
        self._spreads = {
            k: v
            for k, v in self._spreads.items()
            if k[0] not in touched.metrics or (touched.visit is not None and k[2] == touched.visit)
        }

    def _forget_answers(self, touched: Touched) -> None:
        """Snapshots and revisions of the metrics that a result could have been computed from."""
        everything = bool(touched.facts & ANSWERS) or touches_raw(touched)
        for kept in (self._snapshots, self._revisions):
            for metric in list(kept):
                if everything or touched.metrics & ({metric} | beside(metric)):
                    del kept[metric]

    def _patched(self, metric: str, visit: int | None) -> bool:
        """Read the readings of one visit anew, where the same ones are there as before.

        False where more has changed.
        """
        growing = self._columns[metric]
        if visit is None or growing.filling or metric in self._grown:
            return False
        there = growing.columns()
        place = np.flatnonzero(there.visit == visit)
        rows = read_columns.visit_columns(self._conn, metric, visit)
        if not np.array_equal(there.reading[place], rows.reading):
            return False
        self._columns[metric] = growing.with_rows(place, rows)
        return True

    def asked(self, metric: str | None = None) -> Asked:
        """The question that the lens puts to the study as it is now.

        A result that answers another one is out of date.
        """
        return Asked(
            self._revisions.setdefault(metric or self.lens.metric, self._revision), self.lens
        )

    # reading
    def connection(self) -> Any:
        """The study's connection, for reading committed data only.

        For this floor, not for screens.
        """
        if self.writing:
            raise StudyError(
                "an import is being written: what is not shown yet waits until it is done"
            )
        return self._conn

    def catalogue(self) -> Catalogue:
        """Clients, instruments, settings, protocol."""
        if self._catalogue is None:
            self._catalogue = read.catalogue(self.connection())
        return self._catalogue

    def now(self) -> datetime:
        """Return the present moment as the study writes it: in its time zone, without naming it."""
        return self.clock.now().astimezone(zone_named(self.catalogue().zone)).replace(tzinfo=None)

    def today(self) -> str:
        """Return the present day in the study's time zone, as ISO 8601."""
        return self.now().date().isoformat()

    def metrics(self) -> list[str]:
        """Metrics with readings."""
        if self._present is None:
            self._present = read.metrics_present(self.connection())
        return self._present

    def _column_steps(self, metric: str) -> Generator[int, None, None]:
        """Make sure that all readings of a metric are kept.

        Those that came since the last look are read and added.
        """
        while metric not in self._columns or metric in self._grown:
            conn = self.connection()
            if metric not in self._columns:
                self._columns[metric] = Growing(metric, read_columns.count_of(conn, metric))
                self._grown.add(metric)
            growing = self._columns[metric]
            if growing.filling:  # another question is reading the same
                yield growing.n
                continue
            self._grown.discard(metric)
            growing.filling, whole = True, False
            try:
                whole = yield from read_columns.fill_steps(conn, growing)
            finally:
                growing.filling = False
                if not whole:
                    self._grown.add(metric)

    def snapshot_steps(self, metric: str | None = None) -> Generator[float, None, Snapshot]:
        """The study as columns of one metric (default: the lens'), values of equations included.

        Yields as it goes.

        An edit between two steps is no harm: the pieces that it touched are read again.
        """
        wanted = metric or self.lens.metric
        while wanted not in self._snapshots:
            start = self._revision
            used = raw_metrics() | beside(wanted)
            needed = (wanted, *sorted((used & set(self.metrics())) - {wanted}))
            for name in needed:
                for _ in self._column_steps(name):
                    yield 0.3
            if self._visits is None:
                found = yield from visits_steps(self.connection())
                if self._revision == start:
                    self._visits = found
            if self._revision != start or self._visits is None:
                continue
            base = Snapshot(
                self._revision_of(wanted),
                self.catalogue(),
                self._visits,
                {m: self._columns[m].columns() for m in needed},
            )
            derived = self._derived or (yield from derive_steps(base))
            if self._revision != start:
                continue
            self._derived = derived
            there = self._columns[wanted].n or wanted in derived.columns
            columns = {wanted: base.columns[wanted]} if there else {}
            inputs = {m: c for m, c in base.columns.items() if m in used}
            known = replace(
                base,
                columns=columns,
                inputs=inputs,
                confirmed=self.confirmed(),
                now=self.clock.now().timestamp(),
            )
            self._snapshots[wanted] = with_derived(known, derived)
        return self._snapshots[wanted]

    def wide_snapshot_steps(self, metrics: tuple[str, ...]) -> Generator[float, None, Snapshot]:
        """The study as columns of several metrics at one moment; yields as it goes."""
        while True:
            start = self._revision
            parts: list[Snapshot] = []
            for metric in metrics:
                parts.append((yield from self.snapshot_steps(metric)))
            if self._revision == start:
                columns = {m: c for part in parts for m, c in part.columns.items()}
                return replace(parts[0], columns=columns)

    def snapshot(self, metric: str | None = None) -> Snapshot:
        """The same at once."""
        return finish(self.snapshot_steps(metric))

    def _revision_of(self, metric: str) -> int:
        return self._revisions.setdefault(metric, self._revision)

    def metrics_known(self) -> list[str]:
        """Metrics with readings, then those that equations yield from them.

        Only those that were computed already.
        """
        there = self.metrics()
        computed = self._derived.columns if self._derived else self._outputs
        self._outputs = tuple(computed)
        return there + [m for m in computed if m not in there]

    def person(self, client: int) -> Snapshot:
        """One client alone: visits, and the raw readings that equations use."""
        if client not in self._people:
            conn = self.connection()
            columns = read_columns.client_columns(conn, client, raw_metrics())
            self._people[client] = Snapshot(
                self._revision, self.catalogue(), visits(conn, client), columns
            )
        return self._people[client]

    def usual_spread(self, instrument: str, metric: str, visit: int | None) -> float | None:
        """Usual SD of repeats of an instrument, from its last readings before this visit."""
        key = (metric, instrument, visit or 0)
        if key not in self._spreads:
            item = next(
                (i for i in self.catalogue().instruments.values() if i.name == instrument), None
            )
            self._spreads[key] = (
                usual_spread(
                    read_columns.last_columns(self.connection(), metric, item.id, LAST, visit or 0)
                )
                if item is not None
                else None
            )
        return self._spreads[key]

    def calibrations(self) -> list[CalibrationRecord]:
        """Calibrations in force."""
        return read_calibrations.in_force(self._all_versions())

    def _all_versions(self) -> list[tuple[CalibrationRecord, bool]]:
        if self._versions is None:
            self._versions = read_calibrations.calibration_versions(self.connection())
        return self._versions

    def stale(self, record: CalibrationRecord) -> bool:
        """Whether a reading behind a calibration has changed since it was adopted."""
        if record.id not in self._stale:
            if any("@" in s for s in record.sources):
                snapshot = self.snapshot(record.metric)
            else:
                kept = self._columns.get(record.metric)
                if kept is not None and record.metric not in self._grown and not kept.filling:
                    c = kept.columns()
                else:
                    c = read_columns.some_columns(
                        self.connection(), record.metric, tuple(int(s) for s in record.sources)
                    )
                snapshot = Snapshot(0, self.catalogue(), visits(self._conn, -1), {record.metric: c})
            self._stale[record.id] = is_stale(record, snapshot)
        return self._stale[record.id]

    def stated_heights(self) -> dict[int, float]:
        """The height stated at a client's newest visit that states one, by client."""
        if self._heights is None:
            self._heights = read.stated_heights(self.connection())
        return self._heights

    def with_stated_age(self) -> frozenset[int]:
        """Clients whose age is stated at a visit."""
        if self._aged is None:
            self._aged = read.with_stated_age(self.connection())
        return self._aged

    def codes_by_last_visit(self) -> list[str]:
        """Codes of the clients, the one seen last first.

        Those without a visit in alphabetical order.
        """
        if self._codes is None:
            self._codes = read.codes_by_last_visit(self.connection())
        return self._codes

    def instruments_and_metrics(self) -> list[tuple[str, str, str]]:
        """Instrument, kind and metric of everything that has been read in this study."""
        if self._series_known is None:
            self._series_known = read.series_known(self.connection())
        return self._series_known

    def events(self) -> tuple[Event, ...]:
        """What happened to clients and instruments, oldest first."""
        if self._events is None:
            self._events = read.events(self.connection())
        return self._events

    def scheme(self) -> Scheme:
        """The rules of the calendar, and the days that were moved."""
        if self._scheme is None:
            self._scheme = read.scheme(self.connection())
        return self._scheme

    def measured_steps(self) -> Generator[float, None, tuple[Measured, ...]]:
        """Every station of every visit; yields as it goes."""
        while self._measured is None:
            start = self.edits
            found = yield from read.measured_steps(self.connection())
            if start == self.edits:
                self._measured = tuple(
                    Measured(c, s, ordinal(at), v, _hour(at)) for v, c, s, at in found
                )
        return self._measured

    def goals(self) -> tuple[Goal, ...]:
        """What clients want to reach."""
        if self._goals is None:
            self._goals = read.goals(self.connection())
        return self._goals

    def content(self) -> tuple[int, int]:
        """Numbers that stand for everything that the review looks at.

        Notes on cards and decisions do not change them.
        """
        return self._revision, self._around

    def confirmed(self) -> frozenset[str]:
        """Keys of findings that somebody has looked at and left as they are."""
        decided = read.decisions(self.connection())
        return frozenset(k for k, (decision, _) in decided.items() if decision == "keep")


def _hour(moment: str) -> float | None:
    """The hour of a moment as written; None for a day alone."""
    return int(moment[11:13]) + int(moment[14:16]) / 60 if len(moment) > 10 else None


Readings = Literal[
    "none", "any", "raw"
]  # which readings a piece depends on: none, all, or those that equations use
# what a result of a metric is computed from, beside its readings and those of its equations
ANSWERS: frozenset[Fact] = frozenset({"visits", "people", "instruments", "settings", "study"})


def touches_raw(touched: Touched) -> bool:
    """Whether an edit touched readings that equations use."""
    return bool(touched.metrics & raw_metrics())


@dataclass(frozen=True, slots=True)
class Piece:
    """Something that is kept of a study between edits.

    Attributes
    ----------
    facts : frozenset of Fact
        An edit that touches one of them makes the piece stale.
    readings : str
        So does an edit of readings: of any metric, of those that equations use (raw), or of none.
    drop : callable
        Lets go of the piece; it is read again when it is asked for.
    """

    facts: frozenset[Fact]
    readings: Readings
    drop: Callable[[StudyCache, Touched], None]

    def is_stale(self, touched: Touched) -> bool:
        """Whether an edit has made the piece stale."""
        by_readings = (self.readings == "any" and bool(touched.metrics)) or (
            self.readings == "raw" and touches_raw(touched)
        )
        return by_readings or bool(self.facts & touched.facts)


def _piece(
    facts: Iterable[Fact], readings: Readings, *names: str, tables: tuple[str, ...] = ()
) -> Piece:
    """A piece made of attributes: ``names`` are None until they are read, ``tables`` fill up."""

    def drop(cache: StudyCache, _touched: Touched) -> None:
        for name in names:
            setattr(cache, name, None)
        for name in tables:
            setattr(cache, name, {})

    return Piece(frozenset(facts), readings, drop)


def _count(cache: StudyCache, _touched: Touched) -> None:
    cache._around += 1


# the one table of what makes what stale; every fact of the study file is in it, or in
# READ_EACH_TIME
PIECES: tuple[Piece, ...] = (
    _piece(
        ("cards", "people", "instruments", "settings", "offers", "protocol", "study"),
        "none",
        "_catalogue",
    ),
    _piece(("visits", "people"), "none", "_codes", "_visits", "_heights", "_aged"),
    _piece(("scheme",), "none", "_scheme"),
    _piece(("visits", "instruments"), "any", "_measured"),
    _piece(("events", "cards", "people", "instruments"), "none", "_events", "_goals"),
    _piece(("visits", "people", "instruments", "settings"), "any", tables=("_people",)),
    _piece(("visits", "people", "instruments"), "raw", "_derived"),
    _piece(("calibrations", "instruments"), "none", "_versions"),
    _piece(("visits", "people", "instruments", "study"), "any", "_present", tables=("_stale",)),
    _piece(("instruments",), "any", "_series_known"),
    Piece(ANSWERS, "any", StudyCache._forget_answers),
    _piece(("decisions",), "none", tables=("_snapshots",)),
    Piece(frozenset({"conditions", "protocol", "checks", "offers", "visits"}), "none", _count),
)
READ_EACH_TIME: frozenset[Fact] = frozenset({"attachments"})
