"""Plan: the cards of the study."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QButtonGroup, QPushButton, QStackedWidget, QVBoxLayout

from ....app.find import Found
from ....app.session import Session
from ....figures.style import Palette
from ...pages import Page, Surroundings
from ...widgets import Flow, label
from .assessors import AssessorCheck
from .calendar import Calendar
from .clients import Clients
from .instruments import Instruments
from .practice import Practice
from .precision import PrecisionTab
from .protocol import Protocol
from .simulator import Simulator
from .stated import Stated
from .tab import Tab
from .training import Training

_TABS: tuple[tuple[str, str, Callable[[Session], Tab], str], ...] = (
    ("calendar", "Calendar", Calendar, "What is measured when, and what is due."),
    ("precision", "Precision", PrecisionTab, "How many scans and repeats a question needs."),
    ("simulator", "Simulator", Simulator, "What the program would say of studies drawn at random."),
    ("clients", "Clients", Clients, "Clients and their safety notes."),
    ("instruments", "Instruments", Instruments, "Devices and methods, their settings and order."),
    ("protocol", "Protocol", Protocol, "Conditions of each visit."),
    ("stated", "Stated values", Stated, "Values that the study cannot estimate, and the margin."),
    ("assessors", "Assessor check", AssessorCheck, "Technical error of an assessor."),
    ("practice", "Practice", Practice, "Practise reading a dial or a tape."),
    ("training", "Training", Training, "Find what is wrong in a made study."),
)
_PURPOSE = {key: purpose for key, _, _, purpose in _TABS}


class PlanStage(Page):
    """Tabs of cards; a tab is built when it is first opened."""

    def __init__(self, around: Surroundings) -> None:
        super().__init__(around)
        self.headline = label("", "headline", wrap=True)
        self.stack, row = QStackedWidget(), Flow(4)
        self.buttons: dict[str, QPushButton] = {}
        self.tabs: dict[str, Tab] = {}
        measured = bool(self.session.metrics() or self.session.scheme().rules)
        self.current = "calendar" if measured else "clients"
        group = QButtonGroup(self)
        for key, text, _, _ in _TABS:
            button = QPushButton(text)
            button.setObjectName("tab")
            button.setCheckable(True)
            button.clicked.connect(lambda _=False, k=key: self.go(k))
            group.addButton(button)
            row.addWidget(button)
            self.buttons[key] = button
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 12, 16, 10)
        box.addWidget(self.headline)
        box.addLayout(row)
        box.addWidget(self.stack, 1)
        self.buttons[self.current].setChecked(True)

    def tab(self, key: str) -> Tab:
        """A tab."""
        if key not in self.tabs:
            make = next(m for k, _, m, _ in _TABS if k == key)
            tab = self.tabs[key] = make(self.session)
            tab.message.connect(self.message)
            tab.measured.connect(self.measured)
            tab.jobs = self.jobs
            tab.set_palette(self.colours)
            if isinstance(tab, Training):
                tab.case_wanted.connect(self.case_wanted)
            if isinstance(tab, Simulator):
                tab.drawn_wanted.connect(self.drawn_wanted)
            if isinstance(tab, (Calendar, PrecisionTab, Simulator)):
                tab.told.connect(lambda text, k=key: self._tell(k, text))
                tab.ready.connect(self.shown)
            self.stack.addWidget(tab)
        return self.tabs[key]

    def set_palette(self, palette: Palette) -> None:
        super().set_palette(palette)
        for tab in self.tabs.values():
            tab.set_palette(palette)

    def go(self, key: str) -> None:
        """Show a tab."""
        self.current = key
        self.buttons[key].setChecked(True)
        self.refresh()

    def take_client(self, code: str) -> None:
        client = self.session.catalogue().client_coded(code)
        tab = self.tab("clients")
        if client is not None and isinstance(tab, Clients):
            tab.row = client.id
            calendar = self.tab("calendar")
            if isinstance(calendar, Calendar):
                calendar.take_client(client.id)

    def _tell(self, key: str, text: str) -> None:
        """A tab knows its first sentence."""
        if self.current == key:
            self.headline.setText(text)

    def show_part(self, part: str) -> None:
        self.go(part)

    def show_found(self, found: Found) -> None:
        self.go("instruments")
        tab = self.tab("instruments")
        assert isinstance(tab, Instruments)
        tab.select(
            next(
                (
                    i.id
                    for i in self.session.catalogue().instruments.values()
                    if i.name == found.key
                ),
                0,
            )
        )

    def refresh(self) -> None:
        tab = self.tab(self.current)
        self.stack.setCurrentWidget(tab)
        self.headline.setText(_PURPOSE[self.current])
        tab.refresh()
