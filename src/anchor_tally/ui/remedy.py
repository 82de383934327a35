"""Buttons on a page that has nothing to show yet: where the missing data are entered."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from .widgets import label


class Remedy(QWidget):
    """Go to the bench, to its scan station, or import a table; or say which device is the scan.

    ``wanted`` carries a page with its part, ``acted`` an action of the table, ``scan_named`` the
    name of the instrument whose readings are scans.
    """

    wanted, acted, scan_named = pyqtSignal(str), pyqtSignal(str), pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.readings = QPushButton("Enter readings")
        self.scans = QPushButton("Enter scan results")
        self.table = QPushButton("Import a spreadsheet…")
        self.readings.clicked.connect(lambda: self.wanted.emit("record:devices"))
        self.scans.clicked.connect(lambda: self.wanted.emit("record:scan"))
        self.table.clicked.connect(lambda: self.acted.emit("import"))
        row = QHBoxLayout()
        for button in (self.readings, self.scans, self.table):
            row.addWidget(button)
        row.addStretch(1)
        self.which, self.is_scan = QComboBox(), QPushButton("This is the scan")
        self.which.setAccessibleName("Which of these is the reference scan?")
        self.is_scan.clicked.connect(lambda: self.scan_named.emit(self.which.currentText()))
        self.ask = QWidget()
        question = QHBoxLayout(self.ask)
        question.setContentsMargins(0, 0, 0, 0)
        question.addWidget(label("Which of these is the reference scan?"))
        question.addWidget(self.which)
        question.addWidget(self.is_scan)
        question.addStretch(1)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 8, 0, 0)
        box.addWidget(self.ask)
        box.addLayout(row)
        self.hide()

    def offer(self, devices: Sequence[str]) -> None:
        """Show the buttons; ask for the scan where there are devices to choose from."""
        if [self.which.itemText(k) for k in range(self.which.count())] != list(devices):
            self.which.clear()
            self.which.addItems(devices)
        self.ask.setVisible(bool(devices))
        self.show()
