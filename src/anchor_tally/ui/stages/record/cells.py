"""Rows of the bench: one per instrument and metric, with cells for repeats and a tally strip."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QRectF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QColor, QFocusEvent, QKeyEvent, QKeySequence, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QLabel, QLineEdit, QWidget

from ....analysis.entry.entry_check import Doubt
from ....analysis.entry.entry_rows import EntryRow
from ....analysis.entry.row_answers import RowAnswer
from ....domain.records import Reading
from ....figures.style import Palette
from ....wording.bench import strip_words
from ...widgets import restyle, tip


class Cell(QLineEdit):
    """One repeat.

    Enter commits and moves on; F marks it failed; F4 opens its evidence; C and K settle a
    doubt.
    """

    committed = pyqtSignal(object)
    failed = pyqtSignal(object)
    evidence = pyqtSignal(object)
    walk = pyqtSignal(object)
    vertical = pyqtSignal(object, int)
    entered = pyqtSignal(object)
    settled = pyqtSignal()  # nothing is asked about its text any more

    def __init__(self, entry_row: GridRow, replicate: int) -> None:
        super().__init__()
        self.entry_row, self.replicate = entry_row, replicate
        self.reading: Reading | None = None
        self.stored = ""
        self.doubt: Doubt | None = None  # what is asked about this text before it is written
        self.sure = ""  # the text that was kept as read
        self.textEdited.connect(lambda _text: self._settle())
        self.setFixedWidth(74)
        self.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.setAccessibleName(f"{entry_row.plan.instrument} {entry_row.label}, repeat {replicate}")
        self.editingFinished.connect(self._leave)

    def load(self, reading: Reading | None) -> None:
        """Show a reading, or emptiness."""
        self.reading = reading
        self.stored = (
            ""
            if reading is None
            else ("failed" if reading.status == "failed" else self._text(reading))
        )
        self.setText(self.stored)
        out = reading is not None and reading.status == "excluded"
        self.setReadOnly(out)
        self.state("" if reading is None else reading.status)
        said = f"Excluded: {reading.note}" if reading is not None and out else ""
        tip(
            self,
            (
                "Simulated reading"
                if reading is not None and reading.simulated and not said
                else said
            ),
        )

    @staticmethod
    def _text(reading: Reading) -> str:
        return (
            reading.entered
            if reading.unit in ("percent", "kg", "cm", "mm", "ohm")
            else f"{reading.entered} {reading.unit}"
        )

    def state(self, name: str) -> None:
        """Set the look."""
        self.setProperty("state", name)
        font = self.font()
        font.setStrikeOut(name == "excluded")
        self.setFont(font)
        restyle(self)

    def _leave(self) -> None:
        if self.doubt is None and (
            self.text().strip() != self.stored or self.property("state") == "refused"
        ):
            self.committed.emit(self)

    def ask(self, doubt: Doubt) -> None:
        """Hold the text until C or K settles the doubt, or another text is typed."""
        self.doubt = doubt
        self.state("refused")
        self.selectAll()  # what is typed next takes its place

    def _settle(self) -> None:
        if self.doubt is not None:
            self.doubt = None
            self.settled.emit()

    def hide_value(self, hidden: bool) -> None:
        """Show dots in place of what is typed and kept."""
        self.setEchoMode(QLineEdit.EchoMode.Password if hidden else QLineEdit.EchoMode.Normal)

    def _answered(self, key: int) -> bool:
        """Whether a key answered a question.

        C takes the explained value, K keeps the value as read.
        """
        if self.doubt is None or key not in (Qt.Key.Key_C, Qt.Key.Key_K):
            return False
        if key == Qt.Key.Key_C and not self.doubt.instead:
            return True
        if key == Qt.Key.Key_C:
            self.setText(self.doubt.instead)
        self.sure = self.text().strip()
        self._settle()
        self.committed.emit(self)
        if self.property("state") != "refused":
            self.walk.emit(self)
        return True

    def focusInEvent(self, event: QFocusEvent | None) -> None:
        super().focusInEvent(event)
        self.selectAll()
        if event is not None and event.reason() == Qt.FocusReason.MouseFocusReason:
            QTimer.singleShot(0, self.selectAll)  # after the click has put its cursor
        self.entered.emit(self)

    def forget(self) -> None:
        """Drop a question and the text it is about: another client or visit is shown."""
        self.doubt, self.sure = None, ""
        if self.property("state") == "refused":
            self.state("")

    def event(self, event: QEvent | None) -> bool:
        if (
            isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.ShortcutOverride
            and event.matches(QKeySequence.StandardKey.Undo)
            and self.text() == self.stored
        ):
            return False  # nothing of its own to undo: the study's undo takes the key
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        key = event.key()
        if self._answered(key):
            return
        if key == Qt.Key.Key_F and not self.isReadOnly():
            self.failed.emit(self)
        elif key == Qt.Key.Key_F4:
            self.evidence.emit(self)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            super().keyPressEvent(event)
            if self.property("state") != "refused":
                self.walk.emit(self)
        elif key == Qt.Key.Key_Escape:
            self._settle()
            self.state("")
            self.load(self.reading)
        elif key in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            self.vertical.emit(self, 1 if key == Qt.Key.Key_Down else -1)
        else:
            super().keyPressEvent(event)


class TallyStrip(QWidget):
    """The repeats as ticks against the spread that this device usually has."""

    def __init__(self, palette: Palette, width: int = 150) -> None:
        super().__init__()
        self.colours = palette
        self.values: tuple[float, ...] = ()
        self.usual: float | None = None
        self.setFixedSize(width, 26)

    def show_answer(self, answer: RowAnswer) -> None:
        """Draw the values of a row against its usual SD."""
        self.values, self.usual = answer.values, answer.usual
        tip(self, strip_words(answer))
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        p, c = QPainter(self), self.colours
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        w, h = self.width(), self.height()
        p.setPen(QPen(QColor(c.line), 1))
        p.drawLine(4, h - 6, w - 4, h - 6)
        if not self.values:
            return
        centre = sum(self.values) / len(self.values)
        reach = max([abs(v - centre) for v in self.values] + [3 * (self.usual or 0.2), 0.2])
        scale = (w / 2 - 8) / reach
        if self.usual:
            half = 2 * self.usual * scale
            p.fillRect(QRectF(w / 2 - half, 5, 2 * half, h - 11), QColor(c.band))
        for v in self.values:
            x = w / 2 + (v - centre) * scale
            odd = self.usual is not None and abs(v - centre) > 3 * self.usual
            p.setPen(QPen(QColor(c.warn if odd else c.accent), 3 if odd else 2))
            p.drawLine(int(x), 3, int(x), h - 6)


class GridRow:
    """One instrument and metric at the bench: its cells, strip and labels, and what they give."""

    def __init__(
        self, plan: EntryRow, text: str, tag: QLabel, strip: TallyStrip, meaning: QLabel
    ) -> None:
        self.plan, self.label = plan, text
        self.cells: list[Cell] = []
        self.tag, self.strip, self.meaning = tag, strip, meaning
        self.answer: RowAnswer | None = None

    @property
    def instrument(self) -> str:
        """The instrument's name."""
        return self.plan.instrument

    @property
    def metric(self) -> str:
        """What it measures."""
        return self.plan.metric

    def wants(self, cell: Cell) -> bool:
        """Whether this cell is required: a planned repeat, or one more after two differ."""
        if self.answer is None or self.answer.locked is not None:
            return False
        tally = self.answer.tally
        return cell.replicate <= self.plan.rule.repeats or (
            tally.ask and cell.replicate == tally.n + 1
        )
