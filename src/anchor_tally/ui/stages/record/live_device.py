"""A connected device at the bench, and a watched folder for scan results."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Protocol

from PyQt6.QtCore import QTimer, pyqtSignal
from PyQt6.QtSerialPort import QSerialPortInfo
from PyQt6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QPushButton,
    QStackedWidget,
    QWidget,
)

from ....analysis.people.withheld import withheld
from ....app.bench import Standing
from ....app.session import Session
from ....domain.errors import UserError
from ....feeds.folder import WatchedFolder
from ....feeds.measurement_filter import LEAST_MASS, Event, LeftOut, Named, NoValue, Shown, Taken
from ....wording.bench import device_words
from ....wording.numbers import number
from ...device_port import DevicePort, SimulatorProcess
from ...widgets import Flow, label, paired, tip
from .visit_bar import VisitBar

SIMULATED = {
    "simulated foot scale": "feet",
    "simulated hand-held": "hands",
    "simulated eight-electrode scale": "eight",
    "simulated plain scale": "check_weight",
}
LOOK_MS = 500


class Bench(Protocol):
    """What a device needs of the bench."""

    bar: VisitBar

    def take_tally(
        self,
        standing: Standing | None,
        values: Sequence[tuple[str, str]] | None,
        reason: str,
        *,
        simulated: bool,
    ) -> str:
        """Take what was sent; return why not, or ""."""


class LiveDevice(QWidget):
    """Connect, show the settling reading, and save it when it ends.

    Client, device, setting and time are those chosen when the person stepped on.
    """

    message = pyqtSignal(str, bool)
    file_wanted = pyqtSignal(str)
    taken = pyqtSignal(object)

    def __init__(self, session: Session, bench: Bench) -> None:
        super().__init__()
        self.session, self.bench = session, bench
        self.port, self.simulator = DevicePort(self), SimulatorProcess(self)
        self.folder: WatchedFolder | None = None
        self.arrived: Path | None = None
        self.standing: Standing | None = None
        self.on_it = False
        self.port.heard.connect(self._event)
        self.port.state.connect(self._state)
        self.simulator.ready.connect(self.port.connect_to)
        self.stack = QStackedWidget()
        self.stack.addWidget(self._device_row())
        self.stack.addWidget(self._folder_row())
        box = QHBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.addWidget(self.stack)
        self.timer = QTimer(self)
        self.timer.setInterval(LOOK_MS)
        self.timer.timeout.connect(self._look)

    def _device_row(self) -> QWidget:
        place = QWidget()
        row = Flow()
        place.setLayout(row)
        self.instrument, self.where = QComboBox(), QComboBox()
        self.instrument.setAccessibleName("Device to read from")
        self.instrument.setEditable(True)
        self.instrument.setMinimumWidth(110)
        self.where.setAccessibleName("Port of the device")
        self.where.setEditable(True)
        self.where.setMinimumWidth(190)
        self._ports()
        self.connect_button, self.step_on = (
            QPushButton("Connect"),
            QPushButton("Step on (simulated)"),
        )
        self.connect_button.clicked.connect(self._toggle)
        self.step_on.clicked.connect(lambda: self.port.send("GO"))
        self.step_on.hide()
        self.shown = label("")
        self.shown.setAccessibleName("What the device shows")
        row.addWidget(paired("Read from", self.instrument))
        row.addWidget(paired("at", self.where))
        for w in (self.connect_button, self.step_on, self.shown):
            row.addWidget(w)
        return place

    def _ports(self) -> None:
        """Real ports first; simulated scales last, and marked unless the study is for practice."""
        practice = self.session.catalogue().practice
        real = [f"/dev/{p.portName()}" for p in QSerialPortInfo.availablePorts()]
        for name in real or ["/dev/ttyUSB0"]:
            self.where.addItem(name, "")
        for name, profile in SIMULATED.items():
            self.where.addItem(name if practice else f"{name} (not for real data)", profile)

    def _profile(self) -> str:
        """Profile of the simulated scale that is chosen, empty for a real port."""
        k = self.where.findText(self.where.currentText().strip())
        return str(self.where.itemData(k) or "") if k >= 0 else ""

    def _folder_row(self) -> QWidget:
        place = QWidget()
        row = QHBoxLayout(place)
        row.setContentsMargins(0, 0, 0, 0)
        self.watch, self.look_at = (
            QPushButton("Watch a folder for results…"),
            QPushButton("Review file"),
        )
        self.watch.clicked.connect(self._ask_folder)
        self.look_at.clicked.connect(lambda: self.file_wanted.emit(str(self.arrived)))
        self.look_at.hide()
        self.folder_says = label("", "faint")
        for w in (self.watch, self.folder_says, self.look_at):
            row.addWidget(w)
        row.addStretch(1)
        return place

    def show_station(self, station: str) -> None:
        """Show the row that belongs to a station."""
        self.setVisible(station in ("devices", "scan"))
        self.stack.setCurrentIndex(1 if station == "scan" else 0)
        names = [
            i.name for i in self.session.catalogue().instruments.values() if i.kind == "device"
        ]
        if [self.instrument.itemText(k) for k in range(self.instrument.count())] != names:
            current = self.instrument.currentText()
            self.instrument.clear()
            self.instrument.addItems(names)
            self.instrument.setEditText(current or (names[0] if names else ""))

    # the device
    def _toggle(self) -> None:
        if self.connect_button.text() == "Disconnect":
            self.stop()
            return
        if not self.instrument.currentText().strip():
            self.message.emit("First name the device of these readings.", True)
            return
        where, profile = self.where.currentText().strip(), self._profile()
        if not where:
            self.message.emit("First name the port of the device, such as /dev/ttyUSB0.", True)
            return
        self.connect_button.setText("Disconnect")
        if profile:
            self.shown.setText("starting the simulated device…")
            self.simulator.start(["--profile", profile])
        else:
            self.port.connect_to(where)

    def _state(self, state: str, why: str) -> None:
        self.step_on.setVisible(state == "connected" and self.simulator.process is not None)
        self.on_it, self.standing = False, None
        words = {
            "connected": "● connected, ready: step on",
            "waiting": f"○ no connection ({why}): trying again",
            "refused": f"✗ {why}",
        }.get(state, "")
        self.shown.setText(words)
        tip(self.shown, words)
        if state == "refused":
            self.connect_button.setText("Connect")
            self.message.emit(f"{self.where.currentText().strip()}: {why}.", True)

    def _event(self, told: Event) -> None:
        if isinstance(told, Shown):
            if (
                told.kg >= LEAST_MASS and not self.on_it
            ):  # stepped on: the reading is this person's, whoever is chosen later
                self.on_it, self.standing = True, self._stepped_on()
            elif told.kg < LEAST_MASS:
                self.on_it, self.standing = False, None
            mark = "● settled" if told.settled else "◌ settling"
            self.shown.setText(f"{mark}  {number(told.kg)} kg" if told.kg else "● connected")
        elif isinstance(told, Named):
            self.shown.setText(f"● {told.model}")
        elif isinstance(told, LeftOut):
            self.message.emit(f"Not saved: {told.why}.", True)
        elif isinstance(told, Taken | NoValue):
            self._take(told)
            self.taken.emit(told)

    def _stepped_on(self) -> Standing | None:
        """Return whose reading it becomes, and of which device in which setting, as chosen now.

        None without a client.
        """
        place, name = self.bench.bar.place, self.instrument.currentText().strip()
        return (
            None
            if place is None
            else Standing(
                place, name, self.session.catalogue().setting_in_force(name, place.at, place.client)
            )
        )

    def _take(self, told: Taken | NoValue) -> None:
        standing = self.standing
        name = (
            standing.instrument if standing is not None else self.instrument.currentText().strip()
        )
        values = (
            [(m, f"{text} {unit}") for m, text, unit in told.values]
            if isinstance(told, Taken)
            else None
        )
        reason = told.reason if isinstance(told, NoValue) else ""
        simulated = self.simulator.process is not None
        said = self.bench.take_tally(standing, values, reason, simulated=simulated)
        whom = standing.place.client if standing is not None else ""
        self.on_it, self.standing = False, None
        client = self.session.catalogue().client_coded(whom)
        unseen = {m for m, _ in values or () if withheld(client, m)}
        words = device_words(name, whom, values or (), reason, simulated=simulated, unseen=unseen)
        self.message.emit(said or words, bool(said))

    # the folder
    def _ask_folder(self) -> None:
        path = QFileDialog.getExistingDirectory(self, "Folder of the scan laboratory")
        if path:
            self.watch_folder(Path(path))

    def watch_folder(self, path: Path) -> None:
        """Look for new result files from now on."""
        try:
            self.folder = WatchedFolder(path)
        except UserError as error:
            self.message.emit(str(error), True)
            return
        self.folder_says.setText(f"watching {path}")
        self.timer.start()

    def _look(self) -> None:
        if self.folder is None:
            return
        try:
            ready = self.folder.look()
        except UserError as error:
            self.folder_says.setText(str(error))
            return
        if ready:
            self.arrived = ready[-1]
            self.folder_says.setText(f"{self.arrived.name} received")
            self.look_at.show()
            self.message.emit(
                f"Scan result received: {self.arrived.name}. Review it to import it.", False
            )

    def stop(self) -> None:
        """Let go of device, simulator and folder."""
        self.simulator.stop()
        self.port.close()
        self.timer.stop()
        self.connect_button.setText("Connect")
        self.step_on.hide()
        self.shown.setText("")
