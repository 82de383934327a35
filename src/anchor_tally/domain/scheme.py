"""Rules of the calendar: what is measured when, and single days that were moved."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import date
from typing import Literal

from .events import Event
from .stations import STATION

DEVICES = "devices"  # the station of all devices, beside those of `stations`
SCAN = "scan"
# stations that a calendar can plan, in the order of a visit
PLANNED: dict[str, str] = {
    DEVICES: "Devices",
    **{k: STATION[k].label for k in ("skinfolds", "girths", "breadths", "impedance")},
    "underwater": STATION["underwater"].label,
    SCAN: STATION[SCAN].label,
}
LETTERS = {
    DEVICES: "D",
    "skinfolds": "F",
    "girths": "G",
    "breadths": "B",
    "impedance": "I",
    "underwater": "U",
    SCAN: "S",
}
# spans in which nothing is planned (common practice)
BLACKOUTS = ("travel", "illness", "race", "holiday", "cycle")
SPACING_DAYS, LEAST_DAYS = 84, 56  # between two scans: usual, and never fewer without a reason

Form = Literal["every", "back", "last", "weekdays", "scan", "days"]


@dataclass(frozen=True, slots=True)
class SchemeRule:
    """One rule: a station on days that it makes.

    Attributes
    ----------
    id : int
        Number in the study; 0 for a new one.
    client : int or None
        Whose rule it is; None for all clients.
    station : str
        A key of ``PLANNED``.
    form : str
        every (so many days, from ``starts`` on), back (the same, counted back from ``ends``), last
        (so many days after the last visit of the station), weekdays, scan (days before and after
        each scan), days (named ones).
    days : tuple of int or str
        The number of days; weekdays (0 is Monday); days from a scan; or ISO dates.
    starts, ends : str
        First and last day, ISO; empty for no bound.
    most : int or None
        Most planned days of a client, those before the study's first day included for scans.
    label : str
        Keeps two series of a station apart, such as morning and evening.
    spread : bool
        Clients begin one after the other, evenly over the interval.
    reason : str
        Why scans may lie nearer than ``LEAST_DAYS``.
    """

    id: int
    client: int | None
    station: str
    form: Form
    days: tuple[int, ...] | tuple[str, ...]
    starts: str = ""
    ends: str = ""
    most: int | None = None
    label: str = ""
    spread: bool = False
    reason: str = ""


@dataclass(frozen=True, slots=True)
class MovedDay:
    """A planned day of a rule that was moved to another; an empty ``day`` is left out."""

    scheme: int
    client: int
    due: str
    day: str


@dataclass(frozen=True, slots=True)
class Scheme:
    """All rules of a study, and the days moved by hand."""

    rules: tuple[SchemeRule, ...] = ()
    moved: tuple[MovedDay, ...] = ()


def is_blackout(event: Event) -> bool:
    """Whether nothing is planned in an event's span."""
    return event.kind in BLACKOUTS and event.instrument is None


def _day(today: str) -> Callable[[int], str]:
    start = date.fromisoformat(today).toordinal()
    return lambda k: date.fromordinal(start + k).isoformat()


@dataclass(frozen=True, slots=True)
class Preset:
    """A scheme to begin with: key, name, what it is for, and its rules from a day on."""

    key: str
    label: str
    purpose: str
    rules: Callable[[str], tuple[SchemeRule, ...]]


def _retest(today: str) -> tuple[SchemeRule, ...]:
    return tuple(SchemeRule(0, None, s, "last", (24,), today) for s in ("skinfolds", "girths"))


def _weekly_tape(today: str) -> tuple[SchemeRule, ...]:
    return (SchemeRule(0, None, "girths", "every", (7,), today),)


def _two_weeks(today: str) -> tuple[SchemeRule, ...]:
    d = _day(today)
    return (
        SchemeRule(0, None, DEVICES, "every", (1,), d(0), d(6)),
        SchemeRule(0, None, DEVICES, "every", (1,), d(28), d(34)),
    )


