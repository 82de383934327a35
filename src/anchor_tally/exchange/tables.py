"""Tables of any origin: CSV of odd encodings and separators, XLSX sheets, pasted text.

Each as a header and rows of text.
"""

from __future__ import annotations

import codecs
import csv
import io
import itertools
import math
import posixpath
import zipfile
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from datetime import date, datetime, time
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

from ..domain.errors import UserError
from .headers import Line, Spans, find_head
from .input_limits import (
    MOST_BLANK,
    MOST_COLUMNS,
    MOST_ROWS,
    MOST_TEXT,
    BlankLines,
    bounded,
    look_at,
    look_into,
    one_sentence,
    unpacked,
)

_HEAD = 65536
SEPARATORS = {",": "comma", ";": "semicolon", "\t": "tab", "|": "bar"}
SAMPLE = 40
MOST_TURNED = 400  # rows up to which rows and columns can be exchanged
TEXTS, WORKBOOKS = (".csv", ".tsv", ".txt"), (".xlsx", ".xlsm")  # endings that are read
# bytes of an unpacked workbook up to which merged cells are looked for: it is read as a whole
MOST_MERGED = 24 << 20
TIDY_FORM = "UTF-8, separated by comma"  # how a table of the plain format is read


@dataclass(frozen=True, slots=True)
class Table:
    """A table that is read anew each time: ``rows()`` yields line number and cells.

    ``form`` says in words how it was read (encoding, separator, sheet); ``sheets`` names the
    sheets of a workbook. ``parts`` are those of each column's name where the header has several
    rows: the group first, the unit last. ``comments`` are those of a workbook's cells, by line
    and column. ``raw()`` yields all lines, those of the header too; ``origin`` is the table that
    this one shows with rows and columns exchanged.
    """

    name: str
    header: tuple[str, ...]
    parts: tuple[tuple[str, ...], ...]
    sample: tuple[tuple[str, ...], ...]
    rows: Callable[[], Iterator[tuple[int, list[str]]]]
    form: str
    sheets: tuple[str, ...] = ()
    sheet: str = ""
    size: int = 0
    comments: Mapping[int, Mapping[int, str]] = field(default_factory=dict, compare=False)
    raw: Callable[[], Iterator[tuple[int, list[str]]]] = lambda: iter(())
    origin: Table | None = None


def turned(table: Table) -> Table | None:
    """The table with rows and columns exchanged, or back; None for a table of many rows.

    Its lines are numbered by the columns that they come from.
    """
    if table.origin is not None:
        return table.origin
    lines = list(itertools.islice(table.raw(), MOST_TURNED + 1))
    if len(lines) > MOST_TURNED:
        return None
    width = max((len(cells) for _, cells in lines), default=0)
    flipped = [
        (k + 1, [cells[k] if k < len(cells) else "" for _, cells in lines]) for k in range(width)
    ]
    place = {line: at for at, (line, _) in enumerate(lines)}
    comments: dict[int, dict[int, str]] = {}
    for line, own in table.comments.items():
        for column, text in own.items():
            if line in place:
                comments.setdefault(column + 1, {})[place[line]] = text
    there = [(k, cells) for k, cells in flipped if any(c.strip() for c in cells)]
    try:
        made = _with_header(
            table.name,
            lambda: ((k, list(cells)) for k, cells in there),
            f"{table.form}, rows and columns exchanged",
            table.sheets,
            table.sheet,
            table.size,
        )
    except UserError:
        return None  # one column only: no table when it is turned
    return replace(made, comments=comments, origin=table)


def encoding_of(head: bytes) -> str:
    """Find the encoding of a text by its first bytes.

    Byte order marks first, then UTF-8, then Latin-1 (Windows form).
    """
    for mark, name in (
        (codecs.BOM_UTF8, "utf-8-sig"),
        (codecs.BOM_UTF16_LE, "utf-16"),
        (codecs.BOM_UTF16_BE, "utf-16"),
    ):
        if head.startswith(mark):
            return name
    if head[:200].count(0) > len(head[:200]) // 4:
        return "utf-16-le" if head[1:2] == b"\0" else "utf-16-be"
    try:
        codecs.getincrementaldecoder("utf-8")().decode(
            head
        )  # a character cut at the end is no error
    except UnicodeDecodeError:
        return "cp1252"
    return "utf-8"


def separator_of(text: str) -> str:
    """The separator that cuts the first lines into the most columns, evenly."""
    lines = [line for line in text.splitlines()[:25] if line.strip()]
    best, chosen = (0.0, 0), ","
    for separator in SEPARATORS:
        widths = [len(row) for row in csv.reader(lines, delimiter=separator)]
        if not widths:
            continue
        common = max(set(widths), key=widths.count)
        rank = (widths.count(common) / len(widths) if common > 1 else 0.0, common)
        if rank > best:
            best, chosen = rank, separator
    return chosen


