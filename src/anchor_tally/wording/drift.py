"""Sentences about drift: the verdict, what stands beside it, and the lines of figures."""

from __future__ import annotations

from datetime import date

from ..analysis.offsets.calibrate import EXPIRY_WEEKS
from ..analysis.time.drift import DriftResult, DriftStep, SideEvidence
from ..domain.metrics import Metric, metric_of
from ..stats.estimate import Interval
from .numbers import count, number, p_value, signed, span
from .statistics import Line


def _decimals(m: Metric) -> int:
    return m.decimals + 2  # of a slope per week


def day_words(day: str) -> str:
    """An ISO day as people write it: 25 May 2026."""
    at = date.fromisoformat(day[:10])
    return f"{at.day} {at:%b %Y}"


def drift_headline(r: DriftResult) -> str:
    """The verdict as a sentence."""
    name, m = r.instrument.name, metric_of(r.metric)
    k, unit = _decimals(m), m.difference_unit
    if r.verdict == "stepped":
        step = r.steps[0]
        more = f", and {count(len(r.steps) - 1, 'more step')}" if len(r.steps) > 1 else ""
        return f"{name} stepped {_by(step, m)} {between_words(step)}{more}."
    s = r.slope.slope if r.slope is not None else None
    if s is None or s.interval is None:
        return f"{name}: not enough anchors to see a drift{_needs(r)}."
    if r.verdict == "drifting":
        way, ends = (
            ("rises", s.interval)
            if s.value > 0
            else ("falls", Interval(-s.interval.high, -s.interval.low))
        )
        moved = f"its difference {way} by {number(abs(s.value), k)} {unit} a week ({span(ends, k)})"
        if r.not_following is not None:
            return (
                f"{name}: {moved}, because clients changed and it shows only"
                f" {number(r.not_following.value, 2)} ({span(r.not_following.interval, 2)}) of each"
                f" {unit}; that is not drift of the device."
            )
        return (
            f"{name} drifts: {moved}, {number(abs(s.value) * EXPIRY_WEEKS, m.decimals)} {unit} in"
            f" {EXPIRY_WEEKS} weeks."
        )
    most = max(abs(s.interval.low), abs(s.interval.high))
    if r.verdict == "steady":
        return (
            f"{name} is steady: no drift is shown, and more than {number(most, k)} {unit} a week"
            " can be ruled out."
        )
    return (
        f"{name}: not enough anchors: a drift of {number(most, k)} {unit} a week could still"
        f" hide{_needs(r)}."
    )


def _needs(r: DriftResult) -> str:
    if r.needed is None:
        return "; more clients are needed, since further scans of these alone would take years"
    return f"; {count(r.needed, 'more scan')} of each client would tell"


def _by(step: DriftStep, m: Metric) -> str:
    way, size = ("up", step.size.value) if step.size.value > 0 else ("down", -step.size.value)
    i = step.size.interval
    ends = (
        ""
        if i is None
        else f" ({span(i if step.size.value > 0 else Interval(-i.high, -i.low), m.decimals)})"
    )
    return f"{way} by {number(size, m.decimals)} {m.difference_unit}{ends}"


def between_words(step: DriftStep) -> str:
    """When a step came, and what was changed then."""
    span_ = f"between {day_words(step.before)} and {day_words(step.after)}"
    if step.change is None:
        return f"{span_}; no change of setting, battery or firmware is noted there"
    if step.change.setting:
        return f"{span_}, when its setting went to {step.change.words} ({day_words(step.at)})"
    return f"{span_}; noted there: {step.change.words} ({day_words(step.at)})"


def drift_advice(r: DriftResult) -> str:
    """What to do about it."""
    if r.not_following is not None:
        return "An offset cannot mend this: look at Change, and do not follow clients with it."
    if r.verdict == "stepped":
        step = r.steps[0]
        if step.change is not None and step.change.setting:
            return (
                "Choose the period since then in the lens bar: offsets and drift must not run"
                " across a change of setting."
            )
        return (
            "Find out what was changed that day and note it as an event; use only anchors since"
            " then for an offset."
        )
    if r.verdict == "drifting":
        return (
            "An adopted offset grows wrong with time: scan more often, check battery, feet and"
            " floor, or retire the device."
        )
    if r.verdict == "steady":
        return "An offset of all these anchors can stand for the whole time."
    return "Until then nothing is claimed; weekly mornings and check weights help a little."


def side_words(r: DriftResult) -> str:
    """Weaker evidence."""
    return " ".join(_side(x, metric_of(r.metric)) for x in r.side)


def _side(x: SideEvidence, m: Metric) -> str:
    unit = "kg" if x.what == "check_weights" else m.difference_unit
    k = 3 if x.what == "check_weights" else _decimals(m)
    against = (
        "known masses"
        if x.what == "check_weights"
        else f"the other devices ({count(x.clients, 'client')})"
    )
    moves = "moves" if x.p < 0.05 else "is not shown to move"
    return (
        f"Weaker evidence: against {against} it {moves}, {signed(x.slope.value, k)} {unit} a week"
        f" ({span(x.slope.interval, k, sign=True)})."
    )


def drift_lines(r: DriftResult) -> list[Line]:
    """Figures of drift."""
    m = metric_of(r.metric)
    k, unit = _decimals(m), m.difference_unit
    lines = [Line("Anchors with readings", str(r.weeks.size), count(r.pairs.clients, "client"))]
    if r.slope is not None:
        lines.append(
            Line(
                f"Slope ({unit} a week)",
                signed(r.slope.slope.value, k),
                span(r.slope.slope.interval, k, sign=True),
            )
        )
        lines.append(Line("  p of no slope", p_value(r.slope.p), ""))
    if r.robust is not None:
        lines.append(
            Line(
                f"Robust slope ({unit} a week)",
                signed(r.robust.slope.value, k),
                span(r.robust.slope.interval, k, sign=True),
            )
        )
        lines.append(Line("  p (Mann–Kendall)", p_value(r.robust.p), ""))
    if r.search is not None and r.search.p is not None:
        lines.append(
            Line(
                "p of slope and steps together",
                p_value(r.search.p),
                f"{count(r.search.splits, 'split')} tried",
            )
        )
    for step in r.steps:
        lines.append(
            Line(
                f"Step on {day_words(step.at)} ({unit})",
                signed(step.size.value, m.decimals + 1),
                span(step.size.interval, m.decimals + 1, sign=True),
            )
        )
    if r.chart is not None:
        signals = r.chart.signals
        lines.append(
            Line("Control chart beyond its limits", f"{signals.size} of {r.chart.value.size}", "")
        )
    for x in r.side:
        name = (
            "Check weights (kg a week)"
            if x.what == "check_weights"
            else f"Against other devices ({unit} a week)"
        )
        lines.append(Line(name, signed(x.slope.value, 3), span(x.slope.interval, 3, sign=True)))
    if r.bound is not None:
        lines.append(
            Line(f"Would matter ({unit} a week)", number(r.bound, k), f"in {EXPIRY_WEEKS} weeks")
        )
    return lines
