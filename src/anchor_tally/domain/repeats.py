"""How many repeats are planned, and what counts of them."""

from __future__ import annotations

from dataclasses import dataclass

MOST_REPEATS = 10
# what counts of the repeats of a tally (common practice)
COUNTS = {
    "agree": "mean when the first two agree, else one more and the median",
    "mean": "mean of all",
    "median": "median of all",
    "last": "the last one (earlier ones warm up)",
}


@dataclass(frozen=True, slots=True)
class Rule:
    """``repeats`` are always taken; ``counts`` is one of COUNTS."""

    repeats: int = 3
    counts: str = "agree"
