"""Sentences of the best estimate: value, change, what they rest on, and what comes next."""

from __future__ import annotations

from collections.abc import Sequence

from ..analysis.offsets.cross_validation import LEAST_CLIENTS
from ..analysis.review import RULE
from ..analysis.time.best_estimate_result import BestEstimateResult, Change, GoalDate, Odd
from ..analysis.time.held_readings import Held
from ..analysis.time.next_measurement import TRIED, Candidate
from ..domain.metrics import Metric, metric_of
from ..stats.one_client import LIKELY, REAL
from .names import short_name
from .numbers import ci, count, day_of, number, p_value, signed

SHIFTED = 0.4  # probability from which on a move of all devices is told
MOST_HELD = 4  # readings that wait, named one by one
KINDS = {REAL: "real change", LIKELY: "probable change"}
WHY = {
    "no_dates": "no readings near both dates",
    "few": "too few readings",
    "settings": "setting changed",
    "stuck": "responds too little",
    "formula": "from height, mass, age and sex only",
    "same_inputs": "same measurements as another method",
    "no_scatter": "shows one value every day",
    "copy": "repeats the readings of another device",
}


def source_words(name: str, setting: str) -> str:
    """A source by the instrument's short name and its setting."""
    return short_name(name) + (f", {setting}" if setting else "")


def headline(r: BestEstimateResult) -> str:
    """The change between the two days, and the value now."""
    m = metric_of(r.metric)
    c = r.change
    changed = f"{_upper(_change(c, m))}, {day_of(c.since)} to {day_of(c.until)}."
    if c.change is None:
        changed = f"{_upper(_change(c, m))}."
    if not shows_level(r):
        return f"{r.client.code}, {m.name}: {changed[:1].lower()}{changed[1:]}"
    now = f"{number(r.value.value, m.decimals)} {m.symbol}{ci(r.value.interval, m.decimals)}"
    return f"{r.client.code}, {m.name}: {now} on {day_of(r.at)}. {changed}"


def shows_level(r: BestEstimateResult) -> bool:
    """Whether the level may be told: where an own scan, or those of enough others, tie it down."""
    return r.tied


def change_words(r: BestEstimateResult) -> str:
    """The change between the two days, in the fixed words of a verdict."""
    return _change(r.change, metric_of(r.metric))


def _change(c: Change, m: Metric) -> str:
    if c.change is None:
        return "no change computed (needs readings on two days, each within four weeks of its date)"
    size = f"{signed(c.change.value, m.decimals)} {m.difference_unit}"
    kind = KINDS.get(c.kind, "no detectable change")
    return f"{kind}, {size}{ci(c.change.interval, m.decimals, sign=True)}"


def _upper(text: str) -> str:
    return text[:1].upper() + text[1:]


def picked_words(r: BestEstimateResult) -> str:
    """That the interval allows for days that were not fixed beforehand."""
    return (
        "The interval of this change holds for any two dates: these were not fixed beforehand."
        if r.change.picked
        else ""
    )


def margin_words(r: BestEstimateResult) -> str:
    """How probable it is that the change is more than the margin."""
    c = r.change
    if c.exceeds is None or c.kind not in KINDS:
        return ""
    share = "below 1" if c.exceeds < 0.01 else number(100 * c.exceeds, 0)
    return f"Probability that it is more than the margin: {share} %."


def basis_words(r: BestEstimateResult) -> str:
    """What value and change rest on."""
    parts = []
    if r.scanned:
        parts.append(count(r.scans, "scan") if r.scans else "no scan of this client")
        other = "other source" if r.devices == 1 else "other sources"
        parts.append(f"{r.devices} {other}")
    parts.append(count(r.mornings, "morning"))
    text = f"From {', '.join(parts)}."
    if not shows_level(r):
        text += f" {level_rule_words(r)}"
    elif r.scanned and not r.scans:
        text += (
            " The level rests on scans of other clients: the interval has the spread between"
            " clients in it."
        )
    alike = round(r.independent)
    if alike < r.recent:
        text += (
            f" The last four weeks have {count(r.recent, 'morning')}, which tell as much as"
            f" {alike} independent {'one' if alike == 1 else 'ones'}, because neighbouring days"
            " are alike."
        )
    return text


