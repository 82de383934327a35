"""Words on adopted versions."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from ..analysis.offsets.verify import ReadingsVerified, Verified
from ..analysis.offsets.versions import Version, VersionRow
from ..domain.metrics import metric_of
from .numbers import MISSING, count, day_words, number, signed
from .offsets import record_sentence

MOST_NAMED = 4  # statements of a certificate that differ
LIST_HEADS = ("Version", "State", "Offset", "Adopted")


def version_name(v: Version) -> str:
    """A version in a word or two."""
    setting = f", {v.record.setting}" if v.record.setting else ""
    return f"v{v.record.version}{setting}"


def readings_words(r: ReadingsVerified) -> str:
    """What became of the readings behind a certificate."""
    if not r.changed and not r.missing:
        return f"{count(r.readings, 'reading')} unchanged"
    changed = f"{count(len(r.changed), 'reading')} changed" if r.changed else ""
    missing = f"{count(r.missing, 'reading')} not there" if r.missing else ""
    return ", ".join(x for x in (changed, missing) if x)


def statements(c: Mapping[str, Any]) -> str:
    """What a certificate of the study states, for the reader of a paper: offset, range and end."""
    m = metric_of(str(c["metric"]))
    k, unit = m.decimals, m.difference_unit
    low, high = c["conditions"]["range"]
    parts = [
        f"readings from {number(low, k)} to {number(high, k)} {m.symbol}".rstrip(),
        f"valid until {day_words(c['validity']['valid_until'])}",
        count(c["made_from"]["anchors"], "scan"),
    ]
    for o in c["offsets"]:
        ends = f"{signed(o['new_difference'][0], k)} to {signed(o['new_difference'][1], k)}"
        whose = o["client"] or "anybody else"
        offset = f"offset of {whose} {signed(o['offset'], k)} {unit}"
        parts.append(f"{offset} (95 % prediction interval {ends})")
    return "; ".join(parts)


def verified_words(v: Verified) -> str:
    """Whether a certificate holds in a study, and if not, why."""
    head = f"Certificate of {printable(v.instrument)}, version {v.version}:"
    readings = readings_words(v.readings)
    if v.holds:
        note = "" if v.adopted else " The study holds no adopted offset; computed anew it is equal."
        told = statements(v.certificate)
        return f"{head} holds. {readings[:1].upper()}{readings[1:]}.{note} It states: {told}."
    out = ["its statements were changed after it was written"] if v.unsealed else []
    if not v.known:
        out.append("the study has no adopted offset to compare with, and none can be computed")
    if v.unlike:
        named = ", ".join(printable(x) for x in v.unlike[:MOST_NAMED])
        more = len(v.unlike) - MOST_NAMED
        named += f" and {more} more" if more > 0 else ""
        out.append(f"the study states otherwise: {named}")
    if v.state[0] != v.state[1]:
        out.append(f"it says {printable(v.state[0])}, today it is {v.state[1]}")
    if v.readings.changed or v.readings.missing:
        out.append(readings)
    return f"{head} does not hold: {'; '.join(out)}."


def printable(text: str) -> str:
    """Text of a foreign file without control characters, at most 80 letters of it."""
    return "".join(c if c.isprintable() else "�" for c in text)[:80]


def version_row(v: Version) -> tuple[str, str, str, str]:
    """A version as a line of a table."""
    said = record_sentence(v.record).partition(": ")[2]
    return version_name(v), v.state, said[:1].upper() + said[1:], v.record.fitted_at[:10]


def compared_row(row: VersionRow, metric: str) -> tuple[str, str, str, str]:
    """One client in two versions: the difference, then both offsets."""
    m = metric_of(metric)
    k = m.decimals

    def cell(x: tuple[float, float, float] | None) -> str:
        return (
            MISSING if x is None else f"{signed(x[0], k)} ({signed(x[1], k)} to {signed(x[2], k)})"
        )

    difference = row.difference
    return (
        row.client or "All others",
        MISSING if difference is None else signed(difference, k),
        cell(row.first),
        cell(row.second),
    )


def compared_words(a: Version, b: Version, rows: tuple[VersionRow, ...], metric: str) -> str:
    """What the second version changes."""
    if a.record.id == b.record.id:
        return f"{version_name(a)}: offset of each client, and 95 % prediction of a new difference."
    m = metric_of(metric)
    k, unit = (m.decimals, m.difference_unit)
    moved = [r.difference for r in rows if r.difference is not None]
    if not moved:
        return f"{version_name(a)} and {version_name(b)} have no client in common."
    most = max(moved, key=abs)
    outside = sum(
        1
        for r in rows
        if r.first is not None
        and r.second is not None
        and not r.first[1] <= r.second[0] <= r.first[2]
    )
    beyond = f"; {count(outside, 'offset')} outside the earlier prediction" if outside else ""
    return (
        f"From {version_name(a)} to {version_name(b)} the largest change is {number(abs(most), k)}"
        f" {unit}{beyond}."
    )
