"""The best estimate: one level per client from every scan and every device."""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import dataclass, replace
from datetime import date

import numpy as np
import numpy.typing as npt

from ...domain.lens import Lens
from ...domain.metrics import is_fat, metric_named
from ...domain.records import Client, Instrument
from ...domain.snapshot import OK, Floats, Ints, Snapshot
from ...methods.registry import EQUATIONS
from ...stats.best_estimate import Course, Observations, course_of
from ...stats.distributions import t_estimate, t_quantile
from ...stats.estimate import Estimate, FrozenArrays, Note, note
from ...stats.one_client import LIKELY, NOISE, REAL, beyond_margin
from ...stats.source_spreads import Estimated, Sources, estimate_levels, spreads_of
from ..pairs.comparator import CannotCompare, find_comparator, readers_of
from ..pairs.drift_or_response import following
from ..pairs.pairing import pair
from ..pairs.reference_slopes import scan_error, shows_too_little
from ..people.cautions import fat_unseen
from .votes import measured_inputs

WEEKS_BACK = 4  # the change that is told unless other days are asked about
MOST_CLIENTS = 60  # beside whom a client is estimated; more would tell the same and take longer
COURSE_DAYS = 120  # at most so many days of the course
_EPOCH = date(1970, 1, 1).toordinal()


@dataclass(frozen=True, slots=True)
class SourceShare:
    """One source of a client's value: instrument and setting, days, and its share.

    ``share`` is its part of what all readings tell of the value; ``why`` it counts for nothing:
    "" where it counts, else stuck, formula or same_inputs.
    """

    name: str
    setting: str
    days: int
    share: float
    why: str


@dataclass(frozen=True, eq=False)
class SourcePoints(FrozenArrays):
    """Readings of one source, ordinals and values (n,), less what it differs from the course."""

    name: str
    setting: str
    scan: bool
    day: Ints
    value: Floats


@dataclass(frozen=True, eq=False)
class BestEstimateResult(FrozenArrays):
    """The level of one client from all sources.

    ``day`` (q,) are ordinals of the course, ``level`` and ``half`` (q,) its values with half the
    95 % interval. ``change`` is between ``since`` and ``until`` (ordinals), ``exceeds`` the
    probability that it is larger than the margin.
    """

    client: Client
    metric: str
    value: Estimate
    at: int
    change: Estimate
    since: int
    until: int
    kind: str
    exceeds: float | None
    scans: int
    devices: int
    mornings: int
    day: Ints
    level: Floats
    half: Floats
    sources: tuple[SourceShare, ...]
    points: tuple[SourcePoints, ...]
    scan_sd: float
    correlation: float
    notes: tuple[Note, ...]


