"""Jobs off the interface thread: the newest request wins, a stale answer is dropped."""

from __future__ import annotations

import logging

from PyQt6.QtCore import QObject, QRunnable, QThreadPool, pyqtSignal

from ..domain.errors import UserError

log = logging.getLogger("anchor_tally")


class _Signals(QObject):
    done = pyqtSignal(int, object)
    failed = pyqtSignal(int, str)


class _Work(QRunnable):
    def __init__(self, number, job, runner):
        super().__init__()
        self.setAutoDelete(False)
        self.number, self.job, self.runner = number, job, runner

    def run(self):
        signals = self.runner.signals
        try:
            while True:
                if self.runner.newest != self.number:
                    self.job.close()
                    return
                next(self.job)
        except StopIteration as stop:
            signals.done.emit(self.number, stop.value)
        except UserError as error:
            signals.failed.emit(self.number, str(error))
        except Exception:
            log.exception("a computation failed")
            signals.failed.emit(self.number, "This computation failed through a fault of the program; the study is unchanged.")


class Runner(QObject):
    """One worker for one screen."""

    done = pyqtSignal(object)
    failed = pyqtSignal(str)

    def __init__(self, parent=None):
        super().__init__(parent)
        self.pool = QThreadPool(self)
        self.pool.setMaxThreadCount(1)
        self.newest = 0
        self.live = {}
        self.signals = _Signals(self)
        self.signals.done.connect(self._done)
        self.signals.failed.connect(self._failed)

    def submit(self, job):
        """Run a generator job; what was asked before is given up."""
        self.newest += 1
        work = _Work(self.newest, job, self)
        self.live = {k: w for k, w in self.live.items() if k >= self.newest - 2}
        self.live[self.newest] = work
        self.pool.start(work)

    @property
    def busy(self):
        return bool(self.pool.activeThreadCount())

    def _done(self, number, result):
        if number == self.newest:
            self.done.emit(result)

    def _failed(self, number, text):
        if number == self.newest:
            self.failed.emit(text)

    def stop(self):
        """Give up and wait for the worker."""
        self.newest += 1
        self.pool.waitForDone()
