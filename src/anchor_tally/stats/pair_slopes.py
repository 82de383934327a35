"""Passing–Bablok and Theil–Sen lines from the slopes of all pairs.

Fast for thousands of points.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from scipy import special

from .distributions import normal_quantile
from .estimate import Estimate, Floats, Interval, Ints
from .regression import Line

ALL_PAIRS = 600  # points up to which every slope is written down
_TOLERANCE = (
    1e-9  # of the range: values nearer to each other are one, so that another unit changes nothing
)
_SAMPLE = 20_000  # pairs of which slopes are written down to find the way
_FEW = 400  # pairs that are written down when a slope has been closed in


def _snapped(values: Floats, tolerance: float) -> Floats:
    """Values in which those nearer than ``tolerance`` to their neighbour are one."""
    order = np.argsort(values, kind="stable")
    ranked = values[order]
    new = np.append(True, np.diff(ranked) > tolerance)
    out = np.empty_like(values)
    out[order] = ranked[new][np.cumsum(new) - 1]
    return out


def _pairs_within(keys: Ints) -> int:
    """Pairs of equal keys."""
    _, size = np.unique(keys, return_counts=True)
    return int((size * (size - 1) // 2).sum())


def _codes(values: Floats) -> Ints:
    _, code = np.unique(values, return_inverse=True)
    return np.asarray(code, dtype=np.int64)


def inversions(rank: Ints) -> int:
    """Count the pairs that are out of order.

    Parameters
    ----------
    rank : ndarray of int, shape (n,)
        Whole numbers from 0. Equal numbers are in order.

    Returns
    -------
    int

    Notes
    -----
    The count goes bit by bit from the highest: O(n log n), without a Python loop over the values.

    Examples
    --------
    >>> import numpy as np
    >>> inversions(np.array([2, 0, 1]))
    2
    """
    n = rank.size
    if n < 2:
        return 0
    values = np.asarray(rank, dtype=np.int32)
    place, total = np.arange(n, dtype=np.int32), 0
    first = np.zeros(n, dtype=np.int32)  # of each element, where its group begins
    for bit in range(max(int(values.max()).bit_length() - 1, 0), -1, -1):
        one = (values >> bit) & 1
        running = np.append(np.int32(0), np.cumsum(one, dtype=np.int32))
        ones = running[:-1] - running[first]  # ones before it in its group
        zero = one == 0
        total += int(ones[zero].sum(dtype=np.int64))
        begins = np.flatnonzero(np.append(True, first[1:] != first[:-1]))
        zeros_in = np.diff(np.append(begins, n)) - np.diff(np.append(running[begins], running[n]))
        split = first + np.repeat(zeros_in, np.diff(np.append(begins, n))).astype(np.int32)
        to = np.where(zero, place - ones, split + ones)
        moved, starts = np.empty_like(values), np.empty_like(first)
        moved[to], starts[to] = values, np.where(zero, first, split)
        values, first = moved, starts
    return total


@dataclass(frozen=True, eq=False)
class _Points:
    """Points sorted by x, then y, in one unit.

    ``ties`` are pairs of equal x and unequal y, ``doubles`` of equal points.

    ``sample`` holds the slopes of some pairs in order: where to look for a slope of a given rank.
    """

    x: Floats
    y: Floats
    ties: int
    doubles: int
    sample: Floats

    @property
    def pairs(self) -> int:
        """All pairs of points."""
        return self.x.size * (self.x.size - 1) // 2

    def below(self, slope: float) -> int:
        """Pairs with a slope below a number that is the slope of no pair."""
        return inversions(_codes(self.y - slope * self.x))

    def nth(self, k: int) -> float:
        """The k-th smallest slope, counted from 1.

        Pairs of equal x count as rising without end, equal points not at all.

        A slope of the sample near that rank is tried; how many slopes lie below it and how many
        up to it closes the rank in.
        """
        top = self.pairs - self.doubles - self.ties
        if k > top:
            return math.inf
        low, under, high, over = -math.inf, 0, math.inf, top
        a, b = 0, self.sample.size
        while over - under > _FEW:
            if b - a > 2:
                share = (k - under) / (over - under)
                pivot = float(self.sample[min(a + int(share * (b - a)), b - 1)])
            elif math.isinf(low) or math.isinf(high):
                pivot = high - 1 - abs(high) if math.isinf(low) else low + 1 + abs(low)
            else:
                pivot = low + (high - low) * 0.5000001
            reach = 1e-10 * (1 + abs(pivot))
            if high - low <= 4 * reach:  # one slope of very many pairs
                return (low + high) / 2
            least = self.below(pivot - reach)
            if least >= k:
                high, over = pivot - reach, least
                b = int(np.searchsorted(self.sample, high))
                continue
            most = self.below(pivot + reach)
            if most >= k:
                if most - least <= _FEW:
                    return self._between(pivot - reach, pivot + reach, k - least)
                return pivot
            low, under = pivot + reach, most
            a = int(np.searchsorted(self.sample, low))
        return self._between(low, high, k - under)

    def _between(self, low: float, high: float, k: int) -> float:
        """The k-th slope between two numbers with few slopes between them.

        It lists the pairs that change their order there.
        """
        low, high = max(low, -1e12), min(high, 1e12)
        first = np.lexsort((np.arange(self.x.size), self.y - low * self.x))
        z = (self.y - high * self.x)[first]
        last = np.empty(z.size, dtype=np.int64)
        last[np.argsort(z, kind="stable")] = np.arange(z.size)
        # a run of points that only change places among each other ends where all before have come
        # so far
        ends = np.maximum.accumulate(last) == np.arange(last.size)
        run = np.append(0, np.cumsum(ends)[:-1])
        size = np.bincount(run)
        rows, own = first[size[run] > 1], run[size[run] > 1]
        i, j = np.triu_indices(rows.size, 1) if rows.size < 3000 else _near_pairs(own)
        together = own[i] == own[j]
        lead, follow = rows[i[together]], rows[j[together]]
        left, right = np.minimum(lead, follow), np.maximum(lead, follow)
        dx = self.x[right] - self.x[left]
        keep = dx > 0
        slopes = (self.y[right] - self.y[left])[keep] / dx[keep]
        inside = np.sort(slopes[(slopes >= low) & (slopes <= high)])
        return float(inside[min(k, inside.size) - 1]) if inside.size else (low + high) / 2


def _near_pairs(run: Ints) -> tuple[Ints, Ints]:
    """Places of all pairs within each run of equal numbers, run by run."""
    start = np.flatnonzero(np.append(True, np.diff(run) != 0))
    size = np.diff(np.append(start, run.size))
    parts = [np.triu_indices(n, 1) for n in size.tolist()]
    i = np.concatenate([p[0] + s for p, s in zip(parts, start.tolist(), strict=True)])
    return i, np.concatenate([p[1] + s for p, s in zip(parts, start.tolist(), strict=True)])


def _points(x: Floats, y: Floats) -> _Points:
    tolerance = _TOLERANCE * max(float(np.ptp(x)), float(np.ptp(y)))
    x, y = _snapped(x, tolerance), _snapped(y, tolerance)
    order = np.lexsort((y, x))
    x, y = x[order], y[order]
    cx, cy = _codes(x), _codes(y)
    doubles = _pairs_within(cx * (int(cy.max()) + 1) + cy)
    i, j = np.random.default_rng(1).integers(0, x.size, (2, _SAMPLE if x.size > ALL_PAIRS else 0))
    dx = x[j] - x[i]
    keep = dx != 0
    return _Points(
        x, y, _pairs_within(cx) - doubles, doubles, np.sort((y[j] - y[i])[keep] / dx[keep])
    )


def _all_slopes(p: _Points) -> Floats:
    """All slopes in order; pairs of equal x rise without end, equal points are left out."""
    i, j = np.triu_indices(p.x.size, 1)
    dx, dy = p.x[j] - p.x[i], p.y[j] - p.y[i]
    keep = (dx != 0) | (dy != 0)
    with np.errstate(divide="ignore"):
        return np.sort(
            np.where(dx[keep] == 0, np.inf, dy[keep] / np.where(dx[keep] == 0, 1.0, dx[keep]))
        )


def _same(p: _Points) -> tuple[int, int]:
    """Pairs with the slope −1, and below it."""
    tolerance = 4 * _TOLERANCE * max(float(np.ptp(p.x)), float(np.ptp(p.y)))
    s = _codes(_snapped(p.x + p.y, tolerance))
    minus_one = _pairs_within(s) - p.doubles
    return minus_one, inversions(s)  # x + y falls from the left to the right: the slope is below −1


@dataclass(frozen=True, slots=True)
class PassingBablok:
    """A fitted line, and the p-value of the test of linearity (None where it cannot be made)."""

    line: Line
    linearity_p: float | None


def passing_bablok(x: Floats, y: Floats, confidence: float = 0.95) -> PassingBablok | None:
    """Regression of y on x by the shifted median of the slopes of all pairs of points.

    Parameters
    ----------
    x, y : ndarray, shape (n,)
        Reference and device, in one unit.
    confidence : float
        Level of the intervals.

    Returns
    -------
    PassingBablok or None
        Line and p-value of the cusum test of linearity. None below four points, or where x or y
        does not vary.

    Notes
    -----
    Pairs of equal points and slopes of exactly −1 are left out; pairs with equal x have an infinite
    slope. The interval comes from the variance of Kendall's S.

    References
    ----------
    Passing & Bablok 1983, J Clin Chem Clin Biochem 21:709.
    """
    n = x.size
    if n < 4 or float(np.ptp(x)) == 0 or float(np.ptp(y)) == 0:
        return None
    p = _points(x, y)
    minus_one, under = _same(p)
    count = p.pairs - p.doubles - minus_one
    if count < 1:
        return None
    if n <= ALL_PAIRS:
        slopes = _all_slopes(p)
        tolerance = 8 * _TOLERANCE
        slopes = slopes[np.abs(slopes + 1) > tolerance] if minus_one else slopes
        count, under = slopes.size, int((slopes < -1).sum())

        def nth(k: int) -> float:
            return float(slopes[min(max(k, 1), count) - 1])

    else:

        def nth(k: int) -> float:
            k = min(max(k, 1), count)
            return p.nth(k if k <= under else k + minus_one)

    if under >= (count + 1) // 2:
        return None  # falling: the method is for methods that measure the same thing
    middle, even = (count + 1) // 2, count % 2 == 0
    upper = nth(middle + under + 1) if even else 0.0
    slope = nth(middle + under) if not even else (nth(middle + under) + upper) / 2
    if not math.isfinite(slope):
        return None
    spread = normal_quantile(0.5 + confidence / 2) * math.sqrt(n * (n - 1) * (2 * n + 5) / 18)
    first = round((count - spread) / 2)
    interval = None
    if first >= 1:
        low, high = nth(first + under), nth(count - first + 1 + under)
        interval = Interval(low, high) if math.isfinite(high) else None
    icpt = float(np.median(y - slope * x))
    icpt_interval = (
        Interval(float(np.median(y - interval.high * x)), float(np.median(y - interval.low * x)))
        if interval
        else None
    )
    line = Line(
        Estimate(slope, interval, n, "passing-bablok-1983"),
        Estimate(icpt, icpt_interval, n, "passing-bablok-1983"),
        1.0,
    )
    return PassingBablok(line, _linearity(x, y, slope, icpt))


def _linearity(x: Floats, y: Floats, slope: float, icpt: float) -> float | None:
    """P of the cusum test: signs of the residuals in the order of their feet on the line."""
    residual = y - icpt - slope * x
    tolerance = 8 * _TOLERANCE * max(float(np.ptp(x)), float(np.ptp(y)))
    above, below = residual > tolerance, residual < -tolerance
    up, down = int(above.sum()), int(below.sum())
    if min(up, down) < 2 or slope <= 0:
        return None
    score = np.where(above, math.sqrt(down / up), np.where(below, -math.sqrt(up / down), 0.0))
    along = (y + x / slope - icpt) / math.sqrt(1 + 1 / slope**2)
    cusum = np.cumsum(score[np.argsort(along, kind="stable")])
    return float(special.kolmogorov(float(np.abs(cusum).max()) / math.sqrt(down + 1)))


def theil_sen(x: Floats, y: Floats, confidence: float = 0.95) -> Estimate | None:
    """Slope of y on x by the median of the slopes of all pairs of unequal x.

    Parameters
    ----------
    x, y : (n,) arrays
        Values of one design without clusters.
    confidence : float
        Level of the interval, from Kendall's S.

    Returns
    -------
    Estimate or None
        None below three points or without two unequal x.

    References
    ----------
    Sen 1968, JASA 63:1379.
    """
    n = x.size
    if n < 3 or float(np.ptp(x)) == 0:
        return None
    if float(np.ptp(y)) == 0:
        return Estimate(0.0, Interval(0.0, 0.0), n, "theil-sen")
    p = _points(x, y)
    count = p.pairs - p.doubles - p.ties
    if n <= ALL_PAIRS:
        slopes = _all_slopes(p)
        slopes = slopes[np.isfinite(slopes)]
        count = slopes.size

        def nth(k: int) -> float:
            return float(slopes[min(max(k, 1), count) - 1])

    else:

        def nth(k: int) -> float:
            return p.nth(min(max(k, 1), count))

    middle = (count + 1) // 2
    slope = nth(middle) if count % 2 else (nth(middle) + nth(middle + 1)) / 2
    ties_x, ties_y = (np.unique(v, return_counts=True)[1] for v in (p.x, p.y))
    variance = (
        sum(
            s * float((t * (t - 1) * (2 * t + 5)).sum())
            for s, t in ((1.0, np.array([n])), (-1.0, ties_x), (-1.0, ties_y))
        )
        / 18
    )
    spread = normal_quantile(0.5 + confidence / 2) * math.sqrt(max(variance, 0.0))
    first, last = round((count - spread) / 2), round((count + spread) / 2) + 1
    interval = Interval(nth(first), nth(last)) if first >= 1 and last <= count else None
    return Estimate(slope, interval, n, "theil-sen")
