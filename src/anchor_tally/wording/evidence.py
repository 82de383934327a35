"""What the evidence drawer says: of a statistic, a pair, a reading and its history."""

from __future__ import annotations

import json

from ..analysis.agreement.evidence import Evidence
from ..domain.metrics import metric_of
from ..domain.records import Reading
from .numbers import number, signed

_KEPT = {"ok": "used", "failed": "failed", "excluded": "excluded"}


def pair_words(evidence: Evidence, name: str) -> str:
    """The values of one pair; empty for a statistic."""
    v = dict(evidence.values)
    if not v:
        return ""
    m = metric_of(evidence.metric)
    unit, apart = f" {m.symbol}".rstrip(), f" {m.difference_unit}".removesuffix(" 1")
    k = m.decimals
    return (
        f"{name} {number(v['instrument'], k)}{unit}, {evidence.compared_with}"
        f" {number(v['reference'], k)}{unit}: difference {signed(v['difference'], k)}{apart}"
    )


def left_out_words(evidence: Evidence) -> str:
    """What was left out, by reason."""
    return (
        "Left out: " + "; ".join(f"{n} × {why}" for why, n in evidence.left_out)
        if evidence.left_out
        else ""
    )


def reading_row(
    r: Reading, *, unseen: bool = False, named: bool = True
) -> tuple[str, str, str, str]:
    """A reading as a line: whose, when, value (``unseen``: not shown), whether it is kept.

    Not ``named``: without the client, where a point beside it tells about what the value is.
    """
    value = (
        "not shown"
        if unseen
        else f"{r.entered} {'%' if r.unit == 'percent' else r.unit}"
        if r.entered
        else "–"
    )
    kept = "simulated" if r.simulated and r.status == "ok" else _KEPT[r.status]
    return (
        f"{f'{r.client} ' if named else ''}{r.instrument} {r.replicate}",
        r.taken_at[:16].replace("T", " "),
        value,
        kept,
    )


def reading_words(
    r: Reading, history: list[tuple[str, str, str, str]], *, unseen: bool = False
) -> str:
    """A reading's remark, where it came from, and what was changed of it, a line each.

    ``unseen``: without the values.
    """
    lines = [r.note] if r.note else []
    if r.source and r.source != "bench":
        lines.append(f"From: {r.source}")
    for at, old, new, why in history:
        a, b = json.loads(old), json.loads(new)
        if unseen:
            lines.append(f"{at[:16].replace('T', ' ')}: changed ({why})")
            continue
        lines.append(
            f"{at[:16].replace('T', ' ')}: {a['entered'] or '–'} {a['status']} →"
            f" {b['entered'] or '–'} {b['status']} ({why})"
        )
    return "\n".join(lines)
