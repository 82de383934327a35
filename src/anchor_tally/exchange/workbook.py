"""XLSX export: readings, pairs and results, with cells that could be taken for formulas kept as text."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any

from ..analysis.agreement.agreement import CompareResult
from ..domain.import_rows import TIDY_COLUMNS
from ..domain.records import Reading
from ..domain.snapshot import Snapshot
from ..wording.notes import sentence
from ..wording.sentences import headline
from ..wording.statistics import rows
from .writing import replacing

Row = Sequence[str | int | float | None]


def write(path: Path, readings: Iterable[Reading], results: Sequence[CompareResult], snapshot: Snapshot) -> None:
    """Write a workbook. Raises UserError when the place cannot be written."""
    from openpyxl import Workbook  # only here: it takes a while to load

    book = Workbook(write_only=True)
    for name, lines in (("readings", _readings(readings)), ("pairs", _pairs(results, snapshot)), ("results", _results(results))):
        sheet = book.create_sheet(name)
        for line in lines:
            sheet.append([_safe(sheet, v) for v in line])
    with replacing(path) as part:
        book.save(part)


def _safe(sheet: Any, value: str | float | None) -> Any:
    """A text beginning with = + - @ (or a tab) is marked as text, so that no program computes it."""
    from openpyxl.cell import WriteOnlyCell

    if not isinstance(value, str) or value[:1] not in ("=", "+", "-", "@", "\t", "\r"):
        return value
    cell = WriteOnlyCell(sheet, value=value)
    cell.data_type = "s"
    cell.quotePrefix = True
    return cell


def _readings(readings: Iterable[Reading]) -> Iterable[Row]:
    yield (*TIDY_COLUMNS, "value_canonical")
    for r in readings:
        yield (
            r.client,
            r.sex,
            _number(r.age_years),
            _number(r.height_cm),
            r.taken_at,
            r.instrument,
            r.kind,
            r.setting,
            r.metric,
            _number(r.entered),
            r.unit,
            r.replicate,
            "excluded" if r.simulated else r.status,
            "simulated reading" if r.simulated else r.note,
            r.value,
        )


def _number(text: str) -> str | float | None:
    try:
        return float(text) if text else None
    except ValueError:
        return text


def _pairs(results: Sequence[CompareResult], snapshot: Snapshot) -> Iterable[Row]:
    yield ("instrument", "reference", "metric", "client", "anchor", "reference_value", "instrument_value", "difference")
    for r in results:
        p = r.pairs
        for k in range(p.n):
            code = snapshot.clients[int(p.client[k])].code
            values = (float(p.x[k]), float(p.y[k]), float(p.d[k]))
            yield (p.instrument.name, p.compared_with, p.metric, code, int(p.occasion[k]), *values)


def _results(results: Sequence[CompareResult]) -> Iterable[Row]:
    yield ("instrument", "statistic", "value", "interval_95")
    for r in results:
        yield (r.pairs.instrument.name, headline(r), None, None)
        for _, name, value, interval in rows(r, all_of_them=True):
            yield (r.pairs.instrument.name, name.strip(), value, interval)
        for n in r.notes:
            yield (r.pairs.instrument.name, sentence(n), None, None)
