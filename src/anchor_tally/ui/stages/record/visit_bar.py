"""Who is measured, at which visit, when, and by whom."""

from __future__ import annotations

from datetime import datetime

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QComboBox, QCompleter, QHBoxLayout, QLineEdit, QWidget

from ....study.read import wall_clock
from ...widgets import label

NEW = "New visit"


class VisitBar(QWidget):
    """Client, visit, time and assessor. ``chosen`` is sent when another client or visit is shown."""

    chosen = pyqtSignal()
    assessor_named = pyqtSignal(str)

    def __init__(self, session):
        super().__init__()
        self.session, self.visit = session, None
        self.client = QComboBox()
        self.client.setEditable(True)
        self.client.setMinimumWidth(150)
        self.client.completer().setFilterMode(Qt.MatchFlag.MatchContains)
        self.client.completer().setCompletionMode(QCompleter.CompletionMode.PopupCompletion)
        self.client.textActivated.connect(self.choose_client)
        self.client.lineEdit().returnPressed.connect(lambda: self.choose_client(self.client.currentText()))
        self.visits = QComboBox()
        self.visits.setMinimumWidth(160)
        self.visits.activated.connect(self.choose_visit)
        self.when, self.assessor = QLineEdit(), QLineEdit()
        self.when.setFixedWidth(140)
        self.assessor.setFixedWidth(110)
        self.assessor.editingFinished.connect(lambda: self.assessor_named.emit(self.assessor.text().strip()))
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        for text, name, w in (
            ("C&lient", "Client", self.client),
            ("&Visit", "Visit", self.visits),
            ("&Taken at", "Date and time", self.when),
            ("&Assessor", "Assessor", self.assessor),
        ):
            tag = label(text, "faint")
            tag.setBuddy(w)
            w.setAccessibleName(name)
            row.addWidget(tag)
            row.addWidget(w)
            row.addSpacing(8)
        row.addStretch(1)

    @property
    def who(self):
        """The client's code."""
        return self.client.currentText().strip()

    @property
    def moment(self):
        """Date and time as ISO 8601, or None when it is none."""
        text = self.when.text().strip().replace(" ", "T")
        try:
            wall_clock(text)
        except ValueError:
            return None
        return text

    def refresh(self):
        """Show the study's clients and the visits of this one."""
        codes = [c.code for c in self.session.snapshot().clients.values()]
        if [self.client.itemText(k) for k in range(self.client.count())] != codes:
            current = self.client.currentText()
            self.client.clear()
            self.client.addItems(codes)
            self.client.setEditText(current if current or not codes else codes[0])
        if not self.when.text():
            self._now()
        known = self.session.visits_of(self.who)
        if self.visit is None:  # readings close in time form one visit, so the bench goes on with it
            self.visit = self._near(known)
        elif self.visit not in known:
            self.visit = None  # undone
        self.visits.clear()
        self.visits.addItem(NEW, None)
        for n, start in known:
            self.visits.addItem(start[:16].replace("T", " "), (n, start))
        self.visits.setCurrentIndex(next((k for k in range(self.visits.count()) if self.visits.itemData(k) == self.visit), 0))

    def _near(self, known):
        at = self.moment
        if at is None:
            return None
        wall, _, timed = wall_clock(at)
        gap = self.session.visit_gap_seconds
        near = []
        for n, start in known:
            other, _, other_timed = wall_clock(start)
            if other_timed == timed and abs(other - wall) < gap:
                near.append((abs(other - wall), (n, start)))
        return min(near)[1] if near else None

    def show_assessor(self, name):
        """Show who measured; what was typed for a visit that has no reading yet stays."""
        if not self.assessor.hasFocus() and (self.visit or name):
            self.assessor.setText(name)

    def choose_client(self, _text):
        """Go to a new visit of the client named."""
        self.client.completer().popup().hide()
        self.visit = None
        self._now()
        self.chosen.emit()

    def choose_visit(self, _index):
        """Go to a visit of the list."""
        self.visit = self.visits.currentData()
        if self.visit:
            self.when.setText(self.visit[1][:16].replace("T", " "))
        else:
            self._now()
        self.chosen.emit()

    def _now(self):
        self.when.setText(datetime.now().strftime("%Y-%m-%d %H:%M"))
