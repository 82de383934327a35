"""A visit at the bench: readings typed or sent, put where they belong, as one edit each."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from statistics import median

from ..analysis.bench import free_repeat
from ..domain.errors import UserError
from ..study.edits.readings import AddReadings, NewReading
from .session import Session


@dataclass(frozen=True, slots=True)
class Place:
    """Where a reading belongs: the client, the moment, and the visit (None: the nearest, or a new one when ``fresh``)."""

    client: str
    at: str
    visit: int | None = None
    fresh: bool = False


def last_values(session: Session, client: str, visit: int | None) -> tuple[dict[tuple[str, str], float], float | None]:
    """A client's median values at the visit before ``visit`` (None: a new one), by instrument and metric, and the body mass there."""
    known = session.visits_of(client)
    here = next((v for v in known if v.id == visit), None)
    before = next((v for v in known if v.id != visit and (here is None or v.instant < here.instant)), None)
    if before is None:
        return {}, None
    found: dict[tuple[str, str], list[float]] = {}
    for r in session.readings(visit=before.id):
        if r.status == "ok" and r.value is not None and not r.simulated:
            found.setdefault((r.instrument, r.metric), []).append(r.value)
    last = {key: median(values) for key, values in found.items()}
    masses = [v for (_, metric), v in last.items() if metric == "body_mass"]
    return last, median(masses) if masses else None


def take_measurement(
    session: Session,
    place: Place,
    *,
    instrument: str,
    values: Sequence[tuple[str, str | None]],
    reason: str = "",
    simulated: bool = False,
) -> int:
    """Keep (metric, text with unit) pairs of one measurement, None for a failed value; return the repeat they became.

    All values of a measurement become the same repeat: the first that none of their metrics has yet. Raises UserError when
    three are kept already, or when a value cannot be taken; then nothing is written.
    """
    visit = place.visit
    if visit is None and not place.fresh:
        visit = session.visit_near(place.client, place.at)
    there = session.readings(visit=visit) if visit is not None else []
    free = free_repeat(there, instrument, (metric for metric, _ in values))
    if free is None:
        raise UserError(f"{instrument}: three repeats are kept already; nothing was taken")
    setting = session.catalogue().setting_in_force(instrument, place.at, place.client)
    readings = tuple(NewReading(instrument, "device", metric, text, free, setting, reason) for metric, text in values)
    source = f"simulated {instrument}" if simulated else f"device {instrument}"
    session.do(AddReadings(place.client, place.at, readings, source, visit, place.fresh, simulated))
    return free
