"""The frame: stage rail, lens bar, work area, evidence drawer, footer."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QSettings, Qt, pyqtSignal
from PyQt6.QtGui import QKeySequence, QShortcut
from PyQt6.QtWidgets import (
    QApplication,
    QButtonGroup,
    QFileDialog,
    QHBoxLayout,
    QMainWindow,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from ..app.stages import STAGES
from ..domain.errors import UserError
from ..figures.style import DARK, LIGHT
from .theme import icon, style_sheet
from .widgets import label

TABLES = (".csv", ".tsv", ".txt", ".xlsx")


class MainWindow(QMainWindow):
    """One study, one window.

    The frame is built from QtWidgets alone and painted first; ``attach`` brings in the study and the screens, and with
    them NumPy, SciPy and matplotlib.
    """

    attached = pyqtSignal()

    def __init__(self, session=None, *, dark=False, settings=None):
        super().__init__()
        self.session, self.dark = None, dark
        self.compare = self.record = None
        self.settings = settings or QSettings("anchor-tally", "anchor-tally")
        self.setWindowIcon(icon())
        self.setWindowTitle("Anchor Tally")
        self.resize(1280, 800)
        self.setMinimumSize(1000, 640)
        self._frame()
        self.set_dark(dark)
        if session is not None:
            self.attach(session)

    def attach(self, session):
        """Show a study."""
        self.session = session
        self._pages()
        self._keys()
        self.setAcceptDrops(True)
        for button in self.tools:
            button.setEnabled(True)
        session.changed.append(self.refresh)
        self.go("compare" if session.metrics() else "record")
        self.refresh()
        self.attached.emit()

    @property
    def colours(self):
        return DARK if self.dark else LIGHT

    def _pages(self):
        from .drawer import Drawer
        from .lens_bar import LensBar
        from .stages.calibrate import CalibrateStage
        from .stages.compare import CompareStage
        from .stages.importing.page import ImportPage
        from .stages.plan.page import PlanStage
        from .stages.record.page import RecordStage

        for stage in STAGES:
            self.rail[stage.id].setEnabled(stage.built)
        self.lens = LensBar(self.session)
        self.right.replaceWidget(self.lens_place, self.lens)
        self.lens_place.hide()
        self.lens_place.deleteLater()
        self.record = RecordStage(self.session, self.colours)
        self.compare = CompareStage(self.session, self.colours)
        self.calibrate = CalibrateStage(self.session)
        self.importing = ImportPage(self.session)
        self.plan = PlanStage(self.session, self.colours)
        self.pages = {
            "plan": self.plan,
            "record": self.record,
            "compare": self.compare,
            "calibrate": self.calibrate,
            "import": self.importing,
        }
        for page in self.pages.values():
            self.stack.addWidget(page)
        self.stack.removeWidget(self.waiting)
        self.waiting.hide()
        self.waiting.deleteLater()
        self.drawer = Drawer(self.session)
        self.drawer.message.connect(self.say)
        self.drawer.toggled.connect(self.compare.drawer_open)
        self.middle.addWidget(self.drawer)
        self.compare.evidence.connect(self._evidence)
        self.record.evidence.connect(self.drawer.show_readings)
        self.record.import_wanted.connect(self.import_file)
        for page in (self.plan, self.record, self.calibrate, self.importing):
            page.message.connect(self.say)
        self.importing.finished.connect(self._imported)

    def _imported(self):
        self.go("compare" if self.session.metrics() else "record")

    def _frame(self):
        rail = QWidget()
        rail.setObjectName("rail")
        rail.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        rail.setFixedWidth(148)
        column = QVBoxLayout(rail)
        column.setContentsMargins(0, 12, 0, 12)
        column.setSpacing(2)
        name = label("  Anchor Tally", "title")
        column.addWidget(name)
        column.addSpacing(10)
        self.rail = {}
        group = QButtonGroup(self)
        for k, stage in enumerate(STAGES, start=1):
            button = QPushButton(f"{k}  {stage.label}")
            button.setCheckable(True)
            button.setEnabled(False)
            button.setToolTip(f"{stage.purpose} (Ctrl+{k})" if stage.built else f"{stage.purpose}: not in this version")
            button.setAccessibleName(stage.label)
            button.clicked.connect(lambda _=False, s=stage.id: self._chosen(s))
            group.addButton(button)
            column.addWidget(button)
            self.rail[stage.id] = button
        column.addStretch(1)
        self.tools = []
        for text, slot in (
            ("Import…", self.ask_import),
            ("Paste table", self.paste_table),
            ("Export…", self.ask_export),
            ("Open…", self.ask_open),
            ("New study…", self.ask_new),
            ("Light / dark", self.toggle_dark),
        ):
            button = QPushButton(text)
            button.clicked.connect(lambda _=False, f=slot: f())
            button.setEnabled(False)
            self.tools.append(button)
            column.addWidget(button)
        self.lens_place = label("  ")
        self.lens_place.setObjectName("lens")
        self.lens_place.setFixedHeight(44)
        self.waiting = label("Opening the study…", "headline")
        self.waiting.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.waiting)
        footer = QWidget()
        footer.setObjectName("footer")
        footer.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        row = QHBoxLayout(footer)
        row.setContentsMargins(16, 5, 16, 5)
        self.place = label("", "faint")
        self.said = label("", wrap=False)
        self.said.setAccessibleName("Message")
        self.undo_button, self.redo_button = QPushButton("Undo"), QPushButton("Redo")
        self.undo_button.clicked.connect(self.undo)
        self.redo_button.clicked.connect(self.redo)
        row.addWidget(self.place)
        row.addSpacing(12)
        row.addWidget(self.said, 1)
        row.addWidget(self.undo_button)
        row.addWidget(self.redo_button)
        self.middle = middle = QHBoxLayout()
        middle.setSpacing(0)
        middle.addWidget(self.stack, 1)
        self.right = right = QVBoxLayout()
        right.setSpacing(0)
        right.addWidget(self.lens_place)
        right.addLayout(middle, 1)
        right.addWidget(footer)
        whole = QHBoxLayout()
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addWidget(rail)
        whole.addLayout(right, 1)
        centre = QWidget()
        centre.setObjectName("work")
        centre.setLayout(whole)
        self.setCentralWidget(centre)

    def _keys(self):
        for k, stage in enumerate(STAGES, start=1):
            if stage.built:
                QShortcut(QKeySequence(f"Ctrl+{k}"), self, lambda s=stage.id: self._chosen(s))
        for keys, slot in (
            ("Ctrl+Z", self.undo),
            ("Ctrl+Shift+Z", self.redo),
            ("Ctrl+I", self.ask_import),
            ("Ctrl+Shift+V", self.paste_table),
            ("Ctrl+E", self.ask_export),
            ("Ctrl+O", self.ask_open),
            ("Ctrl+N", self.ask_new),
            ("F6", self.drawer.hide),
        ):
            QShortcut(QKeySequence(keys), self, slot)

    # showing
    def _chosen(self, stage):
        """Go where the user wants to; what was said about the work before is over."""
        self.say("")
        self.go(stage)

    def go(self, stage):
        """Show a stage."""
        self.stack.setCurrentWidget(self.pages[stage])
        if stage in self.rail:
            self.rail[stage].setChecked(True)
        if stage != "import":
            self.pages[stage].refresh()

    def refresh(self):
        """Show the study as it is now, after an edit or a change of lens."""
        self.setWindowTitle(f"{self.session.title} – Anchor Tally")
        self.lens.refresh()
        kept = "read only, nothing is changed" if self.session.read_only else "all changes kept"
        self.place.setText(f"{self.session.path.name} · {kept}" if self.session.path else "only in memory: not kept in a file")
        self.place.setToolTip(str(self.session.path))
        self.undo_button.setEnabled(self.session.can_undo)
        self.redo_button.setEnabled(self.session.can_redo)
        page = self.stack.currentWidget()
        if page is not self.importing:
            page.refresh()
        if self.drawer.isVisible():
            self.drawer.refresh()

    def _evidence(self, evidence, name):
        self.drawer.show_evidence(evidence, name)

    def say(self, text, trouble=False):
        """Show a message in place."""
        self.said.setObjectName("warn" if trouble else "")
        self.said.setText(text)
        self.said.setToolTip(text)
        self.said.style().unpolish(self.said)
        self.said.style().polish(self.said)

    def set_dark(self, dark):
        """Choose the theme."""
        self.dark = dark
        self.setStyleSheet(style_sheet(self.colours))
        if self.session is None:
            return
        self.compare.set_palette(self.colours)
        self.record.set_palette(self.colours)
        self.plan.set_palette(self.colours)

    def toggle_dark(self):
        """Switch between light and dark."""
        self.set_dark(not self.dark)
        self.settings.setValue("dark", self.dark)

    # doing
    def undo(self):
        """Take back the last edit."""
        self._step(self.session.undo, "Undone")

    def redo(self):
        """Do it again."""
        self._step(self.session.redo, "Done again")

    def _step(self, step, word):
        try:
            words = step()
        except UserError as error:
            self.say(str(error), True)
            return
        if words:
            self.say(f"{word}: {words}.")

    def import_file(self, path):
        """Preview a CSV."""
        try:
            self.importing.look(Path(path))
        except UserError as error:
            self.say(str(error), True)
            return
        self.go("import")

    def ask_import(self):
        kinds = "Tables (*.csv *.tsv *.txt *.xlsx);;All files (*)"
        path, _ = QFileDialog.getOpenFileName(self, "Import readings", "", kinds)
        if path:
            self.import_file(path)

    def paste_table(self):
        """Preview a table from the clipboard."""
        try:
            self.importing.paste(QApplication.clipboard().text())
        except UserError as error:
            self.say(str(error), True)
            return
        self.go("import")

    def ask_export(self):
        kinds = "Tidy CSV (*.csv);;Workbook (*.xlsx);;Data package of the whole study (*.zip)"
        path, _ = QFileDialog.getSaveFileName(self, "Export", "readings.csv", kinds)
        if path:
            try:
                count = self.session.export(Path(path))
            except UserError as error:
                self.say(str(error), True)
                return
            self.say(f"{count} readings written to {path} (codes only, no names).")

    def ask_open(self):
        path, _ = QFileDialog.getOpenFileName(self, "Open a study", "", "Study (*.tally);;Data package (*.zip)")
        if path.lower().endswith(".zip"):
            self._open_package(Path(path))
        elif path:
            from ..app.session import Session

            self._switch(lambda: Session.open(Path(path)))

    def _open_package(self, package):
        suggested = str(package.with_suffix(".tally"))
        path, _ = QFileDialog.getSaveFileName(self, "Make a study from the package", suggested, "Study (*.tally)")
        if path:
            from ..app.session import Session

            self._switch(lambda: Session.from_package(package, Path(path).with_suffix(".tally")))

    def ask_new(self):
        path, _ = QFileDialog.getSaveFileName(self, "New study", "study.tally", "Study (*.tally)")
        if path:
            from ..app.session import Session

            target = Path(path).with_suffix(".tally")
            self._switch(lambda: Session.new(target, target.stem))

    def _switch(self, opener):
        try:
            session = opener()
        except UserError as error:
            self.say(str(error), True)
            return
        window = MainWindow(session, dark=self.dark, settings=self.settings)
        self.successor = window
        window.show()
        self.close()

    def dragEnterEvent(self, event):
        if any(u.toLocalFile().lower().endswith(TABLES) for u in event.mimeData().urls()):
            event.acceptProposedAction()

    def dropEvent(self, event):
        for url in event.mimeData().urls()[:1]:
            self.import_file(url.toLocalFile())

    def closeEvent(self, event):
        if self.session is not None:
            self.compare.runner.stop()
            self.calibrate.runner.stop()
            self.record.live.stop()
            self.importing.job.cancel()
            self.session.changed.clear()
        super().closeEvent(event)
