"""Variance components of the nested design by REML, on group sums.

Model: d = X·beta + u(client) + w(occasion within client) + e(replicate), all random parts
independent normal with variances s_c², s_o², s_r² (Patterson & Thompson 1971, Biometrika
58:545). With the ratios g = s²/s_r² the covariance of a client has a closed-form inverse, so
that everything is a sum over occasions and clients of small q×q cross products (q = columns of
[X, d]): no N×N matrix and no loop over groups.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from .estimate import Floats, FrozenArrays, Ints


@dataclass(frozen=True, eq=False)
class NestedFit(FrozenArrays):
    """REML fit of the nested model.

    ``variances`` are (client, occasion, replicate); a level that the design cannot separate is 0
    there and False in ``separable``; its variance sits in the next level that can. ``beta`` and
    ``beta_cov`` are the fixed effects; ``blup`` (C,) the predicted client effects; ``deviance``
    is -2 log REML likelihood.
    """

    beta: Floats
    beta_cov: Floats
    variances: tuple[float, float, float]
    separable: tuple[bool, bool, bool]
    blup: Floats
    blup_sd: Floats
    shrinkage: Floats
    clients: Ints
    occasions_per_client: Ints
    counts: tuple[int, int, int]
    deviance: float
    theta_cov: Floats
    sums: _Sums

    @property
    def total_variance(self) -> float:
        """Variance of one future reading of a client not seen yet."""
        return sum(self.variances)

    def satterthwaite(self, contrast: Floats) -> float:
        """Degrees of freedom of ``contrast``·beta.

        Source: Giesbrecht & Burns 1985; Fai & Cornelius 1996.
        """
        c = np.asarray(contrast, dtype=float)

        def variance(theta: Floats) -> Floats:
            return np.asarray([float(c @ self.sums.beta_covariance(theta) @ c)])

        return float(self.delta_df(variance)[0])

    def delta_df(self, function: Callable[[Floats], Floats]) -> Floats:
        """2 v²/var(v) for positive functions v of the variances, by the delta method.

        ``function`` maps (3,) to (k,).
        """
        theta = np.array(self.variances)
        value = function(theta)
        active = np.flatnonzero(np.diag(self.theta_cov) > 0)
        gradient = np.zeros((value.size, 3))
        for k in active:
            step = np.zeros(3)
            step[k] = 1e-4 * theta[k]
            gradient[:, k] = (function(theta + step) - function(theta - step)) / (2 * step[k])
        spread = np.einsum("ki,ij,kj->k", gradient, self.theta_cov, gradient)
        df = np.full(value.size, np.inf)
        np.divide(2 * value**2, spread, out=df, where=spread > 0)
        return np.asarray(np.maximum(df, 1.0), dtype=float)


@dataclass(frozen=True, eq=False)
class _Sums(FrozenArrays):
    """Sufficient sums of the nested design.

    Occasion means of [X, d] (M, q), their sizes, and the cross product within occasions.
    """

    means: Floats
    sizes: Floats
    client_of: Ints
    clients: int
    within: Floats
    n: int
    p: int

    @cached_property
    def products(self) -> Floats:
        """Outer products of the occasion means, (M, q*q)."""
        m = self.means
        out = np.asarray((m[:, :, None] * m[:, None, :]).reshape(len(m), -1), dtype=float)
        out.setflags(write=False)
        return out

    def per_client(self, values: Floats) -> Floats:
        """Sum (M,) or (M, q) over the occasions of each client."""
        if values.ndim == 1:
            return np.asarray(
                np.bincount(self.client_of, values, minlength=self.clients), dtype=float
            )
        columns = [np.bincount(self.client_of, v, minlength=self.clients) for v in values.T]
        return np.asarray(np.stack(columns, axis=1), dtype=float)

    def weights(self, theta: Floats) -> tuple[Floats, Floats, Floats]:
        """Occasion weights w, client sums W and client weights 1/(s_c² + 1/W) at ``theta``."""
        w = 1 / (theta[1] + theta[2] / self.sizes)
        total = self.per_client(w)
        return w, total, 1 / (theta[0] + 1 / total)

    def beta_covariance(self, theta: Floats) -> Floats:
        """Covariance of the generalised least-squares estimate at variances ``theta`` (3,)."""
        return np.asarray(np.linalg.inv(self.quadratic(theta)[: self.p, : self.p]), dtype=float)

    def quadratic(self, theta: Floats) -> Floats:
        """[X, d]' V^-1 [X, d]."""
        w, total, _ = self.weights(theta)
        q = self.means.shape[1]
        t = self.per_client(w[:, None] * self.means)
        k = theta[0] / (1 + theta[0] * total)
        out = (w @ self.products).reshape(q, q) - (t * k[:, None]).T @ t
        return np.asarray(out + self.within / theta[2] if theta[2] > 0 else out, dtype=float)


