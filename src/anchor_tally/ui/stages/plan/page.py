"""Plan: the cards of the study."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QButtonGroup, QHBoxLayout, QPushButton, QStackedWidget, QVBoxLayout, QWidget

from ...widgets import label
from .assessors import AssessorCheck
from .clients import Clients
from .instruments import Instruments
from .practice import Practice
from .protocol import Protocol

_TABS = (
    ("clients", "Clients", Clients, "Who is measured, and what must not be done to them."),
    ("instruments", "Instruments", Instruments, "What measures, with which settings, in which order."),
    ("protocol", "Protocol", Protocol, "What must be so at each visit."),
    ("assessors", "Assessor check", AssessorCheck, "Does this assessor repeat well enough to be trusted?"),
    ("practice", "Practice", Practice, "Read a dial or a tape until reading is no source of error."),
)


class PlanStage(QWidget):
    """Tabs of cards."""

    message = pyqtSignal(str, bool)

    def __init__(self, session, palette):
        super().__init__()
        self.setObjectName("page")
        self.headline = label("", "headline")
        self.stack, self.tabs, self.pages, row = QStackedWidget(), {}, {}, QHBoxLayout()
        group = QButtonGroup(self)
        for key, text, make, purpose in _TABS:
            button = QPushButton(text)
            button.setObjectName("tab")
            button.setCheckable(True)
            button.clicked.connect(lambda _=False, k=key: self.go(k))
            group.addButton(button)
            row.addWidget(button)
            page = make(session)
            page.message.connect(self.message)
            page.setProperty("purpose", purpose)
            self.stack.addWidget(page)
            self.tabs[key], self.pages[key] = button, page
        row.addStretch(1)
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 12, 16, 10)
        box.addWidget(self.headline)
        box.addLayout(row)
        box.addWidget(self.stack, 1)
        self.set_palette(palette)
        self.tabs["clients"].setChecked(True)

    def set_palette(self, palette):
        """Choose the theme of what is painted."""
        self.pages["practice"].set_palette(palette)

    def go(self, key):
        """Show a tab."""
        self.tabs[key].setChecked(True)
        self.stack.setCurrentWidget(self.pages[key])
        self.refresh()

    def refresh(self):
        """Show the study as it is now."""
        page = self.stack.currentWidget()
        self.headline.setText(page.property("purpose"))
        page.refresh()
