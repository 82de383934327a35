"""Other forms of agreement.

Regression lines, ratios, sloping and percentile limits, shares within a bound, and the errors
of baselines that need no device.
"""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import dataclass

import numpy as np

from ...domain.snapshot import OK, Floats, Snapshot
from ...stats.components import NestedFit
from ...stats.difference_forms import (
    RatioLimits,
    SlopingLimits,
    WithoutReferenceError,
    percentile_limits,
    ratio_limits,
    shapiro_wilk,
    sloping_limits,
    without_reference_error,
)
from ...stats.estimate import Estimate, Note, note
from ...stats.intraclass import intraclass_of_clients
from ...stats.limits import Limits
from ...stats.pair_slopes import PassingBablok, passing_bablok, theil_sen
from ...stats.regression import Line, least_squares
from ...stats.repeated import repeated_limits
from ...stats.shares import clustered_share
from ...stats.tails import HEAVY, kurtosis_p
from ...stats.trend import ScanError
from ...stats.validation import other_scans
from ...stats.variance_grid import VarianceGrid
from ...stats.within_clients import centred
from ..pairs.pairing import PairSet

NEAR = (2.0, 3.5)  # in the metric's unit: shares of differences within these
BMI_EQUATION = "bmi_deurenberg_1991"


@dataclass(frozen=True, slots=True)
class NullDevices:
    """RMSE of the instrument at the scans, and of baselines that need no device.

    The baselines are the previous scan, the mean of the other clients and an equation from
    body mass index.

    The last scan is carried over to the next one, for a client's first the next one back; on the
    anchors of clients with several.
    """

    instrument: float | None
    last_scan: float | None
    sample_mean: float | None
    bmi_equation: float | None


@dataclass(frozen=True, eq=False)
class Forms:
    """Closeness of one instrument in its other forms; None where the data cannot give one.

    ``near`` are shares within a bound, ``percentage_error`` the mean of |d|/reference in percent,
    ``icc`` the two-way random intraclass correlation of device and reference for absolute
    agreement of single values.
    """

    passing_bablok: PassingBablok | None
    ols: Line | None
    theil_sen: Estimate | None
    ratio: RatioLimits | None
    sloping: SlopingLimits | None
    percentiles: Limits | None
    normality: tuple[float, float] | None
    without_scan_error: WithoutReferenceError | None
    near: tuple[tuple[float, Estimate | None], ...]
    null_devices: NullDevices
    of_means: tuple[int, Limits] | None
    percentage_error: float | None
    icc: Estimate | None
    notes: tuple[Note, ...]


@dataclass(frozen=True, eq=False)
class AgreementFormsRequest:
    """Other forms of one comparison: regression lines, ratio, sloping and percentile limits.

    Parameters
    ----------
    snapshot : Snapshot
        The study at one revision.
    pairs : PairSet
        The pairs of the comparison.
    bias : Estimate or None
        Its bias.
    sd : float or None
        SD of its differences.
    scan : ScanError
        Variance of one scan.
    fit : NestedFit, optional
        Its variance components.
    grid : VarianceGrid, optional
        Integration over their ratios.
    seed : int
        Seed of resampled intervals.
    """

    snapshot: Snapshot
    pairs: PairSet
    bias: Estimate | None
    sd: float | None
    scan: ScanError
    fit: NestedFit | None = None
    grid: VarianceGrid | None = None
    seed: int = 1

    def run(self) -> Generator[float, None, Forms]:
        """Yield progress; return the forms."""
        yield 0.1
        return forms_of(
            self.pairs, self.snapshot, self.bias, self.sd, self.scan, self.fit, self.grid, self.seed
        )


def forms_of(
    pairs: PairSet,
    snapshot: Snapshot,
    bias: Estimate | None,
    sd: float | None,
    scan: ScanError,
    fit: NestedFit | None = None,
    grid: VarianceGrid | None = None,
    seed: int = 1,
) -> Forms:
    """All other forms from the pairs.

    ``bias`` and ``sd`` are those of the comparison, ``scan`` the error of one scan.
    """
    notes: list[Note] = []
    d, mean, n = pairs.d, (pairs.x + pairs.y) / 2, pairs.n
    repeated = n > pairs.clients
    x, y = _one_point_a_client(pairs)
    passing = passing_bablok(x, y)
    if passing is None and n:
        notes.append(note("no_passing_bablok"))
    elif passing is not None and passing.linearity_p is not None and passing.linearity_p < 0.05:
        notes.append(note("not_a_line", p=passing.linearity_p))
    if passing is not None and repeated:
        notes.append(note("lines_of_client_means", clients=pairs.clients))
    apart = None
    if bias is not None and sd is not None and scan.known and n:
        apart = without_reference_error(
            bias.value, sd, scan.sd, float(pairs.anchors.n[pairs.occasion].mean())
        )
        if apart is None:
            notes.append(note("reference_error_not_separable"))
    tails = kurtosis_p(centred(d, pairs.client) if repeated else d)
    if tails is not None and tails < HEAVY:
        notes.append(note("heavy_tails", p=tails))
    null = null_devices(pairs, snapshot)
    others = [v for v in (null.sample_mean, null.bmi_equation) if v is not None]
    if null.instrument is not None and others and null.instrument >= min(others):
        notes.append(note("no_better_than_nothing", own=null.instrument, without=min(others)))
    # whole clients resampled cover the ends in half of all studies only
    percentiles = None if repeated else percentile_limits(d, pairs.client, seed=seed)
    if repeated:
        notes.append(note("no_percentiles_of_repeats"))
    elif percentiles is None and n:
        notes.append(note("no_percentiles"))
    icc = intraclass_of_clients(np.column_stack([pairs.x, pairs.y]), pairs.client) if n else None
    return Forms(
        passing_bablok=passing,
        ols=least_squares(x, y),
        theil_sen=theil_sen(x, y),
        ratio=ratio_limits(pairs.x, pairs.y, pairs.client, pairs.occasion),
        sloping=sloping_limits(d, mean, pairs.client),
        percentiles=percentiles,
        normality=shapiro_wilk(_client_means(pairs)),
        without_scan_error=apart,
        near=tuple(
            (bound, clustered_share((np.abs(d) <= bound + 1e-9).astype(float), pairs.client))
            for bound in NEAR
        ),
        null_devices=null,
        of_means=_of_means(pairs, bias, fit, grid),
        percentage_error=_percentage_error(pairs),
        icc=None if icc is None else icc.random,
        notes=tuple(notes),
    )


