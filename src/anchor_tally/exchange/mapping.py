"""Map columns of a foreign table to readings and cards.

The user chooses the mapping; it is saved for the next file.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import asdict, dataclass, replace
from typing import Any

from ..domain.import_rows import ImportCard, ImportRow, Refused
from ..domain.metrics import HEIGHT, metric_named
from ..domain.text import plain_text
from ..domain.units import UNITS, ValueRefused, parse_quantity, unit_named
from .dates import ORDERS, iso_moment
from .metric_words import metric_of_words, unit_of
from .people import card_of, sex_of
from .readings_csv import HEADER, RowReader
from .tables import Table

Row = ImportRow | ImportCard | Refused

# what a column can be; "reading" is a column of values in a wide table
ROLES = {
    "ignore": "not imported",
    "client": "client's code",
    "name": "name (stays in the file)",
    "sex": "sex",
    "birth": "born",
    "age_years": "age in years",
    "height_cm": "height",
    "cautions": "cautions",
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

# the content of a cell where no value is; the last ones say that something was tried
FAILED_WORDS = frozenset({"failed", "fail", "error", "err"})
GAPS = (
    frozenset({"n/a", "na", "n.a.", "-", "–", "—", "--", "x", "nil", "none", "missing", "?", "."})
    | FAILED_WORDS
)
GAP_CHOICES = {"": "not chosen yet", "empty": "no reading", "failed": "failed reading"}
SUMMARIES = frozenset(
    {
        "mean",
        "average",
        "avg",
        "sd",
        "std",
        "median",
        "min",
        "max",
        "total",
        "sum",
        "n",
        "mittelwert",
    }
)
PERSONAL = ("name", "birth", "cautions")  # what goes to a person's card


def is_gap(text: str) -> bool:
    """Whether a cell says that there is no value."""
    return text.strip().lower() in GAPS


@dataclass(frozen=True, slots=True)
class Column:
    """What one column is.

    For a ``reading``: instrument, kind, metric, unit, setting and repeat, and the client where
    the columns belong to different people; a height's unit; a condition's key.
    """

    role: str = "ignore"
    instrument: str = ""
    kind: str = "device"
    metric: str = ""
    unit: str = ""
    setting: str = ""
    replicate: int = 1
    key: str = ""
    client: str = ""


@dataclass(frozen=True, slots=True)
class Mapping:
    """Columns in the order of the header, the order of dates, the decimal sign, and defaults.

    ``gaps`` shows whether a cell such as n/a is empty or a failed reading, "" as long as nobody
    has said so. ``day`` is the one date of a table without a column of dates.
    """

    columns: tuple[Column, ...]
    date_order: str = "iso"
    decimal: str = "."
    client: str = ""
    instrument: str = ""
    kind: str = "device"
    metric: str = ""
    gaps: str = ""
    day: str = ""

    def as_dict(self) -> dict[str, Any]:
        """A plain form, to be kept."""
        return asdict(self)


def mapping_from(kept: dict[str, Any]) -> Mapping:
    """A mapping from its plain form. Raises TypeError, KeyError or ValueError for anything else."""
    columns = tuple(Column(**c) for c in kept["columns"])
    if (
        kept["date_order"] not in ORDERS
        or any(c.role not in ROLES for c in columns)
        or kept.get("gaps", "") not in GAP_CHOICES
    ):
        raise ValueError("not a mapping")
    return Mapping(**{**kept, "columns": columns})


def is_tidy(header: tuple[str, ...]) -> bool:
    """Whether a header is that of the tidy readings CSV."""
    return {"client", "taken_at", "instrument", "kind", "metric", "value", "unit"} <= set(header)


def is_people(mapping: Mapping) -> bool:
    """Whether a table is a list of people: cards, no readings."""
    roles = {c.role for c in mapping.columns}
    return bool(
        "client" in roles and roles & {"sex", "birth", "name", "height_cm", "cautions"}
    ) and not roles & {"reading", "value"}


def by_column(mapping: Mapping) -> bool:
    """Whether each column of readings has a client of its own."""
    readings = [c for c in mapping.columns if c.role == "reading"]
    return bool(readings) and all(c.client for c in readings)


def missing(mapping: Mapping, gaps: int = 0) -> str:
    """What is still to be chosen before rows can be read, in one sentence; empty when nothing is.

    ``gaps`` counts the cells such as n/a in columns of readings.
    """
    roles = {c.role for c in mapping.columns}
    if "client" not in roles and not mapping.client and not by_column(mapping):
        return "Choose the column with the client's code, or name the one client of this table."
    if is_people(mapping):
        return ""
    if "taken_at" not in roles and not mapping.day:
        return "Choose the column with the date, or type the one date of this table."
    if "value" in roles:
        if "metric" not in roles and not mapping.metric:
            return "Choose the metric of the values."
        if "instrument" not in roles and not mapping.instrument:
            return "Choose the instrument of the values."
    elif "reading" not in roles:
        return "Choose the columns with readings."
    else:
        twice = colliding(mapping)
        if twice:
            return (
                f"Columns {twice[0] + 1} and {twice[1] + 1} are read as the same quantity: choose"
                " another metric, setting or repeat for one of them, or leave it out."
            )
    if gaps and not mapping.gaps:
        return (
            f"Choose the meaning of cells such as n/a, - or x ({gaps} of them): no reading, or a"
            " failed reading."
        )
    return ""


def colliding(mapping: Mapping) -> tuple[int, int] | None:
    """The first two columns whose readings would be the same reading; None for none."""
    seen: dict[tuple[object, ...], int] = {}
    for k, c in enumerate(mapping.columns):
        if c.role != "reading":
            continue
        what = (c.client, c.instrument, c.setting, c.metric, c.replicate)
        if what in seen:
            return seen[what], k
        seen[what] = k
    return None


class _Carried:
    """Values that are given once and hold for the rows below: the person, then the day."""

    def __init__(self) -> None:
        self.client, self.day = "", ""

    def take(self, client: str, day: str) -> tuple[str, str]:
        """The row's person and day; of another person no day is carried."""
        same = not client or client == self.client
        client = client or self.client
        day = day or (self.day if same else "")
        self.client, self.day = client, day
        return client, day


