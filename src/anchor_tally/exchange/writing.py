"""Files that are written: whole or not at all, readable by their owner only."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from ..domain.errors import UserError

BLOCK = 500  # rows written between two places to stop


@contextmanager
def replacing(path: Path) -> Iterator[Path]:
    """A file beside ``path`` to write to; it takes its place when all was written.

    Raises UserError with one sentence when the place cannot be written; what stood there is left as it was then.
    """
    part = path.with_name(f".{path.name}.{os.getpid()}.part")
    try:
        os.close(os.open(part, os.O_CREAT | os.O_TRUNC | os.O_WRONLY | os.O_NOFOLLOW, 0o600))
        yield part
        part.replace(path)
    except OSError as error:
        part.unlink(missing_ok=True)
        raise UserError(f"{path}: cannot be written ({error.strerror or error}); the study is unchanged") from error
    except BaseException:
        part.unlink(missing_ok=True)
        raise
