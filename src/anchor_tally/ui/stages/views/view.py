"""What all views of Compare share: tabs over a page about one instrument at a time."""

from __future__ import annotations

from collections.abc import Generator, Sequence
from typing import Any

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QButtonGroup, QPushButton, QWidget

from ....app.views import VIEW, VIEWS, Answer, Ask
from ....domain.lens import Lens
from ....domain.snapshot import Snapshot
from ....wording.statistics import Line
from ...instrument_page import InstrumentPage, N
from ...pages import Surroundings
from ...widgets import Flow, tip


class ViewTabs(QWidget):
    """One button a view."""

    wanted = pyqtSignal(str)

    def __init__(self, shown: str) -> None:
        super().__init__()
        row, group = Flow(4), QButtonGroup(self)
        self.buttons: dict[str, QPushButton] = {}
        for view in VIEWS:
            button = QPushButton(view.label)
            button.setObjectName("tab")
            button.setCheckable(True)
            button.setChecked(view.key == shown)
            tip(button, view.purpose)
            button.clicked.connect(lambda _=False, k=view.key: self.wanted.emit(k))
            group.addButton(button)
            self.buttons[view.key] = button
            row.addWidget(button)
        self._shown = shown
        self.setLayout(row)

    def showEvent(self, event: Any) -> None:
        super().showEvent(event)
        self.buttons[
            self._shown
        ].setFocus()  # the keys stand on the view that is shown, not on the first tab

    def stay(self) -> None:
        """Mark the view that is shown, whatever was clicked."""
        self.buttons[self._shown].setChecked(True)


class ViewPage(InstrumentPage[N, Sequence[N]]):
    """One view: the tabs of Compare over a page on one instrument at a time.

    ``key`` is that of the table of views.
    """

    key = ""

    def __init__(self, around: Surroundings) -> None:
        super().__init__(around)
        self.answered_by: Answer[N] = VIEW[self.key].answer()
        self.tabs = ViewTabs(self.key)
        self.tabs.wanted.connect(self.wanted)
        self.column.insertWidget(0, self.tabs)

    def refresh(self) -> None:
        self.tabs.stay()
        super().refresh()

    def metrics(self) -> tuple[str, ...]:
        return self.answered_by.metrics

    def request(self, snapshot: Snapshot, lens: Lens) -> Generator[float, None, Sequence[N]]:
        return self.answered_by.ask(Ask(snapshot, lens))

    def answer(self, found: Sequence[N]) -> None:
        self.take(found)

    def say(self, result: N) -> str:
        return self.answered_by.headline(result)

    def lines(self, result: N) -> Sequence[Line]:
        return self.answered_by.lines(result)
