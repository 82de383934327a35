"""Edits of events and goals."""

from __future__ import annotations

import math
from dataclasses import dataclass

from ...domain.events import INSTRUMENT_EVENTS, PERSON_EVENTS, Event
from ...domain.instants import NotAMoment, canonical
from ...domain.text import plain_text
from .edit import EditRefused, Journal
from .readings import ensure_metric, known_metric


def day_of(text: str) -> str:
    """An ISO day from what was typed. Raises EditRefused."""
    try:
        return canonical(text.strip())[:10]
    except NotAMoment as error:
        raise EditRefused(
            f'"{text[:40]}" is not a day such as 2026-03-02; nothing was changed'
        ) from error


@dataclass(frozen=True, slots=True)
class AddEvent:
    """Note an event; the number in the record is not used."""

    event: Event

    @property
    def words(self) -> str:
        """What the edit does."""
        return "note an event"

    def write(self, journal: Journal) -> None:
        """Insert the event."""
        e = self.event
        if e.kind not in (INSTRUMENT_EVENTS if e.instrument is not None else PERSON_EVENTS):
            raise EditRefused(f'"{e.kind[:40]}" is not a kind of event; nothing was changed')
        starts, ends = day_of(e.starts), day_of(e.ends) if e.ends.strip() else ""
        if ends and ends < starts:
            raise EditRefused("the event ends before it begins; nothing was changed")
        journal.insert(
            "event",
            {
                "client": e.client,
                "instrument": e.instrument,
                "starts": starts,
                "ends": ends,
                "kind": e.kind,
                "note": plain_text(e.note),
            },
        )


@dataclass(frozen=True, slots=True)
class RemoveEvent:
    """Take an event away."""

    number: int

    @property
    def words(self) -> str:
        """What the edit does."""
        return "delete an event"

    def write(self, journal: Journal) -> None:
        """Delete the event."""
        journal.delete("event", {"id": self.number})


@dataclass(frozen=True, slots=True)
class SetGoal:
    """Set a client's goal in a metric; None takes it away."""

    client: int
    metric: str
    value: float | None

    @property
    def words(self) -> str:
        """What the edit does."""
        return "set a goal" if self.value is not None else "delete a goal"

    def write(self, journal: Journal) -> None:
        """Write the goal."""
        m = known_metric(self.metric)
        if self.value is None:
            journal.delete("goal", {"client": self.client, "metric": m.id})
            return
        if not (math.isfinite(self.value) and m.low <= self.value <= m.high):
            raise EditRefused(
                f"a goal lies between {m.low:g} and {m.high:g} {m.unit}; nothing was changed"
            )
        ensure_metric(journal, m.id)
        journal.put(
            "goal",
            {
                "client": self.client,
                "metric": m.id,
                "value": self.value,
                "set_at": journal.clock.stamp(),
            },
        )
