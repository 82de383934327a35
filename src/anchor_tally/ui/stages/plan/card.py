"""A card: a list on the left, the fields of one record on the right.

A field is written when it is left.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import Any, Generic, TypeVar

from PyQt6.QtWidgets import (
    QComboBox,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from ....app.session import Session
from ....domain.errors import UserError
from ....domain.records import Client, Instrument
from ....domain.text import as_sentence
from ....study.edits.edit import Edit
from ...widgets import Table, label
from .tab import Tab

R = TypeVar("R", Client, Instrument)


class Card(Tab, Generic[R]):
    """List and form of one kind of record.

    Subclasses say what is listed and which fields there are.
    """

    heads: tuple[str, ...] = ()
    what = ""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.row: int | None = None
        self.ids: list[int] = []
        self.fields: dict[str, QLineEdit | QComboBox] = {}
        self.list = Table(list(self.heads), f"List of {self.what}s", numeric_from=99)
        self.list.chosen.connect(lambda row, _column: self._chosen(row))
        self.new = QLineEdit()
        self.new.setPlaceholderText(f"New {self.what}")
        self.new.setAccessibleName(f"New {self.what}")
        self.new.returnPressed.connect(self._add)
        self.add = QPushButton("Add")
        self.add.clicked.connect(self._add)
        self.trouble = label("", "warn", wrap=True)
        self.title = label("", "title", wrap=True)
        self.form = QFormLayout()
        self.form.setVerticalSpacing(5)
        self.form.setRowWrapPolicy(QFormLayout.RowWrapPolicy.WrapLongRows)
        self.form.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.AllNonFixedFieldsGrow)
        holder = QWidget()
        holder.setObjectName("page")
        self.right = QVBoxLayout(holder)
        self.right.setContentsMargins(0, 0, 8, 0)
        self.right.addWidget(self.title)
        self.right.addLayout(self.form)
        self.build_form()
        self.right.addStretch(1)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(holder)
        self.under = QHBoxLayout()
        self.under.addWidget(self.new)
        self.under.addWidget(self.add)
        left = QVBoxLayout()
        left.addWidget(self.list, 1)
        left.addLayout(self.under)
        left.addWidget(self.trouble)
        box = QHBoxLayout(self)
        box.setContentsMargins(0, 6, 0, 0)
        box.setSpacing(16)
        box.addLayout(left, 5)
        box.addWidget(scroll, 6)

    # to be said by subclasses
    def records(self) -> Mapping[int, R]:
        """The records by number."""
        raise NotImplementedError

    def rows(self) -> list[tuple[int, Sequence[str]]]:
        """Numbers and cells of the list."""
        raise NotImplementedError

    def build_form(self) -> None:
        """Add the fields."""
        raise NotImplementedError

    def show_record(self, record: R) -> None:
        """Fill the fields."""
        raise NotImplementedError

    def adding(self, text: str) -> Edit:
        """The edit that adds a record by its name."""
        raise NotImplementedError

    def putting(self, record: R) -> Edit:
        """The edit that writes a record."""
        raise NotImplementedError

    # fields
    def line(
        self, name: str, text: str, hint: str = "", *, parse: Callable[[str], Any] = str
    ) -> None:
        """A text field of the record."""
        field = QLineEdit()
        field.setPlaceholderText(hint)
        field.setAccessibleName(text)
        field.editingFinished.connect(lambda: self._write(name, field, parse))
        self.form.addRow(label(text, "faint"), field)
        self.fields[name] = field

    def choice(self, name: str, text: str, items: Sequence[tuple[str, Any]]) -> None:
        """A list of (words, value) for a field."""
        field = QComboBox()
        field.setAccessibleName(text)
        for words, value in items:
            field.addItem(words, value)
        field.activated.connect(lambda _k: self.change(name, field.currentData()))
        self.form.addRow(label(text, "faint"), field)
        self.fields[name] = field

    def _write(self, name: str, field: QLineEdit, parse: Callable[[str], Any]) -> None:
        text = field.text().strip()
        if self.row is None or text == field.property("kept"):
            return
        try:
            value = parse(text)
        except ValueError:
            self.say(f'"{text[:30]}" is not a whole number; nothing was changed.')
            return
        self.change(name, value)

    def change(self, name: str, value: Any) -> None:
        """Write one field."""
        record = self.records().get(self.row) if self.row is not None else None
        if record is not None:
            self.do(self.putting(replace(record, **{name: value})))

    def do(self, edit: Edit) -> bool:
        """Run an edit; what is refused is shown here. Returns whether it was done."""
        try:
            self.session.do(edit)
        except UserError as error:
            self.say(f"{error}.")
            return False
        self.say("")
        return True

    def say(self, text: str) -> None:
        """Say what could not be done."""
        self.trouble.setText(as_sentence(text))

    def put(self, name: str, value: Any) -> None:
        """Show a value in its field."""
        field = self.fields[name]
        if isinstance(field, QComboBox):
            field.setCurrentIndex(max(field.findData(value), 0))
            return
        text = "" if value is None else str(value)
        if not field.hasFocus() or field.property("row") != self.row:
            field.setText(text)
            field.setProperty("row", self.row)
        field.setProperty("kept", text)

    # list
    def refresh(self) -> None:
        rows = self.rows()
        self.ids = [number for number, _ in rows]
        if self.row not in self.ids:
            self.row = self.ids[0] if self.ids else None
        self.list.fill([cells for _, cells in rows])
        if self.row is not None:
            self.list.choose(self.ids.index(self.row))
        self._show()

    def select(self, number: int) -> None:
        """Choose the card of a record."""
        self.row = number
        self.refresh()

    def _chosen(self, k: int) -> None:
        if 0 <= k < len(self.ids):
            self.row = self.ids[k]
            self._show()

    def _show(self) -> None:
        record = self.records().get(self.row) if self.row is not None else None
        for field in self.fields.values():
            field.setEnabled(record is not None)
        if record is not None:
            self.show_record(record)
        else:
            self.title.setText(f"No {self.what} yet. Type a name below the list.")

    def _add(self) -> None:
        text = self.new.text().strip()
        if text and self.do(self.adding(text)):
            self.new.clear()
            self.row = max(self.records())
            self.refresh()
