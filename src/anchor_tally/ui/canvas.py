"""A figure on the screen."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from matplotlib.backends.backend_qtagg import FigureCanvasQTAgg
from matplotlib.figure import Figure
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QResizeEvent
from PyQt6.QtWidgets import QSizePolicy

from ..figures.style import use_fonts


class FigureView(FigureCanvasQTAgg):
    """One pair of axes with fixed margins in pixels; click and arrow keys are reported, nothing is computed."""

    clicked = pyqtSignal(object)
    stepped = pyqtSignal(int)
    opened = pyqtSignal()

    def __init__(self, name: str, margins: tuple[int, int, int, int]) -> None:
        super().__init__(Figure())
        self.family = use_fonts()
        self.margins = margins
        self.axes = self.figure.add_subplot()
        self.setAccessibleName(name)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.mpl_connect("button_press_event", self.clicked.emit)

    def redraw(self, paint: Callable[[Any, str], None]) -> None:
        """Clear, let ``paint(axes, family)`` draw, and show."""
        self.axes.clear()
        paint(self.axes, self.family)
        self._fit()
        self.draw_idle()

    def _fit(self) -> None:
        left, right, bottom, top = self.margins
        w, h = max(self.width(), left + right + 40), max(self.height(), bottom + top + 30)
        self.figure.subplots_adjust(left=left / w, right=1 - right / w, bottom=bottom / h, top=1 - top / h)

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._fit()
        super().resizeEvent(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = event.key()
        if key in (Qt.Key.Key_Down, Qt.Key.Key_Right):
            self.stepped.emit(1)
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Left):
            self.stepped.emit(-1)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.opened.emit()
        else:
            super().keyPressEvent(event)
