"""Our own figure of a body with the mark of a site."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPainterPath, QPaintEvent, QPen
from PyQt6.QtWidgets import QWidget

from ....domain.sites import SITES_OF_BODY, Site
from ....figures.style import Palette

# half of an outline, from the neck down the arm and leg on the viewer's left (x of the middle is
# 50); mirrored for the other
_TORSO = (
    (45, 26),
    (44, 32),
    (30, 37),
    (28, 44),
    (31, 56),
    (34, 72),
    (35, 84),
    (33, 97),
    (31, 110),
    (50, 118),
)
_ARM = (
    (30, 37),
    (24, 39),
    (18, 52),
    (16, 72),
    (14, 84),
    (11, 104),
    (10, 116),
    (14, 119),
    (17, 106),
    (21, 86),
    (25, 68),
    (31, 54),
)
_LEG = (
    (31, 110),
    (33, 132),
    (36, 156),
    (36, 168),
    (37, 184),
    (40, 206),
    (34, 212),
    (45, 212),
    (47, 190),
    (48, 166),
    (49, 140),
    (50, 118),
)


class SiteFigure(QWidget):
    """A standing figure, front or back, with the mark of one site."""

    def __init__(self, palette: Palette) -> None:
        super().__init__()
        self.colours = palette
        self.site: Site | None = None
        self.setAccessibleName("Figure of the site")

    def show_site(self, metric: str) -> None:
        """Mark the site of a metric; the plain figure when it has none."""
        self.site = SITES_OF_BODY.get(metric)
        self.setAccessibleDescription(self.site.where if self.site else "")
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        p, c = QPainter(self), self.colours
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        scale = min(self.width() / 100, self.height() / 232)
        p.translate((self.width() - 100 * scale) / 2, 2)
        p.scale(scale, scale)
        p.setPen(QPen(QColor(c.faint), 1.0))
        p.setBrush(QColor(c.band))
        body = QPainterPath()
        body.addEllipse(QPointF(50, 14), 9, 11)
        for part in (_TORSO, _ARM, _LEG):
            for side in (1, -1):
                points = [QPointF(50 + side * (x - 50), y) for x, y in part]
                path = QPainterPath(points[0])
                for a in points[1:]:
                    path.lineTo(a)
                if part is _TORSO:
                    path.lineTo(QPointF(50, 26))
                path.closeSubpath()
                body = body.united(path)
        p.drawPath(body)
        view = self.site.view if self.site else "front"
        p.setPen(QPen(QColor(c.faint), 1.0))
        if view == "front":
            p.drawEllipse(QPointF(50, 95), 0.8, 0.8)
        else:
            p.drawLine(QPointF(50, 40), QPointF(50, 104))
            for x in (40, 60):
                p.drawLine(QPointF(x, 44), QPointF(x + (4 if x < 50 else -4), 58))
        if self.site is not None:
            self._mark(p, self.site)
        font = p.font()
        font.setPixelSize(8)
        p.setFont(font)
        p.setPen(QColor(c.faint))
        p.drawText(QRectF(0, 216, 100, 12), Qt.AlignmentFlag.AlignCenter, f"{view} view")

    def _mark(self, p: QPainter, site: Site) -> None:
        pen = QPen(QColor(self.colours.warn), 2.4)
        pen.setCapStyle(Qt.PenCapStyle.RoundCap)
        p.setPen(pen)
        p.setBrush(Qt.BrushStyle.NoBrush)
        if site.mark == "fold":
            p.save()
            p.translate(site.x, site.y)
            p.rotate(site.angle)
            p.drawLine(QPointF(0, -4), QPointF(0, 4))
            p.setPen(QPen(QColor(self.colours.warn), 1.0))
            p.drawLine(QPointF(-4, 0), QPointF(-1.8, 0))
            p.drawLine(QPointF(4, 0), QPointF(1.8, 0))
            p.restore()
        elif site.mark == "girth":
            half = site.width / 2
            p.drawArc(QRectF(site.x - half, site.y - 3, site.width, 6), 180 * 16, 180 * 16)
            p.setPen(QPen(QColor(self.colours.warn), 1.0, Qt.PenStyle.DotLine))
            p.drawArc(QRectF(site.x - half, site.y - 3, site.width, 6), 0, 180 * 16)
        else:
            half = site.width / 2
            p.drawLine(QPointF(site.x - half, site.y - 3), QPointF(site.x - half, site.y + 3))
            p.drawLine(QPointF(site.x + half, site.y - 3), QPointF(site.x + half, site.y + 3))
            p.setPen(QPen(QColor(self.colours.warn), 1.0))
            p.drawLine(QPointF(site.x - half, site.y), QPointF(site.x + half, site.y))
