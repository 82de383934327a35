"""Words on adopted versions."""

from __future__ import annotations

from ..analysis.offsets.verify import ReadingsVerified
from ..analysis.offsets.versions import Version, VersionRow
from ..domain.metrics import metric_of
from .numbers import MISSING, count, number, signed
from .offsets import record_sentence

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
