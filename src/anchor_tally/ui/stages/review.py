"""Review: what does not look right, worst first, with its picture and what can be done about it."""

from __future__ import annotations

from collections.abc import Generator
from typing import TYPE_CHECKING, Any

from PyQt6.QtWidgets import QCheckBox, QLineEdit, QPushButton, QVBoxLayout, QWidget

from ...analysis.agreement.exclusions import ExclusionsRequest
from ...analysis.review import Finding, Material, ReviewRequest, ReviewResult
from ...app.find import Found
from ...app.jobs import Job
from ...domain.lens import Lens
from ...domain.text import as_sentence
from ...figures import timeline
from ...figures.style import Palette, marks_of
from ...study.edits.decisions import Decide, Reopen
from ...wording import review as words
from ..pages import EvidenceFor, Page, Surroundings
from ..widgets import Flow, Table, label

if TYPE_CHECKING:
    from ..canvas import FigureView

OWNER = "review"
NARROW = 1200  # pixels of the window below which the drawer leaves no room for all columns


class ReviewPage(Page):
    """The list is made anew, in the background, whenever the study changes.

    A decision asks for a reason and is kept.
    """

    def __init__(self, around: Surroundings) -> None:
        super().__init__(around)
        self.result: ReviewResult | None = None
        self.open_: tuple[Finding, ...] = ()
        self.looked_at: Any = None
        self.weighed: Lens | None = None
        self.headline = label("Checking the study…", "headline", wrap=True)
        self.under = label("", "faint", wrap=True)
        self.table = Table(
            ["Finding", "Severity", "Rule", "Subject", "Date"], "Findings", numeric_from=99
        )
        self.table.chosen.connect(lambda _row, _column: self._show_chosen())
        self.table.activated.connect(lambda _index: self._open_readings())
        self.decided = QCheckBox("Show decided findings")
        self.decided.clicked.connect(lambda _on: self._fill())
        self.advice = label("", wrap=True)
        self.reason = QLineEdit()
        self.reason.setPlaceholderText("reason (saved with the decision)")
        self.reason.setAccessibleName("Reason of the decision")
        self.keep = QPushButton("Leave as it is")
        self.exclude = QPushButton("Exclude")
        self.remeasure = QPushButton("Measure again")
        self.bench = QPushButton("Correct at the bench")
        self.again = QPushButton("Reopen finding")
        self.keep.clicked.connect(lambda: self._decide("keep"))
        self.exclude.clicked.connect(lambda: self._decide("exclude"))
        self.remeasure.clicked.connect(lambda: self._decide("again"))
        self.bench.clicked.connect(self._to_bench)
        self.again.clicked.connect(self._reopen)
        self.figure: FigureView | None = None
        self.picture = QVBoxLayout()
        card = QWidget()
        card.setObjectName("card")
        row = Flow()
        for w in (self.keep, self.exclude, self.remeasure, self.bench, self.again):
            row.addWidget(w)
        inside = QVBoxLayout(card)
        inside.addWidget(self.advice)
        inside.addWidget(self.reason)
        inside.addLayout(row)
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 12, 16, 10)
        for part in (self.headline, self.under):
            box.addWidget(part)
        box.addWidget(self.table, 3)
        box.addWidget(self.decided)
        box.addLayout(self.picture, 4)
        box.addWidget(card)
        self.card = card

    # asking
    def refresh(self) -> None:
        now = self.session.content()
        if now == self.looked_at or self.session.writing:
            self._fill()
            self._ask_what_exclusions_move()
            return
        self.looked_at = now
        job = Job("Reviewing", self.session.material_steps, self._away, background=True)
        self.jobs.start(OWNER, job, self._answer, self._failed)

    @staticmethod
    def _away(material: Material) -> Generator[Any, None, Any]:
        return ReviewRequest(material).run()

    def _failed(self, text: str) -> None:
        self.looked_at = None
        self.headline.setText(as_sentence(text))
        self.shown.emit()

    def _answer(self, result: ReviewResult) -> None:
        self.result, self.weighed = result, None
        self._fill()
        self._ask_what_exclusions_move()
        self.shown.emit()

    def _ask_what_exclusions_move(self) -> None:
        """The one thing here that hangs on the lens; asked when it is looked at."""
        lens = self.session.lens
        if (
            self.result is None
            or self.session.writing
            or self.weighed == lens
            or not self.isVisible()
        ):
            return
        self.weighed = lens
        self.under.setText("")
        if lens.metric in self.result.material.snapshot.columns:
            job = Job(
                "Effect of exclusions",
                lambda: self.session.snapshot_steps(lens.metric),
                lambda snapshot: ExclusionsRequest(snapshot, lens).run(),
                background=True,
            )
            self.jobs.start(
                "sensitivity",
                job,
                lambda found: self.under.setText(words.sensitivity_words(found)),
                lambda _text: None,
            )

    # showing
    def _fill(self) -> None:
        if self.result is None:
            return
        decisions = self.session.decisions()
        waiting = [f for f in self.result.found if f.key not in decisions]
        done = self.result.decided(decisions)
        self.open_ = tuple(done if self.decided.isChecked() else waiting)
        self.headline.setText(words.review_headline(waiting, len(decisions)))
        self.decided.setVisible(bool(done) or self.decided.isChecked())
        at = max(self.table.row, 0)
        self.table.fill([words.finding_row(f, self.result.material) for f in self.open_])
        self.table.choose(min(at, len(self.open_) - 1))
        self._show_chosen()
        self.counted.emit(len(waiting))

    def chosen(self) -> Finding | None:
        """The selected finding."""
        k = self.table.row
        return self.open_[k] if 0 <= k < len(self.open_) else None

    def _show_chosen(self) -> None:
        f = self.chosen()
        self.card.setVisible(f is not None)
        if self.figure is not None:
            self.figure.setVisible(f is not None)
        if f is None or self.result is None:
            return
        kept = self.session.decisions().get(f.key)
        self.advice.setText(words.advice_words(f, kept))
        writable = not self.session.read_only
        shown = (
            (self.keep, not kept),
            (self.exclude, not kept and bool(f.readings)),
            (self.remeasure, not kept and bool(f.visit)),
        )
        for w, on in (*shown, (self.again, bool(kept))):
            w.setVisible(on)
            w.setEnabled(writable)
        self.reason.setVisible(not kept)
        self.bench.setVisible(bool(f.visit))
        self._paint(f)

    def _paint(self, f: Finding) -> None:
        if self.result is None:
            return
        if self.figure is None:
            from ..canvas import FigureView

            self.figure = FigureView("Readings that the finding is about", (66, 36, 44, 26))
            self.figure.opened.connect(self._open_readings)
            self.picture.addWidget(self.figure)
        what = timeline.info(f, self.result.material, self.session.lens.metric)
        items = self.result.material.snapshot.instruments

        def paint(axes: Any, family: str, palette: Palette) -> None:
            known = marks_of(self.session.catalogue().instruments.values(), palette)
            marks = tuple(known(items[run.instrument]) for run in what.runs)
            timeline.draw(axes, what, marks, palette, family)

        self.figure.show()
        self.figure.redraw(paint, self.colours, lambda: what)

    def set_palette(self, palette: Palette) -> None:
        super().set_palette(palette)
        f = self.chosen()
        if f is not None:
            self._paint(f)

    def drawer_open(self, is_open: bool) -> None:
        window = self.window()
        narrow = is_open and window is not None and window.width() < NARROW
        self.table.leave_out(
            (2, 4) if narrow else ()
        )  # the sentence names the rule's matter, its picture the day

    def _open_readings(self) -> None:
        f = self.chosen()
        if f is None or self.result is None:
            return
        ids = f.readings
        if not ids and f.visit:
            ids = tuple(r.id for r in self.session.readings(visit=f.visit))
        if ids:
            self.evidence.emit(EvidenceFor(words.subject(f, self.result.material), readings=ids))

    # deciding
    def _decide(self, decision: str) -> None:
        f = self.chosen()
        if f is not None and self.edit(Decide(f.key, decision, self.reason.text(), f.readings)):
            self.reason.clear()

    def _reopen(self) -> None:
        f = self.chosen()
        if f is not None:
            self.edit(Reopen(f.key, f.readings))

    def _to_bench(self) -> None:
        f = self.chosen()
        if f is not None and self.result is not None:
            code = self.result.material.snapshot.clients[f.client].code
            self.opened.emit(Found("visit", str(f.visit), code, code))
