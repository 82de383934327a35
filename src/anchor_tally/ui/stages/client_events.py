"""The row under a client's course: events between its two dates are noted and deleted."""

from __future__ import annotations

from collections.abc import Iterable

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QLineEdit, QPushButton, QWidget

from ...domain.events import PERSON_EVENTS, Event
from ...wording.names import event_words
from ..widgets import Flow, letters_wide, paired


class ClientEvents(QWidget):
    """``noted`` carries the kind and the remark of a new event, ``deleted`` an event's number."""

    noted = pyqtSignal(str, str)
    deleted = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__()
        self.kind, self.remark, self.own = QComboBox(), QLineEdit(), QComboBox()
        for kind in PERSON_EVENTS:
            self.kind.addItem(event_words(kind), kind)
        self.remark.setPlaceholderText("event")
        self.remark.setAccessibleName("Event between the two dates")
        self.remark.returnPressed.connect(self._note)
        letters_wide(self.own, 18)
        self.own.setAccessibleName("Noted events")
        note = QPushButton("&Note event")
        note.clicked.connect(self._note)
        self.away = QPushButton("Delete event")
        self.away.clicked.connect(self._delete)
        row = Flow(6)
        for part in (
            paired("Event", self.kind, "Kind of event"),
            self.remark,
            note,
            self.own,
            self.away,
        ):
            row.addWidget(part)
        self.setLayout(row)

    def show_events(self, own: Iterable[Event]) -> None:
        """List the events that can be deleted."""
        self.own.clear()
        for e in own:
            self.own.addItem(f"{e.starts} {event_words(e.kind)} {e.note}".strip(), e.id)
        self.own.setVisible(self.own.count() > 0)
        self.away.setVisible(self.own.count() > 0)

    def _note(self) -> None:
        self.noted.emit(self.kind.currentData(), self.remark.text())

    def _delete(self) -> None:
        number = self.own.currentData()
        if number is not None:
            self.deleted.emit(number)