def _percentage_error(pairs: PairSet) -> float | None:
    """Mean of |difference| over the reference, in percent; None without references above 0."""
    if not pairs.n or float(pairs.x.min()) <= 0:
        return None
    return float(100 * np.mean(np.abs(pairs.d) / pairs.x))


def _of_means(
    pairs: PairSet, bias: Estimate | None, fit: NestedFit | None, grid: VarianceGrid | None
) -> tuple[int, Limits] | None:
    """Limits for the mean of as many repeats as most tallies have.

    None for one, and where repeats cannot be separated from days.
    """
    if bias is None or fit is None or grid is None or pairs.clients < 2 or not fit.separable[2]:
        return None
    of = int(np.bincount(np.bincount(pairs.occasion)[np.unique(pairs.occasion)]).argmax())
    return (of, repeated_limits(fit, bias, grid, pairs.d, pairs.client, of=of)) if of > 1 else None


def _one_point_a_client(pairs: PairSet) -> tuple[Floats, Floats]:
    """Reference and device as means of each client, for lines whose points must be independent."""
    _, k = np.unique(pairs.client, return_inverse=True)
    size = np.maximum(np.bincount(k), 1)
    return np.bincount(k, pairs.x) / size, np.bincount(k, pairs.y) / size


def _client_means(pairs: PairSet) -> Floats:
    """Mean difference of each client.

    The normality test uses these, since pairs of one client are not independent.
    """
    _, k = np.unique(pairs.client, return_inverse=True)
    return np.asarray(np.bincount(k, pairs.d) / np.maximum(np.bincount(k), 1), dtype=float)


def null_devices(pairs: PairSet, snapshot: Snapshot) -> NullDevices:
    """Errors on the same anchors without any device, each anchor once."""
    if pairs.n == 0:
        return NullDevices(None, None, None, None)
    used, at = np.unique(pairs.occasion, return_inverse=True)
    x, client = pairs.anchors.mean[used], pairs.anchors.client[used]
    y = np.bincount(at, pairs.y) / np.bincount(at)
    own = float(np.sqrt(np.mean((y - x) ** 2)))
    _, k = np.unique(client, return_inverse=True)
    mean = np.bincount(k, x) / np.bincount(k)
    sample = None
    if mean.size > 2:
        others = (mean.sum() - mean) / (mean.size - 1)
        sample = float(np.sqrt(np.mean((others[k] - x) ** 2)))
    several = np.bincount(k)[k] > 1
    last, _ = other_scans(x, k, pairs.anchors.instant[used].astype(float))
    carried = float(np.sqrt(np.mean((last - x)[several] ** 2))) if several.any() else None
    return NullDevices(own, carried, sample, _bmi_error(pairs, snapshot, x, at))


def _bmi_error(pairs: PairSet, snapshot: Snapshot, x: Floats, at: np.ndarray) -> float | None:
    """RMSE of the BMI equation at the visits of the pairs.

    None where it has no value at half of the anchors.
    """
    item = next((i for i in snapshot.instruments.values() if i.equation == BMI_EQUATION), None)
    c = snapshot.columns.get(pairs.metric)
    if (
        item is None
        or c is None
        or item.id == pairs.instrument.id
        or pairs.instrument.equation.startswith("bmi_")
    ):
        return None
    rows = np.flatnonzero((c.instrument == item.id) & (c.status == OK))
    if rows.size == 0:
        return None
    order = rows[np.argsort(c.visit[rows])]
    place = np.minimum(np.searchsorted(c.visit[order], pairs.visit), order.size - 1)
    found = c.visit[order][place] == pairs.visit
    value = np.full(x.size, np.nan)
    value[at[found]] = c.value[order][place][found]
    there = ~np.isnan(value)
    return (
        float(np.sqrt(np.mean((value[there] - x[there]) ** 2)))
        if there.sum() * 2 >= x.size
        else None
    )
