"""Whether a certificate still stands on the readings and the offset that it was made from."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from ...domain.calibrations import CalibrationRecord
from ...domain.snapshot import Snapshot
from .record import rows_named, source_names

Marks = tuple[tuple[str, str], ...]


@dataclass(frozen=True, slots=True)
class Verified:
    """What a certificate was found to be.

    Attributes
    ----------
    adopted : bool
        Whether the study holds an adopted offset with the same numbers and digest.
    changed, missing : tuple of str
        Names of readings with another value or state, and of those that are not there.
    readings : int
        How many readings the certificate names.
    """

    adopted: bool
    changed: tuple[str, ...]
    missing: tuple[str, ...]
    readings: int

    @property
    def holds(self) -> bool:
        """Whether nothing differs."""
        return self.adopted and not self.changed and not self.missing


def marks_of(snapshot: Snapshot, metric: str, sources: Iterable[str]) -> Marks:
    """A mark of each reading that is there: its name, and a hash of name, value and state.

    Names are stored numbers, or ``equation@visit`` of a computed value.
    """
    c = snapshot.columns.get(metric)
    if c is None:
        return ()
    rows = rows_named(snapshot, c, tuple(sources))
    out = []
    for name, k in zip(source_names(snapshot, c, rows).tolist(), rows.tolist(), strict=True):
        text = f"{name}|{float(c.value[k])!r}|{int(c.status[k])}"
        out.append((str(name), hashlib.sha256(text.encode()).hexdigest()[:12]))
    return tuple(sorted(out))


def verify(
    marks: Mapping[str, str],
    digest: str,
    offsets: Iterable[tuple[str, float]],
    records: Iterable[CalibrationRecord],
    snapshot: Snapshot,
    metric: str,
) -> Verified:
    """Compare a certificate with a study.

    Parameters
    ----------
    marks : mapping
        Mark of each reading by its name, as the certificate has them.
    digest : str
        Its fingerprint of all readings.
    offsets : iterable of (str, float)
        Client ("" for all others) and offset.
    records : iterable of CalibrationRecord
        Offsets adopted in the study for its instrument and metric.
    snapshot : Snapshot
        The study, with the columns of the metric.
    metric : str
        Its metric.
    """
    there = dict(marks_of(snapshot, metric, marks))
    wanted = dict(offsets)
    adopted = any(r.digest == digest and _offsets(r) == wanted for r in records)
    return Verified(
        adopted,
        tuple(k for k, mark in marks.items() if k in there and there[k] != mark),
        tuple(k for k in marks if k not in there),
        len(marks),
    )


def _offsets(r: CalibrationRecord) -> dict[str, float]:
    own = {code: o for code, (o, _, _, _) in r.clients.items()}
    return own | ({"": r.pooled[0]} if r.pooled is not None else {})
