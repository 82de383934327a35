"""The lens: what every stage looks at."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Lens:
    """Metric, reference, clients, setting and pairing window of a question.

    No clients: all of them. No setting: all pooled. The window is in hours.

    Of the tallies inside the window the nearest to the scan counts, or all of them when ``around``.
    """

    metric: str = "body_fat_percent"
    reference: str | None = None
    clients: frozenset[str] | None = None
    setting: str | None = None
    window_hours: float = 24.0
    around: bool = False
