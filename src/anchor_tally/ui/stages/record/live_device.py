"""A connected device at the bench, and a watched folder for scan results."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QTimer, pyqtSignal
from PyQt6.QtWidgets import QComboBox, QFileDialog, QHBoxLayout, QPushButton, QStackedWidget, QWidget

from ....domain.errors import UserError
from ....domain.metrics import metric_named
from ....feeds.folder import WatchedFolder
from ....feeds.taker import LeftOut, Named, NoValue, Shown, Taken
from ....wording.numbers import number
from ...device_port import DevicePort, StandInProcess
from ...widgets import label

SIMULATED = {
    "simulated foot scale": "feet",
    "simulated hand-held": "hands",
    "simulated eight-electrode scale": "eight",
    "simulated plain scale": "check_weight",
}
LOOK_MS = 500


class LiveDevice(QWidget):
    """Connect, see the reading settle, and it is taken into the next free cell."""

    message = pyqtSignal(str, bool)
    import_wanted = pyqtSignal(str)
    taken = pyqtSignal(object)

    def __init__(self, session, bench):
        super().__init__()
        self.session, self.bench = session, bench
        self.port, self.stand_in, self.folder, self.arrived = DevicePort(self), StandInProcess(self), None, None
        self.port.heard.connect(self._event)
        self.port.state.connect(self._state)
        self.stand_in.ready.connect(self.port.connect_to)
        self.stack = QStackedWidget()
        self.stack.addWidget(self._device_row())
        self.stack.addWidget(self._folder_row())
        box = QHBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.addWidget(self.stack)
        self.timer = QTimer(self)
        self.timer.setInterval(LOOK_MS)
        self.timer.timeout.connect(self._look)

    def _device_row(self):
        place = QWidget()
        row = QHBoxLayout(place)
        row.setContentsMargins(0, 0, 0, 0)
        self.instrument, self.where = QComboBox(), QComboBox()
        self.instrument.setAccessibleName("Device to read from")
        self.instrument.setEditable(True)
        self.instrument.setMinimumWidth(110)
        self.where.setAccessibleName("Port of the device")
        self.where.setEditable(True)
        self.where.addItems([*SIMULATED, "/dev/ttyUSB0"])
        self.where.setMinimumWidth(220)
        self.connect_button, self.step_on = QPushButton("Connect"), QPushButton("Step on (simulated)")
        self.connect_button.clicked.connect(self._toggle)
        self.step_on.clicked.connect(lambda: self.port.send("GO"))
        self.step_on.hide()
        self.shown = label("")
        self.shown.setAccessibleName("What the device shows")
        for w in (label("Read from", "faint"), self.instrument, label("at", "faint"), self.where):
            row.addWidget(w)
        for w in (self.connect_button, self.step_on, self.shown):
            row.addWidget(w)
        row.addStretch(1)
        return place

    def _folder_row(self):
        place = QWidget()
        row = QHBoxLayout(place)
        row.setContentsMargins(0, 0, 0, 0)
        self.watch, self.look_at = QPushButton("Watch a folder for results…"), QPushButton("Look at it")
        self.watch.clicked.connect(self._ask_folder)
        self.look_at.clicked.connect(lambda: self.import_wanted.emit(str(self.arrived)))
        self.look_at.hide()
        self.folder_says = label("", "faint")
        for w in (self.watch, self.folder_says, self.look_at):
            row.addWidget(w)
        row.addStretch(1)
        return place

    def show_station(self, station):
        """Show the row that belongs to a station."""
        self.setVisible(station in ("devices", "scan"))
        self.stack.setCurrentIndex(1 if station == "scan" else 0)
        names = [i.name for i in self.session.snapshot().instruments.values() if i.kind == "device"]
        if [self.instrument.itemText(k) for k in range(self.instrument.count())] != names:
            current = self.instrument.currentText()
            self.instrument.clear()
            self.instrument.addItems(names)
            self.instrument.setEditText(current or (names[0] if names else ""))

    # the device
    def _toggle(self):
        if self.connect_button.text() == "Disconnect":
            self.stop()
            return
        if not self.instrument.currentText().strip():
            self.message.emit("Name the device whose readings these are first.", True)
            return
        where = self.where.currentText().strip()
        self.connect_button.setText("Disconnect")
        if where in SIMULATED:
            self.shown.setText("starting the simulated device…")
            self.stand_in.start(["--profile", SIMULATED[where]])
        else:
            self.port.connect_to(where)

    def _state(self, state):
        self.step_on.setVisible(state == "connected" and self.stand_in.process is not None)
        self.shown.setText(
            {"connected": "● connected, waiting for somebody to step on", "waiting": "○ no connection: trying again"}.get(
                state, ""
            )
        )

    def _event(self, told):
        if isinstance(told, Shown):
            mark = "● settled" if told.settled else "◌ settling"
            self.shown.setText(f"{mark}  {number(told.kg)} kg" if told.kg else "● connected")
        elif isinstance(told, Named):
            self.shown.setText(f"● {told.model}")
        elif isinstance(told, LeftOut):
            self.message.emit(f"Not taken from the device: {told.why}.", True)
        elif isinstance(told, Taken | NoValue):
            self._take(told)
            self.taken.emit(told)

    def _take(self, told):
        name = self.instrument.currentText().strip()
        if isinstance(told, Taken):
            said = self.bench.take_tally(name, [(m, f"{text} {unit}") for m, text, unit in told.values], "")
            words = ", ".join(f"{metric_named(m).label.lower()} {text}" for m, text, _ in told.values[:3])
        else:
            said = self.bench.take_tally(name, None, told.reason)
            words = f"failed ({told.reason})"
        self.message.emit(said or f"{name}: {words}.", bool(said))

    # the folder
    def _ask_folder(self):
        path = QFileDialog.getExistingDirectory(self, "Folder of the scan laboratory")
        if path:
            self.watch_folder(Path(path))

    def watch_folder(self, path):
        """Look for new result files from now on."""
        try:
            self.folder = WatchedFolder(path)
        except UserError as error:
            self.message.emit(str(error), True)
            return
        self.folder_says.setText(f"watching {path}")
        self.timer.start()

    def _look(self):
        try:
            ready = self.folder.look()
        except UserError as error:
            self.folder_says.setText(str(error))
            return
        if ready:
            self.arrived = ready[-1]
            self.folder_says.setText(f"{self.arrived.name} has arrived")
            self.look_at.show()
            self.message.emit(f"A scan result has arrived: {self.arrived.name}. Nothing is imported until you look at it.", False)

    def stop(self):
        """Let go of device, stand-in and folder."""
        self.port.close()
        self.stand_in.stop()
        self.timer.stop()
        self.connect_button.setText("Connect")
        self.step_on.hide()
        self.shown.setText("")
