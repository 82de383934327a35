"""A table to be imported: its kind and its rows.

The window and the command line use the same code.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from ..domain.catalogue import Catalogue
from ..domain.errors import UserError
from ..domain.import_rows import ImportCard, ImportRow, Refused
from ..domain.metrics import metric_named
from ..exchange import readings_csv
from ..exchange.guessing import UNNAMED, better_turned, comments_left, gaps_in, guess, readable
from ..exchange.mapping import Column, Mapping, Row, is_tidy, missing, read_rows
from ..exchange.readings_csv import HEADER
from ..exchange.tables import (
    MOST_TURNED,
    TIDY_FORM,
    WORKBOOKS,
    Table,
    open_table,
    open_tables,
    pasted_table,
    turned,
)
from .mappings import mapping_for, read_mappings, remembered

SHEET_LINES = 10_000_000  # lines of a sheet are numbered from its place in the workbook times this


@dataclass(frozen=True, slots=True)
class TidyFile:
    """A file of the tidy format: it needs no mapping.

    ``left_out`` are columns that are not part of it, ``comments`` those of cells that no reading
    takes.
    """

    rows: Iterator[Row]
    left_out: tuple[str, ...]
    progress: Callable[[], float]
    close: Callable[[], None] = lambda: None
    comments: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class ForeignTable:
    """A table of any other form, with the mapping offered for it.

    ``again`` when it was used before.
    """

    table: Table
    mapping: Mapping
    again: bool


@dataclass(frozen=True, slots=True)
class Foreign:
    """The tables of a file: one, or the sheets of a workbook; ``empty`` sheets hold none.

    ``why`` shows what is not tidy, for callers that take tidy tables only.
    """

    tables: tuple[ForeignTable, ...]
    empty: tuple[str, ...] = ()
    why: str = ""


def look_at(path: Path) -> TidyFile | Foreign:
    """Open a file: tidy if it is, else as foreign tables. Raises UserError when it is neither.

    A tidy file with a fault in its header is reported, and is not taken for a foreign one.
    """
    why = ""
    if path.suffix.lower() in WORKBOOKS:
        tables, empty = open_tables(path)
        return Foreign(tuple(_foreign(t) for t in tables), empty)
    if path.suffix.lower() == ".csv":
        try:
            source = readings_csv.open_readings(path)
        except UserError as error:
            if not _is_foreign(path):
                raise
            why = str(error)
        else:
            return TidyFile(source.rows, source.columns_left_out, source.progress, source.close)
    return Foreign((_foreign(open_table(path)),), why=why)


def open_tidy(path: Path) -> TidyFile:
    """Open a table with the tidy header in any encoding or separator, or as a sheet of a workbook.

    Everything that reads a table without asking goes through here, and with ``look_at`` through
    the same code as the window. Raises UserError with one sentence for any other table.
    """
    found = look_at(path)
    if isinstance(found, TidyFile):
        return found
    tidy = next((f.table for f in found.tables if is_tidy(f.table.header)), None)
    if tidy is None:
        raise UserError(
            found.why
            or f"{path}: no table has the columns of the tidy format; import it in the window,"
            " where columns are chosen, or with --mapping"
        )
    left_out = tuple(h for h in tidy.header if h not in HEADER and not h.startswith("condition:"))
    mapping = guess(tidy)
    rows = (r for r in read_rows(tidy, mapping) if not isinstance(r, ImportCard))
    return TidyFile(rows, left_out, lambda: 0.0, comments=comments_left(tidy, mapping))


def open_mapped(path: Path, mapping: Path) -> TidyFile:
    """Open a table with headings of its own by a mapping that the window has written.

    ``left_out`` names the sheets that the mapping does not know. Raises UserError where it knows
    none, or where something is still to be chosen.
    """
    known = read_mappings(mapping)
    if path.suffix.lower() in WORKBOOKS:
        tables, _ = open_tables(path)
    else:
        tables = (open_table(path),)
    taken = [(t, m) for t in tables if (m := mapping_for(known, t.header, t.sheet)) is not None]
    if not taken:
        raise UserError(f"{path}: no table has the headings of {mapping}; nothing was imported")
    for table, chosen in taken:
        said = wanting(table, chosen)
        if said:
            raise UserError(
                f"{path}: {said[0].lower()}{said[1:].rstrip('.')}; nothing was imported"
            )
    rows = rows_of(taken)
    assert rows is not None
    names = {id(t) for t, _ in taken}
    skipped = tuple(t.sheet or str(path) for t in tables if id(t) not in names)
    return TidyFile(rows, skipped, lambda: 0.0)


def column_words(c: Column) -> str:
    """What a column is taken for."""
    if c.role == "ignore":
        return "left out"
    if c.role != "reading":
        return c.role.replace("_", " ") + (f" {c.key}" if c.key else "")
    m = metric_named(c.metric)
    parts = (
        m.name if m is not None else c.metric,
        f"in {c.unit}",
        f"of {c.instrument} ({c.kind})",
        c.setting and f"setting {c.setting}",
        f"repeat {c.replicate}" if c.replicate > 1 else "",
        c.client and f"client {c.client}",
    )
    return ", ".join(x for x in parts if x)


def open_guessed(path: Path) -> tuple[TidyFile, tuple[str, ...]]:
    """Open a table of any form as the window does, and say what each column was taken for.

    Raises UserError where something is still to be chosen.
    """
    found = look_at(path)
    if isinstance(found, TidyFile):
        return found, ()
    said: list[str] = []
    for f in found.tables:
        head = f"{f.table.sheet}: " if f.table.sheet else ""
        columns = zip(f.table.header, f.mapping.columns, strict=True)
        said += [f"{head}{name or '(no name)'} → {column_words(c)}" for name, c in columns]
        m = f.mapping
        said += [f"{head}every row → client {m.client}"] if m.client else []
        said += [f"{head}every row → {m.day}"] if m.day else []
        why = wanting(f.table, m)
        if why:
            raise UserError(
                "; ".join([*said, f"{path}: {head}{why[0].lower()}{why[1:].rstrip('.')}"])
                + ". Choose in the window, or with --mapping; nothing was imported"
            )
    rows = rows_of([(f.table, f.mapping) for f in found.tables])
    assert rows is not None
    return TidyFile(rows, tuple(f"sheet {x}" for x in found.empty), lambda: 0.0), tuple(said)


def paste(text: str) -> Foreign:
    """The same for a table from the clipboard."""
    return Foreign((_foreign(pasted_table(text)),))


def _foreign(table: Table) -> ForeignTable:
    kept = remembered(table.header, table.sheet)
    found = kept or guess(table)
    if not readable(found):
        better = better_turned(table)
        if better is not None:
            return _offered(*better)
    return ForeignTable(table, found, kept is not None)


def _offered(table: Table, guessed: Mapping) -> ForeignTable:
    kept = remembered(table.header, table.sheet)
    return ForeignTable(table, kept or guessed, kept is not None)


def turn(given: ForeignTable) -> ForeignTable:
    """The table with rows and columns exchanged, or back. Raises UserError for a long one."""
    table = turned(given.table)
    if table is None:
        raise UserError(f"Rows and columns can be exchanged in a table of 2 to {MOST_TURNED} rows")
    return _offered(table, guess(table))


def wanting(table: Table, mapping: Mapping) -> str:
    """What is still to be chosen of a table, in one sentence; empty when nothing is."""
    return missing(mapping, gaps_in(table, mapping))


def rows_of(tables: Sequence[tuple[Table, Mapping]]) -> Iterator[Row] | None:
    """Rows of all tables under their mappings.

    None while something is still to be chosen of one of them.
    """
    if not tables or any(wanting(table, mapping) for table, mapping in tables):
        return None
    return itertools.chain.from_iterable(
        read_rows(t, m, k * SHEET_LINES) for k, (t, m) in enumerate(tables)
    )


def of_sole_device(rows: Iterable[Row], items: Catalogue) -> Iterator[Row]:
    """Rows that name no device, as those of the study's only device where there is one."""
    devices = [i.name for i in items.instruments.values() if i.kind == "device" and not i.equation]
    for row in rows:
        alone = len(devices) == 1 and isinstance(row, ImportRow) and row.instrument == UNNAMED
        yield row._replace(instrument=devices[0]) if alone and isinstance(row, ImportRow) else row


def out_of_range_as_failed(rows: Iterable[Row]) -> Iterator[Row]:
    """The rows, with values outside the possible range as failed readings."""
    for row in rows:
        yield row.as_failed if isinstance(row, Refused) and row.as_failed is not None else row


def place_of(tables: Sequence[Table], line: int) -> tuple[Table | None, str]:
    """Table that a line comes from, and the line in words."""
    k, own = divmod(line, SHEET_LINES)
    table = tables[k] if k < len(tables) else None
    sheet = f"{table.sheet}, " if table is not None and len(tables) > 1 else ""
    line_or_column = "column" if table is not None and table.origin is not None else "line"
    return table, f"{sheet}{line_or_column} {own}"


def _is_foreign(path: Path) -> bool:
    try:
        table = open_table(path)
    except UserError:
        return False
    return not is_tidy(table.header) or table.form != TIDY_FORM
