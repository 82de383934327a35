"""The lens: what every stage looks at."""

from __future__ import annotations

from dataclasses import dataclass

# hours of the pairing windows that are offered, and their names
WINDOWS = {1.0: "1 h", 6.0: "6 h", 24.0: "24 h", 48.0: "48 h", 168.0: "7 days"}


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