def beside_words(r: BestEstimateResult) -> str:
    """How settings, or morning and evening, of one device differ on the days of both."""
    m = metric_of(r.metric)
    said = []
    for x in r.beside:
        e = x.difference
        size = f"{signed(e.value, m.decimals)} {m.difference_unit}"
        said.append(
            f"{short_name(x.name)}, {x.second or 'no setting'} less {x.first or 'no setting'}:"
            f" {size}{ci(e.interval, m.decimals, sign=True)}, {count(e.n, 'day')} with both."
        )
    return " ".join(said)


def level_rule_words(r: BestEstimateResult) -> str:
    """Why no level is told."""
    if r.scanned:
        return (
            f"No level is told: it needs a scan of {r.client.code}, or a device with scans of at"
            f" least {LEAST_CLIENTS} other clients."
        )
    return f"Without a scan no level is told; the picture has that of {short_name(r.anchor)}."


def measured_words(r: BestEstimateResult) -> str:
    """The change as it was measured, beside what all sources tell together."""
    c, m = r.change, metric_of(r.metric)
    if c.change is None or c.measured is None:
        return ""
    x, parts = c.measured, []
    if x.devices is not None:
        whose = "" if x.sources == 1 else f" (mean of {x.sources} sources)"
        parts.append(f"{signed(x.devices, m.decimals)} {m.difference_unit}{whose}")
    if x.scans is not None:
        parts.append(f"scans {signed(x.scans, m.decimals)} {m.difference_unit}")
    if not parts:
        return ""
    together = f"{signed(c.change.value, m.decimals)} {m.difference_unit}"
    return f"Measured: {', '.join(parts)}; all sources together: {together}."


def contradiction_words(r: BestEstimateResult) -> str:
    """That the devices together contradict a scan, and what the interval makes of it."""
    m, said = metric_of(r.metric), []
    for x in r.contradicted:
        side = "above" if x.gap > 0 else "below"
        size = f"{number(abs(x.gap), m.decimals)} {m.difference_unit}"
        said.append(
            f"The scan of {day_of(x.day)} lies {size} {side} what all devices together report of"
            f" the change (p {p_value(x.p)})."
        )
    if r.shifted >= SHIFTED:
        said.append(
            "All devices together disagree with the scans: they may have moved without a change of"
            f" {r.client.code} (probability {number(100 * r.shifted, 0)} %)."
        )
    return " ".join([*said, "The interval allows for it."]) if said else ""


def since_scan_words(r: BestEstimateResult) -> str:
    """Change since the last scan."""
    c = r.since_scan
    if c is None:
        return ""
    return f"Since the scan of {day_of(c.since)}: {_change(c, metric_of(r.metric))}."


def more_words(r: BestEstimateResult) -> str:
    """How many more mornings would tell a change, or what limits them.

    Where the interval lies within a change of that size already, that it does.
    """
    x, m = r.more, metric_of(r.metric)
    if x is None or r.change.change is None:
        return ""
    i = r.change.change.interval
    size = f"{number(x.size, m.decimals)} {m.difference_unit}"
    if i is not None and -x.size < i.low and i.high < x.size:
        return f"A change of {size} or more since {day_of(r.change.since)} is ruled out (95 %)."
    true = f"a true change of {size}"
    half = f"±{number(x.half, m.decimals)} {m.difference_unit}"
    since = f"since {day_of(r.change.since)}"
    if x.mornings is None:
        text = (
            f"Up to {TRIED[-1]} more mornings would not show {true} {since} as real with 80 %"
            f" power: the interval stays at {half} or wider."
        )
        allowed = r.scanned and any(c.name == r.anchor for c in r.ahead.candidates)
        return text + (" Another scan can narrow it." if allowed else "")
    return f"{count(x.mornings, 'more morning')} would show {true} {since} as real with 80 % power."


