"""What all faces of Compare share: the tabs over a page on one instrument at a time."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QButtonGroup, QPushButton, QWidget

from ...instrument_page import InstrumentPage
from ...pages import Surroundings
from ...widgets import Flow, tip

VIEWS = (
    ("compare", "Closeness", "How far each instrument is from the scan"),
    ("consistency", "Consistency", "How far repeats of one instrument differ, minutes and days apart"),
    ("change", "Change", "Whether it moves when the scan moves"),
    ("water", "Water", "Whether fat only follows water"),
    ("alike", "Look-alikes", "Which devices move as one, and which values are computed from others"),
    ("score", "Score card", "Which one to keep"),
)


class ViewTabs(QWidget):
    """One button a face."""

    wanted = pyqtSignal(str)

    def __init__(self, shown: str) -> None:
        super().__init__()
        row, group = Flow(4), QButtonGroup(self)
        self.buttons: dict[str, QPushButton] = {}
        for key, words, purpose in VIEWS:
            button = QPushButton(words)
            button.setObjectName("tab")
            button.setCheckable(True)
            button.setChecked(key == shown)
            tip(button, purpose)
            button.clicked.connect(lambda _=False, k=key: self.wanted.emit(k))
            group.addButton(button)
            self.buttons[key] = button
            row.addWidget(button)
        self._shown = shown
        self.setLayout(row)

    def showEvent(self, event: Any) -> None:
        super().showEvent(event)
        self.buttons[self._shown].setFocus()  # the keys stand on the face that is shown, not on the first tab

    def stay(self) -> None:
        """Mark the face that is shown, whatever was clicked."""
        self.buttons[self._shown].setChecked(True)


class ViewPage(InstrumentPage):
    """One face: the tabs of Compare over a page on one instrument at a time."""

    key = ""

    def __init__(self, around: Surroundings) -> None:
        super().__init__(around)
        self.tabs = ViewTabs(self.key)
        self.tabs.wanted.connect(self.wanted)
        self.column.insertWidget(0, self.tabs)

    def refresh(self) -> None:
        self.tabs.stay()
        super().refresh()
