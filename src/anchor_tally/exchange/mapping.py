"""How the columns of a foreign table become readings: guessed from the header, chosen by the user, kept for the next file."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any

from ..domain.errors import UserError
from ..domain.metrics import METRICS, metric_named
from ..domain.protocol import BY_KEY
from ..domain.records import ImportRow, Refused
from ..domain.units import unit_named
from .dates import ORDERS, iso_moment, order_of
from .readings_csv import HEADER, ReadingsFile, RowReader, open_readings
from .tables import TIDY_FORM, Table, open_table

# what a column can be; "reading" is a column of values in a wide table
ROLES = {
    "ignore": "left out",
    "client": "client's code",
    "sex": "sex",
    "age_years": "age in years",
    "height_cm": "height (cm)",
    "taken_at": "date, or date and time",
    "time": "time of day",
    "instrument": "instrument",
    "kind": "kind of instrument",
    "setting": "setting",
    "metric": "metric",
    "value": "value (long table)",
    "unit": "unit",
    "replicate": "repeat",
    "status": "status",
    "note": "note",
    "condition": "condition",
    "reading": "readings (wide table)",
}
_NAMES = {
    "client": ["client", "code", "id", "participant", "subject", "person", "athlete", "initials", "klient", "proband"],
    "sex": ["sex", "gender", "geschlecht"],
    "age_years": ["age", "alter"],
    "height_cm": ["height", "stature"],
    "taken_at": ["date", "datetime", "taken", "timestamp", "day", "when", "datum"],
    "time": ["time", "hour", "clock", "uhrzeit"],
    "instrument": ["instrument", "device", "scale", "method"],
    "kind": ["kind"],
    "setting": ["setting", "mode", "firmware"],
    "metric": ["metric", "measure", "variable", "parameter"],
    "value": ["value", "reading", "result", "wert"],
    "unit": ["unit", "units", "einheit"],
    "replicate": ["replicate", "repeat", "trial", "rep"],
    "status": ["status"],
    "note": ["note", "notes", "comment", "comments", "remark"],
}
_METRIC_WORDS: tuple[tuple[str, str], ...] = (
    (r"visceral", "visceral_fat_rating"),
    (r"skeletal.*(%|percent|share)", "skeletal_muscle_percent"),
    (r"skeletal", "skeletal_muscle_mass"),
    (r"fat[ -]?free|ffm", "fat_free_mass"),
    (r"lean", "lean_soft_tissue"),
    (r"muscle", "total_muscle_mass"),
    (r"bone|bmc", "bone_mineral_content"),
    (r"water.*(kg|litre|liter)", "total_body_water"),
    (r"water|tbw", "total_body_water_percent"),
    (r"fat.*(kg|lb|mass)", "fat_mass"),
    (r"fat|bf\b|bf%", "body_fat_percent"),
    (r"weight|mass|gewicht", "body_mass"),
    (r"bmr|metabolic", "basal_metabolic_rate"),
    (r"waist", "girth_waist"),
    (r"hip\b", "girth_hip"),
    (r"neck", "girth_neck"),
    (r"resistance", "resistance_50khz"),
    (r"reactance", "reactance_50khz"),
)
_SCANNER = re.compile(r"\b(dexa|dxa|scan|reference)\b", re.I)
_UNIT = re.compile(r"[\(\[]\s*([^\)\]]+?)\s*[\)\]]|(%)")


@dataclass(frozen=True, slots=True)
class Column:
    """What one column is. For a ``reading``: instrument, kind, metric, unit, setting and repeat; for a condition its key."""

    role: str = "ignore"
    instrument: str = ""
    kind: str = "device"
    metric: str = ""
    unit: str = ""
    setting: str = ""
    replicate: int = 1
    key: str = ""


@dataclass(frozen=True, slots=True)
class Mapping:
    """Columns in the order of the header, the order of dates, the decimal sign, and what no column says."""

    columns: tuple[Column, ...]
    date_order: str = "iso"
    decimal: str = "."
    client: str = ""
    instrument: str = ""
    kind: str = "device"
    metric: str = ""

    def as_dict(self) -> dict[str, Any]:
        """A plain form, to be kept."""
        return asdict(self)


def mapping_from(kept: dict[str, Any]) -> Mapping:
    """A mapping from its plain form. Raises TypeError, KeyError or ValueError for anything else."""
    columns = tuple(Column(**c) for c in kept["columns"])
    if kept["date_order"] not in ORDERS or any(c.role not in ROLES for c in columns):
        raise ValueError("not a mapping")
    return Mapping(**{**kept, "columns": columns})


def is_tidy(header: tuple[str, ...]) -> bool:
    """Whether a header is that of the tidy readings CSV."""
    return {"client", "taken_at", "instrument", "kind", "metric", "value", "unit"} <= set(header)


def open_tidy(path: Path) -> ReadingsFile:
    """Open a table with the tidy header in any encoding or separator, or as a workbook.

    Raises UserError with one sentence for any other table.
    """
    try:
        return open_readings(path)
    except UserError as error:
        try:
            table = open_table(path)
        except UserError:
            raise error from None
        if not is_tidy(table.header) or table.form == TIDY_FORM:
            raise
        left_out = tuple(h for h in table.header if h not in HEADER and not h.startswith("condition:"))
        return ReadingsFile(str(path), left_out, read_rows(table, guess(table)), lambda: 0.0)


def guess(table: Table) -> Mapping:
    """Guess what the columns are. What cannot be guessed is left out, never invented."""
    columns: list[Column] = []
    taken: set[str] = set()
    for k, name in enumerate(table.header):
        column = _guess_column(name)
        if column.role not in ("ignore", "reading", "condition"):
            if column.role in taken:
                column = Column()
            taken.add(column.role)
        values = [row[k] for row in table.sample if k < len(row) and row[k].strip()]
        if column.role == "reading" and not any(re.search(r"\d", v) for v in values):
            column = Column()
        columns.append(column)
    if "value" in taken:  # a long table: other columns of numbers are no readings of their own
        columns = [Column() if c.role == "reading" else c for c in columns]
    dates = [row[k] for k, c in enumerate(columns) if c.role == "taken_at" for row in table.sample if k < len(row)]
    numbers = [row[k] for k, c in enumerate(columns) if c.role in ("reading", "value") for row in table.sample if k < len(row)]
    comma = sum(bool(re.fullmatch(r"-?\d+,\d{1,2}", v.strip())) for v in numbers)
    point = sum(bool(re.fullmatch(r"-?\d+\.\d+", v.strip())) for v in numbers)
    return Mapping(tuple(columns), order_of(dates), "," if comma > point else ".")


def _guess_column(name: str) -> Column:
    low = name.strip().lower()
    if low in ROLES and low not in ("ignore", "reading", "condition"):
        return Column(low)
    if low.startswith("condition:"):
        return Column("condition", key=low.removeprefix("condition:"))
    if low in BY_KEY:
        return Column("condition", key=low)
    words = re.findall(r"[a-z]+", low)
    for role, names in _NAMES.items():
        if words and words[0] in names and (len(words) == 1 or role in ("taken_at", "height_cm", "age_years")):
            return Column(role)
    exact = metric_named(low)
    if exact is not None:
        return Column("reading", instrument="Imported device", metric=exact.id, unit=exact.unit)
    for pattern, metric in _METRIC_WORDS:
        if re.search(pattern, low):
            return _reading(name, metric)
    return Column()


def _reading(name: str, metric: str) -> Column:
    """A wide column such as "Alder fat (%) 2": metric, unit, repeat, and the words left as the instrument."""
    m = METRICS[metric]
    found = _UNIT.search(name)
    said = unit_named(found[1] or found[2]) if found else None
    repeat = re.search(r"(?:\brep(?:eat)?|\btrial|#)?\s*(\d)\s*$", name)
    rest = _UNIT.sub(" ", name)
    rest = re.sub(r"(?:\brep(?:eat)?|\btrial|#)?\s*\d\s*$", "", rest)
    for pattern, _ in _METRIC_WORDS:
        rest = re.sub(pattern.split(".*")[0], " ", rest, flags=re.I)
    rest = re.sub(r"\b(body|total|mass|percent|kg|lb|cm|in|share)\b|[_:/-]", " ", rest, flags=re.I)
    rest = re.sub(r"\s+", " ", rest).strip()
    scan = bool(_SCANNER.search(name))
    device = metric.startswith(("girth_", "skinfold_"))
    kind = "reference" if scan else "method" if device else "device"
    return Column(
        "reading",
        instrument=rest or ("Scan" if scan else "Tape" if device else "Imported device"),
        kind=kind,
        metric=metric,
        unit=said or m.unit,
        replicate=int(repeat[1]) if repeat and repeat[1] != "0" else 1,
    )


def missing(mapping: Mapping) -> str:
    """What is still to be said before rows can be read, in one sentence; empty when nothing is."""
    roles = {c.role for c in mapping.columns}
    if "client" not in roles and not mapping.client:
        return "Say which column holds the client's code, or name the one client of this table."
    if "taken_at" not in roles:
        return "Say which column holds the date."
    if "value" in roles:
        if "metric" not in roles and not mapping.metric:
            return "Say which metric the values are."
        if "instrument" not in roles and not mapping.instrument:
            return "Say which instrument the values are from."
    elif "reading" not in roles:
        return "Say which columns hold readings."
    return ""


def read_rows(table: Table, mapping: Mapping) -> Iterator[ImportRow | Refused]:
    """Readings of the table under a mapping; each row becomes one reading (long) or several (wide)."""
    place = {c.role: k for k, c in enumerate(mapping.columns) if c.role not in ("ignore", "reading", "condition")}
    conditions = [(k, c.key) for k, c in enumerate(mapping.columns) if c.role == "condition" and c.key]
    wide = [(k, c) for k, c in enumerate(mapping.columns) if c.role == "reading"]
    reader = RowReader([*HEADER, *(f"condition:{key}" for _, key in conditions)])
    moments: dict[tuple[str, str], str] = {}
    for line, cells in table.rows():
        if len(cells) < len(table.header):
            cells = [*cells, *[""] * (len(table.header) - len(cells))]

        def cell(role: str, otherwise: str = "", cells: list[str] = cells) -> str:
            return cells[place[role]].strip() if role in place else otherwise

        when = (cell("taken_at"), cell("time"))
        taken = moments.get(when)
        if taken is None:
            try:
                taken = iso_moment(*when, mapping.date_order)
            except ValueError as error:
                yield Refused(line, table.header[place["taken_at"]], " ".join(when).strip()[:80], str(error))
                continue
            if len(moments) < 50_000:
                moments[when] = taken
        person = (cell("client", mapping.client), _sex(cell("sex")), _plain(cell("age_years"), mapping.decimal))
        height = _plain(cell("height_cm"), mapping.decimal)
        kept = [cells[k].strip() for k, _ in conditions]
        if "value" in place:
            parts: Iterable[tuple[str, Column]] = [
                (
                    cell("value"),
                    Column(
                        "reading",
                        cell("instrument", mapping.instrument),
                        cell("kind", mapping.kind).lower() or mapping.kind,
                        _metric_id(cell("metric", mapping.metric)),
                        cell("unit"),
                        cell("setting"),
                        1,
                    ),
                )
            ]
        else:
            parts = [(cells[k].strip(), c) for k, c in wide]
        for value, c in parts:
            if not value and "value" not in place:
                continue  # an empty cell of a wide table is no reading
            status = cell("status").lower() or ("failed" if not value else "ok")
            repeat = cell("replicate") or str(c.replicate)
            made = [
                person[0], person[1], person[2], height, taken, c.instrument, c.kind, c.setting, c.metric,
                _plain(value, mapping.decimal), c.unit, repeat, status, cell("note"), *kept,
            ]  # fmt: skip
            row = reader.read(made, line)
            if isinstance(row, Refused):
                yield _in_words_of(row, table, mapping, place, wide, c)
            elif row is not None:
                yield row


def _in_words_of(
    row: Refused, table: Table, mapping: Mapping, place: dict[str, int], wide: list[tuple[int, Column]], c: Column
) -> Refused:
    """Name the table's own column in a refusal."""
    k = place.get(row.column, next((k for k, w in wide if w is c), None))
    return replace(row, column=table.header[k]) if k is not None else row


def _plain(text: str, decimal: str) -> str:
    """A number without thousands separators; the decimal sign stays for the parser, which takes both."""
    if decimal == ",":
        return re.sub(r"(?<=\d)[.  '](?=\d{3}(\D|$))", "", text)
    return re.sub(r"(?<=\d)[,  '](?=\d{3}(\D|$))", "", text)


def _sex(text: str) -> str:
    low = text.lower()
    return {"m": "male", "man": "male", "f": "female", "w": "female", "woman": "female"}.get(low, low)


def _metric_id(text: str) -> str:
    """A metric by id, label, or the words that name it."""
    low = text.strip().lower()
    if metric_named(low) is not None:
        return low
    for m in METRICS.values():
        if m.label.lower() == low:
            return m.id
    return next((metric for pattern, metric in _METRIC_WORDS if low and re.search(pattern, low)), low)
