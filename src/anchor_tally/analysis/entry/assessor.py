"""Assessor check: does this assessor repeat well enough, and what does that add to a result?"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from ...domain.events import AssessorValue
from ...stats.estimate import Note, note
from ...stats.measurement_error import TechnicalError, technical_error

LEAST_PERSONS = 10
# Acceptable TEM of one assessor in percent of the mean, for a skilled one and for a beginner
# (Perini et al. 2005, Rev Bras
# Med Esporte 11:81-85, table of limits after Gore et al. 1996; from memory)
SKINFOLD_LIMITS, OTHER_LIMITS = (5.0, 7.5), (1.0, 1.5)
RELIABILITY_LIMIT = 0.95  # Ulijaszek & Kerr 1999, Br J Nutr 82:165-177


@dataclass(frozen=True, slots=True)
class AssessorResult:
    """The check of one assessor in one metric.

    ``verdict`` is skilled, beginner, not_yet or too_few; ``limits`` are those of the skilled and
    of the beginner in percent; ``sure`` shows whether the interval of %TEM lies within the limit
    that the verdict names.
    """

    assessor: str
    metric: str
    error: TechnicalError
    limits: tuple[float, float]
    verdict: str
    sure: bool
    notes: tuple[Note, ...]


def check(values: Iterable[AssessorValue], assessor: str, metric: str) -> AssessorResult:
    """Judge one assessor in one metric from all saved values.

    A person measured on another day counts as another person.
    """
    own = [v for v in values if v.assessor == assessor and v.metric == metric]
    names = {k: n for n, k in enumerate(dict.fromkeys((v.day, v.person) for v in own))}
    person = np.array([names[v.day, v.person] for v in own], dtype=np.int64)
    error = technical_error(person, np.array([v.value for v in own], dtype=np.float64))
    limits = SKINFOLD_LIMITS if metric.startswith("skinfold_") else OTHER_LIMITS
    repeated = int((np.bincount(person) > 1).sum()) if own else 0
    notes: list[Note] = []
    verdict, sure = "too_few", False
    if error.percent is None or repeated < LEAST_PERSONS:
        notes.append(note("assessor_few", persons=repeated, least=LEAST_PERSONS))
    else:
        share, interval = error.percent.value, error.percent.interval
        verdict = (
            "skilled" if share <= limits[0] else "beginner" if share <= limits[1] else "not_yet"
        )
        bound = limits[0] if verdict == "skilled" else limits[1]
        sure = interval is not None and (
            interval.high <= bound if verdict != "not_yet" else interval.low > bound
        )
        if not sure:
            notes.append(note("assessor_unsure", bound=bound))
    if error.reliability is not None and error.reliability < RELIABILITY_LIMIT:
        notes.append(
            note("assessor_unreliable", reliability=error.reliability, limit=RELIABILITY_LIMIT)
        )
    return AssessorResult(assessor, metric, error, limits, verdict, sure, tuple(notes))


@dataclass(frozen=True, slots=True)
class Pair:
    """One person of a check: first and second value (None when missing), and second minus first."""

    person: str
    day: str
    first: float | None
    second: float | None
    difference: float | None


def pairs_of(values: Iterable[AssessorValue], assessor: str, metric: str) -> list[Pair]:
    """The people of one check, in the order in which they were measured."""
    people: dict[tuple[str, str], dict[int, float]] = {}
    for v in values:
        if (v.assessor, v.metric) == (assessor, metric):
            people.setdefault((v.person, v.day), {})[v.repeat] = v.value
    out = []
    for (person, day), by_repeat in people.items():
        first, second = by_repeat.get(1), by_repeat.get(2)
        out.append(
            Pair(
                person,
                day,
                first,
                second,
                None if first is None or second is None else second - first,
            )
        )
    return out


def errors_of(values: Iterable[AssessorValue], assessor: str) -> dict[str, float]:
    """TEM by metric of an assessor who has been checked on enough people."""
    kept = list(values)
    out = {}
    for metric in dict.fromkeys(v.metric for v in kept if v.assessor == assessor):
        result = check(kept, assessor, metric)
        if result.verdict != "too_few" and result.error.tem is not None:
            out[metric] = result.error.tem.value
    return out
