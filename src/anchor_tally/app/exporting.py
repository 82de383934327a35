"""Writing a study, or what its filters show, in the open formats.

Making a study from a data package.
"""

from __future__ import annotations

import math
from collections.abc import Collection, Generator
from dataclasses import dataclass, replace
from datetime import date
from pathlib import Path
from typing import TypeVar, cast

from ..analysis.agreement.agreement import CompareResult, LadderRequest, with_forms
from ..analysis.pairs.comparator import CannotCompare
from ..analysis.people.withheld import withheld
from ..analysis.time.group_levels import GroupRequest
from ..domain.catalogue import Catalogue
from ..domain.clock import SYSTEM, Clock
from ..domain.errors import UserError
from ..domain.free_text import FreeText
from ..domain.lens import Lens
from ..domain.records import Reading
from ..domain.snapshot import Snapshot
from ..domain.steps import finish, scaled
from ..exchange import data_package, readings_csv, workbook
from ..exchange.writing import BLOCK
from ..study import dump, read, read_columns
from ..study.open_file import create
from ..study.visits import visits_steps
from .session import Session

R = TypeVar("R")


@dataclass(frozen=True, eq=False)
class ExportMaterial:
    """Everything that an export needs, read from the study beforehand."""

    path: Path
    readings: tuple[Reading, ...] = ()
    conditions: dict[int, dict[str, str]] | None = None
    snapshot: Snapshot | None = None
    lens: Lens | None = None
    facts: dict[str, dump.Cell] | None = None
    tables: tuple[dump.PlainTable, ...] = ()
    estimated: Lens | None = None  # whose levels are written beside the readings
    withheld: int = 0  # readings whose values may not be shown


@dataclass(frozen=True, slots=True)
class Written:
    """How many readings a file holds, and how many were left out as they may not be shown."""

    readings: int
    withheld: int


def export(session: Session, path: Path, *, full: bool = False, estimates: bool = False) -> Written:
    """Write the study as tidy CSV, XLSX or data package, by the suffix.

    Parameters
    ----------
    session : Session
        The open study.
    path : Path
        Ends in .csv, .xlsx or .zip.
    full : bool
        A whole copy (.zip) with names, cautions and remarks. Otherwise codes only, no free text,
        and no reading that may not be shown: its caution stays behind.
    estimates : bool
        Each client's level from all sources after the readings (.csv).

    Returns
    -------
    Written
        The number of readings written and left out.

    Raises
    ------
    UserError
        For another suffix, and when the place cannot be written; nothing is left behind then.
    """
    return finish(write_steps(finish(collect_steps(session, path, full=full, estimates=estimates))))


def collect_steps(
    session: Session, path: Path, *, full: bool = False, estimates: bool = False
) -> Generator[float, None, ExportMaterial]:
    """Read what a file is written from, in slices between the events of a window.

    An edit meanwhile begins it anew.
    """
    suffix = path.suffix.lower()
    if suffix not in (".csv", ".xlsx", ".zip"):
        raise UserError(
            f"{path}: a study is written as .csv, .xlsx or .zip (data package); nothing was written"
        )
    if full and suffix != ".zip":
        raise UserError(f"{path}: a full copy is a data package (.zip); nothing was written")
    if estimates and suffix != ".csv":
        raise UserError(f"{path}: estimates are written into a .csv; nothing was written")
    while True:
        before = session.edits
        found = yield from _collected(session, path, full=full, estimates=estimates)
        if session.edits == before:
            return found


def _collected(
    session: Session, path: Path, *, full: bool, estimates: bool
) -> Generator[float, None, ExportMaterial]:
    conn = session.connection()
    if path.suffix.lower() == ".zip":
        persons = yield from _shares(visits_steps(conn))
        tables = yield from dump.dump_steps(conn, persons, full=full)
        hidden = set[int]()
        if not full:
            every = yield from _shares(read_columns.readings_steps(conn))
            hidden = {r.id for r in every if _withheld(session, r)}
        whole = tuple(_without(t, hidden) for t in tables)
        facts = dump.study_facts(conn, full=full)
        return ExportMaterial(path, facts=facts, tables=whole, withheld=len(hidden))
    free = read_columns.free_text(conn)
    every = yield from _shares(read_columns.readings_steps(conn))
    rows = [r for r in every if not _withheld(session, r)]
    hidden_rows = len(every) - len(rows)
    persons = yield from _shares(visits_steps(conn))
    at_visit = {
        v: (
            "" if math.isnan(age) else f"{round(age, 1):g}",
            "" if math.isnan(height) else f"{height:g}",
        )
        for v, age, height in zip(
            *(a.tolist() for a in (persons.visit, persons.age_years, persons.height_cm)),
            strict=True,
        )
    }
    readings: list[Reading] = []
    for at in range(0, len(rows), BLOCK):
        for r in rows[at : at + BLOCK]:
            age, height = at_visit[r.visit]
            readings.append(replace(free.reading(r), age_years=age, height_cm=height))
        yield 0.0
    if path.suffix.lower() == ".xlsx":
        snapshot = yield from session.snapshot_steps()
        return ExportMaterial(
            path,
            tuple(readings),
            snapshot=free.snapshot(snapshot),
            lens=_masked(session.lens, free),
            withheld=hidden_rows,
        )
    answers = yield from _shares(read.conditions_steps(conn))
    told = {k: free.answers(v) for k, v in answers.items()}
    if not estimates:
        return ExportMaterial(path, tuple(readings), told, withheld=hidden_rows)
    snapshot = yield from session.wide_snapshot_steps((session.lens.metric,))
    return ExportMaterial(
        path,
        tuple(readings),
        told,
        snapshot=snapshot,
        estimated=replace(session.lens, clients=None),
        withheld=hidden_rows,
    )


