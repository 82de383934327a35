"""Sentences of the page that a client takes home: plain words, no targets, no praise."""

from __future__ import annotations

from dataclasses import dataclass

from ..analysis.plan.schedule import Schedule
from ..analysis.time.client_series import TrackSeries
from ..analysis.time.track import TrackResult
from ..domain.metrics import Metric, is_fat, metric_of
from ..domain.units import UNITS
from ..stats.estimate import Interval
from ..stats.one_client import LIKELY, REAL
from .numbers import MISSING, day_words, number, signed, span
from .plan import iso
from .track import day_of, verdict_of

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
    """The newest value: corrected with its interval, else the last scan, else a mean of 7 days."""
    if s is None or not s.day.size:
        return MISSING
    m = metric_of(r.metric)
    u = shown_in(m, unit)
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
    return f"{u.number(float(s.week.mean[-1]), k)} {u.symbol}, mean of 7 days to {at}"


def change_words(r: TrackResult, unit: str = "") -> str:
    """The change between the two dates, with its interval."""
    v, m = verdict_of(r), metric_of(r.metric)
    if r.together is not None and r.together.disagrees:
        return "no common result: the methods disagree"
    if v is None:
        return "not known: too few measurements"
    u, i = shown_in(m, unit), v.change.interval
    ends = None if i is None else Interval(i.low * u.factor, i.high * u.factor)
    size = signed(v.change.value * u.factor, m.decimals)
    told = span(ends, m.decimals, sign=True)
    return f"{size} {_difference_unit(m, u)} (95 % interval {told})"


def dates_words(r: TrackResult) -> str:
    """The two dates of the change."""
    return f"{day_of(r.since)} to {day_of(r.until)}"


def meaning_words(r: TrackResult) -> str:
    """What the change means, in a few words."""
    v = verdict_of(r)
    if v is None or (r.together is not None and r.together.disagrees):
        return MISSING
    return {REAL: "real change", LIKELY: "probable change, not certain"}.get(
        v.kind, "no detectable change"
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


def next_date_words(s: Schedule, client: int) -> str:
    """The next planned day of a client; empty where none is planned."""
    own = s.clients[client].days if client in s.clients else ()
    after = min((d.day for d in own if d.day >= s.today and d.state != "done"), default=None)
    return "" if after is None else f"Next measurement: {day_words(iso(after))}."
