"""Ranges of body fat by sex and age from a published table: information, never a target.

Gallagher, Heymsfield, Heo, Jebb, Murgatroyd & Sakamoto 2000, Am J Clin Nutr 72:694: percent body
fat that goes with a body mass index of 18.5, 25 and 30. The paper has bounds by descent, and a
composite of them is the one mostly quoted; bounds for European descent lie up to 2 pp higher. Both
are from memory, and a value is placed by both: between them, both ranges are named. The ranges
describe what body mass index means for fat; they are no verdict on a person, and athletes lie
outside what they were made from.
"""

from __future__ import annotations

from dataclasses import dataclass

from ...stats.estimate import Interval

SOURCE = (
    "Gallagher et al. 2000, Am J Clin Nutr 72:694, composite bounds and those for European descent"
    " (from memory)"
)
NAMES = (
    "below the range for a BMI of 18.5",
    "in the range for a BMI of 18.5 to 25",
    "in the range for a BMI of 25 to 30",
    "in the range for a BMI of 30 or more",
)
_AGES = ((20, 40), (40, 60), (60, 80))
# composite of all descents
_BOUNDS = {
    "female": ((21.0, 33.0, 39.0), (23.0, 34.0, 40.0), (24.0, 36.0, 42.0)),
    "male": ((8.0, 20.0, 25.0), (11.0, 22.0, 28.0), (13.0, 25.0, 30.0)),
}
_EUROPEAN = {
    "female": ((21.0, 33.0, 39.0), (23.0, 35.0, 41.0), (25.0, 38.0, 43.0)),
    "male": ((8.0, 21.0, 26.0), (11.0, 23.0, 29.0), (13.0, 25.0, 31.0)),
}


@dataclass(frozen=True, slots=True)
class Placed:
    """Bounds between the four ranges for a person.

    ``first`` and ``last`` are the ranges that the interval of the value reaches by either form of
    the table; ``bounds`` are the composite ones.
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
    other = _EUROPEAN[sex][row]
    first = min(sum(interval.low >= b for b in form) for form in (bounds, other))
    last = max(sum(interval.high >= b for b in form) for form in (bounds, other))
    return Placed(bounds, value, interval, first, last)
