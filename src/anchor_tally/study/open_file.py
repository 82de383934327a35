"""Opening a study file: looked at before it is touched, upgraded with a copy kept, never changed when foreign."""

from __future__ import annotations

import os
import shutil
import sqlite3
import uuid
from datetime import datetime
from importlib import resources
from pathlib import Path

from ..domain.errors import UserError
from ..domain.metrics import METRICS

APPLICATION_ID = 0x414E5459  # "ANTY"
_MAGIC = b"SQLite format 3\x00"


class StudyError(UserError):
    """A study file that cannot be opened or written; the message says what was kept."""


def migrations() -> list[str]:
    """SQL scripts in order; the schema version is their number."""
    folder = resources.files(__package__) / "migrations"
    return [f.read_text("utf-8") for f in sorted(folder.iterdir(), key=lambda f: f.name) if f.name.endswith(".sql")]


SCHEMA_VERSION = len(migrations())


def is_sqlite(path: Path) -> bool:
    """Whether a file begins as SQLite files do (False when it cannot be read)."""
    try:
        with path.open("rb") as f:
            return f.read(len(_MAGIC)) == _MAGIC
    except OSError:
        return False


def _connect(path: Path, *, read_only: bool) -> sqlite3.Connection:
    mode = "ro" if read_only else "rw"
    conn = sqlite3.connect(f"{path.absolute().as_uri()}?mode={mode}", uri=True, isolation_level=None, timeout=2.0)
    conn.execute("PRAGMA foreign_keys = ON")
    if not read_only:
        conn.execute("PRAGMA synchronous = FULL")
    return conn


def _run_migration(conn: sqlite3.Connection, sql: str, version: int) -> None:
    conn.execute("BEGIN IMMEDIATE")
    try:
        statement = ""
        for line in sql.splitlines(keepends=True):
            statement += line
            if sqlite3.complete_statement(statement):
                conn.execute(statement)
                statement = ""
        conn.execute(f"PRAGMA user_version = {version}")
        conn.execute(f"PRAGMA application_id = {APPLICATION_ID}")
        conn.execute("COMMIT")
    except BaseException:
        conn.execute("ROLLBACK")
        raise


def create(path: Path, title: str) -> sqlite3.Connection:
    """Create a new study, readable by its owner only. Raises StudyError when the place cannot be written."""
    try:
        handle = os.open(path, os.O_CREAT | os.O_EXCL | os.O_RDWR, 0o600)
    except FileExistsError as error:
        raise StudyError(f"{path}: a file of that name exists already; nothing was changed") from error
    except OSError as error:
        raise StudyError(f"{path}: cannot be created ({error.strerror}); nothing was written") from error
    os.close(handle)
    return _fill(_connect(path, read_only=False), title)


def create_in_memory(title: str) -> sqlite3.Connection:
    """A study that lives only while it is open, for a CSV looked at without a study file."""
    conn = sqlite3.connect(":memory:", isolation_level=None)
    conn.execute("PRAGMA foreign_keys = ON")
    return _fill(conn, title)


def _fill(conn: sqlite3.Connection, title: str) -> sqlite3.Connection:
    for number, sql in enumerate(migrations(), start=1):
        _run_migration(conn, sql, number)
    with transaction(conn):
        conn.execute(
            "INSERT INTO study (id, uid, title, created_at) VALUES (1, ?, ?, ?)",
            (str(uuid.uuid4()), title, datetime.now().astimezone().isoformat(timespec="seconds")),
        )
    _sync_metrics(conn)
    return conn


def _sync_metrics(conn: sqlite3.Connection) -> None:
    known = {row[0] for row in conn.execute("SELECT id FROM metric")}
    missing = [(m.id, m.unit, m.low, m.high) for m in METRICS.values() if m.id not in known]
    if missing:
        with transaction(conn):
            conn.executemany("INSERT INTO metric VALUES (?, ?, ?, ?)", missing)


def open_study(path: Path, *, read_only: bool = False) -> sqlite3.Connection:
    """Open an existing study.

    Raises StudyError with one sentence for a missing, empty, foreign, damaged, newer or locked file; none of these
    is changed. A file that may only be read is opened read-only.
    """
    if not path.exists():
        raise StudyError(f"{path}: no such file")
    if path.is_dir():
        raise StudyError(f"{path}: this is a folder, not a study")
    try:
        with path.open("rb") as f:
            head = f.read(100)
    except OSError as error:
        raise StudyError(f"{path}: cannot be read ({error.strerror})") from error
    if not head:
        raise StudyError(f"{path}: the file is empty (0 bytes), so it holds no study; it was left as it is")
    if not head.startswith(_MAGIC):
        raise StudyError(f"{path}: not a study file (it is no SQLite file); it was left as it is")
    if not (os.access(path, os.W_OK) and os.access(path.parent, os.W_OK)):
        read_only = True
    try:
        conn = _connect(path, read_only=True)
        application = conn.execute("PRAGMA application_id").fetchone()[0]
        version = conn.execute("PRAGMA user_version").fetchone()[0]
        if application != APPLICATION_ID:
            conn.close()
            raise StudyError(f"{path}: an SQLite file of another program, not a study; it was left as it is")
        if version > SCHEMA_VERSION:
            conn.close()
            raise StudyError(
                f"{path}: written by a newer version of Anchor Tally (file format {version}, this program knows "
                f"{SCHEMA_VERSION}); it was left as it is"
            )
        if conn.execute("PRAGMA quick_check(1)").fetchone()[0] != "ok":
            raise sqlite3.DatabaseError("quick_check")
        conn.close()
        if read_only and version == SCHEMA_VERSION:
            return _connect(path, read_only=True)
        if read_only:
            raise StudyError(f"{path}: an older study in a place that cannot be written; copy it elsewhere to upgrade it")
        conn = _connect(path, read_only=False)
        if version < SCHEMA_VERSION:
            shutil.copy2(path, path.with_name(f"{path.name}.before-{SCHEMA_VERSION}"))
            for number, sql in enumerate(migrations(), start=1):
                if number > version:
                    _run_migration(conn, sql, number)
        _sync_metrics(conn)
    except sqlite3.OperationalError as error:
        raise StudyError(
            f"{path}: in use by another program ({error}); nothing was changed, close it there and try again"
        ) from error
    except sqlite3.DatabaseError as error:
        raise StudyError(f"{path}: the file is damaged ({error}); it was left as it is, restore a copy") from error
    return conn


class transaction:  # noqa: N801  (reads as a statement: with transaction(conn))
    """One write transaction: all of it, or none."""

    def __init__(self, conn: sqlite3.Connection) -> None:
        self.conn = conn

    def __enter__(self) -> sqlite3.Connection:
        try:
            self.conn.execute("BEGIN IMMEDIATE")
        except sqlite3.OperationalError as error:
            raise StudyError(f"the study cannot be written now ({error}); nothing was changed") from error
        return self.conn

    def __exit__(self, kind: type[BaseException] | None, *rest: object) -> None:
        self.conn.execute("COMMIT" if kind is None else "ROLLBACK")
