"""The lens bar: what every stage looks at, and what it hides."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QMenu,
    QPushButton,
    QVBoxLayout,
    QWidget,
    QWidgetAction,
)

from ..domain.metrics import metric_named
from ..wording.numbers import count
from .widgets import label

ALL = "all, pooled"


class LensBar(QWidget):
    """Metric, reference, clients, setting."""

    def __init__(self, session):
        super().__init__()
        self.session = session
        self.setObjectName("lens")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.metric, self.reference, self.setting = QComboBox(), QComboBox(), QComboBox()
        self.clients = QPushButton("All clients")
        self.hidden = label("", "faint")
        box = QHBoxLayout(self)
        box.setContentsMargins(16, 8, 16, 8)
        for text, widget in (
            ("&Metric", self.metric),
            ("&Reference", self.reference),
            ("&Clients", self.clients),
            ("&Setting", self.setting),
        ):
            tag = label(text, "faint")
            tag.setBuddy(widget)
            widget.setAccessibleName(text.replace("&", ""))
            box.addWidget(tag)
            box.addWidget(widget)
            box.addSpacing(8)
        box.addWidget(self.hidden)
        box.addStretch(1)
        self.metric.activated.connect(self._apply)
        self.reference.activated.connect(self._apply)
        self.setting.activated.connect(self._apply)
        self._menu()

    def _menu(self):
        self.menu = QMenu(self)
        holder = QWidget()
        column = QVBoxLayout(holder)
        self.search = QLineEdit()
        self.search.setPlaceholderText("Find a client")
        self.search.setAccessibleName("Find a client")
        self.list = QListWidget()
        self.list.setAccessibleName("Clients shown")
        self.list.setUniformItemSizes(True)
        self.everyone = QPushButton("Show all clients")
        column.addWidget(self.search)
        column.addWidget(self.list)
        column.addWidget(self.everyone)
        action = QWidgetAction(self.menu)
        action.setDefaultWidget(holder)
        self.menu.addAction(action)
        self.clients.setMenu(self.menu)
        self.search.textChanged.connect(self._filter)
        self.everyone.clicked.connect(self._all)
        self.menu.aboutToHide.connect(self._apply)

    def _filter(self, text):
        for k in range(self.list.count()):
            item = self.list.item(k)
            item.setHidden(text.lower() not in item.text().lower())

    def _all(self):
        for k in range(self.list.count()):
            self.list.item(k).setCheckState(Qt.CheckState.Checked)
        self.menu.hide()

    def refresh(self):
        """Show the study's choices and the lens."""
        lens, snapshot = self.session.lens, self.session.snapshot()
        names = [m for m in self.session.metrics() if m]
        names += [m for m in snapshot.columns if m not in names]
        self._fill(self.metric, [(metric_named(m).label, m) for m in names], lens.metric)
        references = [(i.name, i.name) for i in snapshot.instruments.values() if i.kind == "reference"]
        self._fill(self.reference, references, lens.reference or (references[0][1] if references else None))
        labels = sorted({s.label for s in snapshot.settings.values()})
        self._fill(self.setting, [(ALL, None), *((x, x) for x in labels)], lens.setting)
        codes = [c.code for c in snapshot.clients.values()]
        if [self.list.item(k).text() for k in range(self.list.count())] != codes:
            self.list.clear()
            for code in codes:
                item = QListWidgetItem(code, self.list)
                item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
                item.setCheckState(
                    Qt.CheckState.Checked if lens.clients is None or code in lens.clients else Qt.CheckState.Unchecked
                )
        shown = len(codes) if lens.clients is None else len(lens.clients & set(codes))
        self.clients.setText(f"All {shown} clients" if shown == len(codes) else f"{shown} of {len(codes)} clients")
        self.hidden.setText("" if shown == len(codes) else f"{count(len(codes) - shown, 'client')} hidden")

    @staticmethod
    def _fill(combo, items, current):
        combo.clear()
        for text, data in items:
            combo.addItem(text, data)
        combo.setCurrentIndex(max(combo.findData(current), 0))

    def _apply(self, *_):
        checked = {
            self.list.item(k).text() for k in range(self.list.count()) if self.list.item(k).checkState() == Qt.CheckState.Checked
        }
        everyone = len(checked) in (0, self.list.count())
        self.session.look(
            replace(
                self.session.lens,
                metric=self.metric.currentData() or self.session.lens.metric,
                reference=self.reference.currentData(),
                setting=self.setting.currentData(),
                clients=None if everyone else frozenset(checked),
            )
        )
