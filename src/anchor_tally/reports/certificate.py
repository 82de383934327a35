"""Data of a certificate.

The adopted offset, its uncertainty, conditions, validity and origin.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from dataclasses import asdict
from math import isclose
from typing import Any

from .. import __version__
from ..analysis.offsets.verify import Marks, readings_digest
from ..analysis.offsets.versions import Version
from ..domain.calibrations import REASON_KEPT, CalibrationRecord
from ..domain.free_text import FreeText
from ..domain.metrics import metric_of
from ..domain.records import ELECTRODES, Instrument

SCHEMA = "anchor-tally/certificate/2"
# what may differ between the day of writing and the day of the comparison; the readings are
# compared by their marks
_OF_ITS_DAY = (
    "digest",
    "state",
    "program",
    "command",
    "made_from.marks",
    "made_from.digest",
    "made_from.waiting_in_review",
)
# what a study without the adopted record cannot tell
_OF_THE_RECORD = (
    "version",
    "kind",
    "electrodes",
    "validity.adopted_at",
    "adopted_against_advice_because",
)


def canonical(certificate: Mapping[str, Any]) -> str:
    """The text that the digest is of: JSON with sorted keys, no blanks, without the digest."""
    bare = {k: x for k, x in certificate.items() if k != "digest"}
    return json.dumps(
        bare, sort_keys=True, separators=(",", ":"), ensure_ascii=False, allow_nan=False
    )


def digest_of(certificate: Mapping[str, Any]) -> str:
    """SHA-256 of every statement of a certificate."""
    return hashlib.sha256(canonical(certificate).encode()).hexdigest()


def differences(
    written: Mapping[str, Any], now: Mapping[str, Any], *, recomputed: bool = False
) -> tuple[str, ...]:
    """Statements of a certificate that a study does not bear out, as paths of keys.

    ``recomputed``: the study holds no such record, and its numbers were computed anew; they agree
    within a millionth.
    """
    past = (*_OF_ITS_DAY, *(_OF_THE_RECORD if recomputed else ()))
    a, b = dict(_flat(written)), dict(_flat(now))

    def same(x: Any, y: Any) -> bool:
        if recomputed and isinstance(x, float) and isinstance(y, float | int):
            return isclose(x, y, rel_tol=1e-6, abs_tol=1e-9)
        return type(x) is type(y) and bool(x == y)

    wrong = [k for k in sorted(a.keys() | b.keys()) if not same(a.get(k), b.get(k))]
    return tuple(k for k in wrong if not any(k == p or k.startswith(f"{p}.") for p in past))


def _flat(x: Any, path: str = "") -> list[tuple[str, Any]]:
    if isinstance(x, Mapping):
        return [y for k, v in x.items() for y in _flat(v, f"{path}.{k}".lstrip("."))]
    if isinstance(x, list | tuple):
        return [(path, len(x)), *(y for k, v in enumerate(x, 1) for y in _flat(v, f"{path}.{k}"))]
    return [(path, x)]


def certificate_json(
    v: Version,
    item: Instrument,
    free: FreeText,
    marks: Marks,
    *,
    clients: bool = False,
    full: bool = False,
    waiting: int = 0,
) -> dict[str, Any]:
    """Return the object of ``certificate`` (schema anchor-tally/certificate/2).

    Parameters
    ----------
    v : Version
        An adopted version and what it is today.
    item : Instrument
        The instrument that it corrects.
    free : FreeText
        What replaces the study's free text.
    marks : dict
        Identity and mark of each reading behind it, for ``verify``.
    clients : bool
        Name each client's code with its offset; otherwise they are counted.
    waiting : int
        Readings behind it that Review says not to use, as long as nobody has decided.
    full : bool
        Give the reason for adopting against the advice in words. Otherwise codes only, no names
        and no free text.
    """
    r, made = v.record, v.record.made_of
    m = metric_of(r.metric)
    flags = "".join(f" --{k}" for k, on in (("clients", clients), ("full", full)) if on)
    out = {
        "schema": SCHEMA,
        "program": f"anchor-tally {__version__}",
        "command": (
            f'anchor-tally certificate STUDY --instrument "{r.instrument}" --metric {r.metric}'
            f"{flags}"
        ),
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
        "offsets": _offsets(r, clients=clients),
        "own_offsets": len(r.clients),
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
            "clients_shown": _named(made.lens_clients, clients=clients),
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
            "clients": list(made.clients) if clients else len(made.clients),
            "anchors": made.anchors,
            "readings": len(r.sources),
            "digest": readings_digest(marks),
            "marks": dict(marks),
            "waiting_in_review": waiting,
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
    return out | {"digest": digest_of(out)}


def _named(codes: tuple[str, ...] | None, *, clients: bool) -> list[str] | int | None:
    """Codes where they are asked for, otherwise how many; None for all."""
    return None if codes is None else list(codes) if clients else len(codes)


def _offsets(r: CalibrationRecord, *, clients: bool) -> list[dict[str, Any]]:
    rows: list[dict[str, Any]] = [
        {"client": code, "offset": o, "new_difference": [low, high], "scans": n}
        for code, (o, low, high, n) in (sorted(r.clients.items()) if clients else ())
    ]
    if r.pooled is not None:
        o, low, high = r.pooled
        rows.append(
            {"client": None, "offset": o, "new_difference": [low, high], "scans": r.made_of.anchors}
        )
    return rows
