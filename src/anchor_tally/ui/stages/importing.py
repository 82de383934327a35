"""Import: a preview in the window; all or nothing."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ...domain.errors import UserError
from ...domain.steps import finish
from ...exchange import readings_csv
from ...wording.numbers import count
from ..widgets import Table, label


class ImportPage(QWidget):
    """What a file would add, what is there already, and every refused row."""

    message = pyqtSignal(str, bool)
    finished = pyqtSignal()

    def __init__(self, session):
        super().__init__()
        self.setObjectName("page")
        self.session = session
        self.name, self.found = "", None
        self.headline = label("", "headline", wrap=True)
        self.under = label("", "faint", wrap=True)
        self.refused = Table(["Reason", "Line", "Column", "Text"], "Refused rows")
        self.preview = Table(
            ["Client", "Taken at", "Instrument", "Metric", "Value", "Unit"], "Readings to be added", numeric_from=4
        )
        self.take = QPushButton("Import")
        self.take.setObjectName("primary")
        self.take.clicked.connect(self._take)
        self.cancel = QPushButton("Do not import")
        self.cancel.clicked.connect(self.finished)
        row = QHBoxLayout()
        row.addWidget(self.take)
        row.addWidget(self.cancel)
        row.addStretch(1)
        self.refused_title = label("Refused rows", "title")
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 12, 16, 10)
        box.addWidget(self.headline)
        box.addWidget(self.under)
        box.addWidget(self.refused_title)
        box.addWidget(self.refused, 1)
        box.addWidget(label("First readings to be added", "title"))
        box.addWidget(self.preview, 1)
        box.addLayout(row)

    def look(self, path: Path):
        """Read a file and show what it would do; raise UserError when it cannot be read at all."""
        source = readings_csv.open_readings(path)
        self.name, self.found = path.name, finish(self.session.stage(source.rows))
        refused = self.found.refused
        new, same = self.found.new, self.found.already_there
        if not new and not refused:
            self.headline.setText(f"{path.name}: all {same} readings are in the study already; nothing to import.")
        elif refused:
            self.headline.setText(
                f"{path.name}: {count(len(refused), 'row')} cannot be taken. Nothing is imported until you decide."
            )
        else:
            self.headline.setText(f"{path.name}: {count(new, 'reading')} to be added.")
        left = f" Left out, not part of the format: {', '.join(source.columns_left_out)}." if source.columns_left_out else ""
        self.under.setText(f"{new} new, {same} in the study already, {len(refused)} refused.{left}")
        self.refused.fill([(r.reason, str(r.line), r.column, r.text) for r in refused[:500]])
        self.refused.setVisible(bool(refused))
        self.refused_title.setVisible(bool(refused))
        self.preview.fill(
            [(r.client, r.taken_at, r.instrument, r.metric, r.entered or "failed", r.unit) for r in self.found.sample]
        )
        self.take.setText(
            f"Import {count(new, 'good row')}, leave out the {len(refused)} listed"
            if refused
            else f"Import {count(new, 'reading')}"
        )
        self.take.setEnabled(bool(new) and not self.session.read_only)

    def _take(self):
        try:
            finish(self.session.take(self.found, self.name))
        except UserError as error:
            self.message.emit(str(error), True)
            return
        self.message.emit(f"{count(self.found.new, 'reading')} imported from {self.name}. Undo takes them out again.", False)
        self.finished.emit()
