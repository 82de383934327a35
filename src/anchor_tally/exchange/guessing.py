"""Guess what the columns of a foreign table are, from their names and their values."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from functools import lru_cache

from ..domain.metrics import REGIONS, metric_named
from ..domain.protocol import BY_KEY
from ..domain.stations import STATIONS
from ..domain.units import UNITS, unit_named
from .dates import iso_moment, order_of
from .headers import is_repeat, unit_in
from .mapping import ROLES, Column, Mapping, is_gap, is_people
from .metric_words import METRIC_WORDS, UNIT_IN_WORDS, metric_of, unit_of
from .tables import Table, turned

UNNAMED = "Imported device"  # an instrument that the table does not name
LOOKED_AT = 200_000  # rows of a table that are looked through for what its columns hold
# words that name a column, and the words that may come with them
_NAMES = {
    "client": (
        "client code id pid participant subject person athlete member player patient initials"
        " klient proband teilnehmer"
    ),
    "name": "name surname firstname lastname",
    "sex": "sex gender geschlecht",
    "birth": "born birth birthday birthdate dob geburtsdatum",
    "age_years": "age alter",
    "height_cm": "height stature größe groesse",
    "cautions": "caution cautions warning warnings contraindication contraindications medical",
    "taken_at": "date datetime taken timestamp day when datum visit",
    "time": "time hour clock uhrzeit",
    "instrument": "instrument device scale method",
    "kind": "kind",
    "setting": "setting mode firmware",
    "metric": "metric measure variable parameter",
    "value": "value reading result wert",
    "unit": "unit units einheit",
    "replicate": "replicate repeat trial rep",
    "status": "status",
    "note": "note notes comment comments remark remarks bemerkung",
}
_BESIDE = frozenset(
    (
        "scan",
        "visit",
        "id",
        "no",
        "nr",
        "number",
        "code",
        "of",
        "the",
        "date",
        "day",
        "time",
        "years",
        "yrs",
        "year",
        "measured",
    )
)
_SCANNER = re.compile(r"\b(dexa|dxa|scan|scanner|reference)\b", re.I)
_PLAIN_SHEET = re.compile(
    r"(sheet|tabelle|table|data|readings?|values?|measurements?|feuil|hoja)[\s_-]*\d*", re.I
)
_SIDE = re.compile(r"\b(left|right)\b", re.I)
_SIDED = ("girth_arm", "girth_thigh", "girth_calf", "skinfold_", "breadth_")
_BY_STATION = {m: s.instrument for s in STATIONS if s.kind == "method" for m in s.metrics}


@dataclass(frozen=True, slots=True)
class Held:
    """Content of a column over the whole table.

    Filled cells, cells with a number, cells of a gap such as n/a, decimals and examples.
    """

    filled: int = 0
    numbers: int = 0
    gaps: int = 0
    commas: int = 0
    points: int = 0
    examples: tuple[str, ...] = ()


_WITH_UNIT = re.compile(r"-?\d+(?:[.,]\d+)?\s*(%|[a-z]{1,6})", re.I)
_COMMA, _POINT = re.compile(r"-?\d+,\d{1,2}"), re.compile(r"-?\d+\.\d+")


@lru_cache(maxsize=64)
def held(table: Table) -> tuple[Held, ...]:
    """Look through the table, to its end as far as LOOKED_AT rows go."""
    width = len(table.header)
    filled, numbers, gaps, commas, points = ([0] * width for _ in range(5))
    examples: list[dict[str, None]] = [{} for _ in range(width)]
    for n, (_, cells) in enumerate(table.rows()):
        if n >= LOOKED_AT:
            break
        for k, cell in enumerate(cells[:width]):
            text = cell.strip()
            if not text:
                continue
            filled[k] += 1
            if is_gap(text):
                gaps[k] += 1
            elif any(c.isdigit() for c in text):
                numbers[k] += 1
                commas[k] += _COMMA.fullmatch(text) is not None
                points[k] += _POINT.fullmatch(text) is not None
            if len(examples[k]) < 5:
                examples[k][text[:40]] = None
    rows = zip(filled, numbers, gaps, commas, points, examples, strict=True)
    return tuple(Held(f, n, g, c, p, tuple(e)) for f, n, g, c, p, e in rows)


def guess(table: Table) -> Mapping:
    """Guess what the columns are.

    What cannot be guessed is left out, never invented; ``not_taken`` lists it.
    """
    inside = held(table)
    sheet = table.sheet if table.sheet and not _PLAIN_SHEET.fullmatch(table.sheet.strip()) else ""
    columns: list[Column] = []
    taken: set[str] = set()
    for parts, what in zip(table.parts, inside, strict=True):
        column = _guess_column(parts, sheet, _unit_beside(what))
        if column.role == "reading" and (not what.numbers or what.numbers < what.filled / 2):
            column = Column()
        if column.role not in ("ignore", "reading", "condition"):
            if column.role in taken or not what.filled:
                column = Column()
            taken.add(column.role)
        columns.append(column)
    columns = _dates_unnamed(_one_person(columns, table), table, inside)
    roles = [c.role for c in columns]
    if "taken_at" not in roles and "time" in roles:  # a column called Time that holds whole dates
        k = roles.index("time")
        if inside[k].examples and all(map(_is_day, inside[k].examples)):
            columns[k] = Column("taken_at")
    taken = {c.role for c in columns}
    if "value" in taken:  # a long table: other columns of numbers are no readings of their own
        columns = [Column() if c.role == "reading" else c for c in columns]
    dates = [
        row[k]
        for k, c in enumerate(columns)
        if c.role in ("taken_at", "birth")
        for row in table.sample
        if k < len(row)
    ]
    numeric = [
        h
        for h, c in zip(inside, columns, strict=True)
        if c.role in ("reading", "value", "height_cm")
    ]
    comma = sum(h.commas for h in numeric) > sum(h.points for h in numeric)
    long = "value" in taken and "instrument" not in taken
    day = "" if "taken_at" in taken else table.sheet.strip() if _is_day(table.sheet.strip()) else ""
    return Mapping(
        tuple(columns),
        order_of([*dates, day] if day else dates),
        "," if comma else ".",
        instrument=sheet if long else "",
        kind="reference" if long and _SCANNER.search(sheet) else "device",
        day=day,
    )


def _one_person(columns: list[Column], table: Table) -> list[Column]:
    """A column called *name* is the code where no other is.

    *visit* is a date only where it looks like one.
    """
    roles = [c.role for c in columns]
    if "client" not in roles and "name" in roles:
        columns[roles.index("name")] = Column("client")
    if "taken_at" in roles:
        k = roles.index("taken_at")
        texts = [row[k] for row in table.sample if k < len(row) and row[k].strip()]
        if texts and not any(re.search(r"\d.*\D.*\d", t) for t in texts):
            columns[k] = Column()
            other = next(
                (n for n, p in enumerate(table.parts) if n != k and "date" in p[-1].lower()), None
            )
            if other is not None:
                columns[other] = Column("taken_at")
    return columns


def _dates_unnamed(columns: list[Column], table: Table, inside: tuple[Held, ...]) -> list[Column]:
    """Where no column is called a date, the first one without a name that holds dates only."""
    if any(c.role == "taken_at" for c in columns):
        return columns
    for k, (head, what) in enumerate(zip(table.header, inside, strict=True)):
        if not head.strip() and what.examples and all(map(_is_day, what.examples)):
            columns[k] = Column("taken_at")
            break
    return columns


def _is_day(text: str) -> bool:
    try:
        iso_moment(text, "", order_of([text]))
    except ValueError:
        return False
    return True


def _role(text: str) -> str | None:
    words = re.findall(r"[^\W\d_]+", text.lower())
    low = text.strip().lower()
    if low in ROLES and low not in ("ignore", "reading", "condition"):
        return low
    for role, names in _NAMES.items():
        known = names.split()
        if any(w in known for w in words) and all(w in known or w in _BESIDE for w in words):
            return role
    return None


def _unit_beside(what: Held) -> str | None:
    """The unit that all examples of a column's values carry, as in "46.4 %"; None for none."""
    found = {m[1].lower() for m in map(_WITH_UNIT.fullmatch, what.examples) if m}
    return unit_named(found.pop()) if len(found) == 1 else None


