"""Track: one client through time."""

from __future__ import annotations

import time
from collections.abc import Generator, Sequence
from datetime import date
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QApplication, QComboBox, QLineEdit, QPushButton, QWidget

from ...analysis.agreement.hydration import FAT, WATER
from ...analysis.people.withheld import withheld
from ...analysis.time.best_estimate_result import BestEstimateResult
from ...analysis.time.client_series import TrackSeries
from ...analysis.time.group_levels import GroupResult
from ...analysis.time.study_model import FAR
from ...analysis.time.track import GIRTHS, MASS, TrackRequest, TrackResult
from ...app.find import Found
from ...app.plan import planned_steps
from ...domain.events import Event
from ...domain.lens import Lens
from ...domain.records import Instrument
from ...domain.snapshot import Snapshot
from ...figures import best_course
from ...figures import track as figures
from ...figures.style import Palette, marks_of
from ...study.edits.events import AddEvent, RemoveEvent, SetGoal
from ...wording import group_levels as group_words
from ...wording import track as words
from ...wording.best_estimate import (
    SHARE_HEADS,
    basis_words,
    beside_words,
    evidence_words,
    left_out_words,
    share_lines,
)
from ...wording.names import short_name
from ...wording.numbers import day_of
from ...wording.statistics import Line
from ..instrument_page import InstrumentPage
from ..pages import EvidenceFor, Surroundings
from ..widgets import Flow, label, letters_wide, paired
from .all_clients import AllClients
from .client_events import ClientEvents
from .client_page_button import ClientPageButton

if TYPE_CHECKING:
    from ..canvas import FigureView

WATERS = (("not corrected", "off"), ("1 : 1", "rule"), ("fitted slope", "slope"))


HEADS = ("Figure", "Value", "95 % interval")
ALL_SOURCES = "All sources"
# pixels of the table, least and most, of one client and of all clients
SIDE, WIDE_SIDE = (430, 470), (500, 500)


