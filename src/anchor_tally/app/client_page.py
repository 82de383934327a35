"""What the page of one client is made of, asked of a session."""

from __future__ import annotations

from collections.abc import Generator, Mapping
from dataclasses import dataclass, replace
from datetime import date, timedelta
from pathlib import Path

from ..analysis.pairs.comparator import CannotCompare
from ..analysis.people.withheld import withheld
from ..analysis.plan.schedule import ScheduleRequest
from ..analysis.time.track import GIRTHS, TrackRequest, level_series
from ..domain.calibrations import CalibrationRecord
from ..domain.catalogue import Catalogue
from ..domain.errors import UserError
from ..domain.lens import Lens
from ..domain.metrics import METRICS
from ..domain.snapshot import Snapshot
from ..reports.client_summary import Followed, SummaryFindings, client_summary
from ..reports.document import Document
from ..stats.estimate import Note
from .reporting import write_report
from .session import Session

OF_FAT = ("body_fat_percent", "body_mass")
Page = tuple[Document, tuple[Note, ...]]


@dataclass(frozen=True, eq=False, slots=True)
class PageMaterial:
    """What the page is computed from: frozen, so that it can be computed elsewhere."""

    catalogue: Catalogue
    code: str
    metrics: tuple[str, ...]
    snapshot: Snapshot
    records: tuple[CalibrationRecord, ...]
    stale: frozenset[int]
    schedule: ScheduleRequest
    name: str
    paper: str
    today: str
    units: Mapping[str, str]
    ranges: bool


def page_material_steps(
    session: Session,
    code: str,
    *,
    paper: str = "A4",
    fat: bool = True,
    name: bool = False,
    ranges: bool = False,
) -> Generator[float, None, PageMaterial]:
    """Collect what the page of one client needs; yields as it goes.

    Parameters
    ----------
    session : Session
        The study.
    code : str
        Code of the client.
    paper : str
        A4 or Letter.
    fat : bool
        Give body fat and body mass, where they may be shown.
    name : bool
        Head the page with the client's name where one is kept.
    ranges : bool
        Show the ranges of a published table across the interval of body fat.

    Raises
    ------
    UserError
        No such client, or no readings that may be shown.
    """
    client = session.catalogue().client_coded(code)
    if client is None:
        raise UserError(f"no client {code}; nothing was written")
    yield from session.snapshot_steps("body_fat_percent")  # sums of folds are known after it
    sums = tuple(m for m in METRICS if m.startswith("sum_skinfolds"))
    first = OF_FAT if fat else ()
    known = session.metrics_known()
    wanted = tuple(
        m for m in (*first, *sums, *GIRTHS) if m in known and not withheld(client, m, on_page=True)
    )
    if not wanted:
        raise UserError(_nothing(code))
    snapshot = yield from session.wide_snapshot_steps(wanted)
    records = tuple(session.calibrations())
    today = session.today()
    ahead = (date.fromisoformat(today) + timedelta(days=366)).isoformat()
    return PageMaterial(
        session.catalogue(),
        code,
        wanted,
        snapshot,
        records,
        frozenset(r.id for r in records if r.metric in wanted and session.stale(r)),
        (yield from session.schedule_steps(today, ahead)),
        client.name if name else "",
        paper,
        today,
        session.units_typed(client.id),
        ranges,
    )


def _nothing(code: str) -> str:
    return f"{code} has no readings that may be shown; nothing was written"


def page_steps(m: PageMaterial) -> Generator[float, None, Page]:
    """The page, and the cautions that its coach is to know; yields the share done.

    Raises UserError where no readings may be shown.
    """
    found = []
    for k, metric in enumerate(m.metrics):
        asked = TrackRequest(m.snapshot, Lens(metric), m.code, m.records, m.stale, today=m.today)
        try:
            r = yield from asked.run()
            s = level_series(r)
            if s is not None and s is not r.named(r.chosen):  # the device that gives the level
                r = yield from replace(asked, instrument=s.instrument.name).run()
            found.append(Followed(r, s))
        except CannotCompare:
            continue  # this client has no readings of this measure
        yield (k + 1) / (len(m.metrics) + 1)
    if not found:
        raise UserError(_nothing(m.code))
    schedule = yield from m.schedule.run()
    page = client_summary(
        SummaryFindings(m.catalogue, tuple(found), schedule, m.name, m.today, m.units, m.ranges),
        m.paper,
    )
    return page, tuple(dict.fromkeys(n for x in found for n in x.result.cautions))


def summary_steps(
    session: Session,
    code: str,
    *,
    paper: str = "A4",
    fat: bool = True,
    name: bool = False,
    ranges: bool = False,
) -> Generator[float, None, Page]:
    """The page of one client at once; parameters and errors as ``page_material_steps``."""
    material = yield from page_material_steps(
        session, code, paper=paper, fat=fat, name=name, ranges=ranges
    )
    return (yield from page_steps(material))


def write_page_steps(m: PageMaterial, path: Path) -> Generator[float, None, Path]:
    """The page computed and written as HTML or PDF; yields the share done."""
    document, _ = yield from page_steps(m)
    return write_report(document, path)
