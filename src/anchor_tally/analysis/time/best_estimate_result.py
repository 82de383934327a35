"""What all sources tell of one client: value, change, dates, sources and what comes next."""

from __future__ import annotations

from dataclasses import dataclass

from ...domain.records import Client
from ...domain.snapshot import Floats, Ints
from ...stats.estimate import Estimate, FrozenArrays, Note
from .held_readings import Held
from .next_measurement import MoreMornings, NextMeasurement


@dataclass(frozen=True, slots=True)
class SourceShare:
    """One source of a client's value: instrument and setting, days, and its share.

    ``share`` is its part of what all readings tell of the value; ``why`` it counts for nothing:
    "" where it counts, else stuck, formula, same_inputs, no_scatter or copy. With days it is
    left out on these days alone.
    """

    name: str
    setting: str
    days: int
    share: float
    why: str


@dataclass(frozen=True, eq=False)
class SourcePoints(FrozenArrays):
    """Readings of one source, ordinals and values (n,), less what it differs from the course."""

    name: str
    setting: str
    scan: bool
    day: Ints
    value: Floats


@dataclass(frozen=True, slots=True)
class Measured:
    """A change as it was measured: the plain difference about two days, nothing modelled.

    ``devices`` is the mean over so many sources of their means within three days of each day, the
    second less the first; ``scans`` that of the scans. None where a day has no such reading.
    """

    devices: float | None
    sources: int
    scans: float | None


@dataclass(frozen=True, slots=True)
class Change:
    """A change between two measured days (ordinals) with its verdict.

    ``kind`` is one of ``stats.one_client``: real, likely, noise, not enough; ``change`` is None
    for the last. ``exceeds`` is the probability that it is more than the margin. ``picked``: its
    interval allows for days that were chosen after the course was seen. ``mornings`` are the
    independent ones near both days.
    """

    change: Estimate | None
    since: int
    until: int
    kind: str
    exceeds: float | None
    picked: bool
    mornings: tuple[float, float] = (0.0, 0.0)
    measured: Measured | None = None


@dataclass(frozen=True, slots=True)
class GoalDate:
    """When a goal is reached: earliest and latest day (ordinals).

    ``trend`` says whether a trend is shown; without one there is no date. ``latest`` is None where
    it may be more than two years away, ``earliest`` too where it is not reached at this trend.
    """

    goal: float
    trend: bool
    reached: bool
    earliest: int | None
    latest: int | None


@dataclass(frozen=True, slots=True)
class Odd:
    """Readings of a source that differ from the others beyond chance; days are ordinals."""

    name: str
    setting: str
    first: int
    last: int
    gap: float
    p: float


@dataclass(frozen=True, slots=True)
class SideBySide:
    """Two settings, or times of day, of one device: the second less the first on common days."""

    name: str
    first: str
    second: str
    difference: Estimate


@dataclass(frozen=True, slots=True)
class Contradiction:
    """A scan (day: ordinal) that differs by ``gap`` from what all devices report of the change.

    ``p`` is corrected for the number of scans.
    """

    day: int
    gap: float
    p: float


@dataclass(frozen=True, slots=True)
class Weighed:
    """One set of repeats behind the value: its mean, its weight, and the stored readings.

    ``weight`` is how much the value moves when the mean moves by 1; ``day`` is an ordinal.
    """

    name: str
    setting: str
    day: int
    value: float
    size: int
    weight: float
    readings: tuple[int, ...]


@dataclass(frozen=True, eq=False)
class BestEstimateResult(FrozenArrays):
    """The level of one client from all sources.

    ``day`` (q,) are ordinals of the course, ``level`` (q,) its values, ``low`` and ``high`` (q,)
    the ends of their 95 % intervals. ``scanned``: levels are those of a scan. ``tied``: the level
    may be told. ``shifted`` is the probability that all impedance devices together moved away from
    the client's level, and ``contradicted`` the scans with which they disagree.
    ``beside``: settings of one device that are read side by side.
    ``relative``: course and points are changes since the first day, since the level is not known.
    ``trend`` is the change a week over the last eight weeks, None without two days.
    ``independent`` is the number of independent mornings that tell as much as those of the last
    four weeks, ``disagree`` the smallest p-value of a source against all others. ``held`` are
    readings that do not count yet.
    """

    client: Client
    metric: str
    scanned: bool
    tied: bool
    anchor: str
    value: Estimate
    at: int
    change: Change
    since_scan: Change | None
    trend: Estimate | None
    goal: GoalDate | None
    more: MoreMornings | None
    ahead: NextMeasurement
    odd: tuple[Odd, ...]
    shifted: float
    contradicted: tuple[Contradiction, ...]
    disagree: float | None
    scans: int
    devices: int
    mornings: int
    recent: int
    independent: float
    relative: bool
    day: Ints
    level: Floats
    low: Floats
    high: Floats
    sources: tuple[SourceShare, ...]
    beside: tuple[SideBySide, ...]
    points: tuple[SourcePoints, ...]
    weighed: tuple[Weighed, ...]
    held: tuple[Held, ...]
    scan_sd: float
    correlation: float
    notes: tuple[Note, ...]
