"""Sentences about one client through time."""

from __future__ import annotations

from ..analysis.people.fat_ranges import NAMES, SOURCE, Placed
from ..analysis.time.client_series import TrackSeries
from ..analysis.time.track import TrackResult
from ..domain.metrics import Metric, metric_of
from ..stats.one_client import LIKELY, REAL, Verdict
from . import best_estimate as best
from .best_estimate import WHY
from .names import short_name
from .notes import sentence
from .numbers import MISSING, ci, count, day_of, number, signed, span
from .statistics import Line

CAUTION = "Not a diagnosis. Local rules and licensed practice take precedence."


def _kind(v: Verdict, m: Metric) -> str:
    """The change in the fixed words for the strength of evidence."""
    k, unit = m.decimals, m.difference_unit
    size = f"{signed(v.change.value, k)} {unit}{ci(v.change.interval, k, sign=True)}"
    if v.kind == REAL:
        return f"real change, {size}"
    if v.kind == LIKELY:
        return f"probable change, {size}"
    return f"no detectable change, {size}"


def track_headline(r: TrackResult) -> str:
    """Value and change from all sources; where they cannot be combined, why, and one device."""
    if r.best is not None:
        return best.headline(r.best) + _first_check(r, alone=False)
    why = r.apart[:1].upper() + r.apart[1:]
    return f"{why}. {alone_headline(r)}" if r.chosen else f"{r.client.code}: {why}."


def alone_headline(r: TrackResult) -> str:
    """What the instrument that is shown reports about the change, without the others."""
    m, name = metric_of(r.metric), short_name(r.chosen)
    dates = f"{day_of(r.since)} to {day_of(r.until)}"
    head = f"{r.client.code}, {m.name}, {name} alone"
    why = next((d.why for d in r.devices if d.instrument == r.chosen), "")
    if r.change is None:
        return f"{head}: no change computed for {dates} ({WHY.get(why, why)})."
    text = f"{head}: {_kind(r.change, m)}, {dates}.{_first_check(r, alone=True)}"
    return text + (f" It does not count: {WHY.get(why, why)}." if why else "")


def _first_check(r: TrackResult, *, alone: bool) -> str:
    """That a change is told with a measurement that Review doubts."""
    _, questioned = r.in_review(alone=alone)
    what = "measurement" if len(questioned) == 1 else "measurements"
    return f" First check the {what} named below." if questioned else ""


def all_sources_words(r: TrackResult) -> str:
    """What follows from all sources beside value and change."""
    b = r.best
    if b is None:
        return alone_words(r)
    said = (
        best.picked_words(b),
        best.margin_words(b),
        best.measured_words(b),
        best.since_scan_words(b),
        best.contradiction_words(b),
        best.odd_words(b),
        *review_words(r, alone=False),
        best.more_words(b),
        best.next_words(b),
        best.goal_words(b.goal, b),
        *second_words(r),
    )
    return " ".join(x for x in said if x)


def second_words(r: TrackResult) -> list[str]:
    """The tape over the same days."""
    return [
        f"{metric_of(o.metric).label}: {best.change_words(o)}."
        for o in r.opinions
        if (o.change.since, o.change.until) == (r.since, r.until)
    ]


def value_words(r: TrackResult) -> str:
    """The newest value with its uncertainty, or that it is uncorrected."""
    s = r.named(r.chosen)
    if s is None or not s.day.size:
        return ""
    m = metric_of(r.metric)
    unit = m.symbol
    at = day_of(int(s.day[-1]))
    if not bool(s.corrected[-1]):
        return f"{short_name(r.chosen)} on {at}: {number(float(s.raw[-1]), m.decimals)} {unit}" + (
            " (not corrected; do not use as an absolute value)." if r.anchor_day.size else "."
        )
    ends = f"{number(float(s.low[-1]), m.decimals)} to {number(float(s.high[-1]), m.decimals)}"
    return (
        f"{short_name(r.chosen)} on {at}: corrected {number(float(s.value[-1]), m.decimals)} {unit}"
        f" (95 % of readings {ends}), read {number(float(s.raw[-1]), m.decimals)}."
    )


