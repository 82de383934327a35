"""Adopted versions of a calibration: what each one is now, and how two of them differ."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from ...domain.calibrations import CalibrationRecord

State = Literal["in force", "superseded", "withdrawn", "expired", "stale"]


@dataclass(frozen=True, slots=True)
class Version:
    """One adopted version and what it is on a day."""

    record: CalibrationRecord
    state: State


@dataclass(frozen=True, slots=True)
class VersionRow:
    """What two versions subtract for one client ("" for all others), as (value, low, high).

    None where one serves nobody such.
    """

    client: str
    first: tuple[float, float, float] | None
    second: tuple[float, float, float] | None

    @property
    def difference(self) -> float | None:
        """Second less first."""
        return None if self.first is None or self.second is None else self.second[0] - self.first[0]


def versions(
    found: list[tuple[CalibrationRecord, bool]], day: str, stale: frozenset[int]
) -> tuple[Version, ...]:
    """The state of every version on an ISO ``day``, the newest first.

    ``stale`` are numbers of records whose readings have changed.
    """
    newest = {r.setting: r.id for r, withdrawn in found if not withdrawn}

    def state(r: CalibrationRecord, withdrawn: bool) -> State:
        if withdrawn:
            return "withdrawn"
        if newest.get(r.setting) != r.id:
            return "superseded"
        return "stale" if r.id in stale else "expired" if day > r.valid_until else "in force"

    return tuple(Version(r, state(r, withdrawn=gone)) for r, gone in reversed(found))


def subtracted(
    record: CalibrationRecord, client: str, reading: float
) -> tuple[float, float, float] | None:
    """Offset that a record subtracts for a client, with the 95 % interval of a new difference.

    None where the record does not apply.
    """
    own = record.clients.get(client)
    ends = own[:3] if own else record.pooled
    if record.line is None:
        return ends
    at, half = reading - record.line.reference(reading), record.line.half(reading)
    offset, low, high = own[:3] if own else (0.0, -half, half)
    return at + offset, at + low, at + high


def compare_versions(first: CalibrationRecord, second: CalibrationRecord) -> tuple[VersionRow, ...]:
    """Client by client, those of either version, then all others.

    Lines are compared at the middle of the first one's range.
    """
    at = (first.range_low + first.range_high) / 2
    names = sorted(set(first.clients) | set(second.clients))
    return tuple(
        VersionRow(n, subtracted(first, n, at), subtracted(second, n, at)) for n in ("", *names)
    )
