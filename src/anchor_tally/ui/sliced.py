"""Long work that must stay with the study's own connection: done in short slices between the events of the window."""

from __future__ import annotations

import logging
import time

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from ..domain.errors import UserError

log = logging.getLogger("anchor_tally")
SLICE_SECONDS = 0.03


class SlicedJob(QObject):
    """Runs one generator at a time; closing it half-way takes back what it has done."""

    progress = pyqtSignal(object)
    done = pyqtSignal(object)
    failed = pyqtSignal(str)

    def __init__(self, parent=None):
        super().__init__(parent)
        self.steps = None
        self.timer = QTimer(self)
        self.timer.setInterval(0)
        self.timer.timeout.connect(self._slice)

    @property
    def busy(self):
        return self.steps is not None

    def start(self, steps):
        """Begin; what ran before is given up."""
        self.cancel()
        self.steps = steps
        self.timer.start()

    def cancel(self):
        """Give up."""
        self.timer.stop()
        if self.steps is not None:
            steps, self.steps = self.steps, None
            steps.close()

    def _slice(self):
        end = time.monotonic() + SLICE_SECONDS
        try:
            while time.monotonic() < end:
                said = next(self.steps)
            self.progress.emit(said)
        except StopIteration as stop:
            self._end()
            self.done.emit(stop.value)
        except UserError as error:
            self._end()
            self.failed.emit(str(error))
        except Exception:
            log.exception("a job failed")
            self._end()
            self.failed.emit("This job failed through a fault of the program; the study is unchanged.")

    def _end(self):
        self.timer.stop()
        self.steps = None
