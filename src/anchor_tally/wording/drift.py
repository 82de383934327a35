"""Sentences about drift: the verdict, what stands beside it, and the lines of figures."""

from __future__ import annotations

from ..analysis.offsets.calibrate import EXPIRY_WEEKS
from ..analysis.time.drift import (
    DRIFTING,
    EITHER,
    OPEN,
    STEADY,
    STEPPED,
    DriftResult,
    DriftStep,
    SideEvidence,
)
from ..domain.metrics import Metric, metric_of
from ..stats.estimate import Estimate, Interval
from .numbers import ci, count, day_words, number, p_value, signed, span
from .statistics import Line


def _decimals(m: Metric) -> int:
    return m.decimals + 2  # of a slope per week


def drift_headline(r: DriftResult) -> str:
    """The verdict as a sentence."""
    name, m = r.instrument.name, metric_of(r.metric)
    k, unit = _decimals(m), m.difference_unit
    if r.verdict == EITHER:
        up = (r.steps[0].size.value if r.steps else r.slope.slope.value if r.slope else 0.0) > 0
        way = "rose" if up else "fell"
        return f"{name}: its error {way}. A drift and a step cannot be told apart yet."
    if r.verdict == STEPPED:
        step = r.steps[0]
        more = f", and {count(len(r.steps) - 1, 'more step')}" if len(r.steps) > 1 else ""
        return f"{name}: step change, {_by(step, m)}, {between_words(step)}{more}."
    whole = r.slope.slope if r.slope is not None else None
    if r.verdict == OPEN and whole is not None:
        return (
            f"{name}: {_moved(whole, m)}. Drift of the device or a partial response to the"
            " clients' change: these data cannot tell."
        )
    # of a device that shows only a part, the whole movement of its error is what is explained
    s = whole if r.not_following is not None or r.drift is None else r.drift
    if s is None or s.interval is None:
        return f"{name}: not enough scans to detect drift{_needs(r)}."
    if r.verdict == DRIFTING:
        moved = _moved(s, m)
        if r.not_following is not None:
            return (
                f"{name}: {moved}. The clients changed, and it shows"
                f" {'only ' if r.not_following.value < 1 else ''}"
                f"{number(r.not_following.value, 2)} per 1 {unit}"
                f"{ci(r.not_following.interval, 2)}. That is not drift of the device."
            )
        if r.instrument.equation:
            return f"{name}: {moved}. An equation cannot drift: its error changes with the clients."
        weeks = f"{number(abs(s.value) * EXPIRY_WEEKS, m.decimals)} {unit} in {EXPIRY_WEEKS} weeks"
        return f"{name} drifts: {moved}, {weeks}."
    most = number(max(abs(s.interval.low), abs(s.interval.high)), k)
    if r.verdict == STEADY:
        return f"{name} is stable: drift above {most} {unit} per week is ruled out (95 % CI)."
    return (
        f"{name}: not enough scans: drift of up to {most} {unit} per week is still"
        f" possible{_needs(r)}."
    )


def _moved(s: Estimate, m: Metric) -> str:
    """How fast the error changes."""
    way, ends = ("rises", s.interval) if s.value > 0 else ("falls", s.interval)
    if ends is not None and s.value <= 0:
        ends = Interval(-ends.high, -ends.low)
    k = _decimals(m)
    return f"its error {way} by {number(abs(s.value), k)} {m.difference_unit} per week{ci(ends, k)}"


def _needs(r: DriftResult) -> str:
    if r.needed is None:
        return ". More clients are needed; more scans of these clients would take years"
    return f". Needs {count(r.needed, 'more scan')} of each client"


def _by(step: DriftStep, m: Metric) -> str:
    up = step.size.value > 0
    i = step.size.interval
    ends = None if i is None else i if up else Interval(-i.high, -i.low)
    size = f"{number(abs(step.size.value), m.decimals)} {m.difference_unit}"
    return f"{'up' if up else 'down'} {size}{ci(ends, m.decimals)}"


