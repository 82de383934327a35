"""Cautions that are shown and never argued away (common practice, no published source)."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date

from ...domain.records import Client, Instrument
from ...stats.estimate import Note, note

# essential fat, percent of body mass
ESSENTIAL_FAT = {"male": 5.0, "female": 12.0}
ADULT = 18
WORDS_ONLY = (
    "eating_disorder",
    "low_energy",
    "cutting_weight",
    "ill",
)  # they forbid no instrument; the words say what to leave
NONE = "none"  # asked about implanted electronics and pregnancy: neither
NEAR = 3.0  # pp above essential fat within which the interval is spoken of (common practice)
SCAN_SPACING_WEEKS, SCAN_LEAST_WEEKS = 12, 8


@dataclass(frozen=True, slots=True)
class Caution:
    """A caution for a client.

    ``forbids`` names what must not be used: impedance, scan or nothing.
    """

    note: Note
    forbids: str = ""


def essential_fat(
    metric: str, sex: str, value: float, corrected: float | None = None, low: float | None = None
) -> Note | None:
    """Caution for a body-fat value at or below essential fat.

    Raw or corrected, or when the interval reaches essential fat.

    The lower bound holds when the sex is not known.
    """
    bound = ESSENTIAL_FAT.get(sex, min(ESSENTIAL_FAT.values()))
    if metric != "body_fat_percent":
        return None
    if value <= bound or (corrected is not None and corrected <= bound):
        return note("essential_fat", bound=bound)
    near = min(value, value if corrected is None else corrected) <= bound + NEAR
    reached = low is not None and low <= bound
    return note("essential_fat_near", bound=bound) if near and reached else None


def cautions_of(client: Client, day: str = "") -> tuple[Caution, ...]:
    """What holds for a client whatever is measured, the weightiest first.

    ``day`` (ISO) tells whether the client is under 18.
    """
    out = []
    if "pregnant" in client.cautions:
        out += [
            Caution(note("no_impedance_pregnant"), "impedance"),
            Caution(note("no_scan_pregnant"), "scan"),
        ]
    if "implant" in client.cautions:
        cleared = "implant_cleared" in client.cautions
        out.append(
            Caution(
                note("implant_cleared" if cleared else "no_impedance_implant"),
                "" if cleared else "impedance",
            )
        )
    out += [Caution(note(key)) for key in WORDS_ONLY if key in client.cautions]
    if client.birth and day:
        adult, now = f"{int(client.birth[:4]) + ADULT}{client.birth[4:]}", day[: len(client.birth)]
        # of a year or a month alone the whole span counts as not yet grown up
        if adult > now or (adult == now and len(client.birth) < 10):
            out.append(Caution(note("under_18")))
    return tuple(out)


def scan_cautions(client: Client, scan_days: tuple[str, ...], day: str) -> tuple[Note, ...]:
    """Notes before a scan: local rules, known scans, and whether the last one is too recent."""
    known = len(scan_days) + (client.scans_before or 0)
    before = [d[:10] for d in (*scan_days, client.last_scan) if len(d) >= 10 and d[:10] < day[:10]]
    last = max(before, default="")
    out = [note("scan_local_rules_dated" if last else "scan_local_rules", scans=known, last=last)]
    if last:
        weeks = (date.fromisoformat(day[:10]) - date.fromisoformat(last)).days / 7
        if weeks < SCAN_LEAST_WEEKS:
            out.append(note("scan_too_soon", weeks=weeks))
    return tuple(out)


def safety_asked(client: Client | None) -> bool:
    """Whether implanted electronics and pregnancy have been asked about."""
    return client is not None and bool(client.cautions & {NONE, "implant", "pregnant"})


def open_locks(instruments: Iterable[Instrument]) -> dict[str, Caution]:
    """Impedance devices, which wait until a client has been asked."""
    waiting = Caution(note("safety_open"), "impedance")
    return {i.name: waiting for i in instruments if i.is_impedance}


def locks(client: Client | None, instruments: Iterable[Instrument]) -> dict[str, Caution]:
    """Instruments that must not be used with a client, with the caution that states why."""
    why = {c.forbids: c for c in reversed(cautions_of(client)) if c.forbids} if client else {}
    out: dict[str, Caution] = {}
    for i in instruments:
        caution = (
            why.get("impedance")
            if i.is_impedance
            else why.get("scan")
            if i.kind == "reference"
            else None
        )
        if caution is not None:
            out[i.name] = caution
    return out
