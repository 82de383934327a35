"""Which devices behave alike.

Also which of their values are computed from each other, and whether the parts add up to body
mass.
"""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import dataclass
from itertools import combinations

import numpy as np

from ...domain.lens import Lens
from ...domain.metrics import metric_named
from ...domain.records import Instrument
from ...domain.snapshot import Columns, Floats, Ints, Snapshot, read_only
from ...stats.estimate import Estimate, Interval, Note, note
from ...stats.tallies import within
from ...stats.within_clients import centred, shared_correlation
from ..ask.question import Asked
from ..pairs.comparator import CannotCompare, readers_of, refuse_withheld
from ..pairs.series import Series, rows_of_instrument, series_of

LEAST_VISITS = 8
MOST_OF = 0.8  # share of the common visits that other devices must have for a course
AS_ONE = 0.9  # correlation beside the clients' course from which on two devices behave alike
SURELY = 0.6  # that its interval must exclude below
COMPUTED = 0.005  # relative SD of a quotient below which one value is computed from the other
# what makes up the body mass: fat, then one of these
_WHOLE = (
    ("fat_free_mass",),
    ("lean_soft_tissue", "bone_mineral_content"),
    ("total_muscle_mass", "bone_mineral_content"),
)
BALANCE_PERCENT = 1.0


@dataclass(frozen=True, slots=True)
class Alike:
    """Two instruments that behave alike beside the clients' course, on ``n`` visits."""

    first: str
    second: str
    r: Estimate
    n: int


@dataclass(frozen=True, slots=True)
class Computed:
    """Two values of one device whose quotient hardly varies: mean, relative SD, visits."""

    instrument: str
    top: str
    bottom: str
    ratio: float
    spread: float
    n: int


@dataclass(frozen=True, slots=True)
class Balance:
    """Parts of one device compared with its body mass.

    What is missing on average and at most, in percent of body mass, over ``n`` visits.
    """

    instrument: str
    parts: tuple[str, ...]
    mean: float
    worst: float
    n: int


@dataclass(frozen=True, eq=False)
class RedundancyResult:
    """Correlations beside the clients' course, shape (k, k), with 95 % intervals.

    ``known`` shows where there is a value; ``visits`` is the number of visits behind each.

    ``groups`` are instruments that move as one with each other, in the order of ``names``.
    """

    asked: Asked
    metric: str
    names: tuple[str, ...]
    r: Floats
    low: Floats
    high: Floats
    known: Ints
    visits: Ints
    alike: tuple[Alike, ...]
    groups: tuple[tuple[str, ...], ...]
    computed: tuple[Computed, ...]
    balances: tuple[Balance, ...]
    notes: tuple[Note, ...]