def between_words(step: DriftStep) -> str:
    """When a step came, and what was changed then."""
    span_ = f"between {day_words(step.before)} and {day_words(step.after)}"
    if step.change is None:
        return f"{span_}. No change of the device is noted there"
    if step.change.setting:
        return f"when its setting changed to {step.change.words} ({day_words(step.at)})"
    return f"{span_}. Noted there: {step.change.words} ({day_words(step.at)})"


def drift_advice(r: DriftResult) -> str:
    """What to do about it."""
    if r.not_following is not None:
        return "Do not track clients with this device; see Change."
    if r.verdict == EITHER:
        return (
            "Find out whether something was changed, and check battery, feet and floor. One more"
            " scan of each client tells a drift from a step."
        )
    if r.verdict == OPEN:
        return (
            "Do not use an older offset. State the scan's precision under Plan › Protocol, or scan"
            " clients who do not change: either tells drift from response."
        )
    if r.verdict == STEPPED:
        step = r.steps[0]
        if step.change is not None and step.change.setting:
            return (
                "Choose the period since then in the filters: no offset is valid across a change of"
                " setting."
            )
        return (
            "Find out what was changed that day and note it as an event. Use only scans since then"
            " for an offset."
        )
    if r.verdict == DRIFTING:
        return (
            "An adopted offset becomes wrong with time. Scan more often, check battery, feet and"
            " floor, or replace the device."
        )
    if r.verdict == STEADY:
        return "One offset for the whole period is valid."
    return "Weekly mornings and check weights help a little until then."


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
    verdict = "drift" if x.p < 0.05 else "no detectable drift"
    return (
        f"Weaker evidence, against {against}: {verdict}, {signed(x.slope.value, k)} {unit} per week"
        f"{ci(x.slope.interval, k, sign=True)}."
    )


def drift_lines(r: DriftResult) -> list[Line]:
    """Figures of drift."""
    m = metric_of(r.metric)
    k, unit = _decimals(m), m.difference_unit
    lines = [
        Line("Scans with readings", str(r.weeks.size), count(r.pairs.clients, "client"), main=True)
    ]
    if r.slope is not None:
        e = r.slope.slope
        name = f"Slope ({unit} per week)"
        lines.append(Line(name, signed(e.value, k), span(e.interval, k, sign=True), main=True))
        lines.append(Line("  p", p_value(r.slope.p), ""))
        own = r.drift
        if own is not None and own != e:
            lines.append(
                Line(
                    f"  adjusted for clients' change ({unit} per week)",
                    signed(own.value, k),
                    span(own.interval, k, sign=True),
                    main=True,
                )
            )
    if r.robust is not None:
        e = r.robust.slope
        lines.append(
            Line(
                f"Theil–Sen slope ({unit} per week)",
                signed(e.value, k),
                span(e.interval, k, sign=True),
            )
        )
        lines.append(Line("  p (Mann–Kendall)", p_value(r.robust.p), ""))
    if r.search is not None and r.search.p is not None:
        tried = f"{count(r.search.splits, 'date')} tried"
        lines.append(Line("p of slope or step", p_value(r.search.p), tried))
    for step in r.steps:
        lines.append(
            Line(
                f"Step on {day_words(step.at)} ({unit})",
                signed(step.size.value, m.decimals + 1),
                span(step.size.interval, m.decimals + 1, sign=True),
                main=True,
            )
        )
    if r.chart is not None:
        beyond = f"{r.chart.signals.size} of {r.chart.value.size}"
        lines.append(Line("Control chart: beyond limits", beyond, ""))
    for x in r.side:
        name = (
            "Check weights (kg per week)"
            if x.what == "check_weights"
            else f"Against other devices ({unit} per week)"
        )
        lines.append(Line(name, signed(x.slope.value, 3), span(x.slope.interval, 3, sign=True)))
    if r.bound is not None:
        weeks = f"in {EXPIRY_WEEKS} weeks"
        lines.append(
            Line(f"Drift that matters ({unit} per week)", number(r.bound, k), weeks, main=True)
        )
    return lines
