"""Records beside the readings: events, goals, heights, check weights, assessor checks."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Height:
    """A height of a client: day, cm, as entered."""

    id: int
    client: int
    day: str
    height_cm: float
    entered: str
    unit: str


@dataclass(frozen=True, slots=True)
class CheckWeight:
    """A known mass put on a scale, and what the scale showed (kg)."""

    id: int
    instrument: str
    taken_at: str
    nominal_kg: float
    shown_kg: float
    entered: str
    unit: str
    note: str

    @property
    def difference_kg(self) -> float:
        """What the scale shows too much."""
        return self.shown_kg - self.nominal_kg


@dataclass(frozen=True, slots=True)
class AssessorValue:
    """One value of an assessor check: a person measured a first or a further time."""

    id: int
    assessor: str
    day: str
    metric: str
    person: str
    repeat: int
    value: float
    entered: str
    unit: str


PERSON_EVENTS = (
    "phase",
    "training",
    "programme",
    "diet",
    "weight_cut",
    "creatine",
    "illness",
    "injury",
    "travel",
    "race",
    "holiday",
    "cycle",
    "other",
)


INSTRUMENT_EVENTS = ("battery", "firmware", "moved", "repaired", "set_by_hand", "other")


@dataclass(frozen=True, slots=True)
class Event:
    """An event of a client, of an instrument, or (both None) of all.

    Days as written; ``ends`` is empty for one day.
    """

    id: int
    client: int | None
    instrument: int | None
    starts: str
    ends: str
    kind: str
    note: str


@dataclass(frozen=True, slots=True)
class Goal:
    """What a client wants to reach in a metric, in its unit, and when that was set."""

    client: int
    metric: str
    value: float
    set_at: str
