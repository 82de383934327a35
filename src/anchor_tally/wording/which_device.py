"""Sentences of *Which device?*: one for each job, and the table of all figures."""

from __future__ import annotations

from ..analysis.offsets.which_device import JOBS, Choice, WhichDeviceResult
from ..domain.metrics import metric_named, metric_of
from ..stats.estimate import Estimate
from .names import short_name
from .notes import sentence
from .numbers import MISSING, ci, number, span

TITLES = {"level": "Level", "change": "Change over weeks", "daily": "Day to day"}
MISSING_WORDS = {
    "no_scan": "Needs a scan.",
    "few_clients": "Not enough data: needs at least 3 scanned clients.",
    "one_scan": "Not enough data: needs a second scan of at least 3 clients.",
    "few_days": "Not enough data: needs readings on at least 6 pairs of days.",
    "none_responds": "No device is shown to respond to change.",
    "none_left": "Every device is ruled out.",
    "no_device": "No device has readings yet.",
}
WHAT = {
    "level": "error after correction",
    "change": "error of a change",
    "daily": "smallest detectable change",
}
HEADS = (
    "Device",
    "Level error",
    "Change error",
    "Response",
    "One reading",
    "7-day mean",
    "Failed",
    "Price",
)


def _names(choice: Choice) -> str:
    every = [short_name(n) for n in (choice.name, *choice.close)]
    return every[0] if len(every) == 1 else f"{', '.join(every[:-1])} and {every[-1]}"


def job_words(r: WhichDeviceResult, job: str) -> str:
    """The choice for one job, with its error and how sure it is."""
    choice, m = r.choices[job], metric_of(r.metric)
    if not choice.name:
        return MISSING_WORDS[choice.missing]
    k, unit = max(m.decimals, 1), m.difference_unit
    e = choice.error
    size = "" if e is None else f"{WHAT[job]} {number(e.value, k)} {unit}{ci(e.interval, k)}"
    week = next((c.week for c in r.cards if c.instrument.name == choice.name), None)
    if job == "daily" and week is not None:
        size += f" for one reading, {number(week.value, k)} {unit} for 7-day means"
    best = "" if choice.sure is None else f", best in {number(100 * choice.sure, 0)} % of resamples"
    if choice.clear:
        said = f"{short_name(choice.name)}: {size}{best}."
    elif choice.close:
        said = f"No clear winner: {_names(choice)} are close. {short_name(choice.name)}: {size}."
    else:
        said = f"No clear winner. {short_name(choice.name)}: {size}{best}."
    if job != "daily" and choice.expected is not None:
        said += f" Expect {number(choice.expected, k)} {unit}, corrected for choosing the best."
    return said


def which_device_headline(r: WhichDeviceResult) -> str:
    """The device for level and the device for change."""
    metric = metric_named(r.metric)
    label = metric.name if metric is not None else "this metric"
    level, change = r.choices["level"], r.choices["change"]
    if level.clear:
        first = f"For {label} level: {short_name(level.name)}."
    elif level.name and level.close:
        first = f"No clear winner for {label} level ({_names(level)} are close)."
    elif level.name:
        first = f"No clear winner for {label} level."
    else:
        first = f"Level: {MISSING_WORDS[level.missing].lower()}"
    if change.clear:
        second = f"For tracking change: {short_name(change.name)}."
    elif change.name:
        second = f"For tracking change, probably {short_name(change.name)}."
    else:
        second = f"Change: {MISSING_WORDS[change.missing].lower()}"
    return f"{first} {second}"


def _cell(e: Estimate | None, k: int) -> str:
    if e is None:
        return MISSING
    return (
        number(e.value, k)
        if e.interval is None
        else f"{number(e.value, k)} ({span(e.interval, k)})"
    )


def which_device_lines(r: WhichDeviceResult) -> list[tuple[str, ...]]:
    """One row a device: errors with 95 % CI, response, failures, price, and why it is ruled out."""
    k = max(metric_of(r.metric).decimals, 1)
    out: list[tuple[str, ...]] = []
    for c in r.cards:
        why = "; ".join(sentence(n) for n in c.ruled_out)
        out.append(
            (
                c.instrument.name + (f"\nRuled out: {why}" if why else ""),
                *(_cell(c.of(job).error, k) for job in JOBS[:2]),
                _cell(c.follows, 2),
                _cell(c.daily.error, k),
                _cell(c.week, k),
                f"{number(100 * c.failed, 0)} %",
                number(c.price, 0),
            )
        )
    return out
