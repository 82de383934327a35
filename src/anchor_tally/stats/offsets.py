"""Offsets: what is subtracted from a reading, pooled and for each client, with prediction intervals."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from .components import NestedFit
from .estimate import Estimate, Floats, FrozenArrays


@dataclass(frozen=True, eq=False)
class ClientOffsets(FrozenArrays):
    """Partially pooled offsets, one element a client, all of shape (C,).

    ``sd`` is the conditional SD of the offset (uncertainty of the pooled part included); ``prediction_sd`` and
    ``df`` belong to the corrected value of one new reading on a new occasion.
    """

    clients: Floats
    offset: Floats
    sd: Floats
    occasions: Floats
    shrinkage: Floats
    prediction_sd: Floats
    df: Floats


@dataclass(frozen=True, slots=True)
class PooledOffset:
    """The offset for a client who was not measured against the reference."""

    offset: Estimate
    prediction_sd: float | None
    df: float | None


@dataclass(frozen=True, slots=True)
class CrossValidation:
    """RMSE of left-out occasion means before and after correction."""

    before: float
    pooled: float
    individual: float | None
    scheme: str


def pooled_from_single(d: Floats, bias: Estimate, sd: float | None) -> PooledOffset:
    """Pooled offset from one pair per client: prediction SD s·√(1 + 1/n), t with n - 1."""
    if sd is None:
        return PooledOffset(bias, None, None)
    return PooledOffset(bias, sd * math.sqrt(1 + 1 / d.size), float(d.size - 1))


def pooled_from_fit(fit: NestedFit, bias: Estimate) -> PooledOffset:
    """Pooled offset from the nested fit; the spread between clients is in the prediction SD."""

    def variance(theta: Floats) -> Floats:
        return np.array([float(fit.sums.beta_covariance(theta)[0, 0]) + float(theta.sum())])

    sd = math.sqrt(float(fit.beta_cov[0, 0]) + fit.total_variance)
    if sd <= 0 or not fit.theta_cov.any():
        return PooledOffset(bias, sd, float(max(fit.counts[0] - 1, 1)))
    return PooledOffset(bias, sd, float(min(fit.delta_df(variance)[0], fit.counts[2])))


def client_offsets(fit: NestedFit) -> ClientOffsets:
    """Pooled bias plus each client's BLUP (Henderson 1975, Biometrics 31:423)."""
    lower = fit.variances[1] + fit.variances[2]
    prediction = np.sqrt(fit.blup_sd**2 + lower)

    def variance(theta: Floats) -> Floats:
        _w, total, _ = fit.sums.weights(theta)
        shrink = theta[0] / (theta[0] + 1 / total)
        cov = float(fit.sums.beta_covariance(theta)[0, 0])
        return np.asarray(theta[0] * (1 - shrink) + (1 - shrink) ** 2 * cov + theta[1] + theta[2])

    df = fit.delta_df(variance) if fit.theta_cov.any() else np.full(fit.blup.size, max(fit.counts[0] - 1.0, 1.0))
    return ClientOffsets(
        fit.clients.astype(float),
        fit.beta[0] + fit.blup,
        fit.blup_sd,
        fit.occasions_per_client.astype(float),
        fit.shrinkage,
        prediction,
        np.minimum(df, fit.counts[2]),
    )


def cross_validate(fit: NestedFit) -> CrossValidation | None:
    """Leave out whole clients (pooled part) and whole occasions (client part), variances held at the full fit.

    Works on occasion means with an intercept only; closed-form leave-one-out, no refits. None below three clients.
    """
    s = fit.sums
    if s.clients < 3 or s.p != 1:
        return None
    y = s.means[:, 1] / s.means[:, 0] + (fit.beta[0] - _gls(fit))
    owner = s.client_of
    theta = np.array(fit.variances)
    if theta[1] + theta[2] <= 0:
        return None
    w, total, k = s.weights(theta)
    m = s.per_client(w * y) / total
    pooled_out = (float(k @ m) - k * m) / (float(k.sum()) - k)  # without client i
    before = float(np.sqrt(np.mean(y * y)))
    pooled = float(np.sqrt(np.mean((y - pooled_out[owner]) ** 2)))
    individual = None
    if len(y) > s.clients and theta[0] > 0:
        rest_w = total[owner] - w
        rest_m = np.divide(total[owner] * m[owner] - w * y, rest_w, out=np.zeros_like(y), where=rest_w > 1e-12)
        rest_k = np.where(rest_w > 1e-12, 1 / (theta[0] + 1 / np.maximum(rest_w, 1e-12)), 0.0)
        beta = (float(k @ m) - (k * m)[owner] + rest_k * rest_m) / (float(k.sum()) - k[owner] + rest_k)
        predicted = beta + theta[0] * rest_k * (rest_m - beta)
        individual = float(np.sqrt(np.mean((y - predicted) ** 2)))
    return CrossValidation(before, pooled, individual, "leave out clients (pooled), occasions (client); variances held")


def _gls(fit: NestedFit) -> float:
    """Intercept in the centred scale of the stored sums."""
    s = fit.sums
    theta = np.array(fit.variances)
    q = s.quadratic(theta if theta[1] + theta[2] > 0 else theta + np.array([0, 0, 1e-12]))
    return float(q[0, 1] / q[0, 0])
