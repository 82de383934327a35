"""One model of a device, behind the demo study and the simulated scales."""

from __future__ import annotations

from dataclasses import dataclass

LOWEST, HIGHEST = 3.0, 65.0  # percent of fat that a device shows at all


@dataclass(frozen=True, slots=True)
class Device:
    """How a device sees body fat, in percent of body mass.

    ``noise`` is the SD of repeats, ``hydration`` what a point of body water above the usual
    takes off, ``drift`` what a week adds, ``athlete`` the shift of its athlete setting, ``step``
    its display resolution, ``failures`` the share of readings without a value.
    """

    bias: float
    noise: float
    hydration: float = 0.0
    drift: float = 0.0
    athlete: float = 0.0
    step: float = 0.1
    failures: float = 0.0

    def shown(
        self,
        fat: float,
        error: float,
        *,
        wet: float = 0.0,
        week: float = 0.0,
        athlete: bool = False,
    ) -> float:
        """What is shown of a true ``fat``.

        ``error`` is all that was drawn at random (client, day, repeat).
        """
        seen = (
            fat
            + self.bias
            - self.hydration * wet
            + self.drift * week
            + (self.athlete if athlete else 0.0)
            + error
        )
        return min(max(round(seen / self.step) * self.step, LOWEST), HIGHEST)
