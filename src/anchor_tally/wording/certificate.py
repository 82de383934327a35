"""Sentences of a certificate: what to do with a reading, for whom, within what, until when."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from ..analysis.offsets.versions import Version
from ..domain.calibrations import REASON_KEPT, CalibrationRecord
from ..domain.free_text import FreeText
from ..domain.metrics import metric_of
from .numbers import MISSING, count, day_words, number, signed

CAUTION = (
    "Not a diagnosis. Show a corrected value with its interval. Local rules and licensed practice"
    " take precedence."
)
STATES = {
    "in force": "",
    "expired": "Expired: do not use before the device is compared with a scan again.",
    "stale": "Do not use: readings behind this offset have changed since it was adopted.",
    "superseded": "Superseded by a later version.",
    "withdrawn": "Withdrawn.",
}


def action_words(r: CalibrationRecord) -> str:
    """What to do with a reading: of clients in the table, and of anybody else."""
    m = metric_of(r.metric)
    k, own = m.decimals, bool(r.clients)
    if r.line is not None:
        return (
            f"{r.instrument}: reference = {number(r.line.centre, k)} + (reading −"
            f" {number(r.line.centre + r.line.level, k)}) / {number(r.line.slope, 2)}"
            + (", then subtract the client's own offset." if own else ".")
        )
    if r.pooled is None:
        return f"{r.instrument}: subtract the client's own offset; correct nobody else."
    size = f"{number(abs(r.pooled[0]), k)} {m.difference_unit}"
    if round(r.pooled[0], k) == 0:
        pooled = "leave {} as it is"
    elif r.pooled[0] > 0:
        pooled = f"subtract {size} from {{}}"
    else:
        pooled = f"add {size} to {{}}"
    if own:
        other = pooled.format("a reading of anybody else")
        return f"{r.instrument}: subtract the client's own offset; {other}."
    return f"{r.instrument}: {pooled.format('each reading')}."


def card_words(r: CalibrationRecord) -> str:
    """The one instruction of a card: what to add or subtract, with its confidence interval."""
    m = metric_of(r.metric)
    k, unit = m.decimals, m.difference_unit
    if r.line is not None or r.pooled is None:
        return action_words(r)
    if round(r.pooled[0], k) == 0:
        return "Leave readings as they are."
    verb, sign = ("Subtract", 1.0) if r.pooled[0] > 0 else ("Add", -1.0)
    ends = r.made_of.offset_interval
    known = ""
    if ends is not None:
        low, high = sorted(sign * x for x in ends)
        known = f" (95 % CI {number(low, k)} to {number(high, k)})"
    return f"{verb} {number(abs(r.pooled[0]), k)} {unit}{known} for people like those measured."


def card_lines(r: CalibrationRecord, set_by_hand: str) -> tuple[str, ...]:
    """What else a card has: whom it serves, what is left over, bounds, end."""
    m = metric_of(r.metric)
    low, high = number(r.range_low, m.decimals), number(r.range_high, m.decimals)
    lines = [
        "Clients with an offset of their own: use that one; the certificate has it."
        if r.clients
        else "",
        left_over_words(r),
        f"Not outside {low} to {high} {m.symbol}.",
        f"Valid until {day_words(r.valid_until)}.",
        f"Measured on {count(r.client_count, 'client')} with {count(r.made_of.anchors, 'scan')},"
        f" against {r.reference}.",
        "Provisional: it rests on one scan a client." if r.made_of.provisional else "",
        set_by_hand,
    ]
    return tuple(x for x in lines if x)


def left_over_words(r: CalibrationRecord) -> str:
    """How far one corrected reading can still be off."""
    if r.left_over is None:
        return ""
    m = metric_of(r.metric)
    low, high = (signed(x, m.decimals) for x in r.left_over)
    return (
        f"After that, one reading of a new client can still be off by {low} to {high}"
        f" {m.difference_unit} (95 %)."
    )


def bounds_words(r: CalibrationRecord) -> str:
    """Within what, and until when."""
    m = metric_of(r.metric)
    low, high = number(r.range_low, m.decimals), number(r.range_high, m.decimals)
    return (
        f"Only for readings from {low} to {high} {m.symbol}, in {m.name}. Valid until"
        f" {day_words(r.valid_until)}."
    )


def proof_words(r: CalibrationRecord) -> str:
    """How the correction did on scans that were left out; "" where that was not kept."""
    p, m = r.made_of.proof, metric_of(r.metric)
    if p is None:
        return ""
    k = m.decimals + 1
    return (
        f"error on {count(p.scans, 'left-out scan')} of {count(p.clients, 'client')} (RMSE):"
        f" {number(p.before, k)} {m.difference_unit} uncorrected, {number(p.after, k)} corrected"
    )


def waiting_words(readings: int) -> str:
    """That readings behind an offset wait in Review; "" for none."""
    if not readings:
        return ""
    found = count(readings, "reading")
    return f"Check first: this offset rests on {found} that Review says not to use."


def condition_rows(
    v: Version, free: FreeText, certificate: Mapping[str, Any], *, full: bool
) -> tuple[tuple[str, str], ...]:
    """Conditions and origin, one a row."""
    r, made = v.record, v.record.made_of
    m = metric_of(r.metric)
    used = [free.setting(s) for s in made.settings if s]
    rows = [
        ("Version", f"{r.version}, {v.state}"),
        ("Metric", f"{m.label} ({m.symbol or m.unit})"),
        ("Compared with", r.reference),
        ("Setting", free.setting(r.setting) or ", ".join(used) or "none stated"),
        (
            "Pairs",
            f"{count(r.pairs, 'pair')} of {count(r.client_count, 'client')},"
            f" {count(made.anchors, 'scan')}, within {made.window_hours:g} h of the scan",
        ),
        ("Last scan used", day_words(made.last_anchor) if made.last_anchor else MISSING),
        ("Adopted", day_words(r.fitted_at[:10])),
        ("Valid until", day_words(r.valid_until)),
        ("Readings behind it", f"{len(r.sources)}"),
        ("Program", str(certificate["program"])),
        ("Command", str(certificate["command"])),
        ("Digest of every statement", grouped(str(certificate["digest"]))),
    ]
    if made.proof is not None:
        rows.insert(-4, ("Cross-validation", proof_words(r)))
    if made.drift is not None:
        low, high = (signed(x, m.decimals + 1) for x in made.drift)
        rows.insert(-4, ("Drift per week", f"{low} to {high} {m.difference_unit} (95 % CI)"))
    if made.client_sd is not None:
        given = f"{number(made.client_sd, m.decimals)} {m.difference_unit}, stated"
        rows.append(("SD between clients", given))
    if made.reason:
        rows.append(("Adopted against the advice", made.reason if full else REASON_KEPT))
    return tuple(rows)


def grouped(digest: str) -> str:
    """A digest in groups of 16 digits, so that lines can break between them."""
    return " ".join(digest[k : k + 16] for k in range(0, len(digest), 16))


def offset_rows(r: CalibrationRecord, *, clients: bool) -> tuple[tuple[str, str, str, str], ...]:
    """The table of offsets: client, what is subtracted, 95 % of new differences, scans."""
    k = metric_of(r.metric).decimals
    rows = [
        (code, signed(o, k), f"{signed(low, k)} to {signed(high, k)}", f"{n}")
        for code, (o, low, high, n) in (sorted(r.clients.items()) if clients else ())
    ]
    if r.clients and not clients:
        rows.append(
            (
                f"{count(len(r.clients), 'client')} with an offset of their own (named on request)",
                "",
                "",
                "",
            )
        )
    if r.pooled is not None:
        o, low, high = (signed(x, k) for x in r.pooled)
        rows.append(("All others", o, f"{low} to {high}", f"{r.made_of.anchors}"))
    return tuple(rows)
