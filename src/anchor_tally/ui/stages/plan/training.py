"""Training cases: made studies to look through, one thing wrong in each, or nothing."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QPushButton, QVBoxLayout

from ....app.session import Session
from ....scenario.cases import CASES, PROBLEMS
from ....wording.numbers import count
from ....wording.training import TASK
from ...widgets import Table, label
from .tab import Tab


class Training(Tab):
    """The list of cases. ``case_wanted`` asks for one to be opened in this window."""

    case_wanted = pyqtSignal(str)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.table = Table(["Case", "Clients and scans"], "Training cases", numeric_from=9)
        self.table.fill(
            [
                (
                    f"Case {c.key}",
                    f"{count(c.truth.clients, 'client')}, {count(c.truth.scans, 'scan')}",
                )
                for c in CASES
            ]
        )
        self.table.activated.connect(lambda index: self._open(index.row()))
        self.button = QPushButton("Open the case")
        self.button.clicked.connect(lambda: self._open(self.table.row))
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 6, 0, 0)
        box.addWidget(label(f"A case opens in the place of this study. {TASK}", wrap=True))
        problems = "; ".join(words[0].lower() + words[1:] for words in PROBLEMS.values())
        box.addWidget(label(f"What can be wrong: {problems}.", "faint", wrap=True))
        box.addWidget(self.table, 1)
        box.addWidget(self.button)

    def refresh(self) -> None:
        """The list is always the same."""

    def _open(self, row: int) -> None:
        self.case_wanted.emit(CASES[max(row, 0)].key)
