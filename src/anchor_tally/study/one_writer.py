"""One writer a study: the first window or command that opens it writes, any other one reads.

Two locks make sure: a file beside the study, which also serves where the study itself cannot be
locked, and the study's own file, which is one and the same under every name that it has.
"""

from __future__ import annotations

import fcntl
import os
from dataclasses import dataclass
from pathlib import Path


class OneWriter:
    """Holds the right to write a study, as a locked file beside it.

    The right ends with the process, however that ends.
    """

    def __init__(self, handle: int, path: Path, own: int) -> None:
        self._handle, self._path, self._own = handle, path, own

    @classmethod
    def of(cls, study: Path) -> OneWriter | None:
        """Take the right to write.

        None when another process has it, or when the folder cannot be written.
        """
        path = _lock_of(study)
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
                own = _lock_itself(study)
                if own is not None:
                    return cls(handle, path, own)
                path.unlink(missing_ok=True)
                os.close(handle)
                return None
            os.close(handle)

    def release(self) -> None:
        """Let another one write."""
        if self._handle >= 0:
            self._path.unlink(missing_ok=True)
            os.close(self._handle)
            self._handle = -1
            if self._own >= 0:
                os.close(
                    self._own
                )  # after the study was closed: SQLite's locks of this process end with it


@dataclass(frozen=True, slots=True)
class State:
    """Which study a file holds, and after how many changes: SQLite counts them in its head."""

    uid: str
    changes: int


def note_state(study: Path, state: State) -> None:
    """Write beside the lock which state the next change begins from; nothing without a lock."""
    try:
        handle = os.open(_lock_of(study), os.O_WRONLY | os.O_NOFOLLOW)
    except OSError:
        return  # no lock: the study is read only, or new
    try:
        os.ftruncate(handle, 0)
        os.pwrite(handle, f"{state.uid} {state.changes}".encode(), 0)
    except OSError:
        os.ftruncate(handle, 0)  # a full disk: no state is better than half of one
    finally:
        os.close(handle)


def noted_state(study: Path) -> State | None:
    """The state that the last change began from; None where nothing is noted."""
    try:
        uid, _, changes = _lock_of(study).read_text("utf-8").partition(" ")
        return State(uid, int(changes))
    except (OSError, ValueError):
        return None  # no lock, or one of an earlier version, which noted nothing


def _lock_of(study: Path) -> Path:
    real = study.resolve()
    return real.with_name(f".{real.name}.lock")


def _lock_itself(study: Path) -> int | None:
    """Lock the study's own file.

    −1 where there is none yet or the disk knows no such locks, None when somebody holds it.
    """
    try:
        handle = os.open(study, os.O_RDONLY)
    except OSError:
        return -1
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        os.close(handle)
        return None
    except OSError:
        os.close(handle)
        return -1
    return handle
