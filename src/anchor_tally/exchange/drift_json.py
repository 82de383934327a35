"""JSON of drift."""

from __future__ import annotations

from typing import Any

from ..analysis.time.drift import EITHER, DriftResult, DriftStep
from ..stats.estimate import Estimate, Interval
from ..wording.drift import drift_headline
from .views_json import head, said


def _pair(i: Interval | None) -> list[float] | None:
    return None if i is None else [i.low, i.high]


def _slope(e: Estimate, p: float | None) -> dict[str, Any]:
    return {"slope_per_week": e.value, "ci": _pair(e.interval), "p": p, "method": e.method}


def _step(s: DriftStep) -> dict[str, Any]:
    return {
        "at": s.at,
        "between": [s.before, s.after],
        "size": s.size.value,
        "ci": _pair(s.size.interval),
        "p": s.p,
        "setting_changed": s.change is not None and s.change.setting,
        "change": None if s.change is None else s.change.words,
    }


def drift_json(r: DriftResult) -> dict[str, Any]:
    """The object of ``drift --json``."""
    s = r.slope
    chart = r.chart
    return head("drift", r.instrument.name, r.metric) | {
        "reference": r.pairs.reference.name,
        "setting": r.asked.lens.setting,
        "slope_per_week": None if s is None else s.slope.value,
        "ci": None if s is None else _pair(s.slope.interval),
        "p": None if s is None else s.p,
        "slope_without_clients_change": None if r.drift is None else _slope(r.drift, None),
        "drift_or_step": r.verdict == EITHER,
        "robust": None if r.robust is None else _slope(r.robust.slope, r.robust.p),
        "search_p": None if r.search is None else r.search.p,
        "steps": [_step(x) for x in r.steps],
        "verdict": r.verdict,
        "sentence": drift_headline(r),
        "anchors_needed": r.needed,
        "slope_that_matters": r.bound,
        "share_of_change_shown": (
            None
            if r.not_following is None
            else {"value": r.not_following.value, "ci": _pair(r.not_following.interval)}
        ),
        "anchors": int(r.weeks.size),
        "clients": r.pairs.clients,
        "periods": [p.label for p in r.periods],
        "control_chart": (
            None
            if chart is None
            else {
                "weeks": chart.weeks.tolist(),
                "ewma": chart.value.tolist(),
                "limit": chart.limit.tolist(),
            }
        ),
        "other_evidence": {x.what: _slope(x.slope, x.p) for x in r.side},
        "notes": said(r.notes),
    }
