"""Calibrate: the forest of offsets, the board, adopting, and what was adopted before."""

from __future__ import annotations

from collections.abc import Generator
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QButtonGroup,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from ....analysis.offsets.adopt import needs_reason, record_of
from ....analysis.offsets.calibrate import CalibrateRequest, CalibrateResult
from ....analysis.offsets.versions import versions
from ....app.certificates import certificate_data
from ....domain.errors import UserError
from ....domain.lens import Lens
from ....domain.snapshot import Snapshot
from ....domain.text import as_sentence
from ....figures import forest
from ....figures.style import Mark, Palette, marks_of
from ....study.edits.calibrations import AdoptCalibration, WithdrawCalibration
from ....wording import offsets
from ....wording.board import board, offset_words
from ....wording.names import short_name
from ....wording.notes import sentence
from ....wording.numbers import day_words
from ...instrument_page import WIDE_ENOUGH
from ...long_text import LongText
from ...pages import EvidenceFor, Surroundings
from ...question_page import QuestionPage
from ...remedy import Remedy
from ...widgets import Choices, Table, label, tip
from .versions import Versions

if TYPE_CHECKING:
    from ...canvas import FigureView

VIEWS = (
    (
        "forest",
        "By client",
        "Offsets of one instrument, client by client, and errors on left-out scans",
    ),
    ("board", "Table", "Offsets of all devices as a table"),
    ("versions", "Versions", "Adopted offsets, comparison of two versions, certificates"),
)