def read_rows(table: Table, mapping: Mapping, base: int = 0) -> Iterator[Row]:
    """Readings and cards of the table under a mapping.

    Each row becomes one reading (long) or several (wide).

    A person and a day that are given once hold for the empty cells under them. Without a column of
    repeats, rows of one person, moment, instrument and setting are repeats in their order.
    ``base`` is added to each line's number.
    """
    place = {
        c.role: k
        for k, c in enumerate(mapping.columns)
        if c.role not in ("ignore", "reading", "condition")
    }
    conditions = [
        (k, c.key) for k, c in enumerate(mapping.columns) if c.role == "condition" and c.key
    ]
    wide = [(k, c) for k, c in enumerate(mapping.columns) if c.role == "reading"]
    most: dict[tuple[str, str, str, str], int] = {}
    for _, c in wide:
        entry_row = (c.client, c.instrument, c.setting, c.metric)
        most[entry_row] = max(most.get(entry_row, 1), c.replicate)
    reader = RowReader([*HEADER, *(f"condition:{key}" for _, key in conditions)])
    moments: dict[tuple[str, str], str] = {}
    rounds: dict[tuple[str, ...], int] = {}
    carried, people, by_columns = _Carried(), is_people(mapping), by_column(mapping)
    personal = people or any(role in place for role in PERSONAL)
    known: set[str] = set()
    height_unit = next((c.unit for c in mapping.columns if c.role == "height_cm"), "") or "cm"
    width = len(table.header)
    for row_line, cells in table.rows():
        line = base + row_line
        if len(cells) < width:
            cells = [*cells, *[""] * (width - len(cells))]

        def cell(role: str, otherwise: str = "", cells: list[str] = cells) -> str:
            return cells[place[role]].strip() if role in place else otherwise

        client = cell("client", mapping.client)
        if client.lower() in SUMMARIES:
            yield Refused(
                line, table.header[place["client"]], client, "a row of a summary, not of a person"
            )
            continue
        client, day = carried.take(client, cell("taken_at", mapping.day))
        height = ""
        if cell("height_cm"):
            try:
                tall = parse_quantity(
                    _plain(cell("height_cm"), mapping.decimal), HEIGHT, height_unit
                )
                height = f"{tall.value:.10g}"
            except ValueRefused as error:
                yield Refused(
                    line, table.header[place["height_cm"]], cell("height_cm")[:80], str(error)
                )
                continue
        if personal and client not in known and not (by_columns and not client):
            known.add(client)
            said = {
                role: cell(role)
                for role in ("name", "sex", "birth", "cautions", "age_years", "note")
            }
            made = card_of(line, client, said, height if people else "", mapping.date_order)
            yield (
                replace(made, column=_head(table, place, made.column))
                if isinstance(made, Refused)
                else made
            )
        if people:
            continue
        when = (day, cell("time"))
        taken = moments.get(when)
        if taken is None:
            try:
                if not day:
                    raise ValueError("the date is missing")
                taken = iso_moment(*when, mapping.date_order)
            except ValueError as error:
                yield Refused(
                    line, _head(table, place, "taken_at"), " ".join(when).strip()[:80], str(error)
                )
                continue
            if len(moments) < 50_000:
                moments[when] = taken
        person = (sex_of(cell("sex")), _plain(cell("age_years"), mapping.decimal))
        kept = [cells[k].strip() for k, _ in conditions]
        by, setting = cell("instrument"), cell("setting")
        if "value" in place:
            column = Column(
                "reading",
                by or mapping.instrument,
                cell("kind", mapping.kind).lower() or mapping.kind,
                _metric_id(cell("metric", mapping.metric)),
                cell("unit"),
                setting,
            )
            parts: Iterable[tuple[str, Column]] = [(cell("value"), column)]
            key: tuple[str, ...] = (taken, column.instrument, setting, column.metric)
        else:
            by_row = unit_named(cell("unit").lower()) if cell("unit") else None
            parts = [
                (cells[k].strip(), _in_unit(_read_by(c, by, setting), by_row)) for k, c in wide
            ]
            filled = ((k, c) for k, c in wide if cells[k].strip())
            other = next((k for k, c in filled if _contradicts(c, by_row, table, k)), None)
            if other is not None:
                why = "the heading names another unit than the column of units"
                yield Refused(line, table.header[other], f"{cells[other].strip()} {by_row}", why)
                continue
            key = (taken, by, setting)
        done: dict[str, int] = {}  # by client: rows of the same moment and setting before this one
        for who in dict.fromkeys(c.client or client for value, c in parts if value):
            done[who] = rounds.get((who, *key), 0)
            rounds[who, *key] = done[who] + 1
        for at, (value, c) in enumerate(parts):
            if not value and "value" not in place:
                continue  # an empty cell of a wide table is no reading
            gap = is_gap(value)
            if gap and mapping.gaps != "failed" and value.lower() not in FAILED_WORDS:
                continue
            status = cell("status").lower() or ("failed" if gap or not value else "ok")
            own = wide[at][1] if wide and "value" not in place else c
            who = c.client or client
            nth = done.get(who, 0)
            repeat = cell("replicate") or str(
                c.replicate
                + nth * most.get((own.client, own.instrument, own.setting, own.metric), 1)
            )
            at_column = place["value"] if "value" in place else wide[at][0]
            beside = table.comments.get(row_line, {}).get(at_column, "")
            made_row = [
                who,
                *person,
                height,
                taken,
                c.instrument,
                c.kind,
                c.setting,
                c.metric,
                "" if gap else _plain(value, mapping.decimal),
                c.unit,
                repeat,
                status,
                "; ".join(t for t in (cell("note"), plain_text(beside)) if t),
                *kept,
            ]
            row = reader.read(made_row, line)
            if isinstance(row, Refused):
                yield _in_words_of(row, table, mapping, place, wide, own)
            elif row is not None:
                yield row


