"""The state-space model of a study in one metric: sources, sets of repeats, and what they tell."""

from __future__ import annotations

import math
from collections.abc import Generator
from dataclasses import dataclass, replace
from datetime import UTC, date, datetime, tzinfo
from weakref import WeakKeyDictionary

import numpy as np
import numpy.typing as npt

from ...domain.catalogue import Catalogue
from ...domain.course_priors import CoursePrior, course_prior
from ...domain.instants import zone_named
from ...domain.lens import Lens
from ...domain.metrics import is_fat
from ...domain.records import Instrument
from ...domain.scan_precision import assumed_sd
from ...domain.snapshot import OK, Columns, Floats, Ints, Snapshot
from ...methods.registry import EQUATIONS
from ...stats.best_estimate import Observations
from ...stats.course_model import Model, fit_model
from ...stats.estimate import Estimate, FrozenArrays
from ...stats.source_spreads import Sources, rough_moves, spreads_of
from ..offsets.cross_validation import LEAST_CLIENTS
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
SLOPE_ENDS = (0.3, 1.5)  # slopes that the model begins with
# the usual range of the SD of a scan tells as much as so many degrees of freedom: a χ² whose SD
# has nine tenths of its probability in a range of 0.3 to 1.0
SCAN_DF = 8.0
NOON, LEAST_EACH = 14 * 3600, 3  # seconds of the day that part morning from evening; sets of each
MORNING, EVENING = 1, 2
WEEKS_BACK = 4  # the change that is told unless other days are asked about
FAR = 28  # days from a day asked for beyond which no measured one stands for it


