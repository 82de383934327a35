"""Writing a study, or what its lens shows, in the open formats; making a study from a data package."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from ..analysis.agreement.agreement import CompareResult, LadderRequest
from ..analysis.pairs.comparator import CannotCompare
from ..domain.clock import SYSTEM, Clock
from ..domain.errors import UserError
from ..domain.steps import finish
from ..exchange import data_package, readings_csv, workbook
from ..exchange.writing import replacing
from ..study import dump, read
from ..study.visits import visits
from .session import Session


def export(session: Session, path: Path, *, full: bool = False) -> int:
    """Write the study as tidy CSV, XLSX or data package, by the suffix; return the number of readings.

    Codes only; a package is de-identified unless ``full``. Files are readable by their owner only.
    """
    suffix = path.suffix.lower()
    if suffix not in (".csv", ".xlsx", ".zip"):
        raise UserError(f"{path}: a study is written as .csv, .xlsx or .zip (data package); nothing was written")
    if full and suffix != ".zip":
        raise UserError(f"{path}: a full copy is a data package (.zip); nothing was written")
    conn = session.connection()
    if suffix == ".zip":
        tables = dump.dump(conn, visits(conn), full=full)
        data_package.write(path, dump.study_facts(conn, full=full), tables)
        return next(len(t.rows) for t in tables if t.resource == "readings")
    readings = session.readings()
    if suffix == ".xlsx":
        snapshot = session.snapshot()
        workbook.write(path, readings, _ladder(session), snapshot)
    else:
        lines: Iterator[str] = readings_csv.write(readings, read.conditions(conn))
        with replacing(path) as part, part.open("w", encoding="utf-8", newline="") as f:
            f.writelines(lines)
    return len(readings)


def _ladder(session: Session) -> tuple[CompareResult, ...]:
    """Every instrument against the reference of the lens; none when there is no reference."""
    try:
        return finish(LadderRequest(session.snapshot(), session.lens).run())
    except CannotCompare:
        return ()


def from_package(package: Path, path: Path, *, clock: Clock = SYSTEM) -> Session:
    """Make a study file from a data package; nothing is left behind when it does not fit."""
    facts, tables = data_package.read(package)
    session = Session.new(path, path.stem, clock=clock)
    try:
        dump.load(session.connection(), facts, tables)
    except BaseException:
        session.close()
        path.unlink()
        raise
    session.close()
    return Session.open(path, clock=clock)
