"""Files that are written: whole or not at all, readable by their owner only."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from ..domain.errors import UserError
from ..domain.part_files import begin_part, part_of

BLOCK = 500  # rows written between two places to stop


@contextmanager
def told_as_os_error() -> Iterator[None]:
    """What the library of workbooks raises where a disk is full, as the error that it is."""
    from xlsxwriter.exceptions import XlsxWriterException

    try:
        yield
    except XlsxWriterException as error:
        cause = error.__cause__ or error.__context__
        found = cause or next((x for x in error.args if isinstance(x, OSError)), None)
        raise found if isinstance(found, OSError) else OSError(str(error)) from error


@contextmanager
def replacing(path: Path) -> Iterator[Path]:
    """A file beside ``path`` to write to; it takes its place when all was written.

    Raises UserError with one sentence when the place cannot be written; what stood there is left
    as it was then.
    """
    part = part_of(path)
    try:
        begin_part(path)
        yield part
        part.replace(path)
    except OSError as error:
        part.unlink(missing_ok=True)
        raise UserError(
            f"{path}: cannot be written ({error.strerror or error}); the study is unchanged"
        ) from error
    except BaseException:
        part.unlink(missing_ok=True)
        raise
