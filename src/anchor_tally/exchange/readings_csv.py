"""The tidy readings CSV: one reading a row."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import date, datetime
from pathlib import Path

from ..domain.errors import UserError
from ..domain.metrics import metric_named
from ..domain.records import KINDS, STATUSES, ImportRow, Reading, Refused
from ..domain.units import ValueRefused, parse_quantity, unit_named

HEADER = (
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
_REQUIRED = ("client", "taken_at", "instrument", "kind", "metric", "value", "unit")


@dataclass(frozen=True, slots=True)
class ParsedFile:
    """What a file holds: rows taken, rows refused, and columns that were left out."""

    name: str
    rows: tuple[ImportRow, ...]
    refused: tuple[Refused, ...]
    ignored_columns: tuple[str, ...]


def read_text(path: Path) -> str:
    """Read a file as UTF-8 (with or without a mark). Raises UserError with one sentence."""
    try:
        data = path.read_bytes()
    except OSError as error:
        raise UserError(f"{path}: cannot be read ({error.strerror or error})") from error
    if not data.strip():
        raise UserError(f"{path}: the file is empty, nothing was read")
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = data[: error.start].count(b"\n") + 1
        raise UserError(f"{path}, line {line}: not UTF-8 text; save the table as UTF-8 CSV, nothing was read") from error


def parse(path: Path) -> ParsedFile:
    """Parse a tidy CSV. Rows that cannot be taken are listed, never dropped in silence."""
    return parse_text(read_text(path), str(path))


def _optional(text: str, low: float, high: float, what: str) -> float | None:
    if not text.strip():
        return None
    try:
        value = float(text.replace(",", "."))
    except ValueError as error:
        raise ValueRefused(f"{what} is not a number") from error
    if not low <= value <= high:
        raise ValueRefused(f"{what} is outside {low:g} to {high:g}")
    return value


def _moment(text: str) -> str:
    text = text.strip()
    try:
        return date.fromisoformat(text).isoformat()
    except ValueError:
        pass  # not a date alone: a date-time, or refused below
    try:
        datetime.fromisoformat(text)
    except ValueError as error:
        raise ValueRefused("not an ISO 8601 date or date-time such as 2026-03-02T06:40") from error
    return text


def parse_text(text: str, name: str) -> ParsedFile:
    """Parse the text of a tidy CSV; ``name`` is used in messages."""
    reader = csv.reader(io.StringIO(text, newline=""), strict=True)
    rows: list[ImportRow] = []
    refused: list[Refused] = []
    try:
        header = [h.strip() for h in next(reader, [])]
        missing = [c for c in _REQUIRED if c not in header]
        if missing:
            raise UserError(f"{name}, line 1: column {', '.join(missing)} is missing; nothing was read")
        doubled = {h for h in header if header.count(h) > 1 and h in HEADER}
        if doubled:
            raise UserError(f"{name}, line 1: column {', '.join(sorted(doubled))} stands twice; nothing was read")
        extra = [h for h in header if h not in HEADER]
        conditions = [h for h in extra if h.startswith("condition:")]
        for cells in reader:
            if not any(c.strip() for c in cells):
                continue
            if len(cells) != len(header):
                why = f"{len(cells)} cells where the header has {len(header)}; the file may be cut off here"
                refused.append(Refused(reader.line_num, "row", ",".join(cells)[:80], why))
                continue
            outcome = _row(dict(zip(header, cells, strict=True)), reader.line_num, conditions)
            if isinstance(outcome, Refused):
                refused.append(outcome)
            else:
                rows.append(outcome)
    except csv.Error as error:
        refused.append(Refused(reader.line_num, "row", "", f"not readable as CSV ({error}); the file may be cut off here"))
    return ParsedFile(name, tuple(rows), tuple(refused), tuple(h for h in extra if h not in conditions))


def _row(cell: dict[str, str], line: int, conditions: list[str]) -> ImportRow | Refused:
    column = "client"

    def text(name: str) -> str:
        return cell.get(name, "").strip()

    try:
        if not text("client"):
            raise ValueRefused("the client's code is missing")
        column = "sex"
        if text("sex") not in ("", "male", "female"):
            raise ValueRefused("must be male, female or empty")
        column = "age_years"
        age = _optional(text(column), 0, 130, "age")
        column = "height_cm"
        height = _optional(text(column), 40, 260, "height")
        column = "taken_at"
        taken = _moment(text(column))
        column = "instrument"
        if not text(column):
            raise ValueRefused("the instrument's name is missing")
        column = "kind"
        if text(column) not in KINDS:
            raise ValueRefused("must be reference, device or method")
        column = "metric"
        metric = metric_named(text(column))
        if metric is None:
            raise ValueRefused("this metric is not known")
        column = "status"
        status = text(column) or "ok"
        if status not in STATUSES:
            raise ValueRefused("must be ok, failed or excluded")
        column = "replicate"
        replicate = int(text(column) or "1") if (text(column) or "1").isdigit() else 0
        if replicate < 1:
            raise ValueRefused("must be a whole number from 1")
        column = "unit"
        unit = unit_named(text(column)) if text(column) else metric.unit
        if unit is None:
            raise ValueRefused("this unit is not known")
        column = "value"
        value, entered = None, ""
        if status == "failed":
            if text(column):
                raise ValueRefused("a failed reading has no value")
        elif not text(column):
            raise ValueRefused("the value is missing (a reading that failed has status failed)")
        else:
            quantity = parse_quantity(text(column), metric, unit)
            value, entered, unit = quantity.value, quantity.entered, quantity.unit
        note = text("note")
        if status == "excluded" and not note:
            note = "excluded in the imported file"
    except ValueRefused as error:
        return Refused(line, column, cell.get(column, "").strip()[:80], str(error))
    kept = tuple((c.removeprefix("condition:"), text(c)) for c in conditions if text(c))
    return ImportRow(
        line,
        text("client"),
        text("sex"),
        age,
        height,
        taken,
        text("instrument"),
        text("kind"),
        text("setting"),
        metric.id,
        value,
        entered,
        unit,
        replicate,
        status,
        note,
        kept,
    )


def write(readings: Iterable[Reading], conditions: dict[int, dict[str, str]]) -> Iterator[str]:
    """Yield the lines of a tidy CSV, values and units as they were entered."""
    keys = sorted({k for c in conditions.values() for k in c})
    buffer = io.StringIO()
    writer = csv.writer(buffer, lineterminator="\n")

    def line(cells: list[object]) -> str:
        buffer.seek(0)
        buffer.truncate()
        writer.writerow(cells)
        return buffer.getvalue()

    yield line([*HEADER, *(f"condition:{k}" for k in keys)])
    for r in readings:
        c = conditions.get(r.visit, {})
        yield line(
            [
                r.client,
                r.sex,
                r.age_years,
                r.height_cm,
                r.taken_at,
                r.instrument,
                r.kind,
                r.setting,
                r.metric,
                r.entered,
                r.unit,
                r.replicate,
                r.status,
                r.note,
                *(c.get(k, "") for k in keys),
            ]
        )
