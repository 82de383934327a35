"""Whether usual visits are measured under the conditions of the scan."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from statistics import median

from ...domain.protocol import Condition
from ...domain.scheme import DEVICES, SCAN
from ...stats.estimate import Note, note
from .schedule import Measured

LEAST_VISITS = 3
HOURS_APART = 2.0  # from which on the daily rhythm counts (common practice)
SHARE = 0.5  # of the visits that answer a condition


def scan_conditions(
    measured: Iterable[Measured],
    answers: Mapping[int, Mapping[str, str]],
    asked: Iterable[Condition],
) -> tuple[Note, ...]:
    """What differs between usual visits with devices and the visits with a scan.

    Parameters
    ----------
    measured : iterable of Measured
        Visits with their stations and hours.
    answers : mapping
        Conditions noted at each visit, by its number.
    asked : iterable of Condition
        Conditions of the protocol.

    Returns
    -------
    tuple of Note
        ``scan_hour`` where the median hours lie apart, ``scan_condition`` for each condition that
        most usual visits break and most scans keep, or that nobody noted at the scans.
    """
    rows = list(measured)
    scans = {m.visit for m in rows if m.station == SCAN}
    usual = [m for m in rows if m.station == DEVICES and m.visit not in scans]
    of_scans = [m for m in rows if m.station == SCAN]
    if len(usual) < LEAST_VISITS or not of_scans:
        return ()
    out = []
    hours = [m.hour for m in usual if m.hour is not None]
    scan_hours = [m.hour for m in of_scans if m.hour is not None]
    if len(hours) >= LEAST_VISITS and scan_hours:
        visit, scan = median(hours), median(scan_hours)
        if abs(visit - scan) >= HOURS_APART:
            out.append(note("scan_hour", visit=_clock(visit), scan=_clock(scan)))
    for c in asked:
        broken = [c.broken_by(a[c.key]) for m in usual if c.key in (a := answers.get(m.visit, {}))]
        at_scans = [
            c.broken_by(a[c.key]) for m in of_scans if c.key in (a := answers.get(m.visit, {}))
        ]
        if len(broken) < LEAST_VISITS or sum(broken) < SHARE * len(broken):
            continue
        if not at_scans or sum(at_scans) < SHARE * len(at_scans):
            out.append(note("scan_condition", label=c.label, broken=sum(broken), n=len(broken)))
    return tuple(out)


def _clock(hour: float) -> str:
    """An hour of the day as 06:30."""
    minutes = round(hour * 60)
    return f"{minutes // 60:02}:{minutes % 60:02}"
