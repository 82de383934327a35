"""Open a study file.

It is inspected before it is touched, repaired, upgraded with a copy, and never changed if
foreign.
"""

from __future__ import annotations

import os
import shutil
import sqlite3
import struct
import uuid
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from importlib import resources
from pathlib import Path

from ..domain.clock import SYSTEM, Clock
from ..domain.instants import system_zone
from ..domain.metrics import METRICS, metric_named
from ..domain.part_files import begin_part, part_of, sweep_parts
from .connection import (
    APPLICATION_ID,
    StudyError,
    connect,
    in_memory,
    teach_instants,
    transaction,
    why,
)
from .one_writer import State, note_state, noted_state
from .row_checks import check_rows

_MAGIC = b"SQLite format 3\x00"


def migrations() -> list[str]:
    """SQL scripts in order; the schema version is their number."""
    folder = resources.files(__package__) / "migrations"
    return [
        f.read_text("utf-8")
        for f in sorted(folder.iterdir(), key=lambda f: f.name)
        if f.name.endswith(".sql")
    ]


SCHEMA_VERSION = len(migrations())


def is_sqlite(path: Path) -> bool:
    """Whether a file begins as SQLite files do (False when it cannot be read)."""
    try:
        with path.open("rb") as f:
            return f.read(len(_MAGIC)) == _MAGIC
    except OSError:
        return False


def is_cut_off(path: Path) -> bool:
    """Whether a study file is shorter than its first page says.

    Never while another process is writing it.
    """
    try:
        with path.open("rb") as f:
            head = f.read(100)
        size = path.stat().st_size
    except OSError:
        return False
    if len(head) < 100 or path.with_name(f"{path.name}-journal").exists():
        return False
    page, pages = struct.unpack(">H", head[16:18])[0], struct.unpack(">I", head[28:32])[0]
    if head[24:28] != head[92:96]:  # the number of pages was not kept by what wrote the file last
        return False
    return bool(size < pages * (65536 if page == 1 else page))


# the schema
def _migrate(conn: sqlite3.Connection, version: int, zone: str) -> None:
    """Bring a study from ``version`` to the present schema.

    Each step is one transaction with its number.
    """
    teach_instants(conn, zone)
    conn.create_function("study_zone", 0, lambda: zone, deterministic=True)
    conn.execute(
        "PRAGMA foreign_keys = OFF"
    )  # tables are rebuilt; the links are looked at before each commit
    try:
        for number, sql in enumerate(migrations(), start=1):
            if number > version:
                _run_migration(conn, sql, number)
    finally:
        conn.execute("PRAGMA foreign_keys = ON")


def _run_migration(conn: sqlite3.Connection, sql: str, version: int) -> None:
    with transaction(conn):
        statement = ""
        for line in sql.splitlines(keepends=True):
            statement += line
            if sqlite3.complete_statement(statement):
                conn.execute(statement)
                statement = ""
        if conn.execute("PRAGMA main.foreign_key_check").fetchone() is not None:
            raise sqlite3.DatabaseError("a link between two tables is broken")
        conn.execute(f"PRAGMA user_version = {version}")
        conn.execute(f"PRAGMA application_id = {APPLICATION_ID}")


def _sync_metrics(conn: sqlite3.Connection) -> None:
    """Bring units and bounds of the metrics in the file up to those of the registry."""
    known = {
        name: tuple(rest) for name, *rest in conn.execute("SELECT id, unit, low, high FROM metric")
    }
    wanted = dict(METRICS) | {name: m for name in known if (m := metric_named(name)) is not None}
    late = [
        (m.id, m.unit, m.low, m.high)
        for m in wanted.values()
        if known.get(m.id) != (m.unit, m.low, m.high)
    ]
    if late:
        with transaction(conn):
            conn.executemany(
                "INSERT INTO metric VALUES (?, ?, ?, ?) ON CONFLICT (id) DO UPDATE"
                " SET unit = excluded.unit, low = excluded.low, high = excluded.high",
                late,
            )


