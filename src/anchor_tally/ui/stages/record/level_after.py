"""What all sources tell of the client once the readings of the visit are in."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from ....analysis.agreement.hydration import FAT
from ....analysis.people.withheld import withheld
from ....analysis.time.best_estimate import BestEstimateRequest
from ....analysis.time.best_estimate_result import BestEstimateResult
from ....app.jobs import Job
from ....app.session import Session
from ....domain.lens import Lens
from ....domain.records import Client, Reading
from ....wording.best_estimate import bench_words
from ...jobs import Jobs
from ...widgets import label

PAUSE = 1500  # milliseconds without an entry before it is computed: typing comes first


class LevelAfter(QObject):
    """A line under the bench; ``told`` when it says something new."""

    told = pyqtSignal()

    def __init__(self, session: Session, jobs: Jobs, parent: QObject) -> None:
        super().__init__(parent)
        self.session, self.jobs = session, jobs
        self.line = label("", "faint", wrap=True)
        self.line.setAccessibleName("Level from all sources")
        self.line.hide()
        self._code = ""
        self._pause = QTimer(self)
        self._pause.setSingleShot(True)
        self._pause.setInterval(PAUSE)
        self._pause.timeout.connect(self._ask)

    def follow(self, client: Client | None, own: Sequence[Reading], *, hidden: bool) -> None:
        """Tell it of a client from the readings of a visit; nothing where values are hidden."""
        read = any(r.metric == FAT and r.status == "ok" for r in own)
        if client is None or hidden or not read or withheld(client, FAT):
            self._pause.stop()
            self._code = ""
            self.line.hide()
            return
        if client.code != self._code:
            self.line.hide()
        self._code = client.code
        self._pause.start()

    def _ask(self) -> None:
        if not self._code or self.session.writing:
            return
        code, lens = self._code, Lens(FAT, self.session.lens.reference)
        job = Job(
            "Combining all sources",
            lambda: self.session.wide_snapshot_steps((FAT,)),
            lambda snapshot: BestEstimateRequest(snapshot, lens, code).run(),
            background=True,
        )
        self.jobs.start("level at the bench", job, self._show, lambda _why: self.line.hide())

    def _show(self, found: BestEstimateResult) -> None:
        if found.client.code == self._code:
            text = bench_words(found)
            self.line.setText(text)
            self.line.setVisible(bool(text))
            self.told.emit()
