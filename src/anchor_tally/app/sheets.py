"""Visit sheets of planned days, made of what the bench would show."""

from __future__ import annotations

from collections.abc import Iterable

from ..analysis.entry.entry_rows import EntryRow, device_rows
from ..analysis.people.cautions import cautions_of, locks
from ..analysis.people.withheld import fat_unseen, withheld
from ..analysis.plan.schedule import PlannedDay
from ..domain.metrics import metric_of
from ..domain.records import Client, Instrument
from ..domain.repeats import Rule
from ..domain.scheme import DEVICES, PLANNED
from ..domain.stations import STATION
from ..reports.visit_sheet import Sheet, SheetRow, SheetStation
from ..wording.bench import caution_words, order_words
from ..wording.numbers import day_words, number
from ..wording.plan import iso
from .bench import device_order, last_visit
from .session import Session


def sheets_of(
    session: Session, days: Iterable[PlannedDay], *, named: bool = False
) -> tuple[Sheet, ...]:
    """One sheet a client and day, in the order of the clients' codes.

    Parameters
    ----------
    session : Session
        The study.
    days : iterable of PlannedDay
        What is planned; stations of one client on one day share a sheet.
    named : bool
        Whether names stand on the sheets; codes only otherwise.
    """
    planned: dict[tuple[str, int], list[PlannedDay]] = {}
    clients = session.catalogue().clients
    for d in days:
        planned.setdefault((clients[d.client].code, d.day), []).append(d)
    order = list(PLANNED)
    out = []
    for (code, day), parts in sorted(planned.items()):
        client = session.catalogue().client_coded(code)
        if client is not None:
            stations = sorted({d.station for d in parts}, key=order.index)
            out.append(_sheet(session, client, iso(day), stations, named=named))
    return tuple(out)


def _sheet(
    session: Session, client: Client, day: str, stations: list[str], *, named: bool
) -> Sheet:
    items = session.catalogue()
    conditions = tuple((c.question, c.first) for c in items.conditions_for(client))
    parts = [
        _devices(session, client, day) if key == DEVICES else _station(session, client, key)
        for key in stations
    ]
    return Sheet(
        client.code,
        client.name if named else "",
        day_words(day),
        tuple(caution_words(c) for c in cautions_of(client, day)),
        conditions,
        tuple(p for p in parts if p.rows),
    )


def _devices(session: Session, client: Client, day: str) -> SheetStation:
    items = session.catalogue()
    order = device_order(session, client.code, None)
    rows, _ = device_rows(
        items,
        session.instruments_and_metrics(),
        (),
        day=day,
        client=client.code,
        without_fat=fat_unseen(client),
        order=order,
    )
    locked = locks(client, items.instruments.values())
    kept = [r for r in rows if r.kind == "device" and r.instrument not in locked]
    reminder = f"{order_words(order)}." if order else ""
    return SheetStation(PLANNED[DEVICES], reminder, tuple(_row(session, client, r) for r in kept))


def _station(session: Session, client: Client, key: str) -> SheetStation:
    items, station = session.catalogue(), STATION[key]
    choice = items.stations.get(key)
    name = next(
        (i.name for i in items.instruments.values() if i.kind == station.kind and _takes(i, key)),
        station.instrument,
    )
    there = set(session.metrics())
    metrics = (
        (choice.metrics if choice is not None else ())
        or tuple(m for m in station.metrics if m in there)
        or station.metrics[:6]
    )
    rows = []
    for m in metrics:
        if withheld(client, m):
            continue
        single = m in station.once or station.kind == "reference"
        rule = (
            Rule(1)
            if single
            else Rule(choice.repeats, choice.counts)
            if choice is not None
            else Rule(station.repeats)
        )
        rows.append(_row(session, client, EntryRow(name, station.kind, m, rule)))
    return SheetStation(station.label, station.reminder, tuple(rows))


def _takes(i: Instrument, key: str) -> bool:
    return key == "scan" or i.name == STATION[key].instrument


def _row(session: Session, client: Client, plan: EntryRow) -> SheetRow:
    """A row with the client's last value and the device's usual spread of repeats."""
    m = metric_of(plan.metric)
    usual = []
    if not session.catalogue().blind:
        last = last_visit(session, client.code, None).of(plan)
        if last is not None:
            usual.append(f"last {number(last, m.decimals)}")
    spread = session.usual_spread(plan.instrument, plan.metric, None)
    if spread is not None:
        usual.append(f"repeats ± {number(2.77 * spread, max(m.decimals, 1))}")
    return SheetRow(plan.instrument, m.label, m.symbol, plan.cells, ", ".join(usual))