def _group_sums(z: Floats, client: Ints, occasion: Ints, p: int) -> tuple[_Sums, Ints]:
    clients, c = np.unique(client, return_inverse=True)
    key = c.astype(np.int64) * (int(occasion.max()) - int(occasion.min()) + 1) + (
        occasion - occasion.min()
    )
    cells, cell = np.unique(key, return_inverse=True)
    sizes = np.bincount(cell).astype(float)
    means = np.stack([np.bincount(cell, col) for col in z.T], axis=1) / sizes[:, None]
    resid = z - means[cell]
    client_of = np.zeros(cells.size, dtype=np.int64)
    client_of[cell] = c
    return _Sums(means, sizes, client_of, clients.size, resid.T @ resid, len(z), p), clients


class _Profile:
    """Profiled REML criterion of the variance ratios (client, occasion).

    With exact first and second derivatives.
    """

    def __init__(self, sums: _Sums, free: tuple[bool, bool]) -> None:
        self.s, self.free = sums, free

    def evaluate(
        self, g: Floats
    ) -> tuple[float, Floats, Floats, tuple[Floats, list[Floats], list[Floats]]]:
        s, p = self.s, self.s.p
        q = s.means.shape[1]
        gc, go = g
        v = go + 1 / s.sizes
        w = 1 / v
        powers = [w, w * w, w * w * w]
        big = [s.per_client(x) for x in powers]
        t = [s.per_client(x[:, None] * s.means) for x in powers]
        a = 1 + gc * big[0]

        def cross(k: Floats, m: Floats, n: Floats) -> Floats:
            out = (m * k[:, None]).T @ n
            return (out + out.T) / 2

        c = gc / a
        full = s.within + (powers[0] @ s.products).reshape(q, q) - cross(c, t[0], t[0])
        # first derivatives: dw = -w², dW = W2·(-1), dT = -T2, dc/dW = -c², dc/dgc = 1/a²
        d_c = -cross(1 / a**2, t[0], t[0])
        d_o = (
            -(powers[1] @ s.products).reshape(q, q)
            - cross(c * c * big[1], t[0], t[0])
            + 2 * cross(c, t[1], t[0])
        )
        d_cc = cross(2 * big[0] / a**3, t[0], t[0])
        d_co = 2 * cross(1 / a**2, t[1], t[0]) - cross(2 * gc * big[1] / a**3, t[0], t[0])
        c1 = c * c * big[1]
        c2 = 2 * c**3 * big[1] ** 2 - 2 * c * c * big[2]
        d_oo = (
            2 * (powers[2] @ s.products).reshape(q, q)
            - cross(c2, t[0], t[0])
            + 4 * cross(c1, t[1], t[0])
            - 2 * cross(c, t[1], t[1])
            - 4 * cross(c, t[2], t[0])
        )
        first, second = [d_c, d_o], [d_cc, d_co, d_oo]
        logdet = float(np.log(s.sizes * v).sum() + np.log(a).sum())
        ld1 = np.array([(big[0] / a).sum(), w.sum() - (gc * big[1] / a).sum()])
        ld2 = np.array(
            [
                [-((big[0] / a) ** 2).sum(), -(big[1] / a**2).sum()],
                [
                    -(big[1] / a**2).sum(),
                    -powers[1].sum() + (2 * gc * big[2] / a).sum() - ((gc * big[1] / a) ** 2).sum(),
                ],
            ]
        )
        df = s.n - p
        f, f1, f2 = logdet, ld1.copy(), ld2.copy()
        for size, factor in ((p, 1 - df), (q, df)):
            block = full[:size, :size]
            inverse = np.linalg.inv(block)
            f += factor * float(np.linalg.slogdet(block)[1])
            parts = [inverse @ m[:size, :size] for m in first]
            f1 += factor * np.array([np.trace(m) for m in parts])
            h = np.empty((2, 2))
            for (i, j), m in zip(((0, 0), (0, 1), (1, 1)), second, strict=True):
                h[i, j] = h[j, i] = np.trace(inverse @ m[:size, :size]) - np.sum(
                    parts[i] * parts[j].T
                )
            f2 += factor * h
        return f, f1, f2, (full, first, second)

    def minimise(self, start: Floats) -> tuple[Floats, float]:
        """Newton steps on the SD ratios.

        Eigenvalues are made positive and the step is halved until the deviance falls.
        """
        free = np.array(self.free)
        ratio = np.where(free, np.sqrt(np.maximum(start, 1e-8)), 0.0)
        f, f1, f2, _ = self.evaluate(ratio**2)
        for _ in range(100):
            gradient = 2 * ratio * f1 * free
            hessian = 4 * np.outer(ratio, ratio) * f2 + np.diag(2 * f1)
            hessian[~free] = hessian[:, ~free] = 0
            hessian[np.diag_indices(2)] += ~free
            values, vectors = np.linalg.eigh(hessian)
            step = -vectors @ ((vectors.T @ gradient) / np.maximum(np.abs(values), 1e-9))
            limit = 2.0 * (1 + np.abs(ratio)).max()
            if abs(float(gradient @ step)) < 1e-13 * (1 + abs(f)) and values.min() > -1e-9:
                break  # the Newton decrement is below the noise of the criterion
            length = float(np.abs(step).max())
            step *= min(1.0, limit / length) if length > 0 else 1.0
            scale = 1.0
            while scale > 1e-10:
                trial = np.abs(ratio + scale * step)
                f_new, f1_new, f2_new, _ = self.evaluate(trial**2)
                if f_new <= f + 1e-12 * abs(f):
                    break
                scale /= 2
            else:
                break
            moved = float(np.abs(trial - ratio).max())
            ratio, f, f1, f2 = trial, f_new, f1_new, f2_new
            # a ratio that has run into zero while the criterion still falls there is pushed off the
            # false zero
            stuck = free & (ratio < 1e-5) & (f1 < -1e-8)
            if stuck.any():
                ratio = np.where(stuck, 1e-2, ratio)
                f, f1, f2, _ = self.evaluate(ratio**2)
                continue
            if moved <= 1e-10 * (1 + float(ratio.max())):
                break
        # on the boundary: exactly zero
        g = ratio**2
        for k in range(2):
            if free[k] and 0 < g[k] < 1e-6:
                at_zero = g.copy()
                at_zero[k] = 0.0
                f_zero, f1_zero, _, _ = self.evaluate(at_zero)
                if f_zero <= f + 1e-9 and f1_zero[k] >= 0:
                    g, f = at_zero, f_zero
        return g, f