def _candidate(c: Candidate, r: BestEstimateResult) -> str:
    if c.name == r.anchor and r.scanned:
        return "a scan"
    name = source_words(c.name, c.setting)
    return f"a week of mornings on {name}" if c.mornings else f"one measurement by {name}"


def _effort(c: Candidate) -> str:
    """Minutes of a measurement, and its price."""
    return f"{number(c.minutes, 0)} min" + (f", {c.price}" if c.price else "")


def next_words(r: BestEstimateResult) -> str:
    """What to measure next: the measurement that narrows the interval most, and the next one.

    With minutes and price, and which narrows most per minute where that is another one.
    """
    m, a = metric_of(r.metric), r.ahead

    def half(x: float) -> str:
        return f"±{number(x, m.decimals)} {m.difference_unit}"

    helps = [
        c for c in a.candidates if c.half < 0.95 * a.waiting and half(c.half) != half(a.waiting)
    ]
    if not helps:
        return ""
    first = helps[0]
    text = (
        f"Next: {_candidate(first, r)} narrows the interval in a week from {half(a.waiting)} to"
        f" {half(first.half)} ({_effort(first)})"
    )
    for c in helps[1:2]:
        text += f"; {_candidate(c, r)} to {half(c.half)} ({_effort(c)})"
    quick = max(helps, key=lambda c: c.narrows(a.waiting))
    if quick is not first:
        text += f". Most per minute: {_candidate(quick, r)}"
    return text + "."


def next_head(r: BestEstimateResult) -> str:
    """What the rows of ``next_lines`` tell."""
    m = metric_of(r.metric)
    half = f"±{number(r.ahead.waiting, m.decimals + 1)} {m.difference_unit}"
    return f"Half the 95 % interval in a week, {half} without another measurement:"


def next_lines(r: BestEstimateResult) -> tuple[tuple[str, str, str], ...]:
    """One row a measurement that can be taken next, the one that narrows most first."""
    m = metric_of(r.metric)
    return tuple(
        (
            _upper(_candidate(c, r)),
            f"±{number(c.half, m.decimals + 1)} {m.difference_unit}",
            _effort(c),
        )
        for c in r.ahead.candidates
    )


def held_words(held: Sequence[Held]) -> str:
    """Readings that do not count until a finding is decided."""
    return f"Not counted until you decide in Review: {_named(held)}." if held else ""


def questioned_words(questioned: Sequence[Held]) -> str:
    """Readings about the two dates that count, though they differ from the client's history."""
    return f"Counted, but check in Review: {_named(questioned)}." if questioned else ""


def _named(found: Sequence[Held]) -> str:
    """The first few of some readings, and how many more there are."""
    more = len(found) - MOST_HELD
    text = "; ".join(_held(x) for x in found[:MOST_HELD])
    return f"{text}; {more} more" if more > 0 else text


def _held(x: Held) -> str:
    return f"{source_words(x.name, x.setting)}, {day_of(x.day)} ({RULE[x.rule].name.lower()})"


def odd_words(r: BestEstimateResult) -> str:
    """Sources that disagree with the others beyond chance, with the days."""
    m = metric_of(r.metric)
    return " ".join(_odd(x, m) for x in r.odd)


def _odd(x: Odd, m: Metric) -> str:
    days = day_of(x.first) if x.first == x.last else f"{day_of(x.first)} to {day_of(x.last)}"
    size = f"{number(abs(x.gap), m.decimals)} {m.difference_unit}"
    side = "above" if x.gap > 0 else "below"
    return (
        f"{source_words(x.name, x.setting)} disagrees with the other readings: {size} {side} what"
        f" they tell, {days} (p {p_value(x.p)}). Check these readings."
    )