@dataclass(frozen=True, slots=True)
class RedundancyRequest:
    """Which devices and methods behave alike within clients.

    Parameters
    ----------
    snapshot : Snapshot
        The study at one revision, with the columns of every metric that devices show.
    lens : Lens
        Metric, clients and setting.

    Raises
    ------
    CannotCompare
        From ``run``: nothing was read of the metric.
    """

    snapshot: Snapshot
    lens: Lens

    def run(self) -> Generator[float, None, RedundancyResult]:
        """Yield progress; return the result."""
        refuse_withheld(self.snapshot, self.lens, self.lens.metric)
        items = [
            i
            for i in readers_of(self.snapshot, self.lens.metric)
            if i.kind != "reference" and not i.equation
        ]
        if len(items) < 2:
            raise CannotCompare("not enough data: needs two devices with readings of this metric")
        c = self.snapshot.columns[self.lens.metric]
        series = [
            series_of(c, rows_of_instrument(self.snapshot, self.lens, i, self.lens.metric))
            for i in items
        ]
        noise = [
            _noise(c, rows_of_instrument(self.snapshot, self.lens, i, self.lens.metric))
            for i in items
        ]
        k = len(items)
        r, low, high = np.eye(k), np.eye(k), np.eye(k)
        known, visits = np.eye(k, dtype=np.int64), np.zeros((k, k), dtype=np.int64)
        alike: list[Alike] = []
        for done, (a, b) in enumerate(combinations(range(k), 2), start=1):
            others = [s for i, s in enumerate(series) if i not in (a, b)]
            found, n = _together(series[a], series[b], others, (noise[a], noise[b]))
            visits[a, b] = visits[b, a] = n
            if found is not None:
                r[a, b] = r[b, a] = found.value
                ends = found.interval or Interval(-1.0, 1.0)
                low[a, b] = low[b, a] = ends.low
                high[a, b] = high[b, a] = ends.high
                known[a, b] = known[b, a] = 1
                if found.value >= AS_ONE and ends.low >= SURELY:
                    alike.append(Alike(items[a].name, items[b].name, found, n))
            yield 0.8 * done / (k * (k - 1) / 2)
        order = _order(r)
        notes = [] if known.all() else [note("few_common_visits", least=LEAST_VISITS)]
        devices = [i for i in self.snapshot.instruments.values() if i.kind == "device"]
        result = RedundancyResult(
            asked=Asked(self.snapshot.revision, self.lens),
            metric=self.lens.metric,
            names=tuple(items[i].name for i in order),
            r=read_only(r[np.ix_(order, order)], np.float64),
            low=read_only(low[np.ix_(order, order)], np.float64),
            high=read_only(high[np.ix_(order, order)], np.float64),
            known=read_only(known[np.ix_(order, order)], np.int64),
            visits=read_only(visits[np.ix_(order, order)], np.int64),
            alike=tuple(alike),
            groups=_groups(tuple(items[i].name for i in order), alike),
            computed=tuple(
                x for i in devices for x in computed_values(self.snapshot, self.lens, i)
            ),
            balances=tuple(x for i in devices for x in mass_balance(self.snapshot, self.lens, i)),
            notes=tuple(notes),
        )
        yield 1.0
        return result


def _noise(c: Columns, rows: Ints) -> float:
    """Variance of one reading by repeats of one set; 0 where there are none."""
    if not rows.size:
        return 0.0
    key = c.visit[rows] * (int(c.setting.max(initial=0)) + 1) + c.setting[rows]
    return within(key, c.value[rows]).variance or 0.0


def _course(others: list[Series], visits: Ints, within_: Ints) -> Floats | None:
    """What the other devices show of these visits, each less its mean; None where none was read.

    A visit that none of them has counts as no departure.
    """
    total, count = np.zeros(visits.size), np.zeros(visits.size)
    for s in others:
        found, first = np.unique(s.visit, return_index=True)
        place = np.minimum(np.searchsorted(found, visits), found.size - 1)
        there = np.flatnonzero(found[place] == visits) if found.size else np.empty(0, np.int64)
        if there.size:
            own = centred(s.mean[first[place[there]]], within_[there])
            total[there] += own
            count[there] += 1
    if not (count > 0).mean() >= MOST_OF:
        return None
    return np.asarray(total / np.maximum(count, 1), dtype=float)


def _together(
    a: Series, b: Series, others: list[Series], noise: tuple[float, float]
) -> tuple[Estimate | None, int]:
    """Correlation of two series beside the clients' course, on common visits.

    The straight course of each client is removed, and what other devices show of the visit.
    """
    _, at, other = np.intersect1d(a.visit, b.visit, return_indices=True)
    if at.size < LEAST_VISITS:
        return None, int(at.size)
    _, groups = np.unique(
        np.stack([a.client[at], a.setting[at], b.setting[other]]), axis=1, return_inverse=True
    )
    own = (noise[0] * float((1 / a.size[at]).mean()), noise[1] * float((1 / b.size[other]).mean()))
    found = shared_correlation(
        a.mean[at],
        b.mean[other],
        groups,
        a.instant[at] / 604800.0,
        _course(others, a.visit[at], groups),
        own,
    )
    return found, int(at.size)


