"""Cautions that are shown and never argued away."""

from __future__ import annotations

from ..stats.estimate import Note, note

# essential fat, percent of body mass: common practice, no published source
ESSENTIAL_FAT = {"male": 5.0, "female": 12.0}


def essential_fat(metric: str, sex: str, value: float) -> Note | None:
    """A caution when a body-fat value lies at or under essential fat (the lower bound when the sex is not known)."""
    bound = ESSENTIAL_FAT.get(sex, min(ESSENTIAL_FAT.values()))
    if metric == "body_fat_percent" and value <= bound:
        return note("essential_fat", bound=f"{bound:g}")
    return None
