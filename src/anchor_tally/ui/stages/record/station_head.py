"""The head of a station: instrument, what makes readings comparable, sites, further frequencies; and the lanes they make."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QWidget

from ....domain.metrics import metric_named, region_of
from ....domain.stations import FREQUENCIES, STATIONS
from ....methods.registry import EQUATIONS
from ...widgets import label

_AT_STATIONS = frozenset(m for s in STATIONS for m in s.metrics)


def device_lanes(session, added):
    """Lanes of the devices: what was read or is offered by a device, what no station has, and what was just added."""
    instruments = session.snapshot().instruments
    by_name = {i.name: i for i in instruments.values() if i.id > 0}
    there = [
        x for x in session.instrument_lanes() if x[1] == "device" or (x[2] not in _AT_STATIONS and region_of(x[2])[1] == "total")
    ]
    for number, metrics in session.offered().items():
        i = instruments[number]
        there += [(i.name, i.kind, m) for m in metrics if i.kind == "device" and (i.name, i.kind, m) not in there]
    there += [a for a in added if a not in there]
    order = {name: (i.kind == "reference", i.position, i.id) for name, i in by_name.items()}
    there.sort(key=lambda x: order.get(x[0], (True, 10**6, 10**6)))
    planned = {name: 1 if i.kind == "reference" else i.repeats for name, i in by_name.items()}
    return [(name, kind, m, planned.get(name, 3)) for name, kind, m in there if metric_named(m)]


class StationHead(QWidget):
    """Choices of one station."""

    changed = pyqtSignal()

    def __init__(self, session):
        super().__init__()
        self.session, self.station, self.frequencies = session, None, []
        self.shown, self.visit = None, None
        self.instrument, self.setting, self.profile, self.frequency = QComboBox(), QComboBox(), QComboBox(), QComboBox()
        self.setting_tag, self.profile_tag = label("", "faint"), label("S&ites", "faint")
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
            box.lineEdit().editingFinished.connect(self.changed)
        self.frequency.addItem("Add a frequency", None)
        for f in FREQUENCIES:
            self.frequency.addItem(f"{f} kHz", f)
        self.frequency.currentIndexChanged.connect(self._add_frequency)
        instrument_tag = label("I&nstrument", "faint")
        for tag, box in ((instrument_tag, self.instrument), (self.setting_tag, self.setting), (self.profile_tag, self.profile)):
            tag.setBuddy(box)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        for w in (
            instrument_tag,
            self.instrument,
            self.setting_tag,
            self.setting,
            self.profile_tag,
            self.profile,
            self.frequency,
        ):
            row.addWidget(w)
        row.addStretch(1)
        self._profiles()

    def _profiles(self):
        self.profile.addItem("All sites", None)
        seen = set()
        for e in EQUATIONS.values():
            sites = tuple(dict.fromkeys(k for k in e.all_inputs if k.startswith("skinfold_")))
            if len(sites) > 2 and frozenset(sites) not in seen:
                seen.add(frozenset(sites))
                self.profile.addItem(f"{len(sites)}: {e.label}", sites)

    def _add_frequency(self, _index):
        if self.frequency.currentData():
            self.frequencies.append(self.frequency.currentData())
            self.frequency.setCurrentIndex(0)
            self.changed.emit()

    @property
    def name(self):
        """The instrument's name."""
        return self.instrument.currentText().strip() or self.station.instrument

    @property
    def label_of_setting(self):
        """The setting that readings get here."""
        return self.setting.currentText().strip() if self.station.setting_label else ""

    def show_station(self, station, visit, who, day, used_settings):
        """Offer the choices of a station; what was chosen stays while station and client do.

        Another visit that has readings here (under ``used_settings``) is shown with their setting.
        """
        if (station, who) == self.shown and (visit == self.visit or self.visit is None or not used_settings):
            self.visit = visit
            return
        self.shown, self.visit, self.station = (station, who), visit, station
        for w in (self.setting_tag, self.setting):
            w.setVisible(bool(station.setting_label))
        for w in (self.profile_tag, self.profile):
            w.setVisible(station.id == "skinfolds")
        self.frequency.setVisible(station.id == "impedance")
        snapshot = self.session.snapshot()
        known = [i.name for i in snapshot.instruments.values() if i.id > 0 and i.kind == station.kind and not i.equation]
        used_here = [
            i
            for i, kind, m in self.session.instrument_lanes()
            if kind == station.kind and (m in station.metrics or region_of(m)[1] != "total")
        ]
        names = list(dict.fromkeys([*used_here, station.instrument, *known]))
        own = [s.label for s in snapshot.settings.values() if snapshot.instruments[s.instrument].name == names[0]]
        settings = list(dict.fromkeys([*station.setting_choices, *own]))
        for box, items in ((self.instrument, names), (self.setting, settings)):
            box.blockSignals(True)
            box.clear()
            box.addItems(items)
            box.lineEdit().setCursorPosition(0)
            box.blockSignals(False)
        self.setting_tag.setText(station.setting_label)
        in_force = used_settings[0] if used_settings else self.session.settings_at(names[0], day, who)
        read_without = bool(used_here) and not own
        self.setting.setEditText(in_force if in_force or used_settings or read_without or not settings else settings[0])

    def lanes(self):
        """Lanes of the station: instrument, kind, metric, repeats."""
        station = self.station
        metrics = list(station.metrics)
        if station.id == "impedance":
            metrics += [f"{what}_{f}khz" for f in self.frequencies for what in ("resistance", "reactance")]
            metrics += [m for m in self.session.metrics() if m.startswith(("resistance_", "reactance_"))]
        if station.id == "skinfolds" and self.profile.currentData():
            metrics = list(self.profile.currentData())
        repeats = dict.fromkeys(station.once, 1)
        return [(self.name, station.kind, m, repeats.get(m, station.repeats)) for m in dict.fromkeys(metrics)]