def open_table(path: Path, sheet: str = "") -> Table:
    """Open a table file. Raises UserError with one sentence when it holds no table."""
    if path.suffix.lower() in WORKBOOKS:
        return _workbook(path, sheet)
    size = look_at(path, MOST_TEXT)
    with one_sentence(str(path)), path.open("rb") as f:
        head = f.read(_HEAD)
    if not head.strip(b"\0 \r\n\t"):
        raise UserError(f"{path}: the file is empty, nothing was read")
    encoding = encoding_of(head)

    def text() -> io.TextIOBase:
        return path.open(
            encoding=encoding, errors="strict" if encoding == "utf-8" else "replace", newline=""
        )

    return _text_table(str(path), text, encoding, size)


def pasted_table(text: str) -> Table:
    """A table pasted from the clipboard. Raises UserError when it is none."""
    if not text.strip():
        raise UserError("the clipboard holds no text; nothing was read")
    if len(text) > MOST_TEXT:
        raise UserError("the clipboard holds more than is read; nothing was read")
    return _text_table("clipboard", lambda: io.StringIO(text, newline=""), "", len(text))


def _text_table(name: str, source: Callable[[], io.TextIOBase], encoding: str, size: int) -> Table:
    try:
        with source() as f:
            head = f.read(_HEAD)
    except UnicodeError as error:
        raise UserError(f"{name}: not text in {encoding} ({error}); nothing was read") from error
    if "\0" in head:
        raise UserError(f"{name}: this is no table of text; nothing was read")
    with one_sentence(name):
        separator = separator_of(head)

    def rows() -> Iterator[tuple[int, list[str]]]:
        with one_sentence(name, "nothing was imported"), source() as f:
            reader, blank = csv.reader(f, delimiter=separator), BlankLines(name)
            try:
                for cells in reader:
                    there = any(c.strip() for c in bounded(cells, name, reader.line_num))
                    blank.see(not there, reader.line_num)
                    if there:
                        yield reader.line_num, cells
            except (csv.Error, UnicodeError) as error:
                raise UserError(
                    f"{name}, line {reader.line_num}: not readable as a table ({error}); nothing"
                    " was imported"
                ) from error

    form = (
        "Latin-1, "
        if encoding == "cp1252"
        else f"{encoding.replace('-sig', '').upper()}, "
        if encoding
        else ""
    )
    return _with_header(name, rows, f"{form}separated by {SEPARATORS[separator]}", size=size)


def _with_header(
    name: str,
    rows: Callable[[], Iterator[tuple[int, list[str]]]],
    form: str,
    sheets: tuple[str, ...] = (),
    sheet: str = "",
    size: int = 0,
    merged: Spans | None = None,
) -> Table:
    """Find the header, and take what is below it as the table."""
    first: list[Line] = list(itertools.islice(rows(), 2 * SAMPLE))
    head = find_head(first, merged)
    if head is None:
        raise UserError(f"{name}: no row with two columns or more, so no table; nothing was read")

    def body() -> Iterator[tuple[int, list[str]]]:
        return ((line, cells) for line, cells in rows() if line > head.line)

    sample = tuple(tuple(cells) for line, cells in first if line > head.line)[:SAMPLE]
    return Table(name, head.names, head.parts, sample, body, form, sheets, sheet, size, raw=rows)


def _cell(value: Any) -> str:
    """A cell of a workbook as text."""
    if value is None:
        return ""
    if isinstance(value, datetime):
        return (
            value.date().isoformat()
            if value.time() == time()
            else value.isoformat(timespec="minutes")
        )
    if isinstance(value, date | time):
        return value.isoformat()
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return f"{value:.12g}" if math.isfinite(value) else ""
    return str(value).strip()


@contextmanager
def _book(path: Path) -> Iterator[Any]:
    """A workbook being read.

    The file is opened here, since a broken one would otherwise be left open.
    """
    from openpyxl import load_workbook  # only when a workbook is opened: it takes a while to load

    with path.open("rb") as file:
        book = load_workbook(file, read_only=True, data_only=True, keep_links=False)
        try:
            yield book
        finally:
            book.close()


def _workbook(path: Path, sheet: str) -> Table:
    look_into(path)
    with one_sentence(f"{path}: not a workbook"), _book(path) as book:
        sheets = tuple(book.sheetnames)
        chosen = sheet if sheet in sheets else sheets[0]
    return _sheet(path, sheets, chosen, _beside(path).get(chosen, Beside()))


