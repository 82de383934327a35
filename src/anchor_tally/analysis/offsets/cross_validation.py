"""Left-out scans: what each correction would have said of them, beside what needs no device."""

from __future__ import annotations

import numpy as np

from ...domain.snapshot import OK, Snapshot
from ...stats.calibration_line import leave_out_line
from ...stats.distributions import t_quantile
from ...stats.estimate import Floats
from ...stats.trend import ClientMeans
from ...stats.validation import CrossValidation, Foretold, cross_validate
from ...stats.variance_grid import OccasionMeans, VarianceGrid, leave_out, occasion_means
from ..agreement.agreement import CompareResult
from ..agreement.agreement_forms import BMI_EQUATION
from ..pairs.pairing import PairSet

LEAST_CLIENTS = (
    3  # from which on a spread between clients can be told, and leaving out clients means something
)


def validated(
    c: CompareResult, snapshot: Snapshot, line: ClientMeans | None, *, has_own: bool
) -> CrossValidation | None:
    """Errors on left-out occasions beside the baselines; None below LEAST_CLIENTS clients."""
    pairs = c.pairs
    if pairs.clients < LEAST_CLIENTS:
        return None
    means = occasion_means(pairs.d, pairs.client, pairs.occasion)
    x = pairs.anchors.mean[means.occasions]
    instant = pairs.anchors.instant[means.occasions]
    between, inside = means.clients.size - 2, max(means.mean.size - means.clients.size - 1, 1)
    pooled, own, sds = _left_out(means, c.grid)
    known = {"pooled": Foretold(pooled, _half(sds[0], between) if sds else None)}
    if has_own:
        known["client"] = Foretold(own, _half(sds[1], inside) if sds else None)
    left = leave_out_line(means, x, means.mean, line) if line is not None else None
    if left is not None:
        known["line"] = Foretold(left.line, _half(left.line_sd, between - 1))
        if has_own:
            known["line_client"] = Foretold(left.own, _half(left.own_sd, inside))
    equation = _bmi_values(pairs, means, snapshot)
    return cross_validate(means.mean, x, means.clients[means.client_of], instant, known, equation)


def _half(sd: Floats, df: int) -> Floats:
    return np.asarray(t_quantile(0.975, max(df, 1)) * sd, dtype=float)


def _left_out(
    means: OccasionMeans, grid: VarianceGrid | None
) -> tuple[Floats, Floats, tuple[Floats, Floats] | None]:
    """Differences predicted without the client, and without the occasion.

    Their SDs where there is a grid.
    """
    left = leave_out(grid) if grid is not None else None
    if left is not None:
        return left.pooled, left.own, (left.pooled_sd, left.own_sd)
    # one pair a client, or nothing varies under the clients
    n = means.per_client(np.ones(means.mean.size))
    person = means.per_client(means.mean) / n
    others = ((person.sum() - person) / (person.size - 1))[means.client_of]
    rest = n[means.client_of] - 1
    if (
        means.n == means.clients.size
    ):  # of the others alone: mean and SD, as the pooled offset states them
        c = person.size
        square = (person**2).sum() - person**2
        spread = np.sqrt(
            np.maximum(square - (c - 1) * others**2, 0.0) / max(c - 2, 1) * (1 + 1 / (c - 1))
        )
        return others, others, (spread, spread)
    alone = np.where(
        rest > 0,
        (means.per_client(means.mean)[means.client_of] - means.mean) / np.maximum(rest, 1),
        others,
    )
    return others, alone, None


def _bmi_values(pairs: PairSet, means: OccasionMeans, snapshot: Snapshot) -> Floats | None:
    """The BMI-only equation at the visit of each occasion's readings.

    None where the study has none, or it is what is judged.
    """
    item = next((i for i in snapshot.instruments.values() if i.equation == BMI_EQUATION), None)
    if (
        item is None
        or item.id == pairs.instrument.id
        or pairs.instrument.equation.startswith("bmi_")
    ):
        return None
    c = snapshot.columns[pairs.metric]
    rows = np.flatnonzero((c.instrument == item.id) & (c.status == OK))
    if rows.size == 0:
        return None
    order = rows[np.argsort(c.visit[rows])]
    visit = np.full(means.mean.size, -1)
    place = np.searchsorted(
        means.client_of * (pairs.anchors.mean.size + 1) + means.occasions,
        np.searchsorted(means.clients, pairs.client) * (pairs.anchors.mean.size + 1)
        + pairs.occasion,
    )
    visit[place] = pairs.visit
    at = np.minimum(np.searchsorted(c.visit[order], visit), order.size - 1)
    return np.where(c.visit[order][at] == visit, c.value[order][at], np.nan)