def fit_nested(
    d: Floats, client: Ints, occasion: Ints, x: Floats | None = None
) -> NestedFit | None:
    """Fit the nested random-effects model by restricted maximum likelihood.

    The model is d = Xβ + client + occasion within client + replicate.

    Parameters
    ----------
    d : (N,) array
        Differences, in the metric's unit.
    client, occasion : (N,) integer arrays
        Labels; an occasion label may recur in other clients.
    x : (N, p) array, optional
        Fixed effects; an intercept by default.

    Returns
    -------
    NestedFit or None
        Variances, fixed effects with their covariance, and what degrees of freedom are made
        from. None when there is no more than one pair, fewer pairs than fixed effects plus one,
        or where fixed effects and groups together explain everything.

    Notes
    -----
    Unbalanced designs and zero variances are allowed. Newton steps on the SD ratios, on sums of
    each cell only.

    References
    ----------
    Patterson & Thompson 1971, Biometrika 58:545.
    """
    try:
        return _fitted(d, client, occasion, x)
    except np.linalg.LinAlgError:
        if x is None:
            raise
        return None  # beside these fixed effects nothing is left to vary at some level


def _fitted(d: Floats, client: Ints, occasion: Ints, x: Floats | None) -> NestedFit | None:
    n = d.size
    x = np.ones((n, 1)) if x is None else np.asarray(x, dtype=float)
    p = x.shape[1]
    if n <= p or n < 2:
        return None
    shift = float(d.mean())
    scale = float(d.std())
    if scale <= 1e-12 * max(1.0, abs(shift)):
        scale = 1.0
    z = np.column_stack([x, (d - shift) / scale])
    if p > 1:
        fitted = x @ np.linalg.lstsq(x, z[:, p], rcond=None)[0]
        if float(((z[:, p] - fitted) ** 2).sum()) <= 1e-13 * n:
            return None  # the fixed effects explain everything: no variance is left to estimate
    sums, clients = _group_sums(z, client, occasion, p)
    m = len(sums.sizes)
    free = (sums.clients > 1 and m > sums.clients, n > m and m > 1)
    if not free[0] and sums.clients > 1 and n > m and m == sums.clients:
        free = (True, False)  # one occasion per client: the client level carries both
    if sums.clients == 1 and n > m > 1:
        free = (False, True)
    if m > sums.clients > 1 and n == m:
        free = (
            True,
            False,
        )  # one replicate per occasion: the lowest level carries occasion and replicate
    separable = (
        (sums.clients > 1 and m > sums.clients) or (free[0] and n > m),
        m > sums.clients,
        n > m,
    )
    within_ss = float(sums.within[p, p])
    if any(free) and within_ss <= 1e-18 * n and n > m:
        # replicates never differ: the lowest variance is zero, fit the occasion means instead
        if m <= p:
            return None
        reduced = _Sums(
            sums.means, np.ones(m), sums.client_of, sums.clients, np.zeros_like(sums.within), m, p
        )
        free2 = (sums.clients > 1 and m > sums.clients, False)
        if _within_clients(sums) <= 1e-18 * m:
            return _assemble(sums, clients, _between_only(sums), separable, shift, scale, None)
        g, _ = (
            _Profile(reduced, free2).minimise(_start(reduced, free2))
            if any(free2)
            else (np.zeros(2), 0.0)
        )
        theta = _scaled(reduced, g)
        lowest = theta[2]
        theta = (
            np.array([theta[0], lowest, 0.0]) if m > sums.clients else np.array([lowest, 0.0, 0.0])
        )
        return _assemble(sums, clients, theta, separable, shift, scale, None)
    if n == m > sums.clients and _within_clients(sums) <= 1e-18 * m:
        return _assemble(sums, clients, _between_only(sums), separable, shift, scale, None)
    profile = _Profile(sums, free)
    if any(free):
        best = min((profile.minimise(s) for s in _starts(sums, free)), key=lambda r: r[1])
        g = best[0]
    else:
        g = np.zeros(2)
    theta = _scaled(sums, g)
    if n == m and m > sums.clients:  # the residual is occasion and replicate together
        theta = np.array([theta[0], theta[2], 0.0])
    return _assemble(sums, clients, theta, separable, shift, scale, (profile, g, free))


