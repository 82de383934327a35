"""Small widgets that several screens share."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from html import escape
from typing import Any

from PyQt6.QtCore import (
    QAbstractTableModel,
    QEvent,
    QModelIndex,
    QObject,
    QPoint,
    QRect,
    QSize,
    Qt,
    pyqtSignal,
)
from PyQt6.QtGui import QContextMenuEvent, QFocusEvent, QKeyEvent, QKeySequence
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QAbstractSpinBox,
    QComboBox,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QLayout,
    QLayoutItem,
    QLineEdit,
    QPushButton,
    QTableView,
    QWidget,
)

from ..exchange.result_table import ResultTable
from .saving import copy_table, offer, save_table

_NOWHERE = QModelIndex()


def label(text: str = "", name: str = "", *, wrap: bool = False) -> QLabel:
    """A label with a style name. What it shows is plain text, whatever the text is."""
    out = QLabel()
    out.setTextFormat(Qt.TextFormat.PlainText)
    out.setText(text)
    out.setObjectName(name)
    out.setWordWrap(wrap)
    return out


def bold(text: str) -> str:
    """Plain text as bold rich text."""
    return f"<b>{escape(text)}</b>"


def rich(text: str = "", *, wrap: bool = False) -> QLabel:
    """A label for rich text made by the program.

    Everything typed by a user must be escaped.
    """
    out = label("", wrap=wrap)
    out.setTextFormat(Qt.TextFormat.RichText)
    out.setText(text)
    return out


def restyle(widget: QWidget) -> None:
    """Let the style look again at a widget whose state has changed."""
    style = widget.style()
    if style is not None:
        style.unpolish(widget)
        style.polish(widget)


def tip(widget: QWidget, text: str) -> None:
    """A tooltip of plain text."""
    widget.setToolTip(f"<qt>{escape(text)}</qt>" if text else "")


def paired(text: str, widget: QWidget, name: str = "") -> QWidget:
    """A field with its words before it; an ampersand in them marks the key that goes there."""
    tag = label("", "faint")
    tag.setTextFormat(Qt.TextFormat.AutoText)
    tag.setText(text)
    tag.setBuddy(widget)
    if name or not widget.accessibleName():
        widget.setAccessibleName(name or text.replace("&", ""))
    out = QWidget()
    row = QHBoxLayout(out)
    row.setContentsMargins(0, 0, 6, 0)
    row.setSpacing(5)
    row.addWidget(tag)
    row.addWidget(widget)
    return out


def letters_wide(box: QComboBox, letters: int) -> None:
    """Make a choice so many letters wide.

    Else its widest entry is looked for among all, a thousand clients say.
    """
    box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    box.setMinimumContentsLength(letters)


class _SelectOnClick(QObject):
    """Selects the text of a field when a click enters it; a later click places the cursor."""

    def __init__(self, field: QLineEdit, focused: QWidget) -> None:
        super().__init__(focused)  # not the field inside a box, which Python does not keep
        self.field, self.entering = field, False
        field.installEventFilter(self)
        if focused is not field:  # a box that has the focus in the place of its field
            focused.installEventFilter(self)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if event is not None and event.type() == QEvent.Type.FocusIn:
            by_mouse = isinstance(event, QFocusEvent) and (
                event.reason() == Qt.FocusReason.MouseFocusReason
            )
            self.entering = by_mouse
        elif event is not None and event.type() == QEvent.Type.MouseButtonRelease:
            if self.entering and not self.field.hasSelectedText():
                self.field.selectAll()
            self.entering = False
        return super().eventFilter(watched, event)


def select_on_click(*fields: QLineEdit | QComboBox | QAbstractSpinBox) -> None:
    """Make a click into a field select its text, so that what is typed next takes its place.

    The Tab key does so in every field.
    """
    for field in fields:
        edit = field if isinstance(field, QLineEdit) else field.lineEdit()
        if edit is not None:
            _SelectOnClick(edit, field)


class Flow(QLayout):
    """Widgets in a row that goes on in the next line when the width is used up."""

    def __init__(self, spacing: int = 5) -> None:
        super().__init__()
        self.items: list[QLayoutItem] = []
        # by width, and the least size: asked for again and again while a page is laid out
        self._heights: dict[int, int] = {}
        self._least: QSize | None = None
        self.setSpacing(spacing)
        self.setContentsMargins(0, 0, 0, 0)

    def addItem(self, item: QLayoutItem | None) -> None:
        if item is not None:
            self.items.append(item)

    def count(self) -> int:
        return len(self.items)

    def itemAt(self, k: int) -> QLayoutItem | None:
        return self.items[k] if 0 <= k < len(self.items) else None

    def takeAt(self, k: int) -> QLayoutItem | None:
        return self.items.pop(k) if 0 <= k < len(self.items) else None

    def expandingDirections(self) -> Qt.Orientation:
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        if width not in self._heights:
            self._heights[width] = self._place(QRect(0, 0, width, 0), move=False)
        return self._heights[width]

    def invalidate(self) -> None:
        self._heights.clear()
        self._least = None
        super().invalidate()

    def setGeometry(self, rect: QRect) -> None:
        super().setGeometry(rect)
        self._place(rect, move=True)

    def sizeHint(self) -> QSize:
        return self.minimumSize()

    def minimumSize(self) -> QSize:
        if self._least is None:
            self._least = QSize()
            for item in self.items:
                self._least = self._least.expandedTo(item.minimumSize())
        return self._least

    def _place(self, rect: QRect, *, move: bool) -> int:
        rows: list[list[tuple[QLayoutItem, QSize]]] = [[]]
        x = rect.x()
        for item in self.items:
            widget = item.widget()
            if widget is not None and widget.isHidden():
                continue
            size = item.sizeHint()
            if x + size.width() > rect.right() + 1 and rows[-1]:
                rows.append([])
                x = rect.x()
            rows[-1].append((item, size))
            x += size.width() + self.spacing()
        y = rect.y()
        for k, row in enumerate(rows):
            y += self.spacing() if k else 0
            x, high = rect.x(), max((size.height() for _, size in row), default=0)
            for item, size in row if move else ():
                item.setGeometry(
                    QRect(QPoint(x, y + (high - size.height()) // 2), size)
                )  # all of a row on one middle line
                x += size.width() + self.spacing()
            y += high
        return y - rect.y()


class Choices(QWidget):
    """A row of names of which one is chosen; ``chosen`` carries its place.

    Names that stay keep their buttons.
    """

    chosen = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__()
        self.buttons: list[QPushButton] = []
        self.row = Flow(4)
        self.setLayout(self.row)

    def fill(self, names: Sequence[str]) -> None:
        """Show these names."""
        if [b.text() for b in self.buttons] == list(names):
            return
        for b in self.buttons:
            self.row.removeWidget(b)
            b.hide()
            b.deleteLater()
        self.buttons = []
        for k, name in enumerate(names):
            button = QPushButton(name)
            button.setObjectName("tab")
            button.setCheckable(True)
            button.clicked.connect(lambda _=False, k=k: self.chosen.emit(k))
            self.buttons.append(button)
            self.row.addWidget(button)

    def mark(self, chosen: int) -> None:
        """Show which one is chosen, whatever was clicked."""
        for k, button in enumerate(self.buttons):
            button.setChecked(k == chosen)


class Rows(QAbstractTableModel):
    """Rows of text; numbers from column ``numeric_from`` on stand to the right."""

    def __init__(
        self, heads: Sequence[str], numeric_from: int, parent: QWidget | None = None
    ) -> None:
        super().__init__(parent)
        self.heads = list(heads)
        self.rows: list[Sequence[str]] = []
        self.tips: list[str] = []
        self.numeric_from = numeric_from

    def rowCount(self, parent: QModelIndex = _NOWHERE) -> int:
        return 0 if parent.isValid() else len(self.rows)

    def columnCount(self, parent: QModelIndex = _NOWHERE) -> int:
        return 0 if parent.isValid() else len(self.heads)

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if not self.checkIndex(index) or not index.isValid():
            return None
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole):
            return self.rows[index.row()][index.column()]
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return self._side(index.column())
        if role == Qt.ItemDataRole.ToolTipRole and index.row() < len(self.tips):
            said = self.tips[index.row()]
            return f"<qt>{escape(said)}</qt>" if said else None
        if role == Qt.ItemDataRole.AccessibleDescriptionRole and index.row() < len(self.tips):
            return self.tips[index.row()]
        return None

    def headerData(
        self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole
    ) -> Any:
        if orientation == Qt.Orientation.Horizontal and 0 <= section < len(self.heads):
            if role == Qt.ItemDataRole.DisplayRole:
                return self.heads[section]
            if role == Qt.ItemDataRole.TextAlignmentRole:
                return self._side(section)
        return None

    def _side(self, column: int) -> int:
        side = (
            Qt.AlignmentFlag.AlignRight
            if column >= self.numeric_from
            else Qt.AlignmentFlag.AlignLeft
        )
        return (side | Qt.AlignmentFlag.AlignVCenter).value

    def show(
        self, rows: Sequence[Sequence[str]], heads: Sequence[str] | None, tips: Sequence[str]
    ) -> None:
        """Show other rows."""
        self.beginResetModel()
        self.rows, self.tips = list(rows), list(tips)
        if heads is not None:
            self.heads = list(heads)
        self.endResetModel()


class Table(QTableView):
    """A read-only table of text.

    Ctrl+C copies the selection (or all), the menu saves the table. Rows are drawn when seen.

    ``chosen`` carries the row and column that the user went to, ``opened`` the cell that was
    clicked or entered. With ``wraps`` all rows are as high as the longest text of the column that
    stretches, else it is cut off.
    """

    chosen = pyqtSignal(int, int)
    opened = pyqtSignal(int, int)
    SAMPLE = 200  # rows whose text decides the width of a column

    def __init__(
        self,
        heads: Sequence[str],
        name: str,
        *,
        numeric_from: int = 1,
        stretch: int = 0,
        wraps: bool = False,
    ) -> None:
        super().__init__()
        self._rows = Rows(heads, numeric_from, self)
        self._quiet, self._stretch, self._wraps, self._lines = False, stretch, wraps, 1
        self.setModel(self._rows)
        self.setAccessibleName(name)
        self.setShowGrid(False)
        self.setAlternatingRowColors(True)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setTabKeyNavigation(False)
        self.setWordWrap(True)
        side, top = self.verticalHeader(), self.horizontalHeader()
        assert side is not None
        assert top is not None
        side.hide()
        side.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        side.setDefaultSectionSize(25)
        top.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        top.setMinimumSectionSize(36)
        self.clicked.connect(lambda index: self.opened.emit(index.row(), index.column()))
        self.activated.connect(lambda index: self.opened.emit(index.row(), index.column()))

    def fill(
        self,
        rows: Sequence[Sequence[str]],
        heads: Sequence[str] | None = None,
        tips: Sequence[str] = (),
    ) -> None:
        """Show rows of text; a text of two lines makes all rows high enough for them."""
        self._quiet = True
        self._rows.show(rows, heads, tips)
        self._quiet = False
        self._widths()

    def _widths(self) -> None:
        """Every column as wide as its words, the one that stretches takes the rest."""
        top = self.horizontalHeader()
        viewport = self.viewport()
        if top is None or viewport is None:
            return
        metrics = self.fontMetrics()
        widths = []
        for k, head in enumerate(self._rows.heads):
            texts = (line for row in self._rows.rows[: self.SAMPLE] for line in row[k].split("\n"))
            longest = max(map(len, texts), default=0)
            texts = (
                line
                for row in self._rows.rows[: self.SAMPLE]
                for line in row[k].split("\n")
                if len(line) > 0.7 * longest
            )
            wide = max((metrics.horizontalAdvance(t) for t in texts), default=0)
            wide = max([wide, *(metrics.horizontalAdvance(line) + 6 for line in head.split("\n"))])
            widths.append(0 if self.isColumnHidden(k) else wide + 15)
        if not widths:
            return
        rest = viewport.width() - sum(widths) + widths[self._stretch]
        least = min(widths[self._stretch], max(88, viewport.width() // 4))
        widths[self._stretch] = max(rest, least)
        for k, wide in enumerate(widths):
            if wide:
                top.resizeSection(k, wide)
        self._heights(widths[self._stretch])

    def _heights(self, wide: int) -> None:
        """Every row as high as the text with the most lines; ``wide`` is what stretches."""
        rows = self._rows.rows[: self.SAMPLE]
        lines = max((text.count("\n") + 1 for row in rows for text in row), default=1)
        if self._wraps:
            metrics, room = self.fontMetrics(), QRect(0, 0, wide - 12, 10_000)
            flags = Qt.TextFlag.TextWordWrap
            high = [metrics.boundingRect(room, flags, row[self._stretch]).height() for row in rows]
            lines = max([lines, *(h // metrics.height() for h in high)])
        side = self.verticalHeader()
        if side is not None and lines != self._lines:
            self._lines = lines
            side.setDefaultSectionSize(8 + 17 * lines)

    def leave_out(self, columns: Sequence[int]) -> None:
        """Show all columns but these."""
        for k in range(len(self._rows.heads)):
            self.setColumnHidden(k, k in columns)
        self._widths()

    def resizeEvent(self, event: Any) -> None:
        super().resizeEvent(event)
        self._widths()

    @property
    def count(self) -> int:
        """Number of rows."""
        return self._rows.rowCount()

    def text(self, row: int, column: int) -> str:
        """The text of a cell."""
        return self._rows.rows[row][column]

    @property
    def heads(self) -> list[str]:
        """The heads of the columns."""
        return self._rows.heads

    @property
    def row(self) -> int:
        """The selected row, −1 for none."""
        return self.currentIndex().row()

    def choose(self, row: int, column: int = 0) -> None:
        """Select a row without a signal."""
        self._quiet = True
        if 0 <= row < self.count:
            self.setCurrentIndex(self._rows.index(row, column))
            if self.selectionBehavior() == QAbstractItemView.SelectionBehavior.SelectRows:
                self.selectRow(row)
        self._quiet = False

    def currentChanged(self, current: QModelIndex, previous: QModelIndex) -> None:
        super().currentChanged(current, previous)
        if current.isValid() and not self._quiet:
            self.chosen.emit(current.row(), current.column())

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        selection = self.selectionModel()
        if event is None or selection is None:
            return
        if event.matches(QKeySequence.StandardKey.Copy):
            self.copy()
        else:
            super().keyPressEvent(event)

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        if event is not None:
            whole = self.content(range(self.count))
            offer(
                self,
                event.globalPos(),
                (
                    ("Copy table", lambda: copy_table(whole)),
                    ("Save table…", lambda: save_table(self, whole)),
                ),
            )

    def copy(self) -> None:
        """Put the selected rows, or all, on the clipboard."""
        selection = self.selectionModel()
        chosen = sorted({i.row() for i in selection.selectedIndexes()}) if selection else []
        copy_table(self.content(chosen or range(self.count)))

    def content(self, rows: Iterable[int]) -> ResultTable:
        """Some rows as a table to copy or to save, without hidden columns."""
        seen = [k for k in range(len(self.heads)) if not self.isColumnHidden(k)]
        return ResultTable(
            self.accessibleName(),
            [self.heads[k].replace("\n", " ") for k in seen],
            [[self._rows.rows[r][k].replace("\n", " ") for k in seen] for r in rows],
        )
