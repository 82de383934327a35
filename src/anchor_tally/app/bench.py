"""What a device sends during a visit, taken into the study as one edit."""

from __future__ import annotations

from collections.abc import Sequence

from ..domain.errors import UserError
from ..study.commands import ImportReadings, bench_row
from .session import Session

REPEATS = (1, 2, 3)


def take_measurement(
    session: Session,
    *,
    client: str,
    at: str,
    visit: int | None,
    instrument: str,
    values: Sequence[tuple[str, str | None]],
    reason: str = "",
) -> int:
    """Keep (metric, text with unit) pairs of one measurement, None for a failed value; return the repeat they became.

    All values of a measurement become the same repeat: the first that none of their metrics has yet. Raises UserError when
    three are kept already, or when a value cannot be taken; then nothing is written.
    """
    used: dict[str, set[int]] = {}
    for r in session.readings(visit=visit) if visit is not None else ():
        if r.instrument == instrument:
            used.setdefault(r.metric, set()).add(r.replicate)
    free = next((n for n in REPEATS if not any(n in used.get(m, ()) for m, _ in values)), None)
    if free is None:
        raise UserError(f"{instrument}: three repeats are kept already; nothing was taken")
    rows = [
        bench_row(
            client=client,
            taken_at=at,
            instrument=instrument,
            kind="device",
            metric=metric,
            typed=text,
            replicate=free,
            setting=session.settings_at(instrument, at, client),
            note=reason,
        )
        for metric, text in values
    ]
    session.do(ImportReadings(tuple(rows), f"device {instrument}"))
    return free
