"""Import: read a table, say what its columns are, see what would be added and what is refused, then take it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QProgressBar, QPushButton, QVBoxLayout

from ....app.importing import ForeignTable, TidyFile, look_at, paste, rows_of
from ....app.jobs import Job
from ....app.mappings import remember
from ....domain.metrics import metric_named
from ....domain.records import ImportRow, Refused
from ....exchange.tables import Table as Source
from ....study.staging import Staged
from ....wording import importing as words
from ....wording.numbers import count
from ...pages import Page, Surroundings
from ...widgets import Table, label
from .mapping_editor import MappingEditor

OWNER = "import"


class ImportPage(Page):
    """Nothing is written before the button is pressed; then all of it, or none."""

    previewed = pyqtSignal()

    def __init__(self, around: Surroundings) -> None:
        super().__init__(around)
        self.name, self.again = "", False
        self.path: Path | None = None
        self.table: Source | None = None
        self.found: Staged | None = None
        self.share: Callable[[], float] | None = None
        self.left_out: tuple[str, ...] = ()
        self.headline = label("", "headline", wrap=True)
        self.under = label("", "faint", wrap=True)
        self.sheet = QComboBox()
        self.sheet.setAccessibleName("Sheet of the workbook")
        self.sheet.activated.connect(lambda _k: self._sheet_chosen())
        self.editor = MappingEditor()
        self.editor.changed.connect(self._preview)
        self.refused_title = label("Rows that cannot be taken", "title")
        self.refused = Table(["Reason", "Line", "Column", "Text"], "Refused rows")
        heads = ["Client", "Taken at", "Instrument", "Metric", "Value", "Unit"]
        self.preview = Table(heads, "Readings to be added", numeric_from=4)
        self.take, self.cancel = QPushButton("Import"), QPushButton("Do not import")
        self.take.setObjectName("primary")
        self.take.clicked.connect(self._take)
        self.cancel.clicked.connect(self._stop)
        self.bar = QProgressBar()
        self.bar.setAccessibleName("Progress")
        self.bar.setMaximum(1000)
        self.bar.setTextVisible(False)
        self.bar.setFixedWidth(260)
        row = QHBoxLayout()
        for w in (self.take, self.cancel, self.bar):
            row.addWidget(w)
        row.addStretch(1)
        top = QHBoxLayout()
        top.addWidget(self.headline, 1)
        top.addWidget(self.sheet)
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 12, 16, 10)
        box.addLayout(top)
        box.addWidget(self.under)
        box.addWidget(self.editor, 4)
        box.addWidget(self.refused_title)
        box.addWidget(self.refused, 2)
        box.addWidget(label("First readings to be added", "title"))
        box.addWidget(self.preview, 3)
        box.addLayout(row)

    def refresh(self) -> None:
        """The table stays as it was read; the study behind it may have got another writer."""
        self.take.setEnabled(bool(self.found and self.found.new) and not self.session.read_only and not self.jobs.busy(OWNER))

    # reading
    def _sheet_chosen(self) -> None:
        if self.path is not None:
            self._open(self.path, self.sheet.currentText())

    def look(self, path: Path) -> None:
        """Read a file and show what it would do; raise UserError when it cannot be read at all."""
        self._open(path, "")

    def paste(self, text: str) -> None:
        """The same for a table pasted from the clipboard."""
        table = paste(text)
        self._give_up()
        self._begin(table, None)

    def _open(self, path: Path, sheet: str) -> None:
        found = look_at(path, sheet)
        self._give_up()
        if isinstance(found, TidyFile):
            self.table, self.path, self.name, self.left_out = None, path, path.name, found.left_out
            self.editor.hide()
            self.sheet.hide()
            self._stage(found.rows, found.progress)
        else:
            self.under.setText(found.why)
            self._begin(found, path)

    def _begin(self, foreign: ForeignTable, path: Path | None) -> None:
        table = foreign.table
        self.table, self.path, self.left_out, self.again = table, path, (), foreign.again
        self.name = path.name if path else "the clipboard"
        self.sheet.clear()
        self.sheet.addItems(table.sheets)
        self.sheet.setCurrentText(table.sheet)
        self.sheet.setVisible(len(table.sheets) > 1)
        self.editor.open(table, foreign.mapping)
        self._preview()

    def _preview(self) -> None:
        rows = rows_of(self.table, self.editor.mapping) if self.table is not None else None
        if rows is None:
            self._give_up()
            self.headline.setText(f"{self.name}: say what the columns are.")
            self._show_counts()
            self.previewed.emit()
            return
        self._stage(rows, None)

    def _stage(self, rows: Iterator[ImportRow | Refused], share: Callable[[], float] | None) -> None:
        self._give_up()
        self.share = share
        self.headline.setText(f"Reading {self.name}…")
        self.take.setEnabled(False)
        self.cancel.setText("Stop reading")
        self.bar.setRange(0, 1000 if share else 0)
        self.bar.show()
        job = Job(f"Reading {self.name}", lambda: self.session.stage(rows))
        self.jobs.start(OWNER, job, self._staged, self._failed, self._progress)

    # the job
    def _progress(self, said: Any) -> None:
        if isinstance(said, float):
            self.bar.setRange(0, 1000)
            self.bar.setValue(int(1000 * said))
        else:
            self.headline.setText(f"Reading {self.name}: {said:,} rows…")
            if self.share:
                self.bar.setValue(int(1000 * self.share()))

    def _rest(self) -> None:
        self.bar.hide()
        self.cancel.setText("Do not import")

    def _staged(self, staged: Staged) -> None:
        self._rest()
        self.found = staged
        self._show_counts()
        self.headline.setText(words.verdict(self.name, staged.new, staged.already_there, len(staged.refused)))
        self.take.setText(words.button(staged.new, len(staged.refused)))
        self.previewed.emit()

    def _failed(self, text: str) -> None:
        self._rest()
        if self.found is not None:  # the rows stay staged: nothing was written
            self.take.setEnabled(True)
        self.headline.setText(f"{self.name}: nothing was imported.")
        self.message.emit(text, True)
        self.previewed.emit()

    def _give_up(self) -> None:
        self.jobs.cancel(OWNER)
        self.bar.hide()
        if self.found is not None:
            self.session.drop(self.found)
            self.found = None

    def _stop(self) -> None:
        busy, writing = self.jobs.busy(OWNER), self.found is not None
        self._give_up()
        if busy:
            self.message.emit(f"Stopped: nothing was imported from {self.name}.", False)
        if not busy or writing:
            self._leave_page()
        else:
            self.headline.setText(f"{self.name}: reading was stopped; nothing was imported.")
            self.cancel.setText("Do not import")

    def _leave_page(self) -> None:
        self.wanted.emit("compare" if self.session.metrics() else "record")

    # showing
    def _show_counts(self) -> None:
        found = self.found
        refused = found.refused if found else ()
        self.refused.fill([(r.reason, str(r.line), r.column, r.text) for r in refused[:500]])
        self.refused.setVisible(bool(refused))
        self.refused_title.setVisible(bool(refused))
        rows = []
        for r in found.sample if found else ():
            m = metric_named(r.metric)
            rows.append((r.client, r.taken_at, r.instrument, m.label if m else r.metric, r.entered or "failed", r.unit))
        self.preview.fill(rows)
        self.refresh()
        form = f" Read as {self.table.form}." if self.table else ""
        again = " These columns were mapped before; the same mapping is used." if self.table and self.again else ""
        left = f" Left out, not part of the format: {', '.join(self.left_out)}." if self.left_out else ""
        numbers = words.counts(found.new, found.already_there, len(refused)) if found else ""
        self.under.setText(numbers + form + again + left)

    # taking
    def _take(self) -> None:
        staged = self.found
        if staged is None:
            return
        self.take.setEnabled(False)
        self.cancel.setText("Stop and take everything back")
        self.headline.setText(f"Importing {self.name}…")
        self.bar.show()
        if self.table is not None:
            remember(self.table.header, self.editor.mapping)
        job = Job(f"Importing {self.name}", lambda: self.session.take(staged, self.name))
        self.jobs.start(OWNER, job, lambda _none: self._taken(), self._failed, self._progress)

    def _taken(self) -> None:
        self._rest()
        new = self.found.new if self.found else 0
        self.found = None
        self.message.emit(f"{count(new, 'reading')} imported from {self.name}. Undo takes them out again.", False)
        self._leave_page()

    def leave(self) -> None:
        self._give_up()