@lru_cache(maxsize=1)
def _empty_schema() -> bytes:
    """The pages of a study without content: the schema is made once a process."""
    conn = in_memory()
    _migrate(conn, 0, "UTC")
    _sync_metrics(conn)
    pages = conn.serialize()
    conn.close()
    return pages


def _fill(conn: sqlite3.Connection, title: str, zone: str, clock: Clock) -> sqlite3.Connection:
    schema = in_memory()
    schema.deserialize(_empty_schema())
    schema.backup(conn)
    schema.close()
    teach_instants(conn, zone)
    with transaction(conn):
        conn.execute(
            "INSERT INTO study (id, uid, title, created_at, zone) VALUES (1, ?, ?, ?, ?)",
            (str(uuid.uuid4()), title, clock.stamp(), zone),
        )
    return conn


# new studies
def create(
    path: Path,
    title: str,
    zone: str | None = None,
    fill: Callable[[sqlite3.Connection], object] | None = None,
    clock: Clock = SYSTEM,
) -> sqlite3.Connection:
    """Create a new study, readable by its owner only.

    It is made beside its place and moved there when it is whole: a process that is killed leaves no
    half study.

    Parameters
    ----------
    path : Path
        Where the study shall lie.
    title : str
        Title of the study.
    zone : str, optional
        IANA name of its time zone; by default that of the machine.
    fill : callable, optional
        Puts its content into the empty study before it has its place.
    clock : Clock, optional
        Tells when the study is made.

    Raises
    ------
    StudyError
        When the place cannot be written or is taken; nothing is left behind then. Neither is it
        when ``fill`` raises.
    """
    if path.exists() or path.is_symlink():
        raise StudyError(f"{path}: a file of that name exists already; nothing was changed")
    part = part_of(path)
    try:
        begin_part(path)
        conn = connect(part, read_only=False)
        try:
            _fill(conn, title, zone or system_zone(), clock)
            if fill is not None:
                fill(conn)
        finally:
            conn.close()
        _put_in_place(part, path)
    except (OSError, sqlite3.Error, StudyError) as error:
        _drop_part(part)
        said = (
            error.strerror
            if isinstance(error, OSError)
            else why(error)
            if isinstance(error, sqlite3.Error)
            else str(error)
        )
        if isinstance(error, FileExistsError):
            raise StudyError(
                f"{path}: a file of that name exists already; nothing was changed"
            ) from error
        raise StudyError(f"{path}: cannot be created ({said}); nothing was written") from error
    except BaseException:
        _drop_part(part)
        raise
    return _taught(connect(path, read_only=False))


def _drop_part(part: Path) -> None:
    for left in (part, part.with_name(f"{part.name}-journal")):
        left.unlink(missing_ok=True)


def _put_in_place(part: Path, path: Path) -> None:
    """Give a finished file its name, never over another one, and flush the name to disk."""
    try:
        os.link(part, path)
        part.unlink()
    except FileExistsError:
        raise
    except OSError:  # a disk without links
        if path.exists():
            raise FileExistsError(path) from None
        part.replace(path)
    folder = os.open(path.parent, os.O_RDONLY)
    try:
        os.fsync(folder)
    finally:
        os.close(folder)


def create_in_memory(
    title: str, zone: str | None = None, clock: Clock = SYSTEM
) -> sqlite3.Connection:
    """A study that lives only while it is open, for a CSV looked at without a study file."""
    return _taught(_fill(in_memory(), title, zone or system_zone(), clock))


# studies that are there
@dataclass(frozen=True, slots=True)
class _Head:
    """What the first bytes of an SQLite file say."""

    version: int
    application: int


def _head(path: Path) -> _Head:
    """Look at a file without SQLite. Raises StudyError for a missing, empty or foreign one."""
    if not path.exists():
        raise StudyError(f"{path}: no such file")
    if path.is_dir():
        raise StudyError(f"{path}: this is a folder, not a study")
    if not path.is_file():
        raise StudyError(f"{path}: this is no file that can hold a study")
    try:
        with path.open("rb") as f:
            head = f.read(100)
    except OSError as error:
        raise StudyError(f"{path}: cannot be read ({error.strerror})") from error
    if not head:
        raise StudyError(
            f"{path}: the file is empty (0 bytes), so it holds no study; it was left as it is"
        )
    if not head.startswith(_MAGIC) or len(head) < 100:
        raise StudyError(f"{path}: not a study file (it is no SQLite file); it was left as it is")
    version, application = struct.unpack(">I", head[60:64])[0], struct.unpack(">I", head[68:72])[0]
    return _Head(version, application)


