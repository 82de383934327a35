"""The protocol: which conditions are asked for at each visit, and whether the study is for practice, or blind."""

from __future__ import annotations

from PyQt6.QtWidgets import QCheckBox, QGridLayout, QVBoxLayout

from ....app.session import Session
from ....domain.errors import UserError
from ....domain.protocol import CONDITIONS
from ....study.edits.checks import AskCondition
from ....study.edits.clients import PutStudy
from ....study.edits.edit import Edit
from ...widgets import label
from .tab import Tab


class Protocol(Tab):
    """A tick for each condition, with what it wants and what a breach means."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.boxes: dict[str, QCheckBox] = {}
        grid = QGridLayout()
        grid.setHorizontalSpacing(18)
        grid.setVerticalSpacing(8)
        for k, head in enumerate(("Ask at each visit", "Wanted", "Otherwise")):
            grid.addWidget(label(head, "faint"), 0, k)
        for n, c in enumerate(CONDITIONS, start=1):
            box = QCheckBox(c.question)
            box.clicked.connect(lambda on, key=c.key: self._do(AskCondition(key, on)))
            self.boxes[c.key] = box
            grid.addWidget(box, n, 0)
            grid.addWidget(label(c.wanted), n, 1)
            grid.addWidget(label(c.breach, "faint", wrap=True), n, 2)
        grid.setColumnStretch(2, 1)
        self.practice = QCheckBox("This study is for practice: readings of simulated devices count")
        self.practice.clicked.connect(lambda on: self._do(self._study(practice=on)))
        self.blind = QCheckBox("Blind: at the bench earlier and corrected values are hidden until the visit is two hours old")
        self.blind.clicked.connect(lambda on: self._do(self._study(blind=on)))
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 6, 0, 0)
        text = (
            "What must be so for readings to compare. Record shows a switch for each; an answer is kept only when it was given."
        )
        column.addWidget(label(text, "faint", wrap=True))
        column.addLayout(grid)
        column.addSpacing(10)
        column.addWidget(self.practice)
        column.addWidget(self.blind)
        column.addStretch(1)

    def _study(self, *, practice: bool | None = None, blind: bool | None = None) -> PutStudy:
        items = self.session.catalogue()
        return PutStudy(
            self.session.title, items.practice if practice is None else practice, items.blind if blind is None else blind
        )

    def _do(self, edit: Edit) -> None:
        try:
            self.session.do(edit)
        except UserError as error:
            self.message.emit(str(error), True)
            self.refresh()

    def refresh(self) -> None:
        items = self.session.catalogue()
        for key, box in self.boxes.items():
            box.setChecked(key in items.asked)
        self.practice.setChecked(items.practice)
        self.blind.setChecked(items.blind)
