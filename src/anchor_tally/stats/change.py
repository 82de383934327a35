"""Does an instrument follow change?

Changes between consecutive anchors, beside those of the reference.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from .agreement import agreement
from .components import NestedFit, fit_nested
from .distributions import normal_quantile, t_estimate
from .estimate import Estimate, Floats, Interval, Ints, Note, note
from .jackknife import of_positive
from .limits import Limits, single_bias, single_limits
from .regression import Line, deming
from .repeatability import sd_interval
from .repeated import repeated_limits
from .shares import clustered_share
from .variance_grid import occasion_means, variance_grid


@dataclass(frozen=True, slots=True)
class Concordance:
    """Changes of the same sign, among those outside the exclusion zone, with Wilson's interval."""

    share: Estimate | None
    same: int
    judged: int
    excluded: int


@dataclass(frozen=True, slots=True)
class Change:
    """Changes of the instrument less those of the reference.

    Bias, SD, limits, slope on the reference's changes, and directions.
    """

    n: int
    clients: int
    bias: Estimate | None
    sd: Estimate | None
    limits: Limits | None
    slope: Line | None
    correlation: Estimate | None
    signs: Concordance
    zone: float
    notes: tuple[Note, ...]


def sign_concordance(dx: Floats, dy: Floats, client: Ints, zone: float) -> Concordance:
    """Share of changes whose direction the device and the reference agree on.

    Parameters
    ----------
    dx, dy : ndarray, shape (n,)
        Changes of the reference and of the device, in units of the metric.
    client : ndarray of int, shape (n,)
        Client of each change.
    zone : float
        Exclusion zone: a change is left out when both changes lie within it.

    Returns
    -------
    Concordance
        The share with its interval, and how many changes were judged and left out.

    References
    ----------
    Critchley, Lee & Ho 2010, Anesth Analg 111:1180 (four-quadrant trend analysis).
    """
    outside = (np.abs(dx) > zone) | (np.abs(dy) > zone)
    agrees = (dx * dy > 0)[outside]
    judged, same = int(outside.sum()), int(agrees.sum())
    share = clustered_share(agrees.astype(float), client[outside])
    return Concordance(share, same, judged, int(dx.size - judged))


def change(dx: Floats, dy: Floats, client: Ints, zone: float, ratio: float = 1.0) -> Change:
    """Compare the changes of a device with those of the reference.

    Parameters
    ----------
    dx, dy : ndarray, shape (n,)
        Changes of the reference and of the device between consecutive scans of a client.
    client : ndarray of int, shape (n,)
        Client of each change.
    zone : float
        Exclusion zone for the agreement of directions.
    ratio : float
        Error variance of the device over that of the reference, for the slope.

    Returns
    -------
    Change
        Bias, SD and limits of the error of a change, Deming slope, correlation and the agreement
        of directions. Figures that cannot be computed are None, with a note.

    Notes
    -----
    With one change a client the classical design is used, with more the repeated one. Changes of
    one client that share a scan are correlated by −1/2: their sum is that between the first and
    the last scan. So the standard error of the bias comes from sums of whole clients, and the
    intervals of SD, correlation and slope from leaving out one client at a time.
    """
    d, notes = dy - dx, []
    n, clients = d.size, int(np.unique(client).size)
    if n == 0:
        return Change(
            0,
            0,
            None,
            None,
            None,
            None,
            None,
            sign_concordance(dx, dy, client, zone),
            zone,
            (note("no_changes"),),
        )
    bias, alone = single_bias(d)
    sd = None if alone is None else Estimate(alone, sd_interval(alone, n - 1), n, "chi2")
    limits: Limits | None = None
    if n == clients:
        limits = single_limits(d)
    elif clients > 1:
        fit = fit_nested(d, client, np.arange(n))
        if fit is not None:
            bias = _client_sums(d, client)
            sd = _total_sd(fit, d, client)
            grid = variance_grid(occasion_means(d, client, np.arange(n)))
            limits = repeated_limits(fit, bias, grid, d, client)
    else:
        notes.append(note("changes_of_one_client", n=n))
        bias = Estimate(float(d.mean()), None, n, "mean")
    line = deming(dx, dy, client, ratio)
    together = agreement(dx, dy, client).pearson
    if line is None:
        notes.append(note("no_change_slope"))
    elif together is not None and together.interval is not None and _holds_0(together.interval):
        # its confidence set is bounded only where the correlation differs from 0 (Creasy 1956,
        # J R Stat Soc B 18:65)
        line = None
        notes.append(note("change_slope_undetermined"))
    return Change(
        n,
        clients,
        bias,
        sd,
        limits,
        line,
        together,
        sign_concordance(dx, dy, client, zone),
        zone,
        tuple(notes),
    )


