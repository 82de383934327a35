"""What equations need of a client and the card does not say yet: sex, birth year, height."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLineEdit, QWidget

from ....app.session import Session
from ....domain.errors import UserError
from ....domain.metrics import HEIGHT
from ....domain.records import Client
from ....domain.units import parse_quantity
from ....study.edits.clients import AddHeight, PutClient
from ....study.edits.edit import Edit
from ...widgets import paired


class PersonBar(QWidget):
    """Fields for what is missing; each is saved when it is left, and then hidden.

    ``message`` says what was refused.
    """

    message = pyqtSignal(str, bool)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.client: Client | None = None
        self.day = ""
        self.sex, self.birth, self.height_field = QComboBox(), QLineEdit(), QLineEdit()
        for text, value in (("not known", ""), ("female", "female"), ("male", "male")):
            self.sex.addItem(text, value)
        self.birth.setPlaceholderText("1994")
        self.height_field.setPlaceholderText("181 or 5ft 11")
        for field in (self.birth, self.height_field):
            field.setMaximumWidth(120)
        self.sex.activated.connect(lambda _k: self._put(sex=self.sex.currentData()))
        self.birth.editingFinished.connect(lambda: self._put(birth=self.birth.text().strip()))
        self.height_field.editingFinished.connect(self._put_height)
        self.parts = {
            "sex": paired("Equation sex", self.sex),
            "birth": paired("Born", self.birth),
            "height": paired("Height", self.height_field),
        }
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        for part in self.parts.values():
            row.addWidget(part)
        row.addStretch(1)
        self.hide()

    def show_client(self, client: Client | None, day: str) -> None:
        """Show the fields that this client's card lacks; ``day`` (ISO) dates a height."""
        if client is None or self.client is None or client.id != self.client.id:
            self.birth.clear()
            self.height_field.clear()
            self.sex.setCurrentIndex(0)
        self.client, self.day = client, day[:10]
        known = self.session.read_only or client is None
        heights = self.session.catalogue().heights
        missing = {
            "sex": client is not None and not client.sex,
            "birth": client is not None
            and not client.birth
            and client.id not in self.session.with_stated_age(),
            "height": client is not None
            and not heights.get(client.id)
            and client.id not in self.session.stated_heights(),
        }
        for key, part in self.parts.items():
            part.setVisible(missing[key])
        self.setVisible(not known and any(missing.values()))

    def _put(self, **values: str) -> None:
        if self.client is not None and all(values.values()):
            self._do(PutClient(replace(self.client, **values)))  # type: ignore[arg-type]

    def _put_height(self) -> None:
        text = self.height_field.text().strip()
        if self.client is None or not text:
            return
        try:
            height = parse_quantity(text, HEIGHT)
        except UserError as error:
            self.message.emit(f"{error}; nothing was saved.", True)
            self.height_field.selectAll()
            return
        self._do(AddHeight(self.client.id, self.day or self.session.today(), height))

    def _do(self, edit: Edit) -> None:
        try:
            self.session.do(edit)
        except UserError as error:
            self.message.emit(f"{error}.", True)
