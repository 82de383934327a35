"""A page that asks one question through the lens.

It asks again when study or lens changed, and drops stale results.
"""

from __future__ import annotations

from collections.abc import Generator
from typing import Generic, TypeVar

from ..analysis.ask.question import Asked
from ..app.jobs import Job
from ..domain.lens import Lens
from ..domain.snapshot import Snapshot
from .pages import Page, Surroundings

A = TypeVar("A")


class QuestionPage(Page, Generic[A]):
    """Subclasses say what is asked, and show the answer or why there is none.

    ``A`` is the type of the answer.
    """

    owner, words = "", ""

    def __init__(self, around: Surroundings) -> None:
        super().__init__(around)
        self.asked: tuple[Asked, ...] | None = None

    def request(self, snapshot: Snapshot, lens: Lens) -> Generator[float, None, A]:
        """The computation, from frozen things only; it runs on the worker."""
        raise NotImplementedError

    def metrics(self) -> tuple[str, ...]:
        """The metrics that the question needs, where it is not that of the lens alone."""
        return ()

    def answer(self, found: A) -> None:
        """Show the answer."""
        raise NotImplementedError

    def no_answer(self, text: str) -> None:
        """Say why there is none."""
        raise NotImplementedError

    def refresh(self) -> None:
        """Ask when the question is another one than the last."""
        now = self._now()
        if now != self.asked or self.session.writing:
            self.ask()

    def _now(self) -> tuple[Asked, ...]:
        """What the question depends on now: the lens, and the content of each metric."""
        return (self.session.asked(), *(self.session.asked(m) for m in self.metrics()))

    def ask(self) -> None:
        """Ask now."""
        lens = self.session.lens
        self.asked = self._now()
        metrics = self.metrics()
        job = Job(
            self.words,
            lambda: self.gather(metrics or (lens.metric,)),
            lambda snapshot: self.request(snapshot, lens),
        )
        self.jobs.start(self.owner, job, self.answer, self._failed)

    def gather(self, metrics: tuple[str, ...]) -> Generator[float, None, Snapshot]:
        """Read what the question needs, in this thread; yields as it goes."""
        return self.session.wide_snapshot_steps(metrics)

    def _failed(self, text: str) -> None:
        if self.session.writing:
            self.asked = None  # asked again when the import is done
        self.no_answer(text)

    def up_to_date(self, asked: Asked) -> bool:
        """Whether a result still answers what the study and the lens ask now."""
        return asked == self.session.asked()
