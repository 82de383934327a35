"""Rules about values.

At odds with the client's history, typing error, repeats too far apart, missing repeats, unusual
water.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...domain.metrics import Metric, metric_named, metric_of
from ...domain.snapshot import OK, Columns, Floats, Ints
from ...stats.distributions import binomial_tail
from ...stats.estimate import note
from ...stats.tallies import far_off
from ..entry.entry_check import reach
from .finding import Finding, Material, Tallies, stored, tallies_of

_ROBUST = 6.0  # robust SDs from what is expected
_ODD, _MANY, _LONG = 5.5, 20, 8  # the same where a device has many sets, and the series so many
_LEAST_SERIES, _LEAST_NEAR = 4, 2
_DISAGREE = 0.4
_SLIPS = (
    ("pounds for kilograms", "mass", 2.20462),
    ("kilograms for pounds", "mass", 1 / 2.20462),
    ("inches for centimetres", "length", 1 / 2.54),
    ("centimetres for inches", "length", 2.54),
    ("a lost decimal point", "", 10.0),
    ("a decimal point too many", "", 0.1),
)
WATER_POINTS, _RECENT = 1.0, 5
BALANCE_PERCENT = 1.5


def expected_of(t: Tallies) -> tuple[Floats, Floats]:
    """Median of the neighbouring sets of each set's series, and a robust SD.

    The SD is NaN below four sets.

    A series is one client, instrument and setting; nearby are the four tallies around it. The SD
    is that of the series or that of all the instrument's, whichever is larger: fourteen gaps
    alone estimate their spread poorly.
    """
    n = t.visit.size
    key = np.stack([t.client, t.instrument, t.setting])
    new = (
        np.append(True, np.any(np.diff(key, axis=1) != 0, axis=0)) if n else np.empty(0, dtype=bool)
    )
    series = np.cumsum(new) - 1
    _, first, cell, size = np.unique(
        series, return_index=True, return_inverse=True, return_counts=True
    )
    row = np.arange(n)
    begin = np.clip(row - 2, first[cell], np.maximum(first[cell] + size[cell] - 5, first[cell]))
    near = np.minimum(begin + np.arange(5)[:, None], max(n - 1, 0))
    used = (near != row) & (series[near] == series) & (begin + np.arange(5)[:, None] < n)
    known = used.sum(axis=0)
    ranked = np.sort(np.where(used, t.median[near], np.inf), axis=0)
    told = known >= _LEAST_NEAR
    low = np.where(told, ranked[np.clip((known - 1) // 2, 0, 4), row], np.nan)
    high = np.where(told, ranked[np.clip(known // 2, 0, 4), row], np.nan)
    # of two that disagree nobody knows which is off: their middle is no expectation
    expected = np.where(high - low <= _DISAGREE * low, (low + high) / 2, np.nan)
    gap = np.abs(t.median - expected)
    return expected, np.fmax(_robust_spread(gap, series), _robust_spread(gap, t.instrument))


def _robust_spread(gap: Floats, group: Ints) -> Floats:
    """Of each value the robust SD of the gaps of its group; NaN in groups of fewer than four."""
    kept = np.flatnonzero(~np.isnan(gap))
    order = kept[np.lexsort((gap[kept], group[kept]))]
    _, start, size = np.unique(group[order], return_index=True, return_counts=True)
    out = np.full(gap.size, np.nan)
    if order.size:
        middle = gap[order][start + (size - 1) // 2]
        out[order] = np.repeat(np.where(size >= _LEAST_SERIES, 1.4826 * middle / 1.1, np.nan), size)
    return out


def at_odds(m: Material) -> list[Finding]:
    """Tallies far from those of the same client and device around them.

    What a typing error would explain is named.
    """
    out: list[Finding] = []
    for name, c in m.columns():
        metric = metric_named(name)
        if metric is None or metric.device_only:
            continue
        t = tallies_of(c)
        expected, spread = expected_of(t)
        far = np.maximum(reach(metric, expected), _ROBUST * np.nan_to_num(spread, nan=0.0))
        # of a device with many sets the usual scatter is known: less is odd already
        own = np.stack([t.client, t.instrument, t.setting])
        _, series, size = np.unique(own, axis=1, return_inverse=True, return_counts=True)
        sets = np.bincount(t.instrument, minlength=1)[t.instrument]
        many = (sets >= _MANY) & (size[series.ravel()] >= _LONG)
        known = np.maximum(_ODD * spread, 3 * 10.0**-metric.decimals)
        far = np.where(many & (spread > 0), np.minimum(far, known), far)
        for k in np.flatnonzero(~np.isnan(expected) & (np.abs(t.median - expected) > far)).tolist():
            out.append(_odd(c, t, k, float(expected[k]), metric))
    return out


def _odd(c: Columns, t: Tallies, k: int, expected: float, metric: Metric) -> Finding:
    value = float(t.median[k])
    slip = slip_of(value, expected, metric)
    code = "review_slip" if slip else "review_at_odds"
    return Finding(
        "slip" if slip else "at_odds",
        "stop" if slip else "look",
        note(
            code,
            value=value,
            expected=expected,
            unit=_unit(metric),
            slip=slip or None,
            decimals=metric.decimals,
        ),
        abs(value - expected) / max(abs(expected), 1e-9),
        int(t.client[k]),
        int(t.visit[k]),
        int(t.instrument[k]),
        metric.id,
        t.readings(c, k),
    )


def _unit(metric: Metric) -> str:
    return metric.symbol


def slip_of(value: float, expected: float, metric: Metric) -> str:
    """The typing error that turns the expected into the given value, within 3 %; "" for none."""
    if expected <= 0 or value <= 0:
        return ""
    for words, dimension, factor in _SLIPS:
        if dimension in ("", metric.dimension) and abs(value / (expected * factor) - 1) < 0.03:
            return words
    text, wanted = f"{value:.{metric.decimals}f}", f"{expected:.0f}"
    swapped = text[1] + text[0] + text[2:] if len(text) > 1 and text[:2].isdigit() else ""
    close = abs(float(swapped) - expected) < 0.05 * expected if swapped else False
    return "swapped digits" if close and text[:2] != wanted[:2] else ""


def repeats_apart(m: Material) -> list[Finding]:
    """Repeats far from the other repeats, by six robust SDs of the device's own repeats."""
    out = []
    for name, c in m.columns():
        metric = metric_named(name)
        rows = np.flatnonzero((c.status == OK) & stored(c))
        if metric is None or rows.size < 3:
            continue
        for item in np.unique(c.instrument[rows]).tolist():
            own = rows[c.instrument[rows] == item]
            tally = c.visit[own] * (int(c.setting.max()) + 1) + c.setting[own]
            least = 2 * 10.0**-metric.decimals
            for k in far_off(tally, c.value[own], least).tolist():
                row = own[k]
                others = c.value[own[(tally == tally[k]) & (np.arange(own.size) != k)]]
                said = note(
                    "review_repeats",
                    value=c.value[row],
                    others=tuple(sorted(others.tolist())[:3]),
                    unit=_unit(metric),
                    decimals=metric.decimals,
                )
                gap = float(np.abs(c.value[row] - np.median(others)))
                out.append(
                    Finding(
                        "repeats",
                        "stop",
                        said,
                        gap / max(abs(float(c.value[row])), 1e-9),
                        int(c.client[row]),
                        int(c.visit[row]),
                        item,
                        name,
                        (int(c.reading[row]),),
                    )
                )
    return out