def alone_words(r: TrackResult) -> str:
    """What stands under the sentence about one device: its newest value, and what is in doubt."""
    return " ".join(x for x in (value_words(r), *review_words(r, alone=True)) if x)


def review_words(r: TrackResult, *, alone: bool) -> tuple[str, str]:
    """Readings behind what is told that Review has found: they wait, or are in doubt."""
    held, questioned = r.in_review(alone=alone)
    return best.held_words(held), best.questioned_words(questioned)


def place_words(p: Placed | None) -> str:
    """Where a corrected value lies in a published table; information, never a target."""
    if p is None:
        return ""
    if p.supported:
        said = f"is {NAMES[p.first]}"
    else:
        said = f"extends from “{NAMES[p.first]}” to “{NAMES[p.last]}”, so no single range applies"
    return f"Information, not a target: the interval {said}. {SOURCE}."


def caution_words(r: TrackResult) -> str:
    """Cautions first, each as a sentence."""
    said = [sentence(n) for n in r.cautions]
    return " ".join(x[:1].upper() + x[1:] + ("" if x.endswith(".") else ".") for x in said)


def track_notes(r: TrackResult) -> str:
    """What is to be kept in mind of the chosen instrument."""
    said = [sentence(n) for n in r.notes]
    s = r.named(r.chosen)
    if s is not None and s.corrected.any():
        said.append(
            "wide band: 95 % interval of one morning's true value; narrow band: noise of the 7-day"
            " mean"
        )
    return " ".join(x[:1].upper() + x[1:] + ("" if x.endswith(".") else ".") for x in said)


def track_lines(r: TrackResult) -> list[Line]:
    """Each device's change; under the one that is shown the figures behind it."""
    m = metric_of(r.metric)
    k, unit = m.decimals, m.difference_unit
    lines = []
    s = r.named(r.chosen)
    for d in r.devices:
        name, v = f"{short_name(d.instrument)} ({unit})", d.verdict
        if v is None:
            lines.append(Line(name, MISSING, WHY.get(d.why, d.why), main=True))
        else:
            shown = WHY[d.why] if d.why else span(v.change.interval, k, sign=True)
            lines.append(Line(name, signed(v.change.value, k), shown, main=True))
        if s is not None and d.instrument == r.chosen:
            lines += _of_series(s, r, m)
    if r.mass_rate is not None:
        lines.append(
            Line(
                "Body mass (% a week)",
                signed(r.mass_rate.value, 2),
                span(r.mass_rate.interval, 2, sign=True),
            )
        )
    return lines


def _of_series(s: TrackSeries, r: TrackResult, m: Metric) -> list[Line]:
    k, unit = m.decimals, m.difference_unit
    lines = []
    if r.change is not None:
        v = r.change
        kind = {REAL: "real", LIKELY: "probable"}.get(v.kind, "not detectable")
        lines.append(Line("  days near both dates", f"{v.days[0]} and {v.days[1]}", kind))
    if s.noise is not None:
        whose = "this client" if s.noise.own else "all clients"
        lines.append(Line(f"  day-to-day SD ({unit})", number(s.noise.sd, k + 1), whose))
    if s.week.mean.size:
        half = float(s.week.half[-1])
        value = float(s.week.mean[-1])
        sure = f"± {number(half, k)} " if s.noise is not None else ""
        lines.append(
            Line(
                "  mean of last 7 days",
                number(value, k),
                f"{sure}({count(int(s.week.days[-1]), 'day')})",
            )
        )
    if s.follows is not None:
        lines.append(
            Line(
                "  response to change (slope)",
                number(s.follows.value, 2),
                span(s.follows.interval, 2),
            )
        )
    return lines