class CalibrateStage(QuestionPage[tuple[CalibrateResult, ...]]):
    """What is to be subtracted, for whom, and does it help?"""

    owner, words = "calibrate", "Computing offsets"

    def __init__(self, around: Surroundings) -> None:
        super().__init__(around)
        self.results: tuple[CalibrateResult, ...] = ()
        self.chosen, self.row, self.view = 0, -1, "forest"
        self.crowded = self.tabled = False
        self.info: forest.ForestInfo | None = None
        self.painted: object = None  # what the pictures show
        self.forest: FigureView | None = None
        self.errors: FigureView | None = None
        self.headline = label("Reading the study…", "headline", wrap=True)
        self.under = label("", "faint", wrap=True)
        self.names = Choices()
        self.names.chosen.connect(self.choose)
        self.tabs = self._make_tabs()
        self.table = Table(["Offset for"], "Table of offsets")
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectItems)
        self.table.chosen.connect(lambda _row, column: self.choose(column - 1))
        self.table.opened.connect(self._open_cell)
        self.versions = Versions(partial(certificate_data, self.session))
        self.versions.withdrawn.connect(
            lambda number: self.edit(WithdrawCalibration(number), "Withdrawn. Undo restores it.")
        )
        self.versions.said.connect(lambda text: self.message.emit(text, False))
        self.pictures = QWidget()
        self.figures = QHBoxLayout(self.pictures)
        self.figures.setContentsMargins(0, 0, 0, 0)
        self.stack = QStackedWidget()
        for w in (self.pictures, self.table, self.versions):
            self.stack.addWidget(w)
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 12, 16, 10)
        top = QHBoxLayout()
        top.addWidget(self.names, 1)
        top.addWidget(self.tabs)
        box.addWidget(self.headline)
        box.addWidget(self.under)
        self.remedy = Remedy()
        self.remedy.wanted.connect(self.wanted)
        self.remedy.acted.connect(self.acted)
        self.remedy.scan_named.connect(self.name_scan)
        box.addWidget(self.remedy)
        box.addLayout(top)
        box.addWidget(self.stack, 1)
        box.addWidget(self._make_card())

    def _make_tabs(self) -> QWidget:
        tabs, row, group = QWidget(), QHBoxLayout(), QButtonGroup(self)
        row.setContentsMargins(0, 0, 0, 0)
        for k, (key, words, purpose) in enumerate(VIEWS):
            button = QPushButton(words)
            button.setObjectName("tab")
            button.setCheckable(True)
            button.setChecked(k == 0)
            tip(button, purpose)
            button.clicked.connect(lambda _=False, v=key: self.show_view(v))
            group.addButton(button)
            row.addWidget(button)
        tabs.setLayout(row)
        return tabs

    def _make_card(self) -> QWidget:
        self.advice = label("", "title", wrap=True)
        self.detail = LongText("Reasons for the advice")
        self.in_force = label("", "faint", wrap=True)
        self.reason = QLineEdit()
        self.reason.setPlaceholderText("reason for adopting against the advice")
        self.reason.setAccessibleName("Reason for adopting against the advice")
        self.reason.textChanged.connect(self._enable)
        self.adopt = QPushButton("Adopt this offset")
        self.adopt.setObjectName("primary")
        self.adopt.setEnabled(False)
        self.adopt.clicked.connect(self._adopt)
        card = QWidget()
        card.setObjectName("card")
        side = QVBoxLayout(card)
        for w in (self.advice, self.detail, self.in_force):
            side.addWidget(w)
        row = QHBoxLayout()
        row.addWidget(self.reason, 1)
        row.addWidget(self.adopt)
        row.addStretch(1)
        side.addLayout(row)
        return card

    # asking
    def request(
        self, snapshot: Snapshot, lens: Lens
    ) -> Generator[float, None, tuple[CalibrateResult, ...]]:
        return CalibrateRequest(snapshot, lens, kept=self.results).run()

    def refresh(self) -> None:
        super().refresh()
        if self.results:
            self._explain(
                paint=False
            )  # what is in force may have changed, and whether this answer still holds

    def no_answer(self, text: str) -> None:
        self.results = ()
        self.headline.setText(as_sentence(text))
        if not self.session.read_only:
            self.remedy.offer(self.session.possible_scans())
        self.under.setText(
            "Not enough data: an offset needs readings within a day of a scan. Without a scan,"
            " choose a field method as the reference in the filters; its offsets are provisional."
        )
        self.table.fill([])
        for place in (self.advice, self.detail, self.in_force):
            place.setText("")
        for w in (self.stack, self.names, self.tabs):
            w.hide()
        self._enable()
        self.shown.emit()

    def answer(self, found: tuple[CalibrateResult, ...]) -> None:
        if not found:
            self.no_answer("no device or method has readings of this metric")
            return
        before = (
            self.results[self.chosen].comparison.pairs.instrument.name
            if self.chosen < len(self.results)
            else ""
        )
        self.results = found
        names = [r.comparison.pairs.instrument.name for r in self.results]
        self.chosen, self.row = (names.index(before) if before in names else 0), -1
        self.remedy.hide()
        for w in (self.stack, self.names, self.tabs):
            w.show()
        self.tabled = False
        self.names.fill([short_name(n) for n in names])
        self._explain()
        self.shown.emit()

    # choosing
    def show_view(self, view: str) -> None:
        """Show the forest, the board or the versions."""
        self.view = view
        self.stack.setCurrentIndex([key for key, _, _ in VIEWS].index(view))
        self._explain()

    def choose(self, k: int) -> None:
        """Choose the instrument in column ``k``."""
        if 0 <= k < len(self.results):
            if k != self.chosen:
                self.reason.clear()
                self.row = -1
            self.chosen = k
            self._explain()

    def mark(self, palette: Palette | None = None) -> Mark:
        """The mark of the chosen instrument, in the present colours or in others."""
        palette = self.colours if palette is None else palette
        known = marks_of(self.session.catalogue().instruments.values(), palette)
        return known(self.results[self.chosen].comparison.pairs.instrument)

    def set_palette(self, palette: Palette) -> None:
        super().set_palette(palette)
        if self.results:
            self._paint()

    # showing
    def _explain(self, *, paint: bool = True) -> None:
        if not self.results:
            return
        r = self.results[self.chosen]
        name = r.comparison.pairs.instrument.name
        self.names.mark(self.chosen)
        self.headline.setText(offsets.offset_headline(r))
        self.under.setText(
            "Offset (device − scan) ± half of its 95 % CI; number of scans in brackets. Open a cell"
            " to see its readings."
            if self.view == "board"
            else (
                "Number of scans in brackets. Choose a row to see its readings. Offsets are shrunk"
                " towards the group mean, more so with fewer scans."
            )
        )
        self.under.setVisible(self.view != "versions" and not self.crowded)
        self.detail.setVisible(self.view != "versions" and not self.crowded)
        self.advice.setText(offsets.calibration_sentence(r))
        named = (n for n in r.comparison.notes if n.code in ("far_off", "far_off_more"))
        said = [sentence(n) for n in (*r.notes, *r.comparison.pairs.notes, *named)]
        words = [
            " ".join(said),
            f"{offsets.adopted_for(r, self.session.today())} {offsets.range_sentence(r)}".strip(),
        ]
        self.detail.setText("\n".join(w for w in words if w))
        found = (
            self.session.calibration_versions(name, r.comparison.pairs.metric)
            if not self.session.writing
            else []
        )
        newest = {
            c.setting: c for c, gone in found if not gone
        }.values()  # only of those in force it matters
        stale = frozenset(c.id for c in newest if self.session.stale(c))
        kept = versions(found, self.session.today(), stale)
        live = [v for v in kept if v.state not in ("superseded", "withdrawn")]
        self.in_force.setText(
            "In force: "
            + "; ".join(
                offsets.record_sentence(v.record) + offsets.state_words(v.state) for v in live
            )
            if live
            else "No offset adopted: readings are shown without correction."
        )
        if self.view == "versions":
            item, metric = r.comparison.pairs.instrument, r.comparison.pairs.metric
            self.versions.show_versions(item, kept, metric, read_only=self.session.read_only)
        if self.view == "board":
            self._fill_board()
        fresh = self.up_to_date(r.asked)
        self.adopt.setText(
            f"&Adopt the offset of {short_name(name).replace('&', '&&')}"
            if fresh
            else "Computing: the study or the filters changed"
        )
        self._enable()
        if paint:
            self._paint()

    def _fill_board(self) -> None:
        """Fill the table when it is looked at: many clients take a while."""
        if not self.tabled:
            b = board(self.results)
            self.table.fill(
                [(head, *cells) for head, cells in zip(b.rows, b.cells, strict=True)],
                ["Offset for", *b.columns],
            )
            self.tabled = True
        self.table.choose(max(self.table.row, 0), self.chosen + 1)

    def _paint(self) -> None:
        if self.view != "forest" or not self.results:
            return
        r = self.results[self.chosen]
        left, right = self._figures()
        self.info = forest.info(
            r,
            {k: c.code for k, c in self.session.catalogue().clients.items()},
            left.room(forest.ROW_HIGH),
        )
        what, bars = self.info, forest.errors(r)
        now = (what, bars, self.mark(), self.row, self.colours)
        if now == self.painted:  # an edit elsewhere leaves the picture as it is
            return
        self.painted = now
        left.redraw(
            lambda axes, family, palette: forest.draw(
                axes, what, self.mark(palette), self.row, palette, family
            ),
            self.colours,
            lambda: what,
        )
        right.redraw(
            lambda axes, family, palette: forest.draw_errors(
                axes, bars, self.mark(palette), palette, family
            ),
            self.colours,
            lambda: bars,
        )

    def _figures(self) -> tuple[FigureView, FigureView]:
        if self.forest is None or self.errors is None:
            from ...canvas import FigureView

            self.forest = FigureView("Offsets by client", (92, 16, 66, 22))
            self.errors = FigureView("Errors on left-out scans", (150, 8, 66, 22))
            self.forest.clicked.connect(self._clicked)
            self.forest.stepped.connect(lambda step: self.choose_row(self.row + step))
            self.forest.opened.connect(self._open_row)
            self.forest.resized.connect(self._paint)
            self.figures.addWidget(self.forest, 5)
            self.figures.addWidget(self.errors, 4)
        return self.forest, self.errors

    # evidence
    def _clicked(self, event: Any) -> None:
        if event.ydata is not None:
            self.choose_row(round(-event.ydata))

    def choose_row(self, row: int) -> None:
        """Choose a client of the forest and open the readings."""
        if self.info is not None and 0 <= row < len(self.info.trees):
            self.row = row
            self._paint()
            self._open_row()

    def _open_row(self) -> None:
        if self.info is not None and 0 <= self.row < len(self.info.trees):
            self._open(self.results[self.chosen], self.info.trees[self.row].client)

    def _open_cell(self, row: int, column: int) -> None:
        if column > 0 and self.results:
            self.choose(column - 1)
            self._open(self.results[column - 1], "" if row == 0 else self.table.text(row, 0))

    def _open(self, r: CalibrateResult, client: str) -> None:
        """The readings and scans behind one offset; "" for the pooled one."""
        pairs = r.comparison.pairs
        number = next(
            (k for k, c in self.session.catalogue().clients.items() if c.code == client), None
        )
        rows = np.flatnonzero(pairs.client == number) if client else np.arange(pairs.n)
        ids = [
            i
            for k in rows.tolist()
            for i in (
                pairs.parts[k] if pairs.parts and pairs.parts[k] else (int(pairs.reading[k]),)
            )
        ]
        for occasion in np.unique(pairs.occasion[rows]).tolist():
            ids += pairs.reference_rows[occasion]
        title = f"{pairs.instrument.name}: {client or 'all clients'}"
        said, source = offset_words(r, client)
        self.evidence.emit(
            EvidenceFor(title, readings=tuple(dict.fromkeys(ids)), formula=said, source=source)
        )

    def drawer_open(self, is_open: bool) -> None:
        window = self.window()
        self.crowded = is_open and window is not None and window.width() < WIDE_ENOUGH
        if self.errors is not None:
            self.errors.setVisible(not self.crowded)
        for w in (self.under, self.detail):
            w.setVisible(self.view != "versions" and not self.crowded)

    # adopting
    def _enable(self) -> None:
        """The offset can be adopted where there is one that holds.

        Against the advice only with a reason.
        """
        if not self.results:
            self.adopt.setEnabled(False)
            self.reason.hide()
            return
        r = self.results[self.chosen]
        can = (
            bool(r.offer and r.valid_until)
            and self.up_to_date(r.asked)
            and not self.session.read_only
        )
        self.reason.setVisible(needs_reason(r) and bool(r.offer and r.valid_until))
        self.adopt.setEnabled(can and (not needs_reason(r) or bool(self.reason.text().strip())))

    def _validity(self, until: str) -> str:
        day = day_words(until)
        return f"until {day}" if until >= self.session.today() else f"(expired on {day})"

    def _adopt(self) -> None:
        r = self.results[self.chosen]
        if not self.up_to_date(r.asked):  # what is adopted is what is on the screen, or nothing
            self.message.emit(
                "The study or the filters changed since these offsets were computed. Check the new"
                " ones first.",
                True,
            )
            self.refresh()
            return
        item = r.comparison.pairs.instrument
        try:
            reason = self.reason.text() if needs_reason(r) else ""
            record = record_of(r, self.session.catalogue(), self.session.now(), reason)
        except UserError as error:
            self.message.emit(str(error), True)
            return
        if self.edit(
            AdoptCalibration(record, item.kind, item.equation),
            f"Adopted: {item.name} is corrected in Record and Track"
            f" {self._validity(record.valid_until)}. Undo withdraws it.",
        ):
            self.reason.clear()
