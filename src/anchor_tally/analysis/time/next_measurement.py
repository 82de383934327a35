"""What to measure next: how much each measurement would narrow what is known of one client."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...domain.costs import USUAL_COSTS
from ...domain.records import Client, Instrument
from ...domain.scheme import LEAST_DAYS
from ...domain.snapshot import Floats, Ints, Snapshot
from ...stats.client_course import Ahead, Sets, sds_after, sds_as_they_come
from ...stats.distributions import normal_below
from ...stats.estimate import Estimate
from ..offsets.which_device import price_of
from ..people.cautions import cautions_of
from .study_model import StudyModel

AHEAD = 7  # days after the last reading for which the interval is told
TRIED = (1, 2, 3, 5, 7, 10, 14, 21, 28, 42, 56)  # numbers of further mornings
POWER = 0.80


_NO_INTS = np.empty(0, dtype=np.int64)
_NOTHING = Sets(_NO_INTS, _NO_INTS, _NO_INTS, np.empty(0))


@dataclass(frozen=True, slots=True)
class Candidate:
    """One measurement: half the 95 % interval a week from now with it, and what it takes.

    ``price`` is that of one scan as its card has it, ``cost`` the number in it; "" and None where
    the card has none. A device costs nothing more once it is there.
    """

    name: str
    setting: str
    mornings: int
    half: float
    minutes: float
    price: str = ""
    cost: float | None = None

    def narrows(self, waiting: float) -> float:
        """By how much the half-width falls per minute, from what it is without any."""
        return (waiting - self.half) / self.minutes


@dataclass(frozen=True, slots=True)
class NextMeasurement:
    """Candidates, the one that narrows most first; ``waiting`` is the half-width without any."""

    waiting: float
    candidates: tuple[Candidate, ...]


@dataclass(frozen=True, slots=True)
class MoreMornings:
    """Mornings until a true change of ``size`` since the first day is real with 80 % power.

    ``mornings`` is None where none of ``TRIED`` does; ``half`` is half the 95 % interval of the
    change after ``mornings``, or the narrowest of them.
    """

    size: float
    mornings: int | None
    half: float


def next_measurement(
    snapshot: Snapshot,
    m: StudyModel,
    own: int,
    client: Client,
    known: Ahead,
    value: Estimate,
    day: str,
) -> NextMeasurement:
    """Rank what can be measured next.

    Parameters
    ----------
    snapshot : Snapshot
        The study.
    m : StudyModel
        Its model.
    own : int
        Place of the client.
    client : Client
        The client, whose cautions forbid some instruments.
    known : Ahead
        What the client has.
    value : Estimate
        The level now, whose interval scales what is expected.
    day : str
        Today, ISO.
    """
    last = int(m.last[own])
    forbidden = {c.forbids for c in cautions_of(client, day)}
    options: list[tuple[Instrument, int, Sets]] = []
    for place, item, setting in _sources_now(snapshot, m, own):
        if item.is_impedance and item.kind == "device" and "impedance" in forbidden:
            continue
        if item.kind == "reference" and ("scan" in forbidden or _scanned_lately(m, own, last)):
            continue
        week = item.kind == "device" and not item.equation
        days = last + np.arange(1, AHEAD + 1) if week else np.array([last + 1])
        options.append((item, setting, _again(m, own, place, days)))
    every = [x for *_, x in options]
    sds = sds_after(known, [_NOTHING, *every], np.array([last, last + AHEAD]), np.eye(2))
    half = _half_of(value) / max(float(sds[0, 0]), 1e-12) * sds[:, 1]
    labels = {0: ""} | {i: x.label for i, x in snapshot.settings.items()}
    found = [
        Candidate(
            item.name,
            labels.get(setting, ""),
            int(more.day.size) if item.kind == "device" and not item.equation else 0,
            float(h),
            _minutes(item, more),
            item.price if item.kind == "reference" else "",
            price_of(item.price) if item.kind == "reference" else None,
        )
        for (item, setting, more), h in zip(options, half[1:], strict=True)
    ]
    return NextMeasurement(float(half[0]), tuple(sorted(found, key=lambda c: c.half)))


def _half_of(e: Estimate) -> float:
    """Half of an interval."""
    return 0.0 if e.interval is None else (e.interval.high - e.interval.low) / 2


def _scanned_lately(m: StudyModel, own: int, last: int) -> bool:
    """Whether the last scan is too near for another one a day after the last reading."""
    scans = m.data.day[(m.data.client == own) & (m.data.source == 0)]
    return bool(scans.size) and last + 1 - int(scans.max()) < LEAST_DAYS


def more_mornings(
    m: StudyModel, own: int, known: Ahead, since: int, size: float, change: Estimate
) -> MoreMornings | None:
    """How many more mornings tell a true change of a size since a day.

    One set a morning with each device that the client used in the last four weeks.

    Parameters
    ----------
    m : StudyModel
        The model of the study.
    own : int
        Place of the client.
    known : Ahead
        What the client has.
    since : int
        First day of the change.
    size : float
        The true change, without its sign, which is that of ``change``.
    change : Estimate
        The change as it is known now.

    Notes
    -----
    Given what is known now, the estimate after N mornings of a true change is normal: its variance
    is what the mornings take away. Power is the share in which it is real then.
    """
    if not _again_now(m, own):
        return None
    narrowest = np.inf
    powers, halves = power_after(m, own, known, since, size, change, np.array(TRIED))
    for mornings, power, half in zip(TRIED, powers, halves, strict=True):
        # beyond some number the level wanders on and power falls again
        if power >= POWER:
            return MoreMornings(size, mornings, float(half))
        narrowest = min(narrowest, half)
    return MoreMornings(size, None, float(narrowest))


def power_after(
    m: StudyModel, own: int, known: Ahead, since: int, size: float, change: Estimate, mornings: Ints
) -> tuple[Floats, Floats]:
    """Power to tell a true change since a day, and half its 95 % interval, after more mornings.

    Parameters are those of ``more_mornings``, and numbers of mornings (f,), one a day. Returns
    two arrays (f,).
    """
    last = int(m.last[own])
    sources = np.array(_again_now(m, own))
    coming = np.arange(1, int(mornings.max()) + 1)
    repeats = [_repeats(m, k) for k in sources.tolist()]
    further = Sets(
        np.repeat(last + coming, sources.size),
        np.tile(sources, coming.size),
        np.tile(repeats, coming.size),
        np.full(sources.size * coming.size, _moved_last(m, own)),
    )
    days = np.column_stack([np.full(mornings.size, since), last + mornings])
    none = np.zeros_like(mornings)
    sds = sds_as_they_come(
        known,
        further,
        np.concatenate([none, sources.size * mornings, [0]]),
        np.vstack([days, days, [since, last]]),
        np.array([-1.0, 1.0]),
    )
    before, after, now = sds[: mornings.size], sds[mornings.size : -1], float(sds[-1])
    true = np.copysign(size, change.value)
    share = 1 - after**2 / before**2
    mean, sd = change.value + share * (true - change.value), after * np.sqrt(np.maximum(share, 0.0))
    # the interval now is that of a mixture, and its ratio to the SD stays
    limit = _half_of(change) / max(now, 1e-12) * after
    gap = mean - limit if true > 0 else -limit - mean
    power = [normal_below(float(z)) for z in gap / np.maximum(sd, 1e-12)]
    return np.array(power), limit


def _moved_last(m: StudyModel, own: int) -> float:
    """Rough change of the level at the client's last reading."""
    return float(m.data.moved[np.flatnonzero(m.data.client == own)[-1]])


