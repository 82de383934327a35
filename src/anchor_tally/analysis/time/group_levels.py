"""All clients side by side: the level of each today, and its change over four weeks."""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import dataclass

import numpy as np

from ...domain.lens import Lens
from ...domain.metrics import is_fat
from ...domain.records import Client
from ...domain.snapshot import Snapshot
from ...stats.distributions import t_estimate
from ...stats.estimate import Estimate
from ...stats.source_spreads import levels_of
from ..people.cautions import fat_unseen
from .best_estimate import WEEKS_BACK, judged, margin_of
from .best_estimate_result import Change
from .study_model import EPOCH, StudyModelRequest


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
        last = m.last
        since = last - 7 * WEEKS_BACK
        levels = levels_of(m.data, m.model, since, last, last)
        yield 0.9
        scanned = np.full(last.size, -1, dtype=np.int64)
        if m.scanned:
            at = m.data.source == 0
            np.maximum.at(scanned, m.data.client[at], m.data.day[at])
        count = np.bincount(m.data.client, minlength=last.size)
        margin = margin_of(self.snapshot, self.lens.metric)
        rows = []
        for k, number in enumerate(m.clients):
            client = self.snapshot.clients[number]
            if self.lens.clients is not None and client.code not in self.lens.clients:
                continue
            value = change = None
            if not (is_fat(self.lens.metric) and fat_unseen(client)):
                n = int(count[k])
                if m.scanned or not is_fat(self.lens.metric):
                    value = t_estimate(
                        float(levels.value[k]), float(levels.value_sd[k]), m.df, n, "state-space"
                    )
                moved = t_estimate(
                    float(levels.change[k]), float(levels.change_sd[k]), m.df, n, "state-space"
                )
                change = judged(moved, (int(since[k]) + EPOCH, int(last[k]) + EPOCH), margin)
            scan = None if scanned[k] < 0 else int(scanned[k]) + EPOCH
            rows.append(ClientLevel(client, value, change, int(last[k]) + EPOCH, scan))
        rows.sort(key=lambda r: r.client.code)
        yield 1.0
        column = self.snapshot.columns[self.lens.metric]
        held = {int(column.client[r]) for _, found in m.waiting for r in found}
        codes = {self.snapshot.clients[k].code for k in held}
        waiting = tuple(sorted(codes & {r.client.code for r in rows}))
        return GroupResult(self.lens.metric, m.anchor.name, m.scanned, tuple(rows), waiting)
