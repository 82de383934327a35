"""Readings of one client that findings of Review are about, by finding, source and day."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from ...domain.snapshot import Columns, Snapshot
from ..review.finding import Finding
from .study_model import EPOCH

Findings = Iterable[tuple[Finding, tuple[int, ...]]]  # with the rows of each


@dataclass(frozen=True, slots=True)
class Held:
    """Readings that a finding of the review is about, of one day (ordinal)."""

    name: str
    setting: str
    day: int
    rule: str
    readings: tuple[int, ...]


def stored_of(c: Columns, row: int) -> tuple[int, ...]:
    """Stored readings of a row: its own, or those that a value of an equation is made from."""
    ids = c.parts[row] if c.parts and c.parts[row] else (int(c.reading[row]),)
    return tuple(i for i in ids if i > 0)


def held_of(snapshot: Snapshot, metric: str, findings: Findings, client: int) -> tuple[Held, ...]:
    """Readings of a client that findings are about.

    Parameters
    ----------
    snapshot : Snapshot
        The study with the columns of the metric.
    metric : str
        The metric.
    findings : iterable of (Finding, tuple of int)
        Findings of ``held_back`` with the rows that each is about.
    client : int
        Number of the client.

    Returns
    -------
    tuple of Held
        One for each finding, source, setting and day.
    """
    c = snapshot.columns[metric]
    labels = {k: x.label for k, x in snapshot.settings.items()}
    out = []
    for f, found in findings:
        rows = np.array([r for r in found if c.client[r] == client], dtype=np.int64)
        keys = sorted({(int(c.day[r]), int(c.instrument[r]), int(c.setting[r])) for r in rows})
        for day, item, setting in keys:
            own = rows[(c.day[rows] == day) & (c.instrument[rows] == item)]
            own = own[c.setting[own] == setting]
            ids = dict.fromkeys(i for r in own.tolist() for i in stored_of(c, r))
            name = snapshot.instruments[item].name
            out.append(Held(name, labels.get(setting, ""), day + EPOCH, f.rule, tuple(ids)))
    return tuple(dict.fromkeys(out))
