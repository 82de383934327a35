"""All clients side by side: the level of each today, and its change over four weeks."""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import dataclass

import numpy as np

from ...domain.lens import Lens
from ...domain.records import Client
from ...domain.snapshot import Snapshot
from ...stats.course_model import levels_of
from ...stats.estimate import Estimate
from ..people.withheld import withheld
from .best_estimate import estimates_of, judged, lowest_of, margin_of
from .best_estimate_result import Change
from .study_model import EPOCH, StudyModelRequest, days_of_change


@dataclass(frozen=True, slots=True)
class ClientLevel:
    """One client: level and change, None where no fat may be shown; days are ordinals.

    The level is None too where it is not tied to a scan. ``last_scan`` is None without a scan.
    """

    client: Client
    value: Estimate | None
    change: Change | None
    last: int
    last_scan: int | None


@dataclass(frozen=True, slots=True)
class GroupResult:
    """The clients in the order of their codes.

    ``scanned``: levels are those of a scan. ``waiting``: clients of whom readings wait until a
    finding of the review is decided.
    """

    metric: str
    anchor: str
    scanned: bool
    rows: tuple[ClientLevel, ...]
    waiting: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class GroupRequest:
    """Levels and changes of all clients that the lens shows.

    Parameters
    ----------
    snapshot : Snapshot
        The study at one revision, with the column of the lens' metric.
    lens : Lens
        Metric, reference and clients.

    Raises
    ------
    CannotCompare
        From ``run``: there is no model of the study.
    """

    snapshot: Snapshot
    lens: Lens

    def run(self) -> Generator[float, None, GroupResult]:
        """Yield progress; return the result."""
        m = yield from StudyModelRequest(self.snapshot, self.lens).run()
        data, last = m.data, m.last
        days = days_of_change(data)
        levels = levels_of(data, m.model, np.array(m.clients), *days)
        yield 0.9
        scanned = np.full(last.size, -1, dtype=np.int64)
        if m.scanned:
            at = data.source == 0
            np.maximum.at(scanned, data.client[at], data.day[at])
        margin = margin_of(self.snapshot, self.lens.metric)
        counts = np.bincount(data.client).tolist()
        told = list(zip((days[0] + EPOCH).tolist(), (days[1] + EPOCH).tolist(), strict=True))
        changes = judged(levels.change, told, counts, margin)
        values = estimates_of(levels.level, *counts)
        floor = lowest_of(self.lens.metric)
        rows = []
        for k, number in enumerate(m.clients):
            client = self.snapshot.clients[number]
            if self.lens.clients is not None and client.code not in self.lens.clients:
                continue
            hidden = bool(withheld(client, self.lens.metric))
            value = None if hidden or not m.tied[k] else values[k].at_least(floor)
            change = None if hidden else changes[k]
            scan = None if scanned[k] < 0 else int(scanned[k]) + EPOCH
            rows.append(ClientLevel(client, value, change, int(last[k]) + EPOCH, scan))
        rows.sort(key=lambda r: r.client.code)
        yield 1.0
        column = self.snapshot.columns[self.lens.metric]
        held = {int(column.client[r]) for _, found in m.waiting for r in found}
        codes = {self.snapshot.clients[k].code for k in held}
        waiting = tuple(sorted(codes & {r.client.code for r in rows}))
        return GroupResult(self.lens.metric, m.anchor.name, m.scanned, tuple(rows), waiting)
