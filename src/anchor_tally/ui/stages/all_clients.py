"""The levels of all clients in the place of one client's course."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtWidgets import QComboBox, QPushButton

from ...analysis.time.group_levels import ClientLevel, GroupRequest, GroupResult
from ...app.jobs import Job
from ...app.session import Session
from ...domain.text import as_sentence
from ...figures import group_levels
from ...figures.style import Palette
from ...wording import group_levels as words
from ..jobs import Jobs
from ..widgets import tip


class AllClients(QObject):
    """The button, the order, and what was found; ``changed`` when something else is to be shown."""

    changed = pyqtSignal()
    refused = pyqtSignal(str)

    def __init__(self, session: Session, jobs: Jobs, parent: QObject) -> None:
        super().__init__(parent)
        self.session, self.jobs = session, jobs
        self.found: GroupResult | None = None
        self.button = QPushButton("&All clients")
        self.button.setCheckable(True)
        tip(self.button, "Levels of all clients now, and their changes over four weeks")
        self.button.toggled.connect(self._toggled)
        self.order = QComboBox()
        for key, text in words.ORDERS:
            self.order.addItem(text, key)
        self.order.setAccessibleName("Order of clients")
        self.order.activated.connect(lambda _k: self.changed.emit())
        self.order.hide()

    def _toggled(self, on: bool) -> None:
        self.order.setVisible(on)
        if on:
            self.fetch()
        else:
            self.found = None
            self.changed.emit()

    def fetch(self) -> None:
        """Compute them anew where they are wanted."""
        if not self.button.isChecked() or self.session.writing:
            return
        lens = self.session.lens
        job = Job(
            "Computing the levels of all clients",
            lambda: self.session.wide_snapshot_steps((lens.metric,)),
            lambda snapshot: GroupRequest(snapshot, lens).run(),
            background=True,
        )
        self.jobs.start("all clients", job, self._show, self._refuse)

    def _show(self, found: GroupResult) -> None:
        if self.button.isChecked():
            self.found = found
            self.changed.emit()

    def _refuse(self, text: str) -> None:
        self.button.setChecked(False)
        self.refused.emit(as_sentence(text))

    def rows(self) -> tuple[ClientLevel, ...]:
        """Clients in the order that is chosen."""
        return (
            () if self.found is None else words.ordered(self.found.rows, self.order.currentData())
        )

    def lines(self) -> list[tuple[str, str, str, str]]:
        """Rows of the table."""
        return [] if self.found is None else [words.row(x, self.found.metric) for x in self.rows()]

    def content(self) -> group_levels.GroupInfo | None:
        """What the picture shows."""
        return None if self.found is None else group_levels.info(self.rows(), self.found.metric)

    def draw(self, axes: Any, family: str, palette: Palette) -> None:
        """Draw the picture."""
        what = self.content()
        if what is not None:
            group_levels.draw(axes, what, palette, family)
