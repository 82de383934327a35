"""Is the instrument consistent? Repeats minutes apart, and days apart."""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import dataclass

import numpy as np

from ...domain.lens import Lens
from ...domain.metrics import metric_of
from ...domain.records import Instrument
from ...domain.snapshot import Floats, Ints, Snapshot, read_only
from ...stats.estimate import Note
from ...stats.near_days import NEAR_DAYS
from ...stats.repeatability import Repeatability, repeatability
from ..ask.question import Asked
from ..pairs.comparator import CannotCompare, readers_of, refuse_withheld
from ..pairs.repeat_spread import outliers_named
from ..pairs.series import instrument_asked, rows_of_instrument


@dataclass(frozen=True, eq=False)
class RepeatabilityResult:
    """Repeatability of one instrument.

    ``deviation`` (n,) of each repeated reading from its tally's mean, ``client`` and
    ``reading`` of it.
    """

    asked: Asked
    instrument: Instrument
    metric: str
    found: Repeatability
    deviation: Floats
    level: Floats
    client: Ints
    reading: Ints
    notes: tuple[Note, ...]


@dataclass(frozen=True, slots=True)
class RepeatabilityRequest:
    """How repeats of instruments differ, minutes apart and from day to day.

    Parameters
    ----------
    snapshot : Snapshot
        The study at one revision, with the columns of the lens' metric.
    lens : Lens
        Metric, reference, clients, setting and pairing window.
    instrument : str
        Name of one instrument; empty for all that have the metric.
    near_days : float
        Days between visits whose differences count as variation from day to day, up to 7.

    Raises
    ------
    CannotCompare
        From ``run``: nothing was read of the metric.
    """

    snapshot: Snapshot
    lens: Lens
    instrument: str = ""
    near_days: float = NEAR_DAYS

    def run(self) -> Generator[float, None, tuple[RepeatabilityResult, ...]]:
        """Yield progress; return one result an instrument, in the study's order."""
        refuse_withheld(self.snapshot, self.lens, self.lens.metric)
        if self.instrument:
            items = [instrument_asked(self.snapshot, self.instrument)]
        else:
            items = [i for i in readers_of(self.snapshot, self.lens.metric) if not i.equation]
        if not items or self.snapshot.columns.get(self.lens.metric) is None:
            metric = metric_of(self.lens.metric)
            raise CannotCompare(f"no readings of {metric.name} yet")
        out = []
        for k, item in enumerate(items):
            out.append(_of(self.snapshot, self.lens, item, self.near_days))
            yield (k + 1) / len(items)
        return tuple(out)


def _of(snapshot: Snapshot, lens: Lens, item: Instrument, near_days: float) -> RepeatabilityResult:
    c, notes = snapshot.columns[lens.metric], list[Note]()
    rows = rows_of_instrument(snapshot, lens, item, lens.metric, notes)
    settings = int(c.setting.max(initial=0)) + 1
    # tallies are numbered in the order of client, setting and time, so that neighbours in a series
    # are neighbours in time; numbers of
    # visits are not in that order where older ones were entered later
    _, cell = np.unique(c.visit[rows] * settings + c.setting[rows], return_inverse=True)
    start = np.full(rows.size, np.inf)
    np.minimum.at(start, cell, c.instant[rows])
    order = rows[
        np.lexsort(
            (
                c.replicate[rows],
                c.instant[rows],
                c.visit[rows],
                start[cell],
                c.setting[rows],
                c.client[rows],
            )
        )
    ]
    key = c.visit[order] * settings + c.setting[order]
    tally = (
        np.cumsum(np.append(True, np.diff(key) != 0)) - 1
        if order.size
        else np.empty(0, dtype=np.int64)
    )
    series = c.client[order] * settings + c.setting[order]
    found = repeatability(
        tally,
        c.value[order],
        c.replicate[order],
        series,
        c.day[order],
        near_days=near_days,
        client=c.client[order],
    )
    size = np.bincount(tally) if order.size else np.empty(0)
    mean = np.bincount(tally, c.value[order]) / np.maximum(size, 1) if order.size else np.empty(0)
    several = size[tally] > 1 if order.size else np.empty(0, dtype=bool)
    outliers = outliers_named(
        tally, c.value[order], c.client[order], c.instant[order], snapshot.catalogue, lens.metric
    )
    return RepeatabilityResult(
        asked=Asked(snapshot.revision, lens),
        instrument=item,
        metric=lens.metric,
        found=found,
        deviation=read_only(
            (c.value[order] - mean[tally])[several] if order.size else [], np.float64
        ),
        level=read_only(mean[tally][several] if order.size else [], np.float64),
        client=read_only(c.client[order][several], np.int64),
        reading=read_only(c.reading[order][several], np.int64),
        notes=(*notes, *outliers, *found.notes),
    )
