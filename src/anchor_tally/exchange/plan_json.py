"""The JSON object of the command ``plan``."""

from __future__ import annotations

from typing import Any

from ..analysis.plan.precision import GroupPower, Precision
from ..analysis.plan.schedule import Schedule
from ..domain.catalogue import Catalogue
from ..wording.plan import iso


def plan_json(
    schedule: Schedule,
    catalogue: Catalogue,
    precision: Precision,
    instrument: str,
    metric: str,
    group: GroupPower | None = None,
) -> dict[str, Any]:
    """What is due, and the precision to expect with its options."""
    p = precision
    return {
        "schema": "anchor-tally/plan/1",
        "today": iso(schedule.today),
        "due": [
            {
                "client": catalogue.clients[d.client].code,
                "station": d.station,
                "series": d.label,
                "on": iso(d.day),
                "overdue_days": max(schedule.today - d.day, 0),
            }
            for d in schedule.waiting
        ],
        "left_out": [
            {
                "client": catalogue.clients[x.client].code,
                "station": x.station,
                "why": x.why,
                "days": x.days,
            }
            for x in schedule.left_out
        ],
        "instrument": instrument,
        "metric": metric,
        "design": {
            "clients": p.design.clients,
            "scans": p.design.scans,
            "mornings": p.design.mornings,
            "repeats": p.design.repeats,
            "scans_kept": p.design.kept,
            "mornings_ignored": p.ignored,
        },
        "day_correlation": p.spreads.correlation,
        "spreads": {
            name: {
                "sd": getattr(p.spreads, name),
                "ci": [s.interval.low, s.interval.high] if s.interval is not None else None,
                "from": s.origin,
            }
            for name, s in p.sources.items()
        },
        "precision": {
            "bias": p.expected.bias,
            "limits": p.expected.limits,
            "offset": p.expected.offset,
            "reading": p.expected.reading,
        },
        "interval": p.interval,
        "wanted": p.wanted,
        "options": [
            {
                "what": o.what,
                "count": o.count,
                "half_width": o.half_width,
                "scans": o.more.scans,
                "minutes": o.more.minutes,
                "cost": o.more.cost,
                "reaches": o.reaches,
                "window_hours": o.window,
            }
            for o in p.options
        ],
        "power": {
            "equivalence": p.equivalence,
            "margin": p.margin,
            "drift": p.drift,
            "drift_per_week": p.drift_per_week,
        },
        "group": None
        if group is None
        else {
            "change": group.change,
            "clients": group.clients,
            "change_sd": group.change_sd,
            "power": group.one,
            "power_of_two_groups": group.two,
            "clients_needed": group.needed,
            "clients_needed_in_each_of_two": group.needed_each,
        },
        "real_change": [{"mornings": m, "change": c} for m, c in p.real_change],
    }
