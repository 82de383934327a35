"""A long text: in a low window it scrolls, and the picture or table beside it keeps its room."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QFrame, QScrollArea

from .widgets import label

REST = 650  # pixels of the window's height that the other parts of a page need
LEAST_LINES = 3


class LongText(QScrollArea):
    """Wrapped words as high as they are, but no higher than what the window has to spare."""

    def __init__(self, name: str, rest: int = REST) -> None:
        super().__init__()
        self.rest = rest
        self.words = label("", wrap=True)
        self.setWidget(self.words)
        self.setWidgetResizable(True)
        for part in (self.viewport(), self.words):  # putting a widget in turns this on
            if part is not None:
                part.setAutoFillBackground(False)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName(name)

    def setText(self, text: str) -> None:
        """Show a text from its beginning."""
        if text != self.words.text():
            self.words.setText(text)
            self.ensureVisible(0, 0)
            self._fit()

    def text(self) -> str:
        """The whole text."""
        return self.words.text()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        window, line = self.window(), self.words.fontMetrics().lineSpacing()
        spare = (window.height() if window is not None else self.rest) - self.rest
        need = max(self.words.heightForWidth(self.width()), 0)  # −1 without words
        self.setFixedHeight(min(need, max(spare, LEAST_LINES * line)))
