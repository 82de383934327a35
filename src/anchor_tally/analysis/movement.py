"""Does the difference move through time? A fitted slope over weeks, which shortens or forbids a calibration."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ..stats.components import fit_nested
from ..stats.distributions import t_interval
from ..stats.estimate import Estimate
from .pairing import PairSet

WEEK = 7 * 86400.0


@dataclass(frozen=True, slots=True)
class Movement:
    """Slope of the difference per week; ``found`` when its interval leaves zero; the last anchor lies so far after the middle."""

    slope: Estimate
    found: bool
    weeks_after_middle: float


def movement(pairs: PairSet) -> Movement | None:
    """Slope of the difference on weeks in the nested mixed model (client, occasion), Satterthwaite t; None below three moments."""
    if pairs.n < 4:
        return None
    weeks = pairs.anchors.instant[pairs.occasion] / WEEK
    if np.unique(np.round(weeks * 7)).size < 3 or pairs.occasions <= pairs.clients:
        return None
    middle = float(weeks.mean())
    fit = fit_nested(pairs.d, pairs.client, pairs.occasion, np.column_stack([np.ones(pairs.n), weeks - middle]))
    if fit is None or not fit.theta_cov.any():
        return None
    slope, se = float(fit.beta[1]), math.sqrt(max(float(fit.beta_cov[1, 1]), 0.0))
    if se <= 0:
        return None
    interval = t_interval(slope, se, min(fit.satterthwaite(np.array([0.0, 1.0])), max(pairs.occasions - 2, 1)))
    found = interval.low > 0 or interval.high < 0
    return Movement(Estimate(slope, interval, pairs.n, "reml-satterthwaite"), found, float(weeks.max()) - middle)
