"""What the calendar gives to others: files, and days that were fixed beforehand."""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import replace
from pathlib import Path

from ..analysis.plan.schedule import Schedule, fixed_beforehand
from ..exchange.writing import replacing
from .session import Session


def write_calendar(session: Session, schedule: Schedule, path: str | Path) -> Path:
    """Write the calendar as iCalendar, or as CSV where the name ends in .csv.

    Returns the path that was written. Raises UserError.
    """
    from ..exchange.calendar_file import as_csv, as_icalendar  # the library is needed only here

    target, items = Path(path), session.catalogue()
    if target.suffix.lower() == ".csv":
        content = as_csv(schedule, items).encode()
    else:
        target = target if target.suffix else target.with_suffix(".ics")
        content = as_icalendar(schedule, items, session.uid(), session.clock.now())
    with replacing(target) as part:
        part.write_bytes(content)
    return target


def planned_steps(session: Session, code: str) -> Generator[float, None, frozenset[int]]:
    """Planned days of a client that were fixed beforehand, as ordinals; yields as it goes."""
    client = session.catalogue().client_coded(code)
    days = sorted(v.start[:10] for v in session.visits_of(code)) if client is not None else []
    if client is None or not days or not session.scheme().rules:
        return frozenset()
    asked = yield from session.schedule_steps(days[0], session.today())
    found = yield from replace(asked, only=client.id).run()
    return fixed_beforehand(found.days)


def write_text(text: str, path: str | Path, suffix: str) -> Path:
    """Write a text file, with this suffix where the name has none.

    Returns the path that was written. Raises UserError.
    """
    target = Path(path)
    target = target if target.suffix else target.with_suffix(suffix)
    with replacing(target) as part:
        part.write_text(text, encoding="utf-8")
    return target
