"""Calendar: what is due, the planned and measured days of all clients, and the rules."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import replace
from datetime import date, timedelta

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from ....analysis.people.withheld import withheld
from ....analysis.plan.schedule import PlannedDay, Schedule, ordinal
from ....analysis.plan.trial_conditions import scan_conditions
from ....analysis.time.best_estimate import BestEstimateRequest
from ....analysis.time.best_estimate_result import BestEstimateResult
from ....app.jobs import Job
from ....app.plan import write_calendar
from ....app.session import Session
from ....app.sheets import sheets_of
from ....domain.errors import UserError
from ....domain.events import PERSON_EVENTS, Event
from ....domain.scheme import BLACKOUTS, MovedDay
from ....figures.style import Palette
from ....reports.visit_sheet import as_html
from ....study.edits.edit import Edit
from ....study.edits.events import AddEvent, RemoveEvent
from ....study.edits.scheme import MoveDay
from ....wording.best_estimate import next_words
from ....wording.names import event_words
from ....wording.notes import sentence
from ....wording.numbers import count, day_words
from ....wording.plan import day_note, due_words, iso, left_out_words, plan_headline
from ...paper import SIZES, write_pdf
from ...widgets import Flow, Table, label, letters_wide, paired
from .calendar_view import CalendarView
from .scheme_editor import SchemeEditor
from .tab import Tab

BEFORE, AFTER = timedelta(weeks=30), timedelta(weeks=52)
MOST_LISTED = 200  # due visits in the list; the calendar shows all
ZOOMS = (("6 weeks", 20), ("12 weeks", 12), ("26 weeks", 5))


class Calendar(Tab):
    """The calendar of the study. ``told`` carries the headline when it is known."""

    told = pyqtSignal(str)
    ready = pyqtSignal()
    advised = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.schedule: Schedule | None = None
        self.waiting: list[PlannedDay] = []
        self.events: list[Event] = []
        self._wanted: tuple[PlannedDay, int] | None = None
        self._asked = -1
        self._advised: tuple[str, int, str] = ("", -1, "")
        self._only, self._moved_at = 0, -1  # the client of a moved day, and the edit that it is
        self.client = 0  # whose row has the mark at first
        self.stack = QStackedWidget()
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 6, 0, 0)
        box.addWidget(self.stack)
        self.view: CalendarView | None = None
        self.editor = SchemeEditor(session)
        self.editor.edited.connect(self._edit)
        self.editor.trouble.connect(lambda text: self.message.emit(text, True))
        self.editor.closed.connect(self.show_calendar)
        self.page = self._build()
        self.stack.addWidget(self.page)
        self.stack.addWidget(self.editor)

    def _build(self) -> QWidget:
        page = QWidget()
        page.setObjectName("page")
        self.zoom, self.today = QComboBox(), QPushButton("Today")
        for words, width in ZOOMS:
            self.zoom.addItem(words, width)
        self.zoom.activated.connect(self._zoom)
        self.rules, self.export = QPushButton("Rules…"), QPushButton("Export…")
        self.rules.clicked.connect(self.show_rules)
        self.export.clicked.connect(self._export)
        self.kind, self.who = QComboBox(), QComboBox()
        for kind in PERSON_EVENTS:
            words = event_words(kind)
            self.kind.addItem(f"{words} (nothing planned)" if kind in BLACKOUTS else words, kind)
        letters_wide(self.kind, 16)
        self.starts, self.ends, self.note = QLineEdit(), QLineEdit(), QLineEdit()
        for field, words, hint in (
            (self.starts, "First day of the event", "2026-03-02"),
            (self.ends, "Last day of the event", "one day"),
            (self.note, "Note on the event", "note"),
        ):
            field.setAccessibleName(words)
            field.setPlaceholderText(hint)
            field.setMaximumWidth(110)
            field.returnPressed.connect(self._add_event)
        self.add_event = QPushButton("Add event")
        self.add_event.clicked.connect(self._add_event)
        self.noted = QComboBox()
        self.noted.setAccessibleName("Events")
        letters_wide(self.noted, 16)
        self.away = QPushButton("Delete event")
        self.away.clicked.connect(self._remove_event)
        top = Flow()
        for w in (self.rules, paired("Show", self.zoom), self.today, self.export):
            top.addWidget(w)
        line = Flow()
        line.addWidget(paired("Event", self.kind))
        line.addWidget(paired("of", self.who, "Whose event"))
        for w in (self.starts, self.ends, self.note, self.add_event, self.noted, self.away):
            line.addWidget(w)
        self.list = Table(["Due"], "What is due", numeric_from=9)
        self.list.setMaximumWidth(290)
        self.list.setMinimumWidth(230)
        self.list.chosen.connect(lambda row, _c: self._point(row))
        self.list.activated.connect(lambda index: self._measure(index.row()))
        self.left_out = label("", "faint", wrap=True)
        self.selected = label("", wrap=True)
        self.selected.setAccessibleName("Planned day under the mark")
        self.advice = label("", "faint", wrap=True)
        self.advice.setAccessibleName("What narrows most")
        self.advice.hide()
        self.measure = QPushButton("Measure now")
        self.earlier, self.later = QPushButton("A day earlier"), QPushButton("A day later")
        self.drop = QPushButton("Leave out")
        self.measure.clicked.connect(lambda: self._open(self._current()))
        self.earlier.clicked.connect(lambda: self._shift(-1))
        self.later.clicked.connect(lambda: self._shift(1))
        self.drop.clicked.connect(lambda: self._drop(self._current()))
        under = Flow()
        self.sheets, self.paper = QPushButton("Sheets of the day…"), QComboBox()
        self.paper.addItems(list(SIZES))
        self.paper.setAccessibleName("Paper of the sheets")
        self.named = QCheckBox("with names")
        self.sheets.clicked.connect(self._sheets)
        for w in (self.measure, self.earlier, self.later, self.drop, self.sheets, self.paper):
            under.addWidget(w)
        under.addWidget(self.named)
        self.legend = label(
            "Filled: done. Open: planned. Thick: due. !: overdue. ×: missed. Dot: measured, not"
            " planned. Arrow keys go from day to day; with Shift they move one.",
            "faint",
            wrap=True,
        )
        self.picture = QVBoxLayout()
        self.middle = QHBoxLayout()
        self.middle.setSpacing(12)
        self.middle.addWidget(self.list)
        self.middle.addLayout(self.picture, 1)
        box = QVBoxLayout(page)
        box.setContentsMargins(0, 0, 0, 0)
        box.addLayout(top)
        box.addLayout(self.middle, 1)
        box.addWidget(self.selected)
        box.addWidget(self.advice)
        box.addLayout(under)
        box.addLayout(line)
        box.addWidget(self.left_out)
        box.addWidget(self.legend)
        return page

    # showing
    def refresh(self) -> None:
        """Compute the calendar anew when anything that it is made of may have changed."""
        if self.session.writing:
            return
        self.editor.refresh()
        self._offer_people()
        if self._asked == self.session.edits and self.schedule is not None:
            self._tell()
            return
        self._asked = self.session.edits
        today = date.fromisoformat(self.session.today())
        first, last = (today - BEFORE).isoformat(), (today + AFTER).isoformat()
        # a day that was moved concerns one client: the others stay as they are
        only, self._only = self._only, 0
        kept = self.schedule if only and self._moved_at == self.session.edits else None
        job = Job(
            "Making the calendar",
            lambda: self.session.schedule_steps(first, last),
            lambda request: replace(request, kept=kept, only=only if kept else 0).run(),
        )
        assert self.jobs is not None
        self.jobs.start("calendar", job, self._answer, lambda text: self.message.emit(text, True))

    def _offer_people(self) -> None:
        items = self.session.catalogue()
        codes = ["all clients", *sorted(c.code for c in items.clients.values())]
        if [self.who.itemText(k) for k in range(self.who.count())] != codes:
            self.who.clear()
            for code in codes:
                found = items.client_coded(code)
                self.who.addItem(code, found.id if found is not None else None)
        self.events = [e for e in self.session.events() if e.instrument is None]
        self.noted.clear()
        for e in self.events:
            own = items.clients.get(e.client) if e.client is not None else None
            code = own.code if own is not None else "all"
            self.noted.addItem(f"{e.starts}, {code}: {event_words(e.kind)}", e.id)
        for w in (self.noted, self.away):
            w.setVisible(bool(self.events))
        for w in (self.add_event, self.away):
            w.setEnabled(not self.session.read_only)

    def _answer(self, found: Schedule) -> None:
        self.schedule = found
        if self.view is None:
            self.view = view = CalendarView(self.colours)
            view.chosen.connect(self._chosen)
            view.moved.connect(self._move)
            view.opened.connect(self._open)
            view.dropped.connect(self._drop)
            view.day_width = int(self.zoom.currentData())
            self.today.clicked.connect(view.go_today)
            self.picture.addWidget(view)
        items = self.session.catalogue()
        fresh = self.view.schedule is None
        self.view.show_schedule(found, items, self._spans(found.last))
        if fresh and self.client:
            self.view.choose_row(self.client)
        self.waiting = list(found.waiting)
        shown = [(due_words(d, items, found.today),) for d in self.waiting[:MOST_LISTED]]
        if len(self.waiting) > MOST_LISTED:
            shown.append((f"and {len(self.waiting) - MOST_LISTED} more",))
        self.list.fill(shown)
        self.list.setVisible(bool(self.waiting))
        said = left_out_words([x for x in found.left_out if x.why != "most"], items)
        conditions = items.conditions_for(None)
        differs = scan_conditions(
            self.session.measured_known(), self.session.conditions(), conditions
        )
        said += [sentence(n) for n in differs]
        self.left_out.setText(" ".join(said))
        self.left_out.setVisible(bool(said))
        self._tell()
        self._say_moved()
        empty = not self.session.scheme().rules and not found.stations
        if empty and self.stack.currentWidget() is self.page and not self.events:
            self.show_rules()
        self.ready.emit()

    def _spans(self, last: int) -> dict[int, list[tuple[int, int, str]]]:
        """Events of each client, with those of all."""
        out: dict[int, list[tuple[int, int, str]]] = defaultdict(list)
        clients = self.session.catalogue().clients
        for e in self.events:
            start = ordinal(e.starts)
            end = ordinal(e.ends) if e.ends else start
            for client in clients if e.client is None else (e.client,):
                out[client].append((start, min(end, last), e.note or event_words(e.kind)))
        return out

    def take_client(self, client: int) -> None:
        """Set the mark on the row of a client."""
        self.client = client
        if self.view is not None:
            self.view.choose_row(client)

    def _tell(self) -> None:
        if self.schedule is not None:
            self.told.emit(plan_headline(self.schedule, self.session.catalogue()))

    def set_palette(self, palette: Palette) -> None:
        """Choose the theme."""
        self.colours = palette
        if self.view is not None:
            self.view.set_palette(palette)

    def show_rules(self) -> None:
        """Show the rules in the place of the calendar."""
        self.editor.refresh()
        self.stack.setCurrentWidget(self.editor)
        self.editor.preset.setFocus()

    def show_calendar(self) -> None:
        """Show the calendar again."""
        self.stack.setCurrentWidget(self.page)
        if self.view is not None:
            self.view.setFocus()

    def _zoom(self, _k: int) -> None:
        if self.view is not None:
            self.view.set_zoom(int(self.zoom.currentData()))

    # one planned day
    def _current(self) -> PlannedDay | None:
        return self.view.current() if self.view is not None else None

    def _chosen(self, d: PlannedDay | None) -> None:
        items = self.session.catalogue()
        self.selected.setText(
            day_note(d, items) if d is not None else "No planned day is selected."
        )
        open_ = d is not None and d.state not in ("done", "missed")
        for w in (self.earlier, self.later, self.drop):
            w.setEnabled(open_ and not self.session.read_only)
        self.measure.setEnabled(d is not None)
        self._advise(d)

    def _advise(self, d: PlannedDay | None) -> None:
        """Say which measurement of the client under the mark narrows most, where that is known."""
        own = self.session.catalogue().clients.get(d.client) if d is not None else None
        metric = self.session.lens.metric
        if own is None or self.session.writing or withheld(own, metric):
            self.advice.hide()
            return
        asked = (own.code, self.session.edits, metric)
        if asked == self._advised:
            return
        self._advised = asked
        self.advice.hide()
        lens, today = self.session.lens, self.session.today()
        job = Job(
            "Looking for what to measure next",
            lambda: self.session.wide_snapshot_steps((metric,)),
            lambda snapshot: BestEstimateRequest(snapshot, lens, own.code, today=today).run(),
            background=True,
        )
        assert self.jobs is not None
        self.jobs.start("what to measure next", job, self._show_advice, lambda _why: None)

    def _show_advice(self, found: BestEstimateResult) -> None:
        text = next_words(found)
        if self._advised[0] == found.client.code:
            self.advice.setText(f"{found.client.code}: {text}" if text else "")
            self.advice.setVisible(bool(text))
            self.advised.emit()

    def _point(self, row: int) -> None:
        if self.view is not None and 0 <= row < len(self.waiting):
            self.view.choose(self.waiting[row])

    def _measure(self, row: int) -> None:
        if 0 <= row < len(self.waiting):
            self._open(self.waiting[row])

    def _open(self, d: PlannedDay | None) -> None:
        if d is not None:
            self.measured.emit(self.session.catalogue().clients[d.client].code, d.station)

    def _shift(self, by: int) -> None:
        d = self._current()
        if d is not None:
            self._move(d, d.day + by)

    def _move(self, d: PlannedDay, day: int) -> None:
        if d.state in ("done", "missed") or self.session.read_only:
            self.message.emit("A day that is done or missed cannot be moved.", True)
            return
        self._wanted = d, day
        self._edit_day(d, iso(day), "")

    def _say_moved(self) -> None:
        """Tell where a moved day stands now."""
        wanted, self._wanted = self._wanted, None
        if wanted is None or self.schedule is None:
            return
        d, day = wanted
        same = [
            x for x in self.schedule.days if (x.rule, x.client, x.due) == (d.rule, d.client, d.due)
        ]
        if not same:
            self.message.emit(
                "The day has no place there: it is left out. Undo takes it back.", True
            )
            return
        found = same[0]
        self.message.emit(
            f"{day_note(found, self.session.catalogue())}. Undo takes it back.", found.day != day
        )

    def _drop(self, d: PlannedDay | None) -> None:
        if d is None or d.state in ("done", "missed"):
            return
        self._edit_day(d, "", f"Left out: {day_words(iso(d.day))}. Undo takes it back.")

    def _edit_day(self, d: PlannedDay, day: str, said: str) -> None:
        """Move a planned day; only the calendar of its client is made anew."""
        fresh = self._asked == self.session.edits
        self._only, self._moved_at = d.client if fresh else 0, self.session.edits + 1
        self._edit(MoveDay(MovedDay(d.rule, d.client, iso(d.due), day)), said)

    # events and files
    def _edit(self, edit: Edit, said: str) -> bool:
        """Run an edit; whether it was done."""
        try:
            self.session.do(edit)
        except UserError as error:
            self.message.emit(f"{error}.", True)
            return False
        if said:
            self.message.emit(said, False)
        return True

    def _add_event(self) -> None:
        starts = self.starts.text().strip() or self.session.today()
        event = Event(
            0,
            self.who.currentData(),
            None,
            starts,
            self.ends.text().strip(),
            self.kind.currentData(),
            self.note.text(),
        )
        if self._edit(AddEvent(event), f"Noted: {event_words(event.kind)}. Undo takes it back."):
            for field in (self.starts, self.ends, self.note):
                field.clear()

    def _remove_event(self) -> None:
        number = self.noted.currentData()
        if number is not None:
            self._edit(RemoveEvent(number), "The event is deleted. Undo takes it back.")

    def _sheets(self) -> None:
        """Write the sheets of all visits planned on the day under the mark, else of what is due."""
        if self.schedule is None:
            return
        now = self._current()
        open_ = [d for d in self.schedule.days if d.state not in ("done", "missed")]
        if now is not None and now in open_:
            days = [d for d in open_ if d.day == now.day]
        else:
            days = self.waiting or [d for d in open_ if d.day == min(x.day for x in open_)]
        if not days:
            self.message.emit("Nothing is planned: there is no sheet to print.", True)
            return
        named = self.named.isChecked()
        name = f"sheets-{iso(days[0].day)}.pdf"
        path, _ = QFileDialog.getSaveFileName(self, "Visit sheets", name, "PDF (*.pdf)")
        if not path:
            return
        sheets = sheets_of(self.session, days, named=named)
        html = as_html(sheets, self.session.title if named else "")
        try:
            written = write_pdf(html, path, self.paper.currentText(), "Visit sheets")
        except UserError as error:
            self.message.emit(f"{error}.", True)
            return
        held = "with names" if named else "codes only"
        self.message.emit(f"{count(len(sheets), 'sheet')} written to {written}: {held}.", False)

    def _export(self) -> None:
        path, _ = QFileDialog.getSaveFileName(
            self, "Export the calendar", "calendar.ics", "Calendar (*.ics);;Table (*.csv)"
        )
        if path and self.schedule is not None:
            try:
                written = write_calendar(self.session, self.schedule, path)
            except UserError as error:
                self.message.emit(f"{error}.", True)
                return
            self.message.emit(f"Calendar written to {written}: codes only.", False)
