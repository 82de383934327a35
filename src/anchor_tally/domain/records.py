"""Frozen records of a study."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

from .units import Quantity

KINDS = ("reference", "device", "method")
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
STATUSES = ("ok", "failed", "excluded")
MOST_REPLICATES = 1000


# electrode layouts of impedance devices; "none" is a plain scale, "" is not known
ELECTRODES = ("", "none", "feet", "hands", "hand and foot", "eight")


@dataclass(frozen=True, slots=True)
class Client:
    """A person measured, known by a code. ``sex`` is the equation sex: male, female or empty.

    ``birth`` is a year, a month or a day (ISO 8601) or empty; ``cautions`` is a set of words out of implant, implant_cleared,
    pregnant, eating_disorder, cutting_weight, low_energy and ill; ``scans_before`` counts X-ray scans before this study, ``last_scan``
    dates the last of them; ``cycle``: the question about the menstrual cycle is asked.
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
    """A reference, a device or a method. ``equation`` is set when values are computed from raw readings.

    ``electrodes`` is one of ELECTRODES; ``position`` orders the bench; ``repeats`` are planned at each visit, and what ``counts`` of
    them is one of repeats.COUNTS; ``walk`` is down (all values of a display, then its next repeat) or across (the repeats of one value after each other).
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
        """Whether it sends a current through the body: electrodes tell, whatever it is called; a device of unknown layout may."""
        return self.electrodes not in ("", "none") or (self.kind == "device" and not self.electrodes)


@dataclass(frozen=True, slots=True)
class StationChoice:
    """What was chosen for a station: its sites (none: all), setting, unit typed, repeats and what counts of them."""

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
    """A named configuration of an instrument, in force from ``starts`` on (for one client, or for all)."""

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
class Height:
    """A height of a client: day, cm, as entered."""

    id: int
    client: int
    day: str
    height_cm: float
    entered: str
    unit: str


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
    """What a row of a table tells of a person; empty where it says nothing. ``cautions`` are words as on a client's card."""

    line: int
    code: str
    name: str
    sex: str
    birth: str
    height: Quantity | None
    cautions: frozenset[str]
    notes: str


@dataclass(frozen=True, slots=True)
class Refused:
    """A row that was not taken: line, column, its text and the reason."""

    line: int
    column: str
    text: str
    reason: str


# the order of the registry when the first calibrations were adopted: computed readings were numbered by it (form 0)
FORM_0_EQUATIONS = (
    "bmi_deurenberg_1991",
    "bmi_gallagher_2000",
    "rfm_woolcott_bergman_2018",
    "tape_hodgdon_beckett_1984_inch",
    "tape_hodgdon_beckett_1984_metric",
    "jackson_pollock_1978_3",
    "jackson_pollock_1978_7",
    "jackson_pollock_ward_1980_3",
    "jackson_pollock_ward_1980_7",
    "durnin_womersley_1974",
    "six_skinfold_carter_1982",
    "somatotype_carter_heath_1990",
    "sum_skinfolds_3",
    "sum_skinfolds_4",
    "sum_skinfolds_6",
    "sum_skinfolds_7",
    "sum_skinfolds_8",
    "body_mass_index",
    "waist_hip_ratio",
    "waist_height_ratio",
    "fat_free_mass_index",
    "fat_mass_index",
    "visual_estimate_midpoint",
    "impedance_index",
    "phase_angle",
    "impedance_lukaski_1986",
    "impedance_kushner_schoeller_1986",
    "impedance_kushner_schoeller_1986_by_sex",
    "impedance_kyle_2001",
    "impedance_sun_2003",
    "impedance_janssen_2000",
    "siri_1961",
    "brozek_1963",
    "underwater_weighing",
    "residual_volume_goldman_becklake_1959",
    "underwater_weighing_estimated_residual",
    "three_compartment_siri_1961",
    "four_compartment_lohman_1986",
    "four_compartment_wang_2002",
    "rmr_harris_benedict_1919",
    "rmr_mifflin_st_jeor_1990",
    "rmr_katch_mcardle",
)


@dataclass(frozen=True, slots=True)
class MadeOf:
    """What an adopted calibration was made of, and whom it serves.

    ``clients`` had pairs; ``settings`` are the labels of their readings; ``last_anchor`` is the day of the last scan used;
    ``lens_clients`` the clients that the lens showed (None: all). ``client_sd`` is a spread between clients that was stated, not
    estimated. ``comparator`` is what kind it was set against. ``drift`` holds the ends of a known slope per week, and ``drift_from`` the
    day at which the offset holds: the interval grows from there. ``advice`` was given when it was adopted, ``reason`` is why it was adopted against it. ``provisional`` offsets rest
    on one scan.
    """

    clients: tuple[str, ...] = ()
    settings: tuple[str, ...] = ()
    anchors: int = 0
    last_anchor: str = ""
    window_hours: float = 24.0
    around: bool = False
    lens_clients: tuple[str, ...] | None = None
    client_sd: float | None = None
    advice: str = ""
    reason: str = ""
    provisional: bool = False
    comparator: str = "reference"
    drift: tuple[float, float] | None = None
    drift_from: str = ""


@dataclass(frozen=True, slots=True)
class LineRecord:
    """An adopted line: the reference is centre + (reading − centre − level)/slope.

    Its 95 % interval is ± t·√(new + level variance + (reference − centre)²·slope variance)/slope.
    """

    centre: float
    level: float
    slope: float
    new: float
    level_variance: float
    slope_variance: float
    t: float

    def reference(self, reading: float) -> float:
        """The reference that a reading stands for."""
        return self.centre + (reading - self.centre - self.level) / self.slope

    def half(self, reading: float) -> float:
        """Half of its 95 % interval, for a client who has no part of their own."""
        x = self.reference(reading)
        return float(self.t * (self.new + self.level_variance + (x - self.centre) ** 2 * self.slope_variance) ** 0.5 / self.slope)


@dataclass(frozen=True, slots=True)
class CalibrationRecord:
    """An adopted calibration; never edited.

    ``clients`` maps a code to (offset, low, high, anchors): what is subtracted, and the 95 % interval of one new difference. ``pooled`` is
    the same for anybody else; None: it serves its clients only. With a ``line`` both are what is subtracted after it.

    ``sources`` names what it was made from: the number of a stored reading, or ``equation@visit`` of a computed one.
    ``form`` tells how its digest was made.
    """

    id: int
    instrument: str
    metric: str
    setting: str
    reference: str
    model: str
    pooled: tuple[float, float, float] | None
    clients: dict[str, tuple[float, float, float, int]]
    sources: tuple[str, ...]
    range_low: float
    range_high: float
    pairs: int
    client_count: int
    fitted_at: str
    valid_until: str
    version: int
    digest: str
    form: int = 2
    made_of: MadeOf = MadeOf()
    line: LineRecord | None = None


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


PERSON_EVENTS = ("phase", "training", "diet", "illness", "injury", "travel", "cycle", "other")
INSTRUMENT_EVENTS = ("battery", "firmware", "moved", "repaired", "other")


@dataclass(frozen=True, slots=True)
class Event:
    """Something that happened to a client, to an instrument, or (both None) to all: days as written, ``ends`` empty for one day."""

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