def _within_clients(s: _Sums) -> float:
    """Sum of squares of occasion means about their client's mean."""
    y = s.means[:, -1]
    mean = s.per_client(y) / s.per_client(np.ones(y.size))
    return float(((y - mean[s.client_of]) ** 2).sum())


def _between_only(s: _Sums) -> Floats:
    """Variances when clients are constant: all spread, if any, lies between them."""
    y = s.means[:, -1]
    mean = s.per_client(y) / s.per_client(np.ones(y.size))
    between = float(mean.var(ddof=1)) if s.clients > 1 else 0.0
    return np.array([between if between > 1e-18 else 0.0, 0.0, 0.0])


def _start(s: _Sums, free: tuple[bool, bool]) -> Floats:
    """Moment estimates of the variance ratios, from unweighted means."""
    y = s.means[:, -1]
    per = s.per_client(np.ones(len(y)))
    mean = s.per_client(y) / per
    df_r = s.n - len(y)
    df_o = len(y) - s.clients
    between_o = float(((y - mean[s.client_of]) ** 2).sum()) / df_o if df_o else 0.0
    between_c = float(mean.var(ddof=1)) if s.clients > 1 else 0.0
    residual = float(s.within[-1, -1]) / df_r if df_r else between_o
    residual = max(residual, 1e-12)
    occasion = (
        max(between_o - residual / float(s.sizes.mean()), 0.05 * residual) if free[1] else 0.0
    )
    client = max(between_c - between_o / float(per.mean()), 0.05 * residual) if free[0] else 0.0
    return np.array([client, occasion]) / residual


