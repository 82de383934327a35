"""JSON of one client through time."""

from __future__ import annotations

from datetime import date
from typing import Any

from ..analysis.time.best_estimate_result import Change, GoalDate
from ..analysis.time.track import TrackResult
from ..domain.metrics import metric_of
from ..stats.estimate import Estimate
from ..stats.one_client import LIKELY, NOISE, NOT_ENOUGH, REAL
from ..wording.best_estimate import WHY, sentences, shows_level
from ..wording.notes import sentence

VERDICTS = {REAL: "real", LIKELY: "probable", NOISE: "none_shown", NOT_ENOUGH: "not_enough"}


_NONE: dict[str, Any] = {"estimate": None, "se": None, "df": None, "ci": None}


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
    return (_NONE if c.change is None else _estimate(c.change)) | {
        "from": _day(c.since),
        "to": _day(c.until),
        "verdict": VERDICTS[c.kind],
        "exceeds_margin": c.exceeds,
    }


def _goal(g: GoalDate) -> dict[str, Any]:
    return {
        "value": g.goal,
        "trend_shown": g.trend,
        "reached": g.reached,
        "earliest": None if g.earliest is None else _day(g.earliest),
        "latest": None if g.latest is None else _day(g.latest),
    }


def track_json(track: TrackResult) -> dict[str, Any]:
    """The object of ``track --json``; ``track`` has a best estimate."""
    r = track.best
    if r is None:
        raise ValueError("no best estimate")
    more, c = r.more, r.change
    counting = {x.name for x in r.sources if not x.why}
    shares: dict[str, float] = {}
    for x in r.sources:
        shares[x.name] = shares.get(x.name, 0.0) + x.share
    alone = [
        {
            "instrument": d.instrument,
            "change": None if d.verdict is None else d.verdict.change.value,
            "ci": None
            if d.verdict is None or d.verdict.change.interval is None
            else [d.verdict.change.interval.low, d.verdict.change.interval.high],
            "votes": d.instrument in counting,
            "why": WHY.get(d.why, d.why) or None,
            "share": shares.get(d.instrument, 0.0),
        }
        for d in track.devices
    ]
    return {
        "client": r.client.code,
        "metric": r.metric,
        "unit": metric_of(r.metric).unit,
        "from": _day(c.since),
        "to": _day(c.until),
        "dates": "picked" if c.picked else "planned",
        "change": _NONE if c.change is None else _estimate(c.change),
        "measured": None
        if c.measured is None
        else {
            "devices": c.measured.devices,
            "sources": c.measured.sources,
            "scans": c.measured.scans,
        },
        "verdict": VERDICTS[c.kind],
        "exceeds_margin": c.exceeds,
        "effective_mornings": {"from": c.mornings[0], "to": c.mornings[1]},
        "sources": alone,
        "disagreement_p": r.disagree,
        "mornings_needed": None if more is None else more.mornings,
        "estimate": {"value": r.value.value, **_estimate(r.value), "day": _day(r.at)}
        if shows_level(r)
        else None,
        "more_mornings": None
        if more is None
        else {"true_change": more.size, "mornings": more.mornings, "half_width": more.half},
        "since_scan": None if r.since_scan is None else _change(r.since_scan),
        "trend_per_week": None if r.trend is None else _estimate(r.trend),
        "goal": None if r.goal is None or not shows_level(r) else _goal(r.goal),
        "next": {
            "half_width_without": r.ahead.waiting,
            "measurements": [
                {
                    "instrument": c.name,
                    "setting": c.setting or None,
                    "mornings": c.mornings or None,
                    "half_width": c.half,
                    "minutes": c.minutes,
                    "cost": c.cost,
                    "narrows_per_minute": c.narrows(r.ahead.waiting),
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
        "side_by_side": [
            {
                "instrument": x.name,
                "settings": [x.first or None, x.second or None],
                "difference": _estimate(x.difference),
                "days": x.difference.n,
            }
            for x in r.beside
        ],
        "contradicted_scans": [
            {"day": _day(x.day), "difference": x.gap, "p": x.p} for x in r.contradicted
        ],
        "devices_shifted": r.shifted,
        "held_back": [
            {
                "instrument": x.name,
                "setting": x.setting or None,
                "day": _day(x.day),
                "rule": x.rule,
                "readings": len(x.readings),
            }
            for x in r.held
        ],
        "counts": {
            "scans": r.scans,
            "devices": r.devices,
            "mornings": r.mornings,
            "mornings_of_four_weeks": r.recent,
            "independent": r.independent,
        },
        "shares": [
            {"instrument": x.name, "setting": x.setting or None, "days": x.days, "share": x.share}
            for x in r.sources
            if not x.why
        ],
        "left_out": [
            {"instrument": x.name, "why": WHY.get(x.why, x.why), "days": x.days or None}
            for x in r.sources
            if x.why
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
            {
                "day": _day(int(d)),
                "level": float(v),
                "half_width": float(high - low) / 2,
                "ci": [float(low), float(high)],
            }
            for d, v, low, high in zip(r.day, r.level, r.low, r.high, strict=True)
        ],
        "told_as": r.anchor,
        "sentences": sentences(r),
        "notes": [sentence(n) for n in r.notes],
    }