def writable(path: Path) -> bool:
    """Whether a study at this place can be written: SQLite needs the folder too."""
    return os.access(path, os.W_OK) and os.access(path.parent, os.W_OK)


def state_of(path: Path) -> State:
    """Which study a file holds, and its count of changes; journals are passed over.

    No id where the file cannot be read as it is.
    """
    real = path.resolve()
    with real.open("rb") as f:
        head = f.read(100)
    changes = struct.unpack(">I", head[24:28])[0] if len(head) == 100 else 0
    conn = sqlite3.connect(f"{real.as_uri()}?immutable=1", uri=True)
    try:
        (uid,) = conn.execute("SELECT uid FROM study").fetchone()
    except (sqlite3.Error, TypeError):
        uid = ""  # half written, or of a schema without ids
    finally:
        conn.close()
    return State(str(uid), changes)


def note_start(path: Path) -> None:
    """Note the state that a change begins from, so that its journal is known if it is killed."""
    note_state(path, state_of(path))


def _set_aside_foreign_journal(path: Path) -> None:
    """Rename a journal that belongs to another file than the one that lies there now.

    Where a copy was put in the place of a study whose writer was killed, SQLite would write pages
    of the old file into the copy. The journal is foreign where the file is another study, or an
    earlier state of it than the killed change began from.
    """
    real = path.resolve()
    journal = real.with_name(f"{real.name}-journal")
    noted = noted_state(real)
    if noted is None or not journal.exists() or not writable(real):
        return
    now = state_of(real)
    if (now.uid and noted.uid and now.uid != noted.uid) or now.changes < noted.changes:
        n = 1
        while (aside := real.with_name(f"{real.name}-journal-of-another-{n}")).exists():
            n += 1
        journal.rename(aside)


def _heal(path: Path) -> None:
    """Let SQLite take back what a killed process had half written.

    Only a connection that may write does that.
    """
    real = path.resolve()
    if real.with_name(f"{real.name}-journal").exists() and writable(real):
        conn = connect(path, read_only=False)
        try:
            conn.execute("SELECT count(*) FROM sqlite_master").fetchone()
        finally:
            conn.close()


def open_study(path: Path, *, read_only: bool = False) -> sqlite3.Connection:
    """Open an existing study.

    Raises StudyError with one sentence for a missing, empty, foreign, damaged, newer or locked
    file; none of these is changed. A file that may only be read is opened read-only; an older
    one is then brought up to date in memory.
    """
    head = _head(path)
    if head.application != APPLICATION_ID:
        raise StudyError(
            f"{path}: an SQLite file of another program, not a study; it was left as it is"
        )
    read_only = read_only or not writable(path)
    try:
        _set_aside_foreign_journal(path)
        _heal(path)
        version = _head(path).version
        if version > SCHEMA_VERSION:
            raise StudyError(
                f"{path}: written by a newer version of Anchor Tally (file format {version}, this"
                f" program knows {SCHEMA_VERSION}); it was left as it is"
            )
        _look_whole(path)
        if read_only:
            conn = _for_reading(path, version)
        else:
            note_start(path)
            sweep_parts(path)
            if version < SCHEMA_VERSION:
                _keep_copy(path)
            conn = connect(path, read_only=False)
        try:
            if version < SCHEMA_VERSION and not read_only:
                _migrate(conn, version, system_zone())
            check_rows(conn, _parts())
            if not read_only:
                _sync_metrics(conn)
            return _taught(conn)
        except BaseException:
            conn.close()
            raise
    except sqlite3.OperationalError as error:
        raise StudyError(
            f"{path}: cannot be opened now ({why(error)}); nothing was changed"
        ) from error
    except sqlite3.DatabaseError as error:
        raise StudyError(
            f"{path}: the file is damaged ({error}); it was left as it is, restore a copy"
        ) from error
    except UnicodeDecodeError as error:
        raise StudyError(
            f"{path}: the file is damaged (a text is not UTF-8); it was left as it is, restore a"
            " copy"
        ) from error
    except OSError as error:
        raise StudyError(
            f"{path}: no copy of the older study could be kept ({error.strerror}); nothing was"
            " changed"
        ) from error
    except StudyError as error:
        raise (
            error if str(error).startswith(str(path)) else StudyError(f"{path}: {error}")
        ) from error


