"""Files of the calendar."""

from __future__ import annotations

from pathlib import Path

from ..analysis.plan.schedule import Schedule
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


def write_text(text: str, path: str | Path, suffix: str) -> Path:
    """Write a text file, with this suffix where the name has none.

    Returns the path that was written. Raises UserError.
    """
    target = Path(path)
    target = target if target.suffix else target.with_suffix(suffix)
    with replacing(target) as part:
        part.write_text(text, encoding="utf-8")
    return target
