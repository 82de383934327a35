"""Rules about visits.

Broken conditions, visits unlike their scan, changed settings, people a method is not for.
"""

from __future__ import annotations

import numpy as np

from ...domain.metrics import metric_named
from ...domain.protocol import breaches
from ...domain.snapshot import OK
from ...stats.estimate import note
from ..entry.assessor import errors_of
from .finding import Finding, Material, stored

_DAY = 86400
_TURNS = 3  # changes of setting from which it goes back and forth
BMI_HIGH = 30.0
OBESE = {"male": 25.0, "female": 32.0}  # body fat in percent (common practice)
MUSCLES = ("skeletal_muscle_mass", "total_muscle_mass", "lean_soft_tissue", "fat_free_mass")


def _client_of(m: Material) -> dict[int, int]:
    return dict(
        zip(m.snapshot.visits.visit.tolist(), m.snapshot.visits.client.tolist(), strict=True)
    )


def broken_conditions(m: Material) -> list[Finding]:
    """Visits at which the protocol was not kept, of the study or of an instrument read there."""
    asked, client = [i.condition for i in m.snapshot.catalogue.protocol], _client_of(m)
    out = []
    for visit, answers in m.conditions.items():
        found = breaches(answers, asked)
        if found:
            words = "; ".join(f"{c.label.lower()}: {c.breach}" for c in found)
            out.append(
                Finding(
                    "conditions",
                    "look",
                    note("review_conditions", words=words),
                    float(len(found)),
                    client.get(visit, 0),
                    visit,
                )
            )
    return out


def unlike_the_scan(m: Material) -> list[Finding]:
    """Scans that have only tallies of another visit of that day, taken under other conditions."""
    scans, tallies = _visits_by_kind(m)
    client = _client_of(m)
    when = dict(
        zip(m.snapshot.visits.visit.tolist(), m.snapshot.visits.instant.tolist(), strict=True)
    )
    labels = {i.condition.key: i.condition.label for i in m.snapshot.catalogue.protocol}
    by_client: dict[int, list[int]] = {}
    for visit in tallies:
        by_client.setdefault(client.get(visit, 0), []).append(visit)
    out = []
    for scan in scans - tallies:
        near = [
            v for v in by_client.get(client.get(scan, 0), ()) if abs(when[v] - when[scan]) <= _DAY
        ]
        for visit in near:
            a, b = m.conditions.get(scan, {}), m.conditions.get(visit, {})
            other = [key for key in a.keys() & b.keys() if a[key] != b[key]]
            if other:
                words = ", ".join(labels.get(key, key).lower() for key in sorted(other))
                out.append(
                    Finding(
                        "unlike_scan",
                        "look",
                        note("review_unlike", words=words),
                        float(len(other)),
                        client.get(visit, 0),
                        visit,
                    )
                )
    return out


def _visits_by_kind(m: Material) -> tuple[set[int], set[int]]:
    """Visits with scans, and visits with readings of devices."""
    scans: set[int] = set()
    tallies: set[int] = set()
    kinds = {i.id: i.kind for i in m.snapshot.instruments.values()}
    reference = np.array([i for i, kind in kinds.items() if kind == "reference"], dtype=np.int64)
    device = np.array([i for i, kind in kinds.items() if kind == "device"], dtype=np.int64)
    for _, c in m.columns():
        ok = (c.status == OK) & stored(c)
        scans |= set(c.visit[ok & np.isin(c.instrument, reference)].tolist())
        tallies |= set(c.visit[ok & np.isin(c.instrument, device)].tolist())
    return scans, tallies


