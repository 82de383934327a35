"""Data of a certificate.

The adopted offset, its uncertainty, conditions, validity and origin.
"""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from ..analysis.offsets.verify import Marks
from ..analysis.offsets.versions import Version
from ..domain.calibrations import REASON_KEPT, CalibrationRecord
from ..domain.free_text import FreeText
from ..domain.metrics import metric_of
from ..domain.records import ELECTRODES, Instrument


def certificate_json(
    v: Version, item: Instrument, free: FreeText, marks: Marks, *, full: bool = False
) -> dict[str, Any]:
    """Return the object of ``certificate`` (schema anchor-tally/certificate/1).

    Parameters
    ----------
    v : Version
        An adopted version and what it is today.
    item : Instrument
        The instrument that it corrects.
    free : FreeText
        What replaces the study's free text.
    marks : tuple of (str, str)
        Name and mark of each reading behind it, for ``verify``.
    full : bool
        Give the reason for adopting against the advice in words. Otherwise codes only, no names
        and no free text.
    """
    r, made = v.record, v.record.made_of
    m = metric_of(r.metric)
    return {
        "schema": "anchor-tally/certificate/1",
        "instrument": r.instrument,
        "kind": item.kind,
        "electrodes": (
            item.electrodes if item.electrodes in ELECTRODES and item.electrodes else None
        ),
        "metric": r.metric,
        "unit": m.unit,
        "version": r.version,
        "state": v.state,
        "model": r.model,
        "offsets": _offsets(r),
        "line": None if r.line is None else asdict(r.line),
        "coverage": 0.95,
        "conditions": {
            "setting": free.setting(r.setting) or None,
            "settings_used": [free.setting(s) for s in made.settings if s],
            "reference": r.reference,
            "comparator": made.comparator,
            "window_hours": made.window_hours,
            "tallies": "mean around the scan" if made.around else "nearest to the scan",
            "range": [r.range_low, r.range_high],
        },
        "validity": {
            "adopted_at": r.fitted_at,
            "last_scan": made.last_anchor or None,
            "valid_until": r.valid_until,
            "drift_per_week": None if made.drift is None else list(made.drift),
            "drift_from": made.drift_from or None,
        },
        "made_from": {
            "pairs": r.pairs,
            "clients": list(made.clients),
            "anchors": made.anchors,
            "readings": len(r.sources),
            "digest": r.digest,
            "marks": dict(marks),
        },
        "offset_interval": None if made.offset_interval is None else list(made.offset_interval),
        "cross_validation": None if made.proof is None else asdict(made.proof),
        "provisional": made.provisional,
        "advice": made.advice,
        "adopted_against_advice_because": (
            (made.reason if full else REASON_KEPT) if made.reason else None
        ),
        "caution": (
            "Not a diagnosis. A corrected value is shown with its uncertainty; local rules and"
            " licensed practice go first."
        ),
    }


def _offsets(r: CalibrationRecord) -> list[dict[str, Any]]:
    rows: list[dict[str, Any]] = [
        {"client": code, "offset": o, "new_difference": [low, high], "scans": n}
        for code, (o, low, high, n) in sorted(r.clients.items())
    ]
    if r.pooled is not None:
        o, low, high = r.pooled
        rows.append(
            {"client": None, "offset": o, "new_difference": [low, high], "scans": r.made_of.anchors}
        )
    return rows