def without_one_repeat(found: Sequence[Finding]) -> list[Finding]:
    """Findings without those that another one explains.

    Sets whose mean is off because one repeat is, which is named; and sets of another client or
    device.
    """
    apart = {i for f in found if f.rule == "repeats" for i in f.readings}
    mixed = {i for f in found if f.rule in ("exchanged", "other_client") for i in f.readings}
    named: set[int] = set()
    out = []
    for f in found:
        own = set(f.readings)
        if f.rule == "repeats" and own <= named:  # once, whichever way it was found
            continue
        if f.rule == "repeats":
            named |= own
        if f.rule == "at_odds" and own and own <= mixed:
            continue
        if f.rule in ("at_odds", "slip") and apart & own and len(f.readings) > 1:
            continue
        out.append(f)
    return out


def missing_repeats(m: Material) -> list[Finding]:
    """Instruments with too few repeats in more than a quarter of the visits."""
    out = []
    for name, c in m.columns():
        rows = np.flatnonzero(stored(c))
        for item in np.unique(c.instrument[rows]).tolist():
            instrument = m.snapshot.instruments.get(item)
            if (
                instrument is None
                or instrument.kind == "reference"
                or name in ("body_mass", "total_body_water_percent")
            ):
                continue
            planned = m.snapshot.catalogue.rule_of(name, instrument).repeats
            own = rows[c.instrument[rows] == item]
            _, size = np.unique(
                c.visit[own] * (int(c.setting.max()) + 1) + c.setting[own], return_counts=True
            )
            short = int((size < planned).sum())
            if (
                planned > 1
                and size.size >= 4
                and short > size.size / 4
                and float(size.mean()) > 1.2
            ):
                facts = {"short": short, "visits": size.size, "planned": planned}
                out.append(
                    Finding(
                        "missing_repeats",
                        "know",
                        note("review_missing_repeats", **facts),
                        short,
                        0,
                        0,
                        item,
                        name,
                    )
                )
    return out