def setting_changed(m: Material) -> list[Finding]:
    """Settings that began between a visit and the scan it pairs with.

    The pair belongs to neither period.
    """
    scans, _ = _visits_by_kind(m)
    client = _client_of(m)
    when = dict(
        zip(m.snapshot.visits.visit.tolist(), m.snapshot.visits.instant.tolist(), strict=True)
    )
    labels = {s.id: s for s in m.snapshot.settings.values()}
    out = []
    for name, c in m.columns():
        ok = np.flatnonzero((c.status == OK) & stored(c) & (c.setting > 0))
        for item in np.unique(c.instrument[ok]).tolist():
            instrument = m.snapshot.instruments.get(item)
            if (
                instrument is None
                or instrument.kind != "device"
                or len(
                    {
                        labels[s].label
                        for s in np.unique(c.setting[ok[c.instrument[ok] == item]]).tolist()
                    }
                )
                < 2
            ):
                continue
            own = ok[c.instrument[ok] == item]
            order = own[np.lexsort((c.instant[own], c.client[own]))]
            before, after = order[:-1], order[1:]
            turns = (c.client[before] == c.client[after]) & (c.setting[before] != c.setting[after])
            turns &= (c.instant[after] - c.instant[before] <= 2 * _DAY) & (
                c.visit[before] != c.visit[after]
            )
            for a, b in zip(before[turns].tolist(), after[turns].tolist(), strict=True):
                near = [
                    s
                    for s in scans
                    if client.get(s) == int(c.client[a])
                    and c.instant[a] - _DAY <= when[s] <= c.instant[b] + _DAY
                ]
                if near:
                    facts = {
                        "first": labels[int(c.setting[a])].label,
                        "then": labels[int(c.setting[b])].label,
                    }
                    out.append(
                        Finding(
                            "setting_changed",
                            "look",
                            note("review_setting", **facts),
                            1.0,
                            int(c.client[a]),
                            int(c.visit[b]),
                            item,
                            name,
                            (int(c.reading[b]),),
                        )
                    )
    return out


def settings_alternate(m: Material) -> list[Finding]:
    """Devices whose setting went back and forth with one client from visit to visit.

    One planned change is one turn; from three turns on each setting has come back. Visits read
    with several settings compare them on purpose and are left out.
    """
    names = {s.id: s.label for s in m.snapshot.settings.values()}
    turns: dict[tuple[int, int], tuple[int, float, float, tuple[str, ...]]] = {}
    for _, c in m.columns():
        ok = np.flatnonzero((c.status == OK) & stored(c) & (c.setting > 0))
        order = ok[np.lexsort((c.visit[ok], c.instant[ok], c.client[ok], c.instrument[ok]))]
        key = np.stack([c.instrument[order], c.client[order]])
        cuts = np.flatnonzero(np.any(np.diff(key, axis=1) != 0, axis=0)) + 1
        for rows in np.split(order, cuts) if order.size else ():
            visit, at = np.unique(c.visit[rows], return_inverse=True)
            low = np.full(visit.size, np.iinfo(np.int64).max)
            high = np.zeros(visit.size, dtype=np.int64)
            np.minimum.at(low, at, c.setting[rows])
            np.maximum.at(high, at, c.setting[rows])
            one = (low == high)[at]  # visits read with one setting
            kept = rows[one]
            changed = np.flatnonzero(np.diff(c.setting[kept]) != 0)
            if changed.size < _TURNS:
                continue
            who = (int(c.instrument[kept[0]]), int(c.client[kept[0]]))
            known = turns.get(who)
            if known is None or known[0] < changed.size:
                first, last = c.instant[kept[changed[0]]], c.instant[kept[changed[-1] + 1]]
                labels = tuple(dict.fromkeys(names[int(s)] for s in c.setting[kept]))
                turns[who] = (int(changed.size), float(first), float(last), labels)
    return [
        Finding(
            "alternating",
            "look",
            note("review_alternating", turns=n, days=(last - first) / _DAY, settings=labels),
            float(n),
            client,
            0,
            instrument,
        )
        for (instrument, client), (n, first, last, labels) in turns.items()
        if len(labels) > 1
    ]


def dated_ahead(m: Material) -> list[Finding]:
    """Visits dated more than a day after the present: a wrong date or a wrong clock."""
    v = m.snapshot.visits
    days = (v.instant - m.now) / _DAY
    return [
        Finding(
            "ahead",
            "stop",
            note("review_ahead", days=float(np.round(days[k]))),
            float(days[k]),
            int(v.client[k]),
            int(v.visit[k]),
        )
        for k in np.flatnonzero(days > 1.0).tolist()
    ]


def _lean(m: Material, client: int) -> bool:
    """Whether the client's last scan shows a body fat below that of obesity: muscular, not fat."""
    fat = m.snapshot.columns.get("body_fat_percent")
    person = m.snapshot.clients.get(client)
    if fat is None or person is None:
        return False
    scans = [i.id for i in m.snapshot.instruments.values() if i.kind == "reference"]
    own = np.flatnonzero(
        (fat.client == client) & np.isin(fat.instrument, scans) & (fat.status == OK)
    )
    limit = OBESE.get(person.sex, min(OBESE.values()))
    return bool(own.size) and float(fat.value[own[fat.instant[own].argmax()]]) < limit


