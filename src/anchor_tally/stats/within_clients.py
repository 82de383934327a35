"""How two series of the same clients vary together within clients, at any level."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from .distributions import normal_quantile, t_estimate
from .estimate import Estimate, Floats, Interval, Ints

LEAST_PEOPLE, LEAST_TRUE = 5, 0.25  # clients of a jackknife; share of x that is no error
LEAST_RELIABLE = 0.2  # share of a residual that must not be noise of repeats


def centred(value: Floats, client: Ints) -> Floats:
    """Subtract each client's mean.

    Parameters
    ----------
    value : ndarray, shape (n,)
        Values.
    client : ndarray of int, shape (n,)
        Client of each value.

    Returns
    -------
    ndarray, shape (n,)
    """
    _, k = np.unique(client, return_inverse=True)
    return np.asarray(value - (np.bincount(k, value) / np.bincount(k))[k], dtype=float)


def detrended(value: Floats, client: Ints, time: Floats) -> Floats:
    """Subtract each client's straight line through time.

    Parameters
    ----------
    value : ndarray, shape (n,)
        Values.
    client : ndarray of int, shape (n,)
        Client of each value.
    time : ndarray, shape (n,)
        Time of each value.

    Returns
    -------
    ndarray, shape (n,)
        For a client with one moment, values less the mean.
    """
    _, k = np.unique(client, return_inverse=True)
    v, t = centred(value, client), centred(time, client)
    tt = np.bincount(k, t * t)
    slope = np.bincount(k, v * t) / np.where(tt > 0, tt, 1.0)
    return np.asarray(v - slope[k] * t, dtype=float)


def _with_course(client: Ints) -> tuple[npt.NDArray[np.bool_], int]:
    """Values of clients with three or more, of which a straight course leaves something."""
    _, k, size = np.unique(client, return_inverse=True, return_counts=True)
    return size[k] > 2, int((size > 2).sum())


def repeated_correlation(
    x: Floats, y: Floats, client: Ints, confidence: float = 0.95
) -> Estimate | None:
    """Common correlation of x and y within clients.

    Parameters
    ----------
    x, y : (n,) arrays
        Values of the same visits.
    client : (n,) integer array
        Whose visit it is.
    confidence : float
        Level of Fisher's interval.

    Returns
    -------
    Estimate or None
        n − clients − 1 error degrees of freedom. None below three of them, or when one of the
        series does not vary within clients.

    References
    ----------
    Bakdash & Marusich 2017, Front Psychol 8:456.

    Examples
    --------
    >>> import numpy as np
    >>> client = np.repeat([0, 1, 2], 3)
    >>> x = np.array([1.0, 2, 3, 11, 12, 13, 21, 22, 23])
    >>> r = repeated_correlation(x, 50 - x + np.tile([0.1, 0.0, -0.1], 3), client)
    >>> round(r.value, 3)
    -1.0
    """
    df = x.size - int(np.unique(client).size) - 1
    return _correlation(centred(x, client), centred(y, client), df, x, y, "rmcorr", confidence)


def shared_correlation(
    x: Floats,
    y: Floats,
    client: Ints,
    time: Floats,
    course: Floats | None,
    noise: tuple[float, float],
    confidence: float = 0.95,
) -> Estimate | None:
    """Correlation of what two devices show beside the clients' own course.

    Parameters
    ----------
    x, y : ndarray, shape (n,)
        Both series.
    client : ndarray of int, shape (n,)
        Client (and settings) of each value.
    time : ndarray, shape (n,)
        Time of each value.
    course : ndarray, shape (n,), optional
        What others show of the same visits: its part is taken out of both.
    noise : tuple of float
        Variances of the two values by repeats alone.
    confidence : float
        Level of the interval.

    Returns
    -------
    Estimate or None
        Corrected for attenuation by the repeats, at most 1. None with fewer than three degrees of
        freedom (n − 2·clients − 1, one less with a course), or where one side is noise alone.

    Notes
    -----
    Two devices that follow the same client well are alike by that: only what is left after the
    client's course can show a shared formula or sensor.

    References
    ----------
    Spearman 1904, Am J Psychol 15:72 (attenuation).
    """
    keep, groups = _with_course(client)
    x, y, client, time = x[keep], y[keep], client[keep], time[keep]
    left = [detrended(v, client, time) for v in (x, y)]
    df = x.size - 2 * groups - 1
    if course is not None:
        c = detrended(course[keep], client, time)
        cc = float(c @ c)
        if cc > 0:
            left = [v - float(v @ c) / cc * c for v in left]
            df -= 1
    found = _correlation(left[0], left[1], df, x, y, "rmcorr-shared", confidence)
    if found is None or found.interval is None:
        return found
    own = [1 - s / (float(v @ v) / (df + 1)) for s, v in zip(noise, left, strict=True)]
    if min(own) < LEAST_RELIABLE:
        return None
    scale = 1 / math.sqrt(own[0] * own[1])
    low, high = (min(max(r * scale, -1.0), 1.0) for r in (found.interval.low, found.interval.high))
    value = min(max(found.value * scale, -1.0), 1.0)
    return Estimate(value, Interval(low, high), found.n, found.method)


def _correlation(
    left_x: Floats, left_y: Floats, df: int, x: Floats, y: Floats, method: str, confidence: float
) -> Estimate | None:
    """Correlation of what is left of two series, with Fisher's interval on ``df``.

    None where one of them does not vary.
    """
    sxx, syy = float(left_x @ left_x), float(left_y @ left_y)
    floor = (
        1e-18
        * x.size
        * max(1.0, float(np.abs(x).max(initial=0)), float(np.abs(y).max(initial=0))) ** 2
    )
    if df < 3 or sxx <= floor or syy <= floor:
        return None
    r = min(max(float(left_x @ left_y) / math.sqrt(sxx * syy), -1.0), 1.0)
    if abs(r) >= 1 - 1e-12:
        return Estimate(r, Interval(r, r), x.size, method)
    half = normal_quantile(0.5 + confidence / 2) / math.sqrt(df - 1)
    z = math.atanh(r)
    return Estimate(r, Interval(math.tanh(z - half), math.tanh(z + half)), x.size, method)


@dataclass(frozen=True, slots=True)
class WithinSlope:
    """Slope of one series on another within clients, after each client's trend.

    ``sd`` is the spread left about it; ``clustered`` whether its interval allows for days of a
    client that are alike.
    """

    slope: Estimate
    sd: float
    df: int
    clustered: bool = False


def detrended_slope(
    x: Floats,
    y: Floats,
    client: Ints,
    time: Floats,
    confidence: float = 0.95,
    *,
    people: Ints | None = None,
    error: float = 0.0,
) -> WithinSlope | None:
    """Slope of y on x within clients after each client's trend through time is removed.

    Parameters
    ----------
    x, y : ndarray, shape (n,)
        Both series.
    client : ndarray of int, shape (n,)
        Client of each value, or client and setting.
    time : ndarray, shape (n,)
        Time of each value.
    confidence : float
        Level of the t interval.
    people : ndarray of int, shape (n,), optional
        Client of each value, for an interval by leaving out one client at a time.
    error : float
        Variance of the error of one x; its part of the spread of x is taken off.

    Returns
    -------
    WithinSlope or None
        None below three degrees of freedom (n − 2·clients − 1), where x does not vary, or where
        less than a quarter of its spread is more than error. Clients with fewer than three moments
        are left out.

    Notes
    -----
    Analysis of covariance with a slope on time for each client. Days of one client are alike; from
    five clients on the interval is a jackknife of whole clients, else that of independent days.

    References
    ----------
    Fuller 1987, Measurement Error Models, section 1.2 (attenuation; from memory); Miller 1974,
    Biometrika 61:1 (jackknife).
    """
    keep, groups = _with_course(client)
    who = (client if people is None else people)[keep]
    x, y, client, time = x[keep], y[keep], client[keep], time[keep]
    df = x.size - 2 * groups - 1
    if df < 3:
        return None
    dx, dy = detrended(x, client, time), detrended(y, client, time)
    sxx, sxy = float(dx @ dx), float(dx @ dy)
    if sxx <= 1e-18 * x.size * max(1.0, float(np.abs(x).max())) ** 2:
        return None
    own = error * (x.size - 2 * groups)
    if sxx - own < LEAST_TRUE * sxx:
        return None
    slope = sxy / (sxx - own)
    left = dy - slope * dx
    sd = math.sqrt(float(left @ left) / df)
    _, at = np.unique(who, return_inverse=True)
    people_n = int(at.max()) + 1
    if people is None or people_n < LEAST_PEOPLE:
        se = sd / math.sqrt(sxx - own)
        return WithinSlope(t_estimate(slope, se, df, x.size, "ancova", confidence), sd, df)
    xx, xy = np.bincount(at, dx * dx), np.bincount(at, dx * dy)
    share = np.bincount(at) / x.size
    rest = (sxy - xy) / (sxx - xx - own * (1 - share))
    se = math.sqrt((people_n - 1) / people_n * float(((rest - rest.mean()) ** 2).sum()))
    found = t_estimate(slope, se, people_n - 1, x.size, "ancova-jackknife", confidence)
    return WithinSlope(found, sd, df, clustered=True)
