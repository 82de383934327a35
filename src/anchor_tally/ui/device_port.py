"""The Qt side of a device: a serial port that is read continuously and reopened when lost."""

from __future__ import annotations

import sys
from collections.abc import Callable

from PyQt6.QtCore import QIODevice, QObject, QProcess, QTimer, pyqtSignal
from PyQt6.QtSerialPort import QSerialPort

from ..feeds.measurement_filter import MeasurementFilter
from ..feeds.protocol import Assembler, Line, Nonsense, parse_line

RETRY_MS = 400
# lines one after the other that are none of the protocol: this is no such device
MOST_NONSENSE = 40
_Error = QSerialPort.SerialPortError
_WHY = {
    _Error.UnsupportedOperationError: "it is not a serial device",
    _Error.PermissionError: "you have no permission to open it (ask for access to serial ports)",
    _Error.OpenError: "another program has it open",
}


class DevicePort(QObject):
    """One connection.

    ``heard`` carries what the measurement filter says; ``state`` is connected, waiting, closed
    or refused, with the reason. ``parse`` turns one line of text of a device into a line of the
    protocol.
    """

    heard = pyqtSignal(object)
    state = pyqtSignal(str, str)

    def __init__(
        self, parent: QObject | None = None, parse: Callable[[str], Line] = parse_line
    ) -> None:
        super().__init__(parent)
        self.path, self.parse = "", parse
        self.port: QSerialPort | None = None
        self.assembler, self.measured, self.nonsense = Assembler(), MeasurementFilter(), 0
        self.timer = QTimer(self)
        self.timer.setInterval(RETRY_MS)
        self.timer.timeout.connect(self._open)

    def connect_to(self, path: str) -> None:
        """Open a port and keep at it until ``close``, unless it can be no device."""
        self.close()
        self.path, self.measured = path, MeasurementFilter()
        self._open()

    def _open(self) -> None:
        port = QSerialPort(self)
        port.setPortName(self.path)
        port.setBaudRate(9600)
        if not port.open(QIODevice.OpenModeFlag.ReadWrite):
            error = port.error()
            port.deleteLater()
            if error == _Error.UnsupportedOperationError:
                self._refuse(_WHY[error])
            elif not self.timer.isActive():
                self.state.emit("waiting", _WHY.get(error, "the port does not exist yet"))
                self.timer.start()
            return
        self.port = port
        self.timer.stop()
        self.assembler.reset()
        self.nonsense = 0
        port.readyRead.connect(self._read)
        port.errorOccurred.connect(self._erred)
        self.state.emit("connected", "")

    def _read(self) -> None:
        if self.port is None:
            return
        for text in self.assembler.feed(self.port.readAll().data()):
            line = self.parse(text)
            self.nonsense = self.nonsense + 1 if isinstance(line, Nonsense) else 0
            told = self.measured.line(line)
            if told is not None:
                self.heard.emit(told)
        if self.assembler.endless or self.nonsense > MOST_NONSENSE:
            what = (
                "it sends no complete line"
                if self.assembler.endless
                else "its data are not understood"
            )
            self._refuse(f"{what}, so it is not a supported scale")

    def _refuse(self, why: str) -> None:
        self.close()
        self.state.emit("refused", why)

    def _erred(self, error: QSerialPort.SerialPortError) -> None:
        if (
            error in (_Error.ResourceError, _Error.ReadError, _Error.DeviceNotFoundError)
            and self.port is not None
        ):
            self._shut()
            told = self.measured.lost()
            if told is not None:
                self.heard.emit(told)
            self.state.emit("waiting", "the connection was lost")
            self.timer.start()

    def send(self, text: str) -> None:
        """Send a line to the device."""
        if self.port is not None:
            self.port.write(f"{text}\n".encode())
            self.port.flush()

    def _shut(self) -> None:
        port, self.port = self.port, None
        if port is not None:
            port.blockSignals(True)
            port.close()
            port.deleteLater()

    def close(self) -> None:
        """Stop reading."""
        self.timer.stop()
        self._shut()
        self.state.emit("closed", "")


class SimulatorProcess(QObject):
    """A simulated device as a process of its own; ``ready`` carries the path to connect to."""

    ready = pyqtSignal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.process: QProcess | None = None

    def start(self, arguments: list[str]) -> None:
        """Start the simulator.

        -P keeps what lies in the working folder from being run in place of a library.
        """
        self.stop()
        self.process = QProcess(self)
        self.process.readyReadStandardOutput.connect(self._said)
        self.process.start(sys.executable, ["-P", "-m", "anchor_tally.feeds.simulator", *arguments])

    def _said(self) -> None:
        if self.process is None:
            return
        text = self.process.readAllStandardOutput().data().decode().strip()
        if text:
            self.ready.emit(text.splitlines()[0])

    def stop(self) -> None:
        """End the simulator and wait for it."""
        if self.process is not None:
            self.process.readyReadStandardOutput.disconnect()
            self.process.kill()
            self.process.waitForFinished(3000)
            self.process.deleteLater()
            self.process = None
