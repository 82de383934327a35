"""The state-space model of a study in one metric: sources, sets of repeats, and what they tell."""

from __future__ import annotations

import math
from collections.abc import Generator
from dataclasses import dataclass, replace
from datetime import date
from weakref import WeakKeyDictionary

import numpy as np
import numpy.typing as npt

from ...domain.catalogue import Catalogue
from ...domain.lens import Lens
from ...domain.metrics import metric_named
from ...domain.records import Instrument
from ...domain.scan_precision import assumed_sd
from ...domain.snapshot import OK, Columns, Floats, Ints, Snapshot
from ...methods.registry import EQUATIONS
from ...stats.best_estimate import Observations
from ...stats.client_course import Model
from ...stats.estimate import Estimate, FrozenArrays
from ...stats.offsets import day_to_day
from ...stats.source_spreads import Sources, estimate_levels, spreads_of
from ..pairs.comparator import CannotCompare, find_comparator, readers_of
from ..pairs.reference_slopes import shows_too_little
from ..review.finding import Finding
from ..review.held_back import held_back
from .copies import COPY, Copies, copies
from .device_slopes import device_slopes
from .shared_inputs import FORMULA, NO_SCATTER, SAME_INPUTS, measured_inputs, sharing

MOST_CLIENTS = 60  # that the model is made from; more would tell the same and take longer
STUCK = "stuck"
LEAST_DAYS = 3  # days beside each client's first from which one value is told from scatter
EPOCH = date(1970, 1, 1).toordinal()
SLOPES, SLOPE_ENDS = 0.25, (0.0, 1.5)  # SD of slopes between devices, and their ends (assumed)
FEW_DF = 4.0  # where too little is repeated to tell the noise of readings without a scan
# what a metric changes by in comparison with percentage points of fat (assumed)
SCALES = {"pp": 1.0, "kg": 1.5, "cm": 1.5, "mm": 2.0}


@dataclass(frozen=True, eq=False)
class StudyModel(FrozenArrays):
    """One model of all clients in one metric.

    Attributes
    ----------
    anchor : Instrument
        The scan; without one the instrument with the most readings, by which the others are told.
    scanned : bool
        Whether ``anchor`` is a scan.
    data : Observations
        Sets of repeats of all clients. Source 0 is the anchor.
    clients : tuple of int
        Clients by their place in ``data``.
    keys : tuple of (int, int)
        Instrument and setting of each source.
    first, rows : ndarray of int
        The readings of set k are ``rows[first[k]:first[k + 1]]`` of the snapshot's columns.
    left_out : tuple of (str, str)
        Instruments that count for nothing, with the reason.
    repeated : ndarray of int
        Rows of other devices that count for nothing: the same reading under another name.
    model : Model
        What all clients tell.
    df : float
        Degrees of freedom of the intervals.
    waiting : tuple of (Finding, tuple of int)
        Findings of the review that nobody has decided about, with the rows that wait for it.
    """

    anchor: Instrument
    scanned: bool
    data: Observations
    clients: tuple[int, ...]
    keys: tuple[tuple[int, int], ...]
    first: Ints
    rows: Ints
    left_out: tuple[tuple[str, str], ...]
    repeated: Ints
    model: Model
    df: float
    waiting: tuple[tuple[Finding, tuple[int, ...]], ...] = ()

    @property
    def last(self) -> Ints:
        """Day of each client's last reading, shape (c,)."""
        out = np.zeros(len(self.clients), dtype=np.int64)
        np.maximum.at(out, self.data.client, self.data.day)
        return out