# sites that are smaller than another one in every healthy adult (common practice), in cm
LARGER = {
    "girth_arm_relaxed": "girth_arm_flexed",
    "breadth_humerus": "breadth_femur",
    "girth_neck": "girth_chest",
    "girth_calf": "girth_thigh",
}
SITES_APART = 1.0


def failures(m: Material) -> list[Finding]:
    """Instruments of which more than a fifth of the readings failed."""
    out = []
    for name, c in m.columns():
        rows = np.flatnonzero(stored(c))
        for item in np.unique(c.instrument[rows]).tolist():
            own = c.status[rows[c.instrument[rows] == item]]
            share = float((own == 1).mean())
            if own.size >= 20 and share > 0.2:
                out.append(
                    Finding(
                        "failures",
                        "look",
                        note("review_failures", share=100 * share, n=own.size),
                        share,
                        0,
                        0,
                        item,
                        name,
                    )
                )
    return out


def failures_of_clients(m: Material) -> list[Finding]:
    """Clients with whom a device fails more often than a quarter, and than with the others.

    A binomial test against the others (one-sided, 0.001), from eight readings on.
    """
    out = []
    for name, c in m.columns():
        rows = np.flatnonzero(stored(c))
        for item in np.unique(c.instrument[rows]).tolist():
            own = rows[c.instrument[rows] == item]
            failed = c.status[own] == 1
            people, k = np.unique(c.client[own], return_inverse=True)
            n, bad = np.bincount(k), np.bincount(k, failed)
            rest = (bad.sum() - bad) / np.maximum(n.sum() - n, 1)
            for at in np.flatnonzero((n >= 8) & (n.sum() - n >= 8) & (bad > n / 4)).tolist():
                if binomial_tail(int(bad[at]), int(n[at]), float(max(rest[at], 0.02))) < 0.001:
                    share = float(bad[at] / n[at])
                    said = note("review_failures", share=100 * share, n=int(n[at]))
                    out.append(
                        Finding(
                            "client_failures", "look", said, share, int(people[at]), 0, item, name
                        )
                    )
    return out


def sites_in_order(m: Material) -> list[Finding]:
    """Visits at which a site is larger than one that is always larger in a person."""
    out = []
    for small, large in LARGER.items():
        parts = [m.snapshot.columns.get(x) for x in (small, large)]
        if any(c is None for c in parts):
            continue
        a, b = (tallies_of(c) for c in parts if c is not None)
        _, at, other = np.intersect1d(a.visit, b.visit, return_indices=True)
        for i, j in zip(at.tolist(), other.tolist(), strict=True):
            gap = float(a.median[i] - b.median[j])
            if gap > SITES_APART:
                first, then = metric_of(small), metric_of(large)
                said = note(
                    "review_order",
                    small=first.name,
                    large=then.name,
                    value=float(a.median[i]),
                    expected=float(b.median[j]),
                    unit=first.symbol,
                )
                out.append(
                    Finding(
                        "sites_order",
                        "stop",
                        said,
                        gap,
                        int(a.client[i]),
                        int(a.visit[i]),
                        int(a.instrument[i]),
                        small,
                    )
                )
    return out


