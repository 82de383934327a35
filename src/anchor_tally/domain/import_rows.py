"""Rows of tables that are imported: readings, cards of clients, and what was refused."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

from .units import Quantity

# columns of the tidy readings table, in order
TIDY_COLUMNS = (
    "client",
    "sex",
    "age_years",
    "height_cm",
    "taken_at",
    "instrument",
    "kind",
    "setting",
    "metric",
    "value",
    "unit",
    "replicate",
    "status",
    "note",
)


class ImportRow(NamedTuple):
    """One parsed row of a readings file, with the line it came from."""

    line: int
    client: str
    sex: str
    age_years: float | None
    height_cm: float | None
    taken_at: str
    instrument: str
    kind: str
    setting: str
    metric: str
    value: float | None
    entered: str
    unit: str
    replicate: int
    status: str
    note: str
    conditions: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True, slots=True)
class ImportCard:
    """What a row of a table holds about a person; empty where it gives nothing.

    ``cautions`` are words as on a client's card; ``short_year`` where the table writes the year of
    birth with two digits, so that it may be of the century before.
    """

    line: int
    code: str
    name: str
    sex: str
    birth: str
    height: Quantity | None
    cautions: frozenset[str]
    notes: str
    short_year: bool = False


@dataclass(frozen=True, slots=True)
class Refused:
    """A row that was not taken: line, column, its text and the reason."""

    line: int
    column: str
    text: str
    reason: str
    as_failed: ImportRow | None = None