@lru_cache(maxsize=1)
def _parts() -> dict[str, str]:
    """Names and kinds of all parts of the schema, from an empty study."""
    empty = create_in_memory("", "UTC")
    try:
        return dict(empty.execute("SELECT name, type FROM sqlite_master"))
    finally:
        empty.close()


def _look_whole(path: Path) -> None:
    conn = connect(path, read_only=True)
    conn.text_factory = lambda raw: raw.decode(
        "utf-8", "replace"
    )  # what the check says of a damaged index may be no text
    try:
        if conn.execute("PRAGMA quick_check(1)").fetchone()[0] != "ok":
            raise sqlite3.DatabaseError("quick_check")
        if conn.execute("SELECT count(*) FROM study").fetchone()[0] != 1:
            raise sqlite3.DatabaseError("it names no study")
    finally:
        conn.close()


def _for_reading(path: Path, version: int) -> sqlite3.Connection:
    """A connection that cannot write the file; of an older file, an up-to-date copy in memory."""
    conn = connect(path, read_only=True)
    if version == SCHEMA_VERSION:
        return _taught(conn)
    copy = in_memory()
    try:
        conn.backup(copy)
    finally:
        conn.close()
    _migrate(copy, version, system_zone())
    _sync_metrics(copy)
    return _taught(copy)


def _keep_copy(path: Path) -> None:
    """Copy the file before an upgrade, beside it, under a name that no earlier copy has."""
    base = f"{path.name}.before-{SCHEMA_VERSION}"
    names = (base, *(f"{base}-{k}" for k in range(2, 1000)))
    target = next(path.with_name(name) for name in names if not path.with_name(name).exists())
    sweep_parts(path)
    part = part_of(target)
    try:
        begin_part(target)
        with path.open("rb") as old, part.open("wb") as f:
            shutil.copyfileobj(old, f)
            f.flush()
            os.fsync(f.fileno())
        part.replace(target)
    except OSError:
        part.unlink(missing_ok=True)
        raise


def _taught(conn: sqlite3.Connection) -> sqlite3.Connection:
    """Give the connection the study's own time zone."""
    teach_instants(conn, conn.execute("SELECT zone FROM study").fetchone()[0])
    return conn


def mirror(conn: sqlite3.Connection) -> sqlite3.Connection:
    """A copy of an open study in memory."""
    copy = in_memory()
    conn.backup(copy)
    return copy


def copy_to(conn: sqlite3.Connection, path: Path) -> None:
    """Write all of an open study to a new file.

    Raises StudyError when it cannot be read any more or not be written.
    """
    if path.exists():
        raise StudyError(f"{path}: a file of that name exists already; nothing was changed")
    part = part_of(path)
    try:
        begin_part(path)
        target = connect(part, read_only=False)
        try:
            conn.backup(target)
            if target.execute("PRAGMA application_id").fetchone()[0] != APPLICATION_ID:
                raise sqlite3.DatabaseError("the file was cut off")
            if (
                target.execute("PRAGMA quick_check(1)").fetchone()[0] != "ok"
            ):  # damaged pages are copied as they are
                raise sqlite3.DatabaseError("the file is damaged")
        finally:
            target.close()
        _put_in_place(part, path)
    except (OSError, sqlite3.Error) as error:
        part.unlink(missing_ok=True)
        raise StudyError(
            f"{path}: the copy could not be made ({error}); nothing was written"
        ) from error
