"""Sentences of the calendar and of the precision planner."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from typing import TYPE_CHECKING

from ..domain.metrics import metric_of
from ..domain.scheme import LEAST_DAYS, PLANNED, SchemeRule
from .numbers import MISSING, count, day_words, number

if TYPE_CHECKING:  # what is due next is said before the planner is needed
    from ..analysis.plan.precision import GroupPower, Option, Precision, WouldShow
    from ..analysis.plan.schedule import LeftOut, PlannedDay, Schedule
    from ..domain.catalogue import Catalogue

WEEKDAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
INTERVALS = {
    "offset": "A client's offset",
    "reading": "A corrected reading",
    "bias": "Bias",
    "limits": "Limits of agreement",
}
OF = {
    "offset": "a client's offset",
    "reading": "a corrected reading",
    "bias": "the bias",
    "limits": "each limit of agreement",
}
ORIGINS = {"study": "from this study", "stated": "stated", "usual": "usual value", "typed": "typed"}
STATES = {
    "done": "done",
    "due": "due",
    "overdue": "overdue",
    "missed": "missed",
    "planned": "planned",
}
WHY = {
    "caution": "a caution forbids it",
    "blackout": "no free day near it",
    "spacing": f"scans would lie nearer than {LEAST_DAYS // 7} weeks",
    "most": "the most scans or visits are reached",
}
SHIFTED = {
    "hand": "moved by hand",
    "blackout": "moved round a span in which nothing is planned",
    "spacing": f"moved so that scans lie {LEAST_DAYS // 7} weeks apart",
}


def iso(day: int) -> str:
    """An ordinal as an ISO day."""
    return date.fromordinal(day).isoformat()


def station_words(station: str, label: str = "") -> str:
    """A station, with the name of the series: "Devices (evening)"."""
    return PLANNED[station] + (f" ({label})" if label else "")


def due_words(d: PlannedDay, catalogue: Catalogue, today: int) -> str:
    """One planned day in a list: "Auk, scan, 3 days overdue"."""
    who = catalogue.clients[d.client].code
    what = station_words(d.station, d.label)
    what = what[0].lower() + what[1:]
    late = today - d.day
    if late == 0:
        when = "today"
    elif late < 0:
        when = f"in {count(-late, 'day')}"
    else:
        when = f"{count(late, 'day')} " + ("overdue" if d.state == "overdue" else "late")
    return f"{who}, {what}, {when}"


def plan_headline(s: Schedule, catalogue: Catalogue) -> str:
    """What waits across clients, or what comes next."""
    waiting = s.waiting
    if waiting:
        clients = len({d.client for d in waiting})
        overdue = sum(d.state == "overdue" for d in waiting)
        late = f", {overdue} overdue" if overdue else ""
        return f"{count(len(waiting), 'visit')} due for {count(clients, 'client')}{late}."
    after = s.coming
    if after is not None:
        return f"Nothing is due. Next is {due_words(after, catalogue, s.today)}."
    if not any(c.days for c in s.clients.values()):
        return "No calendar yet. Choose a scheme to begin with."
    return "Nothing more is planned."


def next_words(s: Schedule, catalogue: Catalogue) -> str:
    """The next thing due, for the footer; empty where nothing is planned."""
    waiting = s.waiting
    first = waiting[0] if waiting else s.coming
    if first is None:
        return ""
    more = f" (+{len(waiting) - 1})" if len(waiting) > 1 else ""
    return f"Next: {due_words(first, catalogue, s.today)}{more}"


def day_note(d: PlannedDay, catalogue: Catalogue) -> str:
    """One planned day in full, for a tooltip and a screen reader."""
    who = catalogue.clients[d.client].code
    said = f"{who}, {station_words(d.station, d.label)}, {day_words(iso(d.day))}: {STATES[d.state]}"
    if d.done_on is not None and d.done_on != d.day:
        said += f" on {day_words(iso(d.done_on))}"
    return said + (f"; {SHIFTED[d.shifted]}" if d.shifted else "")


def rule_words(r: SchemeRule, catalogue: Catalogue) -> str:
    """A rule in words: "Girths: every 7 days from 2 Mar 2026"."""
    own = catalogue.clients.get(r.client) if r.client is not None else None
    who = f", {own.code} only" if own is not None else ""
    what = station_words(r.station, r.label)
    spans = f" from {day_words(r.starts)}" if r.starts else ""
    spans += f" to {day_words(r.ends)}" if r.ends else ""
    if r.form == "every":
        step = int(r.days[0])
        when = "daily" if step == 1 else f"every {_days(step)}"
        spread = ", clients one after the other" if r.spread else ""
        when += spans + spread
    elif r.form == "back":
        first = f", not before {day_words(r.starts)}" if r.starts else ""
        when = f"every {_days(int(r.days[0]))}, counted back from {day_words(r.ends)}{first}"
    elif r.form == "last":
        when = f"{_days(int(r.days[0]))} after the last visit{spans}"
    elif r.form == "weekdays":
        when = "on " + " and ".join(f"{WEEKDAYS[int(d)]}s" for d in r.days) + spans
    elif r.form == "scan":
        when = "around each scan: " + ", ".join(_from_scan(int(d)) for d in r.days)
    else:
        when = "on " + ", ".join(day_words(str(d)) for d in r.days)
    most = f", at most {r.most}" if r.most is not None else ""
    return f"{what}: {when}{most}{who}"


def _days(days: int) -> str:
    """A number of days, in weeks where they are whole."""
    weeks, rest = divmod(days, 7)
    return count(days, "day") if rest or not weeks else count(weeks, "week")


def _from_scan(days: int) -> str:
    if days == 0:
        return "the day itself"
    return f"{count(abs(days), 'day')} {'before' if days < 0 else 'after'}"


def left_out_words(left: Sequence[LeftOut], catalogue: Catalogue) -> list[str]:
    """What is not planned, one sentence for each reason and station."""
    found: dict[tuple[str, str], list[str]] = {}
    for x in left:
        found.setdefault((x.station, x.why), []).append(catalogue.clients[x.client].code)
    out = []
    for (station, why), codes in found.items():
        who = ", ".join(codes[:4]) + (f" and {len(codes) - 4} more" if len(codes) > 4 else "")
        out.append(f"Not planned: {PLANNED[station].lower()} for {who}, because {WHY[why]}.")
    return out


def precision_headline(p: Precision, metric: str) -> str:
    """What the design gives, and what would make it better."""
    unit = metric_of(metric).difference_unit
    now = p.half_width
    if now is None:
        return (
            "This design cannot give that interval: plan two or more clients, and two scans of"
            " each."
        )
    head = f"Expected: {OF[p.interval]} to ±{number(now)} {unit}."
    if p.ignored:
        head += (
            f" The filters count {p.design.mornings - p.ignored} of {p.design.mornings} mornings"
            " around a scan."
        )
    if p.wanted is not None and now <= p.wanted:
        return f"{head} That reaches ±{number(p.wanted)} {unit}."
    if p.wanted is not None:
        reaching = [o for o in p.options if o.reaches]
        if not reaching:
            return f"{head} More of one thing alone does not reach ±{number(p.wanted)} {unit}."
        best = min(reaching, key=lambda o: (o.more.minutes, o.count))
        return f"{head} {_sentence(best, now, unit)}"
    best = max(p.options, key=lambda o: now - (o.half_width if o.half_width is not None else now))
    return f"{head} {_sentence(best, now, unit)}"


def option_sentences(p: Precision, metric: str) -> list[str]:
    """What more of each thing brings, one sentence each; without that of the headline."""
    unit = metric_of(metric).difference_unit
    now = p.half_width
    if now is None:
        return []
    head = precision_headline(p, metric)
    said = [_sentence(o, now, unit) for o in p.options]
    return [text for text in said if text not in head]


def would_show_words(w: WouldShow, metric: str) -> str:
    """Whether a device could show a planned change, in two sentences."""
    unit = metric_of(metric).difference_unit
    verb = "loss" if w.change < 0 else "gain"
    what = f"a {verb} of {number(abs(w.change))} {unit} in {number(w.weeks, 0)} weeks"
    if w.single >= 0.8:
        head = f"Two mornings show {what} in {number(100 * w.single, 0)} %."
    else:
        wrong = f" and the wrong sign in {number(100 * w.wrong_single, 0)} %"
        head = f"Two mornings show {what} in only {number(100 * w.single, 0)} %{wrong}."
    means = f"Two 7-day means show it in {number(100 * w.week, 0)} %."
    if w.mornings is None:
        return f"{head} {means} Four weeks of mornings at each date are too few for 80 %."
    return f"{head} {means} {_enough(w.mornings)} at each date for 80 %."


def group_words(g: GroupPower, metric: str) -> str:
    """Whether a mean change of a group would be shown, and how many clients that takes."""
    unit = metric_of(metric).difference_unit
    verb, size = "loss" if g.change < 0 else "gain", number(abs(g.change))
    half = g.clients // 2
    groups = (
        f"two groups of {half}" if g.clients == 2 * half else f"groups of {half} and {half + 1}"
    )
    text = (
        f"A mean {verb} of {size} {unit} in {count(g.clients, 'client')} is shown in"
        f" {number(100 * g.one, 0)} % (7-day means; true changes with an SD of"
        f" {number(g.change_sd)} {unit} between clients)."
    )
    if half > 1:
        text += (
            f" A difference of {size} {unit} between {groups} is shown in"
            f" {number(100 * g.two, 0)} %."
        )
    one, each = (MISSING if x is None else str(x) for x in (g.needed, g.needed_each))
    return f"{text} For 80 %: {one} clients, or two groups of {each}."


def _enough(mornings: int) -> str:
    return "One morning is enough" if mornings == 1 else f"{mornings} mornings are enough"


_WHERE = {
    "scans": " for each client",
    "mornings": " around each scan",
    "repeats": " on each morning",
}


def _more(o: Option) -> str:
    """What is added: "2 more scans for each client"."""
    noun = o.what[:-1] if o.count == 1 else o.what
    return f"{o.count} more {noun}{_WHERE.get(o.what, '')}"


def _sentence(o: Option, now: float, unit: str) -> str:
    who = _more(o)
    then = o.half_width
    if then is None:
        return f"{who}: cannot be computed."
    bring = "brings" if o.count == 1 else "bring"
    if number(then) == number(now) or then > now:
        verb = "changes" if o.count == 1 else "change"
        return f"{who} {verb} almost nothing."
    if o.window is None:
        return f"{who} {bring} ±{number(now)} to ±{number(then)} {unit}."
    return (
        f"{who} would narrow it from ±{number(now)} to ±{number(then)} {unit}, if the filters"
        f" average all readings within {number(o.window, 0)} h of a scan."
    )


def power_words(p: Precision, metric: str) -> list[str]:
    """What the design can show: equivalence, a drift, and a change of a client."""
    unit = metric_of(metric).difference_unit
    out = []
    if p.equivalence is not None and p.margin is not None:
        out.append(
            f"An unbiased device would be shown within ±{number(p.margin)} {unit} in"
            f" {number(100 * p.equivalence, 0)} %."
        )
    if p.design.scans > 1:
        drift = number(p.drift_per_week, 2)
        out.append(
            f"A drift of {drift} {unit} per week would be found in {number(100 * p.drift, 0)} %"
            " (scans 12 weeks apart)."
        )
    change = dict(p.real_change)
    out.append(
        f"Smallest real change of a client: {number(change[1])} {unit} between two mornings,"
        f" {number(change[7])} {unit} between two 7-day means."
    )
    return out


def option_rows(p: Precision, metric: str) -> list[tuple[str, ...]]:
    """A table of the options: what, half-width, scans, hours and cost on top."""
    unit = metric_of(metric).difference_unit
    rows: list[tuple[str, ...]] = []
    for o in p.options:
        width = MISSING if o.half_width is None else f"±{number(o.half_width, 2)} {unit}"
        rows.append(
            (
                f"{o.count} more {o.what[:-1] if o.count == 1 else o.what}",
                width,
                f"{o.more.scans}",
                number(o.more.minutes / 60, 1),
                number(o.more.cost, 0) if o.more.cost else MISSING,
            )
        )
    return rows
