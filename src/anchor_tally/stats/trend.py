"""Does the error grow with the value?

Slopes of the difference on the reference, between clients and within clients apart.

The reference is measured with error, and its error enters the difference with the other sign:
without correction the slope on it is pulled down, as the slope on the mean of both is pulled up
by the device's own error. The correction is by moments (Fuller 1987, *Measurement Error Models*,
section 2.2, from memory): with S_xx and S_xd the weighted sums of squares and E the part of S_xx
that is error, the slope is (S_xd + E)/(S_xx − E).
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from .components import fit_nested
from .distributions import t_estimate, t_two_sided_p
from .estimate import Estimate, Floats, FrozenArrays, Interval, Ints
from .variance_grid import OccasionMeans, occasion_means

LEAST_TRUE = 0.25  # share of the reference's spread that must not be its error


@dataclass(frozen=True, slots=True)
class ScanError:
    """SD of one scan, its degrees of freedom (infinite when stated), and its origin.

    Origins are replicates, stated, assumed and none. Of an assumed one ``ends`` are the smallest
    and the largest usual SD; slopes then allow for all between them.
    """

    sd: float
    df: float
    source: str
    ends: tuple[float, float] | None = None

    @property
    def known(self) -> bool:
        """Whether it was measured or stated."""
        return self.source in ("replicates", "stated")


@dataclass(frozen=True, slots=True)
class Slope:
    """A slope of the difference on the reference with its two-sided p (0 is no trend)."""

    slope: Estimate
    p: float


@dataclass(frozen=True, slots=True)
class ReferenceTrend:
    """Slopes between clients and within clients; None where the data cannot give one."""

    between: Slope | None
    within: Slope | None
    reference: ScanError


def reference_error(
    scans: Ints, ss: Floats, stated: float | None, usual: tuple[float, float] | None = None
) -> ScanError:
    """Error of one scan.

    Parameters
    ----------
    scans : (a,) integer array
        Scans of each anchor.
    ss : (a,) array
        Sum of squares of an anchor's scans about their mean, in the square of the metric's unit.
    stated : float or None
        SD of one scan as its laboratory states it; used where no anchor has replicate scans.
    usual : tuple of float, optional
        Smallest and largest usual SD, assumed where there is neither of both.

    Returns
    -------
    ScanError
        SD, degrees of freedom and where both come from.
    """
    df = int((scans - 1).sum())
    if df >= 1 and (stated is None or df >= 5):
        return ScanError(math.sqrt(float(ss.sum()) / df), float(df), "replicates")
    if stated is not None:
        return ScanError(stated, math.inf, "stated")
    if usual is not None:
        return ScanError(math.sqrt(usual[0] * usual[1]), math.inf, "assumed", usual)
    return ScanError(0.0, math.inf, "none")


def _slope(
    sxx: float, sxd: float, sdd: float, error: float, error_df: float, df: int, n: int, method: str
) -> Slope | None:
    """Slope from sums about the (weighted) mean.

    ``error`` is the expected part of ``sxx`` due to the reference's error.
    """
    true = sxx - error
    if df < 1 or sxx <= 0 or true < LEAST_TRUE * sxx:
        return None
    variance = max(sdd - sxd * sxd / sxx, 0.0) / df
    slope = (sxd + error) / true

    def spread(at: float) -> float:
        # the products of the reference's error with itself vary too, and its size is estimated
        own = (1 + at) ** 2 * error**2
        return math.sqrt(
            sxx * variance
            + own / (df + 1)
            + (2 * own / error_df if math.isfinite(error_df) else 0.0)
        )

    se = spread(slope) / true
    if se <= 1e-12 * max(abs(slope), 1.0):
        exact = abs(slope) <= 1e-12
        return Slope(
            Estimate(slope, Interval(slope, slope), n, method, 0.0, df), 1.0 if exact else 0.0
        )
    return Slope(
        t_estimate(slope, se, df, n, method), t_two_sided_p((sxd + error) / spread(0.0), df)
    )


@dataclass(frozen=True, eq=False)
class ClientMeans(FrozenArrays):
    """Clients as columns (C,) for a line between them.

    Weight, means of reference and difference, variance of the reference's error.
    """

    weight: Floats
    x: Floats
    d: Floats
    error: Floats


def client_means(
    d: Floats, x: Floats, scans: Ints, client: Ints, occasion: Ints, error: ScanError
) -> ClientMeans:
    """Weighted means of each client for a line between clients.

    Parameters
    ----------
    d, x : ndarray, shape (n,)
        Differences and reference values.
    scans : ndarray of int, shape (n,)
        Scans behind each reference value.
    client, occasion : ndarray of int, shape (n,)
        Client and occasion of each pair.
    error : ScanError
        Variance of one scan.

    Returns
    -------
    ClientMeans
        Weighted by the variances of the nested mixed model with both slopes in it.
    """
    s = occasion_means(d, client, occasion)
    xs = occasion_means(x, client, occasion).mean
    weight, floor = _weights(s, xs, d, client, occasion)
    total = s.per_client(weight)
    noise = error.sd**2 * occasion_means(1 / scans, client, occasion).mean
    return ClientMeans(
        weight=1 / (floor + 1 / total),
        x=s.per_client(weight * xs) / total,
        d=s.per_client(weight * s.mean) / total,
        error=s.per_client(weight**2 * noise) / total**2,
    )


def _over_range(at: list[Slope | None]) -> Slope | None:
    """One slope for all errors of the scan in a range: its interval holds theirs.

    Given by the smallest, the middle and the largest error; the slope grows with it. None where
    the largest leaves too little true spread: any steeper slope is possible then.
    """
    low, middle, high = at
    if low is None or middle is None or high is None:
        return None
    ends = [s.slope.interval for s in at if s is not None]
    if any(i is None for i in ends):
        return None
    known = [i for i in ends if i is not None]
    whole = Interval(min(i.low for i in known), max(i.high for i in known))
    slope = replace(middle.slope, interval=whole, method=f"{middle.slope.method}, scan assumed")
    return Slope(slope, max(low.p, middle.p, high.p))


def reference_trend(
    d: Floats, x: Floats, scans: Ints, client: Ints, occasion: Ints, error: ScanError
) -> ReferenceTrend:
    """Slopes of the difference on the reference, between clients and within them.

    Parameters
    ----------
    d : (N,) array
        Differences instrument − reference.
    x : (N,) array
        Mean of the scans of each pair's anchor, in the same unit.
    scans : (N,) integer array
        Scans behind that mean.
    client, occasion : (N,) integer arrays
        Whose pair it is, and of which anchor.
    error : ScanError
        Error of one scan; both slopes are corrected for it by moments.

    Returns
    -------
    ReferenceTrend
        Each slope with t interval and p; None where it cannot be estimated.

    Notes
    -----
    Occasions are weighted by the variances of the nested mixed model with both slopes in it.
    The residual variance of each slope is estimated at its own level, so that t has M − C − 1
    degrees of freedom within and C − 2 between clients (M occasions, C clients), exact in
    balanced designs. Under an assumed error of the scan the intervals hold those at both ends of
    its range.
    """
    s = occasion_means(d, client, occasion)
    xs = occasion_means(x, client, occasion).mean
    per_scan = occasion_means(1 / scans, client, occasion).mean
    weight, floor = _weights(s, xs, d, client, occasion)

    def at(known: ScanError) -> ReferenceTrend:
        return _corrected(s, xs, per_scan, weight, floor, known)

    if error.ends is None:
        return at(error)
    tried = [
        at(ScanError(sd, math.inf, "stated")) for sd in (error.ends[0], error.sd, error.ends[1])
    ]
    return ReferenceTrend(
        _over_range([t.between for t in tried]), _over_range([t.within for t in tried]), error
    )


def _corrected(
    s: OccasionMeans, xs: Floats, per_scan: Floats, weight: Floats, floor: float, error: ScanError
) -> ReferenceTrend:
    """Both slopes, corrected for one error of the scan, with the weights of the occasions."""
    m, c = s.mean.size, s.clients.size
    noise = error.sd**2 * per_scan
    total = s.per_client(weight)
    x_mean, d_mean = s.per_client(weight * xs) / total, s.per_client(weight * s.mean) / total
    dx, dd = xs - x_mean[s.client_of], s.mean - d_mean[s.client_of]
    share = weight - weight**2 / total[s.client_of]
    scale = max(float(np.abs(xs).max(initial=0.0)), 1.0)
    inner = None
    if m > c and float(dx @ dx) > 1e-18 * scale**2 * m:
        inner = _slope(
            float(weight @ dx**2),
            float(weight @ (dx * dd)),
            float(weight @ dd**2),
            float(share @ noise),
            error.df,
            m - c - 1,
            m,
            "moments-within",
        )
    k = 1 / (floor + 1 / total)
    own = s.per_client(weight**2 * noise) / total**2
    x_all, d_all = float(k @ x_mean) / float(k.sum()), float(k @ d_mean) / float(k.sum())
    dx, dd = x_mean - x_all, d_mean - d_all
    outer = None
    if c > 2 and float(dx @ dx) > 1e-18 * scale**2 * c:
        outer = _slope(
            float(k @ dx**2),
            float(k @ (dx * dd)),
            float(k @ dd**2),
            float((k - k**2 / k.sum()) @ own),
            error.df,
            c - 2,
            c,
            "moments-between",
        )
    return ReferenceTrend(outer, inner, error)


def _weights(
    s: OccasionMeans, xs: Floats, d: Floats, client: Ints, occasion: Ints
) -> tuple[Floats, float]:
    """Weights of the occasions and variance of a client, in the mixed model that has both slopes.

    Equal weights where it has no fit.
    """
    m, c = s.mean.size, s.clients.size
    equal = np.ones(m), 0.0
    if m == c and s.n == m:
        return equal
    mean = (s.per_client(xs) / s.per_client(np.ones(m)))[s.client_of]
    columns = [np.ones(m)]
    columns += [mean - mean.mean()] if c > 2 and np.ptp(mean) > 1e-9 else []
    columns += [xs - mean] if m > c and np.ptp(xs - mean) > 1e-9 else []
    design = np.column_stack(columns)
    place = np.searchsorted(s.clients, client)
    span = int(occasion.max()) - int(occasion.min()) + 1
    cell = np.searchsorted(
        s.client_of * span + (s.occasions - occasion.min()),
        place * span + (occasion - occasion.min()),
    )
    fit = fit_nested(d, client, occasion, design[cell])
    if fit is None:
        return equal
    lower = fit.variances[1] + fit.variances[2] / s.size
    if float(lower.min()) <= 0:
        return np.ones(m), fit.variances[0]
    return 1 / lower, fit.variances[0]
