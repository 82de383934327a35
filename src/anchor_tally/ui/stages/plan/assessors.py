"""Assessor check: people measured twice, technical error, a verdict."""

from __future__ import annotations

from datetime import date

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from ....analysis.assessor import check, pairs_of
from ....domain.errors import UserError
from ....domain.metrics import METRICS, metric_named
from ....domain.units import parse_quantity
from ....study.cards import AddRow, Together
from ....wording.assessor import assessor_notes, assessor_rows, verdict
from ....wording.numbers import number, signed
from ...widgets import Table, label

_METRICS = [m for m in METRICS if m.startswith(("skinfold_", "girth_", "breadth_"))]


class AssessorCheck(QWidget):
    """Type person, first and second reading; the verdict follows."""

    message = pyqtSignal(str, bool)

    def __init__(self, session):
        super().__init__()
        self.session = session
        self.assessor, self.metric = QComboBox(), QComboBox()
        self.assessor.setEditable(True)
        self.assessor.setMinimumWidth(150)
        for m in _METRICS:
            self.metric.addItem(METRICS[m].label, m)
        self.metric.setCurrentIndex(_METRICS.index("skinfold_triceps"))
        self.person, self.first, self.second = QLineEdit(), QLineEdit(), QLineEdit()
        top = QHBoxLayout()
        for text, w in (("Assessor", self.assessor), ("Measures", self.metric)):
            top.addWidget(label(text, "faint"))
            top.addWidget(w)
            w.setAccessibleName(text)
            w.activated.connect(lambda _k: self.refresh())
        self.assessor.lineEdit().editingFinished.connect(self.refresh)
        top.addStretch(1)
        entry = QHBoxLayout()
        for text, w in (("Person", self.person), ("First", self.first), ("Second", self.second)):
            entry.addWidget(label(text, "faint"))
            entry.addWidget(w)
            w.setAccessibleName(f"{text} reading" if text != "Person" else text)
            w.setFixedWidth(100)
        entry.addWidget(label("Enter keeps the pair. Take the second round only after everybody was measured once.", "faint"))
        entry.addStretch(1)
        self.person.returnPressed.connect(self.first.setFocus)
        self.first.returnPressed.connect(self.second.setFocus)
        self.second.returnPressed.connect(self._keep)
        self.trouble = label("", "warn", wrap=True)
        self.verdict = label("", "title", wrap=True)
        self.notes = label("", wrap=True)
        self.table = Table(["Person", "Day", "First", "Second", "Difference"], "People measured", numeric_from=2)
        self.numbers = Table(["Statistic", "Value", "95 % interval"], "Error of the assessor")
        self.source = label(
            "TEM = √(Σd²/2n), interval from χ²; limits 5 % and 7.5 % for skinfolds, 1 % and 1.5 % for girths and breadths: "
            "Perini et al. 2005 (from memory). R = 1 − TEM²/SD². Named as the assessor of a visit, this error is shown with "
            "the results of the equations.",
            "faint",
            wrap=True,
        )
        right = QVBoxLayout()
        for w in (self.verdict, self.notes, self.numbers, self.source):
            right.addWidget(w)
        right.setStretch(2, 1)
        middle = QHBoxLayout()
        middle.setSpacing(16)
        middle.addWidget(self.table, 5)
        middle.addLayout(right, 6)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 6, 0, 0)
        box.addLayout(top)
        box.addLayout(entry)
        box.addWidget(self.trouble)
        box.addLayout(middle, 1)

    def refresh(self):
        """Show the check of the chosen assessor and metric."""
        values = self.session.assessor_values()
        names = list(dict.fromkeys(v.assessor for v in values))
        who = self.assessor.currentText().strip()
        if [self.assessor.itemText(k) for k in range(self.assessor.count())] != names:
            self.assessor.clear()
            self.assessor.addItems(names)
            self.assessor.setEditText(who or (names[0] if names else ""))
        who, metric = self.assessor.currentText().strip(), self.metric.currentData()
        m = metric_named(metric)
        people = pairs_of(values, who, metric)
        k = m.decimals
        rows = [(p.person, p.day, number(p.first, k), number(p.second, k), signed(p.difference, k)) for p in reversed(people)]
        self.table.fill(rows)
        result = check(values, who, metric)
        self.verdict.setText(verdict(result) if who else "Name the assessor, then measure at least 10 people twice.")
        self.notes.setText(assessor_notes(result) if who else "")
        self.numbers.fill(assessor_rows(result))
        if not self.person.text() and not self.person.hasFocus():
            self.person.setText(str(len(people) + 1))

    def _keep(self):
        who, metric, person = self.assessor.currentText().strip(), self.metric.currentData(), self.person.text().strip()
        m, day = metric_named(metric), date.today().isoformat()
        try:
            pair = [parse_quantity(f.text(), m) for f in (self.first, self.second)]
            commands = [
                AddRow(
                    "assessor_value",
                    (
                        ("assessor", who),
                        ("day", day),
                        ("metric", metric),
                        ("person", person),
                        ("repeat", k),
                        ("value", q.value),
                        ("entered", q.entered),
                        ("unit", q.unit),
                    ),
                )
                for k, q in enumerate(pair, start=1)
            ]
            self.session.do(Together(tuple(commands), "add a person to the assessor check"))
        except UserError as error:
            said = str(error)
            self.trouble.setText(f"{said[0].upper()}{said[1:]}.")
            return
        self.trouble.setText("")
        for f in (self.first, self.second):
            f.clear()
        self.person.setText(str(self.table.rowCount() + 1))
        self.first.setFocus()
