"""Whether the readings behind a certificate are those of a study, known by what they are."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from ...domain.free_text import FreeText
from ...domain.instants import zone_named
from ...domain.snapshot import Ints, Snapshot
from ..pairs.pairing import stamp
from .record import rows_named

Marks = dict[str, str]
SHORT = 12  # digits of a hash that are kept


@dataclass(frozen=True, slots=True)
class ReadingsVerified:
    """What became of the readings behind a certificate.

    ``changed`` are rows of the metric's columns with another value or state; ``missing`` counts
    those that are not there, of ``readings``.
    """

    changed: tuple[int, ...]
    missing: int
    readings: int


@dataclass(frozen=True, slots=True)
class Verified:
    """What a certificate was found to be.

    Attributes
    ----------
    instrument, version : str and int
        What it is of.
    unsealed : bool
        Its digest is not that of its statements: it was changed after it was written.
    unlike : tuple of str
        Statements that the study does not bear out, as paths of keys; for a page "the text".
    adopted : bool
        Whether the study holds an adopted offset to compare with. Without one its numbers were
        computed anew.
    known : bool
        Whether there was anything to compare with.
    state : tuple of str
        Its state as written, and today.
    readings : ReadingsVerified
        What became of the readings behind it.
    certificate : mapping
        What the study holds.
    """

    instrument: str
    version: int
    unsealed: bool
    unlike: tuple[str, ...]
    adopted: bool
    known: bool
    state: tuple[str, str]
    readings: ReadingsVerified
    certificate: Mapping[str, Any]

    @property
    def holds(self) -> bool:
        """Whether nothing differs."""
        r = self.readings
        same = self.state[0] == self.state[1]
        return same and self.known and not (self.unsealed or self.unlike or r.changed or r.missing)


def marks_of(snapshot: Snapshot, metric: str, sources: Iterable[str], free: FreeText) -> Marks:
    """Identity and mark of each reading that a record names.

    Parameters
    ----------
    snapshot : Snapshot
        The study, with the columns of the metric.
    metric : str
        The metric.
    sources : iterable of str
        Names of readings, as of ``CalibrationRecord``.
    free : FreeText
        What replaces the study's free text, so that a study made from an export has the same.

    Returns
    -------
    dict
        Of each reading the first 12 digits of two SHA-256: of what it is
        (``client|instrument|setting|time|metric|repeat``, the time in the study's zone), and of the
        same with ``|value|state``. No number of a database is part of them.
    """
    c = snapshot.columns.get(metric)
    if c is None:
        return {}
    return dict(_marked(snapshot, metric, rows_named(snapshot, c, tuple(sources)), free).values())


def verify_readings(
    marks: Mapping[str, str], snapshot: Snapshot, metric: str, free: FreeText
) -> ReadingsVerified:
    """Compare the marks of a certificate with the readings of a study."""
    c = snapshot.columns.get(metric)
    every = {} if c is None else _marked(snapshot, metric, np.arange(c.n), free)
    there = {key: (row, mark) for row, (key, mark) in every.items()}
    changed = [there[k][0] for k, mark in marks.items() if k in there and there[k][1] != mark]
    missing = sum(k not in there for k in marks)
    return ReadingsVerified(tuple(sorted(changed)), missing, len(marks))


def readings_digest(marks: Mapping[str, str]) -> str:
    """SHA-256 of all marks in the order of their identities."""
    text = "\n".join(f"{k} {marks[k]}" for k in sorted(marks))
    return hashlib.sha256(text.encode()).hexdigest()


def _marked(
    snapshot: Snapshot, metric: str, rows: Ints, free: FreeText
) -> dict[int, tuple[str, str]]:
    """By row: identity and mark. Rows of the same identity are numbered by their values."""
    c, zone = snapshot.columns[metric], zone_named(snapshot.catalogue.zone)
    labels = {i: free.setting(s.label) for i, s in snapshot.settings.items()} | {0: ""}
    out: dict[int, tuple[str, str]] = {}
    seen: dict[str, int] = {}
    order = rows[np.lexsort((c.value[rows], c.instant[rows]))]
    for row in order.tolist():
        item = snapshot.instruments[int(c.instrument[row])]
        name = item.equation or item.name
        at = stamp(int(c.instant[row]), zone, timed=bool(c.timed[row]))
        code = snapshot.clients[int(c.client[row])].code
        setting, repeat = labels.get(int(c.setting[row]), ""), int(c.replicate[row])
        what = f"{code}|{name}|{setting}|{at}|{metric}|{repeat}"
        seen[what] = seen.get(what, 0) + 1
        what += f"|{seen[what]}" if seen[what] > 1 else ""
        state = f"{what}|{float(c.value[row])!r}|{int(c.status[row])}"
        out[row] = _short(what), _short(state)
    return out


def _short(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()[:SHORT]
