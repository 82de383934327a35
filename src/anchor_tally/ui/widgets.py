"""Small widgets that several screens share."""

from __future__ import annotations

from PyQt6.QtCore import QPoint, QRect, QSize, Qt
from PyQt6.QtGui import QKeySequence
from PyQt6.QtWidgets import QAbstractItemView, QApplication, QHeaderView, QLabel, QLayout, QTableWidget, QTableWidgetItem


def label(text="", name="", *, wrap=False):
    """A label with a style name."""
    out = QLabel(text)
    out.setObjectName(name)
    out.setWordWrap(wrap)
    return out


class Flow(QLayout):
    """Widgets in a row that goes on in the next line when the width is used up."""

    def __init__(self, spacing=5):
        super().__init__()
        self.items = []
        self.setSpacing(spacing)
        self.setContentsMargins(0, 0, 0, 0)

    def addItem(self, item):
        self.items.append(item)

    def count(self):
        return len(self.items)

    def itemAt(self, k):
        return self.items[k] if 0 <= k < len(self.items) else None

    def takeAt(self, k):
        return self.items.pop(k) if 0 <= k < len(self.items) else None

    def expandingDirections(self):
        return Qt.Orientation(0)

    def hasHeightForWidth(self):
        return True

    def heightForWidth(self, width):
        return self._place(QRect(0, 0, width, 0), move=False)

    def setGeometry(self, rect):
        super().setGeometry(rect)
        self._place(rect, move=True)

    def sizeHint(self):
        return self.minimumSize()

    def minimumSize(self):
        size = QSize()
        for item in self.items:
            size = size.expandedTo(item.minimumSize())
        return size

    def _place(self, rect, *, move):
        x, y, line = rect.x(), rect.y(), 0
        for item in self.items:
            if item.widget() is not None and item.widget().isHidden():
                continue
            size = item.sizeHint()
            if x + size.width() > rect.right() + 1 and line:
                x, y, line = rect.x(), y + line + self.spacing(), 0
            if move:
                item.setGeometry(QRect(QPoint(x, y), size))
            x, line = x + size.width() + self.spacing(), max(line, size.height())
        return y + line - rect.y()


class Table(QTableWidget):
    """A read-only table of text; numbers right-aligned; Ctrl+C copies the selection (or all) as TSV."""

    def __init__(self, heads, name, *, numeric_from=1):
        super().__init__(0, len(heads))
        self.numeric_from = numeric_from
        self.setHorizontalHeaderLabels(heads)
        self.setAccessibleName(name)
        self.verticalHeader().hide()
        self.setShowGrid(False)
        self.setAlternatingRowColors(True)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setTabKeyNavigation(False)
        self.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        self.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.verticalHeader().setDefaultSectionSize(25)
        for k in range(len(heads)):
            side = Qt.AlignmentFlag.AlignRight if k >= numeric_from else Qt.AlignmentFlag.AlignLeft
            self.horizontalHeaderItem(k).setTextAlignment(side | Qt.AlignmentFlag.AlignVCenter)

    def fill(self, rows):
        """Show rows of text."""
        self.setRowCount(len(rows))
        for i, cells in enumerate(rows):
            for k, text in enumerate(cells):
                item = QTableWidgetItem(text)
                side = Qt.AlignmentFlag.AlignRight if k >= self.numeric_from else Qt.AlignmentFlag.AlignLeft
                item.setTextAlignment(side | Qt.AlignmentFlag.AlignVCenter)
                self.setItem(i, k, item)

    def keyPressEvent(self, event):
        if event.matches(QKeySequence.StandardKey.Copy):
            chosen = sorted({i.row() for i in self.selectedIndexes()}) or range(self.rowCount())
            heads = [self.horizontalHeaderItem(k).text() for k in range(self.columnCount())]
            lines = ["\t".join(heads)] + ["\t".join(self.item(r, k).text() for k in range(self.columnCount())) for r in chosen]
            QApplication.clipboard().setText("\n".join(lines))
        else:
            super().keyPressEvent(event)
