"""The vocabulary of all results."""

from __future__ import annotations

from dataclasses import dataclass, fields

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]


class FrozenArrays:
    """Base of results with arrays: a frozen dataclass whose arrays cannot be written to either."""

    def __post_init__(self) -> None:
        """Close every array of the result."""
        for f in fields(self):  # type: ignore[arg-type]
            value = getattr(self, f.name)
            if isinstance(value, np.ndarray):
                value.setflags(write=False)


@dataclass(frozen=True, slots=True)
class Interval:
    """A two-sided interval."""

    low: float
    high: float

    def scaled(self, by: float) -> Interval:
        """The interval of a positive multiple."""
        return Interval(by * self.low, by * self.high)


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
