"""Dates as people write them, turned into ISO 8601.

The order of day and month is chosen, never mixed.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from datetime import datetime

ORDERS = {
    "iso": "year first (2026-03-14)",
    "dmy": "day first (14/03/2026)",
    "mdy": "month first (03/14/2026)",
}
_MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
_DATE = re.compile(r"(\d{1,4})[./\-\s](\d{1,2}|[A-Za-z]{3,9})\.?[./\-\s](\d{1,4})")
_NAMED_FIRST = re.compile(rf"((?:{'|'.join(_MONTHS)})[a-z]*)\.?\s+(\d{{1,2}}),?\s+(\d{{4}})", re.I)
_PIVOT = 69  # a year of two digits from here on is of the last century, as in POSIX's %y
_WEEKDAY = re.compile(r"(?:mon|tue|wed|thu|fri|sat|sun)[a-z]*\.?,?\s+", re.IGNORECASE)
_TIME = re.compile(r"(\d{1,2})[:.h](\d{2})(?:[:.](\d{2})(?:\.\d+)?)?\s*([ap])?\.?m?\.?", re.I)


def _plain(text: str) -> str:
    """A date without the day of the week before it."""
    return _WEEKDAY.sub("", text.strip(), count=1)


def _parts(text: str) -> tuple[str, str, str, int] | None:
    """The three parts of a date at the beginning of a text as they stand, and where it ends.

    "Mar 2, 2026" as "2 Mar 2026".
    """
    found = _DATE.match(text)
    if found is not None:
        return found[1], found[2], found[3], found.end()
    found = _NAMED_FIRST.match(text)
    return None if found is None else (found[2], found[1], found[3], found.end())


def short_year(text: str) -> bool:
    """Whether the year of a date is written with two digits."""
    found = _parts(_plain(text))
    return found is not None and max(len(found[0]), len(found[2])) < 3


def order_of(dates: Iterable[str]) -> str:
    """The order that the dates of a table are written in; day first when a date could be both."""
    first, second = 0, 0
    for text in dates:
        found = _parts(_plain(text))
        if found is None:
            continue
        if len(found[0]) == 4:
            return "iso"
        if found[1].isdigit():
            first, second = max(first, int(found[0])), max(second, int(found[1]))
    if first == 0:
        return "dmy" if second else "iso"
    return "mdy" if second > 12 else "dmy"


def ambiguous(dates: Iterable[str]) -> bool:
    """Whether every date could be day first as well as month first."""
    found = [
        m for m in (_parts(_plain(d)) for d in dates) if m and m[1].isdigit() and len(m[0]) < 3
    ]
    return bool(found) and all(int(m[0]) <= 12 and int(m[1]) <= 12 for m in found)


def iso_moment(day: str, clock: str, order: str) -> str:
    """ISO 8601 of a date (with or without a time in it) and a time of day.

    Raises ValueError with the reason.
    """
    text = _plain(day)
    form = ORDERS[order]
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        moment = None
    if moment is not None and re.match(r"\d{4}-", text):
        date, rest = text[:10], text[11:] if len(text) > 10 else ""
    else:
        found = _parts(text)
        if found is None:
            raise ValueError(f"not a date with {form}")
        a, b, c, end = found
        date, rest = _date(a, b, c, order), text[end:].strip(" T,")
    spoken = clock.strip() or rest
    if not spoken:
        return date
    if clock.strip() == "" and moment is not None:
        return text.replace(" ", "T")
    return f"{date}T{_time(spoken)}"


def _date(a: str, b: str, c: str, order: str) -> str:
    if not b.isdigit():
        month = next(
            (k for k, name in enumerate(_MONTHS, start=1) if b.lower().startswith(name)), 0
        )
        year, day = (a, c) if len(a) == 4 else (c, a)
    elif len(a) == 4:
        year, month, day = a, int(b), c
    elif order == "mdy":
        year, month, day = c, int(a), b
    elif order == "dmy":
        year, month, day = c, int(b), a
    else:
        raise ValueError(f"not a date with {ORDERS[order]}")
    full = int(year)
    if len(year) <= 2:
        full += 1900 if full >= _PIVOT else 2000
    try:
        return datetime(full, month, int(day)).date().isoformat()
    except ValueError as error:
        raise ValueError(f"no such day, read with {ORDERS[order]}") from error


def _time(text: str) -> str:
    found = _TIME.fullmatch(text.strip())
    if found is None:
        raise ValueError(f'"{text}" is not a time of day')
    hour = int(found[1])
    if found[4]:
        if not 1 <= hour <= 12:
            raise ValueError(f'"{text}" is not a time of day')
        hour = hour % 12 + (12 if found[4].lower() == "p" else 0)
    if hour > 23 or int(found[2]) > 59 or int(found[3] or 0) > 59:
        raise ValueError(f'"{text}" is not a time of day')
    return f"{hour:02}:{found[2]}" + (f":{found[3]}" if found[3] else "")
