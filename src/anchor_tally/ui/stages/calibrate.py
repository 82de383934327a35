"""Calibrate: the offset board and adopting."""

from __future__ import annotations

from collections.abc import Generator
from datetime import datetime
from typing import Any

from PyQt6.QtWidgets import QAbstractItemView, QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from ...analysis.calibrate import CalibrateRequest, CalibrateResult, needs_reason, record_of
from ...domain.errors import UserError
from ...domain.lens import Lens
from ...domain.snapshot import Snapshot
from ...study.edits.calibrations import AdoptCalibration
from ...wording import sentences
from ...wording.board import board
from ...wording.names import short_name
from ..pages import Surroundings
from ..question_page import QuestionPage
from ..widgets import Table, label


class CalibrateStage(QuestionPage):
    """What is to be subtracted, for whom, and does it help?"""

    owner, words = "calibrate", "Deriving offsets"

    def __init__(self, around: Surroundings) -> None:
        super().__init__(around)
        self.results: tuple[CalibrateResult, ...] = ()
        self.chosen = 0
        self.headline = label("Reading the study…", "headline", wrap=True)
        self.under = label("", "faint", wrap=True)
        self.table = Table(["Subtract for"], "Offset board")
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectColumns)
        self.table.chosen.connect(lambda _row, column: self.choose(column - 1))
        self.advice = label("", "title", wrap=True)
        self.detail = label("", wrap=True)
        self.in_force = label("", "faint", wrap=True)
        self.reason = QLineEdit()
        self.reason.setPlaceholderText("Why adopt it against the advice?")
        self.reason.setAccessibleName("Reason for adopting against the advice")
        self.reason.textChanged.connect(self._enable)
        self.adopt = QPushButton("Adopt this offset")
        self.adopt.setObjectName("primary")
        self.adopt.setEnabled(False)
        self.adopt.clicked.connect(self._adopt)
        card = QWidget()
        card.setObjectName("card")
        side = QVBoxLayout(card)
        for w in (self.advice, self.detail, self.in_force):
            side.addWidget(w)
        row = QHBoxLayout()
        row.addWidget(self.reason, 1)
        row.addWidget(self.adopt)
        row.addStretch(1)
        side.addLayout(row)
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 12, 16, 10)
        box.addWidget(self.headline)
        box.addWidget(self.under)
        box.addWidget(self.table, 1)
        box.addWidget(card)

    def request(self, snapshot: Snapshot, lens: Lens) -> Generator[Any, None, Any]:
        return CalibrateRequest(snapshot, lens).run()

    def refresh(self) -> None:
        super().refresh()
        if self.results:
            self._explain()  # what is in force may have changed, and whether this answer still holds

    def no_answer(self, text: str) -> None:
        self.results = ()
        self.headline.setText(text[0].upper() + text[1:] + ".")
        self.under.setText("An offset needs readings taken within a day of a reference scan.")
        self.table.fill([])
        for place in (self.advice, self.detail, self.in_force):
            place.setText("")
        self._enable()
        self.shown.emit()

    def answer(self, result: Any) -> None:
        if not result:
            self.no_answer("no device or method has readings of this metric")
            return
        self.results = result
        self.chosen = min(self.chosen, len(self.results) - 1)
        b = board(self.results)
        self.table.fill([(head, *cells) for head, cells in zip(b.rows, b.cells, strict=True)], ["Subtract for", *b.columns])
        self.table.choose(0, self.chosen + 1)
        self.under.setText(
            "Offset ± the longer side of its 95 % interval, in brackets the number of scans behind it. Choose a column to adopt it."
        )
        self._explain()
        self.shown.emit()

    def choose(self, k: int) -> None:
        """Choose the instrument in column ``k``."""
        if 0 <= k < len(self.results):
            if k != self.chosen:
                self.reason.clear()
            self.chosen = k
            self._explain()

    def _explain(self) -> None:
        r = self.results[self.chosen]
        name = r.comparison.pairs.instrument.name
        self.headline.setText(sentences.offset_headline(r))
        self.advice.setText(f"{name}: {sentences.calibration_sentence(r)}")
        named = (n for n in r.comparison.notes if n.code in ("far_off", "far_off_more"))
        said = [sentences.sentence(n) for n in (*r.notes, *r.comparison.pairs.notes, *named)]
        words = [sentences.error_sentence(r), " ".join(said), f"{sentences.adopted_for(r)} {sentences.range_sentence(r)}".strip()]
        self.detail.setText("\n".join(w for w in words if w))
        adopted = [c for c in self.session.calibrations() if c.instrument == name and c.metric == r.comparison.pairs.metric]
        self.in_force.setText(
            "In force: " + "; ".join(sentences.record_sentence(c) for c in adopted)
            if adopted
            else "Nothing adopted yet: readings are shown uncorrected."
        )
        fresh = self.up_to_date(r.asked)
        self.adopt.setText(f"Adopt the offset of {short_name(name)}" if fresh else "Working: the study or the lens has changed")
        self._enable()

    def _enable(self) -> None:
        """The offset can be adopted where there is one that holds; against the advice only with a reason."""
        if not self.results:
            self.adopt.setEnabled(False)
            self.reason.hide()
            return
        r = self.results[self.chosen]
        can = bool(r.offer and r.valid_until) and self.up_to_date(r.asked) and not self.session.read_only
        self.reason.setVisible(needs_reason(r) and bool(r.offer and r.valid_until))
        self.adopt.setEnabled(can and (not needs_reason(r) or bool(self.reason.text().strip())))

    def _adopt(self) -> None:
        r = self.results[self.chosen]
        if not self.up_to_date(r.asked):  # what is adopted is what is on the screen, or nothing
            self.message.emit(
                "The study or the lens has changed since these offsets were derived; look at the new ones first.", True
            )
            self.refresh()
            return
        item = r.comparison.pairs.instrument
        try:
            reason = self.reason.text() if needs_reason(r) else ""
            record = record_of(r, self.session.catalogue(), datetime.now(), reason)
            self.session.do(AdoptCalibration(record, item.kind, item.equation))
        except UserError as error:
            self.message.emit(str(error), True)
            return
        self.reason.clear()
        self.message.emit(
            f"Adopted: {item.name} is now corrected in Record until {record.valid_until}. Undo withdraws it.", False
        )
