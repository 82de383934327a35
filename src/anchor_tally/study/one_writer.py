"""One writer a study: the first window or command that opens it writes, any other one reads."""

from __future__ import annotations

import fcntl
import os
from pathlib import Path


class OneWriter:
    """Holds the right to write a study, as a locked file beside it; the right ends with the process, however that ends."""

    def __init__(self, handle: int, path: Path) -> None:
        self._handle, self._path = handle, path

    @classmethod
    def of(cls, study: Path) -> OneWriter | None:
        """Take the right to write; None when another process has it, or when the folder cannot be written."""
        path = study.resolve().with_name(f".{study.resolve().name}.lock")
        while True:
            try:
                handle = os.open(path, os.O_CREAT | os.O_RDWR | os.O_NOFOLLOW, 0o600)
            except OSError:
                return None
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
                same = os.stat(path).st_ino == os.fstat(handle).st_ino
            except FileNotFoundError:
                same = False  # the one before has let go of it just now
            except OSError:
                os.close(handle)
                return None
            if same:
                return cls(handle, path)
            os.close(handle)

    def release(self) -> None:
        """Let another one write."""
        if self._handle >= 0:
            self._path.unlink(missing_ok=True)
            os.close(self._handle)
            self._handle = -1
