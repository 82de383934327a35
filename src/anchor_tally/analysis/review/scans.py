"""Rules beside the scans: a client whose offset is unlike the others', a scan at odds with all."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...domain.lens import Lens
from ...domain.metrics import metric_of
from ...domain.records import Instrument
from ...domain.snapshot import Floats, Ints
from ...stats.distributions import t_quantile
from ...stats.estimate import note
from ..pairs.comparator import CannotCompare, find_comparator, readers_of
from ..pairs.pairing import PairSet, pair
from .finding import Finding, Material

LEAST_CLIENTS = 6  # others that a client's offset is compared with, plus one
RARE = 0.0002  # two-sided p of a client's offset among those of the others
LARGE, SELDOM = 1.5, 0.001  # or so many margins, with this p
LEAST_ANCHORS = 8  # scans with devices from which the usual departure is taken
FAR = 5.0  # times the usual departure


@dataclass(frozen=True, eq=False)
class _Scans:
    """Differences of each device at each scan of one metric, (devices, scans); NaN where none."""

    difference: Floats
    client: Ints
    scan: Ints
    value: Floats
    instant: Ints


def client_offsets_apart(m: Material) -> list[Finding]:
    """Clients whose difference device − scan is unlike that of the other clients.

    A t test of the client's mean against the others' (leave one out).
    """
    out = []
    for pairs in _all_pairs(m):
        people, k = np.unique(pairs.client, return_inverse=True)
        n = people.size
        if n <= LEAST_CLIENTS:
            continue
        mean = np.bincount(k, pairs.d) / np.bincount(k)
        rest = (mean.sum() - mean) / (n - 1)
        ss = ((mean**2).sum() - mean**2) - (n - 1) * rest**2
        spread = np.sqrt(np.maximum(ss, 0.0) / (n - 2)) * np.sqrt(1 + 1 / (n - 1))
        gap = mean - rest
        t = np.abs(gap) / np.where(spread > 0, spread, np.inf)
        margin = m.snapshot.catalogue.margin(metric_of(pairs.metric))
        far = t > t_quantile(1 - RARE / 2, n - 2)
        if margin is not None:
            far |= (t > t_quantile(1 - SELDOM / 2, n - 2)) & (np.abs(gap) > LARGE * margin)
        for at in np.flatnonzero(far).tolist():
            metric = metric_of(pairs.metric)
            said = note(
                "review_client_offset",
                gap=float(gap[at]),
                mean=float(mean[at]),
                others=float(rest[at]),
                unit=metric.difference_unit,
            )
            rows = tuple(pairs.reading[k == at].tolist())
            out.append(
                Finding(
                    "client_offset",
                    "look",
                    said,
                    float(t[at]),
                    int(people[at]),
                    0,
                    pairs.instrument.id,
                    pairs.metric,
                    rows,
                )
            )
    return out


def scans_at_odds(m: Material) -> list[Finding]:
    """Scans from which all devices depart alike, far more than from the client's other scans."""
    out = []
    by_metric: dict[str, list[PairSet]] = {}
    for pairs in _all_pairs(m):
        by_metric.setdefault(pairs.metric, []).append(pairs)
    for name, found in by_metric.items():
        s = _scans(found)
        if s is None:
            continue
        middle, apart, level = _departures(s)
        known = ~np.isnan(apart)
        if known.sum() < LEAST_ANCHORS:  # clients with one scan have no other to compare it with
            continue
        usual = float(np.median(np.abs(middle[known]))) * 1.4826
        if usual <= 0:
            continue
        for who in np.unique(s.client[known]).tolist():
            own = np.flatnonzero(known & (s.client == who))
            # of two scans both depart: the one further from what other people's scans show
            at = int(own[np.lexsort((np.abs(level[own]), np.abs(apart[own]).round(6)))[-1]])
            if own.size == 2:
                at = int(own[np.abs(level[own]).argmax()])
            if abs(apart[at]) <= FAR * usual:
                continue
            metric = metric_of(name)
            said = note(
                "review_scan",
                value=float(s.value[at]),
                gap=float(-apart[at]),
                unit=metric.symbol,
                difference=metric.difference_unit,
                devices=int((~np.isnan(s.difference[:, at])).sum()),
            )
            rows = tuple(found[0].reference_rows.get(int(s.scan[at]), ()))
            column = m.snapshot.columns[name]
            visit = int(column.visit[np.isin(column.reading, rows)][0]) if rows else 0
            weight = float(abs(apart[at]) / usual)
            item = found[0].reference.id
            out.append(Finding("scan_at_odds", "stop", said, weight, who, visit, item, name, rows))
    return out


def _all_pairs(m: Material) -> list[PairSet]:
    """Pairs of every device with the scans, by metric."""
    out = []
    for name, _ in m.columns():
        lens = Lens(name)
        try:
            reference = find_comparator(m.snapshot, lens)
        except CannotCompare:
            continue
        if reference.kind != "reference":
            continue
        devices: list[Instrument] = [
            i for i in readers_of(m.snapshot, name) if i.kind == "device" and not i.equation
        ]
        found = [pair(m.snapshot, lens, i, reference) for i in devices]
        out += [p for p in found if p.n]
    return out


def _scans(found: list[PairSet]) -> _Scans | None:
    scans = np.unique(np.concatenate([p.occasion for p in found]))
    first = found[0].anchors
    if scans.size < LEAST_ANCHORS:
        return None
    difference = np.full((len(found), scans.size), np.nan)
    for row, p in enumerate(found):
        # settings differ in level: each difference counts beside those of its own setting
        _, k = np.unique(p.setting, return_inverse=True)
        d = p.d - (np.bincount(k, p.d) / np.bincount(k))[k]
        at = np.searchsorted(scans, p.occasion)
        count = np.bincount(at, minlength=scans.size)
        there = count > 0
        difference[row, there] = (np.bincount(at, d, scans.size)[there]) / count[there]
    return _Scans(
        difference,
        first.client[scans],
        scans.astype(np.int64),
        first.mean[scans],
        first.instant[scans].astype(np.int64),
    )


def _departures(s: _Scans) -> tuple[Floats, Floats, Floats]:
    """A scan's differences less the client's at others: middle, what devices share; and plain."""
    apart = np.full_like(s.difference, np.nan)
    for who in np.unique(s.client).tolist():
        own = np.flatnonzero(s.client == who)
        d = s.difference[:, own]
        n = (~np.isnan(d)).sum(axis=1, keepdims=True)
        rest = (np.nansum(d, axis=1, keepdims=True) - d) / np.where(n > 1, n - 1, np.nan)
        apart[:, own] = d - rest
    return _median(apart), _alike(apart), _median(s.difference)


def _alike(x: Floats) -> Floats:
    """Median of each column; of two devices the smaller departure, 0 where they contradict."""
    out = _median(x)
    two = np.flatnonzero((~np.isnan(x)).sum(axis=0) == 2)
    low, high = np.nanmin(x[:, two], axis=0), np.nanmax(x[:, two], axis=0)
    out[two] = np.where(low > 0, low, np.where(high < 0, high, 0.0))
    return out


def _median(x: Floats) -> Floats:
    """Median of each column that has a value, NaN of the others."""
    out = np.full(x.shape[1], np.nan)
    there = ~np.isnan(x).all(axis=0)
    out[there] = np.nanmedian(x[:, there], axis=0)
    return out
