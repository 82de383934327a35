"""Stated values: the margin, the precision of a scan, and the spread of offsets."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import QGridLayout, QLineEdit, QScrollArea, QVBoxLayout, QWidget

from ....app.session import Session
from ....domain.errors import UserError
from ....domain.metrics import Metric, metric_named
from ....domain.units import parse_difference
from ....study.edits.checks import StateValue
from ....wording.bench import STATED
from ....wording.numbers import number
from ...widgets import label, select_on_click
from .tab import Tab


class Stated(Tab):
    """One line a metric of the study, one field a stated value; empty means not stated."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.metrics: dict[str, Metric] = {}
        self.fields: dict[tuple[str, str], QLineEdit] = {}
        self.lines = QWidget()
        self.lines.setObjectName("page")
        self.grid = QGridLayout(self.lines)
        self.grid.setHorizontalSpacing(18)
        self.grid.setVerticalSpacing(8)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(self.lines)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 6, 0, 0)
        for what in STATED:
            column.addWidget(label(f"{what.label}: {what.meaning}", "faint", wrap=True))
        column.addWidget(scroll, 1)

    def refresh(self) -> None:
        shown = [m for m in map(metric_named, self.session.metrics()) if m is not None]
        if {m.id for m in shown} != {metric for metric, _ in self.fields}:
            self._fill(shown)
        stated = self.session.catalogue().stated
        for m in shown:
            for what in STATED:
                field, value = self.fields[m.id, what.key], stated.get((m.id, what.key))
                field.setText("" if value is None else f"{value:g}")
                own = m.margin if what.key == "margin" else None
                field.setPlaceholderText("none" if own is None else f"{number(own, 1)}")
                field.setEnabled(not self.session.read_only)

    def _fill(self, shown: list[Metric]) -> None:
        while self.grid.count():
            item = self.grid.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.deleteLater()
        self.fields, self.metrics = {}, {m.id: m for m in shown}
        for k, head in enumerate(("Metric", *(w.label for w in STATED))):
            self.grid.addWidget(label(head, "faint"), 0, k)
        for row, m in enumerate(shown, start=1):
            self.grid.addWidget(label(f"{m.label} ({m.difference_unit})"), row, 0)
            for k, what in enumerate(STATED, start=1):
                field = QLineEdit()
                select_on_click(field)
                field.setMaximumWidth(110)
                field.setAccessibleName(f"{what.label} of {m.label}")
                field.editingFinished.connect(partial(self._typed, m.id, what.key))
                self.fields[m.id, what.key] = field
                self.grid.addWidget(field, row, k)
        self.grid.setColumnStretch(len(STATED) + 1, 1)
        self.grid.setRowStretch(len(shown) + 1, 1)

    def _typed(self, metric: str, what: str) -> None:
        text = self.fields[metric, what].text().strip()
        try:
            value = parse_difference(text, self.metrics[metric]) if text else None
            if value != self.session.catalogue().stated.get((metric, what)):
                self.session.do(StateValue(metric, what, value))
        except UserError as error:
            self.message.emit(str(error), True)
            self.refresh()