def open_tables(path: Path) -> tuple[tuple[Table, ...], tuple[str, ...]]:
    """Every sheet of a workbook that holds a table, and the names of the sheets that hold none.

    Raises UserError with one sentence when there is no table at all.
    """
    look_into(path)
    with one_sentence(f"{path}: not a workbook"), _book(path) as book:
        sheets = tuple(book.sheetnames)
    beside = _beside(path)
    found: list[Table] = []
    empty: list[str] = []
    for sheet in sheets:
        try:
            found.append(_sheet(path, sheets, sheet, beside.get(sheet, Beside())))
        except UserError:
            empty.append(sheet)
    if not found:
        raise UserError(
            f"{path}: no sheet has a row with two columns or more, so no table; nothing was read"
        )
    return tuple(found), tuple(empty)


@dataclass(frozen=True, slots=True)
class Beside:
    """What a sheet holds beside its values: merged columns by line, comments by line and column."""

    merged: dict[int, list[tuple[int, int]]] = field(default_factory=dict)
    comments: dict[int, dict[int, str]] = field(default_factory=dict)


def _beside(path: Path) -> dict[str, Beside]:
    """Merged columns and comments of each sheet, read from its parts one element after another.

    A merged cell can reach over a whole sheet, so that no cell of it is made. A large workbook is
    not looked through for them.
    """
    if unpacked(path) > MOST_MERGED:
        return {}
    out: dict[str, Beside] = {}
    with one_sentence(f"{path}: not a workbook"), zipfile.ZipFile(path) as z, _book(path) as book:
        names = set(z.namelist())
        for sheet in book.worksheets:
            own, part = out.setdefault(sheet.title, Beside()), str(sheet._worksheet_path)
            for reference in _attributes(z, part, "mergeCell", "ref"):
                first, _, last = reference.partition(":")
                (left, top), (right, _) = _place(first), _place(last or first)
                own.merged.setdefault(top, []).append((left, min(right, MOST_COLUMNS)))
            folder, _, name = part.rpartition("/")
            links = f"{folder}/_rels/{name}.rels"
            for target in _attributes(z, links, "Relationship", "Target") if links in names else ():
                if "comments" in target.lower() and target.endswith(".xml"):
                    found = posixpath.normpath(posixpath.join("/", folder, target)).lstrip("/")
                    _read_comments(z, found, own) if found in names else None
    return out


def _attributes(z: zipfile.ZipFile, part: str, element: str, name: str) -> Iterator[str]:
    """An attribute of every such element of a part."""
    with z.open(part) as file:
        for _, found in ElementTree.iterparse(file):
            if found.tag.rpartition("}")[2] == element and found.get(name):
                yield str(found.get(name))
            found.clear()


def _read_comments(z: zipfile.ZipFile, part: str, own: Beside) -> None:
    with z.open(part) as file:
        for _, found in ElementTree.iterparse(file):
            if found.tag.rpartition("}")[2] == "comment":
                column, line = _place(str(found.get("ref")))
                texts = [x.text or "" for x in found.iter() if x.tag.rpartition("}")[2] == "t"]
                own.comments.setdefault(line, {})[column] = "".join(texts)
                found.clear()


def _place(reference: str) -> tuple[int, int]:
    """Column from 0 and line from 1 of a cell such as AB12."""
    letters = reference.rstrip("0123456789")
    column = 0
    for c in letters.upper():
        column = column * 26 + ord(c) - 64
    return column - 1, int(reference[len(letters) :])


def _sheet(path: Path, sheets: tuple[str, ...], chosen: str, beside: Beside) -> Table:
    def rows() -> Iterator[tuple[int, list[str]]]:
        empty = 0
        with one_sentence(str(path), "nothing was imported"), _book(path) as opened:
            sheet = opened[chosen]
            if not hasattr(sheet, "iter_rows"):
                return  # a sheet that is a chart
            values = sheet.iter_rows(values_only=True, max_col=MOST_COLUMNS)
            for line in itertools.count(1):
                row = next(values, None)
                if row is None or line > MOST_ROWS or empty > MOST_BLANK:
                    break
                cells = [_cell(v) for v in row]
                while cells and not cells[-1]:  # rows come as wide as a sheet may be
                    cells.pop()
                empty = 0 if cells else empty + 1
                if not empty:
                    yield line, bounded(cells, str(path), line)

    table = _with_header(str(path), rows, f"sheet {chosen}", sheets, chosen, merged=beside.merged)
    return replace(table, comments=beside.comments)