@dataclass(frozen=True, slots=True)
class StudyModelRequest:
    """The model of a study; made once for each revision of the readings.

    Parameters
    ----------
    snapshot : Snapshot
        The study at one revision, with the column of the lens' metric.
    lens : Lens
        Metric and reference; its other filters do not count.

    Raises
    ------
    CannotCompare
        From ``run``: no readings, or several scans and none chosen.
    """

    snapshot: Snapshot
    lens: Lens

    def run(self) -> Generator[float, None, StudyModel]:
        """Yield progress; return the model."""
        s, metric = self.snapshot, self.lens.metric
        if metric not in s.columns:
            raise CannotCompare("there are no readings of this metric")
        held = held_back(s, metric)
        waiting = tuple(x for _, rows in held.findings for x in rows)
        key = (self.lens.reference, self.lens.window_hours)
        kept = _KEPT.setdefault(s.columns[metric], {})
        if key in kept and kept[key][0] is s.catalogue and kept[key][1] == waiting:
            return kept[key][2]
        asked = self
        if waiting:
            asked = replace(self, snapshot=replace(s, columns={**s.columns, metric: held.columns}))
        made = replace((yield from asked._made()), waiting=held.findings)
        kept[key] = (s.catalogue, waiting, made)
        return made

    def _made(self) -> Generator[float, None, StudyModel]:
        s, metric = self.snapshot, self.lens.metric
        anchor, scanned = self._anchor()
        again, used, left_out, slopes, scan_sd = yield from self._sources(anchor, scanned)
        told = [anchor, *used]
        data, clients, keys, first, rows, within = self._sets(told, scanned, again.rows)
        yield 0.5
        numbers = {i.id: k - scanned for k, i in enumerate(told)}
        sources = _described(s, keys, numbers, slopes, scan_sd, metric)
        part = _part(data)
        spreads, gap = spreads_of(part, sources, within)
        last = np.zeros(int(part.client.max()) + 1, dtype=np.int64)
        np.maximum.at(last, part.client, part.day)
        origin = int(np.median(part.day))
        found = estimate_levels(part, spreads, gap, last, last, last, origin)
        yield 0.9
        held = np.unique(part.client[part.source == 0]).size
        df = float(2 * max(held - 1, 1)) if scanned else _own_df(data)
        return StudyModel(
            anchor=anchor,
            scanned=scanned,
            data=data,
            clients=clients,
            keys=keys,
            first=first,
            rows=rows,
            left_out=tuple(left_out.items()),
            repeated=again.rows,
            model=found.model,
            df=df,
        )

    def _anchor(self) -> tuple[Instrument, bool]:
        """The scan, else the instrument with the most readings; whether it is a scan."""
        s, metric = self.snapshot, self.lens.metric
        readers = readers_of(s, metric)
        if any(i.kind == "reference" for i in readers):
            found = find_comparator(s, self.lens)
            if found.kind == "reference":
                return found, True
            raise CannotCompare("all sources together need a scan as reference")
        read = [i for i in readers if not i.equation]
        if not read:
            raise CannotCompare("there are no readings of this metric")
        c = s.columns[metric]
        return max(read, key=lambda i: int((c.instrument == i.id).sum())), False

    def _sources(
        self, anchor: Instrument, scanned: bool
    ) -> Generator[
        float, None, tuple[Copies, list[Instrument], dict[str, str], dict[int, float], float]
    ]:
        """Copies, instruments that count, why others do not, slopes, and the error of a scan."""
        s, stated = self.snapshot, self.snapshot.catalogue.stated
        reference_sd = stated.get((self.lens.metric, "reference_sd"))
        used: list[Instrument] = []
        left_out: dict[str, str] = {}
        slopes: dict[int, float] = {}
        errors: list[float] = []
        items = [
            i for i in readers_of(s, self.lens.metric) if i.kind != "reference" and i is not anchor
        ]
        own = _one_of_each(items, self.lens.metric, left_out)
        again = copies(s.columns[self.lens.metric], own, None if scanned else anchor)
        for k, item in enumerate(own):
            slopes[item.id] = 1.0
            if _shows_one_value(s.columns[self.lens.metric], item):
                left_out[item.name] = NO_SCATTER
                continue
            if item.id in again.instruments:
                left_out[item.name] = COPY
                continue
            if scanned:
                found = device_slopes(s, self.lens, item, anchor)
                errors.append(found.scan_sd)
                if shows_too_little(found.follows):
                    left_out[item.name] = STUCK
                    continue
                slopes[item.id] = _slope(found.follows)
            used.append(item)
            yield 0.5 * (k + 1) / len(items)
        alone = reference_sd or _usual_scan_sd(s.columns[self.lens.metric], anchor)
        return again, used, left_out, slopes, max(errors, default=alone)

    def _sets(
        self, told: list[Instrument], scanned: bool, repeated: Ints
    ) -> tuple[Observations, tuple[int, ...], tuple[tuple[int, int], ...], Ints, Ints, Floats]:
        """Means of sets of repeats, clients, sources, the rows of each set, SDs of repeats.

        A scan is one source in all its settings.
        """
        c = self.snapshot.columns[self.lens.metric]
        items = {i.id: k for k, i in enumerate(told)}
        counts = (c.status == OK) & np.isin(c.instrument, list(items))
        counts[repeated] = False
        rows = np.flatnonzero(counts)
        settings = int(c.setting.max(initial=0)) + 1
        is_scan = (c.instrument[rows] == told[0].id) & scanned
        setting = np.where(is_scan, 0, c.setting[rows])
        place = np.array([items[i] for i in c.instrument[rows].tolist()], dtype=np.int64)
        found, source = np.unique(place * settings + setting, return_inverse=True)
        ids = [i.id for i in told]
        keys = tuple((ids[int(k) // settings], int(k) % settings) for k in found)
        order = np.lexsort((c.visit[rows], source, c.day[rows], c.client[rows]))
        rows, source = rows[order], source[order]
        cell_key = np.stack([c.client[rows], c.day[rows], source, c.visit[rows]])
        new = np.ones(rows.size, dtype=bool)
        new[1:] = (cell_key[:, 1:] != cell_key[:, :-1]).any(axis=0)
        cell, start = np.cumsum(new) - 1, np.flatnonzero(new)
        size = np.bincount(cell)
        mean = np.bincount(cell, c.value[rows]) / size
        gap = c.value[rows] - mean[cell]
        square = np.bincount(source, gap**2, len(keys))
        df = np.bincount(source, 1 - 1 / size[cell], len(keys))
        within = np.sqrt(square / np.maximum(df, 1))
        clients = np.unique(c.client[rows])
        data = Observations(
            np.searchsorted(clients, c.client[rows][start]),
            c.day[rows][start],
            source[start],
            mean,
            size,
        )
        return (
            data,
            tuple(int(k) for k in clients),
            keys,
            np.append(start, rows.size),
            rows,
            within,
        )


# with each column of readings, which never changes, and gone with it; what a catalogue says of
# instruments is part of a model, and so is which rows wait
_Key = tuple[str | None, float]
_Kept = dict[_Key, tuple[Catalogue, tuple[int, ...], StudyModel]]
_KEPT: WeakKeyDictionary[Columns, _Kept] = WeakKeyDictionary()


def _part(data: Observations) -> Observations:
    """Readings of at most so many clients: those with scans first, spread over the study."""
    known, others = np.unique(data.client[data.source == 0]), np.unique(data.client)
    rest = np.setdiff1d(others, known)
    kept = (_spread_over(known, MOST_CLIENTS), _spread_over(rest, MOST_CLIENTS - known.size))
    return data.of_clients(np.unique(np.concatenate(kept)))


def _spread_over(clients: Ints, most: int) -> Ints:
    n = min(max(most, 0), clients.size)
    return clients[np.linspace(0, clients.size - 1, n).round().astype(np.int64)]


def _shows_one_value(c: Columns, item: Instrument) -> bool:
    """Whether an instrument shows each client the same value on all of several days."""
    rows = np.flatnonzero((c.status == OK) & (c.instrument == item.id))
    clients, at = np.unique(c.client[rows], return_inverse=True)
    first = np.full(clients.size, -1, dtype=np.int64)
    first[at[::-1]] = rows[::-1]
    days = np.unique(np.stack([c.client[rows], c.day[rows]]), axis=1).shape[1]
    return days >= clients.size + LEAST_DAYS and bool((c.value[rows] == c.value[first[at]]).all())


def _usual_scan_sd(c: Columns, anchor: Instrument) -> float:
    """SD of one scan where no device is paired with any: the middle of the usual range."""
    shown = c.value[(c.status == OK) & (c.instrument == anchor.id)]
    return math.sqrt(math.prod(assumed_sd(c.metric, float(shown.mean()) if shown.size else 0.0)))


def _slope(follows: Estimate | None) -> float:
    """What a device shows of a change of 1, shrunk towards 1 as far as it is uncertain."""
    if follows is None or follows.se is None:
        return 1.0
    known = SLOPES**2 / (SLOPES**2 + follows.se**2)
    return float(np.clip(1 + known * (follows.value - 1), *SLOPE_ENDS))


def _own_df(data: Observations) -> float:
    """Degrees of freedom of the anchor's SD from day to day where it is no scan."""
    own = np.flatnonzero(data.source == 0)
    found = day_to_day(data.value[own], data.client[own], data.day[own])
    return FEW_DF if found is None else max(found[1], FEW_DF)


def _one_of_each(
    items: list[Instrument], metric: str, left_out: dict[str, str]
) -> list[Instrument]:
    """Devices, and of equations that share a measurement the one with the smallest error.

    Those computed from height, mass, age and sex alone repeat the body mass, and are left out.
    """
    kept = [i for i in items if not i.equation]
    measured = []
    for item in items:
        inputs = measured_inputs(item)
        if inputs:
            measured.append((inputs, item))
        elif inputs is not None:
            left_out[item.name] = FORMULA
    for members in sharing(measured):
        best = min(members, key=lambda i: EQUATIONS[i.equation].error_in(metric) or 99.0)
        kept.append(best)
        left_out.update({i.name: SAME_INPUTS for i in members if i is not best})
    return kept


def _described(
    s: Snapshot,
    keys: tuple[tuple[int, int], ...],
    numbers: dict[int, int],
    slopes: dict[int, float],
    scan_sd: float,
    metric: str,
) -> Sources:
    items = [s.instruments[item] for item, _ in keys]
    impedance: list[bool] = [i.is_impedance and i.kind == "device" for i in items]
    known = metric_named(metric)
    device = np.array([numbers[i.id] for i in items], dtype=np.int64)
    shares: npt.NDArray[np.bool_] = np.array(impedance) & (device >= 0)
    return Sources(
        device,
        np.array([slopes.get(i.id, 1.0) for i in items]),
        shares,
        scan_sd,
        np.zeros(len(keys)),
        SCALES.get(known.difference_unit, 1.0) if known is not None else 1.0,
        told_by=0 if numbers[items[0].id] == 0 else -1,
    )
