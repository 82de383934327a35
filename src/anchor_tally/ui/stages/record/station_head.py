"""The head of a station: instrument, what makes readings comparable, sites, frequencies.

And the rows they make.
"""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QLabel, QPushButton, QVBoxLayout, QWidget

from ....analysis.entry.entry_rows import EntryRow
from ....app.session import Session
from ....domain.metrics import metric_named, region_of, tells_fat
from ....domain.repeats import Rule
from ....domain.stations import FREQUENCIES, SEGMENTS, STATIONS, Station, base_of, setting_for
from ....methods.equation import FEMALE, MALE
from ....methods.registry import EQUATIONS
from ...widgets import Flow, letters_wide, paired
from .station_card import StationCard

CHOSEN = "Chosen sites"
# stations with sets of sites: what their metrics begin with, and the fewest sites of a set
SETS_OF = {"skinfolds": ("skinfold_", 3), "girths": ("girth_", 2)}
_SEX = {"male": MALE, "female": FEMALE}


class StationHead(QWidget):
    """Choices of one station."""

    changed = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.station: Station = STATIONS[0]
        self.frequencies: list[int] = []
        self.segments = False
        self.without_fat = False
        self.card = StationCard(session)
        self.shown: tuple[str, str] | None = None
        self.visit: int | None = None
        self.instrument, self.setting, self.profile, self.frequency = (
            QComboBox(),
            QComboBox(),
            QComboBox(),
            QComboBox(),
        )
        for box, name in (
            (self.instrument, "Instrument of the station"),
            (self.setting, "Setting"),
            (self.profile, "Sites of the profile"),
            (self.frequency, "Add a frequency"),
        ):
            box.setAccessibleName(name)
            # a set of sites is shown again from the study: it is taken before anything is refreshed
            if box not in (self.frequency, self.profile):
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
        self.frequency.addItem("five segments", 0)
        self.frequency.currentIndexChanged.connect(self._add_frequency)
        self.setting.activated.connect(lambda _k: self.card.remember_setting(self.label_of_setting))
        self.profile.activated.connect(
            lambda _k: self.card.take_sites(tuple(self.profile.currentData() or ()))
        )
        self.more = QPushButton("Sites, repeats, landmarks…")
        self.more.setCheckable(True)
        self.more.toggled.connect(self.card.setVisible)
        self.sites = paired("S&ites", self.profile)
        self.setting_pair = paired("Setting", self.setting)
        row = Flow()
        row.addWidget(paired("I&nstrument", self.instrument))
        for w in (self.setting_pair, self.sites, self.frequency, self.more):
            row.addWidget(w)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addLayout(row)
        column.addWidget(self.card)
        for combo in (self.profile, self.setting):
            letters_wide(combo, 20)
        self.offered: tuple[str, str] | None = None

    def _offer_sets(self, station: Station, sex: str) -> None:
        """Offer the sets of sites that equations for this sex need."""
        if self.offered == (station.id, sex) or station.id not in SETS_OF:
            return
        self.offered = (station.id, sex)
        prefix, least = SETS_OF[station.id]
        self.profile.blockSignals(True)
        self.profile.clear()
        self.profile.addItem("All sites", None)
        seen: set[frozenset[str]] = set()
        for e in EQUATIONS.values():
            if sex and _SEX[sex] not in e.sexes:
                continue
            own = {"male": e.men, "female": e.women}.get(sex)
            inputs = e.all_inputs if own is None else (*e.inputs, *own)
            sites = tuple(dict.fromkeys(k for k in inputs if k.startswith(prefix)))
            if len(sites) >= least and frozenset(sites) not in seen:
                seen.add(frozenset(sites))
                mixed = own is None and bool(e.men or e.women)
                self.profile.addItem(e.label if mixed else f"{len(sites)} sites: {e.label}", sites)
        self.profile.blockSignals(False)

    def _add_frequency(self, _index: int) -> None:
        found = self.frequency.currentData()
        if found is not None:
            if found:
                self.frequencies.append(found)
            else:
                self.segments = True
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

    def show_station(
        self, station: Station, visit: int | None, who: str, day: str, used_settings: Sequence[str]
    ) -> None:
        """Offer the choices of a station; what was chosen stays while station and client do.

        Another visit that has readings here (under ``used_settings``) is shown with their setting.
        """
        self.card.show_station(station)
        client = self.session.catalogue().client_coded(who)
        self._offer_sets(station, client.sex if client is not None else "")
        self._show_sites(station)
        if (station.id, who) == self.shown and (
            visit == self.visit or self.visit is None or not used_settings
        ):
            self.visit = visit
            return
        self.shown, self.visit, self.station = (station.id, who), visit, station
        self.setting_pair.setVisible(bool(station.setting_label))
        self.sites.setVisible(station.id in SETS_OF)
        self.more.setVisible(station.kind == "method" and station.id != "visual")
        self.card.setVisible(self.more.isChecked() and not self.more.isHidden())
        self.frequency.setVisible(station.id == "impedance")
        known_items = self.session.catalogue()
        known = [
            i.name
            for i in known_items.instruments.values()
            if i.id > 0 and i.kind == station.kind and not i.equation
        ]
        used_here = [
            i
            for i, kind, m in self.session.instruments_and_metrics()
            if kind == station.kind and (m in station.metrics or region_of(m)[1] != "total")
        ]
        own_first = [] if station.kind == "reference" and known else [station.instrument]
        names = list(dict.fromkeys([*used_here, *own_first, *known]))
        own = [
            s.label
            for s in known_items.settings.values()
            if known_items.instruments[s.instrument].name == names[0]
        ]
        settings = list(
            dict.fromkeys([*station.setting_choices, *(b for b in map(base_of, own) if b)])
        )
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
        bases = [b for b in map(base_of, used_settings) if b] or [
            base_of(x) for x in used_settings[:1]
        ]
        remembered = self.card.choice(station).setting
        in_force = (
            bases[0]
            if bases
            else remembered or base_of(known_items.setting_in_force(names[0], day, who))
        )
        read_without = bool(used_here) and not own
        self.setting.setEditText(
            in_force if in_force or used_settings or read_without or not settings else settings[0]
        )

    def _show_sites(self, station: Station) -> None:
        """Show the set of sites that was chosen for the study."""
        chosen = self.card.choice(station).metrics
        self.profile.blockSignals(True)
        at = self.profile.findText(CHOSEN)
        if at >= 0:
            self.profile.removeItem(at)
        sets = [self.profile.itemData(k) for k in range(self.profile.count())]
        same = next((k for k, d in enumerate(sets) if d and set(d) == set(chosen)), None)
        if station.id in SETS_OF:
            if chosen and same is None:
                self.profile.insertItem(1, CHOSEN, chosen)
                same = 1
            if chosen or station.id in self.session.catalogue().stations:
                self.profile.setCurrentIndex(same or 0)
        self.profile.blockSignals(False)

    def entry_rows(self) -> list[EntryRow]:
        """Rows of the station, in the order of its sites."""
        station, items = self.station, self.session.catalogue()
        choice = self.card.choice(station)
        metrics = list(choice.metrics or station.metrics)
        if station.id == "impedance":
            metrics += [
                f"{what}_{f}khz" for f in self.frequencies for what in ("resistance", "reactance")
            ]
            if self.segments:
                bands = dict.fromkeys((50, *self.frequencies))
                metrics += [f"resistance_{where}_{f}khz" for where in SEGMENTS for f in bands]
            metrics += [
                m for m in self.session.metrics() if m.startswith(("resistance_", "reactance_"))
            ]
        if station.id in SETS_OF and self.profile.currentData():
            metrics = list(self.profile.currentData())
        if self.without_fat:
            metrics = [m for m in metrics if not tells_fat(m)]
        chosen = self.label_of_setting
        return [
            EntryRow(
                self.name,
                station.kind,
                m,
                (
                    Rule(1)
                    if m in station.once or station.kind == "reference"
                    else Rule(choice.repeats, choice.counts)
                ),
                setting=setting_for(m, chosen, items.landmarks.get(m, "")),
                unit=choice.unit if self._is_length(m) else "",
            )
            for m in dict.fromkeys(metrics)
        ]

    @staticmethod
    def _is_length(name: str) -> bool:
        m = metric_named(name)
        return m is not None and m.dimension == "length"
