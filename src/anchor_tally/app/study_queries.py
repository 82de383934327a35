"""What the screens read of a study beside what is kept of it."""

from __future__ import annotations

from collections.abc import Generator

from ..analysis.offsets.record import Corrected, correct, record_for
from ..analysis.offsets.verify import Marks, marks_of
from ..analysis.plan.schedule import Measured, ScheduleRequest
from ..analysis.review.finding import Material
from ..domain.calibrations import CalibrationRecord
from ..domain.events import AssessorValue, CheckWeight
from ..domain.free_text import FreeText
from ..domain.instants import NotAMoment, moment, zone_named
from ..domain.records import Attachment, Reading, Visit, VisitNote
from ..domain.snapshot import Snapshot
from ..domain.steps import finish
from ..study import read, read_columns
from ..study.visits import visits
from .study_cache import StudyCache


class StudyQueries(StudyCache):
    """Questions to a study that are read each time, or follow from what is kept."""

    @property
    def title(self) -> str:
        """The study's title."""
        return self.catalogue().title

    def calibration_versions(
        self, instrument: str, metric: str
    ) -> list[tuple[CalibrationRecord, bool]]:
        """Every calibration adopted for an instrument and metric, and whether it was withdrawn."""
        return [
            (r, gone)
            for r, gone in self._all_versions()
            if (r.instrument, r.metric) == (instrument, metric)
        ]

    def marks(self, record: CalibrationRecord) -> Marks:
        """Identity and mark of each reading behind an adopted offset."""
        snapshot = self.snapshot(record.metric)
        return marks_of(snapshot, record.metric, record.sources, self.free_text())

    def every_version(self) -> tuple[CalibrationRecord, ...]:
        """Every calibration ever adopted, the oldest first."""
        return tuple(r for r, _ in self._all_versions())

    def corrected(self, reading: Reading) -> Corrected | None:
        """A stored reading by the calibration in force.

        None for a scan, a value that is not there, or without a calibration.
        """
        if reading.value is None or reading.kind == "reference":
            return None
        record = record_for(
            self.calibrations(), reading.instrument, reading.metric, reading.setting
        )
        if record is None:
            return None
        return correct(
            record,
            reading.client,
            reading.value,
            reading.taken_at,
            reading.setting,
            stale=self.stale(record),
        )

    def readings(self, ids: list[int] | None = None, visit: int | None = None) -> list[Reading]:
        """Readings in full."""
        return read_columns.readings(self.connection(), ids, visit)

    def units_typed(self, client: int) -> dict[str, str]:
        """The unit in which each metric of a client was mostly typed."""
        return read.units_typed(self.connection(), client)

    def visits_of(self, client: str) -> list[Visit]:
        """Visits of a client, newest first."""
        return read.visits_of(self.connection(), client)

    def visit_near(self, client: str, at: str) -> int | None:
        """The visit of a client that a moment belongs to.

        None when a reading then would begin a new one, or for no moment.
        """
        c = self.catalogue()
        try:
            m = moment(at, zone_named(c.zone))
        except NotAMoment:
            return None
        return read.visit_near(self.connection(), client, m.instant, timed=m.timed, gap=c.gap)

    def remarks(self, client: str) -> tuple[tuple[str, str], ...]:
        """What was written at the last visits of a client."""
        return read.remarks(self.connection(), client)

    def history(self, reading: int) -> list[tuple[str, str, str, str]]:
        """Changes of a reading."""
        return read.history(self.connection(), reading)

    def possible_scans(self) -> list[str]:
        """Devices of which one may be the scan: those read, of two or more, where none is.

        Empty while an import is being written, since nothing is read then.
        """
        if self.writing:
            return []
        kinds = {(name, kind) for name, kind, _ in self.instruments_and_metrics()}
        if any(kind == "reference" for _, kind in kinds):
            return []
        devices = sorted(name for name, kind in kinds if kind == "device")
        return devices if len(devices) > 1 else []

    def readers(self, metric: str) -> list[tuple[str, str]]:
        """Name and kind of everything that has readings of a metric.

        Equations as far as they were computed.
        """
        found = [(name, kind) for name, kind, m in self.instruments_and_metrics() if m == metric]
        derived = self._derived.columns.get(metric) if self._derived is not None else None
        if derived is not None and self._derived is not None:
            found += [
                (self._derived.instruments[i].name, "method")
                for i in sorted(set(derived.instrument.tolist()))
            ]
        return list(dict.fromkeys(found))

    def scan_days(self, client: str) -> tuple[str, ...]:
        """Days of a client's scans in this study."""
        return read.scan_days(self.connection(), client)

    def has_impedance(self, client: str) -> bool:
        """Whether a client was measured by impedance before."""
        items = self.catalogue().instruments.values()
        own = [i.id for i in items if i.is_impedance]
        return read.has_impedance(self.connection(), client, own)

    def uid(self) -> str:
        """What identifies the study, whatever its file is called."""
        return read.uid(self.connection())

    def measured_known(self) -> tuple[Measured, ...]:
        """Every station of every visit, as far as it was read."""
        return self._measured or ()

    def conditions(self) -> dict[int, dict[str, str]]:
        """Conditions noted at each visit, by its number."""
        return finish(read.conditions_steps(self.connection()))

    def schedule_steps(self, first: str, last: str) -> Generator[float, None, ScheduleRequest]:
        """What the calendar between two ISO days is made of; yields as it goes."""
        measured = yield from self.measured_steps()
        return ScheduleRequest(
            self.catalogue(), self.scheme(), self.events(), measured, self.today(), first, last
        )

    def goal_of(self, code: str, metric: str) -> float | None:
        """What a client wants to reach in a metric."""
        person = self.catalogue().client_coded(code)
        return next(
            (
                g.value
                for g in self.goals()
                if person is not None and (g.client, g.metric) == (person.id, metric)
            ),
            None,
        )

    def check_weights(self) -> list[CheckWeight]:
        """Check weights."""
        return read.check_weights(self.connection())

    def assessor_values(self) -> list[AssessorValue]:
        """Values of assessor checks."""
        return read.assessor_values(self.connection())

    def decisions(self) -> dict[str, tuple[str, str]]:
        """Decision and reason about findings of the review, by their key."""
        return read.decisions(self.connection())

    def material_steps(self) -> Generator[float, None, Material]:
        """Everything that the review looks at; yields as it goes."""
        metrics, now = tuple(self.metrics()), self.clock.now().timestamp()
        if not metrics:
            return Material(
                Snapshot(self._revision, self.catalogue(), visits(self.connection(), -1)), now=now
            )
        snapshot = yield from self.wide_snapshot_steps(metrics)
        answers = yield from read.conditions_steps(self.connection())
        return Material(
            snapshot, answers, read.assessors(self.connection()), tuple(self.assessor_values()), now
        )

    def free_text(self) -> FreeText:
        """Return what replaces the study's free text when it leaves the file."""
        return read_columns.free_text(self.connection())

    def attachments(self, visit: int) -> list[Attachment]:
        """Files beside a visit."""
        return read.attachments(self.connection(), visit)

    def visit_note(self, visit: int) -> VisitNote:
        """Conditions, assessor and remarks of a visit."""
        return read.visit_note(self.connection(), visit)
