"""The tidy readings CSV: one reading a row."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Callable, Generator, Iterable, Iterator, Sequence
from dataclasses import dataclass
from operator import itemgetter
from pathlib import Path
from typing import TextIO

from ..domain.errors import UserError
from ..domain.import_rows import TIDY_COLUMNS, ImportRow, Refused
from ..domain.instants import NotAMoment, canonical
from ..domain.metrics import metric_named, metric_of
from ..domain.records import KINDS, MOST_REPLICATES, STATUSES, Reading
from ..domain.text import LONGEST_TEXT, guarded, plain_name, plain_text, unguarded
from ..domain.units import UNITS, OutOfRange, ValueRefused, parse_quantity, unit_named
from .input_limits import MOST_TEXT, BlankLines, bounded, look_at, one_sentence
from .writing import BLOCK, replacing

HEADER = TIDY_COLUMNS
ESTIMATE = "estimate"  # the kind of computed rows
_REQUIRED = ("client", "taken_at", "instrument", "kind", "metric", "value", "unit")


@dataclass(frozen=True, slots=True)
class ReadingsFile:
    """A readings file being read: its rows, taken or refused, come one by one.

    ``columns_left_out`` are not part of the format; ``progress`` tells the share of the file
    read so far.
    """

    name: str
    columns_left_out: tuple[str, ...]
    rows: Iterator[ImportRow | Refused]
    progress: Callable[[], float]
    close: Callable[[], None] = lambda: None


def open_readings(path: Path) -> ReadingsFile:
    """Open a tidy CSV in UTF-8 (with or without a mark).

    Raises UserError with one sentence when it holds no such table.
    """
    size = look_at(path, MOST_TEXT)
    with one_sentence(str(path)):
        raw = path.open("rb")
    text = io.TextIOWrapper(raw, encoding="utf-8-sig", newline="")
    try:
        return _readings(text, path, lambda: 1.0 if raw.closed else raw.tell() / (size or 1))
    except (UserError, OSError) as error:
        text.close()
        if isinstance(error, OSError):
            raise UserError(f"{path}: cannot be read ({error.strerror or error})") from error
        raise


def _not_text(path: Path, error: UnicodeDecodeError) -> UserError:
    """Say in which line the text stops being UTF-8."""
    line = 0
    with path.open("rb") as f:
        for data in f:
            line += 1
            try:
                data.decode("utf-8")
            except UnicodeDecodeError:
                break
    return UserError(
        f"{path}, line {line}: not UTF-8 text ({error.reason}); save the table as UTF-8 CSV,"
        " nothing was read"
    )


def _readings(source: TextIO, path: Path, progress: Callable[[], float]) -> ReadingsFile:
    name = str(path)
    reader = csv.reader(source, strict=True)
    try:
        header = [h.strip() for h in bounded(next(reader, []), name, 1)]
    except csv.Error as error:
        raise UserError(
            f"{name}, line 1: not readable as CSV ({error}); nothing was read"
        ) from error
    except UnicodeDecodeError as error:
        raise _not_text(path, error) from error
    if not any(header):
        raise UserError(f"{name}: the file is empty, nothing was read")
    missing = [c for c in _REQUIRED if c not in header]
    if missing:
        raise UserError(f"{name}, line 1: column {', '.join(missing)} is missing; nothing was read")
    doubled = {h for h in header if header.count(h) > 1 and h in HEADER}
    if doubled:
        raise UserError(
            f"{name}, line 1: column {', '.join(sorted(doubled))} stands twice; nothing was read"
        )
    extra = [h for h in header if h not in HEADER]
    conditions = [h for h in extra if h.startswith("condition:")]

    def rows() -> Iterator[ImportRow | Refused]:
        read, blank = RowReader(header).read, BlankLines(name)
        with source:
            try:
                for cells in reader:
                    blank.see(not cells, reader.line_num)
                    bounded(cells, name, reader.line_num)
                    if len(cells) == len(header):
                        if row := read(cells, reader.line_num):
                            yield row
                    elif any(c.strip() for c in cells):
                        why = (
                            f"{len(cells)} cells where the header has {len(header)}; the file may"
                            " be cut off here"
                        )
                        yield Refused(reader.line_num, "row", ",".join(cells)[:80], why)
            except csv.Error as error:
                yield Refused(
                    reader.line_num,
                    "row",
                    "",
                    f"not readable as CSV ({error}); the file may be cut off here",
                )
            except UnicodeDecodeError as error:
                raise _not_text(path, error) from error

    return ReadingsFile(
        name, tuple(h for h in extra if h not in conditions), rows(), progress, source.close
    )


class RowReader:
    """Turns the cells of one table into rows.

    Every row goes through ``_row`` when something in it is new. What comes again and again
    (person, instrument, unit, repeat: all but time, value and note) is remembered as one head,
    so that a long table costs two look-ups a row.
    """

    _HEADS = 50_000  # a table of more people than this gains nothing from remembered heads

    def __init__(self, header: Sequence[str]) -> None:
        self.header = list(header)
        self.conditions = [h for h in header if h.startswith("condition:")]
        place = {h: k for k, h in enumerate(header)}
        at = [
            place.get(h, len(header)) for h in HEADER
        ]  # one empty cell more replaces a column that is not there
        self.taken_at, self.value, self.note = at[4], at[9], at[13]
        self.head_of = itemgetter(
            *(at[k] for k in range(14) if k not in (4, 9, 13)), *(place[h] for h in self.conditions)
        )
        self.moments: dict[str, str] = {}
        self.heads: dict[tuple[str, ...], tuple[ImportRow, float, float, float, float]] = {}

    def read(self, cells: list[str], line: int) -> ImportRow | Refused | None:
        """One row, a refusal, or None for a line of empty cells."""
        if not any(cells):
            return None
        cells.append("")
        try:
            like, factor, base, low, high = self.heads[self.head_of(cells)]
            taken = self.moments[cells[self.taken_at]]
            entered = cells[self.value]
            value = float(entered) if factor == base else float(entered) * factor / base
            if (
                low <= value <= high
                and entered.isascii()
                and entered.replace(".", "", 1).isdecimal()
            ):
                (
                    _,
                    client,
                    sex,
                    age,
                    height,
                    _,
                    instrument,
                    kind,
                    setting,
                    metric,
                    _,
                    _,
                    unit,
                    rep,
                    status,
                    _,
                    conditions,
                ) = like
                note = cells[self.note].strip()
                if note and (
                    note[0] in "'=+-@" or not note.isprintable() or len(note) > LONGEST_TEXT
                ):
                    raise ValueError(note)  # the careful way below reads it
                return ImportRow(
                    line,
                    client,
                    sex,
                    age,
                    height,
                    taken,
                    instrument,
                    kind,
                    setting,
                    metric,
                    value,
                    entered,
                    unit,
                    rep,
                    status,
                    note,
                    conditions,
                )
        except (KeyError, ValueError):
            pass  # something new or odd: the careful way below takes or refuses it
        key = self.head_of(cells)
        cells.pop()
        if not any(x.strip() for x in cells):
            return None
        row = _row(dict(zip(self.header, cells, strict=True)), line, self.conditions)
        if isinstance(row, ImportRow):
            self._remember(key, cells[self.taken_at], row)
        return row

    def _remember(self, key: tuple[str, ...], taken: str, row: ImportRow) -> None:
        for cache in (self.heads, self.moments):
            if len(cache) >= self._HEADS:
                cache.clear()
        m = metric_named(row.metric)
        said = key[8].strip()  # the unit's cell
        if (
            m is not None
            and row.status == "ok"
            and (unit_named(said) if said else m.unit) == row.unit
        ):
            self.heads[key] = (row, UNITS[row.unit][1], UNITS[m.unit][1], m.low, m.high)
        self.moments[taken] = row.taken_at


def _optional(text: str, low: float, high: float, what: str) -> float | None:
    if not text.strip():
        return None
    try:
        value = float(text.replace(",", ".")) if len(text) < 30 else math.nan
    except ValueError as error:
        raise ValueRefused(f"{what} is not a number") from error
    if not low <= value <= high:
        raise ValueRefused(f"{what} is outside {low:g} to {high:g}")
    return value


def _row(cell: dict[str, str], line: int, conditions: list[str]) -> ImportRow | Refused:
    column = "client"

    def text(name: str) -> str:
        return unguarded(cell.get(name, "").strip())

    def name(column: str) -> str:
        return plain_name(text(column))

    try:
        if not name("client"):
            raise ValueRefused("the client's code is missing")
        column = "sex"
        if text("sex") not in ("", "male", "female"):
            raise ValueRefused("must be male, female or empty")
        column = "age_years"
        age = _optional(text(column), 0, 130, "age")
        column = "height_cm"
        height = _optional(text(column), 40, 260, "height")
        column = "taken_at"
        taken = canonical(text(column))
        column = "instrument"
        if not name(column):
            raise ValueRefused("the instrument's name is missing")
        column = "kind"
        if text(column) == ESTIMATE:
            raise ValueRefused("a computed estimate is no reading")
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
        said = text(column) or "1"
        replicate = int(said) if said.isascii() and said.isdigit() and len(said) < 5 else 0
        if not 1 <= replicate <= MOST_REPLICATES:
            raise ValueRefused(f"must be a whole number from 1 to {MOST_REPLICATES}")
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
        note = plain_text(text("note"))
        if status == "excluded" and not note:
            note = "excluded in the imported file"
    except OutOfRange as error:
        read = cell.get(column, "").strip()[:80]
        failed = _row({**cell, "value": "", "status": "failed"}, line, conditions)
        why = f"showed {read}, outside the possible range"
        return Refused(
            line,
            column,
            read,
            str(error),
            failed._replace(note="; ".join(t for t in (failed.note, why) if t))
            if isinstance(failed, ImportRow) and status == "ok"
            else None,
        )
    except (ValueRefused, NotAMoment) as error:
        return Refused(line, column, cell.get(column, "").strip()[:80], str(error))
    kept = tuple((plain_name(c.removeprefix("condition:")), name(c)) for c in conditions if name(c))
    return ImportRow(
        line,
        name("client"),
        text("sex"),
        age,
        height,
        taken,
        name("instrument"),
        text("kind"),
        name("setting"),
        metric.id,
        value,
        entered,
        unit,
        replicate,
        status,
        note,
        kept,
    )


@dataclass(frozen=True, slots=True)
class EstimateRow:
    """A computed level of a client on a day (ISO), with its 95 % interval; never read back.

    ``waiting``: readings of the client do not count until a finding of the review is decided.
    """

    client: str
    sex: str
    day: str
    metric: str
    value: float
    low: float
    high: float
    waiting: bool = False


def write_steps(
    path: Path,
    readings: Sequence[Reading],
    conditions: dict[int, dict[str, str]],
    estimates: Sequence[EstimateRow] = (),
) -> Generator[float, None, None]:
    """Write a tidy CSV, computed estimates after the readings; yields the share written.

    Raises UserError when the place cannot be written.
    """
    with replacing(path) as part, part.open("w", encoding="utf-8", newline="") as f:
        for k, text in enumerate(write(readings, conditions, estimates)):
            f.write(text)
            if k % BLOCK == 0:
                yield k / (len(readings) + 1)


def write(
    readings: Iterable[Reading],
    conditions: dict[int, dict[str, str]],
    estimates: Iterable[EstimateRow] = (),
) -> Iterator[str]:
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
                guarded(r.client),
                r.sex,
                r.age_years,
                r.height_cm,
                r.taken_at,
                guarded(r.instrument),
                r.kind,
                guarded(r.setting),
                r.metric,
                r.entered,
                r.unit,
                r.replicate,
                # the table has no column for it: what no real device has measured never comes back
                # as if one had
                "excluded" if r.simulated and r.status == "ok" else r.status,
                "simulated reading" if r.simulated else guarded(r.note),
                *(guarded(c.get(k, "")) for k in keys),
            ]
        )
    for e in estimates:
        found = metric_of(e.metric)
        k = found.decimals + 1
        ends = f"95 % CI {e.low:.{k}f} to {e.high:.{k}f}"
        if e.waiting:
            ends += "; some readings do not count until you decide in Review"
        yield line(
            [
                guarded(e.client),
                e.sex,
                "",
                "",
                e.day,
                "all sources",
                ESTIMATE,
                "",
                e.metric,
                f"{e.value:.{k}f}",
                found.unit,
                1,
                "ok",
                f"computed, not read; {ends}",
                *("" for _ in keys),
            ]
        )
