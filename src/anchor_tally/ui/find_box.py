"""The find box: type, choose, Enter."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QDialog, QLineEdit, QListWidget, QVBoxLayout, QWidget

from ..app.find import Found


class FindBox(QDialog):
    """Shows what ``search`` gives for the text.

    ``chosen`` carries what was chosen, and the box is gone.
    """

    chosen = pyqtSignal(object)

    def __init__(self, parent: QWidget, search: Callable[[str], tuple[Found, ...]]) -> None:
        super().__init__(parent)
        self.setWindowTitle("Find")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.search, self.found = search, search("")
        self.text = QLineEdit()
        self.text.setPlaceholderText("client, client and date, instrument, or command")
        self.text.setAccessibleName("Find a client, a visit, an instrument or a command")
        self.list = QListWidget()
        self.list.setAccessibleName("Search results")
        self.list.itemActivated.connect(lambda _item: self._choose())
        self.list.itemClicked.connect(lambda _item: self._choose())
        self.text.textChanged.connect(self._show)
        self.text.returnPressed.connect(self._choose)
        column = QVBoxLayout(self)
        column.addWidget(self.text)
        column.addWidget(self.list)
        self.resize(520, 420)
        self._show("")

    def _show(self, text: str) -> None:
        self.found = self.search(text)
        self.list.clear()
        self.list.addItems([f.words for f in self.found] or ["No match."])
        self.list.setCurrentRow(0)

    def _choose(self) -> None:
        k = self.list.currentRow()
        if 0 <= k < len(self.found):
            self.chosen.emit(self.found[k])
            self.close()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            step = 1 if event.key() == Qt.Key.Key_Down else -1
            self.list.setCurrentRow(
                max(0, min(self.list.count() - 1, self.list.currentRow() + step))
            )
        else:
            super().keyPressEvent(event)
