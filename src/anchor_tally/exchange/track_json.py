"""JSON of the best estimate of one client."""

from __future__ import annotations

from datetime import date
from typing import Any

from ..analysis.time.best_estimate import BestEstimateResult, Change, GoalDate
from ..stats.estimate import Estimate
from ..wording.best_estimate import sentences
from ..wording.notes import sentence


def _estimate(e: Estimate) -> dict[str, Any]:
    i = e.interval
    return {
        "estimate": e.value,
        "se": e.se,
        "df": e.df,
        "ci": None if i is None else [i.low, i.high],
    }


def _day(ordinal: int) -> str:
    return date.fromordinal(ordinal).isoformat()


def _change(c: Change) -> dict[str, Any]:
    return _estimate(c.change) | {
        "from": _day(c.since),
        "to": _day(c.until),
        "verdict": c.kind,
        "exceeds_margin": c.exceeds,
        "dates_picked": c.picked,
    }


def _goal(g: GoalDate) -> dict[str, Any]:
    return {
        "value": g.goal,
        "trend_shown": g.trend,
        "reached": g.reached,
        "earliest": None if g.earliest is None else _day(g.earliest),
        "latest": None if g.latest is None else _day(g.latest),
    }


def track_json(r: BestEstimateResult) -> dict[str, Any]:
    """The object of ``track --json`` (schema anchor-tally/track/1)."""
    more = r.more
    return {
        "schema": "anchor-tally/track/1",
        "client": r.client.code,
        "metric": r.metric,
        "told_as": r.anchor,
        "value": _estimate(r.value) | {"day": _day(r.at)},
        "change": _change(r.change),
        "since_scan": None if r.since_scan is None else _change(r.since_scan),
        "trend_per_week": _estimate(r.trend),
        "goal": None if r.goal is None else _goal(r.goal),
        "more_mornings": None
        if more is None
        else {"true_change": more.size, "mornings": more.mornings, "half_width": more.half},
        "next": {
            "half_width_without": r.ahead.waiting,
            "measurements": [
                {
                    "instrument": c.name,
                    "setting": c.setting or None,
                    "mornings": c.mornings or None,
                    "half_width": c.half,
                    "minutes": c.minutes,
                }
                for c in r.ahead.candidates
            ],
        },
        "disagree": [
            {
                "instrument": x.name,
                "setting": x.setting or None,
                "from": _day(x.first),
                "to": _day(x.last),
                "difference": x.gap,
                "p": x.p,
            }
            for x in r.odd
        ],
        "from": {
            "scans": r.scans,
            "devices": r.devices,
            "mornings": r.mornings,
            "mornings_of_four_weeks": r.recent,
            "independent": r.independent,
        },
        "sources": [
            {
                "instrument": x.name,
                "setting": x.setting or None,
                "days": x.days,
                "share": x.share,
                "left_out": x.why or None,
            }
            for x in r.sources
        ],
        "readings": [
            {
                "instrument": x.name,
                "setting": x.setting or None,
                "day": _day(x.day),
                "mean": x.value,
                "repeats": x.size,
                "weight": x.weight,
            }
            for x in r.weighed
        ],
        "day_correlation": r.correlation,
        "course": [
            {"day": _day(int(d)), "level": float(v), "half_width": float(h)}
            for d, v, h in zip(r.day, r.level, r.half, strict=True)
        ],
        "sentences": sentences(r),
        "notes": [sentence(n) for n in r.notes],
    }
