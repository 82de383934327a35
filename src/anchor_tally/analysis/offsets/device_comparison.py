"""All devices beside the scan in every metric they share, with what each of them cannot show."""

from __future__ import annotations

from collections.abc import Generator, Iterable
from dataclasses import dataclass

import numpy as np

from ...domain.events import Event
from ...domain.lens import Lens
from ...domain.metrics import metric_named
from ...domain.records import Instrument
from ...domain.snapshot import FAILED, Snapshot
from ...domain.steps import finish, scaled
from ...stats.estimate import Estimate
from ..agreement.agreement import LadderRequest
from ..agreement.hydration import FAT, WATER, HydrationRequest
from ..agreement.repeatability import RepeatabilityRequest
from ..pairs.comparator import CannotCompare, find_comparator


@dataclass(frozen=True, slots=True)
class MetricDifference:
    """Mean difference device − scan in one metric.

    ``bias`` has an interval where there are enough clients; ``single`` is the difference of the
    only pair.
    """

    metric: str
    bias: Estimate | None
    single: float | None
    pairs: int
    clients: int


@dataclass(frozen=True, slots=True)
class DeviceSummary:
    """One device.

    ``repeat`` and ``day`` are SDs of the lens' metric minutes apart and days apart; ``water`` is
    pp of fat for 1 pp of body water within clients; ``missing`` are metrics of the scan that it
    does not show; ``set_by_hand`` are the days on which its level was set, with the text noted.
    """

    instrument: Instrument
    settings: tuple[str, ...]
    differences: tuple[MetricDifference, ...]
    repeat: Estimate | None
    day: Estimate | None
    water: Estimate | None
    circular: bool
    failed: int
    readings: int
    missing: tuple[str, ...]
    set_by_hand: tuple[tuple[str, str], ...]

    def of(self, metric: str) -> MetricDifference | None:
        """The difference in a metric."""
        return next((d for d in self.differences if d.metric == metric), None)


@dataclass(frozen=True, slots=True)
class DeviceComparison:
    """All devices of a study; ``metrics`` are those that the scan and a device share."""

    reference: str
    metric: str
    metrics: tuple[str, ...]
    devices: tuple[DeviceSummary, ...]
    clients: int
    scans: int


@dataclass(frozen=True, slots=True)
class DeviceComparisonRequest:
    """All devices beside the scan.

    Parameters
    ----------
    snapshot : Snapshot
        The study at one revision, with the columns of every metric to compare.
    lens : Lens
        Metric of the spreads, reference, clients, setting and pairing window.
    events : iterable of Event
        Noted changes, for levels that were set by hand.

    Raises
    ------
    CannotCompare
        From ``run``: no reference, or no readings of the lens' metric.
    """

    snapshot: Snapshot
    lens: Lens
    events: Iterable[Event] = ()

    def run(self) -> Generator[float, None, DeviceComparison]:
        """Yield progress; return the comparison."""
        s, lens = self.snapshot, self.lens
        reference = find_comparator(s, lens)
        shared = [
            m
            for m, c in s.columns.items()
            if (c.instrument == reference.id).any() and _comparable(m)
        ]
        found: dict[int, list[MetricDifference]] = {}
        clients, scans, of = 0, 0, len(shared) + 2
        for k, metric in enumerate(shared):
            asked = Lens(
                metric,
                lens.reference,
                lens.clients,
                window_hours=lens.window_hours,
                around=lens.around,
            )
            try:
                results = yield from scaled(LadderRequest(s, asked).run(), 1 / of, k / of)
            except CannotCompare:
                continue  # nothing but the scan shows it
            for r in results:
                p = r.pairs
                if p.instrument.equation or not p.n:
                    continue
                clients, scans = max(clients, p.clients), max(scans, p.occasions)
                found.setdefault(p.instrument.id, []).append(
                    MetricDifference(
                        metric, r.bias, float(p.d[0]) if p.n == 1 else None, p.n, p.clients
                    )
                )
        devices = [i for i in s.instruments.values() if not i.equation and i.kind == "device"]
        summaries = []
        for k, item in enumerate(devices):
            summaries.append(self._summary(item, tuple(found.get(item.id, ())), shared))
            yield (len(shared) + 2 * (k + 1) / len(devices)) / of
        kept = tuple(d for d in summaries if d.readings)
        metrics = tuple(m for m in shared if any(d.of(m) for d in kept))
        return DeviceComparison(reference.name, lens.metric, metrics, kept, clients, scans)

    def _summary(
        self, item: Instrument, differences: tuple[MetricDifference, ...], shared: list[str]
    ) -> DeviceSummary:
        s = self.snapshot
        repeat = day = water = None
        circular = False
        has = {m for m, c in s.columns.items() if (c.instrument == item.id).any()}
        if self.lens.metric in has:
            asked = Lens(self.lens.metric, clients=self.lens.clients)
            spread = finish(RepeatabilityRequest(s, asked, item.name).run())[0].found
            repeat, day = spread.sd, spread.day
        if {FAT, WATER} <= has:
            asked = Lens(FAT, clients=self.lens.clients)
            moved = finish(HydrationRequest(s, asked, item.name).run())[0]
            circular = moved.circular
            water = None if moved.slope is None else moved.slope.slope
        own = [(c, c.instrument == item.id) for c in s.columns.values()]
        used = {int(x) for c, rows in own for x in np.unique(c.setting[rows])}
        return DeviceSummary(
            item,
            tuple(s.settings[k].label for k in sorted(used) if k in s.settings),
            differences,
            repeat,
            day,
            water,
            circular,
            sum(int((c.status[rows] == FAILED).sum()) for c, rows in own),
            sum(int(rows.sum()) for _, rows in own),
            tuple(m for m in shared if m not in has),
            tuple(
                (e.starts, e.note)
                for e in self.events
                if e.instrument == item.id and e.kind == "set_by_hand"
            ),
        )


def _comparable(metric: str) -> bool:
    m = metric_named(metric)
    return m is not None and not m.device_only