def _order(r: Floats) -> list[int]:
    """Order instruments so that similar ones stand together.

    It begins with the most similar pair; the one most similar to the last follows.
    """
    k = r.shape[0]
    off = r - 2 * np.eye(k)
    first = int(np.unravel_index(int(off.argmax()), off.shape)[0])
    order = [first]
    while len(order) < k:
        rest = [i for i in range(k) if i not in order]
        order.append(max(rest, key=lambda i: r[order[-1], i]))
    return order


def _groups(names: tuple[str, ...], alike: list[Alike]) -> tuple[tuple[str, ...], ...]:
    """Instruments linked by pairs that move as one."""
    group = {name: k for k, name in enumerate(names)}
    for pair in alike:
        old, new = group[pair.second], group[pair.first]
        group = {name: new if g == old else g for name, g in group.items()}
    found = [tuple(n for n in names if group[n] == g) for g in dict.fromkeys(group.values())]
    return tuple(g for g in found if len(g) > 1)


def computed_values(snapshot: Snapshot, lens: Lens, item: Instrument) -> list[Computed]:
    """Pairs of a device's values in one unit whose ratio varies by less than half a percent.

    One of them is computed from the other.

    The body mass itself is left out as a numerator, and so are pairs of a value that hardly varies.
    """
    kept: dict[str, Series] = {}
    for metric, c in snapshot.columns.items():
        rows = rows_of_instrument(snapshot, lens, item, metric)
        m = metric_named(metric)
        if rows.size >= LEAST_VISITS and m is not None and m.dimension in ("mass", "percent"):
            kept[metric] = series_of(c, rows)
    out = []
    for top, bottom in combinations(kept, 2):
        a, b = metric_named(top), metric_named(bottom)
        if a is None or b is None or a.dimension != b.dimension:
            continue
        _, at, other = np.intersect1d(kept[top].visit, kept[bottom].visit, return_indices=True)
        x, y = kept[top].mean[at], kept[bottom].mean[other]
        if (
            at.size < LEAST_VISITS
            or min(float(x.min()), float(y.min())) <= 0
            or float(x.std()) < 0.01 * float(x.mean())
        ):
            continue
        ratio = x / y
        spread = float(ratio.std() / ratio.mean())
        if spread < COMPUTED:
            out.append(Computed(item.name, top, bottom, float(ratio.mean()), spread, int(at.size)))
    return out


def mass_balance(snapshot: Snapshot, lens: Lens, item: Instrument) -> list[Balance]:
    """Fat plus fat-free mass (or its parts) beside the body mass of the visit."""
    kept: dict[str, Series] = {}
    for metric in ("body_mass", "fat_mass", *(m for parts in _WHOLE for m in parts)):
        c = snapshot.columns.get(metric)
        rows = (
            rows_of_instrument(snapshot, lens, item, metric)
            if c is not None
            else np.empty(0, dtype=np.int64)
        )
        if c is not None and rows.size:
            kept[metric] = series_of(c, rows)
    out = []
    for parts in _WHOLE:
        needed = ("body_mass", "fat_mass", *parts)
        if any(m not in kept for m in needed):
            continue
        visits = kept["body_mass"].visit
        for m in needed[1:]:
            visits = np.intersect1d(visits, kept[m].visit)
        if not visits.size:
            continue
        value = {m: _at(kept[m], visits) for m in needed}
        missing = (
            100 * (value["body_mass"] - sum(value[m] for m in needed[1:])) / value["body_mass"]
        )
        out.append(
            Balance(
                item.name,
                needed[1:],
                float(missing.mean()),
                float(missing[np.abs(missing).argmax()]),
                int(visits.size),
            )
        )
    return out


def _at(series: Series, visits: Ints) -> Floats:
    """Values at visits that the series has, the first of each."""
    found, first = np.unique(series.visit, return_index=True)
    return np.asarray(series.mean[first[np.searchsorted(found, visits)]], dtype=float)
