"""The eight stages of the work, in order: words and keys. A stage without a screen is not offered."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Stage:
    """One stage: id, words, what happens there, and whether this version has its screen."""

    id: str
    label: str
    purpose: str
    built: bool


STAGES = (
    Stage("plan", "Plan", "Clients, instruments, protocol and assessors", True),
    Stage("record", "Record", "Type readings at the bench", True),
    Stage("review", "Review", "What does not look right", False),
    Stage("compare", "Compare", "How close each instrument is to the scan", True),
    Stage("drift", "Drift", "Has an instrument moved", False),
    Stage("calibrate", "Calibrate", "What to subtract, for whom", True),
    Stage("track", "Track", "One client through time", False),
    Stage("report", "Report", "Pages to print", False),
)
