"""The picture of the calendar: a row a client, a column a day, one lane a station."""

from __future__ import annotations

from datetime import date

from PyQt6.QtCore import QEvent, QPoint, QPointF, QRect, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import (
    QBrush,
    QColor,
    QFont,
    QFontMetrics,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
    QResizeEvent,
)
from PyQt6.QtWidgets import QAbstractScrollArea, QToolTip, QWidget

from ....analysis.plan.schedule import Measured, PlannedDay, Schedule
from ....domain.catalogue import Catalogue
from ....domain.scheme import LETTERS, SCAN
from ....figures.style import Palette
from ....wording.plan import day_note

HEAD, NAMES, LANE = 40, 110, 12  # pixels: header, names of clients, one lane
NOTE_SPAN = 60  # pixels from which on the kind of an event is written into its span


class CalendarView(QAbstractScrollArea):
    """Planned and measured days. Arrow keys go from one to the next, Shift with them moves one.

    ``chosen`` carries the day under the mark or None; ``moved`` a day and where it goes,
    ``opened`` the one that is to be measured, ``dropped`` the one that is to be left out.
    """

    chosen = pyqtSignal(object)
    moved = pyqtSignal(object, int)
    opened = pyqtSignal(object)
    dropped = pyqtSignal(object)

    def __init__(self, palette: Palette) -> None:
        super().__init__()
        self.colours, self.day_width = palette, 18
        self.schedule: Schedule | None = None
        self.catalogue = Catalogue()
        self.spans: dict[int, list[tuple[int, int, str]]] = {}
        self.clients: list[int] = []
        self.lanes: list[str] = []
        self.planned: dict[int, tuple[PlannedDay, ...]] = {}
        self.extra: dict[int, tuple[Measured, ...]] = {}
        self.row, self.at = 0, -1
        self._drag: tuple[PlannedDay, int] | None = None
        self.setObjectName("calendar")
        self.setAccessibleName("Calendar")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)

    # what is shown
    def show_schedule(
        self, s: Schedule, catalogue: Catalogue, spans: dict[int, list[tuple[int, int, str]]]
    ) -> None:
        """Show a calendar; the mark stays on its day where that is still there."""
        before = self.current()
        fresh = self.schedule is None
        self.schedule, self.catalogue, self.spans = s, catalogue, spans
        self.clients = list(s.clients)
        self.lanes = list(s.stations)
        self.planned = {k: c.days for k, c in s.clients.items()}
        self.extra = {k: c.unplanned for k, c in s.clients.items()}
        self._find(before)
        self._bars()
        if fresh:
            self.go_today()
        self._say()
        self._repaint()

    def _find(self, before: PlannedDay | None) -> None:
        self.row = min(self.row, max(len(self.clients) - 1, 0))
        self.at = -1
        if before is None or before.client not in self.clients:
            return
        self.row = self.clients.index(before.client)
        days = self.planned.get(before.client, ())
        same = [k for k, d in enumerate(days) if (d.rule, d.due) == (before.rule, before.due)]
        self.at = same[0] if same else -1

    def current(self) -> PlannedDay | None:
        """The planned day under the mark."""
        if not 0 <= self.row < len(self.clients):
            return None
        days = self.planned.get(self.clients[self.row], ())
        return days[self.at] if 0 <= self.at < len(days) else None

    def client(self) -> str:
        """Code of the client whose row has the mark."""
        if not 0 <= self.row < len(self.clients):
            return ""
        return self.catalogue.clients[self.clients[self.row]].code

    def set_zoom(self, day_width: int) -> None:
        """Choose the width of a day in pixels; the middle stays where it is."""
        middle = self._day_at(NAMES + (self._width() - NAMES) // 2)
        self.day_width = day_width
        self._bars()
        bar = self.horizontalScrollBar()
        if bar is not None and self.schedule is not None:
            half = (self._width() - NAMES) // 2
            bar.setValue((middle - self.schedule.first) * day_width - half)
        self._repaint()

    def go_today(self) -> None:
        """Show today, a third from the left."""
        bar = self.horizontalScrollBar()
        if bar is None or self.schedule is None:
            return
        ahead = (self._width() - NAMES) // 3
        bar.setValue((self.schedule.today - self.schedule.first) * self.day_width - ahead)

    def set_palette(self, palette: Palette) -> None:
        """Choose the theme."""
        self.colours = palette
        self._repaint()

    # places
    @property
    def row_height(self) -> int:
        """Height of a client's row."""
        return max(len(self.lanes), 1) * LANE + 4

    def _width(self) -> int:
        viewport = self.viewport()
        return viewport.width() if viewport is not None else 0

    def _height(self) -> int:
        viewport = self.viewport()
        return viewport.height() if viewport is not None else 0

    def _left(self) -> int:
        bar = self.horizontalScrollBar()
        return bar.value() if bar is not None else 0

    def _top(self) -> int:
        bar = self.verticalScrollBar()
        return bar.value() if bar is not None else 0

    def _x(self, day: int) -> int:
        first = self.schedule.first if self.schedule is not None else 0
        return NAMES + (day - first) * self.day_width - self._left()

    def _y(self, row: int) -> int:
        return HEAD + row * self.row_height - self._top()

    def _day_at(self, x: int) -> int:
        first = self.schedule.first if self.schedule is not None else 0
        return first + (x - NAMES + self._left()) // self.day_width

    def mark_of(self, d: PlannedDay) -> QRect:
        """Where a planned day is drawn."""
        lane = self.lanes.index(d.station)
        shift = self._shift(d)
        y = self._y(self.clients.index(d.client)) + 3 + lane * LANE
        wide = min(self.day_width - 1, 17)
        x = self._x(d.day) + (self.day_width - wide) // 2
        return QRect(x, y + shift, wide, LANE - 2)

    def _shift(self, d: PlannedDay) -> int:
        """A second series of a station on the same day is drawn a little lower."""
        others = {
            o.label
            for o in self.planned.get(d.client, ())
            if (o.day, o.station) == (d.day, d.station)
        }
        return 3 * sorted(others).index(d.label) if len(others) > 1 else 0

    def _bars(self) -> None:
        s = self.schedule
        across, down = self.horizontalScrollBar(), self.verticalScrollBar()
        if s is None or across is None or down is None:
            return
        wide = (s.last - s.first + 1) * self.day_width
        across.setRange(0, max(wide - (self._width() - NAMES), 0))
        across.setSingleStep(self.day_width * 7)
        across.setPageStep(max(self._width() - NAMES, 1))
        down.setRange(0, max(len(self.clients) * self.row_height - (self._height() - HEAD), 0))
        down.setSingleStep(self.row_height)
        down.setPageStep(max(self._height() - HEAD, 1))

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._bars()

    def _repaint(self) -> None:
        viewport = self.viewport()
        if viewport is not None:
            viewport.update()

    def scrollContentsBy(self, dx: int, dy: int) -> None:
        self._repaint()

    # painting
    def paintEvent(self, event: QPaintEvent | None) -> None:
        viewport, s = self.viewport(), self.schedule
        if viewport is None:
            return
        p, c = QPainter(viewport), self.colours
        p.fillRect(viewport.rect(), QColor(c.surface))
        if s is None:
            return
        small = QFont(self.font())
        small.setPixelSize(11)
        p.setFont(small)
        rows = range(
            max(self._top() // self.row_height, 0),
            min((self._top() + self._height()) // self.row_height + 1, len(self.clients)),
        )
        first = max(self._day_at(NAMES), s.first)
        last = min(self._day_at(self._width()), s.last)
        p.save()
        p.setClipRect(QRect(NAMES, HEAD, self._width() - NAMES, self._height() - HEAD))
        for row in rows:
            self._paint_row(p, row, first, last)
        p.setPen(QPen(QColor(c.accent), 1.4))
        x = self._x(s.today) + self.day_width // 2
        p.drawLine(x, HEAD, x, self._height())
        for row in rows:
            self._paint_marks(p, row, first, last)
        p.restore()
        self._paint_head(p, first, last)
        self._paint_names(p, rows)

    def _paint_row(self, p: QPainter, row: int, first: int, last: int) -> None:
        c, y, high = self.colours, self._y(row), self.row_height
        if row % 2:
            p.fillRect(QRect(NAMES, y, self._width() - NAMES, high), QColor(c.paper))
        p.setPen(QPen(QColor(c.line), 1))
        for day in range(first, last + 1):
            if date.fromordinal(day).weekday() == 0:
                p.drawLine(self._x(day), y, self._x(day), y + high)
        above = self.spans.get(self.clients[row - 1], []) if row and y > HEAD else []
        for start, end, kind in self.spans.get(self.clients[row], []):
            if end < first or start > last:
                continue
            x = self._x(start)
            span = QRect(x, y, self._x(end + 1) - x, high)
            p.fillRect(span, QColor(c.band))
            p.fillRect(span, QBrush(QColor(c.line), Qt.BrushStyle.BDiagPattern))
            if span.width() >= NOTE_SPAN and (start, end, kind) not in above:
                p.setPen(QColor(c.faint))
                p.drawText(span.adjusted(4, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, kind)
                p.setPen(QPen(QColor(c.line), 1))

    def _paint_marks(self, p: QPainter, row: int, first: int, last: int) -> None:
        client = self.clients[row]
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        c, ink = self.colours, QColor(self.colours.ink)
        for m in self.extra.get(client, ()):
            if first <= m.day <= last:
                y = self._y(row) + 3 + self.lanes.index(m.station) * LANE
                r = QRectF(self._x(m.day) + self.day_width / 2 - 2, y + LANE / 2 - 3, 4, 4)
                p.setPen(Qt.PenStyle.NoPen)
                p.setBrush(QColor(c.faint))
                p.drawEllipse(r)
        now = self.current()
        for d in self.planned.get(client, ()):
            if not first - 1 <= d.day <= last + 1:
                continue
            day = d.day if self._drag is None or self._drag[0] != d else self._drag[1]
            r = QRectF(self.mark_of(d)).translated((day - d.day) * self.day_width, 0)
            self._paint_mark(p, d, r, ink)
            if d == now:
                p.setPen(QPen(QColor(c.accent), 2))
                p.setBrush(Qt.BrushStyle.NoBrush)
                p.drawRect(r.adjusted(-2, -2, 2, 2))

    def _paint_mark(self, p: QPainter, d: PlannedDay, r: QRectF, ink: QColor) -> None:
        c = self.colours
        warn, faint, paper = QColor(c.warn), QColor(c.faint), QColor(c.surface)
        edge = {"overdue": warn, "missed": faint, "due": QColor(c.accent)}.get(d.state, ink)
        p.setPen(QPen(edge, 2.0 if d.state in ("due", "overdue") else 1.0))
        p.setBrush(ink if d.state == "done" else paper)
        if d.state == "missed":
            p.drawLine(r.center() + QPointF(-3, -3), r.center() + QPointF(3, 3))
            p.drawLine(r.center() + QPointF(-3, 3), r.center() + QPointF(3, -3))
            return
        if d.station == SCAN:
            middle, h = r.center(), r.height() / 2 + 0.5
            w = min(r.width() / 2, 8)
            corners = [QPointF(0, -h), QPointF(w, 0), QPointF(0, h), QPointF(-w, 0)]
            p.drawPolygon(QPolygonF([middle + q for q in corners]))
        else:
            p.drawRoundedRect(r, 2, 2)
        if r.width() >= 12:
            p.setPen(paper if d.state == "done" else edge)
            text = "!" if d.state == "overdue" else LETTERS[d.station]
            p.drawText(r, Qt.AlignmentFlag.AlignCenter, text)

    def _paint_head(self, p: QPainter, first: int, last: int) -> None:
        c = self.colours
        p.fillRect(QRect(0, 0, self._width(), HEAD), QColor(c.surface))
        p.setPen(QColor(c.faint))
        p.save()
        p.setClipRect(QRect(NAMES, 0, self._width() - NAMES, HEAD))
        step = 1 if self.day_width * 7 >= 40 else 4
        monday = first - date.fromordinal(first).weekday()
        for day in range(monday, last + 1, 7):
            at = date.fromordinal(day)
            if (day // 7) % step == 0:
                p.drawText(self._x(day) + 2, HEAD - 8, f"{at.day}")
        month = date.fromordinal(first).replace(day=1)
        while month.toordinal() <= last:
            x = max(self._x(month.toordinal()), NAMES + 2)
            nxt = (
                (month.replace(day=28).toordinal() + 4)
                - date.fromordinal(month.replace(day=28).toordinal() + 4).day
                + 1
            )
            text = f"{month:%b %Y}"
            if self._x(nxt) - x > QFontMetrics(p.font()).horizontalAdvance(text) + 6:
                p.drawText(x + 2, 14, text)
            month = date.fromordinal(nxt)
        p.restore()
        p.setPen(QPen(QColor(c.line), 1))
        p.drawLine(0, HEAD - 1, self._width(), HEAD - 1)

    def _paint_names(self, p: QPainter, rows: range) -> None:
        c = self.colours
        p.save()
        p.setClipRect(QRect(0, HEAD, NAMES, self._height() - HEAD))
        p.fillRect(QRect(0, HEAD, NAMES, self._height() - HEAD), QColor(c.surface))
        metrics = QFontMetrics(p.font())
        for row in rows:
            box = QRect(0, self._y(row), NAMES, self.row_height)
            if row == self.row:
                p.fillRect(box, QColor(c.band))
            code = self.catalogue.clients[self.clients[row]].code
            text = metrics.elidedText(code, Qt.TextElideMode.ElideRight, NAMES - 14)
            p.setPen(QColor(c.ink))
            p.drawText(box.adjusted(8, 0, -4, 0), Qt.AlignmentFlag.AlignVCenter, text)
        p.restore()
        p.setPen(QPen(QColor(c.line), 1))
        p.drawLine(NAMES - 1, 0, NAMES - 1, self._height())

    # keys and mouse
    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None or self.schedule is None:
            return
        key, now = event.key(), self.current()
        shift = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(key), 0)
        jump = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(Qt.Key(key), 0)
        if step and shift and now is not None:
            self.moved.emit(now, now.day + step)
        elif step:
            self._step(step)
        elif jump:
            self._jump(jump)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and now is not None:
            self.opened.emit(now)
        elif key == Qt.Key.Key_Delete and now is not None:
            self.dropped.emit(now)
        elif key == Qt.Key.Key_Home:
            self.go_today()
        else:
            super().keyPressEvent(event)

    def _step(self, step: int) -> None:
        if not self.clients:
            return
        days = self.planned.get(self.clients[self.row], ())
        if not days:
            return
        if self.at < 0:
            today = self.schedule.today if self.schedule is not None else 0
            self.at = min(range(len(days)), key=lambda k: (abs(days[k].day - today), k))
        else:
            self.at = min(max(self.at + step, 0), len(days) - 1)
        self._shown()

    def _jump(self, jump: int) -> None:
        now = self.current()
        today = self.schedule.today if self.schedule is not None else 0
        day, station = (now.day, now.station) if now is not None else (today, "")
        self.row = min(max(self.row + jump, 0), max(len(self.clients) - 1, 0))
        days = self.planned.get(self.clients[self.row], ()) if self.clients else []
        near = [(abs(d.day - day), d.station != station, k) for k, d in enumerate(days)]
        self.at = min(near)[2] if near else -1
        self._shown()

    def _shown(self) -> None:
        """Scroll to the mark and tell of it."""
        now, across, down = self.current(), self.horizontalScrollBar(), self.verticalScrollBar()
        if across is not None and down is not None:
            y = self._y(self.row)
            if y < HEAD:
                down.setValue(down.value() - (HEAD - y))
            elif y + self.row_height > self._height():
                down.setValue(down.value() + y + self.row_height - self._height())
            if now is not None:
                x = self._x(now.day)
                if x < NAMES + self.day_width or x + 2 * self.day_width > self._width():
                    across.setValue(across.value() + x - (NAMES + self._width()) // 2)
        self._say()
        self._repaint()

    def _say(self) -> None:
        now = self.current()
        said = day_note(now, self.catalogue) if now is not None else self.client()
        self.setAccessibleDescription(said)
        self.chosen.emit(now)

    def _at(self, at: QPoint) -> tuple[int, PlannedDay | None]:
        row = (at.y() - HEAD + self._top()) // self.row_height
        if at.y() < HEAD or not 0 <= row < len(self.clients):
            return -1, None
        found = [
            d
            for d in self.planned.get(self.clients[row], ())
            if self.mark_of(d).adjusted(-2, -1, 2, 1).contains(at)
        ]
        return row, found[0] if found else None

    def choose_row(self, client: int) -> None:
        """Set the mark on the row of a client."""
        if client in self.clients and self.clients[self.row] != client:
            self.row, self.at = self.clients.index(client), -1
            self._shown()

    def choose(self, d: PlannedDay) -> None:
        """Set the mark on a planned day."""
        if d.client in self.clients:
            self.row = self.clients.index(d.client)
            days = self.planned.get(d.client, ())
            self.at = days.index(d) if d in days else -1
            self._shown()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None or event.button() != Qt.MouseButton.LeftButton:
            return
        row, found = self._at(event.position().toPoint())
        if row < 0:
            return
        self.row = row
        days = self.planned.get(self.clients[row], ())
        self.at = days.index(found) if found is not None else -1
        if found is not None and found.state not in ("done", "missed"):
            self._drag = found, found.day
        self._say()
        self._repaint()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None or self._drag is None:
            return
        day = self._day_at(event.position().toPoint().x())
        if day != self._drag[1]:
            self._drag = self._drag[0], day
            self._repaint()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        drag, self._drag = self._drag, None
        if drag is not None and drag[1] != drag[0].day:
            self.moved.emit(drag[0], drag[1])
        self._repaint()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        now = self.current()
        if now is not None:
            self.opened.emit(now)

    def viewportEvent(self, event: QEvent | None) -> bool:
        if isinstance(event, QHelpEvent):
            _, found = self._at(event.pos())
            viewport: QWidget | None = self.viewport()
            text = day_note(found, self.catalogue) if found is not None else ""
            QToolTip.showText(event.globalPos(), text, viewport)
            return True
        return super().viewportEvent(event)
