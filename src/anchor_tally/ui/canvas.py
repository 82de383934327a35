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
    QContextMenuEvent,
    QImage,
    QKeyEvent,
    QKeySequence,
    QPainter,
    QPaintEvent,
    QResizeEvent,
    QShowEvent,
)
from PyQt6.QtWidgets import QApplication, QSizePolicy

from ..figures.paper import DOUBLE_MM, PAPER, PaperFigure
from ..figures.style import LIGHT, Palette, empty, use_fonts
from .saving import offer, save_figure
from .text_renderer import TextRenderer

MM_A_PIXEL = 25.4 / 96
LOWEST_MM, HIGHEST_MM = 40.0, 200.0  # of the axes

Paint = Callable[[Any, str, Palette], None]
Content = Callable[[], object]


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
        self._paint: Paint | None = None  # how to fill the axes, until it is done
        self._palette = LIGHT
        # what stands on the axes, kept for paper: how it is painted, and its content
        self.painting: Paint | None = None
        self.content: Content | None = None
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

    def redraw(self, paint: Paint, palette: Palette, content: Content | None = None) -> None:
        """Clear, let ``paint(axes, family, palette)`` fill the axes, and show; soon.

        ``content`` makes what the figure shows, for those who want its numbers.
        """
        self._paint = self.painting = paint
        self._palette, self.content = palette, content
        self.draw_idle()

    def _fill(self) -> None:
        paint, self._paint = self._paint, None
        if paint is not None:
            empty(self.axes)
            paint(self.axes, self.family, self._palette)
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

    def on_paper(self, width: float) -> PaperFigure:
        """What stands on the axes, as a figure for paper as many mm wide; as high as here."""
        assert self.painting is not None
        paint = self.painting
        left, right, bottom, top = (m * MM_A_PIXEL for m in self.margins)
        high = self.height() * MM_A_PIXEL - bottom - top
        return PaperFigure(
            lambda axes, family: paint(axes, family, PAPER),
            self.accessibleName(),
            None if self.content is None else self.content(),
            DOUBLE_MM,
            min(max(high, LOWEST_MM), HIGHEST_MM) + bottom + top,
            (left, right, bottom, top),
        ).at(width)

    def save(self) -> None:
        """Ask for a file, and write the figure or its numbers."""
        if self.painting is not None:
            save_figure(self, self.accessibleName(), self.on_paper)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        copying, saving = ("Copy picture", self.copy), ("Save figure or its numbers…", self.save)
        offer(self, event.globalPos(), (copying, saving) if self.painting else (copying,))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        key = event.key()
        if event.matches(QKeySequence.StandardKey.Copy):
            self.copy()
        elif event.matches(QKeySequence.StandardKey.Save):
            self.save()
        elif key in (Qt.Key.Key_Down, Qt.Key.Key_Right):
            self.stepped.emit(1)
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Left):
            self.stepped.emit(-1)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.opened.emit()
        else:
            event.ignore()  # the page may know what to do
