"""Limits on the size of foreign files, and one short sentence for whatever is broken."""

from __future__ import annotations

import logging
import stat
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from ..domain.errors import UserError
from ..domain.text import short

log = logging.getLogger("anchor_tally")

# what a reader takes; the same numbers stand in docs/file-formats.md
MOST_TEXT = 1 << 30  # bytes of a text file
MOST_ZIP = 256 << 20  # bytes of a workbook or package
MOST_UNPACKED = 1 << 30  # bytes of all its parts together
MOST_PART = 400 << 20  # bytes of one part of a workbook
MOST_RATIO = 200  # times that a part may grow when it is unpacked, beyond 8 MB
MOST_PARTS = 2000
MOST_COLUMNS = 2000
MOST_CELL = 5000  # characters of one cell
MOST_ROWS = 5_000_000


MOST_BLANK = 20_000  # blank lines one after another


class BlankLines:
    """Count consecutive blank lines.

    A file of nothing else must not keep a reader busy.
    """

    def __init__(self, name: str) -> None:
        self.name, self.n = name, 0

    def see(self, blank: bool, line: int) -> None:
        """Count a line. Raises UserError after too many blank ones."""
        self.n = self.n + 1 if blank else 0
        if self.n > MOST_BLANK:
            raise UserError(
                f"{self.name}, line {line}: more than {MOST_BLANK:,} blank lines in a row; nothing"
                " was imported. Remove them first"
            )


@contextmanager
def one_sentence(name: str, kept: str = "nothing was read") -> Iterator[None]:
    """Turn whatever a reader meets in a broken file into one sentence.

    Faults of ours stay in the log.
    """
    try:
        yield
    except UserError:
        raise
    except (MemoryError, RecursionError) as error:
        raise UserError(f"{name}: too large or too deep to be read; {kept}") from error
    except OSError as error:
        raise UserError(
            f"{name}: cannot be read ({error.strerror or short(error)}); {kept}"
        ) from error
    except Exception as error:
        log.info("%s could not be read", name, exc_info=error)
        raise UserError(f"{name}: broken, or not of this kind ({short(error)}); {kept}") from error


def look_at(path: Path, most: int) -> int:
    """The size of a plain file. Raises UserError when it is none, or larger than a reader takes."""
    try:
        at = path.stat()
    except OSError as error:
        raise UserError(f"{path}: cannot be read ({error.strerror or error})") from error
    if stat.S_ISDIR(at.st_mode):
        raise UserError(f"{path}: cannot be read (it is a folder); nothing was read")
    if not stat.S_ISREG(at.st_mode):
        raise UserError(f"{path}: not a plain file; nothing was read")
    if at.st_size > most:
        raise UserError(
            f"{path}: {at.st_size >> 20} MB, more than the {most >> 20} MB that are read; nothing"
            " was read"
        )
    return at.st_size


def look_into(path: Path) -> None:
    """Look at the list of a zip file before anything is unpacked.

    Raises UserError for one that would fill the memory.
    """
    look_at(path, MOST_ZIP)
    with one_sentence(str(path)), zipfile.ZipFile(path) as z:
        parts = z.infolist()
    if any(p.flag_bits & 1 for p in parts):
        raise UserError(f"{path}: it is locked with a password; nothing was read")
    largest = max((p.file_size for p in parts), default=0)
    grown = max(
        (p.file_size / max(p.compress_size, 1) for p in parts if p.file_size > 8 << 20), default=0.0
    )
    total = sum(p.file_size for p in parts)
    if total > 8 << 20:  # many small parts are as much as one large one
        grown = max(grown, total / max(sum(p.compress_size for p in parts), 1))
    if (
        len(parts) > MOST_PARTS
        or total > MOST_UNPACKED
        or largest > MOST_PART
        or grown > MOST_RATIO
    ):
        raise UserError(
            f"{path}: unpacked it would be {total >> 20} MB in {len(parts)} parts, more than is"
            " read; nothing was read"
        )


def unpacked(path: Path) -> int:
    """Bytes of all parts of a zip file together."""
    with one_sentence(str(path)), zipfile.ZipFile(path) as z:
        return sum(p.file_size for p in z.infolist())


def bounded(cells: list[str], name: str, line: int) -> list[str]:
    """Cells of a row. Raises UserError when there are too many, or one is too long."""
    if len(cells) > MOST_COLUMNS:
        raise UserError(
            f"{name}, line {line}: {len(cells):,} columns, more than the {MOST_COLUMNS:,} that are"
            " read; nothing was imported"
        )
    if sum(map(len, cells)) > MOST_CELL and max(map(len, cells)) > MOST_CELL:
        raise UserError(
            f"{name}, line {line}: a cell of {max(map(len, cells)):,} characters; nothing was"
            " imported"
        )
    return cells
