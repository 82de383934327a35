"""XLSX export of readings, pairs and results.

Cells that a spreadsheet could take for formulas stay text.
"""

from __future__ import annotations

from collections.abc import Generator, Iterable, Sequence
from datetime import datetime, tzinfo
from pathlib import Path
from typing import Any

from ..analysis.agreement.agreement import CompareResult
from ..analysis.people.withheld import withheld
from ..domain.import_rows import TIDY_COLUMNS
from ..domain.instants import zone_named
from ..domain.metrics import metric_of
from ..domain.records import Reading
from ..domain.snapshot import Snapshot
from ..domain.temporary import passing_folder
from ..wording.notes import sentence
from ..wording.sentences import headline
from ..wording.statistics import EXPLANATIONS, STATISTICS
from .writing import BLOCK, replacing, told_as_os_error

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
    with replacing(path) as part, passing_folder("export") as folder, told_as_os_error():
        book = Workbook(str(part), {"constant_memory": True, "tmpdir": str(folder)})
        text = book.add_format({"quote_prefix": True})
        try:
            for name, lines in sheets:
                sheet = book.add_worksheet(name)
                for k, line in enumerate(lines):
                    _put(sheet, k, line, text)
                    done += 1
                    if done % BLOCK == 0:
                        yield min(done / rows, 1.0) * 0.9  # the rest is packing
            book.close()
        except BaseException:
            for sheet in book.worksheets():
                sheet.row_data_fh.close()  # the rows written so far wait in a file of their own
            raise


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
        "scan_at",
        "reading_at",
        "anchor",
        "reference_value",
        "instrument_value",
        "difference",
    )
    zone = zone_named(snapshot.catalogue.zone)
    for r in results:
        p = r.pairs
        for k in range(p.n):
            client = snapshot.clients[int(p.client[k])]
            scan = float(p.anchors.instant[p.occasion[k]])
            when = (_moment(scan, zone), _moment(float(p.instant[k]), zone))
            both = (float(p.x[k]), float(p.y[k]))
            values = (None, None) if withheld(client, p.metric) else both
            of = (p.instrument.name, p.compared_with, p.metric, client.code)
            yield (*of, *when, int(p.occasion[k]), *values, float(p.d[k]))


def _moment(instant: float, zone: tzinfo) -> str:
    return datetime.fromtimestamp(instant, zone).isoformat(timespec="minutes")[:16]


def _results(results: Sequence[CompareResult]) -> Iterable[Row]:
    yield ("instrument", "statistic", "value", "low_95", "high_95", "source")
    for r in results:
        name, metric = r.pairs.instrument.name, metric_of(r.pairs.metric)
        yield (name, headline(r), None, None, None, None)
        group = ""
        for s in STATISTICS:
            value, interval = s.pick(r)
            label = s.texts(r, metric)[0]
            group = label if not label.startswith(" ") else group
            label = label if label is group else f"{group}: {label.strip()}"
            ends = (None, None) if interval is None else (interval.low, interval.high)
            yield (name, label, value, *ends, EXPLANATIONS[s.explains].source)
        for x in r.by_level:
            for side, at in (("Upper", x.upper), ("Lower", x.lower)):
                label = f"{side} limit at {x.level:g} ({metric.difference_unit})"
                source = EXPLANATIONS["limits"].source
                yield (name, label, at, at - x.error, at + x.error, source)
        for n in r.notes:
            yield (name, sentence(n), None, None, None, None)
