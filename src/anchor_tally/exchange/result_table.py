"""A table of results for a paper: CSV, TSV, XLSX, and HTML that a word processor takes."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Sequence
from dataclasses import dataclass
from html import escape
from pathlib import Path

from ..domain.errors import UserError
from .writing import replacing, told_as_os_error

SUFFIXES = (".csv", ".xlsx", ".tsv", ".html")
_NUMBER = re.compile(r"[+−-]?\d+(\.\d+)?")
# a number with what belongs to it: its unit, its interval in brackets, or the end of a span
_SIGNED = re.compile(
    r"[+-]\d+([.,]\d+)?( to [+−-]?\d+([.,]\d+)?)?( [%a-zA-Z²/]+)?( \([+−\d., %a-zA-Z²/–-]*\))?"
)
_FORMULA = ("=", "+", "-", "@", "\t", "\r")
Cell = str | float


@dataclass(frozen=True, slots=True)
class ResultTable:
    """A table as it is shown: caption, heads and rows of text."""

    caption: str
    heads: Sequence[str]
    rows: Sequence[Sequence[str]]


def as_tsv(table: ResultTable) -> str:
    """The texts of the table, columns apart by tabs."""
    lines = (table.heads, *table.rows)
    return "\n".join("\t".join(_text(re.sub(r"[\t\r\n]+", " ", c)) for c in line) for line in lines)


def as_html(table: ResultTable) -> str:
    """The table alone; word processors and spreadsheets paste it as a table."""
    heads = "".join(f"<th>{escape(_text(h))}</th>" for h in table.heads)
    rows = (
        "<tr>"
        + "".join(
            f'<td style="text-align:{"right" if _NUMBER.fullmatch(c) else "left"}">'
            f"{escape(_text(c))}</td>"
            for c in row
        )
        + "</tr>"
        for row in table.rows
    )
    caption = f"<caption>{escape(_text(table.caption))}</caption>" if table.caption else ""
    return f"<table>{caption}<thead><tr>{heads}</tr></thead><tbody>{''.join(rows)}</tbody></table>"


def value_of(cell: str) -> Cell:
    """A cell as a number where it is one; else its text.

    Examples
    --------
    >>> value_of("−0.4"), value_of("+1.80"), value_of("0.1 to 0.4")
    (-0.4, 1.8, '0.1 to 0.4')
    """
    return float(cell.replace("−", "-")) if _NUMBER.fullmatch(cell) else cell


def write(table: ResultTable, path: Path) -> Path:
    """Write the table in the form that the name ends in.

    Numbers in CSV and XLSX are numbers with a hyphen as minus sign. A text that a spreadsheet could
    take for a formula stays text. Raises UserError.
    """
    form = path.suffix.lower()
    if form not in SUFFIXES:
        raise UserError(f"{path}: a table ends in {', '.join(SUFFIXES)}; nothing was written")
    with replacing(path) as part, told_as_os_error():
        if form == ".xlsx":
            _workbook(table, part)
        elif form == ".html":
            title = escape(table.caption or "Table")
            head = f'<!DOCTYPE html><html lang="en"><head><meta charset="utf-8"><title>{title}'
            part.write_text(f"{head}</title></head><body>{as_html(table)}</body></html>\n", "utf-8")
        elif form == ".tsv":
            part.write_text(as_tsv(table) + "\n", "utf-8")
        else:
            out = io.StringIO()
            writer = csv.writer(out, lineterminator="\n")
            for line in (table.heads, *table.rows):
                writer.writerow([_safe(c) for c in line])
            part.write_text(out.getvalue(), "utf-8")
    return path


def _safe(cell: str) -> str:
    value = value_of(cell)
    if isinstance(value, float):
        return cell.replace("−", "-").lstrip("+")
    return _text(cell)


def _text(cell: str) -> str:
    """A cell that no spreadsheet computes: an apostrophe before what begins like a formula."""
    number = _NUMBER.fullmatch(cell) or _SIGNED.fullmatch(cell)
    return f"'{cell}" if cell.startswith(_FORMULA) and not number else cell


def _workbook(table: ResultTable, path: Path) -> None:
    from xlsxwriter import Workbook  # only here: it takes a while to load

    book = Workbook(str(path))
    sheet, bold = book.add_worksheet("table"), book.add_format({"bold": True})
    text = book.add_format({"quote_prefix": True})
    for k, head in enumerate(table.heads):
        sheet.write_string(0, k, head, bold)
    for j, row in enumerate(table.rows, start=1):
        for k, cell in enumerate(row):
            value = value_of(cell)
            if isinstance(value, float):
                _, _, decimals = cell.partition(".")
                form = book.add_format(
                    {"num_format": f"0.{'0' * len(decimals)}" if decimals else "0"}
                )
                sheet.write_number(j, k, value, form)
            else:
                sheet.write_string(j, k, cell, text if cell.startswith(_FORMULA) else None)
    book.close()