def _starts(s: _Sums, free: tuple[bool, bool]) -> list[Floats]:
    first = _start(s, free)
    other = np.array([0.01, max(first[1], 1.0) * 4]) * np.array(free)
    return [first, other] if all(free) and s.clients < 6 else [first]


def _scaled(s: _Sums, g: Floats) -> Floats:
    """Variances from ratios: the residual variance is RSS/(N - p)."""
    q = s.quadratic(np.array([g[0], g[1], 1.0]))
    p = s.p
    rss = float(q[p, p] - q[p, :p] @ np.linalg.solve(q[:p, :p], q[:p, p]))
    residual = max(rss, 0.0) / (s.n - p)
    return np.array([g[0] * residual, g[1] * residual, residual])


_State = tuple[_Profile, Floats, tuple[bool, bool]]


def _assemble(
    sums: _Sums,
    clients: Ints,
    theta: Floats,
    separable: tuple[bool, bool, bool],
    shift: float,
    scale: float,
    state: _State | None,
) -> NestedFit:
    p = sums.p
    safe = theta.copy()
    if safe[1] + safe[2] <= 0:
        # all spread sits between clients (or there is none): a vanishing lower variance keeps
        # weights finite
        safe[2] = max(1e-10 * safe[0], 1e-20)
    if theta[2] == 0 and sums.n > len(sums.sizes):
        sums = _Sums(
            sums.means,
            np.full(len(sums.sizes), 1.0),
            sums.client_of,
            sums.clients,
            0 * sums.within,
            len(sums.sizes),
            p,
        )
    q = sums.quadratic(safe)
    cov = np.asarray(np.linalg.inv(q[:p, :p]), dtype=float)
    beta = cov @ q[:p, p]
    w, total, k = sums.weights(safe)
    resid = sums.means[:, p] - sums.means[:, :p] @ beta
    mean_resid = sums.per_client(w * resid) / total
    shrink = safe[0] * k
    blup = shrink * mean_resid
    x_mean = sums.per_client(w[:, None] * sums.means[:, :p]) / total[:, None]
    # prediction error of intercept + u for each client (Henderson 1975): conditional part plus that
    # of beta
    lead = np.zeros(p)
    lead[0] = 1.0
    link = lead[None, :] - shrink[:, None] * x_mean
    blup_var = safe[0] * (1 - shrink) + np.einsum("ci,ij,cj->c", link, cov, link)
    theta_cov = np.zeros((3, 3))
    if state is not None:
        theta_cov = _theta_covariance(state, sums, theta)
    df = sums.n - p
    rss = float(q[p, p] - q[p, :p] @ beta)
    deviance = (
        float(np.log(sums.sizes / w).sum() + np.log(1 + safe[0] * total).sum())
        + (sums.n - len(sums.sizes)) * math.log(max(safe[2], 1e-300))
        + float(np.linalg.slogdet(q[:p, :p])[1])
        + rss
        + df * math.log(2 * math.pi)
        + 2 * df * math.log(scale)
    )
    out_beta = beta * scale
    out_beta[0] += shift
    s2 = scale * scale
    unit = np.r_[np.ones(p), scale]  # of the columns: fixed effects as they are, then the values
    within = sums.within * np.outer(unit, unit)
    scaled = _Sums(sums.means * unit, sums.sizes, sums.client_of, sums.clients, within, sums.n, p)
    return NestedFit(
        beta=out_beta,
        beta_cov=cov * s2,
        variances=(float(theta[0]) * s2, float(theta[1]) * s2, float(theta[2]) * s2),
        separable=separable,
        blup=blup * scale,
        blup_sd=np.sqrt(np.maximum(blup_var, 0)) * scale,
        shrinkage=shrink,
        clients=clients,
        occasions_per_client=np.bincount(sums.client_of, minlength=sums.clients),
        counts=(sums.clients, len(sums.sizes), sums.n),
        deviance=deviance,
        theta_cov=theta_cov * s2 * s2,
        sums=scaled,
    )


