"""The documents that a study can give, declared once: what each is about and how it is made."""

from __future__ import annotations

from collections.abc import Callable, Collection, Generator
from dataclasses import dataclass, replace
from datetime import date
from typing import Literal

from .. import __version__
from ..analysis.agreement.agreement import LadderRequest, with_forms
from ..analysis.agreement.claims import Claim, ClaimRequest
from ..analysis.offsets.device_comparison import DeviceComparisonRequest
from ..analysis.pairs.comparator import CannotCompare
from ..analysis.people.groups import ClientGroup, client_groups
from ..analysis.time.track import TrackRequest
from ..domain.catalogue import Catalogue
from ..domain.errors import UserError
from ..domain.lens import Lens
from ..domain.metrics import METRICS, metric_named, metric_of
from ..domain.steps import scaled
from ..reports.claims import claims_page
from ..reports.device_card import device_card
from ..reports.device_comparison import device_comparison, hand_words
from ..reports.document import Document
from ..reports.paper_results import Subgroup, paper_results
from ..reports.side_by_side import side_by_side
from ..wording.notes import sentence
from .certificates import adopted, certificate_document, waiting_of
from .client_page import page_material_steps, page_steps
from .reporting import report_document_steps, report_material_steps
from .session import Session

About = Literal["study", "device", "client"]
# makes the document, or the sections of it that are wanted, from frozen things only
Make = Callable[[Collection[str] | None], Generator[float, None, Document]]
LEAST_CLIENTS = 2  # of a subgroup


@dataclass(frozen=True, slots=True)
class Choice:
    """What a document is to be: filters, subject (a device or a code), paper and options.

    ``fat``, ``name`` and ``ranges`` are those of a client's page, ``claim`` that of the page on
    claims.
    """

    lens: Lens
    subject: str = ""
    paper: str = "A4"
    fat: bool = True
    name: bool = False
    ranges: bool = False
    claim: Claim | None = None


@dataclass(frozen=True, slots=True)
class Kind:
    """One kind of document.

    ``collect`` reads from the study what is needed, between the events of a window, and returns
    what makes the document elsewhere. ``parts``: its sections can be chosen.
    """

    key: str
    label: str
    about: About
    collect: Callable[[Session, Choice], Generator[float, None, Make]]
    parts: bool = False


def _study(session: Session, c: Choice) -> Generator[float, None, Make]:
    material = yield from report_material_steps(session, c.lens, c.paper)
    return lambda wanted: report_document_steps(material, wanted)


def _ready(document: Document) -> Make:
    def make(_: Collection[str] | None) -> Generator[float, None, Document]:
        yield 1.0
        return document

    return make


def _certificate(session: Session, c: Choice) -> Generator[float, None, Make]:
    live = adopted(session, c.subject, c.lens.metric)
    yield 0.5
    return _ready(certificate_document(session, live, session.today(), paper=c.paper))


def _card(session: Session, c: Choice) -> Generator[float, None, Make]:
    live = adopted(session, c.subject, c.lens.metric)
    yield 0.5
    items = session.catalogue()
    item = items.instrument_named(c.subject)
    days = [
        (e.starts, e.note)
        for e in session.events()
        if item is not None and e.instrument == item.id and e.kind == "set_by_hand"
    ]
    asked = tuple(i.condition.question for i in items.protocol if i.asked)
    by_hand = hand_words(days, metric_of(c.lens.metric).symbol)
    waiting = tuple(waiting_of(session, v.record) for v in live)
    card = device_card(
        live, session.free_text(), by_hand, asked, session.today(), c.paper, waiting=waiting
    )
    return _ready(card)


def _devices(session: Session, c: Choice) -> Generator[float, None, Make]:
    yield from session.snapshot_steps(c.lens.metric)
    known = session.metrics_known()
    wanted = tuple(m for m in known if (x := metric_named(m)) is not None and not x.device_only)
    snapshot = yield from session.wide_snapshot_steps(wanted)
    free, today = session.free_text(), session.today()
    asked = DeviceComparisonRequest(snapshot, c.lens, session.events())

    def make(_: Collection[str] | None) -> Generator[float, None, Document]:
        return device_comparison((yield from asked.run()), free, today, c.paper)

    return make


