"""Assessor check: people measured twice, technical error, a verdict."""

from __future__ import annotations

from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from ....analysis.entry.assessor import check, pairs_of
from ....app.session import Session
from ....domain.errors import UserError
from ....domain.metrics import METRICS
from ....domain.text import as_sentence
from ....domain.units import parse_quantity
from ....study.edits.checks import AddAssessorPair
from ....wording.assessor import assessor_notes, assessor_rows, verdict
from ....wording.numbers import number, signed
from ...widgets import Flow, Table, label, paired, select_on_click
from .tab import Tab

_METRICS = [m for m in METRICS if m.startswith(("skinfold_", "girth_", "breadth_"))]


class AssessorCheck(Tab):
    """Type person, first and second reading; the verdict follows."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.assessor, self.metric_box = QComboBox(), QComboBox()
        self.assessor.setEditable(True)
        self.assessor.setMinimumWidth(150)
        for m in _METRICS:
            self.metric_box.addItem(METRICS[m].label, m)
        self.metric_box.setCurrentIndex(_METRICS.index("skinfold_triceps"))
        self.person, self.first, self.second = QLineEdit(), QLineEdit(), QLineEdit()
        select_on_click(self.first, self.second)
        top, entry = Flow(), Flow()
        for words, combo in (("Assessor", self.assessor), ("Measures", self.metric_box)):
            top.addWidget(paired(words, combo, words))
            combo.activated.connect(lambda _k: self.refresh())
        line = self.assessor.lineEdit()
        if line is not None:
            line.editingFinished.connect(self.refresh)
        for words, field in (
            ("Person", self.person),
            ("First", self.first),
            ("Second", self.second),
        ):
            entry.addWidget(
                paired(words, field, words if words == "Person" else f"{words} reading")
            )
            field.setFixedWidth(100)
        rule = label(
            "Enter saves the pair. Start the second round after everybody was measured once.",
            "faint",
            wrap=True,
        )
        self.person.returnPressed.connect(lambda: self.first.setFocus())
        self.first.returnPressed.connect(lambda: self.second.setFocus())
        self.second.returnPressed.connect(self._keep)
        self.trouble = label("", "warn", wrap=True)
        self.verdict = label("", "title", wrap=True)
        self.notes = label("", wrap=True)
        self.table = Table(
            ["Person", "Day", "First", "Second", "Difference"], "People measured", numeric_from=2
        )
        self.numbers = Table(["Statistic", "Value", "95 % interval"], "Error of the assessor")
        self.source = label(
            "TEM = √(Σd²/2n), interval from χ²; limits 5 % and 7.5 % for skinfolds, 1 % and 1.5 %"
            " for girths and breadths: Perini et al. 2005 (from memory). R = 1 − TEM²/SD². This"
            " error is shown with the results of equations at visits of this assessor.",
            "faint",
            wrap=True,
        )
        right = QVBoxLayout()
        shown: tuple[QWidget, ...] = (self.verdict, self.notes, self.numbers, self.source)
        for part in shown:
            right.addWidget(part)
        right.setStretch(2, 1)
        middle = QHBoxLayout()
        middle.setSpacing(16)
        middle.addWidget(self.table, 5)
        middle.addLayout(right, 6)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 6, 0, 0)
        box.addLayout(top)
        box.addLayout(entry)
        box.addWidget(rule)
        box.addWidget(self.trouble)
        box.addLayout(middle, 1)

    def refresh(self) -> None:
        values = self.session.assessor_values()
        names = list(dict.fromkeys(v.assessor for v in values))
        who = self.assessor.currentText().strip()
        if [self.assessor.itemText(k) for k in range(self.assessor.count())] != names:
            self.assessor.clear()
            self.assessor.addItems(names)
            self.assessor.setEditText(who or (names[0] if names else ""))
        who, metric = self.assessor.currentText().strip(), self.metric_box.currentData()
        m = METRICS[metric]
        people = pairs_of(values, who, metric)
        k = m.decimals
        rows = [
            (p.person, p.day, number(p.first, k), number(p.second, k), signed(p.difference, k))
            for p in reversed(people)
        ]
        self.table.fill(rows)
        result = check(values, who, metric)
        self.verdict.setText(
            verdict(result) if who else "Name the assessor, then measure at least 10 people twice."
        )
        self.notes.setText(assessor_notes(result) if who else "")
        self.numbers.fill(assessor_rows(result))
        if not self.person.text() and not self.person.hasFocus():
            self.person.setText(str(len(people) + 1))

    def _keep(self) -> None:
        who, metric, person = (
            self.assessor.currentText().strip(),
            self.metric_box.currentData(),
            self.person.text().strip(),
        )
        try:
            pair = tuple(
                parse_quantity(f.text(), METRICS[metric]) for f in (self.first, self.second)
            )
            self.session.do(AddAssessorPair(who, self.session.today(), metric, person, pair))
        except UserError as error:
            said = str(error)
            self.trouble.setText(as_sentence(said))
            return
        self.trouble.setText("")
        for f in (self.first, self.second):
            f.clear()
        self.person.setText(str(self.table.count + 1))
        self.first.setFocus()