def goal_words(g: GoalDate | None, r: BestEstimateResult) -> str:
    """When a goal is reached."""
    if g is None:
        return ""
    if not shows_level(r):
        return "A goal's date needs a scan."
    m = metric_of(r.metric)
    head = f"Goal {number(g.goal, m.decimals)} {m.symbol}"
    k = m.decimals + 1
    if r.trend is None:
        return f"{head}: no date (needs readings on two days)."
    ends = ci(r.trend.interval, k, sign=True)
    rate = f"{signed(r.trend.value, k)} {m.difference_unit} per week over eight weeks{ends}"
    if g.reached:
        return f"{head}: reached. Rate {rate}."
    if not g.trend:
        return f"{head}: no date, because no trend is shown. Rate {rate}."
    if g.earliest is None:
        return f"{head}: not reached at this rate, {rate}."
    if g.latest is None:
        return f"{head}: not before {day_of(g.earliest)}, at {rate}."
    return f"{head}: between {day_of(g.earliest)} and {day_of(g.latest)} at {rate}."


def sentences(r: BestEstimateResult) -> list[str]:
    """All that is said of a client, a sentence or two each."""
    said = (
        headline(r),
        basis_words(r),
        picked_words(r),
        margin_words(r),
        measured_words(r),
        since_scan_words(r),
        contradiction_words(r),
        odd_words(r),
        held_words(r.held),
        more_words(r),
        next_words(r),
        goal_words(r.goal, r),
    )
    return [x for x in said if x]


def bench_words(r: BestEstimateResult) -> str:
    """The value once the readings of a visit are in; "" without a scan.

    Readings of the visit that wait are named: they are not in the value. So are those that disagree
    with all others: they are in it.
    """
    if not r.scanned or not r.tied:
        return ""
    m = metric_of(r.metric)
    value = f"{number(r.value.value, m.decimals)} {m.symbol}{ci(r.value.interval, m.decimals)}"
    waits = any(x.day >= r.at for x in r.held)
    included = "" if waits else ", this visit included"
    said = [f"{r.client.code} from all sources{included}: {value} on {day_of(r.at)}."]
    said += [_odd(x, m) for x in r.odd if x.last >= r.at]
    return " ".join([*said, held_words(r.held)] if waits else said)


SHARE_HEADS = ("Source", "Part of the value", "Days")


def share_lines(r: BestEstimateResult) -> tuple[tuple[str, str, str], ...]:
    """One row a source that counts: name and setting, its part in the value, days."""
    return tuple(
        (source_words(x.name, x.setting), f"{number(100 * x.share, 0)} %", f"{x.days}")
        for x in r.sources
        if not x.why
    )


def left_out_words(r: BestEstimateResult) -> str:
    """Sources that count for nothing, with the reason; "" where all count."""
    out = [
        short_name(x.name)
        + (f" on {count(x.days, 'day')}" if x.days else "")
        + f" ({WHY.get(x.why, x.why)})"
        for x in r.sources
        if x.why
    ]
    return f"Not counted: {', '.join(out)}." if out else ""


def weight_words(r: BestEstimateResult, most: int = 12) -> str:
    """The readings behind the value with their weights, the heaviest first."""
    m = metric_of(r.metric)
    lines = [
        f"{source_words(x.name, x.setting)}, {day_of(x.day)}: {number(x.value, m.decimals)}"
        f" {m.symbol}, weight {signed(100 * x.weight, 1)} %"
        for x in r.weighed[:most]
    ]
    rest = sum(abs(x.weight) for x in r.weighed[most:])
    whole = sum(abs(x.weight) for x in r.weighed)
    text = (
        "Weight: how much the value changes when this mean changes by 1. The offsets of all"
        " clients are part of the value as well.\n" + "\n".join(lines)
    )
    if len(r.weighed) > most and whole:
        text += (
            f"\n{len(r.weighed) - most} more sets have {number(100 * rest / whole, 0)} % of all"
            " weights."
        )
    return text


def evidence_words(r: BestEstimateResult) -> str:
    """The weights behind the value, then all that can be measured next."""
    ahead = [f"{what}: {half}, {effort}" for what, half, effort in next_lines(r)]
    if not ahead:
        return weight_words(r)
    return "\n".join((weight_words(r), "", next_head(r), *ahead))
