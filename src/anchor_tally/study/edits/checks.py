"""Edits of what belongs to the readings: check weights, assessor values, stated values."""

from __future__ import annotations

from dataclasses import dataclass

from ...domain.text import plain_name
from ...domain.units import Quantity
from .clients import check_day
from .edit import EditRefused, Journal, Row
from .readings import ensure_metric
from .visits import when


@dataclass(frozen=True, slots=True)
class AddCheckWeight:
    """A known mass on a scale (kg), and what the scale showed."""

    instrument: int
    at: str
    nominal: Quantity
    shown: Quantity

    @property
    def words(self) -> str:
        """What the edit does."""
        return "add a check weight"

    def write(self, journal: Journal) -> None:
        """Insert it."""
        written, _ = when(journal, self.at)
        row: Row = {
            "instrument": self.instrument,
            "taken_at": written,
            "nominal_kg": self.nominal.value,
        }
        row |= {
            "shown_kg": self.shown.value,
            "entered": self.shown.entered,
            "unit": self.shown.unit,
        }
        journal.insert("check_weight", row)


@dataclass(frozen=True, slots=True)
class AddAssessorPair:
    """A person measured twice by an assessor: the first and the second value."""

    assessor: str
    day: str
    metric: str
    person: str
    values: tuple[Quantity, ...]

    @property
    def words(self) -> str:
        """What the edit does."""
        return "add a person to the assessor check"

    def write(self, journal: Journal) -> None:
        """Insert the values, numbered from 1."""
        assessor, person, day = (
            plain_name(self.assessor),
            plain_name(self.person),
            check_day(self.day),
        )
        for text, noun in ((assessor, "an assessor's name"), (person, "a person"), (day, "a day")):
            if not text:
                raise EditRefused(f"the check needs {noun}; nothing was changed")
        ensure_metric(journal, self.metric)
        key = (assessor, day, self.metric, person)
        sql = (
            "SELECT 1 FROM assessor_value WHERE assessor = ? AND day = ? AND metric = ? AND"
            " person = ?"
        )
        if journal.one(sql, *key) is not None:
            raise EditRefused(f"person {person} of {day} is there already; nothing was changed")
        for repeat, q in enumerate(self.values, start=1):
            row: Row = dict(zip(("assessor", "day", "metric", "person"), key, strict=True))
            row |= {"repeat": repeat, "value": q.value, "entered": q.entered, "unit": q.unit}
            journal.insert("assessor_value", row)


@dataclass(frozen=True, slots=True)
class StateValue:
    """What the user states of a metric: ``margin``, ``reference_sd`` or ``client_sd`` in its unit.

    None takes it back.
    """

    metric: str
    what: str
    value: float | None

    @property
    def words(self) -> str:
        """What the edit does."""
        return "change a stated value"

    def write(self, journal: Journal) -> None:
        """Write, or take away, the value."""
        ensure_metric(journal, self.metric)
        key: Row = {"metric": self.metric, "what": self.what}
        if self.value is None:
            if journal.row_at("stated", key) is not None:
                journal.delete("stated", key)
            return
        if not 0 < self.value < 1e6:
            raise EditRefused("a stated value is a number above 0; nothing was changed")
        journal.put("stated", key | {"value": self.value})