class TrackPage(InstrumentPage[TrackSeries, TrackResult]):
    """One client: a click into the picture takes the first date, the next one the second."""

    owner, figure_name, words = "track", "One client through time", "Computing the client's course"
    missing = "Track needs a client with readings of this metric."
    margins = (58, 18, 48, 10)

    def __init__(self, around: Surroundings) -> None:
        super().__init__(around)
        self.result: TrackResult | None = None
        self.combining = True  # all sources are shown, where they can be combined
        self.names.chosen.disconnect(self.choose)
        self.names.chosen.connect(self.choose_shown)
        self.everyone = AllClients(self.session, self.jobs, self)
        self.everyone.changed.connect(self._group_changed)
        self.everyone.refused.connect(lambda text: self.message.emit(text, False))
        self.table.opened.connect(lambda k, _column: self._row_opened(k))
        self.hand = ""
        self.since: int | None = None
        self.until: int | None = None
        self._next = "since"
        self._before: tuple[int | None, int | None, str] | None = (
            None  # the dates before the last click,
        )
        self._clicked = 0.0  # and when that was
        self._asking: dict[str, Any] = {}
        self.place: FigureView | None = None
        self.client, self.water, self.in_hand = QComboBox(), QComboBox(), ""
        letters_wide(self.client, 10)
        self.client.activated.connect(lambda _k: self.follow(self.client.currentText()))
        for text, data in WATERS:
            self.water.addItem(text, data)
        self.water.activated.connect(lambda _k: self.ask())
        self.from_, self.to, self.goal = QLineEdit(), QLineEdit(), QLineEdit()
        for field, width in ((self.from_, 92), (self.to, 92), (self.goal, 60)):
            field.setFixedWidth(width)
        self.from_.editingFinished.connect(self._dates_typed)
        self.to.editingFinished.connect(self._dates_typed)
        self.goal.editingFinished.connect(self._set_goal)
        self.page_button = ClientPageButton(self.session, self.jobs)
        self.page_button.told.connect(self.message)
        self.client.currentTextChanged.connect(self.page_button.follow)
        row = Flow(6)
        for part in (
            paired("&Client", self.client, "Client"),
            paired("from", self.from_, "First date"),
            paired("to", self.to, "Second date"),
            paired("water", self.water, "Correct for water"),
            paired("goal", self.goal, "Goal"),
            self.everyone.button,
            self.everyone.order,
            self.page_button,
        ):
            row.addWidget(part)
        self.choices = QWidget()
        self.choices.setLayout(row)
        self.column.insertWidget(0, self.choices)
        self.cautions = label("", "warn", wrap=True)
        self.column.insertWidget(3, self.cautions)
        self.cautions.hide()
        self.decide = QPushButton("&Decide in Review")
        self.decide.setToolTip("Readings of this client wait for a decision")
        self.decide.clicked.connect(lambda: self.wanted.emit("review"))
        self.decide.hide()
        row.addWidget(self.decide)
        self.events = ClientEvents()
        self.events.noted.connect(self._note)
        self.events.deleted.connect(lambda number: self.edit(RemoveEvent(number)))
        self.column.addWidget(self.events)

    # asking
    def metrics(self) -> tuple[str, ...]:
        metric = self.session.lens.metric
        beside = (MASS, *GIRTHS, *((WATER,) if metric == FAT else ()))
        there = set(self.session.metrics_known()) if not self.session.writing else set()
        return (metric, *(m for m in beside if m != metric and m in there))

    def _now(self) -> tuple[Any, ...]:
        if self.session.writing:
            return super()._now()
        around = (
            self.session.events(),
            self.session.goals(),
            tuple(self.session.calibrations()),
            self.session.scheme(),
            self.session.confirmed(),
        )
        return (
            *super()._now(),
            *around,
            self.client.currentText(),
            self.hand,
            self.since,
            self.until,
            self.water.currentData(),
        )

    def refresh(self) -> None:
        codes = self.session.codes_by_last_visit() if not self.session.writing else []
        shown = self.session.lens.clients
        codes = sorted(c for c in codes if shown is None or c in shown)
        if [self.client.itemText(k) for k in range(self.client.count())] != codes:
            before = self.client.currentText()
            self.client.clear()
            self.client.addItems(codes)
            self.client.setCurrentIndex(
                max(codes.index(before) if before in codes else 0, 0) if codes else -1
            )
        if self.in_hand in codes and self.in_hand != self.client.currentText():
            self.client.setCurrentText(self.in_hand)
            self.since = self.until = None
        self.in_hand = ""
        super().refresh()

    def ask(self) -> None:
        """Collect what belongs to the readings in this thread; the worker sees copies only."""
        if not self.session.writing:
            code, metric = self.client.currentText(), self.session.lens.metric
            records = tuple(self.session.calibrations())
            self._asking = {
                "client": code,
                "records": records,
                "stale": frozenset(
                    r.id for r in records if r.metric == metric and self.session.stale(r)
                ),
                "events": self.session.events(),
                "instrument": self.hand,
                "since": self.since,
                "until": self.until,
                "whole": False,
                "water": self.water.currentData(),
                "goal": self.session.goal_of(code, metric),
                "today": self.session.today(),
            }
        super().ask()

    def gather(self, metrics: tuple[str, ...]) -> Generator[float, None, Snapshot]:
        asking = self._asking
        if asking.get("since") is not None:  # dates were chosen
            asking["planned"] = yield from planned_steps(self.session, asking["client"])
        return (yield from super().gather(metrics))

    def request(self, snapshot: Snapshot, lens: Lens) -> Generator[float, None, TrackResult]:
        return TrackRequest(snapshot, lens, **self._asking).run()

    def take_client(self, code: str) -> None:
        self.in_hand = code  # chosen when the list of clients is filled

    def follow(self, code: str) -> None:
        """Follow a client, over the last four weeks."""
        self.everyone.button.setChecked(False)
        self.client.setCurrentText(code)
        self.since = self.until = None
        self._next = "since"
        self.ask()

    def show_found(self, found: Found) -> None:
        if found.kind == "client":
            self.follow(found.key)

    # showing
    def answer(self, found: TrackResult) -> None:
        self.result = found
        self.results = found.series
        self.everyone.fetch()
        names = [s.instrument.name for s in found.series]
        self.show_results(names.index(found.chosen) if found.chosen in names else 0)

    # all clients
    def _group_changed(self) -> None:
        """Show the client, or all clients."""
        alone = self.everyone.found is None
        least, most = SIDE if alone else WIDE_SIDE
        self.table.setMinimumWidth(least)
        for part in (self.side, self.table):
            part.setMaximumWidth(most)
        if alone and self.result is None:
            self.ask()  # nothing may be shown of this client: the page says why again
            return
        if not alone:
            self.spare.hide()
            self.remedy.hide()
            self.side.setVisible(not self.crowded)
            self._figure().show()
        self.names.setVisible(alone and len(self.results) > 1)
        self.events.setVisible(alone and not self.session.read_only and self.result is not None)
        self.paint()
        self.shown.emit()

    def _paint_group(self, r: GroupResult) -> None:
        self.headline.setText(group_words.headline(r))
        self.under.setText(group_words.under(r))
        self.table.fill(self.everyone.lines(), group_words.heads(r.metric))
        self.every.hide()
        self.cautions.hide()
        self.decide.setVisible(bool(r.waiting))
        self.notes.setText(words.CAUTION)
        if self.place is not None:
            self.place.hide()
        self._figure().redraw(self.everyone.draw, self.colours, self.everyone.content)

    def _row_opened(self, k: int) -> None:
        """Enter or a click on a client of the group shows this client."""
        if self.everyone.found is not None:
            self.follow(self.everyone.rows()[k].client.code)

    def no_answer(self, text: str) -> None:
        self.result = None
        super().no_answer(text)
        client = self.session.catalogue().client_coded(self.client.currentText())
        if withheld(client, self.session.lens.metric):  # no reading that is entered would help
            self.under.setText("Choose body mass, a girth or a sum of skinfolds under Metric.")
            self.remedy.hide()
        self.cautions.hide()
        self.decide.hide()
        self.events.hide()
        if self.place is not None:
            self.place.hide()

    def instrument_of(self, result: TrackSeries) -> Instrument:
        return result.instrument

    @property
    def combined(self) -> bool:
        """Whether the picture and the sentences are those of all sources."""
        r = self.result
        return r is not None and r.best is not None and self.combining

    def choices_shown(self) -> list[str]:
        return [*([ALL_SOURCES] if self._offered else []), *super().choices_shown()]

    @property
    def _offered(self) -> bool:
        """Whether all sources come before the instruments."""
        return self.result is not None and self.result.best is not None

    def mark_choice(self) -> None:
        self.names.mark(0 if self.combined else self.chosen + self._offered)

    def choose_shown(self, k: int) -> None:
        """Choose all sources, or one instrument."""
        if k < self._offered:
            self.combining = True
            self.paint()
        else:
            self.choose(k - self._offered)

    def say(self, result: TrackSeries) -> str:
        r = self.result
        if r is None:
            return ""
        return words.track_headline(r) if self.combined else words.alone_headline(r)

    def lines(self, result: TrackSeries) -> Sequence[Line]:
        return words.track_lines(self.result) if self.result is not None else ()

    def fill_table(self, result: TrackSeries) -> None:
        if self.combined:
            self._fill_shares()
        else:
            super().fill_table(result)

    def _fill_shares(self) -> None:
        r = self.result
        if r is not None and r.best is not None:
            self.table.fill(share_lines(r.best), SHARE_HEADS)
            self.every.hide()

    def notes_of(self, result: TrackSeries) -> str:
        return self._notes()

    def _notes(self) -> str:
        r = self.result
        if r is None:
            return ""
        written = (
            [f"{day}: {text}" for day, text in self.session.remarks(r.client.code)]
            if not self.session.writing
            else []
        )
        parts = (
            *(
                (basis_words(r.best), beside_words(r.best), left_out_words(r.best))
                if self.combined and r.best is not None
                else ()
            ),
            words.place_words(r.place),
            "" if self.combined else words.track_notes(r),
            *(["Entered: " + "; ".join(written)] if written else []),
            words.CAUTION,
        )
        return "\n".join(x for x in parts if x)

    def paint(self) -> None:
        if self.everyone.found is not None:
            self._paint_group(self.everyone.found)
            return
        r = self.result
        if r is None:
            return
        self.table.fill([], HEADS)
        if not self.results:  # scans only
            self.headline.setText(words.track_headline(r))
            self._figure().redraw(self.draw, self.colours, self.content)
            self._fill_shares()
            self.notes.setText(self._notes())
        super().paint()
        if r.best is not None and (self.combined or not self.results):
            self.headline.setText(words.track_headline(r))
            self._paint_whole(r.best)
        said = words.all_sources_words(r) if self.combined else words.alone_words(r)
        self.under.setText(said)
        self.decide.setVisible(any(words.review_words(r, alone=not self.combined)))
        caution = words.caution_words(r)
        self.cautions.setText(caution)
        self.cautions.setVisible(bool(caution))
        self.from_.setText(date.fromordinal(r.since).isoformat())
        self.to.setText(date.fromordinal(r.until).isoformat())
        self.goal.setText("" if r.goal is None else f"{r.goal:g}")
        self.goal.setEnabled(not self.session.read_only)
        self.water.setEnabled(r.water_offered)
        self.water.setCurrentIndex(max(self.water.findData(r.water), 0))
        self.events.setVisible(not self.session.read_only)
        self.events.show_events(e for e in r.events if e.client == r.client.id)
        self._paint_place()

    def _paint_whole(self, found: BestEstimateResult) -> None:
        """The course from all sources in the place of that of one device."""
        assert self.result is not None
        what = best_course.info(self.result, found)

        def paint(axes: Any, family: str, palette: Palette) -> None:
            items = self.session.catalogue().instruments
            known = marks_of(items.values(), palette)
            every = {i.name: known(i) for i in self.session.snapshot().instruments.values()}
            best_course.draw(axes, what, every, palette, family)

        self._figure().redraw(paint, self.colours, lambda: what)

    def _paint_place(self) -> None:
        r = self.result
        place = r.place if r is not None else None
        if place is not None and self.place is None:
            from ..canvas import FigureView

            self.place = FigureView("Ranges of body fat by sex and age", (58, 18, 22, 2))
            self.place.setFixedHeight(74)
            self.picture.addWidget(self.place)
        if self.place is not None:
            self.place.setVisible(place is not None)
            if place is not None:
                self.place.redraw(
                    lambda axes, family, palette: figures.draw_place(
                        axes, place, self.mark(palette), palette, family
                    ),
                    self.colours,
                    lambda: place,
                )

    def content(self) -> object:
        return None if self.result is None else self._shown(self.result)

    def _shown(self, r: TrackResult) -> figures.TrackInfo:
        labels = {k: s.label for k, s in self.session.catalogue().settings.items()}
        return figures.info(r, labels)

    def draw(self, axes: Any, family: str, palette: Palette) -> None:
        r = self.result
        if r is None:
            return
        items = self.session.catalogue().instruments
        known = marks_of(items.values(), palette)
        reference = known(Instrument(0, "", "reference"))
        figures.draw(
            axes,
            self._shown(r),
            self.mark(palette) if self.results else reference,
            reference,
            palette,
            family,
        )

    # choosing
    def choose(self, k: int) -> None:
        self.combining = False
        if 0 <= k < len(self.results):
            self.hand = self.results[k].instrument.name
            self.chosen = k
            self.names.mark(k)
            self.ask()

    def clicked(self, event: Any) -> None:
        if event.xdata is None or self.result is None or self.everyone.found is not None:
            return
        if event.dblclick:
            if (
                self._before is not None
                and time.monotonic() - self._clicked < 1e-3 * QApplication.doubleClickInterval()
            ):
                self.since, self.until, self._next = (
                    self._before
                )  # its first click has moved a date, which is put back
                self.ask()
            self._before = None
            self._open_day(figures.ordinal_at(event.xdata))
            return
        at = figures.ordinal_at(event.xdata)
        self._before, self._clicked = (self.since, self.until, self._next), time.monotonic()
        if self._next == "since":
            self.since, self._next = at, "until"
            self.until = self.result.until if self.until is None else self.until
            self.until = None if self.until <= at else self.until
        else:
            self.until, self._next = at, "since"
            self.since = self.result.since if self.since is None else self.since
        self.ask()

    def drawer_open(self, is_open: bool) -> None:
        super().drawer_open(is_open)
        if self.result is not None:
            self.events.setVisible(not self.crowded and not self.session.read_only)
            if self.place is not None:
                self.place.setVisible(not self.crowded and self.result.place is not None)

    def _open_day(self, ordinal: int) -> None:
        if self.result is None:
            return
        best = self.result.best
        if best is not None and (self.combined or not self.results):
            at = min((x.day for x in best.weighed), key=lambda d: abs(d - ordinal))
            on_day = tuple(i for x in best.weighed if x.day == at for i in x.readings)
            title = f"{self.result.client.code}, {date.fromordinal(at).isoformat()}"
            self.evidence.emit(EvidenceFor(title, readings=tuple(dict.fromkeys(on_day))))
            return
        if not self.results:
            return
        s = self.results[self.chosen]
        near = int(abs(s.day - ordinal).argmin())
        day, name = date.fromordinal(int(s.day[near])).isoformat(), s.instrument.name
        ids: list[int] = []
        for v in self.session.visits_of(self.result.client.code):
            if v.start[:10] == day:
                own = self.session.readings(visit=v.id)
                ids += [
                    x.id for x in own if x.instrument == name and x.metric == self.result.metric
                ] or [x.id for x in own if s.instrument.equation]
        self.evidence.emit(
            EvidenceFor(
                f"{short_name(name)}: {self.result.client.code}, {day}", readings=tuple(ids)
            )
        )

    def open_point(self) -> EvidenceFor | None:
        r = self.result
        if r is not None and r.best is not None and self.combined:
            ids = [i for x in r.best.weighed for i in x.readings]
            title = f"{r.client.code}: what the value is made of"
            return EvidenceFor(
                title, readings=tuple(dict.fromkeys(ids)), formula=evidence_words(r.best)
            )
        if r is not None:
            self._open_day(r.until)
        return None

    def step(self, by: int) -> None:
        """Arrow keys move the second date by a day, from reading to reading."""
        if self.result is None or not self.results or self.everyone.found is not None:
            return
        shown = self.results if self.combined else self.results[self.chosen : self.chosen + 1]
        days = {d for s in shown for d in s.day.tolist()}
        at = self.result.until
        later = (
            sorted(d for d in days if d > at) if by > 0 else sorted(d for d in days if d < at)[::-1]
        )
        if later and later[0] > self.result.since:
            self.since, self.until = self.result.since, later[0]
            self.ask()

    def _dates_typed(self) -> None:
        try:
            since, until = (
                date.fromisoformat(f.text().strip()).toordinal() for f in (self.from_, self.to)
            )
        except ValueError:
            self.message.emit("A date is written as 2026-03-02.", True)
            return
        r = self.result
        if r is None or (since, until) == (r.since, r.until):
            return
        first, last = r.measured
        if not first - FAR <= since < until <= last + FAR:
            self.message.emit(
                f"{r.client.code} has readings from {day_of(first)} to {day_of(last)}: choose two"
                " days in between, the earlier one first.",
                True,
            )
            self.from_.setText(date.fromordinal(r.since).isoformat())
            self.to.setText(date.fromordinal(r.until).isoformat())
        else:
            self.since, self.until = since, until
            self.ask()

    # writing
    def _person(self) -> int:
        person = self.session.catalogue().client_coded(self.client.currentText())
        return person.id if person is not None else 0

    def _set_goal(self) -> None:
        text = self.goal.text().strip().replace(",", ".").rstrip("%").strip()
        before = "" if self.result is None or self.result.goal is None else f"{self.result.goal:g}"
        if text == before or self.result is None:
            return
        try:
            value = float(text) if text else None
        except ValueError:
            self.message.emit(f'"{text[:20]}" is not a number.', True)
            return
        self.edit(SetGoal(self._person(), self.result.metric, value))

    def _note(self, kind: str, remark: str) -> None:
        if self.result is None:
            return
        since, until = (
            date.fromordinal(x).isoformat() for x in (self.result.since, self.result.until)
        )
        if self.edit(AddEvent(Event(0, self._person(), None, since, until, kind, remark))):
            self.events.remark.clear()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() == Qt.Key.Key_Escape and self.result is not None:
            self.follow(self.client.currentText())  # the last four weeks again
        super().keyPressEvent(event)