def _client(session: Session, c: Choice) -> Generator[float, None, Make]:
    material = yield from page_material_steps(
        session, c.subject, paper=c.paper, fat=c.fat, name=c.name, ranges=c.ranges
    )

    def make(_: Collection[str] | None) -> Generator[float, None, Document]:
        page, cautions = yield from page_steps(material)
        return replace(page, told=tuple(sentence(n) for n in cautions))

    return make


def _methods(session: Session, c: Choice) -> Generator[float, None, Make]:
    if session.catalogue().client_coded(c.subject) is None:
        raise UserError(f"no client {c.subject}")
    wanted = tuple(m for m in (c.lens.metric, "body_mass") if m in METRICS or m == c.lens.metric)
    snapshot = yield from session.wide_snapshot_steps(wanted)
    records = tuple(session.calibrations())
    stale = frozenset(r.id for r in records if r.metric == c.lens.metric and session.stale(r))
    items, today = session.catalogue(), session.today()
    lens = replace(c.lens, clients=None)
    asked = TrackRequest(snapshot, lens, c.subject, records, stale, today=today)

    def make(_: Collection[str] | None) -> Generator[float, None, Document]:
        return side_by_side((yield from asked.run()), items, today, c.paper)

    return make


def _claims(session: Session, c: Choice) -> Generator[float, None, Make]:
    snapshot = yield from session.snapshot_steps(c.lens.metric)
    today = session.today()
    asked = ClaimRequest(snapshot, c.lens, c.claim or Claim())

    def make(_: Collection[str] | None) -> Generator[float, None, Document]:
        return claims_page((yield from asked.run()), today, c.paper)

    return make


def _paper(session: Session, c: Choice) -> Generator[float, None, Make]:
    snapshot = yield from session.snapshot_steps(c.lens.metric)
    items, today = session.catalogue(), date.fromisoformat(session.today())

    def make(_: Collection[str] | None) -> Generator[float, None, Document]:
        compared = yield from scaled(LadderRequest(snapshot, c.lens).run(), 0.4)
        whole = yield from scaled(with_forms(snapshot, compared), 0.3, 0.4)
        parts = []
        groups = subgroups(items, c.lens, today)
        for k, group in enumerate(groups):
            try:
                asked = LadderRequest(snapshot, replace(c.lens, clients=group.codes))
                share = 0.3 / len(groups)
                found = yield from scaled(asked.run(), share, 0.7 + k * share)
            except CannotCompare:
                continue  # no pairs in this part
            parts.append(Subgroup(group.name, tuple(r for r in found if r.pairs.n)))
        commands = tuple(
            f"anchor-tally compare STUDY --instrument {r.pairs.instrument.name!r}"
            f" --metric {c.lens.metric} --json"
            for r in compared
        )
        return paper_results(whole, parts, items, c.lens, __version__, commands, c.paper)

    return make


def subgroups(items: Catalogue, lens: Lens, today: date) -> tuple[ClientGroup, ...]:
    """Groups by sex and by age of the clients that the filters leave; none of one client."""
    shown = (c for c in items.clients.values() if lens.clients is None or c.code in lens.clients)
    return tuple(
        g
        for g in client_groups(shown, today)
        if len(g.codes) >= LEAST_CLIENTS
        and g.column != "activity"  # a free text stays in the study
    )


KINDS = (
    Kind("study", "Study report", "study", _study, parts=True),
    Kind("certificate", "Device certificate", "device", _certificate),
    Kind("card", "Card to hang beside a scale", "device", _card),
    Kind("devices", "Comparison of devices", "study", _devices),
    Kind("client", "Page for a client", "client", _client),
    Kind("methods", "Methods side by side", "client", _methods),
    Kind("paper", "Results for a paper", "study", _paper),
    Kind("claims", "Claims, and what they do not show", "study", _claims),
)
KIND = {k.key: k for k in KINDS}


def document_steps(session: Session, kind: str, choice: Choice) -> Generator[float, None, Document]:
    """A document at once; yields the share done. Raises UserError where it cannot be made."""
    make = yield from KIND[kind].collect(session, choice)
    return (yield from make(None))
