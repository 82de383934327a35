"""A table to be imported: which kind of file it is, and how its rows come, for the window and the command line alike."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from ..domain.errors import UserError
from ..domain.records import ImportRow, Refused
from ..exchange import readings_csv
from ..exchange.mapping import Mapping, guess, is_tidy, missing, read_rows
from ..exchange.tables import TIDY_FORM, Table, open_table, pasted_table
from .mappings import remembered


@dataclass(frozen=True, slots=True)
class TidyFile:
    """A file of the plain format: it needs no mapping."""

    rows: Iterator[ImportRow | Refused]
    left_out: tuple[str, ...]
    progress: Callable[[], float]


@dataclass(frozen=True, slots=True)
class ForeignTable:
    """A table of any other form, with the mapping offered for it; ``again`` when it was used before, ``why`` it is not tidy."""

    table: Table
    mapping: Mapping
    again: bool
    why: str = ""


def look_at(path: Path, sheet: str = "") -> TidyFile | ForeignTable:
    """Open a file: tidy if it is, else as a foreign table. Raises UserError when it is neither.

    A tidy file with a fault in its header is told so, and is not taken for a foreign one.
    """
    why = ""
    if path.suffix.lower() == ".csv":
        try:
            source = readings_csv.open_readings(path)
        except UserError as error:
            if not _is_foreign(path):
                raise
            why = str(error)
        else:
            return TidyFile(source.rows, source.columns_left_out, source.progress)
    return _foreign(open_table(path, sheet), why)


def paste(text: str) -> ForeignTable:
    """The same for a table from the clipboard."""
    return _foreign(pasted_table(text))


def _foreign(table: Table, why: str = "") -> ForeignTable:
    kept = remembered(table.header)
    return ForeignTable(table, kept or guess(table), kept is not None, why)


def rows_of(table: Table, mapping: Mapping) -> Iterator[ImportRow | Refused] | None:
    """Rows under a mapping; None while something is still to be said."""
    return None if missing(mapping) else read_rows(table, mapping)


def _is_foreign(path: Path) -> bool:
    try:
        table = open_table(path)
    except UserError:
        return False
    return not is_tidy(table.header) or table.form != TIDY_FORM
