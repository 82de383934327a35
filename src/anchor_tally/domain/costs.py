"""What measuring takes."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Costs:
    """Minutes and money of one scan, of one morning and of one more repeat.

    The minutes are assumed. ``money`` is of one scan, in any currency.
    """

    scan_minutes: float = 30.0
    morning_minutes: float = 5.0
    repeat_minutes: float = 1.0
    money: float = 0.0


USUAL_COSTS = Costs()
