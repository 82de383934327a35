"""The first edit of a new study: instruments, clients and conditions, in one step."""

from __future__ import annotations

from dataclasses import dataclass

from ...domain.records import Client, Instrument, StationChoice
from ...domain.scheme import SchemeRule
from ...domain.units import Quantity
from .checks import StateValue
from .clients import AddHeight, check_day, client_row, taken_already
from .edit import EditRefused, Journal
from .instruments import OfferMetric, instrument_row
from .protocol import AskCondition, PutStation
from .scheme import AddRules


@dataclass(frozen=True, slots=True)
class NewInstrument:
    """An instrument with the metrics that it shows, in the order of its display."""

    instrument: Instrument
    metrics: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class NewClient:
    """A client, with a height where it is known."""

    client: Client
    height: Quantity | None = None


@dataclass(frozen=True, slots=True)
class SetUpStudy:
    """Instruments, clients, stations, conditions and a scan's precision, as one edit.

    ``day`` (ISO) is the day of the heights; ``conditions`` holds keys and whether they are asked;
    ``precision`` is the SD of one scan for the metric named beside it; ``rules`` are those of the
    calendar.
    """

    day: str
    instruments: tuple[NewInstrument, ...] = ()
    clients: tuple[NewClient, ...] = ()
    stations: tuple[StationChoice, ...] = ()
    conditions: tuple[tuple[str, bool], ...] = ()
    precision: tuple[str, float] | None = None
    rules: tuple[SchemeRule, ...] = ()

    @property
    def words(self) -> str:
        """What the edit does."""
        parts = ((self.instruments, "instruments"), (self.clients, "clients"))
        there = [f"{len(x)} {name}" for x, name in parts if x]
        return f"the whole set-up ({', '.join(there) or 'conditions'})"

    def write(self, journal: Journal) -> None:
        """Insert all rows."""
        day = check_day(self.day)
        if not day:
            raise EditRefused("the set-up needs a day; nothing was changed")
        for new in self.instruments:
            row = instrument_row(new.instrument)
            taken_already(journal, "instrument", "name", str(row["name"]), 0)
            number = journal.insert("instrument", row)
            for metric in new.metrics:
                OfferMetric(number, metric).write(journal)
        for person in self.clients:
            row = client_row(person.client, journal.clock.today().isoformat())
            taken_already(journal, "client", "code", str(row["code"]), 0)
            number = journal.insert("client", row)
            if person.height is not None:
                AddHeight(number, day, person.height).write(journal)
        for choice in self.stations:
            PutStation(choice).write(journal)
        for key, asked in self.conditions:
            AskCondition(key, asked).write(journal)
        if self.precision is not None:
            metric, value = self.precision
            StateValue(metric, "reference_sd", value).write(journal)
        if self.rules:
            AddRules(self.rules).write(journal)
