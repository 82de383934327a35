"""Effect of excluded readings: each comparison without them and with them."""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import dataclass, replace
from types import MappingProxyType

import numpy as np

from ...domain.lens import Lens
from ...domain.snapshot import EXCLUDED, OK, Snapshot, read_only
from ..pairs.comparator import find_comparator
from .agreement import CompareResult, LadderRequest


@dataclass(frozen=True, eq=False)
class Sensitivity:
    """One instrument without and with its excluded readings (``excluded`` of them)."""

    excluded: int
    without: CompareResult
    with_them: CompareResult


@dataclass(frozen=True, slots=True)
class ExclusionsRequest:
    """How the bias of each instrument changes when excluded readings are included.

    Parameters
    ----------
    snapshot : Snapshot
        The study at one revision, with the columns of the lens' metric.
    lens : Lens
        Metric, reference, clients, setting and pairing window.
    """

    snapshot: Snapshot
    lens: Lens

    def run(self) -> Generator[float, None, tuple[Sensitivity, ...]]:
        """Yield progress; return one entry an instrument with excluded readings.

        None where nothing was excluded.
        """
        c = self.snapshot.columns.get(self.lens.metric)
        left_out = c.instrument[c.status == EXCLUDED] if c is not None else np.empty(0, np.int64)
        if c is None or not left_out.size:
            return ()
        of_scans = (
            find_comparator(self.snapshot, self.lens).id in left_out
        )  # those move every instrument
        only = None if of_scans else frozenset(left_out.tolist())
        without = yield from LadderRequest(self.snapshot, self.lens, only=only).run()
        back = replace(
            c,
            status=read_only(
                np.where((c.status == EXCLUDED) & ~np.isnan(c.value), OK, c.status), np.int64
            ),
        )
        columns = MappingProxyType({**self.snapshot.columns, self.lens.metric: back})
        with_them = yield from LadderRequest(
            replace(self.snapshot, columns=columns), self.lens, only=only
        ).run()
        found = []
        for a, b in zip(without, with_them, strict=False):
            own = (left_out == a.pairs.instrument.id) | (left_out == a.pairs.reference.id)
            n = int(own.sum())
            if n and a.pairs.instrument.id == b.pairs.instrument.id:
                found.append(Sensitivity(n, a, b))
        return tuple(found)
