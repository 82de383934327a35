"""What a device sent for the person who stood on it, saved as one edit."""

from __future__ import annotations

from collections.abc import Sequence

from ....analysis.people.cautions import locks, open_locks
from ....app.bench import Standing, safety_open, take_measurement
from ....app.session import Session
from ....domain.errors import UserError
from ....domain.records import Instrument
from ....wording.bench import caution_words


def take_sent(
    session: Session,
    standing: Standing | None,
    values: Sequence[tuple[str, str]] | None,
    reason: str,
    *,
    simulated: bool,
    metric: str,
) -> str:
    """Save the values of one measurement; each goes into the next free repeat of the visit.

    ``values`` are (metric, text with unit), or None for a failure, which is saved as one of
    ``metric``. Returns the sentence that says why nothing was taken, or "".
    """
    if standing is None:
        return "A device sent a reading, but no client was chosen: it was not saved."
    items, name = session.catalogue(), standing.instrument
    item = items.instrument_named(name) or Instrument(0, name, "device")
    code = standing.place.client
    waiting = open_locks([item]) if safety_open(session, code) else {}
    lock = (waiting | locks(items.client_coded(code), [item])).get(name)
    if lock is not None:
        return f"Not saved from {name}. {caution_words(lock)}"
    kept: list[tuple[str, str | None]] = [(metric, None)] if values is None else list(values)
    try:
        take_measurement(session, standing, values=kept, reason=reason, simulated=simulated)
    except UserError as error:
        return f"{error}."
    return ""
