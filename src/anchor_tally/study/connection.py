"""Connections to a study file, and the one way to write: all of a transaction, or none of it."""

from __future__ import annotations

import sqlite3
from pathlib import Path

from ..domain.errors import UserError
from ..domain.instants import canonical, moment, zone_named

APPLICATION_ID = 0x414E5459  # "ANTY"
PATIENCE = 0.25  # seconds to wait for another program; the window stands still meanwhile
BLOCK = 8000  # rows read between two events of the window


class StudyError(UserError):
    """A study file that cannot be opened or written; the message says what was kept."""


def connect(path: Path, *, read_only: bool) -> sqlite3.Connection:
    """Open a connection; nothing is read yet."""
    mode = "ro" if read_only else "rw"
    conn = sqlite3.connect(
        f"{path.absolute().as_uri()}?mode={mode}", uri=True, isolation_level=None, timeout=PATIENCE
    )
    conn.execute("PRAGMA foreign_keys = ON")
    if not read_only:
        conn.execute("PRAGMA synchronous = FULL")
    return conn


def in_memory() -> sqlite3.Connection:
    """An empty database that lives only while it is open."""
    conn = sqlite3.connect(":memory:", isolation_level=None)
    conn.execute("PRAGMA foreign_keys = ON")
    return conn


def teach_instants(conn: sqlite3.Connection, zone: str) -> None:
    """Give SQL the study's reading of moments: instant_of, timed_of and canonical."""
    place = zone_named(zone)
    conn.create_function(
        "instant_of", 1, lambda text: moment(text, place, lenient=True).instant, deterministic=True
    )
    conn.create_function(
        "timed_of", 1, lambda text: int(moment(text, place, lenient=True).timed), deterministic=True
    )
    conn.create_function("canonical", 1, canonical, deterministic=True)


def why(error: sqlite3.Error) -> str:
    """What SQLite says, in the words of this program."""
    text = str(error)
    if "locked" in text or "busy" in text:
        return "another program is using the file"
    if "full" in text:
        return "the disk is full"
    if "readonly" in text:
        return "the file is read only"
    if "disk I/O" in text or "unable to open" in text:
        return "the disk refused to write"
    if "malformed" in text or "not a database" in text or "corrupt" in text:
        return "the file is damaged or was cut off"
    return text


_DAMAGED = ("malformed", "not a database", "corrupt", "disk I/O", "decode to UTF-8")


def file_trouble(error: BaseException) -> str:
    """Return what a failure of the study file means, in one sentence.

    "" when the file has no part in it, or is only busy.
    """
    if isinstance(error, UnicodeDecodeError) or (
        isinstance(error, sqlite3.DatabaseError) and any(sign in str(error) for sign in _DAMAGED)
    ):
        said = why(error) if isinstance(error, sqlite3.Error) else "a text is not UTF-8"
        return f"the study file cannot be read any more ({said}); save a copy of the open study"
    return ""


class transaction:  # noqa: N801  (reads as a statement: with transaction(conn))
    """One write transaction: all of it, or none; whatever fails, the next one can begin."""

    def __init__(self, conn: sqlite3.Connection) -> None:
        self.conn = conn

    def __enter__(self) -> sqlite3.Connection:
        try:
            self.conn.execute("BEGIN IMMEDIATE")
        except sqlite3.Error as error:
            raise StudyError(
                f"the study cannot be written now ({why(error)}); nothing was changed"
            ) from error
        return self.conn

    def __exit__(self, kind: type[BaseException] | None, *rest: object) -> None:
        if kind is None:
            try:
                self.conn.execute("COMMIT")
            except sqlite3.Error as error:
                self._take_back()
                raise StudyError(
                    f"the study cannot be written now ({why(error)}); nothing was changed"
                ) from error
        else:
            self._take_back()

    def _take_back(self) -> None:
        if (
            self.conn.in_transaction
        ):  # SQLite has taken it back itself after some faults, a full disk among them
            self.conn.execute("ROLLBACK")
