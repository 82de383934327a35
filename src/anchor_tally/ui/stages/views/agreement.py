"""Agreement: the offset ladder, and the difference plot of the chosen device or method."""

from __future__ import annotations

from collections.abc import Generator, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QButtonGroup, QPushButton, QSizePolicy, QWidget

from ....analysis.agreement.agreement import CompareResult, LadderRequest, with_forms
from ....analysis.agreement.evidence import explain
from ....analysis.pairs.comparator import CONSENSUS, substitutes
from ....app.jobs import Job
from ....domain.lens import Lens
from ....domain.records import Instrument
from ....domain.snapshot import Snapshot
from ....figures import difference, forms, ladder
from ....figures.ladder import LadderInfo
from ....figures.style import Palette
from ....wording import sentences
from ....wording.statistics import EXPLANATIONS, rows
from ...pages import EvidenceFor, Surroundings
from ...widgets import Flow
from .view import ViewPage

if TYPE_CHECKING:
    from ...canvas import FigureView


class AgreementPage(ViewPage[CompareResult]):
    """Which instruments are close to the reference?

    The offset ladder, and the difference plot of the chosen device or method.
    """

    key, owner, figure_name = "compare", "compare", "Differences of all devices"
    words = "Comparing"
    margins = (150, 20, 52, 8)
    missing = "Import scan results, enter them under Record › Scan, or choose another metric."
    named = False
    formed = pyqtSignal()  # another form is on the screen

    def __init__(self, around: Surroundings) -> None:
        super().__init__(around)
        self.info: difference.DifferenceInfo | None = None
        self.keys: list[str] = []
        self.plot: FigureView | None = None
        self.form = "difference"
        self.table.fill([], ["Statistic", "Value", "95 % interval"])
        self.table.setAccessibleName("Statistics of the chosen instrument")
        self.table.setMinimumWidth(360)
        self.side.setMaximumWidth(410)
        self.table.opened.connect(lambda row, _column: self._open(self.keys[row]))
        self.column.setContentsMargins(16, 12, 16, 10)
        self.form_buttons: dict[str, QPushButton] = {}
        self.form_tabs = self._form_tabs()
        self.substitute = QPushButton("")
        self.substitute.setAccessibleName("Compare without a scan")
        self.substitute.clicked.connect(self._use_substitute)
        self.substitute.hide()
        self.column.insertWidget(3, self.substitute, 0, Qt.AlignmentFlag.AlignLeft)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def _form_tabs(self) -> QWidget:
        tabs = QWidget()
        row, group = Flow(4), QButtonGroup(self)
        for key, words in forms.FORMS:
            button = QPushButton(words)
            button.setObjectName("tab")
            button.setCheckable(True)
            button.setChecked(key == self.form)
            button.clicked.connect(lambda _=False, k=key: self.choose_form(k))
            group.addButton(button)
            row.addWidget(button)
            self.form_buttons[key] = button
        tabs.setLayout(row)
        return tabs

    @property
    def ladder(self) -> FigureView | None:
        """The offset ladder, once there was something to draw."""
        return self.figure

    # asking and saying
    def request(
        self, snapshot: Snapshot, lens: Lens
    ) -> Generator[float, None, Sequence[CompareResult]]:
        return LadderRequest(snapshot, lens, kept=self.results).run()

    def instrument_of(self, result: CompareResult) -> Instrument:
        return result.pairs.instrument

    def no_answer(self, text: str) -> None:
        if self.plot is not None:
            self.plot.hide()
            self.form_tabs.hide()
        super().no_answer(text)
        if self._offer_substitute():
            self.under.setText(
                "Without a scan, no device can be called right. You can compare devices with each"
                " other, and their repeats."
            )

    def _offer_substitute(self) -> bool:
        """Offer what could be compared with where the filters name no reference."""
        found = (
            substitutes(self.session.readers(self.session.lens.metric))
            if not self.session.writing
            else ()
        )
        devices = [n for n in found if n != CONSENSUS.name]
        offer = found[0] if len(devices) > 1 and self.session.lens.reference is None else ""
        self.substitute.setText(f"Compare with {offer} (not a reference)")
        self.substitute.setProperty("name", offer)
        self.substitute.setVisible(bool(offer))
        return bool(offer)

    def _use_substitute(self) -> None:
        self.session.look(replace(self.session.lens, reference=self.substitute.property("name")))

    def answer(self, found: Sequence[CompareResult]) -> None:
        self.substitute.hide()
        if found:
            super().answer(found)
        else:
            self.no_answer("no device or method has readings of this metric")

    # drawing
    def _figure(self) -> FigureView:
        first = self.figure is None
        ladder_ = super()._figure()
        if first:
            from ...canvas import FigureView

            self.plot = FigureView("Difference plot", (66, 136, 54, 10))
            self.plot.clicked.connect(self._point_clicked)
            self.plot.stepped.connect(self._step_point)
            self.plot.opened.connect(self._open_point)
            self.picture.setStretch(0, 5)
            self.picture.addWidget(self.form_tabs)
            self.picture.addWidget(self.plot, 6)
            ladder_.setFocus()
        if self.plot is not None:
            self.plot.show()
            self.form_tabs.show()
        return ladder_

    def paint(self) -> None:
        super().paint()
        if self.results:
            said = sentences.pairs_sentence(self.results[self.chosen])
            self.under.setText(f"{said} Choose a device, then a point, to see its readings.")
            self._paint_plot()

    def fill_table(self, result: CompareResult) -> None:
        if self.form == "difference" or result.forms is None:
            found = rows(result)
            tips = [EXPLANATIONS[key].help for key, _ in found]
            lines = [(x.name, x.value, x.interval) for _, x in found]
            shown = self.show_lines([x.main for _, x in found], lines, tips)
            self.keys = [found[k][0] for k in shown]
        else:
            super().fill_table(result)
            self.keys = ["bias"] * self.table.count

    def draw(self, axes: Any, family: str, palette: Palette) -> None:
        ladder.draw(axes, self.content(), self.marks(palette), self.chosen, palette, family)

    def content(self) -> LadderInfo:
        return ladder.info(self.results)

    def _paint_plot(self) -> None:
        if self.plot is None:
            return
        single = self.results[self.chosen].design == "single"
        self.form_buttons["percentiles"].setVisible(single)  # repeats have no percentile limits
        if self.form == "percentiles" and not single:
            self.form = "difference"
            self.form_buttons[self.form].setChecked(True)
        info = self.info = difference.info(self.results[self.chosen])
        if self.point is not None and self.point not in info.pair:
            self.point = None
        if self.form != "difference":
            self._paint_form()
            return
        self.plot.redraw(
            lambda axes, family, palette: difference.draw(
                axes, info, self.mark(palette), palette, family, self.point
            ),
            self.colours,
            lambda: info,
        )

    # other forms
    def choose_form(self, form: str) -> None:
        """Show agreement in another form; it is computed when it is first asked for."""
        self.form, self.point = form, None
        self.paint()

    def _paint_form(self) -> None:
        r, form = self.results[self.chosen], self.form
        if r.forms is None:
            self._ask_forms(r)
            return
        what = forms.info(r, form)
        if self.plot is not None:
            self.plot.redraw(
                lambda axes, family, palette: forms.draw(
                    axes, what, self.mark(palette), palette, family, self.point
                ),
                self.colours,
                lambda: what,
            )

    def _ask_forms(self, r: CompareResult) -> None:
        metric = r.pairs.metric

        def away(snapshot: Snapshot) -> Generator[float, None, tuple[CompareResult, ...]]:
            return with_forms(snapshot, (r,))

        def done(found: tuple[CompareResult, ...]) -> None:
            (whole,) = found
            self.results = tuple(whole if x is r else x for x in self.results)
            self.paint()
            self.formed.emit()

        job = Job("Other forms", lambda: self.session.snapshot_steps(metric), away)
        self.jobs.start("forms", job, done, lambda text: self.message.emit(text, True))

    # choosing
    def clicked(self, event: Any) -> None:
        if event.ydata is not None:
            self.choose(round(-event.ydata))

    def open_chosen(self) -> None:
        self._open("bias")

    def _point_clicked(self, event: Any) -> None:
        if (
            event.xdata is not None
            and self.info is not None
            and self.plot is not None
            and self.form == "difference"
        ):
            found = difference.nearest(
                self.info, self.plot.axes.transData.transform, event.x, event.y
            )
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
        if not self.results:
            return
        r = self.results[self.chosen]
        self.evidence.emit(EvidenceFor(r.pairs.instrument.name, explain(r, key)))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() == Qt.Key.Key_Escape and self.results:
            self.point = None
            self._paint_plot()
        super().keyPressEvent(event)
