"""What the study report is made of, asked of a session, and how documents are written."""

from __future__ import annotations

from collections.abc import Collection, Generator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from .. import __version__
from ..analysis.offsets.calibrate import CalibrateRequest
from ..analysis.offsets.record import fingerprint
from ..analysis.review import ReviewRequest
from ..analysis.review.finding import Material
from ..domain.catalogue import Catalogue
from ..domain.errors import UserError
from ..domain.events import CheckWeight, Event
from ..domain.lens import Lens
from ..domain.metrics import metric_named
from ..domain.records import Instrument
from ..domain.snapshot import EXCLUDED, FAILED, Snapshot
from ..exchange.writing import replacing
from ..reports.document import Document
from ..reports.render import as_html, as_pdf
from ..reports.study_report import CHECKLIST, CHECKLIST_NEEDS, PARTS, Findings, Flow, study_report
from ..wording.numbers import count
from ..wording.plan import iso
from .session import Session
from .views import DRIFT, VIEW, Ask


@dataclass(frozen=True, eq=False, slots=True)
class ReportMaterial:
    """What the study report is computed from: frozen, so that it can be computed elsewhere."""

    catalogue: Catalogue
    lens: Lens
    snapshot: Snapshot
    events: tuple[Event, ...]
    weights: tuple[CheckWeight, ...]
    review: Material
    first_day: str
    last_day: str
    digest: str
    today: str
    paper: str
    # answers that were computed from it, by question: sections that need one share it
    answers: dict[str, tuple[Any, ...]] = field(default_factory=dict)


def report_material_steps(
    session: Session, lens: Lens, paper: str
) -> Generator[float, None, ReportMaterial]:
    """Collect what the report needs from a study; yields as it goes.

    Raises UserError where there are no readings of the metric.
    """
    water = "total_body_water_percent"
    metrics = tuple(dict.fromkeys((lens.metric, "body_fat_percent", water)))
    there = tuple(m for m in metrics if m in session.metrics_known() or m == lens.metric)
    snapshot = yield from session.wide_snapshot_steps(there)
    if lens.metric not in snapshot.columns:
        known = metric_named(lens.metric)
        words = known.name if known is not None else lens.metric
        raise UserError(f"no readings of {words}; nothing was written")
    _, digest = fingerprint(snapshot, lens.metric, np.arange(snapshot.columns[lens.metric].n))
    review = yield from session.material_steps()
    days = sorted(m.day for m in (yield from session.measured_steps()))
    return ReportMaterial(
        session.catalogue(),
        lens,
        snapshot,
        session.events(),
        tuple(session.check_weights()),
        review,
        iso(days[0]) if days else "",
        iso(days[-1]) if days else "",
        digest,
        session.today(),
        paper,
    )


def _people(snapshot: Snapshot) -> str:
    """Age and height of the people at their first visit, as far as they are known."""
    v, said = snapshot.visits, []
    order = np.lexsort((v.instant, v.client))
    _, first = np.unique(v.client[order], return_index=True)
    for name, unit, values in (("Age", "years", v.age_years), ("height", "cm", v.height_cm)):
        x = values[order][first]
        x = x[~np.isnan(x)]
        if x.size:
            said.append(
                f"{name} {x.min():.0f} to {x.max():.0f} {unit} (mean {x.mean():.0f},"
                f" {count(x.size, 'client')})"
            )
    return "; ".join(said) + ("." if said else "")


def report_document_steps(
    material: ReportMaterial, wanted: Collection[str] | None = None
) -> Generator[float, None, Document]:
    """Ask what the report needs under one lens and make it; yields the share done.

    A question that the study cannot answer leaves its section empty. ``wanted`` are the keys of
    the sections to have, by default all.
    """
    lens, snapshot, found = material.lens, material.snapshot, material.answers
    needed = {q for p in PARTS if wanted is None or p.key in wanted for q in p.needs}
    if wanted is None or CHECKLIST in wanted:
        needed |= set(CHECKLIST_NEEDS)
    missing = [q for q in CHECKLIST_NEEDS if q in needed and q not in found]
    for k, question in enumerate(missing):
        try:
            found[question] = yield from _answer_steps(material, question, k / (len(missing) + 3))
        except UserError:
            found[question] = ()  # the section stays empty
        yield (k + 1) / (len(missing) + 3)
    calibrated, review = found.get("calibrate", ()), found.get("review", ())
    compared = found.get("compare", ())
    return study_report(
        Findings(
            material.catalogue,
            lens,
            tuple(_flow(snapshot, r.pairs.instrument, lens, r) for r in compared),
            compared,
            found.get("consistency", ()),
            found.get("change", ()),
            found.get("water", ()),
            found.get("alike", ()),
            found.get("score", ()),
            found.get("drift", ()),
            calibrated,
            review,
            material.first_day,
            material.last_day,
            material.digest,
            __version__,
            material.today,
            tuple(
                f"anchor-tally compare STUDY --instrument {r.pairs.instrument.name!r}"
                f" --metric {lens.metric} --json"
                for r in compared
            ),
            _people(snapshot),
        ),
        material.paper,
        wanted,
    )


def _answer_steps(
    material: ReportMaterial, question: str, share: float
) -> Generator[float, None, tuple[Any, ...]]:
    """The answer to one question; raises UserError where the study cannot answer it."""
    if question == "review":
        steps: Generator[float, None, Any] = ReviewRequest(material.review).run()
    elif question == "calibrate":
        steps = CalibrateRequest(material.snapshot, material.lens).run()
    else:
        view = DRIFT if question == DRIFT.key else VIEW[question]
        steps = view.answer().ask(
            Ask(material.snapshot, material.lens, events=material.events, weights=material.weights)
        )
    while True:  # its own share is not that of the report
        try:
            next(steps)
        except StopIteration as end:
            return tuple(end.value.found if question == "review" else end.value)
        yield share


def _flow(snapshot: Snapshot, item: Instrument, lens: Lens, r: Any) -> Flow:
    """Readings of an instrument on their way to pairs."""
    c = snapshot.columns[lens.metric]
    own = c.instrument == item.id
    return Flow(
        item.name,
        int(own.sum()),
        int((own & (c.status == FAILED)).sum()),
        int((own & (c.status == EXCLUDED)).sum()),
        r.pairs.n,
        r.pairs.left_out.counts,
    )


def report_steps(session: Session, lens: Lens, paper: str) -> Generator[float, None, Document]:
    """The study report as a document; yields the share done."""
    material = yield from report_material_steps(session, lens, paper)
    return (yield from report_document_steps(material))


def write_report_steps(material: ReportMaterial, path: Path) -> Generator[float, None, Path]:
    """The report computed and written as HTML or PDF; yields the share done."""
    document = yield from report_document_steps(material)
    yield 0.8
    return write_report(document, path)


def write_report(document: Document, path: Path) -> Path:
    """Write a document as HTML or PDF, by the suffix of its name. Raises UserError."""
    if path.suffix.lower() not in (".html", ".pdf"):
        raise UserError(f"{path}: a report ends in .html or .pdf; nothing was written")
    html = path.suffix.lower() == ".html"
    content = as_html(document).encode() if html else as_pdf(document)
    with replacing(path) as part:
        part.write_bytes(content)
    return path
