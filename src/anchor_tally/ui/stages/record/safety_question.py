"""The question about implants and pregnancy, once before the first impedance reading."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from ....wording.bench import ask_safety_words
from ...widgets import label

ANSWERS = (
    ("N", "none", "&None of these"),
    ("I", "implant", "&Implanted electronics"),
    ("P", "pregnant", "&Pregnant, or may be"),
)


class SafetyQuestion(QWidget):
    """One line with a button for each answer; ``answered`` tells the word for the card."""

    answered = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.words = label("", "caution", wrap=True)
        self.words.setAccessibleName("Question before the first impedance reading")
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.words, 1)
        self.buttons: dict[str, QPushButton] = {}
        for _, word, text in ANSWERS:
            button = QPushButton(text)
            button.clicked.connect(lambda _on, w=word: self.answered.emit(w))
            self.buttons[word] = button
            row.addWidget(button)
        self.hide()

    def show_for(self, client: str, *, wanted: bool) -> None:
        """Ask about a client, or ask nothing."""
        self.words.setText(ask_safety_words(client))
        self.setVisible(wanted)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """One key answers while a button has the keys."""
        key = event.text().upper() if event is not None else ""
        word = next((w for k, w, _ in ANSWERS if k == key), "")
        if word:
            self.answered.emit(word)
        else:
            super().keyPressEvent(event)