def _again_now(m: StudyModel, own: int) -> list[int]:
    """Sources of the last four weeks that mornings are read with."""
    device = m.model.tried[0].device
    return [k for k in _recent(m, own) if device[k] >= 0 or not m.scanned]


def _again(m: StudyModel, own: int, place: int, days: Ints) -> Sets:
    """A set of the usual number of repeats of a source on each of some days."""
    n = days.size
    moved = np.full(n, _moved_last(m, own))
    return Sets(days, np.full(n, place), np.full(n, _repeats(m, place)), moved)


def _repeats(m: StudyModel, place: int) -> int:
    return max(int(np.median(m.data.size[m.data.source == place])), 1)


def _recent(m: StudyModel, own: int) -> list[int]:
    """Sources of the client's last four weeks, of each instrument the setting used last."""
    at = np.flatnonzero((m.data.client == own) & (m.data.day > int(m.last[own]) - 28))
    latest: dict[int, int] = {}
    for k in at[np.argsort(m.data.day[at], kind="stable")].tolist():
        place = int(m.data.source[k])
        latest[m.keys[place][0]] = place
    return sorted(latest.values())


def _sources_now(snapshot: Snapshot, m: StudyModel, own: int) -> list[tuple[int, Instrument, int]]:
    """The scan and what the client is measured with, each in the setting used last."""
    at = np.flatnonzero(m.data.client == own)
    latest = {m.anchor.id: 0} if m.scanned else {}
    for k in at[np.argsort(m.data.day[at], kind="stable")].tolist():
        place = int(m.data.source[k])
        latest[m.keys[place][0]] = place
    return [
        (place, snapshot.instruments[item], m.keys[place][1])
        for item, place in sorted(latest.items(), key=lambda x: x[1])
    ]


def _minutes(item: Instrument, more: Sets) -> float:
    if item.kind == "reference":
        return USUAL_COSTS.scan_minutes
    return float((USUAL_COSTS.morning_minutes + USUAL_COSTS.repeat_minutes * (more.size - 1)).sum())
