"""At the foot of the bench: another instrument, or another setting of one that is there."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QLineEdit, QPushButton, QWidget

from ....app.session import Session
from ...metric_choice import MetricChoice
from ...widgets import Flow, label, paired


class Adder(QWidget):
    """Signals: ``row`` asks for a row of an instrument, ``setting`` for rows under a setting."""

    entry_row = pyqtSignal(str, str, str)
    setting = pyqtSignal(str, str)
    message = pyqtSignal(str, bool)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.name, self.kind, self.what = QLineEdit(), QComboBox(), MetricChoice()
        self.name.setPlaceholderText("Another instrument")
        self.name.setAccessibleName("Name of another instrument")
        self.name.setFixedWidth(150)
        self.kind.addItems(["device", "method", "reference"])
        self.kind.setAccessibleName("Kind of instrument")
        self.what.setAccessibleName("What it measures")
        add = QPushButton("Add row")
        add.clicked.connect(self._add)
        self.name.returnPressed.connect(self._add)
        self.more = label("", "faint")
        row = Flow()
        for w in (self.name, self.kind, self.what, add, self.more):
            row.addWidget(w)
        self.other = QComboBox()
        self.other.setEditable(True)
        self.other.setMinimumWidth(170)
        self.whose = ""
        line = self.other.lineEdit()
        if line is not None:
            line.setPlaceholderText("athlete mode")
            line.returnPressed.connect(self._start)
        self.start = QPushButton("Add readings")
        self.start.clicked.connect(self._start)
        self.other_pair = paired("With another setting", self.other)
        row.addWidget(self.other_pair)
        row.addWidget(self.start)
        self.other_pair.hide()
        self.start.hide()
        self.setLayout(row)

    def _add(self) -> None:
        name = self.name.text().strip()
        if not name:
            return
        known = next(
            (
                i
                for i in self.session.catalogue().instruments.values()
                if i.name.lower() == name.lower()
            ),
            None,
        )
        try:
            metric = self.what.chosen()
        except ValueError as error:
            self.message.emit(f"{error}; no row was added.", True)
            return
        self.name.clear()
        self.entry_row.emit(
            known.name if known else name, known.kind if known else self.kind.currentText(), metric
        )

    def ask_setting(self, instrument: str) -> None:
        """Ask for one more setting of an instrument in this visit."""
        self.whose = instrument
        item = next(
            (i for i in self.session.catalogue().instruments.values() if i.name == instrument), None
        )
        known = (
            dict.fromkeys(s.label for s in self.session.catalogue().settings_of(item.id))
            if item is not None
            else {}
        )
        self.other.clear()
        self.other.addItems(list(known))
        self.other.setAccessibleName(f"Another setting of {instrument}")
        for w in (self.other_pair, self.start):
            w.show()
        self.other.setFocus()

    def _start(self) -> None:
        text = self.other.currentText().strip()
        for w in (self.other_pair, self.start):
            w.hide()
        if text and self.whose:
            self.setting.emit(self.whose, text)