def _one_scan(today: str) -> tuple[SchemeRule, ...]:
    d = _day(today)
    return (
        SchemeRule(0, None, DEVICES, "weekdays", (0, 3), d(0), d(83)),
        SchemeRule(0, None, SCAN, "days", (d(42),)),
        SchemeRule(0, None, DEVICES, "scan", (-1, 0, 1)),
    )


def _scans(today: str) -> tuple[SchemeRule, ...]:
    return (
        SchemeRule(0, None, SCAN, "every", (SPACING_DAYS,), today),
        SchemeRule(0, None, DEVICES, "scan", (-3, -2, -1, 0, 1, 2, 3)),
        SchemeRule(0, None, "skinfolds", "every", (21,), today),
        SchemeRule(0, None, "girths", "every", (7,), today),
    )


def _contest(today: str) -> tuple[SchemeRule, ...]:
    d = _day(today)
    return (
        SchemeRule(0, None, SCAN, "back", (SPACING_DAYS,), d(0), d(168)),
        SchemeRule(0, None, DEVICES, "scan", (-1, 0, 1)),
    )


def _two_series(today: str) -> tuple[SchemeRule, ...]:
    return tuple(
        SchemeRule(0, None, DEVICES, "weekdays", (0, 2, 4), today, label=part)
        for part in ("morning", "evening")
    )


def _dry_and_loaded(today: str) -> tuple[SchemeRule, ...]:
    d = _day(today)
    return (
        SchemeRule(0, None, DEVICES, "days", (d(0),), label="dry"),
        SchemeRule(0, None, DEVICES, "days", (d(1),), label="loaded"),
    )


def _yearly(today: str) -> tuple[SchemeRule, ...]:
    return (
        SchemeRule(0, None, SCAN, "every", (364,), today, spread=True),
        SchemeRule(0, None, DEVICES, "scan", (-1, 0, 1)),
    )


def _research(today: str) -> tuple[SchemeRule, ...]:
    d = _day(today)
    return (
        SchemeRule(0, None, DEVICES, "every", (42,), d(0), d(84), most=3),
        SchemeRule(0, None, SCAN, "days", (d(0), d(84))),
    )


PRESETS = (
    Preset(
        "scans",
        "Scans every 12 weeks, the week around them",
        "Devices from three days before to three days after each scan; folds every three weeks,"
        " tape weekly.",
        _scans,
    ),
    Preset(
        "one_scan",
        "Twelve weeks, two mornings a week, one scan",
        "All devices on Mondays and Thursdays, and on the days around one scan in week 6.",
        _one_scan,
    ),
    Preset(
        "retest",
        "Folds and tape every three to four weeks",
        "Counted from each client's last visit: same sites, same hour.",
        _retest,
    ),
    Preset(
        "two_weeks",
        "Daily mornings in one week, then in another",
        "The mean of a week is compared with that of the week four weeks later.",
        _two_weeks,
    ),
    Preset("tape", "Tape every week", "Same day of the week, same hour.", _weekly_tape),
    Preset(
        "contest",
        "Scans counted back from a date",
        "Set the last day to the day of the contest. Scans never lie nearer than 8 weeks.",
        _contest,
    ),
    Preset(
        "two_series",
        "Morning and evening, kept apart",
        "Two series of the devices: compare each only with itself.",
        _two_series,
    ),
    Preset(
        "dry_and_loaded",
        "A dry and a loaded morning",
        "Tests how far body water moves the fat shown. Not with an eating disorder, in pregnancy,"
        " under 18, when ill, with kidney or heart disease, or without a clinician's consent.",
        _dry_and_loaded,
    ),
    Preset(
        "yearly",
        "Yearly scans, spread over the clients",
        "Each month some clients are scanned, so that there are always recent scans for each"
        " device.",
        _yearly,
    ),
    Preset(
        "research",
        "Three visits, two scans",
        "For a study: visits six weeks apart, scans at the first and the last.",
        _research,
    ),
)
