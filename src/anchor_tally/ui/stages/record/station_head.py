"""The head of a station: instrument, what makes readings comparable, sites, frequencies; and the lanes they make."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QLabel, QWidget

from ....analysis.bench import LanePlan
from ....app.session import Session
from ....domain.metrics import region_of
from ....domain.stations import FREQUENCIES, STATIONS, Station
from ....methods.registry import EQUATIONS
from ...widgets import Flow, paired


class StationHead(QWidget):
    """Choices of one station."""

    changed = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.station: Station = STATIONS[0]
        self.frequencies: list[int] = []
        self.shown: tuple[str, str] | None = None
        self.visit: int | None = None
        self.instrument, self.setting, self.profile, self.frequency = QComboBox(), QComboBox(), QComboBox(), QComboBox()
        for box, name in (
            (self.instrument, "Instrument of the station"),
            (self.setting, "Setting"),
            (self.profile, "Sites of the profile"),
            (self.frequency, "Add a frequency"),
        ):
            box.setAccessibleName(name)
            if box is not self.frequency:
                box.currentIndexChanged.connect(lambda _k: self.changed.emit())
        for box, width in ((self.instrument, 160), (self.setting, 190)):
            box.setEditable(True)
            box.setMinimumWidth(width)
            line = box.lineEdit()
            if line is not None:
                line.editingFinished.connect(self.changed)
        self.frequency.addItem("Add a frequency", None)
        for f in FREQUENCIES:
            self.frequency.addItem(f"{f} kHz", f)
        self.frequency.currentIndexChanged.connect(self._add_frequency)
        self.sites = paired("S&ites", self.profile)
        self.setting_pair = paired("Setting", self.setting)
        row = Flow()
        row.addWidget(paired("I&nstrument", self.instrument))
        for w in (self.setting_pair, self.sites, self.frequency):
            row.addWidget(w)
        self.setLayout(row)
        for combo in (self.profile, self.setting):
            combo.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            combo.setMinimumContentsLength(20)
        self._profiles()

    def _profiles(self) -> None:
        self.profile.addItem("All sites", None)
        seen: set[frozenset[str]] = set()
        for e in EQUATIONS.values():
            sites = tuple(dict.fromkeys(k for k in e.all_inputs if k.startswith("skinfold_")))
            if len(sites) > 2 and frozenset(sites) not in seen:
                seen.add(frozenset(sites))
                self.profile.addItem(f"{len(sites)}: {e.label}", sites)

    def _add_frequency(self, _index: int) -> None:
        if self.frequency.currentData():
            self.frequencies.append(self.frequency.currentData())
            self.frequency.setCurrentIndex(0)
            self.changed.emit()

    @property
    def name(self) -> str:
        """The instrument's name."""
        return self.instrument.currentText().strip() or self.station.instrument

    @property
    def label_of_setting(self) -> str:
        """The setting that readings get here."""
        return self.setting.currentText().strip() if self.station.setting_label else ""

    def show_station(self, station: Station, visit: int | None, who: str, day: str, used_settings: Sequence[str]) -> None:
        """Offer the choices of a station; what was chosen stays while station and client do.

        Another visit that has readings here (under ``used_settings``) is shown with their setting.
        """
        if (station.id, who) == self.shown and (visit == self.visit or self.visit is None or not used_settings):
            self.visit = visit
            return
        self.shown, self.visit, self.station = (station.id, who), visit, station
        self.setting_pair.setVisible(bool(station.setting_label))
        self.sites.setVisible(station.id == "skinfolds")
        self.frequency.setVisible(station.id == "impedance")
        known_items = self.session.catalogue()
        known = [i.name for i in known_items.instruments.values() if i.id > 0 and i.kind == station.kind and not i.equation]
        used_here = [
            i
            for i, kind, m in self.session.instrument_lanes()
            if kind == station.kind and (m in station.metrics or region_of(m)[1] != "total")
        ]
        names = list(dict.fromkeys([*used_here, station.instrument, *known]))
        own = [s.label for s in known_items.settings.values() if known_items.instruments[s.instrument].name == names[0]]
        settings = list(dict.fromkeys([*station.setting_choices, *own]))
        for box, items in ((self.instrument, names), (self.setting, settings)):
            box.blockSignals(True)
            box.clear()
            box.addItems(items)
            line = box.lineEdit()
            if line is not None:
                line.setCursorPosition(0)
            box.blockSignals(False)
        tag = self.setting_pair.findChild(QLabel)
        if tag is not None:
            tag.setText(station.setting_label)
        in_force = used_settings[0] if used_settings else known_items.setting_in_force(names[0], day, who)
        read_without = bool(used_here) and not own
        self.setting.setEditText(in_force if in_force or used_settings or read_without or not settings else settings[0])

    def lanes(self) -> list[LanePlan]:
        """Lanes of the station: instrument, kind, metric, repeats."""
        station = self.station
        metrics = list(station.metrics)
        if station.id == "impedance":
            metrics += [f"{what}_{f}khz" for f in self.frequencies for what in ("resistance", "reactance")]
            metrics += [m for m in self.session.metrics() if m.startswith(("resistance_", "reactance_"))]
        if station.id == "skinfolds" and self.profile.currentData():
            metrics = list(self.profile.currentData())
        repeats = dict.fromkeys(station.once, 1)
        return [LanePlan(self.name, station.kind, m, repeats.get(m, station.repeats)) for m in dict.fromkeys(metrics)]
