"""The present moment: the only place where the program reads the time of the machine."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import date, datetime


@dataclass(frozen=True, slots=True)
class Clock:
    """A source of the present moment.

    Whoever needs the time is handed a clock, so that tests can choose the day.

    Parameters
    ----------
    now : callable
        Returns the present moment as a date-time with a zone.
    """

    now: Callable[[], datetime]

    def today(self) -> date:
        """Return the present day in the clock's zone."""
        return self.now().date()

    def stamp(self) -> str:
        """Return the present moment in ISO 8601, to the second, with its zone."""
        return self.now().isoformat(timespec="seconds")


SYSTEM = Clock(lambda: datetime.now().astimezone())


def fixed(moment: str) -> Clock:
    """Return a clock that stands still at an ISO 8601 moment.

    Without a zone it is in that of the machine.
    """
    there = datetime.fromisoformat(moment).astimezone()
    return Clock(lambda: there)
