"""JSON of the best estimate of one client."""

from __future__ import annotations

from datetime import date
from typing import Any

from ..analysis.time.best_estimate import BestEstimateResult
from ..stats.estimate import Estimate
from ..wording.best_estimate import change_words, value_words
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


def track_json(r: BestEstimateResult) -> dict[str, Any]:
    """The object of ``track --json`` (schema anchor-tally/track/1)."""
    return {
        "schema": "anchor-tally/track/1",
        "client": r.client.code,
        "metric": r.metric,
        "value": _estimate(r.value) | {"day": _day(r.at)},
        "change": _estimate(r.change)
        | {
            "from": _day(r.since),
            "to": _day(r.until),
            "verdict": r.kind,
            "exceeds_margin": r.exceeds,
        },
        "from": {"scans": r.scans, "devices": r.devices, "mornings": r.mornings},
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
        "day_correlation": r.correlation,
        "course": [
            {"day": _day(int(d)), "level": float(v), "half_width": float(h)}
            for d, v, h in zip(r.day, r.level, r.half, strict=True)
        ],
        "sentences": [value_words(r), change_words(r)],
        "notes": [sentence(n) for n in r.notes],
    }
