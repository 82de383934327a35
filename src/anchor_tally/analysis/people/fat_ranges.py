"""Ranges of body fat by sex and age from a published table: information, never a target.

Gallagher, Heymsfield, Heo, Jebb, Murgatroyd & Sakamoto 2000, Am J Clin Nutr 72:694, table 4:
percent body fat that goes with a body mass index of 18.5, 25 and 30, for adults of African
American and European descent (values from memory). The ranges describe what body mass index
means for fat; they are no verdict on a person, and athletes lie outside what they were made
from.
"""

from __future__ import annotations

from dataclasses import dataclass

from ...stats.estimate import Interval

SOURCE = "Gallagher et al. 2000, Am J Clin Nutr 72:694 (from memory)"
NAMES = (
    "below the range for a BMI of 18.5",
    "in the range for a BMI of 18.5 to 25",
    "in the range for a BMI of 25 to 30",
    "in the range for a BMI of 30 or more",
)
_AGES = ((20, 40), (40, 60), (60, 80))
_BOUNDS = {
    "female": ((21.0, 33.0, 39.0), (23.0, 34.0, 40.0), (24.0, 36.0, 42.0)),
    "male": ((8.0, 20.0, 25.0), (11.0, 22.0, 28.0), (13.0, 25.0, 30.0)),
}


@dataclass(frozen=True, slots=True)
class Placed:
    """Bounds between the four ranges for a person.

    With the first and last range that the interval of the value reaches.
    """

    bounds: tuple[float, float, float]
    value: float
    interval: Interval
    first: int
    last: int

    @property
    def supported(self) -> bool:
        """Whether the uncertainty leaves one range only."""
        return self.first == self.last


def placed(
    metric: str, sex: str, age: float | None, value: float, interval: Interval
) -> Placed | None:
    """Where a value with its interval lies.

    None for another metric, a sex or age that the table has not.
    """
    if metric != "body_fat_percent" or sex not in _BOUNDS or age is None:
        return None
    row = next((k for k, (low, high) in enumerate(_AGES) if low <= age < high), None)
    if row is None:
        return None
    bounds = _BOUNDS[sex][row]
    first, last = (sum(x >= b for b in bounds) for x in (interval.low, interval.high))
    return Placed(bounds, value, interval, first, last)
