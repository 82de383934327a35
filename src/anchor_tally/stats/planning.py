"""Precision to expect of a design before it is measured: clients, scans, mornings, repeats.

Everything is for the balanced design: each of N clients is scanned A times, and a device is read K
times on each of M mornings around a scan.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt
from scipy import special

from .estimate import Floats
from .variance_grid import OCCASIONS

if TYPE_CHECKING:
    from scipy.interpolate import CubicSpline

FINE, QUICK = (32, 1024), (10, 256)  # drawn studies, and points of the interval of each
Array = npt.ArrayLike


@dataclass(frozen=True, slots=True)
class Spreads:
    """Standard deviations of one device beside the scan, in the metric's unit.

    Attributes
    ----------
    client : float
        Of the device's offset between clients.
    scan : float
        Of one scan about what is true.
    day : float
        Of the device from morning to morning, the repeats' share taken off.
    repeat : float
        Of repeats minutes apart, rounding included.
    correlation : float
        Of the device's error on neighbouring mornings, 0 to below 1.
    """

    client: float
    scan: float
    day: float
    repeat: float
    correlation: float = 0.0


@dataclass(frozen=True, slots=True)
class Design:
    """Clients, scans of each, mornings around a scan, and repeats on a morning.

    ``kept`` is the share of the planned scans that take place.
    """

    clients: int
    scans: int
    mornings: int = 1
    repeats: int = 1
    kept: float = 1.0

    @property
    def realised(self) -> tuple[float, float]:
        """Clients with a scan, and scans of each of them that tell as much as the realised ones.

        Scans are missed independently; of those of one client the harmonic mean counts.
        """
        if self.kept >= 1:
            return self.clients, self.scans
        taken = np.arange(1, self.scans + 1)
        chance = special.binom(self.scans, taken) * self.kept**taken
        chance = chance * (1 - self.kept) ** (self.scans - taken)
        some = float(chance.sum())
        return max(self.clients * some, 1.0), some / float((chance / taken).sum())


@dataclass(frozen=True, slots=True)
class Expected:
    """Expected half-widths of 95 % intervals of a design, in the metric's unit.

    Attributes
    ----------
    bias : float or None
        Of the mean difference; None with one client.
    limits : float or None
        Of the upper limit of agreement of one reading (with several mornings: of a morning's
        mean).
    offset : float or None
        Of the offset of a client who was scanned; None with one scan, which cannot separate a
        client from a day.
    reading : float or None
        Of one corrected reading of such a client, of the same kind.
    """

    bias: float | None
    limits: float | None
    offset: float | None
    reading: float | None


@dataclass(frozen=True, slots=True)
class _Levels:
    """The nested design behind a plan: variances of client, occasion and the lowest level.

    ``per`` is the number of readings of the lowest level in an occasion.
    """

    client: float
    occasion: float
    lowest: float
    per: int


def _levels(s: Spreads, design: Design) -> _Levels:
    """Several mornings are the lowest level, each by the mean of its repeats; else the repeats."""
    m = design.mornings
    if m > 1:
        # what neighbouring mornings share belongs to the scan's occasion
        shared = s.day**2 * (_inflation(m, s.correlation) - 1) / (m - 1)
        lowest = s.day**2 - shared + s.repeat**2 / design.repeats
        return _Levels(s.client**2, s.scan**2 + shared, lowest, m)
    return _Levels(s.client**2, s.scan**2 + s.day**2, s.repeat**2, design.repeats)


@lru_cache(maxsize=8)
def _sequence(dimensions: int, points: int) -> Floats:
    """Evenly spread points of the unit cube, shape (dimensions, points).

    An additive recurrence with the powers of the root of x^(d+1) = x + 1.
    """
    root = 2.0
    for _ in range(40):
        root = (1 + root) ** (1 / (dimensions + 1))
    steps = root ** -np.arange(1.0, dimensions + 1)
    return (0.5 + np.outer(steps, np.arange(1, points + 1))) % 1.0


@lru_cache(maxsize=64)
def _log_chi2_over_df(df: float) -> CubicSpline:
    """Log of chi-square / df at a normal deviate; the inverse itself takes eight times as long.

    Within 1e-6 of it for probabilities from 1e-15 on, within 2e-5 down to 1e-100.
    """
    from scipy.interpolate import CubicSpline  # only here: most starts draw no plan

    deviates = np.concatenate([np.arange(-37.5, -8, 0.5), np.arange(-8, 8.25, 0.1)])
    inverse = 2 * special.gammaincinv(df / 2, special.ndtr(deviates)) / df
    return CubicSpline(deviates, np.log(np.maximum(inverse, 1e-300)))


def _chi2_over_df(p: Floats, df: float) -> Floats:
    return np.asarray(np.exp(_log_chi2_over_df(df)(special.ndtri(p))), dtype=float)


def _at_least(found: Floats, df: float, floor: Floats, p: Floats) -> tuple[Floats, Floats]:
    """Expected mean squares given the one found, above a floor, and the share that lies there.

    ``found`` has shape (rows, 1), ``floor`` (rows, points), ``p`` (points,).
    """
    ratio = found / np.maximum(floor, 1e-300)
    share = np.where(floor > 0, special.gammainc(df / 2, df / 2 * ratio), 1.0)
    return found / _chi2_over_df(np.maximum(share * p, 1e-300), df), np.maximum(share, 1e-300)


def _half_width(value: Floats, weight: Floats) -> float:
    """Mean over rows of half the distance between the weighted 2.5th and 97.5th percentile."""
    order = np.argsort(value, axis=1)
    value = np.take_along_axis(value, order, 1)
    share = np.cumsum(np.take_along_axis(weight, order, 1), 1)
    whole = share[:, -1:]
    share /= np.where(whole > 0, whole, 1.0)  # without any spread no point weighs anything
    ends = [
        np.interp((0.025, 0.975), row - step / 2, at)
        for row, step, at in zip(share, np.diff(share, axis=1, prepend=0), value, strict=True)
    ]
    return float(np.diff(ends, axis=1).mean() / 2)


def expected(
    s: Spreads,
    design: Design,
    wanted: str = "",
    points: tuple[int, int] = FINE,
    coverage: float = 0.95,
) -> Expected:
    """Half-widths to expect of the intervals that the analysis gives, or of less data.

    Whoever has more repeats or mornings can leave them out: the narrowest counts.

    Parameters
    ----------
    s : Spreads
        Assumed or estimated standard deviations.
    design : Design
        Clients, scans, mornings and repeats; each 1 or more.
    wanted : str
        One field of the result, where the others are not needed; they are None then.
    points : (int, int)
        Drawn studies, and points of the interval of each: ``FINE`` (within 3 %), or ``QUICK``
        (within 8 %) for a picture that follows a slider.
    coverage : float
        Share of readings between the limits of agreement.

    Returns
    -------
    Expected
        None where the design gives no such interval.

    Notes
    -----
    The mean squares of a balanced design are multiples of independent chi-square variables.
    Sets of them are drawn from evenly spread points; of each set the interval is that of the
    analysis: expected mean squares are inverse chi-square, each at least that of the level below
    it, and the prior of the occasions is that of ``variance_grid``. The bias has a t interval;
    where the clients vary less than their occasions, both are pooled, as restricted likelihood
    does.

    References
    ----------
    Box & Tiao 1973, Bayesian Inference in Statistical Analysis, section 5.2 (from memory);
    Henderson 1975, Biometrics 31:423.
    """
    found = [_expected(s, d, wanted, points, coverage) for d in _less(design)]
    return Expected(
        *(
            min((w for w in widths if w is not None), default=None)
            for widths in zip(
                *((e.bias, e.limits, e.offset, e.reading) for e in found), strict=True
            )
        )
    )


def _less(design: Design) -> list[Design]:
    """The design, and what it holds with one repeat, with one morning, and with one of both."""
    return [
        replace(design, mornings=m, repeats=k)
        for m in sorted({design.mornings, 1}, reverse=True)
        for k in sorted({design.repeats, 1}, reverse=True)
    ]


def _expected(
    s: Spreads, design: Design, wanted: str, points: tuple[int, int], coverage: float
) -> Expected:
    """As ``expected``, of this design alone."""
    n, a = design.realised
    v = _levels(s, design)
    k = v.per
    if n < 2:
        return Expected(None, None, None, None)
    outer, inner = _sequence(4, points[0]), _sequence(5, points[1])
    df_b, df_o, df_r = n - 1, n * (a - 1), n * a * (k - 1)
    occasion = v.occasion + v.lowest / k
    found_b = (v.client + occasion / a) * _chi2_over_df(outer[0], df_b)[:, None]
    found_o = occasion * _chi2_over_df(outer[1], df_o)[:, None] if df_o else None
    found_r = v.lowest * _chi2_over_df(outer[2], df_r)[:, None] if df_r else None
    bias = _bias(n, a, found_b, found_o)
    weight = np.ones(points)
    # from the lowest level upwards, each expected mean square at least that of the level below
    repeat = found_r / _chi2_over_df(inner[2], df_r) if found_r is not None else 0 * weight
    within = repeat / k
    if found_o is not None:
        within, share = _at_least(found_o, df_o, within, inner[1])
        weight *= share
        if found_r is not None:
            weight *= (within * k / np.maximum(repeat, 1e-300)) ** OCCASIONS
    between, share = _at_least(found_b, df_b, within / a, inner[0])
    weight *= share
    centre = special.ndtri(inner[3]) * np.sqrt(between / n)
    z, normal = special.ndtri(0.5 + coverage / 2), special.ndtri(inner[4])

    def half(name: str, value: Callable[[], Floats]) -> float | None:
        return _half_width(value(), weight) if wanted in ("", name) else None

    if found_o is None and found_r is None:
        limits = half("limits", lambda: centre + z * np.sqrt(between))
        return Expected(bias, limits, None, None)
    client = np.maximum(between - within / a, 0)
    one = within + repeat * (1 - 1 / k)
    share = client / np.maximum(client + within / a, 1e-300)
    deviation = special.ndtri(outer[3])[:, None] * np.sqrt(found_b * df_b / n)
    variance = share * within / a + (1 - share) ** 2 * between / n
    limits = half("limits", lambda: centre + z * np.sqrt(client + one))
    if a == 1:
        return Expected(bias, limits, None, None)
    return Expected(
        bias,
        limits,
        half("offset", lambda: share * deviation + np.sqrt(variance) * normal),
        half("reading", lambda: share * deviation + np.sqrt(variance + one) * normal),
    )


def _bias(n: float, a: float, between: Floats, within: Floats | None) -> float:
    """Expected half-width of the t interval of the mean difference."""
    variance, df = between, np.full_like(between, n - 1)
    if within is not None:
        pooled = ((n - 1) * between + n * (a - 1) * within / a) / (n * a - 1)
        low = between * a < within
        variance, df = np.where(low, pooled, variance), np.where(low, n * a - 1, df)
    return float((special.stdtrit(df, 0.975) * np.sqrt(variance / n)).mean())


def bias_error(s: Spreads, design: Design) -> tuple[float, int]:
    """Standard error of the bias of a design, and its degrees of freedom (N − 1)."""
    v = _levels(s, design)
    occasion = v.occasion + v.lowest / v.per
    n, a = design.realised
    return math.sqrt((v.client + occasion / a) / n), max(int(n) - 1, 1)


def power_of_equivalence(
    se: float, df: float, margin: float, bias: float = 0.0, level: float = 0.05
) -> float:
    """Probability that two one-sided tests show a bias inside ± margin.

    Parameters
    ----------
    se, df : float
        Standard error of the bias and its degrees of freedom.
    margin : float
        The margin, in the metric's unit.
    bias : float
        The true bias.
    level : float
        Level of each one-sided test.

    Returns
    -------
    float

    Notes
    -----
    The probability that |b| + t·s is below the margin, b normal and s²·df/σ² chi-square,
    integrated over s by Gauss–Legendre points in its probability.

    References
    ----------
    Schuirmann 1987, J Pharmacokinet Biopharm 15:657.

    Examples
    --------
    >>> round(power_of_equivalence(0.5, 19, 2.0), 3)
    0.973
    """
    if se <= 0:
        return float(abs(bias) < margin)
    points, weight = np.polynomial.legendre.leggauss(200)
    p = (points + 1) / 2
    s = se * np.sqrt(_chi2_over_df(p, df))
    room = margin - special.stdtrit(df, 1 - level) * s
    inside = special.ndtr((room - bias) / se) - special.ndtr((-room - bias) / se)
    return float((np.where(room > 0, inside, 0.0) @ weight) / 2)


def power_of_drift(
    s: Spreads, design: Design, weeks: Array, per_week: float, level: float = 0.05
) -> float:
    """Probability that a steady drift is shown.

    Parameters
    ----------
    s : Spreads
        Standard deviations.
    design : Design
        The design; all clients are scanned in the same weeks.
    weeks : array_like, shape (A,)
        Weeks of the scans.
    per_week : float
        Drift, in the metric's unit per week.
    level : float
        Level of the two-sided test.

    Returns
    -------
    float
        By the noncentral t distribution with N(A − 1) − 1 degrees of freedom; 0 where the design
        has none.
    """
    w = np.asarray(weeks, dtype=float)
    df = design.clients * (w.size * min(design.kept, 1.0) - 1) - 1
    spread = float(((w - w.mean()) ** 2).sum())
    if df < 1 or spread == 0:
        return 0.0
    v = _levels(s, design)
    se = math.sqrt((v.occasion + v.lowest / v.per) / (design.clients * design.kept * spread))
    if se == 0:
        return float(per_week != 0)
    return _power_of_t(abs(per_week) / se, df, level)


def mean_of_mornings(s: Spreads, mornings: int, repeats: int, correlation: float = 0.0) -> float:
    """SD of the mean of consecutive mornings about the client's own level.

    Parameters
    ----------
    s : Spreads
        Day and repeat are used.
    mornings, repeats : int
        Mornings, and repeats on each.
    correlation : float
        Of the device's day-to-day error between neighbouring mornings, 0 to below 1.

    Returns
    -------
    float
        In the metric's unit.

    Examples
    --------
    >>> round(mean_of_mornings(Spreads(0, 0, 2.0, 0.0), 4, 1), 3)
    1.0
    """
    inflation = _inflation(mornings, correlation)
    return math.sqrt(s.day**2 * inflation / mornings + s.repeat**2 / (mornings * repeats))


def _inflation(mornings: int, correlation: float) -> float:
    """By how much the variance of a mean grows because neighbouring mornings are alike."""
    lag = np.arange(1, mornings)
    return 1 + 2 * float(((1 - lag / mornings) * correlation**lag).sum())


def power_of_group_change(sd: float, clients: float, change: float, level: float = 0.05) -> float:
    """Probability that a mean change of a group is shown by a t test on the clients' changes.

    Parameters
    ----------
    sd : float
        SD of one client's measured change: what clients truly differ by, and the error.
    clients : float
        Clients of the group.
    change : float
        True mean change, in the metric's unit.
    level : float
        Level of the two-sided test.

    Returns
    -------
    float
        By the noncentral t distribution; 0 with one client.

    Examples
    --------
    >>> round(power_of_group_change(1.0, 10, 1.0), 3)  # d = 1: Cohen 1988, table 2.3 (from memory)
    0.803
    """
    return _power_of_t(
        abs(change) / sd * math.sqrt(clients) if sd > 0 else None, clients - 1, level
    )


def power_of_two_groups(
    sd: float, first: float, second: float, difference: float, level: float = 0.05
) -> float:
    """Probability that two groups are shown to differ in their mean change, by a t test.

    Parameters
    ----------
    sd : float
        SD of one client's measured change, alike in both groups.
    first, second : float
        Clients of each group.
    difference : float
        True difference of the mean changes.
    level : float
        Level of the two-sided test.

    Examples
    --------
    >>> round(power_of_two_groups(1.0, 64, 64, 0.5), 3)  # Cohen 1988, table 2.4: 64 (from memory)
    0.801
    """
    away = abs(difference) / (sd * math.sqrt(1 / first + 1 / second)) if sd > 0 else None
    return _power_of_t(away, first + second - 2, level)


def _power_of_t(away: float | None, df: float, level: float) -> float:
    """Power of a two-sided t test; ``away`` None without any scatter."""
    if df < 1:
        return 0.0
    if away is None:
        return 1.0
    t = float(special.stdtrit(df, 1 - level / 2))
    # the other tail is below what the library resolves once the change is a few errors away
    lower = float(special.nctdtr(df, away, -t)) if away < 3 else 0.0
    return min(max(1 - float(special.nctdtr(df, away, t)) + lower, 0.0), 1.0)


def clients_needed(
    power: Callable[[int], float], wanted: float = 0.8, most: int = 400
) -> int | None:
    """Fewest clients (two or more) with which a power is reached; None where ``most`` do not."""
    low, high = 1, 2
    while power(high) < wanted:
        if high >= most:
            return None
        low, high = high, min(2 * high, most)
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if power(middle) >= wanted else (middle, high)
    return high


def smallest_real_change(
    s: Spreads, mornings: int, repeats: int, correlation: float = 0.0
) -> float:
    """Smallest difference of two means of mornings beyond day-to-day variation, 95 %.

    1.96·√2 times ``mean_of_mornings``.
    """
    return float(
        special.ndtri(0.975) * math.sqrt(2) * mean_of_mornings(s, mornings, repeats, correlation)
    )


def chance_to_see(change: float, error: float, confidence: float = 0.95) -> tuple[float, float]:
    """Chance that a true change is shown, and that the difference has the wrong sign.

    Parameters
    ----------
    change : float
        True change, in the metric's unit.
    error : float
        SD of the difference of the two means that are compared.
    confidence : float
        Level at which a difference is called a change.

    Returns
    -------
    shown : float
        Probability of a difference in the right direction beyond its limit.
    wrong : float
        Probability of a difference in the other direction, of any size.
    """
    if error <= 0:
        return (1.0, 0.0) if change else (0.0, 0.0)
    away = abs(change) / error
    z = float(special.ndtri(0.5 + confidence / 2))
    return float(special.ndtr(away - z)), float(special.ndtr(-away))


def mornings_to_see(
    change: float, s: Spreads, repeats: int, correlation: float = 0.0, most: int = 28
) -> int | None:
    """Mornings at each of two dates so that a true change is shown with 80 % power.

    None where ``most`` are too few.
    """
    for mornings in range(1, most + 1):
        error = math.sqrt(2) * mean_of_mornings(s, mornings, repeats, correlation)
        if chance_to_see(change, error)[0] >= 0.8:
            return mornings
    return None
