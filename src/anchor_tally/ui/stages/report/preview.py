"""PDF pages on the screen: zoom, and printing of what is shown."""

from __future__ import annotations

from PyQt6.QtCore import QBuffer, QIODevice, QRectF, QSize, Qt, QTimer
from PyQt6.QtGui import QColor, QPainter, QShowEvent
from PyQt6.QtPdf import QPdfDocument
from PyQt6.QtPdfWidgets import QPdfView
from PyQt6.QtPrintSupport import QPrinter
from PyQt6.QtWidgets import QWidget

from ....figures.style import LIGHT, Palette

STEP = 1.2
LEAST, MOST = 0.3, 4.0
PRINT_DPI = 300
POINTS = 72.0  # to the inch


class PagesView(QPdfView):
    """The pages of one document under each other."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.pages = QPdfDocument(None)  # it must outlive the view, which renders from it
        self._buffer: QBuffer | None = None
        self._ground = QColor(LIGHT.line)
        self._filling = QTimer(self)  # a new style sheet puts the old palette back: fill after it
        self._filling.setSingleShot(True)
        self._filling.timeout.connect(self._fill_ground)
        self.setDocument(self.pages)
        self.setPageMode(QPdfView.PageMode.MultiPage)
        self.setZoomMode(QPdfView.ZoomMode.FitToWidth)
        self.setAccessibleName("Pages")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    def show_pages(self, content: bytes) -> int:
        """Show a PDF; return the number of its pages."""
        buffer = QBuffer(self.pages)
        buffer.setData(content)
        buffer.open(QIODevice.OpenModeFlag.ReadOnly)
        self.pages.load(buffer)
        if self._buffer is not None:
            self._buffer.deleteLater()
        self._buffer = buffer  # pages are read from it when they are seen
        return self.pages.pageCount()

    def fit_width(self) -> None:
        """As wide as the view."""
        self.setZoomMode(QPdfView.ZoomMode.FitToWidth)

    def zoom(self, larger: bool) -> None:
        """One step larger or smaller than now."""
        now = self.zoomFactor()
        if self.zoomMode() == QPdfView.ZoomMode.FitToWidth and self.pages.pageCount():
            viewport = self.viewport()
            wide = viewport.width() if viewport is not None else self.width()
            margins = self.documentMargins()
            wide -= margins.left() + margins.right()
            inch = self.logicalDpiX() / POINTS
            now = wide / (self.pages.pagePointSize(0).width() * inch)
        factor = now * STEP if larger else now / STEP
        self.setZoomMode(QPdfView.ZoomMode.Custom)
        self.setZoomFactor(min(max(factor, LEAST), MOST))

    def set_palette(self, palette: Palette) -> None:
        """The ground behind the pages; pages are paper in every theme."""
        self._ground = QColor(palette.line)
        self._filling.start(0)

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self._filling.start(0)

    def _fill_ground(self) -> None:
        colours = self.palette()
        colours.setColor(colours.ColorRole.Dark, self._ground)
        self.setPalette(colours)

    def print_on(self, printer: QPrinter) -> int:
        """Print all pages; return how many."""
        painter = QPainter(printer)
        dpi = min(printer.resolution(), PRINT_DPI)
        for k in range(self.pages.pageCount()):
            if k:
                printer.newPage()
            size = self.pages.pagePointSize(k)
            pixels = QSize(round(size.width() * dpi / POINTS), round(size.height() * dpi / POINTS))
            image = self.pages.render(k, pixels)
            page = painter.viewport()
            shown = image.size().scaled(page.size(), Qt.AspectRatioMode.KeepAspectRatio)
            painter.drawImage(QRectF(0, 0, shown.width(), shown.height()), image)
        painter.end()
        return self.pages.pageCount()
