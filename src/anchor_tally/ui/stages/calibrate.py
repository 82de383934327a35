"""Calibrate: the offset board and adopting."""

from __future__ import annotations

from datetime import datetime

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QAbstractItemView, QHBoxLayout, QHeaderView, QPushButton, QVBoxLayout, QWidget

from ...analysis.calibrate import CalibrateRequest, record_of
from ...domain.errors import UserError
from ...study.commands import AdoptCalibration
from ...wording import sentences
from ...wording.board import board
from ...wording.names import short_name
from ..runner import Runner
from ..widgets import Table, label


class CalibrateStage(QWidget):
    """What is to be subtracted, for whom, and does it help?"""

    message = pyqtSignal(str, bool)
    shown = pyqtSignal()

    def __init__(self, session):
        super().__init__()
        self.setObjectName("page")
        self.session = session
        self.results, self.chosen, self.asked = (), 0, None
        self.runner = Runner(self)
        self.runner.done.connect(self._show)
        self.runner.failed.connect(self._failed)
        self.headline = label("", "headline", wrap=True)
        self.under = label("", "faint", wrap=True)
        self.table = Table([""], "Offset board")
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectColumns)
        self.table.currentCellChanged.connect(lambda _r, column, *_: self.choose(column - 1))
        self.advice = label("", "title", wrap=True)
        self.detail = label("", wrap=True)
        self.in_force = label("", "faint", wrap=True)
        self.adopt = QPushButton("Adopt this offset")
        self.adopt.setObjectName("primary")
        self.adopt.clicked.connect(self._adopt)
        card = QWidget()
        card.setObjectName("card")
        side = QVBoxLayout(card)
        side.addWidget(self.advice)
        side.addWidget(self.detail)
        side.addWidget(self.in_force)
        row = QHBoxLayout()
        row.addWidget(self.adopt)
        row.addStretch(1)
        side.addLayout(row)
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 12, 16, 10)
        box.addWidget(self.headline)
        box.addWidget(self.under)
        box.addWidget(self.table, 1)
        box.addWidget(card)

    def refresh(self):
        """Ask again when the study or the lens has changed."""
        key = (self.session.revision, self.session.lens)
        if key != self.asked:
            self.asked = key
            self.runner.submit(CalibrateRequest(self.session.snapshot(), self.session.lens).run())

    def _failed(self, text):
        self.results = ()
        self.headline.setText(text[0].upper() + text[1:] + ".")
        self.under.setText("An offset needs readings taken within a day of a reference scan.")
        self.table.setRowCount(0)
        self.advice.setText("")
        self.detail.setText("")
        self.in_force.setText("")
        self.adopt.setEnabled(False)
        self.shown.emit()

    def _show(self, results):
        if not results:
            self._failed("no device or method has readings of this metric")
            return
        self.results = results
        self.chosen = min(self.chosen, len(results) - 1)
        b = board(results)
        self.table.blockSignals(True)
        self.table.setColumnCount(len(b.columns) + 1)
        self.table.setHorizontalHeaderLabels(["Subtract for", *b.columns])
        self.table.fill([(head, *cells) for head, cells in zip(b.rows, b.cells, strict=True)])
        header = self.table.horizontalHeader()
        for k in range(len(b.columns) + 1):
            header.setSectionResizeMode(k, QHeaderView.ResizeMode.ResizeToContents if k else QHeaderView.ResizeMode.Stretch)
            side = Qt.AlignmentFlag.AlignRight if k else Qt.AlignmentFlag.AlignLeft
            self.table.horizontalHeaderItem(k).setTextAlignment(side | Qt.AlignmentFlag.AlignVCenter)
        self.table.setCurrentCell(0, self.chosen + 1)
        self.table.blockSignals(False)
        self.under.setText("Offset ± 95 % half-width, in brackets the number of scans behind it. Choose a column to adopt it.")
        self._explain()
        self.shown.emit()

    def choose(self, k):
        """Choose the instrument in column ``k``."""
        if 0 <= k < len(self.results):
            self.chosen = k
            self._explain()

    def _explain(self):
        r = self.results[self.chosen]
        name = r.comparison.pairs.instrument.name
        self.headline.setText(sentences.offset_headline(r))
        self.advice.setText(f"{name}: {sentences.calibration_sentence(r)}")
        said = [sentences.sentence(n) for n in (*r.notes, *r.comparison.pairs.notes)]
        self.detail.setText(" ".join([*said, sentences.range_sentence(r)]))
        adopted = [c for c in self.session.calibrations() if c.instrument == name and c.metric == r.comparison.pairs.metric]
        self.in_force.setText(
            "In force: " + "; ".join(sentences.record_sentence(c) for c in adopted)
            if adopted
            else "Nothing adopted yet: readings are shown uncorrected."
        )
        self.adopt.setText(f"Adopt the offset of {short_name(name)}")
        self.adopt.setEnabled(r.model != "none" and not self.session.read_only)

    def _adopt(self):
        r = self.results[self.chosen]
        item = r.comparison.pairs.instrument
        try:
            record = record_of(r, self.session.snapshot(), datetime.now())
            self.session.do(AdoptCalibration(record, item.kind, item.equation))
        except UserError as error:
            self.message.emit(str(error), True)
            return
        self._explain()
        self.message.emit(
            f"Adopted: {item.name} is now corrected in Record until {record.valid_until}. Undo withdraws it.", False
        )
