"""Practice: a dial or a tape of our own drawing with a hidden value; what is read is scored."""

from __future__ import annotations

import math

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from ....analysis.entry.practice import RANGES, hidden_values, score
from ....app.session import Session
from ....figures.style import Palette
from ....wording.assessor import practice_words
from ....wording.numbers import number, signed
from ...widgets import Flow, Table, label, paired, select_on_click
from .tab import Tab

_UNIT = {"dial": "mm", "tape": "cm"}
MANY = 200


class Scale(QWidget):
    """The painted dial or tape."""

    def __init__(self) -> None:
        super().__init__()
        self.colours: Palette | None = None
        self.kind, self.value = "dial", 0.0
        self.setMinimumSize(300, 260)
        self.setAccessibleName("Dial or tape to be read")

    def show_value(self, kind: str, value: float) -> None:
        """Point at a value."""
        self.kind, self.value = kind, value
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        if self.colours is None:
            return
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        (self._dial if self.kind == "dial" else self._tape)(p, self.colours)

    def _dial(self, p: QPainter, c: Palette) -> None:
        """One turn is 10 mm, a line each 0.2 mm; the window counts whole tens."""
        side = min(self.width(), self.height()) - 16
        p.translate(self.width() / 2, self.height() / 2)
        r = side / 2
        p.setPen(QPen(QColor(c.ink), 2))
        p.setBrush(QColor(c.surface))
        p.drawEllipse(QPointF(0, 0), r, r)
        font = p.font()
        font.setPixelSize(max(int(r * 0.11), 9))
        p.setFont(font)
        for k in range(50):
            angle = 2 * math.pi * k / 50 - math.pi / 2
            long = k % 5 == 0
            inner = r * (0.86 if long else 0.92)
            p.setPen(QPen(QColor(c.ink), 2 if long else 1))
            direction = QPointF(math.cos(angle), math.sin(angle))
            p.drawLine(direction * inner, direction * r * 0.98)
            if long:
                at = direction * (r * 0.74)
                p.drawText(
                    QRectF(at.x() - 30, at.y() - 24, 60, 48),
                    Qt.AlignmentFlag.AlignCenter,
                    str(k // 5),
                )
        p.setPen(QPen(QColor(c.line), 1))
        window = QRectF(-r * 0.3, r * 0.26, r * 0.6, r * 0.2)
        p.drawRoundedRect(window, 4, 4)
        p.setPen(QColor(c.ink))
        p.drawText(window, Qt.AlignmentFlag.AlignCenter, f"tens: {int(self.value // 10)}")
        angle = 2 * math.pi * (self.value % 10) / 10 - math.pi / 2
        p.setPen(QPen(QColor(c.warn), 2.5))
        direction = QPointF(math.cos(angle), math.sin(angle))
        p.drawLine(direction * (-r * 0.12), direction * (r * 0.9))
        p.setBrush(QColor(c.warn))
        p.drawEllipse(QPointF(0, 0), 4, 4)

    def _tape(self, p: QPainter, c: Palette) -> None:
        """A strip of tape with a line each 2 mm, read at the upright index."""
        w, h = self.width(), self.height()
        per_cm = w / 9
        top = h / 2 - 46
        p.setPen(QPen(QColor(c.line), 1))
        p.setBrush(QColor(c.surface))
        p.drawRect(QRectF(-2, top, w + 4, 92))
        font = p.font()
        font.setPixelSize(20)
        p.setFont(font)
        start = math.floor((self.value - 5) * 5)
        for k in range(start, start + 52):
            x = w / 2 + (k / 5 - self.value) * per_cm
            whole = k % 5 == 0
            p.setPen(QPen(QColor(c.ink), 2 if whole else 1))
            p.drawLine(QPointF(x, top), QPointF(x, top + (40 if whole else 22)))
            if whole:
                p.drawText(
                    QRectF(x - 30, top + 48, 60, 28), Qt.AlignmentFlag.AlignCenter, str(k // 5)
                )
        p.setPen(QPen(QColor(c.warn), 2))
        p.drawLine(QPointF(w / 2, top - 26), QPointF(w / 2, top + 92))


class Practice(Tab):
    """Read, type, Enter; the truth is shown after each reading."""

    def __init__(self, session: Session, seed: int | None = None) -> None:
        super().__init__(session)
        self.seed = seed
        self.hidden: tuple[float, ...] = ()
        self.read: tuple[float, ...] = ()
        self.kind = QComboBox()
        self.kind.addItem("Calliper dial (mm)", "dial")
        self.kind.addItem("Tape (cm)", "tape")
        self.kind.setAccessibleName("Scale to read")
        self.kind.activated.connect(lambda _k: self.begin())
        self.again = QPushButton("Begin again")
        self.again.clicked.connect(lambda: self.begin())
        self.scale = Scale()
        self.value = QLineEdit()
        select_on_click(self.value)
        self.value.setAccessibleName("Your reading")
        self.value.setFixedWidth(110)
        self.value.returnPressed.connect(self._answer)
        self.trouble = label("", "warn", wrap=True)
        self.words = label("", "title", wrap=True)
        self.table = Table(["Read", "True", "Error"], "Readings", numeric_from=0)
        self.digits = Table(["Last digit", "Times"], "Last digits")
        top = Flow()
        top.addWidget(self.kind)
        top.addWidget(paired("You read", self.value))
        top.addWidget(self.again)
        left, right = QVBoxLayout(), QVBoxLayout()
        left.addLayout(top)
        left.addWidget(label("To one decimal, then Enter.", "faint"))
        left.addWidget(self.trouble)
        left.addWidget(self.scale, 1)
        right.addWidget(self.words)
        tables = QHBoxLayout()
        tables.addWidget(self.table, 3)
        tables.addWidget(self.digits, 2)
        right.addLayout(tables, 1)
        box = QHBoxLayout(self)
        box.setContentsMargins(0, 6, 0, 0)
        box.setSpacing(16)
        box.addLayout(left, 5)
        box.addLayout(right, 5)
        self.begin()

    def set_palette(self, palette: Palette) -> None:
        self.scale.colours = palette
        self.scale.update()

    def refresh(self) -> None:
        self.value.setFocus()

    def begin(self) -> None:
        """Draw new hidden values."""
        self.hidden, self.read = hidden_values(self.kind.currentData(), MANY, self.seed), ()
        self._show()

    def _answer(self) -> None:
        text = self.value.text().strip().replace(",", ".")
        low, high = RANGES[self.kind.currentData()]
        try:
            value = round(float(text), 1)
        except ValueError:
            self.trouble.setText(f'"{text}" is not a number.')
            return
        if not low - 10 <= value <= high + 10:
            self.trouble.setText(f"The scale reads from {low:g} to {high:g}.")
            return
        self.trouble.setText("")
        self.read = (*self.read, value)
        self.value.clear()
        if len(self.read) == len(self.hidden):
            self.begin()
        self._show()

    def _show(self) -> None:
        kind = self.kind.currentData()
        self.scale.show_value(kind, self.hidden[len(self.read)])
        result = score(self.hidden, self.read)
        self.words.setText(practice_words(result, _UNIT[kind]))
        rows = [
            (number(a), number(b, 2), signed(e, 2))
            for a, b, e in zip(self.read, self.hidden, result.errors, strict=False)
        ]
        self.table.fill(rows[::-1])
        self.digits.fill([(str(d), str(n)) for d, n in enumerate(result.digits.counts)])
