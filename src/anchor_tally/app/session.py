"""The open study: snapshot, lens, commands, undo and redo."""

from __future__ import annotations

import os
from collections.abc import Callable, Generator, Iterable
from pathlib import Path
from typing import Any

from ..analysis.compare import CompareResult, LadderRequest
from ..analysis.derive import raw_metrics, with_methods
from ..analysis.pairing import CannotCompare
from ..domain.errors import UserError
from ..domain.lens import Lens
from ..domain.records import AssessorValue, CalibrationRecord, CheckWeight, ImportRow, Reading, Refused
from ..domain.snapshot import Columns, Snapshot, joined
from ..domain.steps import finish
from ..exchange import data_package, readings_csv, workbook
from ..study import commands, dump, open_file, read, staging
from ..study.visits import visits


class Session:
    """One open study. ``changed`` is called after every edit and change of lens."""

    def __init__(self, conn: Any, path: Path | None) -> None:
        self._conn, self.path = conn, path
        self.lens = Lens()
        self.revision = 0
        self.changed: list[Callable[[], None]] = []
        self._undo: list[commands.Command] = []
        self._redo: list[commands.Command] = []
        self._columns: dict[str, Columns] = {}
        self._grown: set[str] = set()
        self._snapshots: dict[str, Snapshot] = {}
        self.read_only = path is not None and not (os.access(path, os.W_OK) and os.access(path.parent, os.W_OK))

    @classmethod
    def open(cls, path: Path, *, read_only: bool = False) -> Session:
        """Open a study file, or read a tidy CSV into a study in memory."""
        if path.suffix.lower() != ".tally" and not open_file.is_sqlite(path):
            session = cls(open_file.create_in_memory(path.stem), None)
            staged = finish(session.stage(readings_csv.open_readings(path).rows))
            refuse_if_bad(str(path), staged)
            finish(session.take(staged, path.name))
            return session
        return cls(open_file.open_study(path, read_only=read_only), path)

    @classmethod
    def new(cls, path: Path, title: str) -> Session:
        """Create a study file."""
        return cls(open_file.create(path, title), path)

    def close(self) -> None:
        """Close the file."""
        self._conn.close()

    # writing
    def do(self, command: commands.Command) -> None:
        """Apply an edit; it can be undone."""
        self._undo.append(self._apply(command))
        self._redo.clear()
        self._notify()

    def _apply(self, command: commands.Command) -> commands.Command:
        inverse, touched = commands.run(self._conn, command)
        self._forget(touched, only_adds=isinstance(command, commands.ImportReadings))
        return inverse

    def _forget(self, touched: frozenset[str], *, only_adds: bool) -> None:
        """Drop what an edit has made stale; columns that only grew are kept and read on."""
        self.revision += 1
        for metric in touched & self._columns.keys():
            if only_adds:
                self._grown.add(metric)
            else:
                del self._columns[metric]
                self._grown.discard(metric)
        self._snapshots.clear()

    def _column(self, metric: str) -> Columns:
        """All readings of a metric; those that came since the last look are read and added."""
        kept = self._columns.get(metric)
        if kept is None:
            kept = self._columns[metric] = read.columns(self._conn, metric)
        elif metric in self._grown:
            after = int(kept.reading[-1]) if kept.n else 0
            kept = self._columns[metric] = joined(kept, read.columns(self._conn, metric, after))
        self._grown.discard(metric)
        return kept

    def undo(self) -> str | None:
        """Take back the last edit; return its words."""
        return self._swap(self._undo, self._redo)

    def redo(self) -> str | None:
        """Do again what was undone; return its words."""
        return self._swap(self._redo, self._undo)

    def _swap(self, source: list[commands.Command], target: list[commands.Command]) -> str | None:
        if not source:
            return None
        command = source[-1]
        target.append(self._apply(command))
        source.pop()
        self._notify()
        return command.words

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
        for callback in self.changed:
            callback()

    def correct_reading(self, reading: int, typed: str | None, why: str) -> None:
        """Change a reading's value; None marks it failed."""
        self.do(commands.correct_reading(self._conn, reading, typed, why))

    def exclude(self, reading: int, reason: str) -> None:
        """Exclude a reading with a reason."""
        self.do(commands.exclude_reading(self._conn, reading, reason))

    def put_back(self, reading: int) -> None:
        """Put an excluded reading back."""
        self.do(commands.put_back(self._conn, reading))

    def stage(self, rows: Iterable[ImportRow | Refused]) -> Generator[int, None, staging.Staged]:
        """Put rows beside the study and find out what an import would do; yields the number of rows seen."""
        return staging.stage(self._conn, rows)

    def drop(self, staged: staging.Staged) -> None:
        """Give up what was staged."""
        staging.drop(self._conn, staged)

    def take(self, staged: staging.Staged, source: str) -> Generator[float, None, None]:
        """Take staged rows into the study, in one transaction; closing the generator half-way takes everything back."""
        inverse, touched = yield from commands.run_steps(self._conn, commands.TakeStaged(staged, source))
        self._undo.append(inverse)
        self._redo.clear()
        self._forget(touched, only_adds=True)
        self._notify()

    # reading
    @property
    def title(self) -> str:
        """The study's title."""
        return str(self._conn.execute("SELECT title FROM study").fetchone()[0])

    @property
    def visit_gap_seconds(self) -> int:
        """Readings of a client closer than this form one visit."""
        return int(self._conn.execute("SELECT visit_gap_minutes FROM study").fetchone()[0]) * 60

    def metrics(self) -> list[str]:
        """Metrics with readings, and those that an equation yields from them."""
        return read.metrics_present(self._conn)

    def snapshot(self, metric: str | None = None) -> Snapshot:
        """The study as columns of ``metric`` (default: the lens') and of the raw inputs of methods."""
        wanted = metric or self.lens.metric
        if wanted not in self._snapshots:
            present = set(self.metrics())
            needed = ({wanted} | raw_metrics()) & present
            base = Snapshot(
                self.revision,
                self.title,
                read.clients(self._conn),
                read.instruments(self._conn),
                read.settings(self._conn),
                visits(self._conn),
                {m: self._column(m) for m in needed},
            )
            self._snapshots[wanted] = with_methods(base)
        return self._snapshots[wanted]

    def readings(self, ids: list[int] | None = None, visit: int | None = None) -> list[Reading]:
        """Readings in full."""
        return read.readings(self._conn, ids, visit)

    def visits_of(self, client: str) -> list[tuple[int, str]]:
        """Visits of a client, newest first."""
        return read.visits_of(self._conn, client)

    def history(self, reading: int) -> list[tuple[str, str, str, str]]:
        """Changes of a reading."""
        return read.history(self._conn, reading)

    def instrument_lanes(self) -> list[tuple[str, str, str]]:
        """Instrument, kind and metric of everything that has been read in this study."""
        return read.lanes(self._conn)

    def settings_at(self, instrument: str, day: str, client: str = "") -> str:
        """Label of the setting in force for an instrument on a day (the client's own before one for all), or empty."""
        return read.setting_in_force(self._conn, instrument, day, client)

    def scan_days(self, client: str) -> tuple[str, ...]:
        """Days of a client's scans in this study."""
        return read.scan_days(self._conn, client)

    def heights(self, client: int) -> list[tuple[int, str, float, str, str]]:
        """Height history of a client."""
        return read.heights(self._conn, client)

    def offered(self) -> dict[int, dict[str, float | None]]:
        """Metrics that each instrument offers, with their resolution."""
        return read.offered(self._conn)

    def check_weights(self) -> list[CheckWeight]:
        """Check weights."""
        return read.check_weights(self._conn)

    def assessor_values(self) -> list[AssessorValue]:
        """Values of assessor checks."""
        return read.assessor_values(self._conn)

    def protocol(self) -> tuple[str, ...]:
        """Keys of the conditions that this study asks for."""
        return read.protocol(self._conn)

    def visit_note(self, visit: int) -> tuple[dict[str, str], str, str]:
        """Conditions, assessor and remarks of a visit."""
        return read.visit_note(self._conn, visit)

    def calibrations(self) -> list[CalibrationRecord]:
        """Calibrations in force."""
        return commands.calibrations_in_force(self._conn)

    def export(self, path: Path) -> int:
        """Write the study as tidy CSV, XLSX or data package, by the suffix; return the number of readings."""
        suffix = path.suffix.lower()
        if suffix == ".zip":
            data_package.write(path, dump.study_facts(self._conn), dump.dump(self._conn))
            return int(self._conn.execute("SELECT count(*) FROM reading").fetchone()[0])
        readings = self.readings()
        if suffix == ".xlsx":
            snapshot = self.snapshot()
            workbook.write(path, readings, self._ladder(snapshot), snapshot)
        elif suffix == ".csv":
            lines = readings_csv.write(readings, read.conditions(self._conn))
            try:
                with path.open("w", encoding="utf-8", newline="") as f:
                    f.writelines(lines)
            except OSError as error:
                raise UserError(f"{path}: cannot be written ({error.strerror}); the study is unchanged") from error
        else:
            raise UserError(f"{path}: a study is written as .csv, .xlsx or .zip (data package); nothing was written")
        return len(readings)

    def _ladder(self, snapshot: Snapshot) -> tuple[CompareResult, ...]:
        """Every instrument against the reference of the lens; none when there is no reference."""
        try:
            return finish(LadderRequest(snapshot, self.lens).run())
        except CannotCompare:
            return ()

    @classmethod
    def from_package(cls, package: Path, path: Path) -> Session:
        """Make a study file from a data package; nothing is left behind when it does not fit."""
        facts, tables = data_package.read(package)
        session = cls.new(path, path.stem)
        try:
            dump.load(session._conn, facts, tables)
        except UserError:
            session.close()
            path.unlink()
            raise
        return session


def refuse_if_bad(name: str, staged: staging.Staged) -> None:
    """Raise one sentence when a file has refused rows or no rows."""
    if staged.refused:
        r = staged.refused[0]
        rest = f" (and {len(staged.refused) - 1} more rows)" if len(staged.refused) > 1 else ""
        raise UserError(f'{name}, line {r.line}, {r.column} "{r.text}": {r.reason}{rest}; nothing was imported')
    if not staged.new and not staged.already_there:
        raise UserError(f"{name}: the file has a header but no readings; nothing was imported")
