"""Settings of a station: sites, unit, repeats and their rule, and the study's landmarks."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QCheckBox, QComboBox, QLineEdit, QPushButton, QVBoxLayout, QWidget

from ....app.session import Session
from ....domain.errors import UserError
from ....domain.metrics import metric_named
from ....domain.records import StationChoice
from ....domain.repeats import COUNTS, MOST_REPEATS
from ....domain.sites import SITES_OF_BODY
from ....domain.stations import Station
from ....study.edits.edit import Edit
from ....study.edits.protocol import PutLandmark, PutStation
from ...widgets import Flow, label, paired

_UNITS = (("millimetres", "mm"), ("centimetres", "cm"), ("inches", "in"))


class StationCard(QWidget):
    """Every choice is kept in the study at once; closed until it is asked for."""

    message = pyqtSignal(str, bool)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("card")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.station: Station | None = None
        self.boxes: dict[str, QCheckBox] = {}
        self.sites, self.holder = Flow(10), QWidget()
        self.holder.setLayout(self.sites)
        self.repeats, self.counts, self.unit, self.site = (
            QComboBox(),
            QComboBox(),
            QComboBox(),
            QComboBox(),
        )
        for n in range(1, MOST_REPEATS + 1):
            self.repeats.addItem(str(n), n)
        for key, words in COUNTS.items():
            self.counts.addItem(words, key)
        self.landmark = QLineEdit()
        self.landmark.setPlaceholderText("as in the figure, or for example 5 cm beside the navel")
        self.landmark.setAccessibleName("Landmark of the site")
        self.landmark.setMinimumWidth(250)
        self.landmark.returnPressed.connect(self._keep_landmark)
        keep = QPushButton("Save landmark")
        keep.clicked.connect(self._keep_landmark)
        for box in (self.repeats, self.counts, self.unit):
            box.activated.connect(self._changed)
        self.site.activated.connect(self._show_landmark)
        row, marks = Flow(), Flow()
        row.addWidget(paired("Repeats", self.repeats))
        row.addWidget(paired("Counts", self.counts))
        self.unit_pair = paired("Unit", self.unit)
        row.addWidget(self.unit_pair)
        marks.addWidget(paired("Landmark of", self.site))
        for w in (self.landmark, keep):
            marks.addWidget(w)
        self.marks = QWidget()
        self.marks.setLayout(marks)
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 6, 10, 6)
        column.addWidget(
            label("Measurements of this station, for all visits of the study.", "faint")
        )
        column.addWidget(self.holder)
        column.addLayout(row)
        column.addWidget(self.marks)
        self.hide()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self.holder.setMinimumHeight(
            self.sites.heightForWidth(self.width() - 20)
        )  # a flow alone can be pressed together

    def choice(self, station: Station) -> StationChoice:
        """What was chosen for a station, or how it comes."""
        return self.session.catalogue().stations.get(station.id) or StationChoice(
            station.id, repeats=station.repeats
        )

    def show_station(self, station: Station) -> None:
        """Show the choices of a station."""
        if self.station is not station:
            self.station = station
            self._build(station)
        chosen = self.choice(station)
        for metric, box in self.boxes.items():
            box.setChecked(not chosen.metrics or metric in chosen.metrics)
        self.repeats.setCurrentIndex(self.repeats.findData(chosen.repeats))
        self.counts.setCurrentIndex(self.counts.findData(chosen.counts))
        self.unit.setCurrentIndex(
            max(self.unit.findData(chosen.unit or self._own_unit(station)), 0)
        )

    @staticmethod
    def _own_unit(station: Station) -> str:
        m = metric_named(station.metrics[0])
        return m.unit if m is not None else ""

    def _build(self, station: Station) -> None:
        while self.sites.count():
            item = self.sites.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        self.boxes = {}
        self.site.clear()
        body = [m for m in station.metrics if m in SITES_OF_BODY]
        for metric in body:
            found = metric_named(metric)
            text = found.label.removesuffix(" skinfold").removesuffix(" girth") if found else metric
            box = QCheckBox(text)
            box.clicked.connect(self._changed)
            self.boxes[metric] = box
            self.sites.addWidget(box)
            self.site.addItem(text, metric)
        self.marks.setVisible(bool(body))
        self.holder.setVisible(bool(body))
        self.holder.setMinimumHeight(self.sites.heightForWidth(max(self.width(), 400) - 20))
        self.unit.clear()
        length = bool(body)
        for words, unit in _UNITS if length else ():
            self.unit.addItem(words, unit)
        self.unit_pair.setVisible(length)
        self._show_landmark()

    def _show_landmark(self, *_: object) -> None:
        self.landmark.setText(
            self.session.catalogue().landmarks.get(self.site.currentData() or "", "")
        )

    def _changed(self, *_: object) -> None:
        if self.station is None:
            return
        sites = tuple(m for m, box in self.boxes.items() if box.isChecked())
        unit = self.unit.currentData() or ""
        self._do(
            PutStation(
                replace(
                    self.choice(self.station),
                    metrics=() if len(sites) in (0, len(self.boxes)) else sites,
                    repeats=self.repeats.currentData(),
                    counts=self.counts.currentData(),
                    unit="" if unit == self._own_unit(self.station) else unit,
                )
            )
        )

    def _keep_landmark(self) -> None:
        metric = self.site.currentData()
        if metric:
            self._do(PutLandmark(metric, self.landmark.text()))

    def remember_setting(self, setting: str) -> None:
        """Keep side and calliper for the next visit."""
        if (
            self.station is not None
            and not self.session.read_only
            and setting != self.choice(self.station).setting
        ):
            self._do(PutStation(replace(self.choice(self.station), setting=setting)))

    def take_sites(self, metrics: tuple[str, ...]) -> None:
        """Measure these sites from now on; none means all."""
        if (
            self.station is not None
            and not self.session.read_only
            and metrics != self.choice(self.station).metrics
        ):
            self._do(PutStation(replace(self.choice(self.station), metrics=metrics)))

    def _do(self, edit: Edit) -> None:
        try:
            self.session.do(edit)
        except UserError as error:
            self.message.emit(str(error), True)
