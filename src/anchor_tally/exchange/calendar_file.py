"""The calendar as iCalendar and as CSV. Only codes of clients are in it."""

from __future__ import annotations

import csv
import io
from datetime import date, datetime, timedelta

from icalendar import Calendar, Event

from ..analysis.plan.schedule import Schedule
from ..domain.catalogue import Catalogue
from ..domain.text import guarded
from ..wording.plan import STATES, iso, station_words

PRODUCT = "-//Anchor Tally//calendar//EN"


def as_icalendar(s: Schedule, catalogue: Catalogue, uid: str, now: datetime) -> bytes:
    """Planned days that are not done as all-day events.

    Parameters
    ----------
    s : Schedule
        The calendar.
    catalogue : Catalogue
        Clients, of whom the code is written.
    uid : str
        What identifies the study; an event keeps its identity when its day is moved.
    now : datetime
        The present moment, with a zone.

    Returns
    -------
    bytes
        RFC 5545 text.
    """
    calendar = Calendar()
    calendar.add("prodid", PRODUCT)
    calendar.add("version", "2.0")
    for d in s.days:
        if d.state in ("done", "missed"):
            continue
        code = catalogue.clients[d.client].code
        event = Event()
        event.add("uid", f"{d.rule}-{d.client}-{iso(d.due)}-{uid}@anchor-tally")
        event.add("dtstamp", now)
        event.add("dtstart", date.fromordinal(d.day))
        event.add("dtend", date.fromordinal(d.day) + timedelta(days=1))
        event.add("summary", f"{code}: {station_words(d.station, d.label)}")
        event.add("transp", "TRANSPARENT")
        calendar.add_component(event)
    return bytes(calendar.to_ical())


def as_csv(s: Schedule, catalogue: Catalogue) -> str:
    """All planned days, one a row, with their state."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(("client", "station", "series", "planned_on", "state", "done_on"))
    for d in sorted(s.days, key=lambda d: (d.day, d.client)):
        code = catalogue.clients[d.client].code
        writer.writerow(
            (
                guarded(code),
                d.station,
                guarded(d.label),
                iso(d.day),
                STATES[d.state],
                iso(d.done_on) if d.done_on is not None else "",
            )
        )
    return out.getvalue()
