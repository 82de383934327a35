"""The window: one study at a time, its pages, and what can be done with it."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PyQt6.QtCore import QSettings, QTimer, pyqtSignal
from PyQt6.QtGui import QCloseEvent, QColor, QKeySequence, QPainter, QPaintEvent, QShortcut
from PyQt6.QtWidgets import QApplication, QPushButton, QWidget

from ..app.actions import ACTIONS, STAGES
from ..app.views import VIEW
from ..domain.clock import SYSTEM, Clock
from ..domain.errors import FAULT, UserError
from ..domain.text import as_sentence
from ..figures.style import DARK, LIGHT, Palette
from .disclosure import Disclosure
from .frame import Frame
from .memory import Memory, is_demo
from .study_watch import StudyWatch
from .tab_order import step
from .theme import icon, style_sheet
from .wayfinding import Wayfinding

if TYPE_CHECKING:
    from ..app.session import Session
    from .drawer import Drawer
    from .jobs import Jobs
    from .lens_bar import LensBar
    from .next_due import NextDue
    from .page_preparation import PagePreparation
    from .pages import EvidenceFor, Page

_LENS = frozenset(s.id for s in STAGES if s.lens) | VIEW.keys()


class MainWindow(Wayfinding):
    """One window.

    The frame is built from QtWidgets alone and painted first; ``attach`` brings in a study, and
    pages are built when they are first opened. Another study takes the place of the one before
    in the same window.
    """

    attached = pyqtSignal()
    painted = pyqtSignal()

    def __init__(
        self,
        session: Session | None = None,
        *,
        dark: bool = False,
        settings: QSettings | None = None,
        clock: Clock = SYSTEM,
    ) -> None:
        super().__init__()
        self.session: Session | None = None
        self.clock = clock
        self.dark = dark
        self.pages: dict[str, Page] = {}
        self.in_hand: dict[Page, str] = {}  # the client that a page was told of last
        self.jobs: Jobs | None = None
        self.due: NextDue | None = None
        self._measures_next = False  # asked for before the calendar was known
        self.training = None
        self.lens: LensBar | None = None
        self._drawer: Drawer | None = None
        self.shown, self.found = "", 0
        self.preparation: PagePreparation | None = None
        self._painted = False
        self.settings = settings or QSettings("anchor-tally", "anchor-tally")
        self.memory = Memory(self.settings)
        self.disclosure = Disclosure(self.settings, self)
        self.setWindowIcon(icon())
        self.setWindowTitle("Anchor Tally")
        self._fit_screen()
        self.memory.put_back(self)
        self.watch = StudyWatch(self)
        self.watch.said.connect(self.say)
        self.watch.lost.connect(lambda gone: self.footer.copy.setVisible(gone))
        self._build()
        self.set_dark(dark)
        if session is not None:
            self.attach(session)

    def _fit_screen(self) -> None:
        """Open inside the screen's free area, title bar and borders included."""
        screen = QApplication.primaryScreen()
        self.setMinimumSize(1000, 620)
        if screen is not None:
            free = screen.availableGeometry()
            self.resize(min(1280, free.width() - 8), min(800, free.height() - 40))
            self.move(free.left() + max((free.width() - self.width()) // 2, 0), free.top() + 4)

    def _build(self) -> None:
        self.frame = Frame()
        self.setCentralWidget(self.frame)
        self.rail, self.footer, self.stack = self.frame.rail, self.frame.footer, self.frame.stack
        do: dict[str, Callable[[], None]] = {
            "new": self.ask_new,
            "open": self.ask_open,
            "demo": self.open_demo,
            "import": self.ask_import,
            "paste": self.paste_table,
            "export": self.ask_export,
            "copy": self.ask_copy,
            "take_over": self.take_over,
            "next": self.measure_next,
            "undo": self.undo,
            "redo": self.redo,
            "close_drawer": self.close_drawer,
            "dark": self.toggle_dark,
            "find": self.ask_find,
            "menu": self.show_menu,
            "keys": self.show_keys,
            "about": self.show_about,
            **{f"go_{s.id}": lambda s=s.id: self.choose(s) for s in STAGES if s.built},  # type: ignore[misc]
        }
        self.do = do
        for a in ACTIONS:
            if a.keys:
                QShortcut(QKeySequence(a.keys), self, lambda key=a.id: self.act(key))
        for key, button in {**self.rail.tools, **self.frame.waiting.offers}.items():
            button.clicked.connect(lambda _=False, key=key: self.act(key))
        for stage, button in self.rail.stages.items():
            button.clicked.connect(lambda _=False, stage=stage: self.choose(stage))
        footer = self.footer
        for key, button in (
            ("undo", footer.undo),
            ("redo", footer.redo),
            ("copy", footer.copy),
            ("take_over", footer.take_over),
            ("next", footer.next),
        ):
            button.clicked.connect(lambda _=False, key=key: self.act(key))
        footer.cancel.clicked.connect(self._cancel)
        self.setAcceptDrops(True)
        self._enable()

    # the study
    def attach(self, session: Session) -> None:
        """Show a study in the place of the one before."""
        from .jobs import Jobs
        from .lens_bar import LensBar
        from .next_due import NextDue
        from .page_preparation import PagePreparation

        self._detach()
        self.session = session
        self.found = 0  # findings of the study before do not belong here
        stage = self._as_left(session)
        self.jobs = Jobs(self, session.explain)
        self.jobs.drawing = lambda: not PagePreparation.drawn()
        if self.preparation is None:
            self.preparation = PagePreparation(self, lambda: self.pages, self.page)
            self.preparation.ready.connect(self._review)
        self.due = NextDue(session, self.jobs)
        self.due.known.connect(self._due_known)
        self.jobs.running.connect(self.footer.run)
        self.jobs.quiet.connect(self.footer.rest)
        self.lens = LensBar(session)
        self.frame.put_lens(self.lens)
        self.dress(self.lens)
        self.put_case(session.case)
        session.changed.append(self.refresh)
        self.watch.watch(session)
        self.say("")
        self.go(self._first_page(stage))
        self.refresh()
        self.attached.emit()

    def _first_page(self, stage: str) -> str:
        """Where a study opens: as it was left, or where something can be done with it."""
        session = self.session
        assert session is not None
        items = session.catalogue()
        if session.metrics():
            return stage or "compare"
        return "record" if items.clients or items.instruments else "start"

    def _as_left(self, session: Session) -> str:
        """Put back the lens that the study was left with, as far as it still fits.

        Returns the stage, "" for none.
        """
        if session.path is None or is_demo(session.path):
            return ""
        self.memory.opened(session.path)
        kept = self.memory.view(session.path)
        if kept is None:
            return ""
        stage, lens = kept
        known = session.catalogue()
        codes = {c.code for c in known.clients.values()}
        fits = (
            lens.metric in session.metrics()
            and (lens.reference is None or known.instrument_named(lens.reference) is not None)
            and (lens.setting is None or lens.setting in {s.label for s in known.settings.values()})
            and (lens.clients is None or (bool(lens.clients) and lens.clients <= codes))
        )
        if fits:
            session.look(lens)
        return stage if any(s.id == stage and s.built for s in STAGES) else ""

    def _detach(self) -> None:
        """Let go of the study that is open, and of all that was built on it."""
        if self.session is None:
            return
        for page in self.pages.values():
            page.leave()
        if self.jobs is not None:
            self.jobs.stop()
            self.jobs.deleteLater()
        self.stack.setCurrentWidget(self.frame.waiting)
        gone: list[QWidget | None] = [*self.pages.values(), self._drawer]
        for widget in gone:
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        session, self.session = self.session, None
        if session.path is not None and not is_demo(session.path):
            self.memory.keep_view(
                session.path, "compare" if self.shown in VIEW else self.shown, session.lens
            )
        self.pages, self._drawer, self.jobs, self.shown = {}, None, None, ""
        self.due = None
        self.footer.show_next("")
        self.in_hand = {}
        session.close()
        if self.preparation is not None:
            self.preparation.stop()

    def trouble(self, text: str) -> None:
        """Say that no study is open, why, and what can be done."""
        self.frame.waiting.tell(as_sentence(text), offers=True)
        self._enable()

    @property
    def colours(self) -> Palette:
        """The palette of the theme."""
        return DARK if self.dark else LIGHT

    @property
    def front(self) -> QWidget:
        """What replaces the page; boxes that open before it take its style."""
        return self.stack.currentWidget() or self.frame.waiting

    @property
    def drawer(self) -> Drawer:
        """The evidence drawer, built when first needed.

        The first answer does not need its imports.
        """
        from .drawer import Drawer

        assert self.session is not None
        if self._drawer is None:
            self._drawer = Drawer(self.session)
            self._drawer.message.connect(self.say)
            self._drawer.toggled.connect(self._drawer_toggled)
            self.frame.put_drawer(self._drawer)
            self.dress(self._drawer)
        return self._drawer

    def page(self, key: str) -> Page:
        """A page, built when it is first asked for."""
        from .page_table import PAGES
        from .pages import Surroundings
        from .stages.start.page import StartPage

        assert self.session is not None
        assert self.jobs is not None
        if key not in self.pages:
            page = PAGES[key]()(
                Surroundings(self.session, self.colours, self.jobs, self.disclosure)
            )
            page.message.connect(self.say)
            page.evidence.connect(self._evidence)
            page.wanted.connect(self.go)
            page.file_wanted.connect(self.import_file)
            page.acted.connect(self.act)
            page.measured.connect(self._begin_measuring)
            page.case_wanted.connect(self.open_case)
            page.drawn_wanted.connect(self.open_drawn)
            if isinstance(page, StartPage):
                page.show_recent([p for p in self.memory.recent() if p != self.session.path])
                page.recent_wanted.connect(self.open_study)
            page.shown.connect(self._answered)
            page.opened.connect(self.open_found)
            page.counted.connect(self._reviewed)
            self.pages[key] = page
            self.stack.addWidget(page)
            self.dress(page)
        return self.pages[key]

    def _hand_over(self, page: Page) -> None:
        """Let Plan and Track follow the client of the bench, when it is another one than before."""
        from .stages.record.page import RecordStage

        record = self.pages.get("record")
        code = record.who() if isinstance(record, RecordStage) else ""
        if code and code != self.in_hand.get(page):
            self.in_hand[page] = code
            page.take_client(code)

    def _begin_measuring(self, code: str, station: str) -> None:
        """Go to the bench with a client selected, at a station where one is named."""
        from .stages.record.page import RecordStage

        self.go("record")
        page = self.page("record")
        assert isinstance(page, RecordStage)
        page.take_client(code)
        if station:
            page.go_station(station)

    def measure_next(self) -> None:
        """Go to the bench for what is due next, once the calendar is known."""
        due = self.due.first() if self.due is not None else None
        waited, self._measures_next = self._measures_next, False
        if due is not None:
            if waited:
                self.say("")
            self._begin_measuring(*due)
        elif self.due is not None and not self.due.is_known:
            self._measures_next = True
            self.say("Looking at the calendar…")
            self.due.look()
        else:
            self.say("Nothing is planned in the next five weeks.")

    def _due_known(self, words: str) -> None:
        """The calendar was looked through: the next thing due stands in the footer."""
        self.footer.show_next(words)
        self._mark_stages()
        if self._measures_next:
            self.measure_next()

    def _answered(self) -> None:
        """A page has its result: update the lens bar, and prepare the other pages."""
        if (
            self.lens is not None
            and self.shown in _LENS
            and self.session is not None
            and not self.session.writing
        ):
            self.lens.refresh()
        if self.preparation is not None and self.jobs is not None:
            self.preparation.begin(self.jobs)

    def _review(self) -> None:
        """Review the study whenever it has changed and nothing else runs."""
        if self.session is not None and not self.session.writing:
            self.page("review").refresh()
            if self.due is not None:
                self.due.look()

    def _reviewed(self, n: int) -> None:
        """The review has looked through the study."""
        self.found = n
        self._mark_stages()

    def _mark_stages(self) -> None:
        from ..app.marks import stage_marks

        if self.session is not None and not self.session.writing:
            due = self.due.waiting if self.due is not None else 0
            self.rail.show_marks(stage_marks(self.session, self.found, due))

    # showing
    def choose(self, stage: str) -> None:
        """Go where the user wants to; the last message about the work before is over."""
        self.say("")
        self.go(stage)

    def go(self, key: str) -> None:
        """Show a page, or a part of it ("record:scan"); the drawer goes with the page before."""
        if self.session is None:
            return
        key, _, part = key.partition(":")
        page = self.page(key)
        if key != self.shown and self._drawer is not None:
            self._drawer.hide()
        self.shown = key
        if self.lens is not None:
            self.lens.setVisible(key in _LENS)
        self.dress(page)
        if key in ("plan", "track"):
            self._hand_over(page)
        self.stack.setCurrentWidget(page)
        self.rail.mark("compare" if key in VIEW else key)
        self._refresh_shown()
        if part:
            page.show_part(part)

    def _refresh_shown(self) -> None:
        try:
            if (
                self.lens is not None
                and self.shown in _LENS
                and self.session is not None
                and not self.session.writing
            ):
                self.lens.refresh()
            self.pages[self.shown].refresh()
            if self._drawer is not None and self._drawer.isVisible():
                self._drawer.refresh()
        except UserError as error:
            self.say(str(error), trouble=True)

    def refresh(self) -> None:
        """Show the study as it is now, after an edit or a change of lens."""
        session = self.session
        if session is None:
            return
        self.setWindowTitle(f"{session.title} – Anchor Tally")
        kept = "read only" if session.read_only else "all changes saved"
        if session.elsewhere:
            kept = "open in another window; updated here"
        self.footer.place.setText(
            f"{session.path.name} · {kept}"
            if session.path
            else "only in memory: not saved to a file"
        )
        self.footer.place.setToolTip(str(session.path))
        self.footer.take_over.setVisible(session.elsewhere)
        self._enable()
        self._refresh_shown()
        self._mark_stages()
        if self.preparation is not None:
            self.preparation.again()
        self.watch.changed()

    def _enable(self) -> None:
        """Buttons can be pressed where their action makes sense."""
        session = self.session
        there = session is not None
        can = {
            "nothing": True,
            "study": there,
            "writable": there and session is not None and not session.read_only,
            "elsewhere": session is not None and session.elsewhere,
            "undo": session is not None and session.can_undo and not session.read_only,
            "redo": session is not None and session.can_redo and not session.read_only,
        }
        self.can = {a.id: can[a.needs] for a in ACTIONS}
        for key, button in self.rail.tools.items():
            button.setEnabled(self.can[key])
        for stage in STAGES:
            self.rail.stages[stage.id].setEnabled(stage.built and there)
        self.footer.undo.setEnabled(self.can["undo"])
        self.footer.redo.setEnabled(self.can["redo"])

    def act(self, key: str) -> None:
        """Do an action of the table, where it can be done."""
        if self.can.get(key, False):
            self.do[key]()

    def _evidence(self, what: EvidenceFor) -> None:
        if self.session is not None:
            self.drawer.open(what)

    def _drawer_toggled(self, is_open: bool) -> None:
        if self.shown in self.pages:
            self.pages[self.shown].drawer_open(is_open)

    def close_drawer(self) -> None:
        """Close the evidence drawer."""
        if self._drawer is not None:
            self._drawer.hide()

    def say(self, text: str, trouble: bool = False) -> None:
        """Show a message in place."""
        self.footer.say(text, trouble=trouble)

    @property
    def said(self) -> str:
        """The last message."""
        return self.footer.said.text()

    def set_dark(self, dark: bool) -> None:
        """Choose the theme."""
        self.dark = dark
        frame = self.frame
        parts = (frame.rail, frame.footer, frame.waiting, self.lens, self._drawer, self.training)
        for widget in parts:
            if widget is not None:
                self.dress(widget)
        for page in self.pages.values():
            page.set_palette(self.colours)
        self.dress(self.front)
        self.update()

    def dress(self, widget: QWidget) -> None:
        """Give a part of the window the style of the theme.

        Qt takes every widget below the one that has the style sheet, seen or not. So each
        part has its own, and a page is dressed when it is shown. Enter presses the button that has
        the focus, as Space does: Qt does so of itself in dialogs only.
        """
        for button in widget.findChildren(QPushButton):
            button.setAutoDefault(True)
        sheet = style_sheet(self.colours)
        if widget.styleSheet() != sheet:
            widget.setStyleSheet(sheet)

    def toggle_dark(self) -> None:
        """Switch between light and dark."""
        self.set_dark(not self.dark)
        self.settings.setValue("dark", self.dark)

    # what may happen outside
    def take_over(self) -> None:
        """Become the one who writes."""
        if self.session is None:
            return
        try:
            done = self.session.take_over()
        except UserError as error:
            self.say(str(error), True)
            return
        self.say(
            (
                "The study can be written here now."
                if done
                else "The study is still open in the other window. Close it there first."
            ),
            not done,
        )
        self.refresh()

    def fault(self, error: BaseException) -> None:
        """Say what an error that nobody foresaw means.

        The window lives on, and a copy is offered where the file has failed.
        """
        self.say(self.session.explain(error) if self.session is not None else FAULT, True)
        self.watch.look()

    # doing
    def _cancel(self) -> None:
        if self.jobs is not None:
            self.jobs.cancel()
            self.say("Stopped.")
            page = self.pages.get(self.shown)
            if page is not None and not (self.session and self.session.writing):
                page.shown.emit()

    def undo(self) -> None:
        """Take back the last edit."""
        if self.session is not None:
            self._step(self.session.undo, "Undone")

    def redo(self) -> None:
        """Do it again."""
        if self.session is not None:
            self._step(self.session.redo, "Done again")

    def _step(self, step: Callable[[], str | None], word: str) -> None:
        try:
            words = step()
        except UserError as error:
            self.say(str(error), True)
            return
        if words:
            self.say(f"{word}: {words}.")

    def focusNextPrevChild(self, forward: bool) -> bool:
        """Tab moves in the order of the layouts."""
        return step(self.frame, self.focusWidget(), forward=forward)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        super().paintEvent(event)
        if event is not None:
            QPainter(self).fillRect(event.rect(), QColor(self.colours.paper))
        if (
            not self._painted
        ):  # the screen has asked for the picture; it has it when this turn of the loop is over
            self._painted = True
            QTimer.singleShot(0, self.painted.emit)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        self.memory.keep_place(self)
        self.footer.forget()  # no timer outlives the window
        self._detach()
        super().closeEvent(event)