def named_by_sheet(table: Table, mapping: Mapping) -> str:
    """The sheet's name, where it may be the client of a table without a column for clients.

    It is offered, never taken unasked; "" where there is nothing to offer.
    """
    roles = {c.role for c in mapping.columns}
    plain = _PLAIN_SHEET.fullmatch(table.sheet.strip()) or _SCANNER.search(table.sheet)
    return "" if "client" in roles or plain else table.sheet.strip()


def offers_groups(mapping: Mapping) -> tuple[str, ...]:
    """Names over groups of columns that may be clients, where no client is known yet.

    They were read as instruments. Whether they are people is asked: a table with one client and
    several devices looks the same.
    """
    if mapping.client or any(c.role == "client" or c.client for c in mapping.columns):
        return ()
    known = {UNNAMED, "Scan", *_BY_STATION.values()}
    names = [c.instrument for c in mapping.columns if c.role == "reading"]
    found = tuple(dict.fromkeys(n for n in names if n not in known))
    return found if len(found) > 1 else ()


def with_groups_as_clients(mapping: Mapping) -> Mapping:
    """The mapping with the names of the groups as clients, each column's own."""
    groups = offers_groups(mapping)
    return replace(
        mapping,
        columns=tuple(
            replace(c, client=c.instrument, instrument=_BY_STATION.get(c.metric, UNNAMED))
            if c.role == "reading" and c.instrument in groups
            else c
            for c in mapping.columns
        ),
    )


