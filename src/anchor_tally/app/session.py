"""The open study: its file, its one writer, edits, undo and redo, imports."""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterable
from dataclasses import replace
from pathlib import Path
from typing import Any

from ..analysis.review.finding import Material
from ..domain.clock import SYSTEM, Clock
from ..domain.errors import FAULT, UserError
from ..domain.import_rows import ImportCard, ImportRow, Refused
from ..domain.lens import Lens
from ..domain.steps import finish
from ..study import open_file, read, staging
from ..study.connection import StudyError, file_trouble
from ..study.edits.edit import Edit, Restore, discard, run, run_steps
from ..study.edits.imports import TakeStaged
from ..study.import_preview import import_preview
from ..study.one_writer import OneWriter
from .importing import open_tidy
from .study_queries import StudyQueries


class Session(StudyQueries):
    """One open study. ``changed`` is called after every edit and change of lens."""

    def __init__(
        self,
        conn: Any,
        path: Path | None,
        writer: OneWriter | None = None,
        *,
        read_only: bool = False,
        clock: Clock = SYSTEM,
    ) -> None:
        super().__init__(conn, clock)
        self.path, self._writer = path, writer
        self.read_only = read_only
        self.changed: list[Callable[[], None]] = []
        self.closed: list[Callable[[], None]] = []
        self._undo: list[Restore] = []
        self._redo: list[Restore] = []
        self.case = ""  # key of the training case that this is
        self.damage = ""  # what is wrong with the file, since it was noticed
        self._mirror: Any = None  # a copy in memory, against the loss of the file
        self._file = self._mark()
        self._version = read.data_version(conn)

    # opening and closing
    @classmethod
    def open(cls, path: Path, *, read_only: bool = False, clock: Clock = SYSTEM) -> Session:
        """Open a study file, or read a tidy CSV into a study in memory.

        A study that another window or command is writing opens for reading only; so does one in
        a place that cannot be written.
        """
        if path.suffix.lower() != ".tally" and not open_file.is_sqlite(path):
            session = cls.in_memory(path.stem, clock=clock)
            staged = finish(session.stage(open_tidy(path).rows))
            refuse_if_bad(str(path), staged)
            finish(session.take(staged, path.name))
            return session
        writer = (
            OneWriter.of(path)
            if not read_only and path.is_file() and open_file.writable(path)
            else None
        )
        try:
            conn = open_file.open_study(path, read_only=writer is None)
            return cls(conn, path, writer, read_only=writer is None, clock=clock)
        except UserError:
            if writer is not None:
                writer.release()
            raise

    @classmethod
    def new(cls, path: Path, title: str, *, clock: Clock = SYSTEM) -> Session:
        """Create a study file."""
        conn = open_file.create(path, title, clock=clock)
        writer = OneWriter.of(path)
        if writer is None:
            conn.close()
            return cls.open(path, clock=clock)
        return cls(conn, path, writer, clock=clock)

    @classmethod
    def in_memory(cls, title: str, *, clock: Clock = SYSTEM) -> Session:
        """A study without a file, which ends when it is closed."""
        return cls(open_file.create_in_memory(title, clock=clock), None, clock=clock)

    def close(self) -> None:
        """Close the file and let another one write it; what was kept of the study is let go."""
        self.changed.clear()
        self._forget_all()
        self._mirror = None
        self._undo.clear()
        self._redo.clear()
        self._conn.close()
        if self._writer is not None:
            self._writer.release()
            self._writer = None
        for callback in self.closed:
            callback()
        self.closed.clear()

    @property
    def elsewhere(self) -> bool:
        """Whether it is read only because another window or command writes it."""
        return self.read_only and self.path is not None and open_file.writable(self.path)

    def follow(self) -> bool:
        """Look whether another one has written the file; then everything is read anew.

        Returns whether it was.
        """
        if self.writing:
            return False
        try:
            version = read.data_version(self._conn)
        except Exception as error:
            raise StudyError(
                f"{self.path}: cannot be read any more ({error}); the values shown were read before"
            ) from error
        if version == self._version:
            return False
        self._version = version
        self._start_anew()
        self._notify()
        return True

    def take_over(self) -> bool:
        """Become the writer when the one before has let go; everything is read anew then."""
        if self.path is None or not self.read_only:
            return False
        writer = OneWriter.of(self.path)
        if writer is None:
            return False
        try:
            conn = open_file.open_study(self.path)
        except UserError:
            writer.release()
            raise
        self._conn.close()
        self._conn, self._writer, self.read_only = conn, writer, False
        self._file, self._version = self._mark(), read.data_version(conn)
        self._start_anew()
        self._notify()
        return True

    # what may have happened to the file from outside
    def _mark(self) -> tuple[int, int] | None:
        if self.path is None:
            return None
        try:
            at = self.path.stat()
        except OSError:
            return None
        return at.st_dev, at.st_ino

    def lost(self) -> str:
        """What happened to the file under the open study: a sentence, or empty if nothing did."""
        if self.path is None or self._file is None:
            return ""
        if self.damage:
            return self.damage
        now = self._mark()
        if now is None:
            return (
                f"{self.path.name} was removed or moved while it was open; save a copy of the open"
                " study"
            )
        if now != self._file:
            return (
                f"{self.path.name} was replaced by another file while it was open; save a copy of"
                " the open study"
            )
        if not self.writing and not open_file.is_sqlite(self.path):
            return (
                f"{self.path.name} was cut off or overwritten while it was open; save a copy of the"
                " open study"
            )
        if not self.writing and open_file.is_cut_off(self.path):
            return f"{self.path.name} was cut off while it was open; save a copy of the open study"
        return ""

    def explain(self, error: BaseException) -> str:
        """Return a sentence for the user about an error that nobody foresaw.

        A failure of the file is remembered.

        From then on nothing is written, and ``lost`` says so: what is still whole can be saved
        as a copy.
        """
        found = file_trouble(error)
        if not found:
            return FAULT
        self.damage = f"{self.path.name if self.path is not None else 'the study'}: {found}"
        return self.damage

    def keep_mirror(self, most_bytes: int = 16_000_000) -> None:
        """Hold a copy of the study in memory, against the loss of its file.

        A large study has none.
        """
        try:
            if (
                self.path is not None
                and not self.writing
                and self.path.stat().st_size <= most_bytes
            ):
                self._mirror = open_file.mirror(self._conn)
        except OSError:
            return  # the file is gone: the copy from before is kept

    def save_copy(self, path: Path) -> None:
        """Write what is open, or what was kept in memory of it, to a new file."""
        try:
            open_file.copy_to(self._conn, path)
        except StudyError:
            if self._mirror is None:
                raise
            open_file.copy_to(self._mirror, path)

    # writing
    def do(self, edit: Edit) -> None:
        """Apply an edit; it can be undone."""
        self._undo.append(self._apply(edit))
        self._drop_redo()
        self._notify()

    def _apply(self, edit: Edit) -> Restore:
        self._may_write()
        back, touched = run(self._conn, edit, self.clock)
        self._forget(touched)
        return back

    def _may_write(self) -> None:
        if self.writing:
            raise StudyError(
                "an import is being written; wait for it or stop it. Nothing was changed"
            )
        if self.read_only:
            who = (
                "it is open for writing in another window"
                if self.elsewhere
                else "it cannot be written in this place"
            )
            raise StudyError(f"the study may only be read here: {who}; nothing was changed")
        said = self.lost()
        if said:
            raise StudyError(f"{said}; nothing was changed")
        if self.path is not None:
            open_file.note_start(self.path)

    def _drop_redo(self) -> None:
        discard(self._conn, self._redo)
        self._redo.clear()

    def undo(self) -> str | None:
        """Take back the last edit; return its words."""
        return self._swap(self._undo, self._redo)

    def redo(self) -> str | None:
        """Do again what was undone; return its words."""
        return self._swap(self._redo, self._undo)

    def _swap(self, source: list[Restore], target: list[Restore]) -> str | None:
        if not source:
            return None
        edit = source[-1]
        target.append(self._apply(edit))
        source.pop()
        self._notify()
        return edit.words

    @property
    def can_undo(self) -> bool:
        """Is there an edit to take back?"""
        return bool(self._undo)

    @property
    def can_redo(self) -> bool:
        """Is there an undone edit?"""
        return bool(self._redo)

    def look(self, lens: Lens) -> None:
        """Change the lens."""
        if lens != self.lens:
            self.lens = lens
            self._notify()

    def _notify(self) -> None:
        for callback in list(self.changed):
            callback()

    # imports
    def stage(
        self,
        rows: Iterable[ImportRow | ImportCard | Refused],
        where: Callable[[int], str] = "line {}".format,
    ) -> Generator[int, None, staging.Staged]:
        """Put rows beside the study and find out what an import would do.

        Yields the number of rows seen.
        """
        return staging.stage(self._conn, rows, where, today=self.today())

    def import_preview_steps(self, staged: staging.Staged) -> Generator[float, None, Material]:
        """Everything that the review looks at, as it would be with staged rows taken.

        Nothing is written.
        """
        now = yield from self.material_steps()
        snapshot, conditions = import_preview(
            self.connection(), staged, now.snapshot, now.conditions
        )
        return replace(now, snapshot=snapshot, conditions=conditions)

    def drop(self, staged: staging.Staged) -> None:
        """Give up what was staged."""
        staging.drop(self._conn, staged)

    def take(self, staged: staging.Staged, source: str) -> Generator[float, None, None]:
        """Take staged rows into the study, in one transaction.

        Closing the generator half-way takes everything back.

        Until it is whole nothing is read from the study: the values shown were read before.
        """
        self._may_write()
        self.writing = True
        try:
            back, touched = yield from run_steps(self._conn, TakeStaged(staged, source), self.clock)
        finally:
            self.writing = False
        self._undo.append(back)
        self._drop_redo()
        self._forget(touched)
        self._notify()


def trouble_of(error: BaseException) -> str:
    """What a failure of a study file means to a command; "" when the file has no part in it."""
    said = file_trouble(error).partition(";")[0]
    return f"{said}; it was left as it is, restore a copy" if said else ""


def refuse_if_bad(name: str, staged: staging.Staged) -> None:
    """Raise one sentence when a file has refused rows or no rows."""
    if staged.refused:
        r = staged.refused[0]
        rest = f" (and {len(staged.refused) - 1} more rows)" if len(staged.refused) > 1 else ""
        raise UserError(
            f'{name}, line {r.line}, {r.column} "{r.text}": {r.reason}{rest}; nothing was imported'
        )
    if not staged.new and not staged.already_there:
        raise UserError(f"{name}: the file has a header but no readings; nothing was imported")
