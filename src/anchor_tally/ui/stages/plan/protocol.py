"""The protocol: which conditions are asked for at each visit."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QGridLayout, QVBoxLayout, QWidget

from ....domain.errors import UserError
from ....domain.protocol import CONDITIONS
from ....study.cards import PutPair
from ...widgets import label


class Protocol(QWidget):
    """A tick for each condition, with what it wants and what a breach means."""

    message = pyqtSignal(str, bool)

    def __init__(self, session):
        super().__init__()
        self.session, self.boxes = session, {}
        grid = QGridLayout()
        grid.setHorizontalSpacing(18)
        grid.setVerticalSpacing(8)
        for k, head in enumerate(("Ask at each visit", "Wanted", "Otherwise")):
            grid.addWidget(label(head, "faint"), 0, k)
        for n, c in enumerate(CONDITIONS, start=1):
            box = QCheckBox(c.question)
            box.clicked.connect(lambda on, key=c.key: self._ask(key, on))
            self.boxes[c.key] = box
            grid.addWidget(box, n, 0)
            grid.addWidget(label(c.wanted), n, 1)
            grid.addWidget(label(c.breach, "faint", wrap=True), n, 2)
        grid.setColumnStretch(2, 1)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 6, 0, 0)
        text = (
            "What must be so for readings to compare. Record shows a switch for each; an answer is kept only when it was given."
        )
        box.addWidget(label(text, "faint", wrap=True))
        box.addLayout(grid)
        box.addStretch(1)

    def _ask(self, key, on):
        try:
            self.session.do(PutPair("protocol_item", (("key", key),), "asked", int(on)))
        except UserError as error:
            self.message.emit(str(error), True)
            self.refresh()

    def refresh(self):
        """Show what the study asks for."""
        asked = self.session.protocol()
        for key, box in self.boxes.items():
            box.setChecked(key in asked)
