"""A figure on the screen."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, ClassVar

from matplotlib.backends.backend_qtagg import FigureCanvasQTAgg
from matplotlib.colors import to_hex
from matplotlib.figure import Figure
from PyQt6 import sip
from PyQt6.QtCore import Qt, QTimer, pyqtSignal
from PyQt6.QtGui import (
    QColor,
    QImage,
    QKeyEvent,
    QKeySequence,
    QPainter,
    QPaintEvent,
    QResizeEvent,
    QShowEvent,
)
from PyQt6.QtWidgets import QApplication, QSizePolicy

from ..figures.style import empty, use_fonts
from .text_renderer import TextRenderer


class FigureView(FigureCanvasQTAgg):
    """One pair of axes with fixed margins in pixels.

    Click and arrow keys are reported, nothing is computed.
    """

    clicked = pyqtSignal(object)
    stepped = pyqtSignal(int)
    opened = pyqtSignal()
    resized = pyqtSignal()

    def __init__(self, name: str, margins: tuple[int, int, int, int]) -> None:
        self._stale = True
        self._last: QImage | None = None
        self._renderer: TextRenderer | None = None
        self._paint: Callable[[Any, str], None] | None = (
            None  # how to fill the axes, until it is done
        )
        super().__init__(Figure())
        self.family = use_fonts()
        self.margins = margins
        self.axes = self.figure.add_subplot()
        self.setObjectName("figure")
        self.setAccessibleName(name)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.mpl_connect("button_press_event", self._pressed)

    def _pressed(self, event: object) -> None:
        if self._paint is None or getattr(
            event, "dblclick", False
        ):  # else the picture clicked at is just being replaced
            self.clicked.emit(event)

    # drawing: one step of one canvas a turn of the event loop, and none that is not seen; meanwhile
    # the last picture stands,
    # stretched. A canvas takes two steps: its axes are filled, then they are drawn.
    _waiting: ClassVar[list[FigureView]] = []

    def draw_idle(self, *_args: object, **_kwargs: object) -> None:
        """Draw when it is this canvas' turn."""
        self._stale = True
        if self.isVisible() and self not in FigureView._waiting:
            FigureView._waiting.append(self)
            if len(FigureView._waiting) == 1:
                QTimer.singleShot(0, FigureView._next)

    @staticmethod
    def all_drawn() -> bool:
        """Whether no figure waits for its turn."""
        return not FigureView._waiting

    @staticmethod
    def _next() -> None:
        waiting = FigureView._waiting
        try:
            while waiting:
                view = waiting[0]
                if sip.isdeleted(view) or not view.isVisible() or not view._stale:
                    waiting.pop(0)
                elif view._paint is not None:
                    view._fill()
                    break
                else:
                    waiting.pop(0).draw()
                    break
        finally:  # a picture that fails holds up no other
            if waiting:
                QTimer.singleShot(0, FigureView._next)

    def get_renderer(self) -> TextRenderer:
        """What draws at the present size."""
        width, height = self.get_width_height(physical=True)
        known = self._renderer
        if known is None or (known.width, known.height, known.dpi) != (
            width,
            height,
            self.figure.dpi,
        ):
            self._renderer = known = TextRenderer(width, height, self.figure.dpi)
        self.renderer = known  # where the base class looks for it
        return known

    def draw(self) -> None:
        """Draw now."""
        self._fill()
        self._stale = False
        super().draw()
        buffer = self.buffer_rgba()
        height, width = buffer.shape[:2]
        self._last = QImage(bytes(buffer), width, height, QImage.Format.Format_RGBA8888)

    def paintEvent(self, event: QPaintEvent) -> None:
        if not self._stale:
            super().paintEvent(event)
            return
        painter = QPainter(self)
        if self._last is None:  # never drawn: the theme is known from the style sheet alone
            painter.fillRect(self.rect(), self.palette().color(self.backgroundRole()))
            return
        painter.fillRect(self.rect(), QColor(to_hex(self.figure.get_facecolor())))
        painter.drawImage(self.rect(), self._last)

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        if self._stale:
            self.draw_idle()

    def redraw(self, paint: Callable[[Any, str], None]) -> None:
        """Clear, let ``paint(axes, family)`` fill the axes, and show; soon."""
        self._paint = paint
        self.draw_idle()

    def _fill(self) -> None:
        paint, self._paint = self._paint, None
        if paint is not None:
            empty(self.axes)
            paint(self.axes, self.family)
            self._fit()

    def _fit(self) -> None:
        left, right, bottom, top = self.margins
        w, h = max(self.width(), left + right + 40), max(self.height(), bottom + top + 30)
        self.figure.subplots_adjust(
            left=left / w, right=1 - right / w, bottom=bottom / h, top=1 - top / h
        )

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._fit()
        super().resizeEvent(event)
        self.resized.emit()

    def room(self, row: int) -> int:
        """For how many rows of so many pixels there is room."""
        high: int = self.height()
        return max((high - self.margins[2] - self.margins[3]) // row, 3)

    def copy(self) -> None:
        """Put the picture on the clipboard."""
        clipboard = QApplication.clipboard()
        if self._stale:
            self.draw()
        if clipboard is not None and self._last is not None:
            clipboard.setImage(self._last)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = event.key()
        if event.matches(QKeySequence.StandardKey.Copy):
            self.copy()
        elif key in (Qt.Key.Key_Down, Qt.Key.Key_Right):
            self.stepped.emit(1)
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Left):
            self.stepped.emit(-1)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.opened.emit()
        else:
            event.ignore()  # the page may know what to do
