"""The vocabulary of all results."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class Interval:
    """A two-sided interval."""

    low: float
    high: float


@dataclass(frozen=True, slots=True)
class Estimate:
    """A value, its interval (None when the data cannot give one), the n behind it and the method's id."""

    value: float
    interval: Interval | None
    n: int
    method: str


@dataclass(frozen=True, slots=True)
class Note:
    """Why a figure is missing or doubtful: a code that wording turns into a sentence, and its facts."""

    code: str
    facts: tuple[tuple[str, str], ...] = ()


def note(code: str, **facts: object) -> Note:
    """Build a Note from keyword facts."""
    return Note(code, tuple((k, str(v)) for k, v in facts.items()))
