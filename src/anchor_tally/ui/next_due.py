"""What the calendar has due next, looked up again in the background after every edit."""

from __future__ import annotations

from datetime import date, timedelta

from PyQt6.QtCore import QObject, pyqtSignal

from ..analysis.plan.schedule import Schedule
from ..app.jobs import Job
from ..app.session import Session
from ..wording.plan import next_words
from .jobs import Jobs

BACK, AHEAD = timedelta(days=120), timedelta(days=35)


class NextDue(QObject):
    """The next thing due. ``known`` carries it in words when it is known."""

    known = pyqtSignal(str)

    def __init__(self, session: Session, jobs: Jobs) -> None:
        super().__init__(jobs)
        self.session, self.jobs = session, jobs
        self.schedule: Schedule | None = None
        self._asked = self._answered = -1

    @property
    def waiting(self) -> int:
        """Number of visits that are due or overdue."""
        return len(self.schedule.waiting) if self.schedule is not None else 0

    @property
    def is_known(self) -> bool:
        """Whether the calendar was looked through as the study is now."""
        return self._answered == self.session.edits

    def first(self) -> tuple[str, str] | None:
        """Code of the client and station of what comes next."""
        s = self.schedule
        if s is None:
            return None
        waiting = s.waiting
        found = waiting[0] if waiting else s.coming
        if found is None:
            return None
        return self.session.catalogue().clients[found.client].code, found.station

    def look(self) -> None:
        """Look through the calendar when something has changed since the last time."""
        if self._asked == self.session.edits:
            return
        self._asked = self.session.edits
        if not self.session.scheme().rules:
            self.schedule, self._answered = None, self._asked
            self.known.emit("")
            return
        today = date.fromisoformat(self.session.today())
        first, last = (today - BACK).isoformat(), (today + AHEAD).isoformat()
        job = Job(
            "Looking at the calendar",
            lambda: self.session.schedule_steps(first, last),
            lambda request: request.run(),
            background=True,
        )
        self.jobs.start("next", job, self._answer, self._failed)

    def _failed(self, _why: str) -> None:
        """The calendar page says why; the next call looks again."""
        self._asked = -1

    def _answer(self, found: Schedule) -> None:
        self.schedule, self._answered = found, self._asked
        self.known.emit(next_words(found, self.session.catalogue()))
