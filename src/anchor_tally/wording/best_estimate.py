"""Sentences of the best estimate: value, change, and what they rest on."""

from __future__ import annotations

from ..analysis.time.best_estimate import BestEstimateResult
from ..domain.metrics import metric_of
from ..stats.one_client import LIKELY, REAL
from .names import short_name
from .numbers import count, number, signed, span
from .track import WHY, day_of

KINDS = {REAL: "real change", LIKELY: "probable change"}


def value_words(r: BestEstimateResult) -> str:
    """The value with its interval, and how much it rests on."""
    m = metric_of(r.metric)
    k, i = m.decimals, r.value.interval
    ends = "" if i is None else f" (95 % CI {span(i, k)})"
    parts = [
        count(r.scans, "scan") if r.scans else "no scan of this client",
        f"{r.devices} other " + ("source" if r.devices == 1 else "sources"),
        count(r.mornings, "morning"),
    ]
    return (
        f"{r.client.code}, all sources: {number(r.value.value, k)} {m.symbol} on"
        f" {day_of(r.at)}{ends}, from {', '.join(parts)}."
    )


def change_words(r: BestEstimateResult) -> str:
    """The change between the two days, in the fixed words of a verdict."""
    m = metric_of(r.metric)
    k, i = m.decimals, r.change.interval
    ends = "" if i is None else f" (95 % CI {span(i, k, sign=True)})"
    size = f"{signed(r.change.value, k)} {m.difference_unit}{ends}"
    dates = f"from {day_of(r.since)} to {day_of(r.until)}"
    text = f"{KINDS.get(r.kind, 'no detectable change').capitalize()}, {size}, {dates}."
    if r.exceeds is not None and r.kind in KINDS:
        share = "below 1" if r.exceeds < 0.01 else f"{100 * r.exceeds:.0f}"
        text += f" Probability that it is more than the margin: {share} %."
    return text


SHARE_HEADS = ("Source", "Part of the value", "Days")


def share_lines(r: BestEstimateResult) -> tuple[tuple[str, str, str], ...]:
    """One row a source that counts: name and setting, its part in the value, days."""
    return tuple(
        (
            short_name(x.name) + (f", {x.setting}" if x.setting else ""),
            f"{100 * x.share:.0f} %",
            f"{x.days}",
        )
        for x in r.sources
        if not x.why
    )


def left_out_words(r: BestEstimateResult) -> str:
    """Sources that count for nothing, with the reason; "" where all count."""
    out = [f"{short_name(x.name)} ({WHY.get(x.why, x.why)})" for x in r.sources if x.why]
    return f"Not counted: {', '.join(out)}." if out else ""
