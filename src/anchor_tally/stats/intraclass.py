"""Intraclass correlations of sets of repeats."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy import special

from .estimate import Estimate, Floats, Interval, Ints
from .jackknife import of_correlation

LEAST_CLIENTS = 5  # from which on leaving out clients gives an interval


@dataclass(frozen=True, slots=True)
class Icc:
    """Intraclass correlations of single readings and of the mean of ``k``.

    One-way, two-way random and two-way mixed.
    """

    one: Estimate
    random: Estimate | None
    mixed: Estimate | None
    one_mean: Estimate
    random_mean: Estimate | None
    mixed_mean: Estimate | None
    tallies: int
    k: int


def _f_quantile(p: float, df1: float, df2: float) -> float:
    return float(special.fdtri(df1, df2, p))


def intraclass(values: Floats, confidence: float = 0.95) -> Icc | None:
    """Intraclass correlations of sets of repeats of equal size.

    Parameters
    ----------
    values : (tallies, repeats) array
        One row a set, its repeats in the order in which they were taken.
    confidence : float
        Level of the intervals.

    Returns
    -------
    Intraclass or None
        ICC(1,1), ICC(2,1), ICC(3,1) and those of the mean of k repeats, with intervals from F
        (for 2,1 with Satterthwaite degrees of freedom). None for fewer than three sets or when
        nothing varies.

    References
    ----------
    McGraw & Wong 1996, Psychol Methods 1:30: ICC(1), ICC(A,1) and ICC(C,1).
    """
    n, k = values.shape
    if n < 3 or k < 2:
        return None
    grand = float(values.mean())
    rows, columns = values.mean(axis=1), values.mean(axis=0)
    ss_total = float(((values - grand) ** 2).sum())
    ss_rows, ss_columns = (
        k * float(((rows - grand) ** 2).sum()),
        n * float(((columns - grand) ** 2).sum()),
    )
    ms_rows = ss_rows / (n - 1)
    ms_within = (ss_total - ss_rows) / (n * (k - 1))
    ms_columns = ss_columns / (k - 1)
    ms_error = max(ss_total - ss_rows - ss_columns, 0.0) / ((n - 1) * (k - 1))
    tiny = 1e-14 * max(ss_total, 1e-300)
    if (
        ss_total <= 1e-20 * values.size * max(1.0, abs(grand)) ** 2
        or ms_within <= tiny
        or ms_error <= tiny
    ):
        return None
    tail = (1 + confidence) / 2

    def pair(value: float, low: float, high: float, method: str) -> tuple[Estimate, Estimate]:
        """Of single readings, and of the mean of k (Spearman–Brown)."""

        def up(r: float) -> float:
            return float(k * r / (1 + (k - 1) * r))

        return (
            Estimate(value, Interval(low, high), n, method),
            Estimate(up(value), Interval(up(low), up(high)), n, f"{method}-mean"),
        )

    def simple(ms: float, df2: float, method: str) -> tuple[Estimate, Estimate]:
        f = ms_rows / ms
        f_low, f_high = f / _f_quantile(tail, n - 1, df2), f * _f_quantile(tail, df2, n - 1)
        return pair(
            (f - 1) / (f + k - 1),
            (f_low - 1) / (f_low + k - 1),
            (f_high - 1) / (f_high + k - 1),
            method,
        )

    one, one_mean = simple(ms_within, n * (k - 1), "icc-1")
    mixed, mixed_mean = simple(ms_error, (n - 1) * (k - 1), "icc-c1")
    r = (ms_rows - ms_error) / (ms_rows + (k - 1) * ms_error + k * (ms_columns - ms_error) / n)
    a = k * r / (n * (1 - r))
    b = 1 + k * r * (n - 1) / (n * (1 - r))
    df = (a * ms_columns + b * ms_error) ** 2 / (
        (a * ms_columns) ** 2 / (k - 1) + (b * ms_error) ** 2 / ((n - 1) * (k - 1))
    )
    over, under = _f_quantile(tail, n - 1, df), _f_quantile(tail, df, n - 1)
    mean_square = k * ms_columns + (k * n - k - n) * ms_error
    low = n * (ms_rows - over * ms_error) / (over * mean_square + n * ms_rows)
    high = n * (under * ms_rows - ms_error) / (mean_square + n * under * ms_rows)
    random, random_mean = pair(r, low, high, "icc-a1")
    return Icc(one, random, mixed, one_mean, random_mean, mixed_mean, n, k)


def intraclass_of_clients(values: Floats, client: Ints, confidence: float = 0.95) -> Icc | None:
    """Intraclass correlations where clients have several sets.

    Parameters
    ----------
    values : (tallies, repeats) array
        One row a set.
    client : (tallies,) integer array
        Client of each set.
    confidence : float
        Level of the intervals.

    Returns
    -------
    Icc or None
        With several sets of a client the intervals come from leaving out one client at a time:
        those from F would count the sets of a client as independent people, and covered 73 to
        87 % in simulated studies. Without an interval below five clients.

    References
    ----------
    Miller 1974, Biometrika 61:1.
    """
    found = intraclass(values, confidence)
    _, group = np.unique(client, return_inverse=True)
    groups = int(group.max(initial=-1)) + 1
    if found is None or groups == values.shape[0]:
        return found
    k = values.shape[1]
    left = _without_each(values, group, groups) if groups >= LEAST_CLIENTS else None

    def again(single: Estimate, mean: Estimate, at: int) -> tuple[Estimate, Estimate]:
        i = None if left is None else of_correlation(single.value, left[at], confidence)
        up = None
        if i is not None:
            up = Interval(*(k * r / (1 + (k - 1) * r) for r in (i.low, i.high)))
        name = f"{single.method}-jackknife"
        return (
            replace(single, interval=i, method=name),
            replace(mean, interval=up, method=f"{name}-mean"),
        )

    one, one_mean = again(found.one, found.one_mean, 0)
    random, random_mean, mixed, mixed_mean = (
        found.random,
        found.random_mean,
        found.mixed,
        found.mixed_mean,
    )
    if random is not None and random_mean is not None:
        random, random_mean = again(random, random_mean, 1)
    if mixed is not None and mixed_mean is not None:
        mixed, mixed_mean = again(mixed, mixed_mean, 2)
    return Icc(one, random, mixed, one_mean, random_mean, mixed_mean, found.tallies, k)


def _without_each(values: Floats, group: Ints, groups: int) -> Floats:
    """ICC(1,1), (2,1) and (3,1) without each client, (3, groups), from sums of clients."""
    k = values.shape[1]
    y = values - values.mean()
    rows = y.mean(axis=1)
    inside = ((y - rows[:, None]) ** 2).sum(axis=1)
    terms = np.column_stack([np.ones(rows.size), rows, rows**2, inside, y])
    sums = np.zeros((groups, terms.shape[1]))
    np.add.at(sums, group, terms)
    rest = sums.sum(axis=0) - sums
    n, mean = rest[:, 0], rest[:, 1] / rest[:, 0]
    ms_rows = k * (rest[:, 2] - n * mean**2) / (n - 1)
    ms_within = rest[:, 3] / (n * (k - 1))
    ss_columns = n * ((rest[:, 4:] / n[:, None] - mean[:, None]) ** 2).sum(axis=1)
    ms_columns = ss_columns / (k - 1)
    ms_error = np.maximum(rest[:, 3] - ss_columns, 0.0) / ((n - 1) * (k - 1))
    return np.stack(
        [
            (ms_rows - ms_within) / (ms_rows + (k - 1) * ms_within),
            (ms_rows - ms_error) / (ms_rows + (k - 1) * ms_error + k * (ms_columns - ms_error) / n),
            (ms_rows - ms_error) / (ms_rows + (k - 1) * ms_error),
        ]
    )
