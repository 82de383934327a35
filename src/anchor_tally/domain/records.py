"""Frozen records of a study."""

from __future__ import annotations

from dataclasses import dataclass

KINDS = ("reference", "device", "method")
STATUSES = ("ok", "failed", "excluded")
MOST_REPLICATES = 1000


# electrode layouts of impedance devices; "none" is a plain scale, "" is not known
ELECTRODES = ("", "none", "feet", "hands", "hand and foot", "eight")


@dataclass(frozen=True, slots=True)
class Client:
    """A person measured, known by a code. ``sex`` is the equation sex: male, female or empty.

    ``birth`` is a year, a month or a day (ISO 8601) or empty; ``cautions`` is a set of words out
    of implant, implant_cleared, pregnant, eating_disorder, cutting_weight, low_energy and ill;
    ``scans_before`` counts X-ray scans before this study, ``last_scan`` dates the last of them;
    ``cycle``: the question about the menstrual cycle is asked.
    """

    id: int
    code: str
    sex: str = ""
    name: str = ""
    birth: str = ""
    cautions: frozenset[str] = frozenset()
    usual_activity: str = ""
    scans_before: int | None = None
    last_scan: str = ""
    notes: str = ""
    cycle: bool = False


@dataclass(frozen=True, slots=True)
class Instrument:
    """A reference, a device or a method.

    ``equation`` is set when values are computed from raw readings.

    ``electrodes`` is one of ELECTRODES; ``position`` orders the bench; ``repeats`` are planned
    at each visit, and what ``counts`` of them is one of repeats.COUNTS; ``walk`` is down (all
    values of a display, then its next repeat) or across (the repeats of one value after each
    other).
    """

    id: int
    name: str
    kind: str
    equation: str = ""
    electrodes: str = ""
    price: str = ""
    exports_data: bool | None = None
    notes: str = ""
    position: int = 0
    repeats: int = 3
    walk: str = "down"
    counts: str = "agree"

    @property
    def is_impedance(self) -> bool:
        """Whether it sends a current through the body: electrodes tell, whatever it is called.

        A device of unknown layout may.
        """
        return self.electrodes not in ("", "none") or (
            self.kind == "device" and not self.electrodes
        )


@dataclass(frozen=True, slots=True)
class StationChoice:
    """Choices for a station: sites (none means all), setting, unit, repeats and their rule."""

    station: str
    metrics: tuple[str, ...] = ()
    setting: str = ""
    unit: str = ""
    repeats: int = 2
    counts: str = "agree"


@dataclass(frozen=True, slots=True)
class Attachment:
    """A file beside a visit: its place and checksum."""

    id: int
    path: str
    sha256: str


@dataclass(frozen=True, slots=True)
class Setting:
    """A named configuration of an instrument, in force from ``starts`` on.

    For one client, or for all.
    """

    id: int
    instrument: int
    label: str
    starts: str
    client: int | None = None


@dataclass(frozen=True, slots=True)
class Visit:
    """One client at one time: its start as written, and as an instant (seconds since 1970, UTC)."""

    id: int
    start: str
    instant: int
    timed: bool

    @property
    def words(self) -> str:
        """Date and time for people."""
        return self.start[:16].replace("T", " ")


@dataclass(frozen=True, slots=True)
class VisitNote:
    """What was noted with a visit: conditions by key, who measured, remarks."""

    conditions: dict[str, str]
    assessor: str = ""
    notes: str = ""


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
    source: str = ""
    simulated: bool = False