@dataclass(frozen=True, slots=True)
class BestEstimateRequest:
    """The level of one client from every scan and every device of the study.

    Parameters
    ----------
    snapshot : Snapshot
        The study at one revision, with the column of the lens' metric.
    lens : Lens
        Metric and reference; its other filters do not count.
    client : str
        Code of the client.
    since, until : int, optional
        Ordinals of the two days of the change; by default the last four weeks.

    Raises
    ------
    CannotCompare
        From ``run``: no such client, nothing may be shown, no scan in the study, or no readings.
    """

    snapshot: Snapshot
    lens: Lens
    client: str
    since: int | None = None
    until: int | None = None

    def run(self) -> Generator[float, None, BestEstimateResult]:
        """Yield progress; return the result."""
        s, metric = self.snapshot, self.lens.metric
        client = s.catalogue.client_coded(self.client)
        if client is None:
            raise CannotCompare("choose a client")
        if metric_named(metric) is None or not is_fat(metric):
            raise CannotCompare("the best estimate is made of body fat only")
        if fat_unseen(client):
            raise CannotCompare(
                f"{client.code}: history of disordered eating: no fat number is shown"
            )
        reference = find_comparator(s, replace(self.lens, setting=None, clients=None))
        if reference.kind != "reference":
            raise CannotCompare("the best estimate needs a scan in the study")
        used, left_out, slopes, scan_sd = yield from self._sources(reference)
        data, codes, keys, within = self._observations(reference, used, client)
        if client.id not in codes:
            raise CannotCompare(f"{client.code} has no readings of this metric")
        yield 0.5
        sources = _described(s, keys, used, slopes, scan_sd)
        spreads, gap = spreads_of(data, sources, within)
        own = codes.index(client.id)
        last = np.zeros(len(codes), dtype=np.int64)
        np.maximum.at(last, data.client, data.day)
        since, until = last - 7 * WEEKS_BACK, last.copy()
        if self.since is not None:
            since[own] = self.since - _EPOCH
        if self.until is not None:
            until[own] = self.until - _EPOCH
        now, origin = np.maximum(last, until), int(np.median(data.day))
        found = estimate_levels(data, spreads, gap, since, until, now, origin)
        yield 0.9
        df = float(2 * max(np.unique(data.client[data.source == 0]).size - 1, 1))
        return self._result(
            client, own, data, keys, left_out, found, (since, until, now), origin, df
        )

    def _sources(
        self, reference: Instrument
    ) -> Generator[float, None, tuple[list[Instrument], dict[str, str], dict[int, float], float]]:
        """Instruments that count, why others do not, their slopes, and the error of one scan."""
        s, stated = self.snapshot, self.snapshot.catalogue.stated
        reference_sd = stated.get((self.lens.metric, "reference_sd"))
        lens = Lens(self.lens.metric, reference.name, window_hours=self.lens.window_hours)
        used: list[Instrument] = []
        left_out: dict[str, str] = {}
        slopes: dict[int, float] = {}
        errors: list[float] = []
        items = [i for i in readers_of(s, self.lens.metric) if i.kind != "reference"]
        for k, item in enumerate(_one_of_each(items, self.lens.metric, left_out)):
            pairs = pair(s, lens, item, reference)
            errors.append(scan_error(pairs, reference_sd).sd)
            follows = following(pairs, reference_sd)[0] if pairs.n else None
            if shows_too_little(follows):
                left_out[item.name] = "stuck"
                continue
            used.append(item)
            slopes[item.id] = 1.0
            i = None if follows is None else follows.interval
            if follows is not None and i is not None and not i.low <= 1 <= i.high:
                slopes[item.id] = float(np.clip(follows.value, 0.5, 1.5))
            yield 0.5 * (k + 1) / len(items)
        return used, left_out, slopes, max(errors, default=reference_sd or 1.0)

    def _observations(
        self, reference: Instrument, used: list[Instrument], client: Client
    ) -> tuple[Observations, list[int], list[tuple[int, int]], Floats]:
        """Means of sets of repeats; clients; instrument and setting of sources; SDs of repeats."""
        c = self.snapshot.columns[self.lens.metric]
        items = {reference.id: 0} | {i.id: k for k, i in enumerate(used, start=1)}
        rows = np.flatnonzero((c.status == OK) & np.isin(c.instrument, list(items)))
        scanned = c.instrument[rows] == reference.id
        rows = rows[np.isin(c.client[rows], _beside(c.client[rows], scanned, client.id))]
        settings = int(c.setting.max(initial=0)) + 1
        setting = np.where(c.instrument[rows] == reference.id, 0, c.setting[rows])
        place = np.array([items[i] for i in c.instrument[rows].tolist()], dtype=np.int64)
        found, source = np.unique(place * settings + setting, return_inverse=True)
        ids = [reference.id, *(i.id for i in used)]
        keys = [(ids[int(k) // settings], int(k) % settings) for k in found]
        if not (place == 0).any():
            raise CannotCompare("the best estimate needs a scan in the study")
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
        codes = np.unique(c.client[rows])
        data = Observations(
            np.searchsorted(codes, c.client[rows][start]),
            c.day[rows][start],
            source[start],
            mean,
            size,
        )
        return data, [int(k) for k in codes], keys, within

    def _result(
        self,
        client: Client,
        own: int,
        data: Observations,
        keys: list[tuple[int, int]],
        left_out: dict[str, str],
        found: Estimated,
        days: tuple[Ints, Ints, Ints],
        origin: int,
        df: float,
    ) -> BestEstimateResult:
        s, levels = self.snapshot, found.levels
        since, until, now = (int(d[own]) for d in days)
        mine = data.client == own
        first = min(int(data.day[mine].min()), since)
        course_days = np.unique(
            np.concatenate([np.linspace(first, now, COURSE_DAYS).astype(int), data.day[mine]])
        )
        course = course_of(data, found.spreads, found.common, own, course_days, origin)
        n = int(mine.sum())
        value = t_estimate(
            float(levels.value[own]), float(levels.value_sd[own]), df, n, "state-space"
        )
        change = t_estimate(
            float(levels.change[own]), float(levels.change_sd[own]), df, n, "state-space"
        )
        size = abs(change.value) / max(change.se or 0.0, 1e-12)
        kind = (
            REAL
            if size > t_quantile(0.975, df)
            else LIKELY
            if size > t_quantile(0.9, df)
            else NOISE
        )
        margin = s.catalogue.margin(metric_named(self.lens.metric))  # type: ignore[arg-type]
        told = self._shares(data, keys, course, mine)
        labels = {0: ""} | {i: x.label for i, x in s.settings.items()}
        scans = mine & (data.source == 0)
        notes = []
        if not scans.any():
            notes.append(note("no_scan_of_client", name=client.code))
        return BestEstimateResult(
            client=client,
            metric=self.lens.metric,
            value=value,
            at=now + _EPOCH,
            change=change,
            since=since + _EPOCH,
            until=until + _EPOCH,
            kind=kind,
            exceeds=None if margin is None else beyond_margin(change, margin),
            scans=int(np.unique(data.day[scans]).size),
            devices=len({keys[k][0] for k in np.unique(data.source[mine]) if k}),
            mornings=int(np.unique(data.day[mine & (data.source > 0)]).size),
            day=course_days + _EPOCH,
            level=course.level,
            half=t_quantile(0.975, df) * course.sd,
            sources=tuple(
                SourceShare(s.instruments[item].name, labels.get(setting, ""), count, share, "")
                for (item, setting), count, share in told
            )
            + tuple(SourceShare(name, "", 0, 0.0, why) for name, why in left_out.items()),
            points=self._points(data, keys, course, mine, labels),
            scan_sd=float(found.spreads.repeat[0]),
            correlation=found.spreads.correlation,
            notes=tuple(notes),
        )

    def _points(
        self,
        data: Observations,
        keys: list[tuple[int, int]],
        course: Course,
        mine: Ints,
        labels: dict[int, str],
    ) -> tuple[SourcePoints, ...]:
        """Readings by source; those of a device are moved to lie about the course."""
        out = []
        for k in np.unique(data.source[mine]).tolist():
            at = np.flatnonzero(mine & (data.source == k))
            day, value = data.day[at], data.value[at]
            if k:  # every day of a reading is a day of the course
                value = value - (value - course.level[np.searchsorted(course.day, day)]).mean()
            item, setting = keys[k]
            name = self.snapshot.instruments[item].name
            out.append(SourcePoints(name, labels.get(setting, ""), k == 0, day + _EPOCH, value))
        return tuple(out)

    @staticmethod
    def _shares(
        data: Observations, keys: list[tuple[int, int]], course: Course, mine: Ints
    ) -> list[tuple[tuple[int, int], int, float]]:
        return [
            (
                keys[k],
                int(np.unique(data.day[mine & (data.source == k)]).size),
                float(course.share[k]),
            )
            for k in np.unique(data.source[mine]).tolist()
        ]


def _beside(clients: Ints, scanned: npt.NDArray[np.bool_], own: int) -> Ints:
    """The client and at most so many others: those with scans first, spread over the study."""
    known, others = np.unique(clients[scanned]), np.unique(clients)
    rest = np.setdiff1d(others, known)
    room = MOST_CLIENTS - 1
    kept = (_spread_over(known, room), _spread_over(rest, room - known.size))
    return np.unique(np.concatenate([*kept, [own]]))


def _spread_over(clients: Ints, most: int) -> Ints:
    n = min(max(most, 0), clients.size)
    return clients[np.linspace(0, clients.size - 1, n).round().astype(np.int64)]


def _one_of_each(
    items: list[Instrument], metric: str, left_out: dict[str, str]
) -> list[Instrument]:
    """Devices, and of equations that share a measurement the one with the smallest error.

    Those computed from height, mass, age and sex alone repeat the body mass, and are left out.
    """
    kept = [i for i in items if not i.equation]
    groups: list[tuple[frozenset[str], list[Instrument]]] = []
    for item in items:
        inputs = measured_inputs(item)
        if inputs is None:
            continue
        if not inputs:
            left_out[item.name] = "formula"
            continue
        joined, members, apart = inputs, [item], []
        for other, own in groups:
            if other & joined:
                joined, members = joined | other, own + members
            else:
                apart.append((other, own))
        groups = [*apart, (joined, members)]
    for _, members in groups:
        best = min(members, key=lambda i: EQUATIONS[i.equation].error_in(metric) or 99.0)
        kept.append(best)
        left_out.update({i.name: "same_inputs" for i in members if i is not best})
    return kept


def _described(
    s: Snapshot,
    keys: list[tuple[int, int]],
    used: list[Instrument],
    slopes: dict[int, float],
    scan_sd: float,
) -> Sources:
    place = {i.id: k for k, i in enumerate(used)}
    items = [s.instruments[item] for item, _ in keys]
    return Sources(
        np.array([place.get(i.id, -1) for i in items], dtype=np.int64),
        np.array([slopes.get(i.id, 1.0) for i in items]),
        np.array([i.is_impedance and i.kind == "device" for i in items]),
        scan_sd,
        np.zeros(len(keys)),
    )
