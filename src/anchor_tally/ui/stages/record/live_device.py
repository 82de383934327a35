"""Placeholder."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QWidget


class LiveDevice(QWidget):
    message = pyqtSignal(str, bool)
    import_wanted = pyqtSignal(str)

    def __init__(self, session, bench):
        super().__init__()

    def show_station(self, station):
        pass
