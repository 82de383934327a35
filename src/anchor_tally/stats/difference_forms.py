"""Other forms of the limits of agreement: as ratios, along a sloping line, by percentiles.

And whether differences look normal.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
from scipy import special

from .components import fit_nested
from .distributions import normal_quantile, t_estimate, t_quantile, t_two_sided_p
from .estimate import Estimate, Floats, Interval, Ints
from .limits import Limits, single_bias, single_limits
from .repeated import repeated_bias, repeated_limits
from .resample import client_weights
from .variance_grid import occasion_means, variance_grid

LEAST_PERCENTILES, LEAST_LINE = 20, 10


@dataclass(frozen=True, slots=True)
class RatioLimits:
    """Ratio instrument / reference: geometric mean and range of single ratios, with intervals."""

    ratio: Estimate
    lower: float
    upper: float
    lower_interval: Interval | None
    upper_interval: Interval | None


@dataclass(frozen=True, slots=True)
class SlopingLimits:
    """Bias b0 + b1·A and limits at a multiple of the residual SD r0 + r1·A.

    A is the mean of both less ``centre``; ``widens_p`` is the p-value that the width does not
    change with the level, by means of clients; ``sd`` the spread of one pair about the line where
    it is one for all levels; ``middle`` the clients' mean level less ``centre``.
    """

    b0: Estimate
    b1: Estimate
    r0: float
    r1: float
    centre: float
    widens_p: float = 1.0
    sd: float = 0.0
    middle: float = 0.0

    def error(self, level: Floats) -> Floats:
        """Half widths of the 95 % intervals of the limits at levels.

        Variances of the line and of 1.96 SD, t with the clients' degrees of freedom (Bland &
        Altman 1999, section 2, from memory).
        """
        df, se = self.b1.df or 1.0, self.b1.se or 0.0
        lower, _, upper = self.at(level)
        a, half = level - self.centre - self.middle, (upper - lower) / 2
        own = (self.b0.se or 0.0) ** 2 - (se * self.middle) ** 2  # of the line at the clients' mean
        variance = own + (se * a) ** 2 + half**2 / (2 * df)
        return np.asarray(t_quantile(0.975, df) * np.sqrt(np.maximum(variance, 0.0)), dtype=float)

    def even(self) -> SlopingLimits:
        """The limits with one width for all levels."""
        return replace(self, r0=self.sd * math.sqrt(2 / math.pi), r1=0.0)

    def at(self, level: Floats) -> tuple[Floats, Floats, Floats]:
        """Lower limit, bias and upper limit at levels of the mean of both."""
        a = level - self.centre
        bias = self.b0.value + self.b1.value * a
        # of a half-normal residual the SD is √(π/2) times the mean
        half = 1.96 * math.sqrt(math.pi / 2) * np.maximum(self.r0 + self.r1 * a, 0.0)
        return bias - half, bias, bias + half


def ratio_limits(x: Floats, y: Floats, client: Ints, occasion: Ints) -> RatioLimits | None:
    """Limits of agreement of the ratio device / reference.

    Parameters
    ----------
    x, y : ndarray, shape (n,)
        Reference and device, in one unit.
    client, occasion : ndarray of int, shape (n,)
        Client and occasion of each pair; they choose the single or the repeated design.

    Returns
    -------
    RatioLimits or None
        Geometric mean ratio and limits. None when a value is not above 0, or with too few pairs.

    References
    ----------
    Bland & Altman 1999, Stat Methods Med Res 8:135, section 3.1.
    """
    if x.size < 2 or float(min(x.min(), y.min())) <= 0:
        return None
    d = np.log(y) - np.log(x)
    bias, limits = _bias_and_limits(d, client, occasion)
    if bias is None or limits is None:
        return None

    def back(i: Interval | None) -> Interval | None:
        return None if i is None else Interval(math.exp(i.low), math.exp(i.high))

    return RatioLimits(
        Estimate(math.exp(bias.value), back(bias.interval), x.size, "log"),
        math.exp(limits.lower),
        math.exp(limits.upper),
        back(limits.lower_interval),
        back(limits.upper_interval),
    )


def _bias_and_limits(
    d: Floats, client: Ints, occasion: Ints
) -> tuple[Estimate | None, Limits | None]:
    clients = int(np.unique(client).size)
    if d.size == clients:
        return single_bias(d)[0], single_limits(d)
    fit = fit_nested(d, client, occasion)
    if fit is None or clients < 2:
        return None, None
    bias, _ = repeated_bias(fit)
    return bias, repeated_limits(
        fit, bias, variance_grid(occasion_means(d, client, occasion)), d, client
    )


def sloping_limits(d: Floats, mean: Floats, client: Ints) -> SlopingLimits | None:
    """Limits of agreement about a straight line, whose width may change with the level as well.

    Parameters
    ----------
    d, mean : ndarray, shape (n,)
        Differences, and means of both methods.
    client : ndarray of int, shape (n,)
        Client of each pair.

    Returns
    -------
    SlopingLimits or None
        None below ten pairs or where the level does not vary.

    Notes
    -----
    With several pairs of a client the line goes through the means of clients, and the width comes
    from all pairs about it.

    References
    ----------
    Bland & Altman 1999, Stat Methods Med Res 8:135, section 3.2.
    """
    n = d.size
    centre = float(mean.mean()) if n else 0.0
    a = mean - centre
    saa = float(a @ a)
    if n < LEAST_LINE or saa <= 1e-18 * n * max(1.0, abs(centre)) ** 2:
        return None
    _, k, pairs = np.unique(client, return_inverse=True, return_counts=True)
    c = pairs.size
    level, own = np.bincount(k, a) / pairs, np.bincount(k, d) / pairs
    middle = float(level.mean())
    spread = float((level - middle) @ (level - middle))
    if c < 3 or spread <= 1e-18 * c * max(1.0, abs(centre)) ** 2:
        return None
    b1 = float((level - middle) @ own) / spread
    b0 = float(own.mean()) - b1 * middle
    between = own - b0 - b1 * level
    s2 = float(between @ between) / (c - 2)
    inner = float(((d - own[k]) ** 2).sum())
    size = np.abs(d - b0 - b1 * a)
    r1 = float(a @ size) / saa
    own_size = np.bincount(k, size) / pairs
    growth = float((level - middle) @ own_size) / spread
    left = own_size - own_size.mean() - growth * (level - middle)
    se = math.sqrt(float(left @ left) / (c - 2) / spread)
    return SlopingLimits(
        t_estimate(b0, math.sqrt(s2 * (1 / c + middle**2 / spread)), c - 2, n, "ols"),
        t_estimate(b1, math.sqrt(s2 / spread), c - 2, n, "ols"),
        float(size.mean()),
        r1,
        centre,
        t_two_sided_p(growth / se, c - 2) if se > 0 else 1.0,
        math.sqrt(s2 + (inner / (n - c) * (1 - c / n) if n > c else 0.0)),
        middle,
    )


def percentile_limits(
    d: Floats, client: Ints, draws: int = 2000, seed: int = 1, confidence: float = 0.95
) -> Limits | None:
    """2.5th and 97.5th percentiles of the differences.

    Parameters
    ----------
    d : ndarray, shape (n,)
        Differences.
    client : ndarray of int, shape (n,)
        Client of each pair; whole clients are resampled.
    draws, seed : int
        Number of resamples and seed of the generator.
    confidence : float
        Level of the bootstrap intervals.

    Returns
    -------
    Limits or None
        None below 20 pairs.

    References
    ----------
    Bland & Altman 1999, Stat Methods Med Res 8:135, section 3.3.
    """
    n = d.size
    _, k = np.unique(client, return_inverse=True)
    if n < LEAST_PERCENTILES or int(k.max()) < 4:
        return None
    # clients in an order of their data: the same draws whatever the order in which they were
    # entered
    counted, sums = np.bincount(k), np.bincount(k, d)
    place = np.empty(counted.size, dtype=np.int64)
    place[np.lexsort((sums, counted))] = np.arange(counted.size)
    order = np.argsort(d, kind="stable")
    ranked, own = d[order], place[k][order]
    ends: list[Floats] = []
    for counts in client_weights(int(k.max()) + 1, draws, seed, columns=n):
        heap = np.cumsum(counts[:, own], axis=1)
        total = heap[:, -1:]
        found = [
            ranked[np.minimum((heap < share * total).sum(axis=1), n - 1)]
            for share in (0.025, 0.975)
        ]
        ends.append(np.column_stack(found))
    drawn = np.concatenate(ends)
    tail = [50 - 50 * confidence, 50 + 50 * confidence]
    low, high = (Interval(*map(float, np.percentile(drawn[:, c], tail))) for c in (0, 1))
    at = np.percentile(d, [2.5, 97.5])
    return Limits(float(at[0]), float(at[1]), low, high, 0.95, "percentiles", "bootstrap-clients")


def shapiro_wilk(value: Floats) -> tuple[float, float] | None:
    """Test whether values look normal.

    Parameters
    ----------
    value : ndarray, shape (n,)
        4 to 5,000 values.

    Returns
    -------
    tuple of float or None
        The statistic W and its p-value. None outside those numbers, or when all values are equal.

    References
    ----------
    Royston 1995, Appl Stat 44:547, algorithm AS R94.
    """
    n = value.size
    if not 4 <= n <= 5000 or float(np.ptp(value)) <= 1e-12 * max(1.0, float(np.abs(value).max())):
        return None
    x = np.sort(value)
    m = special.ndtri((np.arange(1, n + 1) - 0.375) / (n + 0.25))
    mm = float(m @ m)
    u = 1 / math.sqrt(n)
    a = np.zeros(n)
    a[-1] = np.polyval(
        [-2.706056, 4.434685, -2.07119, -0.147981, 0.221157, m[-1] / math.sqrt(mm)], u
    )
    if n > 5:
        a[-2] = np.polyval(
            [-3.582633, 5.682633, -1.752461, -0.293762, 0.042981, m[-2] / math.sqrt(mm)], u
        )
        phi = (mm - 2 * m[-1] ** 2 - 2 * m[-2] ** 2) / (1 - 2 * a[-1] ** 2 - 2 * a[-2] ** 2)
        a[2:-2] = m[2:-2] / math.sqrt(phi)
        a[1] = -a[-2]
    else:
        phi = (mm - 2 * m[-1] ** 2) / (1 - 2 * a[-1] ** 2)
        a[1:-1] = m[1:-1] / math.sqrt(phi)
    a[0] = -a[-1]
    centred = x - x.mean()
    w = min(float(a @ x) ** 2 / float(centred @ centred), 1.0)
    if n <= 11:
        g = -2.273 + 0.459 * n
        inside = g - math.log(max(1 - w, 1e-300))
        if inside <= 0:
            return w, 0.0
        y, mu = -math.log(inside), np.polyval([-0.0006714, 0.025054, -0.39978, 0.5440], n)
        sigma = math.exp(np.polyval([-0.0020322, 0.062767, -0.77857, 1.3822], n))
    else:
        log = math.log(n)
        y, mu = (
            math.log(max(1 - w, 1e-300)),
            np.polyval([0.0038915, -0.083751, -0.31082, -1.5861], log),
        )
        sigma = math.exp(np.polyval([0.0030302, -0.082676, -0.4803], log))
    return w, float(special.ndtr(-(y - mu) / sigma))


@dataclass(frozen=True, slots=True)
class WithoutReferenceError:
    """SD of one difference with the reference's own part taken off, and the limits it leaves.

    None where that cannot be separated.
    """

    sd: float
    lower: float
    upper: float


def without_reference_error(
    bias: float, sd: float, scan_sd: float, scans: float
) -> WithoutReferenceError | None:
    """Remove the reference's own error from the spread of the differences.

    Parameters
    ----------
    bias, sd : float
        Mean and SD of the differences.
    scan_sd : float
        SD of one scan about the true value.
    scans : float
        Scans that make up one reference value.

    Returns
    -------
    WithoutReferenceError or None
        SD and limits of the device's own error. None when the scan's variance is as large as that
        of the differences.
    """
    rest = sd**2 - scan_sd**2 / scans
    if rest <= 0:
        return None
    own = math.sqrt(rest)
    z = normal_quantile(0.975)
    return WithoutReferenceError(own, bias - z * own, bias + z * own)
