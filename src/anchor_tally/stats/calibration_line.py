"""Calibration line: the reference as a straight line of the reading.

It accounts for the errors of both sides.

Between clients the difference follows the reference, d = α + γ·(x − c), with γ corrected for the
reference's error by moments (``trend``); a reading y then stands for x = c + (y − c − α)/(1 +
γ). The spread about the line is that of the nested mixed model of what it leaves over.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .components import NestedFit, fit_nested
from .distributions import t_quantile
from .estimate import Estimate, Floats, Interval, Ints
from .trend import ClientMeans
from .variance_grid import OccasionMeans, VarianceGrid, leave_out, occasion_means, variance_grid

LEAST_CLIENTS = 10
LEAST_RANGE = 10.0  # in the metric's unit, between the clients' means


@dataclass(frozen=True, slots=True)
class CalibrationLine:
    """Centre c, level α and slope 1 + γ of reading on reference.

    Variances of a new client's reading, of the level and of the slope; df.
    """

    centre: float
    level: float
    slope: float
    new: float
    level_variance: float
    slope_variance: float
    df: float

    def reference(self, reading: Floats) -> Floats:
        """The reference that readings stand for."""
        return np.asarray(
            self.centre + (reading - self.centre - self.level) / self.slope, dtype=float
        )

    def half(self, reading: Floats, confidence: float = 0.95, *, own: bool = False) -> Floats:
        """Half the prediction interval of that reference.

        ``own``: the line's own part only, without the spread of new readings.
        """
        x = self.reference(reading)
        line = self.level_variance + (x - self.centre) ** 2 * self.slope_variance
        variance = line if own else line + self.new
        return np.asarray(
            t_quantile(0.5 + confidence / 2, self.df) * np.sqrt(variance) / self.slope, dtype=float
        )


@dataclass(frozen=True, eq=False)
class LineFit:
    """A line, the residuals of each reading from it (N,), and their nested fit and grid."""

    line: CalibrationLine
    residual: Floats
    fit: NestedFit
    grid: VarianceGrid | None


def may_be_a_line(means: Floats, slope: Estimate | None) -> bool:
    """Whether a line may be fitted between clients.

    Parameters
    ----------
    means : (C,) array
        Mean of the reference of each client.
    slope : Estimate or None
        Slope of the difference on the reference between clients.

    Returns
    -------
    bool
        True for ten clients or more, a range of ten units between their means, and an interval
        of the slope that excludes zero.
    """
    if (
        slope is None
        or slope.interval is None
        or means.size < LEAST_CLIENTS
        or float(np.ptp(means)) < LEAST_RANGE
    ):
        return False
    return slope.interval.low > 0 or slope.interval.high < 0


def line_fit(
    d: Floats, y: Floats, client: Ints, occasion: Ints, clients: ClientMeans, gamma: Estimate
) -> LineFit | None:
    """Fit the calibration line of all clients, corrected for error in the reference.

    Parameters
    ----------
    d, y : ndarray, shape (n,)
        Differences (device less reference) and readings of the device, in units of the metric.
    client, occasion : ndarray of int, shape (n,)
        Client and occasion of each pair.
    clients : ClientMeans
        Weighted means of each client.
    gamma : Estimate
        Slope of the difference on the reference between clients, corrected for the reference's
        error.

    Returns
    -------
    LineFit or None
        None where the slope is not known well enough to be turned into a line of the reading.
    """
    if 1 + gamma.value <= 0.1 or gamma.se is None:
        return None
    k = clients.weight / clients.weight.sum()
    centre = float(k @ clients.x)
    level = float(k @ clients.d)
    raw = CalibrationLine(centre, level, 1 + gamma.value, 0.0, 0.0, 0.0, 1.0)
    residual = np.asarray(y - d - raw.reference(y), dtype=float) * -1  # what the line says too much
    fit = fit_nested(residual, client, occasion)
    if fit is None:
        return None
    df = float(clients.x.size - 2)
    scale = raw.slope**2
    line = CalibrationLine(
        centre=centre,
        level=level,
        slope=raw.slope,
        new=fit.total_variance * scale,
        level_variance=float(fit.beta_cov[0, 0]) * scale,
        slope_variance=gamma.se**2,
        df=df,
    )
    return LineFit(line, residual, fit, variance_grid(occasion_means(residual, client, occasion)))


@dataclass(frozen=True, eq=False)
class LineLeftOut:
    """Predicted differences of left-out occasion means, shape (M,).

    Without the client, and with the client's other occasions.

    ``line_sd`` and ``own_sd`` are the SDs of what is left out about them.
    """

    line: Floats
    own: Floats
    line_sd: Floats
    own_sd: Floats


def leave_out_line(
    s: OccasionMeans, x: Floats, d: Floats, clients: ClientMeans
) -> LineLeftOut | None:
    """Predict the difference of left-out clients and occasions from a calibration line.

    The line leaves out whole clients, with the weights of all clients; the client's own part
    beside the line leaves out single occasions.

    Parameters
    ----------
    s : OccasionMeans
        Mean difference of each of the M occasions.
    x, d : ndarray, shape (M,)
        Reference and difference of each occasion, in units of the metric.
    clients : ClientMeans
        Weighted means of each client.

    Returns
    -------
    LineLeftOut or None
        Predictions of shape (M,). None below four clients, or where the reference does not vary.
    """
    k = clients.weight

    def rest(values: Floats) -> Floats:
        return np.asarray((k * values).sum() - k * values, dtype=float)

    total = rest(np.ones(k.size))
    mx, md = rest(clients.x) / total, rest(clients.d) / total
    sxx = rest(clients.x**2) - total * mx**2
    sxd = rest(clients.x * clients.d) - total * mx * md
    error = (rest(clients.error)) - (rest(k * clients.error) / total)
    gamma = (sxd + error) / (sxx - error)
    if (1 + gamma <= 0.1).any():
        return None
    at = s.client_of
    reading = x + d
    foretold = mx[at] + (reading - mx[at] - md[at]) / (1 + gamma[at])
    line = reading - foretold
    left = d - line
    means = OccasionMeans(
        left, s.size, s.ss / (1 + gamma[at]) ** 2, s.client_of, s.clients, s.occasions, s.starts
    )
    grid = variance_grid(means)
    found = leave_out(grid) if grid is not None else None
    if found is None:
        return None
    return LineLeftOut(line, line + found.own, found.pooled_sd, found.own_sd)


def offset_at(line: CalibrationLine, reading: float) -> tuple[float, Interval]:
    """Return what a calibration line subtracts at one reading.

    Parameters
    ----------
    line : CalibrationLine
        The line, adopted or offered.
    reading : float
        Reading of the device, in units of the metric.

    Returns
    -------
    offset : float
        What is subtracted.
    interval : Interval
        95 % confidence interval of the line itself; it does not hold the error of one reading.
    """
    y = np.array([reading])
    offset = float(reading - line.reference(y)[0])
    half = float(line.half(y, own=True)[0])
    return offset, Interval(offset - half, offset + half)
