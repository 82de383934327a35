"""Practice: hidden values to be read from a dial or a tape, and what the reading was worth."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...stats.measurement_error import DigitPreference, digit_preference

# what is read: lowest and highest value, in mm for the dial and cm for the tape; both are read to
# one decimal
RANGES = {"dial": (3.0, 40.0), "tape": (20.0, 120.0)}


def hidden_values(kind: str, n: int, seed: int | None = None) -> tuple[float, ...]:
    """Draw ``n`` true values, evenly over the range and not on the lines only."""
    low, high = RANGES[kind]
    return tuple(np.random.default_rng(seed).uniform(low, high, n).tolist())


@dataclass(frozen=True, slots=True)
class PracticeScore:
    """Readings against the truth, in the unit read.

    Mean error (positive when too high), SD, and share within 0.1.
    """

    n: int
    bias: float | None
    sd: float | None
    close: float | None
    digits: DigitPreference
    errors: tuple[float, ...] = ()


def score(hidden: tuple[float, ...], read: tuple[float, ...]) -> PracticeScore:
    """Score readings made to one decimal.

    The rounding itself counts as no error within ``close``.
    """
    n = len(read)
    error = np.array(read) - np.array(hidden[:n])
    digits = digit_preference(np.rint(np.array(read) * 10).astype(np.int64) % 10)
    if n == 0:
        return PracticeScore(0, None, None, None, digits)
    close = float((np.abs(error) <= 0.1 + 1e-9).mean())
    return PracticeScore(
        n,
        float(error.mean()),
        float(error.std(ddof=1)) if n > 1 else None,
        close,
        digits,
        tuple(error.tolist()),
    )
