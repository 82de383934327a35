"""Sentences about one client through time."""

from __future__ import annotations

from datetime import date

from ..analysis.people.fat_ranges import NAMES, SOURCE, Placed
from ..analysis.time.client_series import TrackSeries
from ..analysis.time.track import Forecast, Together, TrackResult
from ..analysis.time.votes import FORMULA, NO_SCATTER, SAME_INPUTS
from ..domain.metrics import Metric, metric_of
from ..stats.one_client import LIKELY, MOST_DAYS, REAL, Verdict
from .names import short_name
from .notes import sentence
from .numbers import MISSING, ci, count, day_words, number, p_value, signed, span
from .statistics import Line

WHY = {
    "no_dates": "no readings near both dates",
    "few": "too few readings",
    "settings": "setting changed",
    "stuck": "responds too little",
    FORMULA: "from height, mass, age and sex only",
    SAME_INPUTS: "same measurements as another method",
    NO_SCATTER: "shows one value every day",
}
CAUTION = "Not a diagnosis. Local rules and licensed practice take precedence."


def day_of(ordinal: int) -> str:
    """A day as people write it."""
    return day_words(date.fromordinal(ordinal).isoformat())


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
    """The verdict between the two dates, from all devices where there are several."""
    m, code = metric_of(r.metric), r.client.code
    dates = f"{day_of(r.since)} to {day_of(r.until)}"
    t = r.together
    if t is not None and t.disagrees:
        return f"{code}, {m.label.lower()}: {_disagree_words(t, m)}, {dates}. Check each one."
    v = verdict_of(r)
    if v is None:
        return f"{code}: no change computed for {dates}. {no_change_words(r)}"
    by = (
        f"{speaking(r.together)} devices"
        if r.together is not None and r.together.verdict is v and speaking(r.together) > 1
        else by_one(r)
    )
    return f"{code}, {m.label.lower()}: {_kind(v, m)}, {dates}, from {by}."


def _disagree_words(t: Together, m: Metric) -> str:
    """Disagreement of sources, with the ends of what they show."""
    found = [d.verdict.change.value for d in t.devices if d.verdict is not None and not d.why]
    k, unit = m.decimals, m.difference_unit
    return (
        f"{len(found)} devices disagree on the change ({signed(min(found), k)} to"
        f" {signed(max(found), k)} {unit})"
    )


def verdict_of(r: TrackResult) -> Verdict | None:
    """The change that is told: of all devices where they give one, else of the one in hand."""
    if r.together is not None and (r.together.disagrees or _silent(r, r.chosen)):
        return r.together.verdict
    if r.together is not None and r.together.verdict is not None:
        return r.together.verdict
    return r.change


def _silent(r: TrackResult, name: str) -> bool:
    """Whether a device has a change of its own that does not count."""
    found = r.together.devices if r.together is not None else ()
    return any(d.instrument == name and d.verdict is not None and d.why for d in found)


def no_change_words(r: TrackResult) -> str:
    """Why no change is computed: cause and remedy."""
    why = {d.why for d in r.together.devices} if r.together is not None else set()
    if "stuck" in why and why <= {"stuck", "no_dates"}:
        return "The devices read near both dates respond too little to change."
    if "settings" in why and why <= {"settings", "no_dates", "stuck"}:
        return "The setting changed between them: choose dates within one setting."
    if FORMULA in why and why <= {FORMULA, NO_SCATTER, "stuck", "no_dates"}:
        return "Equations from height, mass, age and sex show no change of the body's make-up."
    if NO_SCATTER in why and why <= {NO_SCATTER, "stuck", "no_dates"}:
        return "The device shows one value every day, so its variation is not known."
    if "few" in why:
        return "Not enough readings to know the device's variation: needs at least 4 days."
    return "Readings are needed near both dates."


def by_one(r: TrackResult) -> str:
    """The one device behind a verdict."""
    if r.together is not None and r.together.verdict is not None:
        alone = [d.instrument for d in r.together.devices if d.verdict is not None and not d.why]
        if len(alone) == 1:
            return short_name(alone[0])
    return short_name(r.chosen)