def readable(mapping: Mapping) -> bool:
    """Whether the columns give readings with a date, or people."""
    roles = {c.role for c in mapping.columns}
    dated = "taken_at" in roles or bool(mapping.day)
    return is_people(mapping) or (dated and bool(roles & {"reading", "value"}))


def better_turned(table: Table) -> tuple[Table, Mapping] | None:
    """The table with rows and columns exchanged, where only that way gives dated readings."""
    other = turned(table)
    if other is None:
        return None
    mapping = guess(other)
    return (other, mapping) if readable(mapping) else None


def with_sheet_as_client(table: Table, mapping: Mapping) -> Mapping:
    """The mapping with the sheet's name as its client, no longer as an instrument."""
    name = named_by_sheet(table, mapping)
    if not name or mapping.client:
        return mapping
    columns = tuple(
        replace(c, instrument=UNNAMED) if c.instrument == name else c for c in mapping.columns
    )
    by = UNNAMED if mapping.instrument == name else mapping.instrument
    return replace(mapping, columns=columns, client=name, instrument=by)


def _guess_column(parts: tuple[str, ...], sheet: str, beside: str | None = None) -> Column:
    whole = " ".join(parts)
    low = whole.strip().lower()
    if low.startswith("condition:"):
        return Column("condition", key=low.removeprefix("condition:"))
    if low in BY_KEY:
        return Column("condition", key=low)
    named = [p for p in parts if unit_in(p) is None]
    role = _role(re.sub(UNIT_IN_WORDS, " ", named[-1])) if named else None
    unit = unit_of(parts) or beside
    if role is not None:
        return Column(role, unit=unit or "") if role == "height_cm" else Column(role)
    exact = metric_named(low)
    if exact is not None:
        return Column(
            "reading",
            _instrument_for(exact.id, "", sheet),
            _kind_of(exact.id, whole, sheet),
            exact.id,
            exact.unit,
        )
    metric = metric_of(low, unit)
    return _reading(parts, metric, unit, sheet) if metric else Column()


def _kind_of(metric: str, words: str, sheet: str) -> str:
    if metric in _BY_STATION:
        return "method"
    return "reference" if _SCANNER.search(words) or _SCANNER.search(sheet) else "device"