def folds_on_high_bmi(m: Material) -> list[Finding]:
    """Clients above a body mass index of 30 whose skinfolds were taken, unless a scan says lean."""
    mass = m.snapshot.columns.get("body_mass")
    folds = [c for name, c in m.columns() if name.startswith("skinfold_")]
    if mass is None or not folds:
        return []
    seen = m.snapshot.visits
    order = np.argsort(seen.visit)
    ok = np.flatnonzero((mass.status == OK) & stored(mass))
    tall = seen.height_cm[order[np.searchsorted(seen.visit, mass.visit[ok], sorter=order)]] / 100
    bmi = np.where(tall > 0, mass.value[ok] / np.where(tall > 0, tall, 1.0) ** 2, np.nan)
    pinched = np.unique(np.concatenate([c.client[(c.status == OK) & stored(c)] for c in folds]))
    out = []
    for client in np.intersect1d(np.unique(mass.client[ok]), pinched).tolist():
        # the median: one mistyped mass is no build
        own = bmi[(mass.client[ok] == client) & ~np.isnan(bmi)]
        usual = float(np.median(own)) if own.size else 0.0
        if usual > BMI_HIGH and not _lean(m, client):
            out.append(
                Finding(
                    "folds_bmi",
                    "look",
                    note("review_folds_bmi", bmi=usual),
                    usual - BMI_HIGH,
                    client,
                )
            )
    return out


def region_mix(m: Material) -> list[Finding]:
    """Clients whose scans are with the head at one time and without it at another."""
    out = []
    for base in ("body_fat_percent", "fat_mass", "lean_soft_tissue"):
        whole, part = m.snapshot.columns.get(base), m.snapshot.columns.get(f"{base}_subtotal")
        if whole is None or part is None:
            continue
        reference = [i.id for i in m.snapshot.instruments.values() if i.kind == "reference"]
        a = whole.visit[np.isin(whole.instrument, reference) & (whole.status == OK)]
        b = part.visit[np.isin(part.instrument, reference) & (part.status == OK)]
        only = np.setdiff1d(b, a)
        client = _client_of(m)
        mixed = {client.get(v, 0) for v in only.tolist()} & {client.get(v, 0) for v in a.tolist()}
        metric = metric_named(base)
        for k in sorted(mixed):
            out.append(
                Finding(
                    "region_mix",
                    "stop",
                    note("review_region", metric=metric.name if metric else base),
                    1.0,
                    k,
                    metric=base,
                )
            )
    return out


def different_things(m: Material) -> list[Finding]:
    """Muscle that means different things on different instruments of the study."""
    shown: dict[str, list[str]] = {}
    for name in MUSCLES:
        c = m.snapshot.columns.get(name)
        if c is not None:
            ids = np.unique(c.instrument[(c.status == OK) & stored(c)]).tolist()
            for i in ids:
                item = m.snapshot.instruments.get(i)
                if item is not None:
                    shown.setdefault(name, []).append(item.name)
    kinds = {frozenset(names) for names in shown.values()}
    if len(shown) < 2 or len({n for names in shown.values() for n in names}) < 2 or len(kinds) < 2:
        return []
    parts = []
    for name, items in shown.items():
        metric = metric_named(name)
        parts.append(f"{metric.name if metric else name} ({', '.join(items)})")
    return [
        Finding("different_things", "know", note("review_different", words="; ".join(parts)), 1.0)
    ]


def unchecked_assessors(m: Material) -> list[Finding]:
    """Assessors who took skinfolds or girths without a check of how closely they repeat."""
    out = []
    done: dict[str, int] = {}
    for name, c in m.columns():
        if name.startswith(("skinfold_", "girth_")):
            for visit in np.unique(c.visit[stored(c)]).tolist():
                who = m.assessors.get(visit, "")
                if who:
                    done[who] = done.get(who, 0) + 1
    for who, visits in done.items():
        if not errors_of(m.checks, who):
            out.append(Finding("assessor", "know", note("review_assessor", who=who), float(visits)))
    return out
