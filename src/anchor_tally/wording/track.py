"""Sentences about one client through time."""

from __future__ import annotations

from datetime import date

from ..analysis.people.fat_ranges import NAMES, SOURCE, Placed
from ..analysis.time.client_series import TrackSeries
from ..analysis.time.track import Forecast, Together, TrackResult
from ..domain.metrics import Metric, metric_of
from ..stats.one_client import LIKELY, MOST_DAYS, REAL, Verdict
from .names import short_name
from .notes import sentence
from .numbers import MISSING, count, number, p_value, signed, span
from .statistics import Line

WHY = {
    "no_dates": "not at both dates",
    "few": "too few readings",
    "settings": "setting changed",
    "stuck": "does not follow",
}
CAUTION = "Not a diagnosis; local rules and licensed practice go first."


def day_of(ordinal: int) -> str:
    """A day as people write it."""
    at = date.fromordinal(ordinal)
    return f"{at.day} {at:%b %Y}"


def _moved(v: Verdict, m: Metric) -> str:
    way = "up" if v.change.value > 0 else "down"
    return f"{way} {number(abs(v.change.value), m.decimals)} {m.difference_unit}"


def _kind(v: Verdict, m: Metric) -> str:
    ends = span(v.change.interval, m.decimals, sign=True)
    if v.kind == REAL:
        return f"really {_moved(v, m)} ({ends})"
    if v.kind == LIKELY:
        return f"likely {_moved(v, m)} ({ends}; {100 * v.direction:.0f} % sure of the direction)"
    return f"within noise: {_moved(v, m)} as read, anywhere from {ends}"


def track_headline(r: TrackResult) -> str:
    """The verdict between the two dates, by all devices together where there are several."""
    m, code = metric_of(r.metric), r.client.code
    dates = f"from {day_of(r.since)} to {day_of(r.until)}"
    v = (
        r.together.verdict
        if r.together is not None and r.together.verdict is not None
        else r.change
    )
    if v is None:
        return (
            f"{code}: no change can be told {dates}; readings of one setting are needed near both."
        )
    by = (
        "all devices together"
        if r.together is not None and r.together.verdict is v and speaking(r.together) > 1
        else by_one(r)
    )
    return f"{code}: {m.label.lower()} {_kind(v, m)} {dates}, by {by}."


def by_one(r: TrackResult) -> str:
    """The one device behind a verdict."""
    if r.together is not None and r.together.verdict is not None:
        alone = [d.instrument for d in r.together.devices if d.verdict is not None and not d.why]
        if len(alone) == 1:
            return short_name(alone[0])
    return short_name(r.chosen)


def speaking(t: Together) -> int:
    """How many devices stand behind a common verdict."""
    return sum(1 for d in t.devices if d.verdict is not None and not d.why)


def settle_words(r: TrackResult) -> str:
    """What would settle it, or what stands beside it."""
    v = (
        r.together.verdict
        if r.together is not None and r.together.verdict is not None
        else r.change
    )
    if v is None:
        return ""
    said = []
    if v.kind != REAL:
        more = v.settle
        said.append(
            f"{count(more, 'morning')} on each side would settle a change of this size."
            if more is not None and more > max(v.days)
            else (
                "Averaging mornings settles it no further: what is missing is how the devices"
                " themselves moved."
                if more is not None
                else (
                    f"More than {MOST_DAYS} mornings on each side would be needed: treat it as no"
                    " change."
                )
            )
        )
    if v.exceeds is not None and v.kind == REAL:
        said.append(f"Chance that it is more than what matters: {100 * v.exceeds:.0f} %.")
    if r.together is not None and r.together.disagree is not None and r.together.disagree < 0.05:
        said.append(
            f"The devices disagree by more than chance (p {p_value(r.together.disagree)}): look at"
            " each."
        )
    said += second_words(r)
    return " ".join(said)


def second_words(r: TrackResult) -> list[str]:
    """The tape over the same days."""
    out = []
    for o in r.opinions:
        m = metric_of(o.metric)
        v = o.verdict
        told = {REAL: "really", LIKELY: "likely"}.get(v.kind, "within noise:")
        out.append(
            f"Second opinion, {m.label.lower()}: {told} {_moved(v, m)}"
            f" ({span(v.change.interval, m.decimals, sign=True)})."
        )
    return out


def since_anchor_words(r: TrackResult) -> str:
    """Change since the last scan."""
    t = r.since_anchor
    if t is None or t.verdict is None:
        return (
            "" if not r.anchor_day.size else "No readings a week or more after the last scan yet."
        )
    return (
        f"Since the scan of {day_of(t.since)}: {_kind(t.verdict, metric_of(r.metric))}, by"
        f" {count(speaking(t), 'device')}."
    )


