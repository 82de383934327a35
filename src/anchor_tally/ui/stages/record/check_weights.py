"""Check weights: a known mass on a scale, and what the scale shows."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QLineEdit, QPushButton, QVBoxLayout, QWidget

from ....app.session import Session
from ....domain.errors import UserError
from ....domain.metrics import METRICS
from ....domain.text import as_sentence
from ....domain.units import parse_quantity
from ....study.edits.checks import AddCheckWeight
from ....wording.numbers import number, signed
from ...widgets import Flow, Table, label, paired, select_on_click


class CheckWeights(QWidget):
    """Take down check weights and see what was shown before."""

    message = pyqtSignal(str, bool)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.scale, self.nominal, self.shown = QComboBox(), QLineEdit(), QLineEdit()
        select_on_click(self.nominal, self.shown)
        self.add = QPushButton("Keep")
        self.add.setObjectName("primary")
        self.add.clicked.connect(self._keep)
        self.nominal.returnPressed.connect(lambda: self.shown.setFocus())
        self.shown.returnPressed.connect(self._keep)
        row = Flow()
        for text, w in (
            ("Scale", self.scale),
            ("Known mass", self.nominal),
            ("Scale shows", self.shown),
        ):
            row.addWidget(paired(text, w, text))
        self.nominal.setPlaceholderText("20 kg")
        self.shown.setPlaceholderText("20.1")
        for w in (self.nominal, self.shown):
            w.setFixedWidth(100)
        row.addWidget(self.add)
        self.trouble = label("", "warn", wrap=True)
        self.table = Table(
            ["Scale", "Date", "Known (kg)", "Shown (kg)", "Difference (kg)"],
            "Check weights",
            numeric_from=2,
        )
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 6, 0, 0)
        box.addWidget(
            label(
                "Put a known mass on the scale before the first client. It shows drift of the"
                " scale.",
                "faint",
                wrap=True,
            )
        )
        box.addLayout(row)
        box.addWidget(self.trouble)
        box.addWidget(self.table, 1)

    def refresh(self) -> None:
        """Show scales and what was kept."""
        names = [
            i.name for i in self.session.catalogue().instruments.values() if i.kind == "device"
        ]
        if [self.scale.itemText(k) for k in range(self.scale.count())] != names:
            self.scale.clear()
            self.scale.addItems(names)
        rows = [
            (
                w.instrument,
                w.taken_at[:16].replace("T", " "),
                number(w.nominal_kg, 2),
                number(w.shown_kg, 2),
                signed(w.difference_kg, 2),
            )
            for w in reversed(self.session.check_weights())
        ]
        self.table.fill(rows)
        self.add.setEnabled(bool(names))
        self.trouble.setText(
            ""
            if names
            else "First add a scale under Plan › Instruments, or at the Devices station."
        )

    def _keep(self) -> None:
        if not self.add.isEnabled():
            return
        try:
            nominal = parse_quantity(self.nominal.text(), METRICS["body_mass"])
            shown = parse_quantity(self.shown.text(), METRICS["body_mass"])
            items = self.session.catalogue().instruments.values()
            scale = next(i.id for i in items if i.name == self.scale.currentText())
            self.session.do(
                AddCheckWeight(scale, self.session.now().strftime("%Y-%m-%dT%H:%M"), nominal, shown)
            )
        except UserError as error:
            self.trouble.setText(
                as_sentence(f"{error}; nothing was saved".replace("nothing was changed; ", ""))
            )
            return
        self.shown.clear()
        self.nominal.setFocus()
        self.trouble.setText("")
        self.message.emit("Check weight saved.", False)
