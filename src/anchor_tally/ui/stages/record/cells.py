"""Lanes of the bench: one per instrument and metric, with cells for repeats and a tally strip."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QPainter, QPen
from PyQt6.QtWidgets import QLineEdit, QWidget

from ....wording.numbers import number


class Cell(QLineEdit):
    """One repeat. Enter commits and walks on; F marks it failed; F4 opens its evidence."""

    committed = pyqtSignal(object)
    failed = pyqtSignal(object)
    evidence = pyqtSignal(object)
    walk = pyqtSignal(object)
    vertical = pyqtSignal(object, int)
    entered = pyqtSignal(object)

    def __init__(self, lane, replicate):
        super().__init__()
        self.lane, self.replicate = lane, replicate
        self.reading = None
        self.stored = ""
        self.setFixedWidth(74)
        self.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.setAccessibleName(f"{lane.instrument} {lane.label}, repeat {replicate}")
        self.editingFinished.connect(self._leave)

    def load(self, reading):
        """Show a reading, or emptiness."""
        self.reading = reading
        self.stored = "" if reading is None else ("failed" if reading.status == "failed" else self._text(reading))
        self.setText(self.stored)
        self.setReadOnly(reading is not None and reading.status == "excluded")
        self.state("" if reading is None else reading.status)
        self.setToolTip(f"Excluded: {reading.note}" if reading is not None and reading.status == "excluded" else "")

    @staticmethod
    def _text(reading):
        return reading.entered if reading.unit in ("percent", "kg", "cm", "mm", "ohm") else f"{reading.entered} {reading.unit}"

    def state(self, name):
        """Set the look."""
        self.setProperty("state", name)
        font = self.font()
        font.setStrikeOut(name == "excluded")
        self.setFont(font)
        self.style().unpolish(self)
        self.style().polish(self)

    def _leave(self):
        if self.text().strip() != self.stored:
            self.committed.emit(self)

    def focusInEvent(self, event):
        super().focusInEvent(event)
        self.selectAll()
        self.entered.emit(self)

    def keyPressEvent(self, event):
        key = event.key()
        if key == Qt.Key.Key_F and not self.isReadOnly():
            self.failed.emit(self)
        elif key == Qt.Key.Key_F4:
            self.evidence.emit(self)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            super().keyPressEvent(event)
            if self.property("state") != "refused":
                self.walk.emit(self)
        elif key == Qt.Key.Key_Escape:
            self.setText(self.stored)
        elif key in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            self.vertical.emit(self, 1 if key == Qt.Key.Key_Down else -1)
        else:
            super().keyPressEvent(event)


class TallyStrip(QWidget):
    """The repeats as ticks against the spread that this device usually has."""

    def __init__(self, palette, width=150):
        super().__init__()
        self.palette_ = palette
        self.values, self.usual = [], None
        self.setFixedSize(width, 26)

    def show_values(self, values, usual):
        """Draw ``values`` against the usual SD (None when not known)."""
        self.values, self.usual = values, usual
        spread = f"{number(max(values) - min(values), 1)}" if len(values) > 1 else "–"
        self.setToolTip(
            f"Spread {spread}; usual SD {number(usual, 2)}" if usual else f"Spread {spread}; usual spread not known yet"
        )
        self.update()

    def paintEvent(self, _event):
        p, c = QPainter(self), self.palette_
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


class Lane:
    """One instrument and metric at the bench: its cells, strip and labels."""

    def __init__(self, instrument, kind, metric, label, repeats):
        self.instrument, self.kind, self.metric, self.label, self.repeats = instrument, kind, metric, label, repeats
        self.cells = []
        self.tag = self.strip = self.meaning = None
        self.tally = None
        self.locked = ""

    @property
    def key(self):
        return self.instrument, self.kind, self.metric, self.repeats

    def wants(self, cell):
        """Whether the protocol asks for this cell: a planned repeat, or one more after two that differ."""
        if self.locked:
            return False
        planned = cell.replicate <= self.repeats
        return planned or (self.tally is not None and self.tally.ask and cell.replicate == self.tally.n + 1)
