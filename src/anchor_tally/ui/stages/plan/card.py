"""A card: a list on the left, the fields of one row on the right; a field is written when it is left."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QFormLayout, QHBoxLayout, QLineEdit, QPushButton, QScrollArea, QVBoxLayout, QWidget

from ....domain.errors import UserError
from ....study.cards import AddRow, ChangeRow
from ...widgets import Table, label


class Card(QWidget):
    """List and form of one table. Subclasses say what is listed and which fields there are."""

    message = pyqtSignal(str, bool)
    table_name, heads, what = "", (), ""

    def __init__(self, session):
        super().__init__()
        self.session, self.row, self.fields = session, None, {}
        self.list = Table(list(self.heads), f"List of {self.what}s", numeric_from=99)
        self.list.itemSelectionChanged.connect(self._chosen)
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
        row = QHBoxLayout()
        row.addWidget(self.new)
        row.addWidget(self.add)
        self.under = row
        left = QVBoxLayout()
        left.addWidget(self.list, 1)
        left.addLayout(row)
        left.addWidget(self.trouble)
        box = QHBoxLayout(self)
        box.setContentsMargins(0, 6, 0, 0)
        box.setSpacing(16)
        box.addLayout(left, 5)
        box.addWidget(scroll, 6)

    # to be said by subclasses
    def rows(self):
        """Ids and cells of the list."""
        raise NotImplementedError

    def build_form(self):
        """Add the fields."""
        raise NotImplementedError

    def show_row(self, number):
        """Fill the fields from the row."""
        raise NotImplementedError

    def values_of_new(self, text):
        """Columns of a new row."""
        raise NotImplementedError

    # fields
    def line(self, column, text, hint="", *, parse=str):
        """A text field for a column."""
        field = QLineEdit()
        field.setPlaceholderText(hint)
        field.setAccessibleName(text)
        field.editingFinished.connect(lambda: self._write(column, field, parse))
        self.form.addRow(label(text, "faint"), field)
        self.fields[column] = field
        return field

    def choice(self, column, text, items):
        """A list of (words, value) for a column."""
        field = QComboBox()
        field.setAccessibleName(text)
        for words, value in items:
            field.addItem(words, value)
        field.activated.connect(lambda _k: self.change(column, field.currentData()))
        self.form.addRow(label(text, "faint"), field)
        self.fields[column] = field
        return field

    def _write(self, column, field, parse):
        text = field.text().strip()
        if self.row is None or text == field.property("kept"):
            return
        try:
            value = parse(text)
        except ValueError:
            self.say(f'"{text}" is not a whole number; nothing was changed.')
            return
        self.change(column, value)

    def change(self, column, value):
        """Write one field."""
        if self.row is not None:
            self.do(ChangeRow(self.table_name, self.row, ((column, value),)))

    def do(self, command):
        """Run an edit; what is refused is said here. Returns whether it was done."""
        try:
            self.session.do(command)
        except UserError as error:
            self.say(f"{error}.")
            return False
        self.say("")
        return True

    def say(self, text):
        """Say what could not be done."""
        self.trouble.setText(text[:1].upper() + text[1:])

    def put(self, column, value):
        """Show a value in its field."""
        field = self.fields[column]
        if isinstance(field, QComboBox):
            field.setCurrentIndex(max(field.findData(value), 0))
        elif not field.hasFocus() or field.property("row") != self.row:
            text = "" if value is None else str(value)
            field.setText(text)
            field.setProperty("kept", text)
            field.setProperty("row", self.row)
        else:
            field.setProperty("kept", "" if value is None else str(value))

    # list
    def refresh(self):
        """Show the study as it is now."""
        rows = self.rows()
        ids = [number for number, _ in rows]
        if self.row not in ids:
            self.row = ids[0] if ids else None
        self.ids = ids
        self.list.blockSignals(True)
        self.list.fill([cells for _, cells in rows])
        if self.row is not None:
            self.list.selectRow(ids.index(self.row))
        self.list.blockSignals(False)
        self._show()

    def _chosen(self):
        k = self.list.currentRow()
        if 0 <= k < len(self.ids):
            self.row = self.ids[k]
            self._show()

    def _show(self):
        there = self.row is not None
        for field in self.fields.values():
            field.setEnabled(there)
        if there:
            self.show_row(self.row)
        else:
            self.title.setText(f"No {self.what} yet: type a name below the list.")

    def _add(self):
        text = self.new.text().strip()
        if text and self.do(AddRow(self.table_name, self.values_of_new(text))):
            self.new.clear()
            self.row = next((n for n, cells in self.rows() if cells[0] == text), self.row)
            self.refresh()