def water_out_of_line(m: Material) -> list[Finding]:
    """Visits whose water differs unusually from the client's recent mean.

    By more than one point, and by more than such visits usually do.
    """
    c = m.snapshot.columns.get("total_body_water_percent")
    if c is None:
        return []
    t = tallies_of(c)
    out = []
    for k, recent, bound in _beyond_recent(t):
        gap = float(t.median[k]) - recent
        out.append(
            Finding(
                "water",
                "look",
                note("review_water", gap=gap, usual=bound),
                abs(gap),
                int(t.client[k]),
                int(t.visit[k]),
                int(t.instrument[k]),
                c.metric,
                t.readings(c, k),
            )
        )
    return out


def _beyond_recent(t: Tallies) -> list[tuple[int, float, float]]:
    """Sets beyond one point and five robust SDs from the mean of up to five sets before.

    With that mean and the bound.
    """
    n = t.visit.size
    if n < 2:
        return []
    new = np.append(
        True, (np.diff(t.client) != 0) | (np.diff(t.instrument) != 0) | (np.diff(t.setting) != 0)
    )
    series = np.cumsum(new) - 1
    total, count = np.zeros(n), np.zeros(n)
    for back in range(1, _RECENT + 1):
        k = np.arange(n) - back
        same = (k >= 0) & (series[np.maximum(k, 0)] == series)
        total[same] += t.median[k[same]]
        count[same] += 1
    known = count >= 3
    recent = np.where(known, total / np.maximum(count, 1), np.nan)
    gap = np.where(known, t.median - recent, np.nan)
    if known.sum() < 8:
        return []
    # one spread for a device: the deviations of all its clients together
    out = []
    for item in np.unique(t.instrument).tolist():
        own = np.flatnonzero(known & (t.instrument == item))
        if own.size < 8:
            continue
        spread = 1.4826 * float(np.median(np.abs(gap[own] - np.median(gap[own]))))
        bound = max(WATER_POINTS, 5 * spread)
        out += [(int(k), float(recent[k]), bound) for k in own[np.abs(gap[own]) > bound].tolist()]
    return out


def mass_parts(m: Material) -> list[Finding]:
    """Visits at which the parts of a device are more than 1.5 % of the body mass away from it."""
    needed = [m.snapshot.columns.get(name) for name in ("body_mass", "fat_mass", "fat_free_mass")]
    parts = [tallies_of(c) for c in needed if c is not None]
    if len(parts) < 3 or not all(t.visit.size for t in parts):
        return []
    base = 1 + max(int(t.instrument.max()) for t in parts)
    (whole_key, whole), (fat_key, fat), (lean_key, lean) = (_by_visit(t, base) for t in parts)
    keys = np.intersect1d(np.intersect1d(whole_key, fat_key), lean_key)
    mass, rest = (
        whole[np.searchsorted(whole_key, keys)],
        fat[np.searchsorted(fat_key, keys)] + lean[np.searchsorted(lean_key, keys)],
    )
    missing = 100 * (mass - rest) / mass
    of_client = dict(zip(parts[0].visit.tolist(), parts[0].client.tolist(), strict=True))
    out = []
    for k in np.flatnonzero(np.abs(missing) > BALANCE_PERCENT).tolist():
        visit, item = divmod(int(keys[k]), base)
        gap = abs(float(missing[k]))
        out.append(
            Finding(
                "mass_balance",
                "look",
                note("review_balance", gap=-float(missing[k])),
                gap,
                of_client[visit],
                visit,
                item,
                "body_mass",
            )
        )
    return out


def _by_visit(t: Tallies, base: int) -> tuple[Ints, Floats]:
    """Medians by visit and instrument, keyed by visit · base + instrument, in order."""
    key, first = np.unique(t.visit * base + t.instrument, return_index=True)
    return key, t.median[first]