def value_words(r: TrackResult) -> str:
    """The newest value with its uncertainty, or that it is uncorrected."""
    s = r.named(r.chosen)
    if s is None or not s.day.size:
        return ""
    m = metric_of(r.metric)
    unit = "%" if m.unit == "percent" else m.unit
    at = day_of(int(s.day[-1]))
    if not bool(s.corrected[-1]):
        return (
            f"{short_name(r.chosen)} on {at}: {number(float(s.raw[-1]), m.decimals)} {unit},"
            " uncorrected: its level is not to be trusted."
        )
    ends = f"{number(float(s.low[-1]), m.decimals)} to {number(float(s.high[-1]), m.decimals)}"
    return (
        f"{short_name(r.chosen)} on {at}: corrected {number(float(s.value[-1]), m.decimals)} {unit}"
        f" ({ends}), read {number(float(s.raw[-1]), m.decimals)}."
    )


def goal_words(f: Forecast | None, metric: str) -> str:
    """When a goal would be reached."""
    if f is None:
        return ""
    m = metric_of(metric)
    unit = "%" if m.unit == "percent" else m.unit
    head = f"Goal {number(f.goal, m.decimals)} {unit}"
    if f.rate is None:
        return f"{head}: no rate yet (five days over three weeks of a device that follows change)."
    rate = (
        f"{signed(f.rate.per_week.value, m.decimals + 1)} {m.difference_unit} a week"
        f" ({span(f.rate.per_week.interval, m.decimals + 1, sign=True)})"
    )
    if f.reached:
        return f"{head}: reached, as far as can be told ({rate})."
    if f.earliest is None:
        return f"{head}: not at this rate ({rate})."
    if f.latest is None:
        return f"{head}: not before {day_of(f.earliest)}, and perhaps never at this rate ({rate})."
    return f"{head}: between {day_of(f.earliest)} and {day_of(f.latest)} at this rate ({rate})."


def place_words(p: Placed | None) -> str:
    """Where a corrected value lies in a published table; information, never a target."""
    if p is None:
        return ""
    if p.supported:
        said = f"lies {NAMES[p.first]}"
    else:
        said = (
            f"reaches from “{NAMES[p.first]}” to “{NAMES[p.last]}”: the uncertainty supports no"
            " single range"
        )
    return f"Information, no target: the interval {said}. {SOURCE}."


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
            "wide band: where the true value of one morning lies (95 %); narrow band: the noise of"
            " the mean of seven days"
        )
    return " ".join(x[:1].upper() + x[1:] + ("" if x.endswith(".") else ".") for x in said)


def track_lines(r: TrackResult) -> list[Line]:
    """Each device's change; under that in hand the figures behind its verdict."""
    m = metric_of(r.metric)
    k, unit = m.decimals, m.difference_unit
    lines = []
    t = r.together
    if t is not None and t.verdict is not None and speaking(t) > 1:
        lines.append(
            Line(
                f"All together ({unit})",
                signed(t.verdict.change.value, k),
                span(t.verdict.change.interval, k, sign=True),
            )
        )
    s = r.named(r.chosen)
    own = _of_series(s, r, m) if s is not None else []
    for d in t.devices if t is not None else ():
        name = short_name(d.instrument)
        if d.verdict is None:
            lines.append(Line(f"{name} ({unit})", MISSING, WHY[d.why]))
        else:
            shown = span(d.verdict.change.interval, k, sign=True)
            lines.append(
                Line(
                    f"{name} ({unit})",
                    signed(d.verdict.change.value, k),
                    shown if not d.why else WHY[d.why],
                )
            )
        if d.instrument == r.chosen:
            lines += own
    if t is None and own:
        lines += [Line(short_name(r.chosen), "", ""), *own]
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
        lines.append(Line("  its days near both dates", f"{v.days[0]} and {v.days[1]}", v.kind))
    if s.noise is not None:
        whose = "of this client" if s.noise.own else "of all clients"
        lines.append(Line(f"  SD of one day ({unit})", number(s.noise.sd, k + 1), whose))
    if s.week.mean.size:
        half = float(s.week.half[-1])
        value = float(s.week.mean[-1])
        sure = f"± {number(half, k)} " if s.noise is not None else ""
        lines.append(
            Line("  last 7 days", number(value, k), f"{sure}({count(int(s.week.days[-1]), 'day')})")
        )
    if s.follows is not None:
        lines.append(
            Line("  slope on the scan", number(s.follows.value, 2), span(s.follows.interval, 2))
        )
    return lines
