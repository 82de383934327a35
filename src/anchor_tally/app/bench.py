"""A visit at the bench: readings typed or sent, put where they belong, as one edit each."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

from ..analysis.entry.entry_rows import LastVisit, cells_of
from ..analysis.entry.row_answers import free_repeat
from ..analysis.people.cautions import (
    Caution,
    cautions_of,
    locks,
    open_locks,
    safety_asked,
    scan_cautions,
)
from ..analysis.plan.orders import order_at
from ..domain.errors import UserError
from ..domain.records import Client, Instrument
from ..domain.repeats import Rule
from ..study.edits.clients import AddClient, PutClient
from ..study.edits.readings import AddReadings, NewReading
from ..wording.bench import caution_words
from ..wording.notes import sentence
from .session import Session


@dataclass(frozen=True, slots=True)
class Place:
    """Where a reading belongs: client, moment and visit.

    None as visit: the nearest one, or a new one when ``fresh``.
    """

    client: str
    at: str
    visit: int | None = None
    fresh: bool = False


@dataclass(frozen=True, slots=True)
class Standing:
    """Who stands on which device, in which setting.

    Fixed when the person steps on, whatever is chosen until the reading ends.
    """

    place: Place
    instrument: str
    setting: str = ""


def last_visit(session: Session, client: str, visit: int | None) -> LastVisit:
    """What a client had at the visit before ``visit`` (None: a new one)."""
    known = session.visits_of(client)
    here = next((v for v in known if v.id == visit), None)
    before = next(
        (v for v in known if v.id != visit and (here is None or v.instant < here.instant)), None
    )
    if before is None:
        return LastVisit()
    return LastVisit(
        tuple(r for r in session.readings(visit=before.id) if r.status == "ok" and not r.simulated)
    )


def safety_open(session: Session, code: str) -> bool:
    """Whether a client has still to be asked about implants and pregnancy.

    It is asked once, before the first impedance reading.
    """
    client = session.catalogue().client_coded(code)
    return bool(code) and not safety_asked(client) and not session.has_impedance(code)


def answer_safety(session: Session, code: str, word: str) -> None:
    """Keep the answer on the client's card; a client that is new is added."""
    client = session.catalogue().client_coded(code)
    if client is None:
        session.do(AddClient(Client(0, code, cautions=frozenset({word}))))
    else:
        session.do(PutClient(replace(client, cautions=client.cautions | {word})))


def cautions_at(
    session: Session, client: Client, day: str, station: str, instruments: Iterable[Instrument]
) -> tuple[list[str], Mapping[str, Caution]]:
    """What is to be told of a client at a station, and what must not be used there.

    Parameters
    ----------
    session : Session
        The open study.
    client : Client
        The person of the visit.
    day : str
        ISO day of the visit; "" where it is not known, then today counts.
    station : str
        Key of the station.
    instruments : iterable of Instrument
        Those that the station may show.

    Returns
    -------
    tuple
        Sentences, and by the name of an instrument the caution that forbids it.
    """
    texts = [caution_words(c) for c in cautions_of(client, day)]
    if station == "scan":
        scans = session.scan_days(client.code)
        texts += [sentence(n) for n in scan_cautions(client, scans, day or session.today())]
    there = list(instruments)
    waiting = open_locks(there) if safety_open(session, client.code) else {}
    return texts, waiting | locks(client, there)


def device_order(session: Session, client: str, visit: int | None) -> tuple[str, ...]:
    """Names of the devices in the order of a visit; empty where the order is the study's own.

    A visit that is looked at again has the order that it had.
    """
    items = session.catalogue()
    person = items.client_coded(client)
    if not items.balanced or person is None:
        return ()
    found = [i for i in items.instruments.values() if i.kind == "device" and not i.equation]
    devices = sorted(found, key=lambda i: (i.position, i.id))
    if len(devices) < 2:
        return ()
    earlier = sum(visit is None or v.id < visit for v in session.visits_of(client))
    place = sorted(items.clients).index(person.id)
    return tuple(devices[k].name for k in order_at(len(devices), place, earlier))


def take_measurement(
    session: Session,
    standing: Standing,
    *,
    values: Sequence[tuple[str, str | None]],
    reason: str = "",
    simulated: bool = False,
) -> int:
    """Keep (metric, text with unit) pairs of one measurement, None for a failed value.

    Return the repeat they became.

    All values of a measurement become the same repeat: the first that none of their metrics has
    yet. Raises UserError when all repeats are kept already, or when a value cannot be taken;
    then nothing is written.
    """
    place, instrument, setting = standing.place, standing.instrument, standing.setting
    visit = place.visit
    if visit is None and not place.fresh:
        visit = session.visit_near(place.client, place.at)
    there = session.readings(visit=visit) if visit is not None else []
    items = session.catalogue()
    item = next((i for i in items.instruments.values() if i.name == instrument), None)
    most = cells_of(Rule(item.repeats, item.counts) if item is not None else Rule())
    free = free_repeat(
        (r for r in there if r.setting == setting),
        instrument,
        (metric for metric, _ in values),
        most,
    )
    if free is None:
        raise UserError(f"{instrument}: {most} repeats are already saved; nothing was added")
    readings = tuple(
        NewReading(instrument, "device", metric, text, free, setting, reason)
        for metric, text in values
    )
    source = f"simulated {instrument}" if simulated else f"device {instrument}"
    session.do(AddReadings(place.client, place.at, readings, source, visit, place.fresh, simulated))
    return free