def _instrument_for(metric: str, words: str, sheet: str) -> str:
    """Instrument of a column.

    A station's instrument for its sites, else the words left of the header, the sheet, or a
    substitute.
    """
    station = _BY_STATION.get(metric)
    return station or words or sheet or UNNAMED


def _reading(parts: tuple[str, ...], metric: str, unit: str | None, sheet: str) -> Column:
    """Read a wide column such as "Alder fat (%) 2".

    Metric, unit, repeat, and the remaining words as the instrument.
    """
    m = metric_named(metric)
    if m is None:
        raise KeyError(metric)
    if unit is not None and UNITS[unit][0] != m.dimension:
        return Column()
    whole = " ".join(p for p in parts if unit_in(p) is None)
    repeat = re.search(r"(?:\brep(?:eat)?|\btrial|#)?\s*(\d)\s*$", whole)
    # a group that names no metric is the instrument; without one it is what is left of the words
    group = next(
        (
            p
            for p in parts[:-1]
            if not (metric_of(p.lower(), None) or unit_in(p) or _role(p) or is_repeat(p))
        ),
        "",
    )
    words = group or _left_over(whole, bool(_SCANNER.search(whole)))
    kind = _kind_of(metric, whole, sheet)
    by = _instrument_for(metric, words, sheet)
    if kind == "reference" and by == UNNAMED:
        by = "Scan"
    side = _SIDE.search(whole) if metric.startswith(_SIDED) else None
    return Column(
        "reading",
        by,
        kind,
        metric,
        unit or m.unit,
        f"{side[1].lower()} side" if side else "",
        replicate=int(repeat[1]) if repeat and repeat[1] != "0" else 1,
    )


def _left_over(name: str, scan: bool) -> str:
    """The words of a header that name neither metric nor unit nor repeat."""
    rest = UNIT_IN_WORDS.sub(" ", name)
    rest = re.sub(r"(?:\brep(?:eat)?|\btrial|#)?\s*\d\s*$", "", rest)
    for pattern, _ in METRIC_WORDS:
        rest = re.sub(pattern.split(".*")[0], " ", rest, flags=re.I)
    regions = "|".join(
        sorted(
            {w for r in REGIONS for w in r.split("_")} | {"girth", "skinfold", "fold", "segment"}
        )
    )
    rest = re.sub(
        rf"\b(body|total|mass|percent|kg|lb|lbs|cm|mm|in|ohm|share|{regions})\b|[_:/·-]",
        " ",
        rest,
        flags=re.I,
    )
    rest = re.sub(r"\s+", " ", rest).strip()
    return rest or ("Scan" if scan else "")


def not_taken(table: Table, mapping: Mapping) -> tuple[tuple[str, int, tuple[str, ...]], ...]:
    """Columns that are left out although they hold something.

    Name, number of filled cells, and the first ones.
    """
    columns = zip(table.header, mapping.columns, held(table), strict=True)
    return tuple(
        (name or "(no name)", h.filled, h.examples[:3])
        for name, c, h in columns
        if c.role == "ignore" and h.filled
    )


def comments_left(table: Table, mapping: Mapping) -> tuple[str, ...]:
    """Texts of cell comments that no reading takes: those of other cells than readings'."""
    taken = {k for k, c in enumerate(mapping.columns) if c.role in ("reading", "value")}
    return tuple(
        " ".join(text.split())
        for _, cells in sorted(table.comments.items())
        for k, text in sorted(cells.items())
        if k not in taken
    )


def gaps_in(table: Table, mapping: Mapping) -> int:
    """Cells of readings such as n/a, of which the user has to choose the meaning."""
    there = zip(mapping.columns, held(table), strict=True)
    return sum(what.gaps for c, what in there if c.role in ("reading", "value"))


def with_unit(mapping: Mapping, k: int, unit: str) -> Mapping:
    """The mapping with another unit for a column."""
    columns = mapping.columns
    return replace(
        mapping, columns=(*columns[:k], replace(columns[k], unit=unit), *columns[k + 1 :])
    )
