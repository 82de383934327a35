"""Moments as people write them, and the instants they name."""

from __future__ import annotations

import os
from datetime import UTC, date, datetime, timedelta, tzinfo
from functools import lru_cache
from pathlib import Path
from typing import NamedTuple
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from .errors import UserError

_EPOCH = date(1970, 1, 1).toordinal()
_ZERO = datetime(1970, 1, 1, tzinfo=UTC)
EARLIEST, LATEST = 1900, 2199  # years that a reading can be of


class Moment(NamedTuple):
    """Seconds since 1970 in UTC, calendar day as written, and whether the time is known.

    Noon is used for an unknown time.
    """

    instant: int
    day: int
    timed: bool


class NotAMoment(UserError):
    """A text that is no date or date-time."""


@lru_cache(maxsize=16)
def zone_named(name: str) -> tzinfo:
    """A time zone by its IANA name; UTC for a name that this machine does not know."""
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        return UTC


def system_zone() -> str:
    """IANA name of this machine's time zone, UTC when it cannot be told."""
    named = os.environ.get("TZ", "").lstrip(":")
    if not named:
        place = Path("/etc/localtime")
        _, _, named = str(place.resolve()).partition("zoneinfo/")
    try:
        ZoneInfo(named)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        return "UTC"
    return named


def parse(text: str) -> date | datetime:
    """An ISO 8601 date or date-time. Raises NotAMoment with one sentence."""
    text = text.strip()
    try:
        found: date | datetime = date.fromisoformat(text)
    except ValueError:
        try:
            found = datetime.fromisoformat(text)
        except ValueError as error:
            raise NotAMoment(
                "not an ISO 8601 date or date-time such as 2026-03-02T06:40"
            ) from error
    if not EARLIEST <= found.year <= LATEST:
        raise NotAMoment(f"a reading is not of the year {found.year}")
    return found


def canonical(text: str) -> str:
    """Write a moment in its one form, such as 2026-03-02 or 2026-03-02T06:40.

    Seconds and zone appear only where they are needed.
    """
    found = parse(text)
    if not isinstance(found, datetime):
        return found.isoformat()
    return found.isoformat(timespec="seconds" if found.second else "minutes")


def moment(text: str, zone: tzinfo, *, lenient: bool = False) -> Moment:
    """Return the instant that a text names.

    Parameters
    ----------
    text : str
        An ISO 8601 date or date-time; one without a zone is in ``zone``.
    zone : tzinfo
        The study's zone.
    lenient : bool
        Take a time of day that a clock never showed, because it was put forward, as the same span
        after midnight.

    Raises
    ------
    NotAMoment
        For anything else, and for such a time of day.
    """
    found = parse(text)
    day = found.toordinal() - _EPOCH
    timed = isinstance(found, datetime)
    full = (
        found if isinstance(found, datetime) else datetime(found.year, found.month, found.day, 12)
    )
    if full.tzinfo is None:
        full = full.replace(tzinfo=zone)
        if (
            timed
            and not lenient
            and full.utcoffset() != full.replace(fold=1).utcoffset()
            and _never_shown(full)
        ):
            raise NotAMoment(
                f"{full:%H:%M} did not exist on {full:%Y-%m-%d}: clocks went forward that night"
            )
    return Moment((full - _ZERO) // timedelta(seconds=1), day, timed)


def _never_shown(at: datetime) -> bool:
    """Whether clocks in the zone of a date-time were put forward over it."""
    return at.astimezone(UTC).astimezone(at.tzinfo).replace(tzinfo=None) != at.replace(tzinfo=None)


def shifted(text: str, seconds: int, days: int) -> str:
    """A moment moved: one with a time of day by ``seconds``, a date alone by ``days``.

    It keeps its zone and its form.
    """
    found = parse(text)
    moved = found + (
        timedelta(seconds=seconds) if isinstance(found, datetime) else timedelta(days=days)
    )
    return canonical(moved.isoformat())