def _theta_covariance(state: _State, sums: _Sums, theta: Floats) -> Floats:
    """Asymptotic covariance of the variances: 2·H⁻¹, H the Hessian of the deviance.

    Variances at the boundary (zero) are left out.
    """
    profile, g, free = state
    residual_slot = 2 if sums.n > len(sums.sizes) or theta[1] == 0 else 1
    residual = theta[residual_slot]
    if residual <= 0:
        return np.zeros((3, 3))
    _, _, f2, (full, first, second) = profile.evaluate(g)
    p = sums.p
    s_inv, ratio = np.linalg.inv(full[:p, :p]), g
    b = np.r_[-s_inv @ full[:p, p], 1.0]  # RSS = b' Q b at the optimum of beta
    r1 = np.array([b @ m @ b for m in first])
    dbeta = [-s_inv @ (m @ b)[:p] for m in first]
    r2 = np.empty((2, 2))
    l2 = np.empty((2, 2))
    for (i, j), m in zip(((0, 0), (0, 1), (1, 1)), second, strict=True):
        r2[i, j] = r2[j, i] = b @ m @ b - 2 * dbeta[i] @ full[:p, :p] @ dbeta[j]
        l2[i, j] = l2[j, i] = np.trace(s_inv @ m[:p, :p]) - np.sum(
            (s_inv @ first[i][:p, :p]) * (s_inv @ first[j][:p, :p]).T
        )
    # log-determinant part: recover from the profile Hessian
    q_inv = np.linalg.inv(full)
    k2 = np.empty((2, 2))
    for (i, j), m in zip(((0, 0), (0, 1), (1, 1)), second, strict=True):
        k2[i, j] = k2[j, i] = np.trace(q_inv @ m) - np.sum(
            (q_inv @ first[i]) * (q_inv @ first[j]).T
        )
    df = sums.n - p
    logdet2 = f2 - (1 - df) * l2 - df * k2
    h = np.empty((3, 3))
    h[:2, :2] = logdet2 + l2 + r2 / residual
    h[2, :2] = h[:2, 2] = -r1 / residual
    h[2, 2] = df
    active = [k for k in range(2) if free[k] and ratio[k] > 0] + [2]
    sub = h[np.ix_(active, active)]
    values, vectors = np.linalg.eigh(sub)
    inverse = (vectors / np.maximum(values, 1e-10)) @ vectors.T
    cov = np.zeros((3, 3))
    cov[np.ix_(active, active)] = 2 * inverse
    # from (g_c, g_o, log residual) to variances
    jac = np.zeros((3, 3))
    jac[0, 0] = residual
    jac[0, 2] = ratio[0] * residual
    jac[1, 1] = residual
    jac[1, 2] = ratio[1] * residual
    jac[residual_slot, 2] = residual
    return np.asarray(jac @ cov @ jac.T)