def speaking(t: Together) -> int:
    """How many devices are behind a common verdict."""
    return sum(1 for d in t.devices if d.verdict is not None and not d.why)


def settle_words(r: TrackResult) -> str:
    """What would settle it, and what else is known."""
    t = r.together
    if t is not None and t.disagrees and t.disagree is not None:
        return " ".join(
            [
                f"No common change is computed: they differ by more than chance (p"
                f" {p_value(t.disagree)}).",
                *second_words(r),
            ]
        )
    v = verdict_of(r)
    if v is None:
        return ""
    said = []
    if v.kind != REAL:
        more = v.settle
        if more is None:
            said.append(
                f"More than {MOST_DAYS} mornings on each side would be needed: treat it as no"
                " change."
            )
        elif more > max(v.days):
            said.append(f"{count(more, 'morning')} on each side can confirm a change of this size.")
        else:
            said.append(
                "More mornings will not help: the remaining uncertainty comes from possible drift"
                " of the devices. Another scan would."
            )
    if v.exceeds is not None and v.kind == REAL:
        said.append(f"Probability that it exceeds the margin: {100 * v.exceeds:.0f} %.")
    said += second_words(r)
    return " ".join(said)


def second_words(r: TrackResult) -> list[str]:
    """The tape over the same days."""
    return [
        f"{metric_of(o.metric).label}: {_kind(o.verdict, metric_of(o.metric))}." for o in r.opinions
    ]


def since_anchor_words(r: TrackResult) -> str:
    """Change since the last scan."""
    t = r.since_anchor
    if t is not None and t.disagrees:
        return f"Since the scan of {day_of(t.since)}: {_disagree_words(t, metric_of(r.metric))}."
    if t is None or t.verdict is None:
        return "" if not r.anchor_day.size else "No readings a week or more after the last scan."
    kind = _kind(t.verdict, metric_of(r.metric))
    return f"Since the scan of {day_of(t.since)}: {kind}, from {count(speaking(t), 'device')}."


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


def goal_words(f: Forecast | None, metric: str) -> str:
    """When a goal would be reached."""
    if f is None:
        return ""
    m = metric_of(metric)
    unit = m.symbol
    head = f"Goal {number(f.goal, m.decimals)} {unit}"
    if f.rate is None:
        return (
            f"{head}: no rate yet. Needs 5 days over 3 weeks from a device that responds to change."
        )
    rate = (
        f"{signed(f.rate.per_week.value, m.decimals + 1)} {m.difference_unit} a week"
        f"{ci(f.rate.per_week.interval, m.decimals + 1, sign=True)}"
    )
    if f.reached:
        return f"{head}: reached. Rate {rate}."
    i = f.rate.per_week.interval
    if i is None or i.low <= 0 <= i.high:
        return f"{head}: no date, because no trend is shown. Rate {rate}."
    if f.earliest is None:
        return f"{head}: not reached at this rate, {rate}."
    if f.latest is None:
        return f"{head}: not before {day_of(f.earliest)}, at {rate}."
    return f"{head}: between {day_of(f.earliest)} and {day_of(f.latest)} at {rate}."


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
    """Each device's change; under that in hand the figures behind its verdict."""
    m = metric_of(r.metric)
    k, unit = m.decimals, m.difference_unit
    lines = []
    t = r.together
    if t is not None and t.verdict is not None and speaking(t) > 1:
        lines.append(
            Line(
                f"All devices ({unit})",
                signed(t.verdict.change.value, k),
                span(t.verdict.change.interval, k, sign=True),
                main=True,
            )
        )
    s = r.named(r.chosen)
    own = _of_series(s, r, m) if s is not None else []
    for d in t.devices if t is not None else ():
        name = short_name(d.instrument)
        if d.verdict is None:
            lines.append(Line(f"{name} ({unit})", MISSING, WHY[d.why], main=True))
        else:
            shown = span(d.verdict.change.interval, k, sign=True)
            lines.append(
                Line(
                    f"{name} ({unit})",
                    signed(d.verdict.change.value, k),
                    shown if not d.why else WHY[d.why],
                    main=True,
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
