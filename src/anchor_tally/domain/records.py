"""Frozen records of a study."""

from __future__ import annotations

from dataclasses import dataclass

KINDS = ("reference", "device", "method")
STATUSES = ("ok", "failed", "excluded")


@dataclass(frozen=True, slots=True)
class Client:
    """A person measured, known by a code. ``sex`` is the equation sex: male, female or empty."""

    id: int
    code: str
    sex: str = ""
    name: str = ""


@dataclass(frozen=True, slots=True)
class Instrument:
    """A reference, a device or a method. ``equation`` is set when values are computed from raw readings."""

    id: int
    name: str
    kind: str
    equation: str = ""


@dataclass(frozen=True, slots=True)
class Setting:
    """A named configuration of an instrument, in force from ``starts`` on (for one client, or for all)."""

    id: int
    instrument: int
    label: str
    starts: str
    client: int | None = None


@dataclass(frozen=True, slots=True)
class Reading:
    """One reading with everything a person needs to judge it."""

    id: int
    visit: int
    client: str
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
    sex: str = ""
    age_years: str = ""
    height_cm: str = ""


@dataclass(frozen=True, slots=True)
class ImportRow:
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
class Refused:
    """A row that was not taken: line, column, its text and the reason."""

    line: int
    column: str
    text: str
    reason: str


@dataclass(frozen=True, slots=True)
class CalibrationRecord:
    """An adopted calibration; never edited. ``clients`` maps a code to (offset, prediction SD, df, anchors)."""

    id: int
    instrument: str
    metric: str
    setting: str
    reference: str
    model: str
    pooled: tuple[float, float, float]
    clients: dict[str, tuple[float, float, float, int]]
    readings: tuple[int, ...]
    range_low: float
    range_high: float
    pairs: int
    client_count: int
    fitted_at: str
    valid_until: str
    version: int
    digest: str
