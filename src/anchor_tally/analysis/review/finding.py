"""What a review rule is given, and what it finds."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

import numpy as np

from ...domain.events import AssessorValue
from ...domain.snapshot import OK, Columns, Floats, Ints, Snapshot
from ...stats.estimate import Note, note

SEVERITIES = ("stop", "look", "know")  # do not use; check; note


@dataclass(frozen=True, eq=False)
class Material:
    """The study as review rules see it.

    All metrics, conditions and assessors by visit, and values of assessor checks. ``now`` is the
    time of the look, in seconds as the visits' instants are.
    """

    snapshot: Snapshot
    conditions: Mapping[int, Mapping[str, str]] = field(default_factory=dict)
    assessors: Mapping[int, str] = field(default_factory=dict)
    checks: tuple[AssessorValue, ...] = ()
    now: float = np.inf

    def columns(self) -> list[tuple[str, Columns]]:
        """Metrics with stored readings.

        Values of equations are judged by what they were made from.
        """
        return [(m, c) for m, c in self.snapshot.columns.items() if c.n]


@dataclass(frozen=True, slots=True)
class Finding:
    """One finding: rule, facts for its sentence, what it concerns, and size for the order.

    ``key`` names it for a decision that is kept: the rule and what it is about, whatever its
    numbers are.
    """

    rule: str
    severity: str
    note: Note
    weight: float
    client: int = 0
    visit: int = 0
    instrument: int = 0
    metric: str = ""
    readings: tuple[int, ...] = ()

    @property
    def key(self) -> str:
        """The name under which a decision is kept."""
        ids = ",".join(map(str, self.readings)) if self.readings else ""
        return f"{self.rule}|{self.client}|{self.visit}|{self.instrument}|{self.metric}|{ids}"


def named(key: str, severity: str) -> Finding | None:
    """The finding of a kept decision that is not found any more, by its key.

    None when the key is of another make.
    """
    parts = key.split("|")
    if len(parts) != 6 or not all(p.isdigit() for p in parts[1:4]):
        return None
    rule, client, visit, instrument, metric, ids = parts
    readings = tuple(int(i) for i in ids.split(",") if i.isdigit())
    return Finding(
        rule,
        severity,
        note("review_gone"),
        0.0,
        int(client),
        int(visit),
        int(instrument),
        metric,
        readings,
    )


@dataclass(frozen=True, slots=True)
class Rule:
    """A review rule: id, name, severity, source, first step, and the test over the study."""

    id: str
    name: str
    severity: str
    source: str
    advice: str
    test: Callable[[Material], list[Finding]]


def stored(c: Columns) -> np.ndarray:
    """Which rows are stored readings, not values of equations."""
    return np.asarray(c.reading > 0)


@dataclass(frozen=True, eq=False)
class Tallies:
    """Sets of stored valid readings of a metric as columns (m,): median and readings.

    Sorted by client, instrument, setting and time.
    """

    visit: Ints
    client: Ints
    instrument: Ints
    setting: Ints
    instant: Floats
    median: Floats
    size: Ints
    start: Ints
    rows: Ints

    def readings(self, c: Columns, k: int) -> tuple[int, ...]:
        """The readings of a tally."""
        return tuple(c.reading[self.rows[self.start[k] : self.start[k] + self.size[k]]].tolist())


def tallies_of(c: Columns) -> Tallies:
    """Group the stored ok readings of a metric: one tally a visit, instrument and setting."""
    rows = np.flatnonzero((c.status == OK) & stored(c))
    when = _visit_time(c, rows)
    order = rows[
        np.lexsort(
            (
                c.value[rows],
                c.visit[rows],
                when,
                c.setting[rows],
                c.instrument[rows],
                c.client[rows],
            )
        )
    ]
    new = np.append(
        True,
        (np.diff(c.visit[order]) != 0)
        | (np.diff(c.instrument[order]) != 0)
        | (np.diff(c.setting[order]) != 0),
    )
    start = np.flatnonzero(new) if order.size else np.empty(0, dtype=np.int64)
    size = np.diff(np.append(start, order.size))
    at = order[start] if order.size else order
    low, high = (
        order[start + (size - 1) // 2] if order.size else order,
        order[start + size // 2] if order.size else order,
    )
    return Tallies(
        c.visit[at],
        c.client[at],
        c.instrument[at],
        c.setting[at],
        c.instant[at].astype(float),
        (c.value[low] + c.value[high]) / 2,
        size,
        start,
        order,
    )


def _visit_time(c: Columns, rows: Ints) -> Ints:
    """The first instant of each reading's visit, so that a tally stays together."""
    visits, cell = np.unique(c.visit[rows], return_inverse=True)
    first = np.full(visits.size, np.iinfo(np.int64).max)
    np.minimum.at(first, cell, c.instant[rows])
    return first[cell] if rows.size else rows
