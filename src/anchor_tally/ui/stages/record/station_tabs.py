"""The tabs of the stations: those that the study uses first, the others on request."""

from __future__ import annotations

from collections.abc import Mapping

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QButtonGroup, QPushButton, QWidget

from ....app.session import Session
from ....domain.stations import STATIONS
from ...widgets import Flow

DEVICES, CHECK, METHODS = "devices", "check", "methods"
LABELS = {
    DEVICES: "Devices",
    **{s.id: s.label for s in STATIONS},
    CHECK: "Check weight",
    METHODS: "Methods",
}


class StationTabs(Flow):
    """One button a station; ``wanted`` names the station whose button was pressed."""

    wanted = pyqtSignal(str)
    more_wanted = pyqtSignal()

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(4)
        self.session, self.all_shown = session, False
        self.buttons: dict[str, QPushButton] = {}
        group = QButtonGroup(parent)
        for key, text in LABELS.items():
            button = QPushButton(text)
            button.setObjectName("tab")
            button.setCheckable(True)
            button.setAccessibleName(f"Station {text}")
            button.clicked.connect(lambda _=False, k=key: self.wanted.emit(k))
            group.addButton(button)
            self.buttons[key] = button
            self.addWidget(button)
        self.others = QPushButton("More stations")
        self.others.setObjectName("tab")
        self.others.setAccessibleName("Show stations that this study does not use")
        self.others.clicked.connect(self._show_all)
        self.addWidget(self.others)
        self.buttons[DEVICES].setChecked(True)

    def used(self, current: str) -> list[str]:
        """Stations that this study uses and the current one, or all where they were asked for."""
        if self.all_shown:
            return list(LABELS)
        items = self.session.catalogue()
        read = {(kind, m) for _, kind, m in self.session.instruments_and_metrics()}
        offered = {
            (item.kind, m)
            for number, metrics in items.offers.items()
            if (item := items.instruments.get(number)) is not None
            for m in metrics
        }
        used = {DEVICES, "scan", METHODS, current, *items.stations}
        used |= {s.id for s in STATIONS if any((s.kind, m) in read | offered for m in s.metrics)}
        if any(i.kind == "device" for i in items.instruments.values()):
            used.add(CHECK)
        return [key for key in LABELS if key in used]

    def beside(self, current: str, step: int) -> str:
        """The station that stands so many steps after the current one, in a circle."""
        keys = self.used(current)
        return keys[(keys.index(current) + step) % len(keys)]

    def show_used(self, current: str, *, without_fat: bool) -> None:
        """Show the stations in use; the visual estimate not to who is to see no fat values."""
        shown = self.used(current)
        for key, button in self.buttons.items():
            button.setVisible(key in shown and (key != "visual" or not without_fat))
        self.others.setVisible(len(shown) < len(LABELS))

    def show_counts(self, saved: Mapping[str, int]) -> None:
        """Write the number of metrics saved in this visit on each button."""
        for key, button in self.buttons.items():
            n = saved.get(key, 0)
            button.setText(LABELS[key] + (f" · {n}" if n else ""))

    def _show_all(self) -> None:
        self.all_shown = True
        self.more_wanted.emit()
