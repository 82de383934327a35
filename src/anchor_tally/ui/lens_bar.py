"""The lens bar: what every stage that asks about results looks at, and what it hides."""

from __future__ import annotations

from dataclasses import replace
from datetime import date
from typing import Any

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

from ..analysis.pairs.comparator import substitutes
from ..analysis.people.groups import client_groups
from ..app.session import Session
from ..domain.lens import WINDOWS
from ..domain.metrics import metric_named
from ..wording.numbers import count
from .widgets import label, tip

ALL = "combined"
MOST_WIDE = 150  # pixels of text: a long name must not cut the other fields
NEAREST, AROUND = "nearest", "mean of all"


class LensBar(QWidget):
    """Metric, reference, clients, setting, pairing window."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("lens")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.metric_box, self.reference, self.setting, self.window_, self.tallies = (
            QComboBox() for _ in range(5)
        )
        self.clients = QPushButton("All clients")
        self.hidden_ = label("", "faint")
        for hours, text in WINDOWS.items():
            self.window_.addItem(text, hours)
        for text, around in ((NEAREST, False), (AROUND, True)):
            self.tallies.addItem(text, around)
        tip(self.window_, "Longest time between a reading and its scan")
        tip(
            self.tallies,
            "Which readings in the window are compared with the scan: the nearest visit, or the"
            " mean of all",
        )
        box = QHBoxLayout(self)
        box.setContentsMargins(16, 8, 10, 8)
        box.setSpacing(4)
        for text, widget in (
            ("&Metric", self.metric_box),
            ("&Reference", self.reference),
            ("&Clients", self.clients),
            ("&Setting", self.setting),
            ("&Window", self.window_),
        ):
            tag = label(text, "faint")
            tag.setTextFormat(Qt.TextFormat.AutoText)  # the ampersand is the key
            tag.setBuddy(widget)
            widget.setAccessibleName(text.replace("&", ""))
            box.addWidget(tag)
            box.addWidget(widget)
            box.addSpacing(2)
        self.tallies.setAccessibleName("Readings used")
        box.addWidget(self.tallies)
        box.addWidget(self.hidden_)
        box.addStretch(1)
        for combo in (self.metric_box, self.reference, self.setting, self.window_, self.tallies):
            combo.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
            combo.activated.connect(self._apply)
        self._widen(self.window_)
        self._widen(self.tallies, 110)
        self._menu()

    def _menu(self) -> None:
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
        self.group = QComboBox()
        self.group.setAccessibleName("Group of clients")
        column.addWidget(self.group)
        column.addWidget(self.everyone)
        action = QWidgetAction(self.menu)
        action.setDefaultWidget(holder)
        self.menu.addAction(action)
        self.clients.setMenu(self.menu)
        self.search.textChanged.connect(self._filter)
        self.everyone.clicked.connect(self._all)
        self.group.activated.connect(self._group_chosen)
        self.menu.aboutToHide.connect(self._apply)

    def _items(self) -> list[QListWidgetItem]:
        found = (self.list.item(k) for k in range(self.list.count()))
        return [item for item in found if item is not None]

    def _filter(self, text: str) -> None:
        for item in self._items():
            item.setHidden(text.lower() not in item.text().lower())

    def _group_chosen(self) -> None:
        """Show the clients of a group alone."""
        codes = self.group.currentData()
        if codes is None:
            return
        for item in self._items():
            shown = item.text() in codes
            item.setCheckState(Qt.CheckState.Checked if shown else Qt.CheckState.Unchecked)
        self.group.setCurrentIndex(0)
        self.menu.hide()

    def _all(self) -> None:
        for item in self._items():
            item.setCheckState(Qt.CheckState.Checked)
        self.menu.hide()

    def refresh(self) -> None:
        """Show the study's choices and the lens."""
        lens, items = self.session.lens, self.session.catalogue()
        names = self.session.metrics_known()
        self._fill(
            self.metric_box, [(m.label, m.id) for m in map(metric_named, names) if m], lens.metric
        )
        references: list[tuple[str, str | None]] = [
            (i.name, i.name) for i in items.instruments.values() if i.kind == "reference"
        ] or [("none", None)]
        others = [
            (f"{name} (not a reference)", name)
            for name in substitutes(self.session.readers(lens.metric))
        ]
        self._fill(self.reference, [*references, *others], lens.reference or references[0][1])
        labels = sorted({s.label for s in items.settings.values()})
        self._fill(self.setting, [(ALL, None), *((x, x) for x in labels)], lens.setting)
        self.window_.setCurrentIndex(max(self.window_.findData(lens.window_hours), 0))
        self.tallies.setCurrentIndex(int(lens.around))
        codes = [c.code for c in items.clients.values()]
        if [item.text() for item in self._items()] != codes:
            self.list.clear()
            for code in codes:
                item = QListWidgetItem(code, self.list)
                item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
                shown = lens.clients is None or code in lens.clients
                item.setCheckState(Qt.CheckState.Checked if shown else Qt.CheckState.Unchecked)
        today = date.fromisoformat(self.session.today())
        groups = client_groups(items.clients.values(), today)
        offered = [("Only a group…", None), *((g.name, g.codes) for g in groups)]
        self._fill(self.group, offered, None)
        self.group.setVisible(bool(groups))
        there = len(codes) if lens.clients is None else len(lens.clients & set(codes))
        self.clients.setText(f"All {there}" if there == len(codes) else f"{there} of {len(codes)}")
        self.hidden_.setText(
            "" if there == len(codes) else f"{count(len(codes) - there, 'client')} hidden"
        )

    @staticmethod
    def _fill(combo: QComboBox, items: list[tuple[str, Any]], current: Any) -> None:
        if [(combo.itemText(k), combo.itemData(k)) for k in range(combo.count())] != items:
            combo.clear()
            for text, data in items:
                combo.addItem(text, data)
        combo.setCurrentIndex(max(combo.findData(current), 0))
        LensBar._widen(combo)

    @staticmethod
    def _widen(combo: QComboBox, most: int = 60) -> None:
        """At least as wide as its longest words, up to ``most`` pixels.

        In a narrow window all boxes must fit.
        """
        wide = max(
            (
                combo.fontMetrics().horizontalAdvance(combo.itemText(k))
                for k in range(combo.count())
            ),
            default=40,
        )
        combo.setMinimumWidth(min(wide, most) + 42)
        combo.setMaximumWidth(min(wide, MOST_WIDE) + 42)

    def _apply(self, *_: object) -> None:
        items = self._items()
        checked = {item.text() for item in items if item.checkState() == Qt.CheckState.Checked}
        everyone = len(checked) in (0, len(items))
        self.session.look(
            replace(
                self.session.lens,
                metric=self.metric_box.currentData() or self.session.lens.metric,
                reference=self.reference.currentData(),
                setting=self.setting.currentData(),
                clients=None if everyone else frozenset(checked),
                window_hours=self.window_.currentData(),
                around=bool(self.tallies.currentData()),
            )
        )
