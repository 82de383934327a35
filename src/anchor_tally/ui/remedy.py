"""Buttons on a page that has nothing to show yet: where the missing data are entered."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QWidget


class Remedy(QWidget):
    """Go to the bench, to its scan station, or import a table.

    ``wanted`` carries a page with its part, ``acted`` an action of the table.
    """

    wanted, acted = pyqtSignal(str), pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.readings = QPushButton("Enter readings")
        self.scans = QPushButton("Enter scan results")
        self.table = QPushButton("Import a spreadsheet…")
        self.readings.clicked.connect(lambda: self.wanted.emit("record:devices"))
        self.scans.clicked.connect(lambda: self.wanted.emit("record:scan"))
        self.table.clicked.connect(lambda: self.acted.emit("import"))
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 8, 0, 0)
        for button in (self.readings, self.scans, self.table):
            row.addWidget(button)
        row.addStretch(1)
        self.hide()