def _withheld(session: Session, r: Reading) -> bool:
    return bool(withheld(session.catalogue().client_coded(r.client), r.metric))


def _without(t: dump.PlainTable, readings: Collection[int]) -> dump.PlainTable:
    """A table of a package without some readings, and without rows about them."""
    names = [name for name, _ in t.columns]
    at = [names.index("id")] if t.resource == "readings" else []
    at += [names.index(name) for name, of in t.links if of == "readings" and name in names]
    if not at or not readings:
        return t
    return replace(t, rows=tuple(r for r in t.rows if not any(r[k] in readings for k in at)))


def _shares(steps: Generator[int, None, R]) -> Generator[float, None, R]:
    """Steps that count, as steps of a share that is not known."""
    while True:
        try:
            next(steps)
        except StopIteration as stop:
            return cast(R, stop.value)
        yield 0.0


def _masked(lens: Lens, free: FreeText) -> Lens:
    return lens if lens.setting is None else replace(lens, setting=free.setting(lens.setting))


def not_in_table(session: Session) -> tuple[str, ...]:
    """Return what answers hang on and a table of readings (CSV, XLSX) does not hold, in words.

    A data package holds it.

    Read back, the table gives the same answers where this is empty.
    """
    items = session.catalogue()
    there = (
        (bool(items.stated), "stated values"),
        (
            any(step is not None for metrics in items.offers.values() for step in metrics.values()),
            "resolutions",
        ),
        (
            bool(items.stations)
            or any(i.kind == "device" and i.counts != "agree" for i in items.instruments.values()),
            "what counts of repeats",
        ),
        (items.gap != Catalogue().gap, "the visit gap"),
        (any(i.electrodes for i in items.instruments.values()), "electrode layouts"),
        (bool(session.calibrations()), "adopted offsets"),
        (bool(session.check_weights()), "check weights"),
        (bool(session.events()), "events"),
    )
    return tuple(words for found, words in there if found)


def write_steps(material: ExportMaterial) -> Generator[float, None, Written]:
    """Write the file; yields the share done.

    Closing the generator half-way leaves nothing behind.
    """
    m = material
    if m.facts is not None:
        yield from data_package.write_steps(m.path, m.facts, m.tables)
        kept = next(len(t.rows) for t in m.tables if t.resource == "readings")
        return Written(kept, m.withheld)
    if m.snapshot is not None and m.lens is not None:
        results = yield from scaled(_ladder(m.snapshot, m.lens), 0.2)
        results = yield from scaled(with_forms(m.snapshot, results), 0.2, 0.2)
        writing = workbook.write_steps(m.path, m.readings, results, m.snapshot)
        yield from scaled(writing, 0.6, 0.4)
    else:
        found = yield from _estimates(m)
        writing = readings_csv.write_steps(m.path, m.readings, m.conditions or {}, found)
        yield from scaled(writing, *((0.5, 0.5) if m.estimated is not None else (1.0, 0.0)))
    return Written(len(m.readings), m.withheld)


def _estimates(m: ExportMaterial) -> Generator[float, None, tuple[readings_csv.EstimateRow, ...]]:
    """The level of each client whose level may be told; raises UserError where there is none."""
    if m.snapshot is None or m.estimated is None:
        return ()
    group = yield from scaled(GroupRequest(m.snapshot, m.estimated).run(), 0.5)
    return tuple(
        readings_csv.EstimateRow(
            r.client.code,
            r.client.sex,
            date.fromordinal(r.last).isoformat(),
            group.metric,
            r.value.value,
            r.value.interval.low,
            r.value.interval.high,
            r.client.code in group.waiting,
        )
        for r in group.rows
        if r.value is not None and r.value.interval is not None
    )


def _ladder(snapshot: Snapshot, lens: Lens) -> Generator[float, None, tuple[CompareResult, ...]]:
    """Every instrument against the reference of the lens; none when there is no reference."""
    try:
        return (yield from LadderRequest(snapshot, lens).run())
    except CannotCompare:
        return ()


def from_package(package: Path, path: Path, *, clock: Clock = SYSTEM) -> Session:
    """Make a study file from a data package; nothing is left behind when it does not fit."""
    facts, tables = data_package.read(package)
    create(path, path.stem, fill=lambda conn: dump.load(conn, facts, tables)).close()
    return Session.open(path, clock=clock)
