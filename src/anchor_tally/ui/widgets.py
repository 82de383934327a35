"""Small widgets that several screens share."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeySequence
from PyQt6.QtWidgets import QAbstractItemView, QApplication, QHeaderView, QLabel, QTableWidget, QTableWidgetItem


def label(text="", name="", *, wrap=False):
    """A label with a style name."""
    out = QLabel(text)
    out.setObjectName(name)
    out.setWordWrap(wrap)
    return out


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
