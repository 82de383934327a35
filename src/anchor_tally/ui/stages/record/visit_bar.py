"""Who is measured, at which visit, when, and by whom."""

from __future__ import annotations

from datetime import datetime

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QComboBox, QCompleter, QLineEdit, QPushButton, QVBoxLayout, QWidget

from ....app.bench import Place
from ....app.session import Session
from ....domain.errors import UserError
from ....domain.instants import NotAMoment, canonical
from ....domain.records import Visit
from ....study.edits.visits import MoveVisit
from ....wording.numbers import count
from ...widgets import Flow, letters_wide, paired

NEW = "New visit"


class VisitBar(QWidget):
    """Client, visit, time and assessor.

    ``chosen`` is sent when another client or visit is shown, ``unknown`` when a code that nobody
    has waits for a second Enter. The visit follows the time: a time near a visit shows that
    visit, any other one a new visit, and *New visit* a new one even within the visit gap.
    """

    chosen = pyqtSignal()
    assessor_named = pyqtSignal(str)
    message = pyqtSignal(str, bool)
    unknown = pyqtSignal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.before = ""  # when this client was seen before the visit shown
        self.new = ""  # a code that nobody has yet, taken after it was asked about
        self.visit: Visit | None = None
        self.fresh = False
        self.client, self.visits = QComboBox(), QComboBox()
        self.client.setEditable(True)
        self.client.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        letters_wide(self.client, 10)
        self.client.setMinimumWidth(130)
        self.client.setCurrentIndex(-1)
        self.line = self.client.lineEdit()
        if self.line is not None:
            self.line.setPlaceholderText("code or name")
        self._completer(self.client.completer())
        self.client.textActivated.connect(lambda _text: self.choose_client())
        self.visits.setMinimumWidth(150)
        self.visits.activated.connect(lambda _k: self.choose_visit())
        self.when, self.assessor = QLineEdit(), QLineEdit()
        self.when.setFixedWidth(130)
        self.when.editingFinished.connect(self._time_typed)
        self.assessor.setFixedWidth(100)
        self.assessor.editingFinished.connect(
            lambda: self.assessor_named.emit(self.assessor.text().strip())
        )
        self.move_button = QPushButton("Move…")
        self.move_button.setAccessibleName("Move this visit to another time or client")
        self.move_button.clicked.connect(self._ask_move)
        row = self.row = Flow()
        row.addWidget(paired("C&lient", self.client, "Client"))
        row.addWidget(paired("&Visit", self.visits, "Visit"))
        row.addWidget(paired("&Taken at", self.when, "Date and time"))
        row.addWidget(paired("&Assessor", self.assessor, "Assessor"))
        row.addWidget(self.move_button)
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.addLayout(row)
        box.addWidget(self._mover())

    def _completer(self, completer: QCompleter | None) -> None:
        if completer is not None:
            completer.setFilterMode(Qt.MatchFlag.MatchContains)
            completer.setCompletionMode(QCompleter.CompletionMode.PopupCompletion)
        if self.line is not None:
            self.line.returnPressed.connect(self.choose_client)

    def _mover(self) -> QWidget:
        self.mover = QWidget()
        self.to_when, self.to_client = QLineEdit(), QComboBox()
        self.to_when.setFixedWidth(130)
        self.to_when.setAccessibleName("Move the visit to this time")
        self.to_client.setAccessibleName("Move the visit to this client")
        self.to_client.setMinimumWidth(120)
        go, leave = QPushButton("Move"), QPushButton("Cancel")
        go.clicked.connect(self._move)
        leave.clicked.connect(self.mover.hide)
        self.to_when.returnPressed.connect(self._move)
        row = Flow()
        row.addWidget(paired("Move this visit with all its readings to", self.to_when))
        row.addWidget(paired("of client", self.to_client))
        row.addWidget(go)
        row.addWidget(leave)
        self.mover.setLayout(row)
        self.mover.hide()
        return self.mover

    @property
    def who(self) -> str:
        """The client's code."""
        return self.client.currentText().strip()

    @property
    def moment(self) -> str | None:
        """Date and time as ISO 8601, or None when it is none.

        That of the visit shown exactly as it is kept.
        """
        if self.visit is not None and self.when.text() == self.visit.words:
            return self.visit.start
        try:
            return canonical(self.when.text())
        except NotAMoment:
            return None

    def is_closed(self, gap: int) -> bool:
        """Whether the visit shown began longer ago than the visit gap.

        Nothing more is entered in it then.
        """
        return (
            self.visit is not None
            and self.session.clock.now().timestamp() - self.visit.instant > gap
        )

    @property
    def place(self) -> Place | None:
        """Where a reading typed now belongs; None without a client or a moment."""
        at = self.moment
        if at is None or not self.who:
            return None
        if self.who != self.new and self.session.catalogue().client_coded(self.who) is None:
            return None
        return Place(self.who, at, self.visit.id if self.visit else None, self.fresh)

    def refresh(self) -> None:
        """Show the study's clients and the visits of this one."""
        codes = self.session.codes_by_last_visit()
        if [self.client.itemText(k) for k in range(self.client.count())] != codes:
            current = self.client.currentText()
            self.client.blockSignals(True)
            self.client.clear()
            self.client.addItems(codes)
            self.client.setEditText(current)  # nobody is chosen for the user
            self.client.blockSignals(False)
        if not self.when.text():
            self._now()
        known = self.session.visits_of(self.who)
        if self.visit is not None:
            self.visit = next(
                (v for v in known if v.id == self.visit.id), None
            )  # None: it was taken back
        if self.visit is None:
            self._find(known)
        earlier = next(
            (v for v in known if self.visit is None or v.instant < self.visit.instant), None
        )
        self.before = earlier.words if earlier is not None else ""
        self.visits.clear()
        self.visits.addItem(NEW, None)
        for v in known:
            self.visits.addItem(v.words, v)
        at = next(
            (
                k
                for k, v in enumerate(known, start=1)
                if self.visit is not None and v.id == self.visit.id
            ),
            0,
        )
        self.visits.setCurrentIndex(at)
        self.move_button.setEnabled(self.visit is not None and not self.session.read_only)
        if self.visit is None:
            self.mover.hide()

    def _find(self, known: list[Visit]) -> None:
        """The visit that the time belongs to.

        A new visit begun on purpose takes only what was entered since.
        """
        at = self.moment
        if at is None or not known:
            return
        if self.fresh:
            begun = next((v for v in known if v.start == at and v.id > self._newest), None)
            if begun is not None:
                self.visit, self.fresh = begun, False
            return
        near = self.session.visit_near(self.who, at)
        self.visit = next((v for v in known if v.id == near), None)

    _newest = 0  # number of the client's newest visit when a new one was begun

    def show_assessor(self, name: str) -> None:
        """Show who measured; what was typed for a visit that has no reading yet stays."""
        if not self.assessor.hasFocus() and (self.visit or name):
            self.assessor.setText(name)

    def choose_client(self) -> None:
        """Go to the client named, now."""
        completer = self.client.completer()
        popup = completer.popup() if completer is not None else None
        if popup is not None:
            popup.hide()
        if not self._known():
            return
        self.visit, self.fresh = None, False
        self._now()
        self.chosen.emit()

    def _known(self) -> bool:
        """Whether the text names a client, by code or by name.

        A code that nobody has is asked about once before it is taken.
        """
        found = self.session.catalogue().client_named(self.who)
        if found is not None:
            self.client.setEditText(found.code)
        elif self.who and self.who != self.new:
            self.new = self.who
            self.unknown.emit(self.who)
            return False
        return True

    def choose_visit(self) -> None:
        """Go to a visit of the list, or begin a new one, also within the visit gap of another."""
        visit = self.visits.currentData()
        self.visit, self.fresh = visit, visit is None
        if visit is not None:
            self.when.setText(visit.words)
        else:
            self._newest = max((v.id for v in self.session.visits_of(self.who)), default=0)
            self._now()
        self.chosen.emit()

    def _time_typed(self) -> None:
        """A time that is not that of the visit shown goes to its own visit."""
        at, text = self.moment, self.when.text().strip()
        if at is None and text:
            self.message.emit(
                f'"{text[:40]}" is not a date and time such as 2026-03-02 06:40.', True
            )
        if at is None or (self.visit is not None and self.visit.words == at[:16].replace("T", " ")):
            return
        now = self.session.now()
        ahead = (datetime.fromisoformat(at[:16]) - now).total_seconds() / 86400
        if ahead > 0.1:
            far = f"{count(round(ahead), 'day')} " if ahead >= 0.5 else ""
            self.message.emit(f"{self.when.text()} is {far}in the future. Check the date.", True)
        near = None if self.fresh else self.session.visit_near(self.who, at)
        if near != (self.visit.id if self.visit else None):
            self.visit = next((v for v in self.session.visits_of(self.who) if v.id == near), None)
            self.chosen.emit()

    def _now(self) -> None:
        self.when.setText(self.session.now().strftime("%Y-%m-%d %H:%M"))

    # moving
    def _ask_move(self) -> None:
        if self.visit is None:
            return
        self.to_when.setText(self.visit.words)
        self.to_client.clear()
        self.to_client.addItems([c.code for c in self.session.catalogue().clients.values()])
        self.to_client.setCurrentText(self.who)
        self.mover.show()
        self.to_when.setFocus()
        self.to_when.selectAll()

    def _move(self) -> None:
        if self.visit is None:
            return
        visit, to = self.visit, self.to_client.currentText()
        try:
            self.session.do(
                MoveVisit(visit.id, self.to_when.text(), to, self.assessor.text().strip())
            )
        except UserError as error:
            self.message.emit(str(error), True)
            return
        self.mover.hide()
        self.client.setEditText(to)
        self.visit = next((v for v in self.session.visits_of(to) if v.id == visit.id), None)
        if self.visit is not None:
            self.when.setText(self.visit.words)
        self.message.emit("The visit was moved with all its readings. Undo moves it back.", False)
        self.chosen.emit()