def _read_by(c: Column, by: str, setting: str) -> Column:
    """A wide column in a row that names its own instrument or setting.

    A station's method keeps its own.
    """
    if not by and not setting:
        return c
    named = by if by and c.kind != "method" else c.instrument
    return replace(c, instrument=named, setting=setting or c.setting)


def _in_unit(c: Column, unit: str | None) -> Column:
    """A wide column in the unit that its row names, where that is one of its metric."""
    m = metric_named(c.metric)
    fits = unit is not None and m is not None and UNITS[unit][0] == m.dimension
    return replace(c, unit=unit) if fits and unit is not None else c


def _contradicts(c: Column, unit: str | None, table: Table, k: int) -> bool:
    """Whether the heading of a column names another unit of the same dimension than its row."""
    named = unit_of(table.parts[k])
    return (
        named is not None
        and unit is not None
        and named != unit
        and UNITS[named][0] == UNITS[unit][0]
        and _in_unit(c, unit).unit == unit
    )


def _head(table: Table, place: dict[str, int], role: str) -> str:
    return table.header[place[role]] if role in place else role


def _in_words_of(
    row: Refused,
    table: Table,
    mapping: Mapping,
    place: dict[str, int],
    wide: list[tuple[int, Column]],
    c: Column,
) -> Refused:
    """Name the table's own column in a refusal."""
    k = place.get(row.column, next((k for k, w in wide if w is c), None))
    return replace(row, column=table.header[k]) if k is not None else row


def _plain(text: str, decimal: str) -> str:
    """A number without thousands separators.

    The decimal sign stays for the parser, which takes both.
    """
    if decimal == ",":
        return re.sub(r"(?<=\d)[.  '](?=\d{3}(\D|$))", "", text)
    return re.sub(r"(?<=\d)[,  '](?=\d{3}(\D|$))", "", text)


def _metric_id(text: str) -> str:
    """A metric by id, label, or the words that name it."""
    low = text.strip().lower()
    return metric_of_words(low) or low
