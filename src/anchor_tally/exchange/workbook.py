"""XLSX export of readings, pairs and results.

Cells that a spreadsheet could take for formulas stay text.
"""

from __future__ import annotations

import tempfile
from collections.abc import Generator, Iterable, Sequence
from pathlib import Path
from typing import Any

from ..analysis.agreement.agreement import CompareResult
from ..domain.import_rows import TIDY_COLUMNS
from ..domain.records import Reading
from ..domain.snapshot import Snapshot
from ..wording.notes import sentence
from ..wording.sentences import headline
from ..wording.statistics import rows
from .writing import BLOCK, replacing

Row = Sequence[str | int | float | None]
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def write_steps(
    path: Path, readings: Sequence[Reading], results: Sequence[CompareResult], snapshot: Snapshot
) -> Generator[float, None, None]:
    """Write a workbook of three sheets, row by row; yields the share written.

    Texts are written as texts, never as formulas; one that begins as a formula does carries the
    mark of a text, so that no program computes it later. Raises UserError when the place cannot
    be written.
    """
    from xlsxwriter import Workbook  # only here: it takes a while to load

    sheets = (
        ("readings", _readings(readings)),
        ("pairs", _pairs(results, snapshot)),
        ("results", _results(results)),
    )
    rows = 1 + len(readings) + sum(r.pairs.n for r in results) + 80 * len(results)
    done = 0
    with replacing(path) as part, tempfile.TemporaryDirectory(prefix="anchor-tally-") as folder:
        book = Workbook(str(part), {"constant_memory": True, "tmpdir": folder})
        text = book.add_format({"quote_prefix": True})
        try:
            for name, lines in sheets:
                sheet = book.add_worksheet(name)
                for k, line in enumerate(lines):
                    _put(sheet, k, line, text)
                    done += 1
                    if done % BLOCK == 0:
                        yield min(done / rows, 1.0) * 0.9  # the rest is packing
        except GeneratorExit:
            for sheet in book.worksheets():
                sheet.row_data_fh.close()  # the rows written so far wait in a file of their own
            raise
        book.close()


def _put(sheet: Any, k: int, line: Row, text: Any) -> None:
    for column, value in enumerate(line):
        if isinstance(value, str):
            if value[:1] in _FORMULA:
                sheet.write_string(k, column, value, text)
            elif value:
                sheet.write_string(k, column, value)
        elif value is not None:
            sheet.write_number(k, column, value)


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
    yield (
        "instrument",
        "reference",
        "metric",
        "client",
        "anchor",
        "reference_value",
        "instrument_value",
        "difference",
    )
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
        for _, line in rows(r, all_of_them=True):
            yield (r.pairs.instrument.name, line.name.strip(), line.value, line.interval)
        for n in r.notes:
            yield (r.pairs.instrument.name, sentence(n), None, None)
