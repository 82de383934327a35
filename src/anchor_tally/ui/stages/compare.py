"""Compare: the offset ladder, and the difference plot of the chosen rung."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QSizePolicy, QVBoxLayout, QWidget

from ...analysis.compare import LadderRequest
from ...analysis.evidence import explain
from ...figures import difference, ladder
from ...figures.style import mark_of
from ...wording import sentences
from ..runner import Runner
from ..widgets import Table, label

_QUIET = ("passing_bablok_not_built",)


class CompareStage(QWidget):
    """Which instruments are close to the reference?"""

    evidence = pyqtSignal(object, str)
    shown = pyqtSignal()

    def __init__(self, session, palette):
        super().__init__()
        self.setObjectName("page")
        self.session, self.palette_ = session, palette
        self.results, self.chosen, self.point = (), 0, None
        self.asked = None
        self.crowded = False
        self.runner = Runner(self)
        self.runner.done.connect(self._show)
        self.runner.failed.connect(self._failed)
        self.headline = label("Reading the study…", "headline", wrap=True)
        self.under = label("", "faint", wrap=True)
        self.notes = label("", "faint", wrap=True)
        self.table = Table(["Statistic", "Value", "95 % interval"], "Statistics of the chosen instrument")
        self.table.setMaximumWidth(410)
        self.table.setMinimumWidth(360)
        self.table.cellClicked.connect(self._number)
        self.table.activated.connect(lambda index: self._number(index.row(), 0))
        self.ladder = self.plot = None
        self.figures = QVBoxLayout()
        lower = QHBoxLayout()
        lower.addLayout(self.figures, 1)
        side = QVBoxLayout()
        side.addWidget(self.table, 1)
        side.addWidget(self.notes)
        self.side = QWidget()
        self.side.setLayout(side)
        side.setContentsMargins(0, 0, 0, 0)
        self.side.setMaximumWidth(410)
        lower.addWidget(self.side)
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 12, 16, 10)
        box.addWidget(self.headline)
        box.addWidget(self.under)
        box.addLayout(lower, 1)
        self.spare = QWidget()  # keeps the words on top when there is nothing to draw
        box.addWidget(self.spare, 1)
        self.spare.hide()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def refresh(self):
        """Ask again when the study or the lens has changed."""
        key = (self.session.revision, self.session.lens)
        if key == self.asked:
            return
        self.asked = key
        self.runner.submit(LadderRequest(self.session.snapshot(), self.session.lens).run())

    def set_palette(self, palette):
        self.palette_ = palette
        self._paint()

    def _failed(self, text):
        self.results = ()
        self.headline.setText(text[0].upper() + text[1:] + ".")
        self.under.setText("Import readings with a reference, or choose another metric in the lens bar.")
        self.table.fill([])
        self.notes.setText("")
        self.side.hide()
        self.spare.show()
        if self.plot is not None:
            self.ladder.hide()
            self.plot.hide()
        self.shown.emit()

    def _show(self, results):
        name = self.results[self.chosen].pairs.instrument.name if self.results and self.chosen < len(self.results) else None
        self.results = results
        names = [r.pairs.instrument.name for r in results]
        self.chosen = names.index(name) if name in names else 0
        self.point = None
        if not results:
            self._failed("no device or method has readings of this metric")
            return
        if self.plot is None:
            self._make_figures()
        self.spare.hide()
        self.ladder.show()
        self.plot.show()
        self.side.setVisible(not self.crowded)
        self._paint()
        self.shown.emit()

    def _make_figures(self):
        from ..canvas import FigureView

        self.ladder = FigureView("Offset ladder", (150, 20, 52, 8))
        self.plot = FigureView("Difference plot", (66, 116, 54, 10))
        self.ladder.clicked.connect(self._rung_clicked)
        self.ladder.stepped.connect(lambda step: self.choose(self.chosen + step))
        self.ladder.opened.connect(lambda: self._open("bias"))
        self.plot.clicked.connect(self._point_clicked)
        self.plot.stepped.connect(self._step_point)
        self.plot.opened.connect(lambda: self.point is not None and self._open(f"pair:{self.point}"))
        self.figures.addWidget(self.ladder, 5)
        self.figures.addWidget(self.plot, 6)
        self.ladder.setFocus()

    def marks(self):
        items = self.session.snapshot().instruments.values()
        order = {item.id: k for k, item in enumerate(i for i in items if i.kind != "reference")}
        return tuple(mark_of(order.get(r.pairs.instrument.id, 0), self.palette_) for r in self.results)

    def _paint(self):
        if not self.results or self.plot is None:
            return
        r, marks = self.results[self.chosen], self.marks()
        self.headline.setText(sentences.headline(r))
        self.under.setText(sentences.pairs_sentence(r) + "  Choose a rung, then a point: every number opens up to its readings.")
        self.rows = sentences.rows(r)
        self.table.fill([row[1:] for row in self.rows])
        self.notes.setText("\n".join(sentences.sentence(n) for n in r.notes if n.code not in _QUIET))
        what = ladder.info(self.results)
        self.ladder.redraw(lambda axes, family: ladder.draw(axes, what, marks, self.chosen, self.palette_, family))
        self.shown_points = difference.info(r)
        self.plot.redraw(
            lambda axes, family: difference.draw(axes, self.shown_points, marks[self.chosen], self.palette_, family, self.point)
        )

    def choose(self, k):
        """Choose rung ``k``."""
        if 0 <= k < len(self.results):
            self.chosen, self.point = k, None
            self._paint()

    def _rung_clicked(self, event):
        if event.ydata is not None:
            self.choose(round(-event.ydata))

    def _point_clicked(self, event):
        if event.xdata is None or self.shown_points.x.size == 0:
            return
        at = self.plot.axes.transData.transform(np.column_stack([self.shown_points.x, self.shown_points.d]))
        gap = np.hypot(at[:, 0] - event.x, at[:, 1] - event.y)
        if gap.min() < 14:
            self._choose_point(int(gap.argmin()))

    def _step_point(self, step):
        order = np.argsort(self.shown_points.x, kind="stable")
        if order.size:
            where = int(np.flatnonzero(order == self.point)[0]) + step if self.point is not None else 0
            self._choose_point(int(order[where % order.size]))

    def _choose_point(self, k):
        self.point = k
        self._paint()
        self._open(f"pair:{k}")

    def _number(self, row, _column):
        self._open(self.rows[row][0])

    def _open(self, key):
        r = self.results[self.chosen]
        c = self.session.snapshot().columns[r.pairs.metric]
        parts = {int(i): p for i, p in zip(c.reading, c.parts, strict=False) if p}
        self.evidence.emit(explain(r, key, parts), r.pairs.instrument.name)

    def drawer_open(self, is_open):
        """Give the figures room when the drawer is open."""
        self.crowded = is_open and self.window().width() < 1500
        self.side.setVisible(bool(self.results) and not self.crowded)

    def keyPressEvent(self, event):
        if event.key() == Qt.Key.Key_Escape:
            self.point = None
            self._paint()
        super().keyPressEvent(event)
