"""Sentences of the page that a client takes home: plain words, no targets, no praise."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ..analysis.plan.schedule import Schedule
from ..analysis.time.client_series import TrackSeries
from ..analysis.time.held_readings import Held
from ..analysis.time.track import TrackResult
from ..domain.metrics import Metric, is_fat, metric_of
from ..domain.units import UNITS
from ..stats.estimate import Estimate, Interval
from ..stats.one_client import LIKELY, REAL
from .numbers import MISSING, day_of, day_words, number, signed, span
from .plan import iso

CANNOT = (
    "These numbers are not a diagnosis. Alone they say nothing about health, fitness or"
    " performance.",
    "No number on this page is a target, and lower is not better.",
    "Food, drink, training, illness and the time of day change a single measurement.",
    "Each number has an error. Changes within the day-to-day variation mean nothing.",
    "The page compares you with yourself only. It cannot rank people.",
)
AT_EASE = (
    "If measuring or these numbers trouble you, tell the person who measured you or a doctor. You"
    " can stop being measured at any time."
)
ASK_FIRST = (
    "Talk to the person who measured you and to licensed health staff before you change anything"
    " because of these numbers."
)
PREGNANT = (
    "In pregnancy impedance, scans and equations do not apply: body fat, lean mass and water are"
    " not given."
)
MOST_NAMED = 4  # days that are named one by one
PRECEDENCE = "Local rules and licensed practice take precedence over this page."


@dataclass(frozen=True, slots=True)
class ShownIn:
    """The unit that a measure is shown in: its symbol, and the factor from the metric's unit."""

    symbol: str
    factor: float

    def number(self, value: float, k: int) -> str:
        """A value of the metric's unit in this one."""
        return number(value * self.factor, k)


def shown_in(m: Metric, unit: str = "") -> ShownIn:
    """The unit that was typed where it is another one of the same dimension; else the metric's.

    Examples
    --------
    >>> from anchor_tally.domain.metrics import METRICS
    >>> shown_in(METRICS["girth_waist"], "in").number(81.28, 1)
    '32.0'
    """
    if unit in UNITS and m.unit in UNITS and UNITS[unit][0] == UNITS[m.unit][0] != "percent":
        return ShownIn(unit, UNITS[m.unit][1] / UNITS[unit][1])
    return ShownIn(m.symbol, 1.0)


def _difference_unit(m: Metric, shown: ShownIn) -> str:
    """The unit of a difference, spelled out where only the field knows it."""
    if m.difference_unit == "pp":
        return "percentage points"
    return shown.symbol if shown.factor != 1 else m.difference_unit


def level_words(r: TrackResult, s: TrackSeries | None, unit: str = "") -> str:
    """The newest value: corrected with its interval, else the last scan, else a mean of a week."""
    m = metric_of(r.metric)
    u = shown_in(m, unit)
    b, i = r.best, _from_all(r)
    if b is not None and i is not None:
        k = m.decimals
        ends = f"{u.number(i.low, k)} to {u.number(i.high, k)}"
        value = f"{u.number(b.value.value, k)} {u.symbol} (95 % interval {ends})"
        basis = "scans and all devices" if b.scanned else "all measurements"
        return f"{value}, {day_of(b.at)}, from {basis}"
    if s is None or not s.day.size:
        return MISSING
    k, at = m.decimals, day_of(int(s.day[-1]))
    if bool(s.corrected[-1]):
        ends = f"{u.number(float(s.low[-1]), k)} to {u.number(float(s.high[-1]), k)}"
        return f"{u.number(float(s.value[-1]), k)} {u.symbol} (95 % interval {ends}), {at}"
    if r.anchor_day.size:
        day = day_of(int(r.anchor_day[-1]))
        whole = (
            ", head included" if is_fat(r.metric) else ""
        )  # regions without it are other metrics
        return f"{u.number(float(r.anchor_value[-1]), k)} {u.symbol}, scan of {day}{whole}"
    if is_fat(r.metric):
        return "not given: not yet corrected against a scan"
    days = int(s.week.days[-1])
    of = f"mean of {days} days to {at}" if days > 1 else at
    return f"{u.number(float(s.week.mean[-1]), k)} {u.symbol}, {of}"


def _from_all(r: TrackResult) -> Interval | None:
    """The interval of the level from all sources; None where another level is told."""
    return r.best.value.interval if r.best is not None and r.best.tied else None


def change_words(r: TrackResult, unit: str = "") -> str:
    """The change between the two dates, with its interval."""
    m = metric_of(r.metric)
    change, _ = _told(r)
    if change is None:
        return "not known: too few measurements"
    u, i = shown_in(m, unit), change.interval
    ends = None if i is None else Interval(i.low * u.factor, i.high * u.factor)
    size = signed(change.value * u.factor, m.decimals)
    told = span(ends, m.decimals, sign=True)
    text = f"{size} {_difference_unit(m, u)} (95 % interval {told})"
    seen = r.best.change.measured if r.best is not None else None
    plain = None if seen is None else seen.devices if seen.devices is not None else seen.scans
    return text if plain is None else f"{text}; measured {signed(plain * u.factor, m.decimals)}"


def _told(r: TrackResult) -> tuple[Estimate | None, str]:
    """The change and its verdict: from all sources, else of the instrument that is shown."""
    if r.best is not None:
        return r.best.change.change, r.best.change.kind
    return (None, "") if r.change is None else (r.change.change, r.change.kind)


def dates_words(r: TrackResult) -> str:
    """The two dates of the change."""
    return f"{day_of(r.since)} to {day_of(r.until)}"


def meaning_words(r: TrackResult) -> str:
    """What the change means, in a few words."""
    change, kind = _told(r)
    if change is None:
        return MISSING
    if r.in_review(alone=r.best is None)[1]:
        return "not known: a measurement is being checked"
    return {REAL: "real change", LIKELY: "probable change, not certain"}.get(
        kind, "no detectable change"
    )


def variation_words(r: TrackResult, s: TrackSeries | None, unit: str = "") -> str:
    """How far single mornings differ without any change of the body."""
    if s is None or s.noise is None:
        return ""
    m = metric_of(r.metric)
    u = shown_in(m, unit)
    return (
        f"{m.label}: without any change in the body, 95 of 100 pairs of mornings differ by at most"
        f" {u.number(s.noise.between_days, m.decimals)} {_difference_unit(m, u)}."
    )


def waiting_words(r: TrackResult) -> str:
    """That measurements do not count yet or are in doubt, with their days; empty without any."""
    name, said = metric_of(r.metric).label, []
    held, questioned = r.in_review(alone=r.best is None)
    if held:
        told = f"measurements of {_days(held)} are still being checked and do not count yet"
        said.append(f"{name}: {told}.")
    if questioned:
        told = f"measurements of {_days(questioned)} are still being checked"
        said.append(f"{name}: {told}. Until then the change is not known.")
    return " ".join(said)


def _days(found: Sequence[Held]) -> str:
    """The days of some readings, named one by one where they are few."""
    days = [day_of(d) for d in sorted({x.day for x in found})]
    if len(days) > MOST_NAMED:
        return f"{len(days)} days"
    return " and ".join([", ".join(days[:-1]), days[-1]] if len(days) > 1 else days)


def next_date_words(s: Schedule, client: int) -> str:
    """The next planned day of a client; empty where none is planned."""
    own = s.clients[client].days if client in s.clients else ()
    after = min((d.day for d in own if d.day >= s.today and d.state != "done"), default=None)
    return "" if after is None else f"Next measurement: {day_words(iso(after))}."
