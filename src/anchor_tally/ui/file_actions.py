"""What the window does with files: importing, exporting, opening, making and dropping."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import QApplication, QFileDialog, QMainWindow, QMessageBox, QWidget

from ..app.jobs import Job
from ..domain.errors import UserError
from .file_names import target_of

if TYPE_CHECKING:
    from ..app.exporting import Written
    from ..app.session import Session
    from ..domain.clock import Clock
    from .frame import Frame
    from .jobs import Jobs
    from .pages import Page
    from .training_bar import TrainingBar

FULL_COPY = "Full copy with names and remarks (*.zip)"
WITH_ESTIMATES = "Tidy CSV with the level of each client from all sources (*.csv)"
_EXPORTS = {
    "Tidy CSV (*.csv)": ".csv",
    WITH_ESTIMATES: ".csv",
    "Workbook (*.xlsx)": ".xlsx",
    "Data package, codes only (*.zip)": ".zip",
    "Study report, codes only (*.pdf)": ".pdf",
    "Study report, codes only (*.html)": ".html",
    FULL_COPY: ".zip",
}  # each kind of export with its suffix
_REPORTS = (".pdf", ".html")


class FileActions(QMainWindow):
    """The half of the window that asks for files; the other half shows what is in them."""

    exported = pyqtSignal()  # a file was written whole
    session: Session | None
    jobs: Jobs | None
    clock: Clock
    frame: Frame
    training: TrainingBar | None

    def dress(self, widget: QWidget) -> None:
        """Give a part of the window the style of the theme."""
        raise NotImplementedError

    def attach(self, session: Session) -> None:
        """Show a study in the place of the one before."""
        raise NotImplementedError

    def page(self, key: str) -> Page:
        """A page, built when it is first asked for."""
        raise NotImplementedError

    @property
    def front(self) -> QWidget:
        """What replaces the page."""
        raise NotImplementedError

    def go(self, key: str) -> None:
        """Show a page."""
        raise NotImplementedError

    def say(self, text: str, trouble: bool = False) -> None:
        """Show a message in place."""
        raise NotImplementedError

    def trouble(self, text: str) -> None:
        """Say that no study is open, why, and what can be done."""
        raise NotImplementedError

    def import_file(self, path: str) -> None:
        """Preview a table."""
        from .stages.importing.page import ImportPage

        if self.session is not None and not self.session.read_only:
            page = self.page("import")
            assert isinstance(page, ImportPage)
            self._preview(lambda: page.look(Path(path)))

    def _preview(self, look: Callable[[], None]) -> None:
        try:
            look()
        except UserError as error:
            self.say(str(error), True)
            return
        self.go("import")

    def ask_import(self) -> None:
        """Choose a table to import."""
        from ..exchange.tables import TEXTS, WORKBOOKS

        kinds = f"Tables ({' '.join(f'*{x}' for x in TEXTS + WORKBOOKS)});;All files (*)"
        path, _ = QFileDialog.getOpenFileName(self.front, "Import readings", "", kinds)
        if path:
            self.import_file(path)

    def paste_table(self) -> None:
        """Preview a table from the clipboard."""
        from .stages.importing.page import ImportPage

        page, clipboard = self.page("import"), QApplication.clipboard()
        assert isinstance(page, ImportPage)
        text = clipboard.text() if clipboard is not None else ""
        self._preview(lambda: page.paste(text))

    def ask_export(self) -> None:
        """Choose where and in which form to write the study."""
        path, kind = QFileDialog.getSaveFileName(
            self.front, "Export", "readings.csv", ";;".join(_EXPORTS)
        )
        if not path:
            return
        suffix = _EXPORTS[kind]
        target, refused = target_of(path, suffix, _EXPORTS.values())
        if refused:
            self.say(refused, True)
            return
        if suffix in _REPORTS:
            self.write_report(target)
        else:
            self.export(target, full=kind == FULL_COPY, estimates=kind == WITH_ESTIMATES)

    def export(self, path: Path, *, full: bool, estimates: bool = False) -> None:
        """Write the study; a whole copy only after a plain warning."""
        from ..app.exporting import collect_steps, not_in_table, write_steps
        from ..wording.importing import lost_words, withheld_words

        session, jobs = self.session, self.jobs
        if session is None or jobs is None or (full and not self._knows_what_full_means()):
            return
        how = (
            "with names, birth dates, cautions and remarks"
            if full
            else "codes only, without names and remarks"
        )
        job = Job(
            f"Writing {path.name}",
            lambda: collect_steps(session, path, full=full, estimates=estimates),
            write_steps,
        )

        lost = lost_words(not_in_table(session)) if path.suffix.lower() != ".zip" else ""

        def written(done: Written) -> None:
            rest = " ".join(x for x in (withheld_words(done.withheld), lost) if x)
            self.say(f"{done.readings:,} readings written to {path} ({how}). {rest}".strip())
            self.exported.emit()

        self.say("")
        jobs.start("export", job, written, lambda text: self.say(text, True))

    def write_report(self, path: Path) -> None:
        """Write the study report under the filters that are in force."""
        from ..app.reporting import report_material_steps, write_report_steps

        session, jobs = self.session, self.jobs
        if session is None or jobs is None:
            return
        lens = session.lens

        def written(target: Path) -> None:
            self.say(f"Study report written to {target} (codes only, with the present filters).")
            self.exported.emit()

        job = Job(
            f"Writing {path.name}",
            lambda: report_material_steps(session, lens, "A4"),
            lambda material: write_report_steps(material, path),
        )
        self.say("")
        jobs.start("export", job, written, lambda text: self.say(text, True))

    def _knows_what_full_means(self) -> bool:
        text = (
            "A full copy includes names, birth dates, cautions, remarks, reasons and assessors."
            " Share it only with people who may see them."
        )
        buttons = QMessageBox.StandardButton.Save | QMessageBox.StandardButton.Cancel
        return (
            QMessageBox.warning(self.front, "Full copy", text, buttons)
            == QMessageBox.StandardButton.Save
        )

    def ask_open(self) -> None:
        """Choose a study, or a package to make one from."""
        path, _ = QFileDialog.getOpenFileName(
            self.front, "Open a study", "", "Study (*.tally);;Data package (*.zip)"
        )
        if path.lower().endswith(".zip"):
            self._open_package(Path(path))
        elif path:
            self.open_study(Path(path))

    def open_study(self, path: Path) -> None:
        """Open a study in this window."""
        from ..app.session import Session

        self._switch(lambda: Session.open(path, clock=self.clock), path)

    def _open_package(self, package: Path) -> None:
        from ..app.exporting import from_package

        suggested = str(package.with_suffix(".tally"))
        path, _ = QFileDialog.getSaveFileName(
            self.front, "Create a study from the package", suggested, "Study (*.tally)"
        )
        if path:
            self._switch(
                lambda: from_package(package, Path(path).with_suffix(".tally"), clock=self.clock)
            )

    def ask_copy(self) -> None:
        """Save a copy of what is open."""
        if self.session is None:
            return
        path, _ = QFileDialog.getSaveFileName(
            self.front, "Save a copy", "copy.tally", "Study (*.tally)"
        )
        if not path:
            return
        target = Path(path).with_suffix(".tally")
        try:
            self.session.save_copy(target)
        except UserError as error:
            self.say(str(error), True)
        else:
            self.say(f"Copy saved to {target}.")

    def ask_new(self) -> None:
        """Choose a place for a new study."""
        from ..app.session import Session

        path, _ = QFileDialog.getSaveFileName(
            self.front, "New study", "study.tally", "Study (*.tally)"
        )
        if path:
            target = Path(path).with_suffix(".tally")
            self._switch(lambda: Session.new(target, target.stem, clock=self.clock))

    def open_demo(self) -> None:
        """Open a fresh demo study."""
        from ..app.demo import demo_session

        self._switch(lambda: demo_session(clock=self.clock))

    def open_case(self, key: str) -> None:
        """Open a training case in the place of the study."""
        from ..app.training import training_session

        self._switch(lambda: training_session(key, clock=self.clock))

    def open_drawn(self, truth: object, seed: int) -> None:
        """Open a study drawn with a truth in the place of the study."""
        from ..app.training import drawn_session
        from ..scenario.drawn import Truth

        assert isinstance(truth, Truth)
        self._switch(lambda: drawn_session(truth, seed, clock=self.clock))

    def put_case(self, case: str) -> None:
        """Show the strip of a training case; none with any other study."""
        from .training_bar import TrainingBar

        self.training = TrainingBar(case) if case else None
        if self.training is not None:
            self.dress(self.training)
        self.frame.put_case(self.training)

    def _switch(self, opener: Callable[[], Session], path: Path | None = None) -> None:
        session = self.session
        if (
            path is not None
            and session is not None
            and session.path is not None
            and path.resolve() == session.path.resolve()
        ):
            self.say(f"{path.name} is open here already.")
            return
        try:
            opened = opener()
        except UserError as error:
            if self.session is None:
                self.trouble(str(error))
            self.say(str(error), True)
            return
        self.attach(opened)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        from ..exchange.tables import TEXTS, WORKBOOKS

        data = event.mimeData() if event is not None else None
        if (
            event is not None
            and data is not None
            and any(u.toLocalFile().lower().endswith(TEXTS + WORKBOOKS) for u in data.urls())
        ):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        data = event.mimeData() if event is not None else None
        for url in data.urls()[:1] if data is not None else ():
            self.import_file(url.toLocalFile())
