"""Guided set-up of a new study: purposes, sets of what a device shows, and rows to an edit."""

from __future__ import annotations

from dataclasses import dataclass, field

from ..domain.errors import UserError
from ..domain.metrics import HEIGHT
from ..domain.protocol import ASKED_AT_FIRST, CONDITIONS
from ..domain.records import Client, Instrument, StationChoice
from ..domain.scheme import PRESETS, SCAN
from ..domain.stations import STATION
from ..domain.units import ValueRefused, parse_quantity
from ..study.edits.set_up import NewClient, NewInstrument, SetUpStudy


@dataclass(frozen=True, slots=True)
class Purpose:
    """What a study is for, and what the set-up offers for it."""

    key: str
    label: str
    devices: tuple[str, ...]
    repeats: int
    scan: bool


PURPOSES = (
    Purpose("one", "One scale against scans", ("foot",), 1, True),
    Purpose("several", "Several scales against scans", ("foot", "segmental"), 1, True),
    Purpose("research", "Research study with repeats", ("foot", "segmental"), 3, True),
    Purpose(
        "field", "Field methods only (skinfolds, tape, equations)", ("calliper", "tape"), 2, False
    ),
)


@dataclass(frozen=True, slots=True)
class DeviceSet:
    """A kind of device and what its display usually shows; ``station`` for hand methods."""

    key: str
    label: str
    name: str
    electrodes: str
    metrics: tuple[str, ...]
    ticked: tuple[str, ...]
    station: str = ""


_SHARES = (
    "body_mass",
    "body_fat_percent",
    "total_body_water_percent",
    "total_muscle_mass",
    "bone_mineral_content",
    "visceral_fat_rating",
    "basal_metabolic_rate",
)
_FOLDS, _GIRTHS = STATION["skinfolds"].metrics, STATION["girths"].metrics
SETS = (
    DeviceSet("foot", "Foot scale", "", "feet", _SHARES, _SHARES[:3]),
    DeviceSet(
        "segmental",
        "Segmental scale",
        "",
        "eight",
        (*_SHARES, "fat_mass", "fat_free_mass", "body_fat_percent_trunk"),
        _SHARES[:4],
    ),
    DeviceSet("hand", "Hand monitor", "", "hands", ("body_fat_percent",), ("body_fat_percent",)),
    DeviceSet("plain", "Plain scale", "", "none", ("body_mass",), ("body_mass",)),
    DeviceSet(
        "calliper",
        "Skinfold calliper",
        STATION["skinfolds"].instrument,
        "",
        _FOLDS,
        ("skinfold_triceps", "skinfold_subscapular", "skinfold_abdominal", "skinfold_thigh"),
        "skinfolds",
    ),
    DeviceSet(
        "tape",
        "Tape measure",
        STATION["girths"].instrument,
        "",
        _GIRTHS,
        ("girth_waist_navel", "girth_hip"),
        "girths",
    ),
)
SET = {s.key: s for s in SETS}
SCAN_METRICS = STATION["scan"].metrics[:5]
SCAN_TICKED = ("body_fat_percent",)


@dataclass(slots=True)
class DeviceRow:
    """One device as it is typed."""

    kind: str
    name: str = ""
    repeats: int = 1
    metrics: tuple[str, ...] = ()


@dataclass(slots=True)
class ClientRow:
    """One client as it is typed."""

    code: str
    sex: str = ""
    birth: str = ""
    height: str = ""


@dataclass(slots=True)
class Answers:
    """Everything that was answered; ``scan`` is empty for a study without scans.

    ``rhythm`` is the key of a preset of the calendar, empty for none.
    """

    devices: list[DeviceRow] = field(default_factory=list)
    scan: str = ""
    scan_metrics: tuple[str, ...] = SCAN_TICKED
    precision: str = ""
    clients: list[ClientRow] = field(default_factory=list)
    asked: frozenset[str] = frozenset(ASKED_AT_FIRST)
    rhythm: str = ""


def sex_of(text: str) -> str:
    """Equation sex from a word or a letter. Raises UserError for anything else."""
    said = text.strip().lower()
    if not said:
        return ""
    for word in ("male", "female"):
        if (
            word.startswith(said)
            or said in {"male": ("man", "m"), "female": ("woman", "w", "f")}[word]
        ):
            return word
    raise UserError(f'sex "{text[:20]}" is not male, female or empty')


def pasted(text: str) -> list[ClientRow]:
    """Clients from lines of a spreadsheet: code, sex, birth year, height; a header is skipped."""
    rows = []
    for line in text.splitlines():
        cells = [c.strip() for c in line.replace(";", "\t").split("\t")]
        if cells and cells[0] and cells[0].lower() not in ("code", "client", "id"):
            rows.append(ClientRow(*[*cells, "", "", ""][:4]))
    return rows


def edit_of(answers: Answers, day: str) -> SetUpStudy:
    """The one edit that writes what was answered. Raises UserError with one sentence.

    Devices without a name and clients without a code are left out.
    """
    instruments, stations = [], []
    for k, row in enumerate(d for d in answers.devices if d.name.strip()):
        kind = SET[row.kind]
        station = STATION.get(kind.station)
        instruments.append(
            NewInstrument(
                Instrument(
                    0,
                    row.name.strip(),
                    "method" if station else "device",
                    electrodes=kind.electrodes,
                    position=k + 1,
                    repeats=row.repeats,
                ),
                row.metrics,
            )
        )
        if station is not None:
            stations.append(StationChoice(station.id, row.metrics, "", "", row.repeats))
    if answers.scan.strip():
        scan = Instrument(0, answers.scan.strip(), "reference", repeats=1)
        instruments.append(NewInstrument(scan, answers.scan_metrics))
    precision = None
    if answers.precision.strip() and answers.scan.strip():
        try:
            precision = (answers.scan_metrics[0], float(answers.precision.replace(",", ".")))
        except (ValueError, IndexError) as error:
            raise UserError(f'the precision "{answers.precision[:20]}" is not a number') from error
    clients = []
    for person in answers.clients:
        if not person.code.strip():
            continue
        try:
            height = parse_quantity(person.height, HEIGHT) if person.height.strip() else None
        except ValueRefused as error:
            raise UserError(f"{person.code}: {error}") from error
        card = Client(0, person.code.strip(), sex_of(person.sex), birth=person.birth.strip())
        clients.append(NewClient(card, height))
    changed = tuple(
        (c.key, c.key in answers.asked)
        for c in CONDITIONS
        if (c.key in answers.asked) != (c.key in ASKED_AT_FIRST)
    )
    preset = next((p for p in PRESETS if p.key == answers.rhythm), None)
    rules = preset.rules(day) if preset is not None else ()
    if not answers.scan.strip():
        rules = tuple(r for r in rules if r.station != SCAN and r.form != SCAN)
    return SetUpStudy(
        day, tuple(instruments), tuple(clients), tuple(stations), changed, precision, rules
    )