_Slope = tuple[float, float]  # what a device shows of a change of 1, and its SD


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
    keys : tuple of (int, int, int)
        Instrument, setting and time of day (0, MORNING or EVENING) of each source.
    first, rows : ndarray of int
        The readings of set k are ``rows[first[k]:first[k + 1]]`` of the snapshot's columns.
    left_out : tuple of (str, str)
        Instruments that count for nothing, with the reason.
    repeated : ndarray of int
        Rows of other devices that count for nothing: the same reading under another name.
    model : Model
        What all clients tell.
    tied : tuple of bool
        Whether the level of each of ``clients`` may be told: by an own scan, by a device whose
        differences from the scan are known of enough others, or without any scan in the study.
    waiting : tuple of (Finding, tuple of int)
        Findings of the review that nobody has decided about, with the rows that wait for it.
    """

    anchor: Instrument
    scanned: bool
    data: Observations
    clients: tuple[int, ...]
    keys: tuple[tuple[int, int, int], ...]
    first: Ints
    rows: Ints
    left_out: tuple[tuple[str, str], ...]
    repeated: Ints
    model: Model
    tied: tuple[bool, ...]
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
        prior = course_prior(metric, float(data.value.mean()))
        devices = _devices_of(data, keys, scanned)
        sources = _described(s, keys, devices, slopes, scan_sd, prior)
        data = replace(data, moved=rough_moves(data, sources.device, sources.slope))
        part = _part(data)
        known = spreads_of(data.of_clients(part), sources, within)
        stated = (metric, "reference_sd") in s.catalogue.stated
        level_df = min(known.day_df, SCAN_DF) if scanned and not stated else known.day_df
        model = fit_model(
            data.of_clients(part),
            known,
            prior.wander,
            np.array([clients[k] for k in part.tolist()]),
            days_of_change(data.of_clients(part)),
            int(np.median(data.day)),
            (level_df, known.day_df),
        )
        yield 0.9
        serves = prior.carries if scanned else not is_fat(metric)
        tied = _tied(data, sources.device, serves=serves)
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
            model=model,
            tied=tuple(tied.tolist()),
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
        float, None, tuple[Copies, list[Instrument], dict[str, str], dict[int, _Slope], float]
    ]:
        """Copies, instruments that count, why others do not, slopes, and the error of a scan."""
        s, stated = self.snapshot, self.snapshot.catalogue.stated
        reference_sd = stated.get((self.lens.metric, "reference_sd"))
        used: list[Instrument] = []
        left_out: dict[str, str] = {}
        slopes: dict[int, _Slope] = {}
        errors: list[float] = []
        items = [
            i for i in readers_of(s, self.lens.metric) if i.kind != "reference" and i is not anchor
        ]
        own = _one_of_each(items, self.lens.metric, left_out)
        again = copies(s.columns[self.lens.metric], own, None if scanned else anchor)
        usual = course_prior(self.lens.metric, 1.0).response
        for k, item in enumerate(own):
            slopes[item.id] = (1.0, usual)
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
                slopes[item.id] = _slope(
                    found.follows, course_prior(self.lens.metric, 1.0).response
                )
            used.append(item)
            yield 0.5 * (k + 1) / len(items)
        alone = reference_sd or _usual_scan_sd(s.columns[self.lens.metric], anchor)
        return again, used, left_out, slopes, max(errors, default=alone)

    def _sets(
        self, told: list[Instrument], scanned: bool, repeated: Ints
    ) -> tuple[Observations, tuple[int, ...], tuple[tuple[int, int, int], ...], Ints, Ints, Floats]:
        """Means of sets of repeats, clients, sources, the rows of each set, SDs of repeats.

        A scan is one source in all its settings. What a client reads on a device in the morning
        and in the evening are two.
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
        zone = zone_named(self.snapshot.catalogue.zone)
        part = np.where(is_scan, 0, _times_of_day(c, rows, zone))
        parted = EVENING + 1
        found, source = np.unique((place * settings + setting) * parted + part, return_inverse=True)
        ids = [i.id for i in told]
        keys = tuple(
            (ids[k // parted // settings], k // parted % settings, k % parted)
            for k in found.tolist()
        )
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
            np.zeros(mean.size),
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


def measured_day(days: Ints, day: int) -> int:
    """The measured day nearest to a day; of two the earlier one."""
    return int(days[np.abs(days - day).argmin()]) if days.size else day


def measured_days(days: Ints, since: int | None, until: int) -> tuple[int, int]:
    """The two measured days of a change, equal where there is no change to tell.

    Parameters
    ----------
    days : ndarray of int, shape (n,)
        Days of a client's readings, in increasing order.
    since : int or None
        Day from which the change is asked for; None for four weeks before the second.
    until : int
        Day up to which.

    Notes
    -----
    A change is told between days on which something was measured. The first is the nearest to the
    one asked for, before the second; both lie within four weeks of the days asked for.
    """
    second = measured_day(days, until)
    asked = second - 7 * WEEKS_BACK if since is None else since
    before = days[days < second]
    if not before.size or abs(second - until) > FAR:
        return second, second
    first = measured_day(before, asked)
    if since is not None and abs(first - asked) > FAR:
        return second, second
    return first, second


def days_of_change(data: Observations) -> tuple[Ints, Ints, Ints]:
    """The days of each client's change over four weeks, and of the value, (c,) each."""
    ends = np.searchsorted(data.client, np.arange(int(data.client.max()) + 2))
    pairs = [
        measured_days(data.day[a:b], None, int(data.day[b - 1]))
        for a, b in zip(ends[:-1].tolist(), ends[1:].tolist(), strict=True)
    ]
    since, until = (np.array(x, dtype=np.int64) for x in zip(*pairs, strict=True))
    return since, until, until


def _tied(data: Observations, device: Ints, *, serves: bool) -> npt.NDArray[np.bool_]:
    """Whether the level of each client may be told, (c,).

    By an own scan; or by a device that was read by as many scanned clients as Calibrate asks for
    before an offset serves others: the interval has the spread between clients then.
    """
    clients = int(data.client.max()) + 1
    if serves:
        return np.ones(clients, dtype=bool)
    own = np.zeros(clients, dtype=bool)
    own[data.client[device[data.source] < 0]] = True
    key = np.unique(np.stack([device[data.source], data.client]), axis=1)
    scanned = np.bincount(key[0] + 1, own[key[1]])
    known = (scanned >= LEAST_CLIENTS) & (np.arange(scanned.size) > 0)
    if (device < 0).any():
        own[key[1][known[key[0] + 1]]] = True
    return own


def _times_of_day(c: Columns, rows: Ints, zone: tzinfo) -> Ints:
    """Morning and evening of rows whose client reads the device at both, 0 elsewhere, (n,)."""
    out = np.zeros(rows.size, dtype=np.int64)
    if not rows.size:
        return out
    middle = datetime.fromtimestamp(float(np.median(c.instant[rows])), UTC).astimezone(zone)
    offset = middle.utcoffset()
    apart = offset.total_seconds() if offset is not None else 0.0
    late = c.instant[rows] + apart - c.day[rows] * 86400.0 > NOON
    _, series = np.unique(
        np.stack([c.client[rows], c.instrument[rows], c.setting[rows]]), axis=1, return_inverse=True
    )
    series = series.ravel()
    _, first = np.unique(c.visit[rows] * (series.max() + 1) + series, return_index=True)
    first = first[c.timed[rows][first]]
    evenings = np.bincount(series[first], late[first], series.max() + 1)
    mornings = np.bincount(series[first], ~late[first], series.max() + 1)
    both = (np.minimum(evenings, mornings) >= LEAST_EACH)[series] & c.timed[rows]
    out[both] = np.where(late[both], EVENING, MORNING)
    return out


def _part(data: Observations) -> Ints:
    """At most so many clients: those with scans first, spread over the study, in order."""
    known, others = np.unique(data.client[data.source == 0]), np.unique(data.client)
    rest = np.setdiff1d(others, known)
    kept = (_spread_over(known, MOST_CLIENTS), _spread_over(rest, MOST_CLIENTS - known.size))
    return np.asarray(np.unique(np.concatenate(kept)))


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


def _slope(follows: Estimate | None, usual: float) -> tuple[float, float]:
    """What a device shows of a change of 1, and its SD.

    The mean given the scans, where devices differ by a usual SD about 1.
    """
    if follows is None or follows.se is None:
        return 1.0, usual
    known = usual**2 / (usual**2 + follows.se**2)
    value = float(np.clip(1 + known * (follows.value - 1), *SLOPE_ENDS))
    return value, usual * math.sqrt(1 - known)


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


def _devices_of(data: Observations, keys: tuple[tuple[int, int, int], ...], scanned: bool) -> Ints:
    """Number of the device of each source, −1 for scans, (s,).

    A device counts as another one in the evening, and in each setting where settings are read side
    by side: what errors they share is seen in how their steps go together.
    """
    _, place = np.unique([k[0] for k in keys], return_inverse=True)
    width = int(data.day.max()) + 1
    on = data.client * width + data.day
    read = np.unique(np.stack([place[data.source], on, data.source]), axis=1)
    days, settings = np.unique(read[:2], axis=1, return_counts=True)
    several = np.bincount(days[0], settings > 1, place.max() + 1)
    each = [
        (item, part == EVENING, setting if several[k] >= LEAST_EACH else 0)
        for k, (item, setting, part) in zip(place.tolist(), keys, strict=True)
    ]
    told = each[1:] if scanned else each
    numbers = {x: n for n, x in enumerate(dict.fromkeys(told))}
    return np.array([-1] * scanned + [numbers[x] for x in told], dtype=np.int64)


def _described(
    s: Snapshot,
    keys: tuple[tuple[int, int, int], ...],
    device: Ints,
    slopes: dict[int, _Slope],
    scan_sd: float,
    prior: CoursePrior,
) -> Sources:
    """What is known of the sources."""
    items = [s.instruments[item] for item, _, _ in keys]
    impedance: npt.NDArray[np.bool_] = np.array(
        [i.is_impedance and i.kind == "device" for i in items]
    ) & (device >= 0)
    morning: npt.NDArray[np.bool_] = np.array([part != EVENING for *_, part in keys])
    return Sources(
        device=device,
        slope=np.array([slopes[i.id][0] if i.id in slopes else 1.0 for i in items]),
        slope_sd=np.array([slopes[i.id][1] if i.id in slopes else prior.response for i in items]),
        shares_morning=impedance & morning,
        shifts=impedance,
        scan_sd=scan_sd,
        step=np.zeros(len(keys)),
        trend=prior.trend,
        day=prior.day,
        offset=prior.offset,
        drift=prior.drift,
        start=prior.start,
        told_by=-1 if (device < 0).any() else 0,
    )