def _holds_0(interval: Interval) -> bool:
    return interval.low <= 0 <= interval.high


def _client_sums(d: Floats, client: Ints) -> Estimate:
    """Mean change with the standard error of a ratio of sums of clients.

    Degrees of freedom are clients − 1. Source: Cochran 1977, Sampling Techniques, section 6.3.
    """
    _, k, size = np.unique(client, return_inverse=True, return_counts=True)
    n, c = d.size, size.size
    mean = float(d.mean())
    gap = np.bincount(k, d) - mean * size
    se = math.sqrt(float(gap @ gap) * c / (c - 1)) / n
    return t_estimate(mean, se, c - 1, n, "client-sums")


def _total_sd(fit: NestedFit, d: Floats, client: Ints) -> Estimate:
    """SD of one change by the summed variances, with an interval by leaving out clients.

    Below five clients the χ² interval on Satterthwaite's degrees of freedom.
    """
    n, sd = d.size, math.sqrt(fit.total_variance)
    _, k, size = np.unique(client, return_inverse=True, return_counts=True)
    if size.size >= 5:
        first, second = np.bincount(k, d), np.bincount(k, d * d)
        rest = n - size
        mean = (first.sum() - first) / rest
        variance = ((second.sum() - second) / rest - mean**2) * rest / np.maximum(rest - 1, 1)
        interval = of_positive(sd, np.sqrt(np.maximum(variance, 0.0)), 0.95)
        return Estimate(sd, interval, n, "reml-jackknife")
    df = (
        float(fit.delta_df(lambda theta: np.asarray([theta.sum()]))[0])
        if fit.theta_cov.any()
        else float(n - 1)
    )
    return Estimate(sd, sd_interval(sd, min(df, n - 1)), n, "reml-satterthwaite")


def smallest_change(
    day: Estimate, within: Estimate | None, repeats: int, days: int, confidence: float = 0.95
) -> Estimate:
    """Smallest change of one client that is detectable from means of several days on each side.

    Parameters
    ----------
    day : Estimate
        SD from day to day.
    within : Estimate or None
        SD of repeats minutes apart.
    repeats, days : int
        Readings a day, and days in each mean.
    confidence : float
        Level at which a change counts as detected.

    Returns
    -------
    Estimate
        √2·z·√(day²/days + within²/(days·repeats)), with an interval by MOVER.

    References
    ----------
    Weir 2005, J Strength Cond Res 19:231; Bland & Altman 1999, Stat Methods Med Res 8:135;
    Zou & Donner 2008, Stat Med 27:1693 (MOVER).
    """
    factor = math.sqrt(2) * normal_quantile(0.5 + confidence / 2)
    parts = [(e, w) for e, w in ((day, 1 / days), (within, 1 / (repeats * days))) if e is not None]
    variance = sum(w * e.value**2 for e, w in parts)
    value = factor * math.sqrt(variance)
    if any(e.interval is None for e, _ in parts):
        return Estimate(value, None, day.n, "mover")
    below = math.sqrt(
        sum((w * (e.value**2 - e.interval.low**2)) ** 2 for e, w in parts if e.interval is not None)
    )
    above = math.sqrt(
        sum(
            (w * (e.interval.high**2 - e.value**2)) ** 2 for e, w in parts if e.interval is not None
        )
    )
    ends = Interval(
        factor * math.sqrt(max(variance - below, 0.0)), factor * math.sqrt(variance + above)
    )
    return Estimate(value, ends, day.n, "mover")
