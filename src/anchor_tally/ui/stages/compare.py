"""Compare: the offset ladder, and the difference plot of the chosen rung."""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QButtonGroup, QHBoxLayout, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from ...analysis.agreement.agreement import CompareResult, LadderRequest
from ...analysis.agreement.agreement_forms import AgreementFormsRequest
from ...analysis.agreement.evidence import explain
from ...analysis.pairs.comparator import CONSENSUS, substitutes
from ...app.jobs import Job
from ...domain.lens import Lens
from ...domain.snapshot import Snapshot
from ...figures import difference, forms, ladder
from ...figures.style import Mark, Palette, marks_of
from ...wording import sentences
from ...wording.notes import sentence
from ...wording.statistics import EXPLANATIONS, rows
from ...wording.views import closeness_words
from ..instrument_page import WIDE_ENOUGH
from ..pages import EvidenceFor, Surroundings
from ..question_page import QuestionPage
from ..widgets import Flow, Table, label
from .views.view import ViewTabs

if TYPE_CHECKING:
    from ..canvas import FigureView


class CompareStage(QuestionPage):
    """Which instruments are close to the reference?"""

    owner, words = "compare", "Comparing"
    formed = pyqtSignal()  # another form is on the screen

    def __init__(self, around: Surroundings) -> None:
        super().__init__(around)
        self.results: tuple[CompareResult, ...] = ()
        self.chosen = 0
        self.point: int | None = None
        self.crowded = False
        self.info: difference.DifferenceInfo | None = None
        self.keys: list[str] = []
        self.headline = label("Reading the study…", "headline", wrap=True)
        self.under = label("", "faint", wrap=True)
        self.notes = label("", "faint", wrap=True)
        self.table = Table(["Statistic", "Value", "95 % interval"], "Statistics of the chosen instrument")
        self.table.setMaximumWidth(410)
        self.table.setMinimumWidth(360)
        self.table.opened.connect(lambda row, _column: self._open(self.keys[row]))
        self.ladder: FigureView | None = None
        self.plot: FigureView | None = None
        self.form = "difference"
        self.form_tabs = QWidget()
        row, group = Flow(4), QButtonGroup(self)
        for key, words in forms.FORMS:
            button = QPushButton(words)
            button.setObjectName("tab")
            button.setCheckable(True)
            button.setChecked(key == self.form)
            button.clicked.connect(lambda _=False, k=key: self.choose_form(k))
            group.addButton(button)
            row.addWidget(button)
        self.form_tabs.setLayout(row)
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
        self.tabs = ViewTabs("compare")
        self.tabs.wanted.connect(self.wanted)
        for w in (self.tabs, self.headline, self.under):
            box.addWidget(w)
        box.addLayout(lower, 1)
        self.spare = QWidget()  # keeps the words on top when there is nothing to draw
        box.addWidget(self.spare, 1)
        self.substitute = QPushButton("")
        self.substitute.setAccessibleName("Compare with what is not a reference")
        self.substitute.clicked.connect(self._use_substitute)
        self.substitute.hide()
        box.insertWidget(3, self.substitute, 0, Qt.AlignmentFlag.AlignLeft)
        self.spare.hide()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def refresh(self) -> None:
        self.tabs.stay()
        super().refresh()

    def request(self, snapshot: Snapshot, lens: Lens) -> Generator[Any, None, Any]:
        return LadderRequest(snapshot, lens, kept=self.results).run()

    def set_palette(self, palette: Palette) -> None:
        super().set_palette(palette)
        self._paint()

    def no_answer(self, text: str) -> None:
        self.results = ()
        self.headline.setText(text[0].upper() + text[1:] + ".")
        self.under.setText(
            "Without a scan nobody can say which device is right; how they differ from each other, and how they repeat, can be seen."
            if self._offer_substitute()
            else "Import readings with a reference, or choose another metric in the lens bar."
        )
        self.table.fill([])
        self.notes.setText("")
        self.side.hide()
        self.spare.show()
        for figure in (self.ladder, self.plot):
            if figure is not None:
                figure.hide()
        self.shown.emit()

    def _offer_substitute(self) -> bool:
        """Offer what could stand in for a reference where the lens names none."""
        found = substitutes(self.session.readers(self.session.lens.metric)) if not self.session.writing else ()
        devices = [n for n in found if n != CONSENSUS.name]
        offer = found[0] if len(devices) > 1 and self.session.lens.reference is None else ""
        self.substitute.setText(f"Compare with {offer} (not a reference)")
        self.substitute.setProperty("name", offer)
        self.substitute.setVisible(bool(offer))
        return bool(offer)

    def _use_substitute(self) -> None:
        self.session.look(replace(self.session.lens, reference=self.substitute.property("name")))

    def answer(self, result: Any) -> None:
        self.substitute.hide()
        name = self.results[self.chosen].pairs.instrument.name if self.chosen < len(self.results) else None
        self.results = result
        names = [r.pairs.instrument.name for r in self.results]
        self.chosen = names.index(name) if name in names else 0
        self.point = None
        if not self.results:
            self.no_answer("no device or method has readings of this metric")
            return
        self._figures()
        self.spare.hide()
        self.side.setVisible(not self.crowded)
        self._paint()
        self.shown.emit()

    def _figures(self) -> tuple[FigureView, FigureView]:
        """Ladder and difference plot, made when they are first needed."""
        if self.ladder is None or self.plot is None:
            from ..canvas import FigureView

            self.ladder = FigureView("Offset ladder", (150, 20, 52, 8))
            self.plot = FigureView("Difference plot", (66, 136, 54, 10))
            self.ladder.clicked.connect(self._rung_clicked)
            self.ladder.stepped.connect(lambda step: self.choose(self.chosen + step))
            self.ladder.opened.connect(lambda: self._open("bias"))
            self.plot.clicked.connect(self._point_clicked)
            self.plot.stepped.connect(self._step_point)
            self.plot.opened.connect(self._open_point)
            self.figures.addWidget(self.ladder, 5)
            self.figures.addWidget(self.form_tabs)
            self.figures.addWidget(self.plot, 6)
            self.ladder.setFocus()
        self.ladder.show()
        self.plot.show()
        return self.ladder, self.plot

    def marks(self) -> tuple[Mark, ...]:
        """The mark of each result's instrument."""
        known = marks_of(self.session.catalogue().instruments.values(), self.colours)
        return tuple(known(r.pairs.instrument) for r in self.results)

    def _paint(self) -> None:
        if not self.results or self.ladder is None or self.plot is None:
            return
        r, marks = self.results[self.chosen], self.marks()
        self.headline.setText(sentences.headline(r))
        self.under.setText(sentences.pairs_sentence(r) + "  Choose a rung, then a point: every number opens up to its readings.")
        lines = rows(r)
        self.keys = [line[0] for line in lines]
        if self.form == "difference" or r.forms is None:
            self.table.fill([line[1:] for line in lines], tips=[EXPLANATIONS[key].help for key in self.keys])
        else:
            other = closeness_words(r)
            self.keys = ["bias"] * len(other)
            self.table.fill([(x.name, x.value, x.interval) for x in other])
        self.notes.setText("\n".join(sentence(n) for n in r.notes))
        what = ladder.info(self.results)
        self.ladder.redraw(lambda axes, family: ladder.draw(axes, what, marks, self.chosen, self.colours, family))
        self._paint_plot()

    def _paint_plot(self) -> None:
        if self.plot is None:
            return
        if self.form != "difference":
            self._paint_form()
            return
        info = self.info = difference.info(self.results[self.chosen])
        mark = self.marks()[self.chosen]
        self.plot.redraw(lambda axes, family: difference.draw(axes, info, mark, self.colours, family, self.point))

    def choose_form(self, form: str) -> None:
        """Show closeness in another form; it is computed when it is first asked for."""
        self.form, self.point = form, None
        self._paint()

    def _paint_form(self) -> None:
        r, mark, form = self.results[self.chosen], self.marks()[self.chosen], self.form
        if r.forms is None:
            self._ask_forms(r)
            return
        what = forms.info(r, form)
        if self.plot is not None:
            self.plot.redraw(lambda axes, family: forms.draw(axes, what, mark, self.colours, family, self.point))

    def _ask_forms(self, r: CompareResult) -> None:
        metric, scan = r.pairs.metric, r.reference_trend.reference

        def away(snapshot: Snapshot) -> Generator[float, None, Any]:
            return AgreementFormsRequest(snapshot, r.pairs, r.bias, r.sd, scan, r.fit, r.grid).run()

        def done(found: Any) -> None:
            whole = replace(r, forms=found, notes=(*r.notes, *found.notes))
            self.results = tuple(whole if x is r else x for x in self.results)
            self._paint()
            self.formed.emit()

        job = Job("Other forms", lambda: self.session.snapshot_steps(metric), away)
        self.jobs.start("forms", job, done, lambda text: self.message.emit(text, True))

    def choose(self, k: int) -> None:
        """Choose rung ``k``."""
        if 0 <= k < len(self.results):
            self.chosen, self.point = k, None
            self._paint()

    def _rung_clicked(self, event: Any) -> None:
        if event.ydata is not None:
            self.choose(round(-event.ydata))

    def _point_clicked(self, event: Any) -> None:
        if event.xdata is not None and self.info is not None and self.plot is not None and self.form == "difference":
            found = difference.nearest(self.info, self.plot.axes.transData.transform, event.x, event.y)
            if found is not None:
                self._choose_point(found)

    def _step_point(self, step: int) -> None:
        if self.info is not None:
            found = difference.step(self.info, self.point, step)
            if found is not None:
                self._choose_point(found)

    def _choose_point(self, k: int) -> None:
        self.point = k
        self._paint_plot()
        self._open(f"pair:{k}")

    def _open_point(self) -> None:
        if self.point is not None:
            self._open(f"pair:{self.point}")

    def _open(self, key: str) -> None:
        r = self.results[self.chosen]
        self.evidence.emit(EvidenceFor(r.pairs.instrument.name, explain(r, key)))

    def drawer_open(self, is_open: bool) -> None:
        window = self.window()
        self.crowded = is_open and window is not None and window.width() < WIDE_ENOUGH
        self.side.setVisible(bool(self.results) and not self.crowded)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() == Qt.Key.Key_Escape and self.results:
            self.point = None
            self._paint_plot()
        super().keyPressEvent(event)
