"""The one runner of long work.

Slices of work on the window's thread, computations on one worker.
"""

from __future__ import annotations

import logging
import time
from collections.abc import Callable, Generator
from typing import Any

from PyQt6.QtCore import QObject, QThreadPool, QTimer, pyqtSignal

from ..app.jobs import Job
from ..domain.errors import UserError

log = logging.getLogger("anchor_tally")
SLICE_SECONDS = 0.025
SHOWN_AFTER_MS = 400
BEHIND = -1  # the priority, on the worker, of what goes on in the background


class _Signals(QObject):
    """Lives on the window's thread, so that the worker's answers arrive there."""

    progress = pyqtSignal(object, object)
    done = pyqtSignal(object, object)
    failed = pyqtSignal(object, str)


class _Active:
    """A job under way."""

    def __init__(
        self, owner: str, job: Job, done: Callable[[Any], None], failed: Callable[[str], None]
    ) -> None:
        self.owner, self.job, self.done, self.failed = owner, job, done, failed
        self.progress: Callable[[Any], None] | None = None
        self.steps: Generator[Any, None, Any] | None = job.here()
        self.gone = False
        self.share: float | None = None


class _Work:
    """The part of a job that is computed on the worker.

    After each step one in the background lets others, and pictures, go first.
    """

    def __init__(self, active: _Active, steps: Generator[Any, None, Any], jobs: Jobs) -> None:
        self.active, self.steps, self.jobs, self.signals = active, steps, jobs, jobs.signals

    def hand_over(self) -> None:
        """Give this to the worker: before what goes on in the background, or behind everything."""
        self.jobs.pool.start(self.run, BEHIND if self.active.job.background else 0)

    def run(self) -> None:
        try:
            while not self.active.gone:
                self.signals.progress.emit(self.active, next(self.steps))
                while self.active.job.background and not self.active.gone:
                    if self.jobs.pressing:
                        self.hand_over()
                        return
                    if not self.jobs.drawing():
                        break
                    time.sleep(
                        SLICE_SECONDS
                    )  # a computation beside it would double the time of the picture
            self.steps.close()
        except StopIteration as stop:
            self.signals.done.emit(self.active, stop.value)
        except UserError as error:
            self.signals.failed.emit(self.active, str(error))
        except Exception as error:
            log.exception("a computation failed")
            self.signals.failed.emit(self.active, self.jobs.explain(error))


class Jobs(QObject):
    """Runs jobs.

    The newest one of an owner wins: what it asked before is given up, its answer dropped.

    ``running`` carries the words and the share (None: not known) of what takes longer than a
    moment, ``quiet`` comes after it.
    """

    running = pyqtSignal(str, object)
    quiet = pyqtSignal()

    def __init__(
        self, parent: QObject | None = None, explain: Callable[[BaseException], str] = repr
    ) -> None:
        super().__init__(parent)
        self.explain = explain  # says what an error that nobody foresaw means
        self.pool = QThreadPool(self)
        self.pool.setMaxThreadCount(1)
        self.active: dict[str, _Active] = {}
        self.drawing: Callable[[], bool] = lambda: (
            False
        )  # whether a picture is on its way to the screen
        self.pressing = (
            False  # whether the worker has been given what somebody waits for; it looks at this too
        )
        self._shown, self._turn = False, 0
        self.signals = _Signals(self)
        self.signals.progress.connect(self._told)
        self.signals.done.connect(self._done)
        self.signals.failed.connect(self._failed)
        self._slices = QTimer(self)
        self._slices.setInterval(0)
        self._slices.timeout.connect(self._slice)
        self._patience = QTimer(self)
        self._patience.setSingleShot(True)
        self._patience.setInterval(SHOWN_AFTER_MS)
        self._patience.timeout.connect(self._show)

    def start(
        self,
        owner: str,
        job: Job,
        done: Callable[[Any], None],
        failed: Callable[[str], None],
        progress: Callable[[Any], None] | None = None,
    ) -> None:
        """Begin a job of an owner.

        ``done``, ``failed`` and ``progress`` are called on the window's thread.
        """
        self.cancel(owner)
        active = _Active(owner, job, done, failed)
        active.progress = progress
        self.active[owner] = active
        self._slices.start()
        if not self._shown:
            self._patience.start()

    def busy(self, owner: str = "") -> bool:
        """Whether anything (of an owner) is under way."""
        return owner in self.active if owner else bool(self.active)

    def cancel(self, owner: str = "") -> None:
        """Give up what an owner has asked, or everything; what was half written is taken back."""
        for name in [owner] if owner else list(self.active):
            active = self.active.pop(name, None)
            if active is not None:
                active.gone = True
                if active.steps is not None:
                    active.steps.close()
        self._rest()

    def stop(self) -> None:
        """Give up everything and wait for the worker."""
        self.cancel()
        self.pool.waitForDone()

    def _slice(self) -> None:
        here = [a for a in self.active.values() if a.steps is not None]
        here = [a for a in here if not a.job.background] or here
        if not here:
            self._slices.stop()
            return
        self._turn += 1
        active = here[self._turn % len(here)]  # all get their turn
        end = time.monotonic() + SLICE_SECONDS
        said: Any = None
        try:
            while active.steps is not None and time.monotonic() < end:
                said = next(active.steps)
            self._told(active, said)
        except StopIteration as stop:
            active.steps = None
            if active.gone:
                return
            if active.job.away is None:
                self._done(active, stop.value)
            else:
                _Work(active, active.job.away(stop.value), self).hand_over()
                self._weigh()
        except UserError as error:
            active.steps = None
            self._failed(active, str(error))
        except Exception as error:
            log.exception("a job failed")
            active.steps = None
            self._failed(active, self.explain(error))

    def _told(self, active: _Active, said: Any) -> None:
        if active.gone or said is None:
            return
        if isinstance(said, float):
            active.share = said
        if active.progress is not None:
            active.progress(said)
        if self._shown:
            self._show()

    def _show(self) -> None:
        active = next(iter(self.active.values()), None)
        if active is not None:
            self._shown = True
            self.running.emit(active.job.words, active.share)

    def _end(self, active: _Active) -> bool:
        """Whether the answer of a job is still wanted; then it is the last of it."""
        if active.gone or self.active.get(active.owner) is not active:
            return False
        active.gone = True
        del self.active[active.owner]
        self._rest()
        return True

    def _weigh(self) -> None:
        self.pressing = any(a.steps is None and not a.job.background for a in self.active.values())

    def _rest(self) -> None:
        self._weigh()
        if not self.active:
            self._patience.stop()
            if self._shown:
                self._shown = False
                self.quiet.emit()

    def _done(self, active: _Active, result: Any) -> None:
        if self._end(active):
            active.done(result)

    def _failed(self, active: _Active, text: str) -> None:
        if self._end(active):
            active.failed(text)
