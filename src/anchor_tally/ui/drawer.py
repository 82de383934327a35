"""The evidence drawer: what a number or a point is made of."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QHideEvent, QShowEvent
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from ..analysis.people.withheld import withheld
from ..app.session import Session
from ..domain.errors import UserError
from ..domain.records import Reading
from ..study.edits.edit import Edit
from ..study.edits.readings import ExcludeReading, PutBackReading, RemarkReading
from ..wording.bench import NOT_A_DIAGNOSIS
from ..wording.evidence import left_out_words, pair_words, reading_row, reading_words
from ..wording.offsets import corrected_sentence
from ..wording.statistics import EXPLANATIONS
from .long_text import LongText
from .pages import EvidenceFor
from .widgets import Table, label

MOST = 500  # readings that are listed
BESIDE = 450  # pixels of the window's height that the table and what surrounds it need


class Drawer(QWidget):
    """Shows what a page asks for; a reading can be excluded with a reason or put back from here."""

    message = pyqtSignal(str, bool)
    toggled = pyqtSignal(bool)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("drawer")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(350)
        self.ids: list[int] = []
        self.pair_metric = ""  # of the pair whose point is shown
        self.listing = False  # all readings behind a statistic
        self.readings: list[Reading] = []
        self.title = label("", "title", wrap=True)
        self.close_button = QPushButton("Close")
        self.close_button.setAccessibleName("Close the evidence drawer")
        self.close_button.clicked.connect(self.hide)
        self.values = label("", "title", wrap=True)
        self.formula = LongText("What it is made of", BESIDE)
        self.source = label("", "faint", wrap=True)
        self.table = Table(
            ["Reading", "Time", "Value", "Used"], "Readings behind this", numeric_from=2
        )
        self.table.chosen.connect(lambda _row, _column: self._chosen())
        self.more = label("", "faint", wrap=True)
        self.left_out = label("", "faint", wrap=True)
        self.history = label("", "faint", wrap=True)
        self.reason = QLineEdit()
        self.reason.setPlaceholderText("remark or reason")
        self.reason.setAccessibleName("Remark, or reason for excluding")
        self.reason.returnPressed.connect(self._exclude)
        self.exclude = QPushButton("Exclude")
        self.exclude.clicked.connect(self._exclude)
        self.back = QPushButton("Include again")
        self.back.clicked.connect(self._put_back)
        top = QHBoxLayout()
        top.addWidget(self.title, 1)
        top.addWidget(self.close_button, 0, Qt.AlignmentFlag.AlignTop)
        self.remark = QPushButton("Remark")
        self.remark.setToolTip("Save the remark; the reading stays included")
        self.remark.clicked.connect(self._remark)
        row = QHBoxLayout()
        row.addWidget(self.reason, 1)
        row.addWidget(self.remark)
        row.addWidget(self.exclude)
        row.addWidget(self.back)
        box = QVBoxLayout(self)
        box.addLayout(top)
        for w in (self.values, self.formula, self.source):
            box.addWidget(w)
        box.addWidget(self.table, 1)
        box.addWidget(self.more)
        box.addWidget(self.history)
        box.addLayout(row)
        box.addWidget(self.left_out)
        box.addWidget(label(NOT_A_DIAGNOSIS, "faint"))
        self.hide()

    def open(self, what: EvidenceFor) -> None:
        """Open on the evidence of a figure, or on single readings."""
        evidence = what.evidence
        pair = evidence is not None and bool(evidence.values)
        self.pair_metric = evidence.metric if evidence is not None and pair else ""
        self.listing = evidence is not None and not pair
        if evidence is None:
            self.ids = list(what.readings)
            self.title.setText(what.name)
            formula, source = (
                what.formula or "These are the readings as they were entered.",
                what.source,
            )
            source, values, left_out = f"Source: {source}" if source else "", "", ""
        else:
            self.ids = [*evidence.instrument_readings, *evidence.reference_readings]
            e = EXPLANATIONS[evidence.statistic]
            self.title.setText(f"{e.name} · {what.name}")
            formula, source = f"{e.meaning}\n{e.formula}", f"Source: {e.source}"
            values, left_out = pair_words(evidence, what.name), left_out_words(evidence)
            own = self.session.readings(self.ids[:1])
            if values and any(self._unseen(r, evidence.metric) for r in own):
                values = (
                    "The values of this pair are not shown: a safety note of the client forbids it."
                )
        for place, text in (
            (self.values, values),
            (self.formula, formula),
            (self.source, source),
            (self.left_out, left_out),
        ):
            place.setText(text)
            place.setVisible(bool(text))
        self.table.choose(-1)
        self.refresh()
        self.show()
        if self.readings and (evidence is None or values):
            self.table.choose(0)
        self._chosen()

    def refresh(self) -> None:
        """Read the readings again."""
        ids = self.ids[:MOST]
        order = {i: k for k, i in enumerate(ids)}
        kept = self.table.row
        self.readings = sorted(self.session.readings(ids), key=lambda r: order[r.id])
        rows = []
        for r in self.readings:
            unseen = self._unseen(r)
            # beside a point whose place tells its value nobody is named
            nameless = unseen or (self.pair_metric and self._unseen(r, self.pair_metric))
            rows.append(reading_row(r, unseen=unseen, named=self.listing or not nameless))
        self.table.fill(rows)
        self.more.setText(
            f"The first {MOST:,} of {len(self.ids):,} readings." if len(self.ids) > MOST else ""
        )
        self.more.setVisible(len(self.ids) > MOST)
        if 0 <= kept < len(self.readings):
            self.table.choose(kept)
        self._chosen()

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self.toggled.emit(True)

    def hideEvent(self, event: QHideEvent | None) -> None:
        super().hideEvent(event)
        self.toggled.emit(False)

    def _unseen(self, r: Reading, metric: str = "") -> bool:
        """Whether a value of the reading's client may not be shown; its own, or of a metric."""
        return bool(withheld(self.session.catalogue().client_coded(r.client), metric or r.metric))

    def _current(self) -> Reading | None:
        k = self.table.row
        return self.readings[k] if 0 <= k < len(self.readings) else None

    def _chosen(self) -> None:
        r = self._current()
        writable = not self.session.read_only
        out = r is not None and r.status == "excluded"
        for w in (self.exclude, self.reason, self.remark):
            w.setVisible(not out)
        self.remark.setEnabled(writable and r is not None)
        self.exclude.setEnabled(writable and r is not None and r.status == "ok")
        self.reason.setEnabled(writable and r is not None)
        self.back.setVisible(writable and out)
        words = (
            reading_words(r, self.session.history(r.id), unseen=self._unseen(r))
            if r is not None
            else ""
        )
        fixed = (
            self.session.corrected(r)
            if r is not None and not self._unseen(r) and r.status == "ok"
            else None
        )
        if r is not None and fixed is not None:
            words = f"Corrected: {corrected_sentence(fixed, r.metric)}\n{words}".strip()
        self.history.setText(words)
        self.history.setVisible(bool(words))

    def _exclude(self) -> None:
        r = self._current()
        if r is not None:
            self._edit(
                ExcludeReading(r.id, self.reason.text()), "Excluded. Undo includes it again."
            )

    def _remark(self) -> None:
        r = self._current()
        if r is not None:
            self._edit(RemarkReading(r.id, self.reason.text()), "Remark saved.")

    def _put_back(self) -> None:
        r = self._current()
        if r is not None:
            self._edit(PutBackReading(r.id), "Included again.")

    def _edit(self, edit: Edit, said: str) -> None:
        try:
            self.session.do(edit)
        except UserError as error:
            self.message.emit(str(error), True)
            return
        self.reason.clear()
        self.message.emit(said, False)
