"""The strip of a training case: what is asked, the answer, and what it is worth."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QLineEdit, QPushButton, QVBoxLayout, QWidget

from ..analysis.plan.training import Judged, judge
from ..scenario.cases import PROBLEMS
from ..wording.training import DRAWN, TASK, judged_words
from .widgets import Flow, label, letters_wide, paired


class TrainingBar(QWidget):
    """Asked in every stage of a training case, until it is answered."""

    def __init__(self, case: str) -> None:
        super().__init__()
        self.case = case
        self.judged: Judged | None = None
        self.setObjectName("training")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.truth = case.removeprefix(DRAWN) if case.startswith(DRAWN) else ""
        name = "A drawn study." if self.truth else f"Training case {case}."
        self.task = label(f"{name} {TASK}", wrap=True)
        self.problem, self.amount = QComboBox(), QLineEdit()
        self.problem.addItem("choose", "")
        for key, words in PROBLEMS.items():
            self.problem.addItem(words, key)
        letters_wide(self.problem, 30)
        self.amount.setMaximumWidth(110)
        self.amount.setPlaceholderText("nothing")
        self.amount.returnPressed.connect(self.answer)
        self.button = QPushButton("Answer")
        self.button.clicked.connect(self.answer)
        self.said = label("", wrap=True)
        self.said.setAccessibleName("What the answer is worth")
        row = Flow()
        if self.truth:
            self.button.setText("Show what it was drawn with")
        else:
            row.addWidget(paired("What is wrong?", self.problem))
            row.addWidget(paired("Subtract (pp)", self.amount))
        row.addWidget(self.button)
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 6, 16, 6)
        box.setSpacing(4)
        box.addWidget(self.task)
        box.addLayout(row)
        box.addWidget(self.said)
        self.said.hide()

    def answer(self) -> None:
        """Judge what was answered, and tell why."""
        if self.truth:
            self._tell(self.truth)
            return
        problem, text = self.problem.currentData(), self.amount.text().strip()
        if not problem:
            self._tell("Choose what is wrong first.")
            return
        try:
            amount = float(text.replace(",", ".").replace("−", "-")) if text else None
        except ValueError:
            self._tell(f"“{text[:20]}” is not a number of percentage points.")
            return
        self.judged = judge(self.case, problem, amount)
        self._tell(judged_words(self.judged))

    def _tell(self, text: str) -> None:
        self.said.setText(text)
        self.said.show()
