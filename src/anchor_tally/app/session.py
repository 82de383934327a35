"""The open study: catalogue, snapshot, lens, edits, undo and redo."""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterable
from dataclasses import replace
from pathlib import Path
from typing import Any

from ..analysis.calibrate import is_stale
from ..analysis.consistency import LAST, usual_spread
from ..analysis.derive import Derived, derive_steps, raw_metrics, with_derived
from ..analysis.question import Asked
from ..domain.catalogue import Catalogue
from ..domain.errors import UserError
from ..domain.instants import NotAMoment, moment, zone_named
from ..domain.lens import Lens
from ..domain.records import AssessorValue, CalibrationRecord, CheckWeight, ImportRow, Reading, Refused, Visit, VisitNote
from ..domain.snapshot import Growing, Snapshot, VisitColumns
from ..domain.steps import finish
from ..exchange import readings_csv
from ..study import open_file, read, staging
from ..study.connection import StudyError
from ..study.edits.edit import Edit, Restore, Touched, discard, run, run_steps
from ..study.edits.imports import TakeStaged
from ..study.one_writer import OneWriter
from ..study.visits import visits, visits_steps


class Session:
    """One open study. ``changed`` is called after every edit and change of lens."""

    def __init__(self, conn: Any, path: Path | None, writer: OneWriter | None = None, *, read_only: bool = False) -> None:
        self._conn, self.path, self._writer = conn, path, writer
        self.read_only = read_only
        self.lens = Lens()
        self.changed: list[Callable[[], None]] = []
        self.closed: list[Callable[[], None]] = []
        self.writing = False
        self._undo: list[Restore] = []
        self._redo: list[Restore] = []
        self._forget_all()
        self._mirror: Any = None  # a copy in memory, against the loss of the file
        self._outputs: tuple[str, ...] = ()  # metrics that equations yielded when they were computed last
        self._revision = 0
        self._revisions: dict[str, int] = {}
        self._file = self._mark()
        self._version = read.data_version(conn)

    # opening and closing
    @classmethod
    def open(cls, path: Path, *, read_only: bool = False) -> Session:
        """Open a study file, or read a tidy CSV into a study in memory.

        A study that another window or command is writing opens for reading only; so does one in a place that cannot be written.
        """
        if path.suffix.lower() != ".tally" and not open_file.is_sqlite(path):
            session = cls(open_file.create_in_memory(path.stem), None)
            staged = finish(session.stage(readings_csv.open_readings(path).rows))
            refuse_if_bad(str(path), staged)
            finish(session.take(staged, path.name))
            return session
        writer = OneWriter.of(path) if not read_only and path.is_file() and open_file.writable(path) else None
        try:
            return cls(open_file.open_study(path, read_only=writer is None), path, writer, read_only=writer is None)
        except UserError:
            if writer is not None:
                writer.release()
            raise

    @classmethod
    def new(cls, path: Path, title: str) -> Session:
        """Create a study file."""
        conn = open_file.create(path, title)
        writer = OneWriter.of(path)
        if writer is None:
            conn.close()
            return cls.open(path)
        return cls(conn, path, writer)

    def close(self) -> None:
        """Close the file and let another one write it."""
        self.changed.clear()
        self._conn.close()
        if self._writer is not None:
            self._writer.release()
            self._writer = None
        for callback in self.closed:
            callback()
        self.closed.clear()

    @property
    def elsewhere(self) -> bool:
        """Whether it is read only because another window or command writes it."""
        return self.read_only and self.path is not None and open_file.writable(self.path)

    def follow(self) -> bool:
        """Look whether another one has written the file; then everything is read anew. Returns whether it was."""
        if self.writing:
            return False
        try:
            version = read.data_version(self._conn)
        except Exception as error:
            raise StudyError(f"{self.path}: cannot be read any more ({error}); what is shown was read before") from error
        if version == self._version:
            return False
        self._version = version
        self._forget_all()
        self._revision += 1
        self._revisions.clear()
        self._notify()
        return True

    def take_over(self) -> bool:
        """Become the writer when the one before has let go; everything is read anew then."""
        if self.path is None or not self.read_only:
            return False
        writer = OneWriter.of(self.path)
        if writer is None:
            return False
        try:
            conn = open_file.open_study(self.path)
        except UserError:
            writer.release()
            raise
        self._conn.close()
        self._conn, self._writer, self.read_only = conn, writer, False
        self._file, self._version = self._mark(), read.data_version(conn)
        self._forget_all()
        self._revision += 1
        self._revisions.clear()
        self._notify()
        return True

    # what may have happened to the file from outside
    def _mark(self) -> tuple[int, int] | None:
        if self.path is None:
            return None
        try:
            at = self.path.stat()
        except OSError:
            return None
        return at.st_dev, at.st_ino

    def lost(self) -> str:
        """What has happened to the file under the open study: a sentence, or empty when it is where it was."""
        if self.path is None or self._file is None:
            return ""
        now = self._mark()
        if now is None:
            return f"{self.path.name} was removed or moved while it was open; keep a copy of what is in memory"
        if now != self._file:
            return f"{self.path.name} was replaced by another file while it was open; keep a copy of what is in memory"
        if not self.writing and not open_file.is_sqlite(self.path):
            return f"{self.path.name} was cut off or overwritten while it was open; keep a copy of what is in memory"
        return ""

    def keep_mirror(self, most_bytes: int = 16_000_000) -> None:
        """Hold a copy of the study in memory, against the loss of its file; a large study has none."""
        try:
            if self.path is not None and not self.writing and self.path.stat().st_size <= most_bytes:
                self._mirror = open_file.mirror(self._conn)
        except OSError:
            return  # the file is gone: the copy from before is kept

    def save_copy(self, path: Path) -> None:
        """Write what is open, or what was kept in memory of it, to a new file."""
        try:
            open_file.copy_to(self._conn, path)
        except StudyError:
            if self._mirror is None:
                raise
            open_file.copy_to(self._mirror, path)

    # writing
    def do(self, edit: Edit) -> None:
        """Apply an edit; it can be undone."""
        self._undo.append(self._apply(edit))
        self._drop_redo()
        self._notify()

    def _apply(self, edit: Edit) -> Restore:
        self._may_write()
        back, touched = run(self._conn, edit)
        self._forget(touched)
        return back

    def _may_write(self) -> None:
        if self.writing:
            raise StudyError("an import is being written; wait for it or stop it. Nothing was changed")
        if self.read_only:
            who = "it is open for writing in another window" if self.elsewhere else "it cannot be written in this place"
            raise StudyError(f"the study may only be read here: {who}; nothing was changed")
        said = self.lost()
        if said:
            raise StudyError(f"{said}; nothing was changed")

    def _drop_redo(self) -> None:
        discard(self._conn, self._redo)
        self._redo.clear()

    def undo(self) -> str | None:
        """Take back the last edit; return its words."""
        return self._swap(self._undo, self._redo)

    def redo(self) -> str | None:
        """Do again what was undone; return its words."""
        return self._swap(self._redo, self._undo)

    def _swap(self, source: list[Restore], target: list[Restore]) -> str | None:
        if not source:
            return None
        edit = source[-1]
        target.append(self._apply(edit))
        source.pop()
        self._notify()
        return edit.words

    @property
    def can_undo(self) -> bool:
        """Is there an edit to take back?"""
        return bool(self._undo)

    @property
    def can_redo(self) -> bool:
        """Is there an undone edit?"""
        return bool(self._redo)

    def look(self, lens: Lens) -> None:
        """Change the lens."""
        if lens != self.lens:
            self.lens = lens
            self._notify()

    def _notify(self) -> None:
        for callback in list(self.changed):
            callback()

    # imports
    def stage(self, rows: Iterable[ImportRow | Refused]) -> Generator[int, None, staging.Staged]:
        """Put rows beside the study and find out what an import would do; yields the number of rows seen."""
        return staging.stage(self._conn, rows)

    def drop(self, staged: staging.Staged) -> None:
        """Give up what was staged."""
        staging.drop(self._conn, staged)

    def take(self, staged: staging.Staged, source: str) -> Generator[float, None, None]:
        """Take staged rows into the study, in one transaction; closing the generator half-way takes everything back.

        Until it is whole nothing is read from the study: what is shown was read before.
        """
        self._may_write()
        self.writing = True
        try:
            back, touched = yield from run_steps(self._conn, TakeStaged(staged, source))
        finally:
            self.writing = False
        self._undo.append(back)
        self._drop_redo()
        self._forget(touched)
        self._notify()

    # what is kept of the study between edits
    def _forget_all(self) -> None:
        self._columns: dict[str, Growing] = {}
        self._grown: set[str] = set()
        self._catalogue: Catalogue | None = None
        self._visits: VisitColumns | None = None
        self._heights: dict[int, float] | None = None
        self._derived: Derived | None = None
        self._snapshots: dict[str, Snapshot] = {}
        self._calibrations: list[CalibrationRecord] | None = None
        self._stale: dict[int, bool] = {}
        self._spreads: dict[tuple[str, str, int], float | None] = {}
        self._people: dict[int, Snapshot] = {}
        self._lanes: list[tuple[str, str, str]] | None = None
        self._present: list[str] | None = None

    def _forget(self, touched: Touched) -> None:
        """Drop what an edit has made stale; columns that only grew are kept and read on."""
        for metric in touched.metrics & self._columns.keys():
            if touched.only_adds:
                self._grown.add(metric)
            else:
                del self._columns[metric]
                self._grown.discard(metric)
        facts = touched.facts
        if facts - {"visits", "conditions", "calibrations", "checks"}:
            self._catalogue = None
        if facts & {"visits", "people"}:
            self._visits = self._heights = None
        if facts & {"visits", "people", "instruments", "settings"} or touched.metrics:
            self._people.clear()
        computed = bool(touched.metrics & raw_metrics()) or bool(facts & {"visits", "people", "instruments"})
        if computed:
            self._derived = None
        if "calibrations" in facts or "instruments" in facts:
            self._calibrations = None
        if touched.metrics or computed or "study" in facts:
            self._stale.clear()
            self._present = None
        if touched.metrics or "instruments" in facts:
            self._lanes = None
        if (
            touched.visit is not None and touched.only_adds and "visits" in facts
        ):  # a visit just made: what was known before it holds
            self._spreads |= {(m, i, touched.visit): v for (m, i, at), v in self._spreads.items() if at == 0}
        self._spreads = {
            k: v
            for k, v in self._spreads.items()
            if k[0] not in touched.metrics or (touched.visit is not None and k[2] == touched.visit)
        }
        # what a result of a metric was computed from has changed: its readings, those of its equations, or what they belong to
        everything = bool(facts & {"visits", "people", "instruments", "settings", "study"})
        if everything or touched.metrics:
            self._revision += 1
            for metric in list(self._snapshots):
                if everything or computed or metric in touched.metrics:
                    del self._snapshots[metric]
            for metric in list(self._revisions):
                if everything or computed or metric in touched.metrics:
                    del self._revisions[metric]

    def asked(self, metric: str | None = None) -> Asked:
        """The question that the lens puts to the study as it is now; a result that answers another one is out of date."""
        return Asked(self._revisions.setdefault(metric or self.lens.metric, self._revision), self.lens)

    # reading
    def connection(self) -> Any:
        """The study's connection, for reading committed data only; for this floor, not for screens."""
        if self.writing:
            raise StudyError("an import is being written: what is not shown yet waits until it is done")
        return self._conn

    def catalogue(self) -> Catalogue:
        """Clients, instruments, settings, protocol."""
        if self._catalogue is None:
            self._catalogue = read.catalogue(self.connection())
        return self._catalogue

    @property
    def title(self) -> str:
        """The study's title."""
        return self.catalogue().title

    def metrics(self) -> list[str]:
        """Metrics with readings."""
        if self._present is None:
            self._present = read.metrics_present(self.connection())
        return self._present

    def _column_steps(self, metric: str) -> Generator[int, None, None]:
        """Make sure that all readings of a metric are kept; those that came since the last look are read and added."""
        while metric not in self._columns or metric in self._grown:
            conn = self.connection()
            if metric not in self._columns:
                self._columns[metric] = Growing(metric, read.count_of(conn, metric))
                self._grown.add(metric)
            growing = self._columns[metric]
            if growing.filling:  # another question is reading the same
                yield growing.n
                continue
            self._grown.discard(metric)
            growing.filling, whole = True, False
            try:
                whole = yield from read.fill_steps(conn, growing)
            finally:
                growing.filling = False
                if not whole:
                    self._grown.add(metric)

    def snapshot_steps(self, metric: str | None = None) -> Generator[float, None, Snapshot]:
        """The study as columns of one metric (default: the lens'), values of equations included; yields as it goes.

        An edit between two steps is no harm: the pieces that it touched are read again.
        """
        wanted = metric or self.lens.metric
        while wanted not in self._snapshots:
            start = self._revision
            needed = (wanted, *sorted((raw_metrics() & set(self.metrics())) - {wanted}))
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
                self._revision_of(wanted), self.catalogue(), self._visits, {m: self._columns[m].columns() for m in needed}
            )
            derived = self._derived or (yield from derive_steps(base))
            if self._revision != start:
                continue
            self._derived = derived
            there = self._columns[wanted].n or wanted in derived.columns
            columns = {wanted: base.columns[wanted]} if there else {}
            self._snapshots[wanted] = with_derived(replace(base, columns=columns), derived)
        return self._snapshots[wanted]

    def snapshot(self, metric: str | None = None) -> Snapshot:
        """The same at once."""
        return finish(self.snapshot_steps(metric))

    def _revision_of(self, metric: str) -> int:
        return self._revisions.setdefault(metric, self._revision)

    def metrics_known(self) -> list[str]:
        """Metrics with readings, then those that equations yield from them (as far as they were computed already)."""
        there = self.metrics()
        computed = self._derived.columns if self._derived else self._outputs
        self._outputs = tuple(computed)
        return there + [m for m in computed if m not in there]

    def person(self, client: int) -> Snapshot:
        """One client alone: visits, and the raw readings that equations use."""
        if client not in self._people:
            conn = self.connection()
            columns = read.client_columns(conn, client, raw_metrics())
            self._people[client] = Snapshot(self._revision, self.catalogue(), visits(conn, client), columns)
        return self._people[client]

    def usual_spread(self, instrument: str, metric: str, visit: int | None) -> float | None:
        """The SD that repeats of an instrument usually have, from its last readings before this visit."""
        key = (metric, instrument, visit or 0)
        if key not in self._spreads:
            item = next((i for i in self.catalogue().instruments.values() if i.name == instrument), None)
            self._spreads[key] = (
                usual_spread(read.last_columns(self.connection(), metric, item.id, LAST, visit or 0))
                if item is not None
                else None
            )
        return self._spreads[key]

    def calibrations(self) -> list[CalibrationRecord]:
        """Calibrations in force."""
        if self._calibrations is None:
            self._calibrations = read.calibrations(self.connection())
        return self._calibrations

    def stale(self, record: CalibrationRecord) -> bool:
        """Whether a reading behind a calibration has changed since it was adopted."""
        if record.id not in self._stale:
            if any("@" in s for s in record.sources):
                snapshot = self.snapshot(record.metric)
            else:
                c = read.some_columns(self.connection(), record.metric, tuple(int(s) for s in record.sources))
                snapshot = Snapshot(0, self.catalogue(), visits(self._conn, -1), {record.metric: c})
            self._stale[record.id] = is_stale(record, snapshot)
        return self._stale[record.id]

    def readings(self, ids: list[int] | None = None, visit: int | None = None) -> list[Reading]:
        """Readings in full."""
        return read.readings(self.connection(), ids, visit)

    def stated_heights(self) -> dict[int, float]:
        """The height stated at a client's newest visit that states one, by client."""
        if self._heights is None:
            self._heights = read.stated_heights(self.connection())
        return self._heights

    def visits_of(self, client: str) -> list[Visit]:
        """Visits of a client, newest first."""
        return read.visits_of(self.connection(), client)

    def visit_near(self, client: str, at: str) -> int | None:
        """The visit of a client that a moment belongs to; None when a reading then would begin a new one, or for no moment."""
        c = self.catalogue()
        try:
            m = moment(at, zone_named(c.zone))
        except NotAMoment:
            return None
        return read.visit_near(self.connection(), client, m.instant, timed=m.timed, gap=c.gap)

    def history(self, reading: int) -> list[tuple[str, str, str, str]]:
        """Changes of a reading."""
        return read.history(self.connection(), reading)

    def instrument_lanes(self) -> list[tuple[str, str, str]]:
        """Instrument, kind and metric of everything that has been read in this study."""
        if self._lanes is None:
            self._lanes = read.lanes(self.connection())
        return self._lanes

    def scan_days(self, client: str) -> tuple[str, ...]:
        """Days of a client's scans in this study."""
        return read.scan_days(self.connection(), client)

    def check_weights(self) -> list[CheckWeight]:
        """Check weights."""
        return read.check_weights(self.connection())

    def assessor_values(self) -> list[AssessorValue]:
        """Values of assessor checks."""
        return read.assessor_values(self.connection())

    def visit_note(self, visit: int) -> VisitNote:
        """Conditions, assessor and remarks of a visit."""
        return read.visit_note(self.connection(), visit)


def refuse_if_bad(name: str, staged: staging.Staged) -> None:
    """Raise one sentence when a file has refused rows or no rows."""
    if staged.refused:
        r = staged.refused[0]
        rest = f" (and {len(staged.refused) - 1} more rows)" if len(staged.refused) > 1 else ""
        raise UserError(f'{name}, line {r.line}, {r.column} "{r.text}": {r.reason}{rest}; nothing was imported')
    if not staged.new and not staged.already_there:
        raise UserError(f"{name}: the file has a header but no readings; nothing was imported")
