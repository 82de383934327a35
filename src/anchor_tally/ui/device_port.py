"""The Qt side of a device: a port that is read as it speaks, and opened again when it was lost."""

from __future__ import annotations

import contextlib
import os
import stat
import sys
import termios
import tty

from PyQt6.QtCore import QObject, QProcess, QSocketNotifier, QTimer, pyqtSignal

from ..feeds.protocol import Assembler, parse_line
from ..feeds.taker import Taker

RETRY_MS = 400


class DevicePort(QObject):
    """One connection. ``heard`` carries what the taker says, ``state`` is connected, waiting or closed."""

    heard = pyqtSignal(object)
    state = pyqtSignal(str)

    def __init__(self, parent=None):
        super().__init__(parent)
        self.path, self.handle, self.notifier = "", -1, None
        self.assembler, self.taker = Assembler(), Taker()
        self.timer = QTimer(self)
        self.timer.setInterval(RETRY_MS)
        self.timer.timeout.connect(self._open)

    def connect_to(self, path):
        """Open a port and keep at it until ``close``."""
        self.close()
        self.path, self.taker = path, Taker()
        self._open()
        if self.handle < 0:
            self.state.emit("waiting")
            self.timer.start()

    def _open(self):
        try:
            handle = os.open(self.path, os.O_RDWR | os.O_NOCTTY | os.O_NONBLOCK)
        except OSError:
            return  # not there yet: the timer tries again, and the state says so
        if not stat.S_ISCHR(os.fstat(handle).st_mode):
            os.close(handle)
            return
        with contextlib.suppress(termios.error):  # a port without terminal settings needs none
            tty.setraw(handle)
        self.handle = handle
        self.timer.stop()
        self.assembler.reset()
        self.notifier = QSocketNotifier(handle, QSocketNotifier.Type.Read, self)
        self.notifier.activated.connect(self._read)
        self.state.emit("connected")

    def _read(self, *_):
        try:
            data = os.read(self.handle, 4096)
        except BlockingIOError:
            return
        except OSError:
            data = b""
        if not data:
            self._lost()
            return
        for text in self.assembler.feed(data):
            told = self.taker.line(parse_line(text))
            if told is not None:
                self.heard.emit(told)

    def _lost(self):
        self._shut()
        told = self.taker.lost()
        if told is not None:
            self.heard.emit(told)
        self.state.emit("waiting")
        self.timer.start()

    def send(self, text):
        """Send a line to the device."""
        if self.handle >= 0:
            with contextlib.suppress(BlockingIOError, OSError):  # a lost line shows at the next read
                os.write(self.handle, f"{text}\n".encode())

    def _shut(self):
        if self.notifier is not None:
            self.notifier.setEnabled(False)
            self.notifier.deleteLater()
            self.notifier = None
        if self.handle >= 0:
            os.close(self.handle)
            self.handle = -1

    def close(self):
        """Stop reading."""
        self.timer.stop()
        self._shut()
        self.state.emit("closed")


class StandInProcess(QObject):
    """A simulated device as a process of its own; ``ready`` carries the path to connect to."""

    ready = pyqtSignal(str)

    def __init__(self, parent=None):
        super().__init__(parent)
        self.process = None

    def start(self, arguments):
        """Start the stand-in."""
        self.stop()
        self.process = QProcess(self)
        self.process.readyReadStandardOutput.connect(self._said)
        self.process.start(sys.executable, ["-m", "anchor_tally.feeds.stand_in", *arguments])

    def _said(self):
        text = bytes(self.process.readAllStandardOutput()).decode().strip()
        if text:
            self.ready.emit(text.splitlines()[0])

    def stop(self):
        """End the stand-in and wait for it."""
        if self.process is not None:
            self.process.readyReadStandardOutput.disconnect()
            self.process.kill()
            self.process.waitForFinished(3000)
            self.process.deleteLater()
            self.process = None
