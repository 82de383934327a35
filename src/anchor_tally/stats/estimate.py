"""The vocabulary of all results."""

from __future__ import annotations

from dataclasses import dataclass, fields, replace

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
Fact = str | int | float | tuple[str | float, ...]


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
    """An estimated figure with its uncertainty.

    Attributes
    ----------
    value : float
        The estimate, in the unit of what is estimated.
    interval : Interval or None
        Confidence interval; None when the data cannot give one.
    n : int
        Readings, pairs or clients behind it.
    method : str
        Id of the method, which the methods page explains.
    se, df : float or None
        Standard error and degrees of freedom of Student's t, where the interval is value ± t·se;
        None for other intervals.
    """

    value: float
    interval: Interval | None
    n: int
    method: str
    se: float | None = None
    df: float | None = None

    def moved(self, by: float) -> Estimate:
        """Return the estimate of the same figure plus a constant."""
        ends = (
            None
            if self.interval is None
            else Interval(self.interval.low + by, self.interval.high + by)
        )
        return replace(self, value=self.value + by, interval=ends)

    def scaled(self, by: float) -> Estimate:
        """Return the estimate of a positive multiple of the figure."""
        ends = None if self.interval is None else self.interval.scaled(by)
        return replace(
            self, value=self.value * by, interval=ends, se=None if self.se is None else self.se * by
        )

    def at_least(self, low: float) -> Estimate:
        """Return the same figure with no end of its interval below ``low``."""
        i = self.interval
        return self if i is None or i.low >= low else replace(self, interval=Interval(low, i.high))


@dataclass(frozen=True, slots=True)
class Note:
    """Why a figure is missing or doubtful: a code for a sentence, and its facts.

    Facts are numbers, tuples of numbers and names, never formatted text: only the wording knows
    decimals and signs.
    """

    code: str
    facts: tuple[tuple[str, Fact], ...] = ()


def note(code: str, **facts: Fact | np.generic | None) -> Note:
    """Build a Note from keyword facts.

    Parameters
    ----------
    code : str
        What is missing or doubtful; a key of the table of sentences in the wording.
    **facts : str, int, float, tuple of float or None
        Numbers and names for the sentence. NumPy scalars become Python numbers; a fact that is
        None is left out.

    Returns
    -------
    Note

    Examples
    --------
    >>> note("few_clients", clients=3).facts
    (('clients', 3),)
    """
    given = {k: v.item() if isinstance(v, np.generic) else v for k, v in facts.items()}
    return Note(code, tuple((k, v) for k, v in given.items() if v is not None))
