"""Import: read a table, say what its columns are, see what would be added and what is refused, then take it."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QProgressBar, QPushButton, QVBoxLayout, QWidget

from ....app.mappings import remember, remembered
from ....domain.errors import UserError
from ....domain.metrics import metric_named
from ....exchange import readings_csv
from ....exchange.mapping import guess, is_tidy, missing, read_rows
from ....exchange.tables import TIDY_FORM, open_table, pasted_table
from ....wording.numbers import count
from ...sliced import SlicedJob
from ...widgets import Table, label
from .mapping_editor import MappingEditor


class ImportPage(QWidget):
    """Nothing is written before the button is pressed; then all of it, or none."""

    message = pyqtSignal(str, bool)
    finished = pyqtSignal()
    previewed = pyqtSignal()

    def __init__(self, session):
        super().__init__()
        self.setObjectName("page")
        self.session = session
        self.name, self.path, self.table, self.found, self.share = "", None, None, None, None
        self.left_out = ()
        self.headline = label("", "headline", wrap=True)
        self.under = label("", "faint", wrap=True)
        self.sheet = QComboBox()
        self.sheet.setAccessibleName("Sheet of the workbook")
        self.sheet.activated.connect(lambda _k: self._open(self.path, self.sheet.currentText()))
        self.editor = MappingEditor()
        self.editor.changed.connect(self._preview)
        self.refused_title = label("Rows that cannot be taken", "title")
        self.refused = Table(["Reason", "Line", "Column", "Text"], "Refused rows")
        self.preview = Table(
            ["Client", "Taken at", "Instrument", "Metric", "Value", "Unit"], "Readings to be added", numeric_from=4
        )
        self.take, self.cancel = QPushButton("Import"), QPushButton("Do not import")
        self.take.setObjectName("primary")
        self.take.clicked.connect(self._take)
        self.cancel.clicked.connect(self._stop)
        self.bar = QProgressBar()
        self.bar.setAccessibleName("Progress")
        self.bar.setMaximum(1000)
        self.bar.setTextVisible(False)
        self.bar.setFixedWidth(260)
        self.job = SlicedJob(self)
        self.job.progress.connect(self._progress)
        self.job.done.connect(self._done)
        self.job.failed.connect(self._failed)
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

    # reading
    def look(self, path: Path):
        """Read a file and show what it would do; raise UserError when it cannot be read at all."""
        self._open(path, "")

    def paste(self, text):
        """The same for a table pasted from the clipboard."""
        self._give_up()
        self._begin(pasted_table(text), None)

    def _open(self, path, sheet):
        self._give_up()
        if path.suffix.lower() == ".csv":
            try:
                source = readings_csv.open_readings(path)
            except UserError as error:
                if not _is_foreign(path):
                    raise
                self.under.setText(str(error))
            else:
                self.table, self.path, self.name = None, path, path.name
                self.left_out = source.columns_left_out
                self.editor.hide()
                self.sheet.hide()
                self._stage(source.rows, source.progress)
                return
        self._begin(open_table(path, sheet), path)

    def _begin(self, table, path):
        self.table, self.path, self.left_out = table, path, ()
        self.name = path.name if path else "the clipboard"
        self.sheet.clear()
        self.sheet.addItems(table.sheets)
        self.sheet.setCurrentText(table.sheet)
        self.sheet.setVisible(len(table.sheets) > 1)
        kept = remembered(table.header)
        self.again = kept is not None
        self.editor.show(table, kept or guess(table))
        self._preview()

    def _preview(self):
        mapping = self.editor.mapping
        if missing(mapping):
            self._give_up()
            self.headline.setText(f"{self.name}: say what the columns are.")
            self._show_counts()
            self.previewed.emit()
            return
        self._stage(read_rows(self.table, mapping), None)

    def _stage(self, rows, share):
        self._give_up()
        self.share = share
        self.headline.setText(f"Reading {self.name}…")
        self.take.setEnabled(False)
        self.cancel.setText("Stop reading")
        self.bar.setRange(0, 1000 if share else 0)
        self.bar.show()
        self.job.start(self.session.stage(rows))

    # the job
    def _progress(self, said):
        if isinstance(said, float):
            self.bar.setRange(0, 1000)
            self.bar.setValue(int(1000 * said))
        else:
            self.headline.setText(f"Reading {self.name}: {said:,} rows…")
            if self.share:
                self.bar.setValue(int(1000 * self.share()))

    def _done(self, staged):
        self.bar.hide()
        self.cancel.setText("Do not import")
        if staged is None:
            self._taken()
        else:
            self.found = staged
            self._show_counts()
            self._say()
            self.previewed.emit()

    def _failed(self, text):
        self.bar.hide()
        self.cancel.setText("Do not import")
        if self.found is not None:  # the rows stay staged: nothing was written
            self.take.setEnabled(True)
        self.headline.setText(f"{self.name}: nothing was imported.")
        self.message.emit(text, True)
        self.previewed.emit()

    def _give_up(self):
        self.job.cancel()
        self.bar.hide()
        if self.found is not None:
            self.session.drop(self.found)
            self.found = None

    def _stop(self):
        busy, writing = self.job.busy, self.found is not None
        self._give_up()
        if busy:
            self.message.emit(f"Stopped: nothing was imported from {self.name}.", False)
        if not busy or writing:
            self.finished.emit()
        else:
            self.headline.setText(f"{self.name}: reading was stopped; nothing was imported.")
            self.cancel.setText("Do not import")

    # showing
    def _show_counts(self):
        found = self.found
        refused = found.refused if found else ()
        self.refused.fill([(r.reason, str(r.line), r.column, r.text) for r in refused[:500]])
        self.refused.setVisible(bool(refused))
        self.refused_title.setVisible(bool(refused))
        sample = found.sample if found else ()
        rows = [(r.client, r.taken_at, r.instrument, metric_named(r.metric).label, r.entered or "failed", r.unit) for r in sample]
        self.preview.fill(rows)
        self.take.setEnabled(bool(found and found.new) and not self.session.read_only)
        form = f" Read as {self.table.form}." if self.table else ""
        again = " These columns were mapped before; the same mapping is used." if self.table and self.again else ""
        left = f" Left out, not part of the format: {', '.join(self.left_out)}." if self.left_out else ""
        counts = f"{found.new:,} new, {found.already_there:,} in the study already, {len(refused):,} refused." if found else ""
        self.under.setText(counts + form + again + left)

    def _say(self):
        new, same, refused = self.found.new, self.found.already_there, len(self.found.refused)
        if not new and not refused:
            self.headline.setText(f"{self.name}: all {same} readings are in the study already; nothing to import.")
        elif refused:
            self.headline.setText(f"{self.name}: {count(refused, 'row')} cannot be taken. Nothing is imported until you decide.")
        else:
            self.headline.setText(f"{self.name}: {count(new, 'reading')} to be added.")
        good = f"Import {count(new, 'reading')}, leave out the {count(refused, 'row')} listed"
        self.take.setText(good if refused else f"Import {count(new, 'reading')}")

    # taking
    def _take(self):
        self.take.setEnabled(False)
        self.cancel.setText("Stop and take everything back")
        self.headline.setText(f"Importing {self.name}…")
        self.bar.show()
        if self.table is not None:
            remember(self.table.header, self.editor.mapping)
        self.job.start(self.session.take(self.found, self.name))

    def _taken(self):
        new, self.found = self.found.new, None
        self.message.emit(f"{count(new, 'reading')} imported from {self.name}. Undo takes them out again.", False)
        self.finished.emit()


def _is_foreign(path):
    """Whether a CSV is a table of another form, to be mapped, rather than a tidy file with a fault in its header."""
    try:
        table = open_table(path)
    except UserError:
        return False
    return not is_tidy(table.header) or table.form != TIDY_FORM
