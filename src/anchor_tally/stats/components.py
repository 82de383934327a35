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

    @property
    def levels_apart(self) -> bool:
        """Whether clients and occasions can be told apart beside the fixed effects.

        Two variances need two degrees of freedom; with one, the split between them is an accident
        of the last digits.
        """
        clients, occasions, _ = self.counts
        return not 1 < clients < occasions < self.beta.size + 2

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

    @cached_property
    def starts(self) -> Ints:
        """First occasion of each client (C,); those of one client follow each other."""
        out = np.searchsorted(self.client_of, np.arange(self.clients))
        out.setflags(write=False)
        return out

    @cached_property
    def columns(self) -> Floats:
        """The occasion means by column, (q, M)."""
        out = np.ascontiguousarray(self.means.T)
        out.setflags(write=False)
        return out

    def per_client(self, values: Floats) -> Floats:
        """Sum (M,) or (M, q) over the occasions of each client."""
        return np.asarray(np.add.reduceat(values, self.starts, axis=0))

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


def _cross(shares: Floats, m: Floats, n: Floats) -> Floats:
    """Weighted cross products over clients, made symmetric.

    ``shares`` (K, C) or (C,) are the weights, ``m`` and ``n`` have shape (q, C); (K, q, q).
    """
    q = len(m)
    out = (shares @ (m[:, None] * n).reshape(q * q, -1).T).reshape(-1, q, q)
    return np.asarray(out if m is n else (out + out.transpose(0, 2, 1)) / 2)


def _products(m: Floats, n: Floats) -> Floats:
    """Products of rows 1 and 1, 1 and 2, 2 and 2 of two (2, k) arrays, (3,)."""
    found = m @ n.T
    return np.array([found[0, 0], (found[0, 1] + found[1, 0]) / 2, found[1, 1]])


def _symmetric(upper: Floats) -> Floats:
    """A symmetric (2, 2) matrix from its upper triangle (3,)."""
    return np.array([[upper[0], upper[1]], [upper[1], upper[2]]])


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


@dataclass(frozen=True, slots=True)
class _Criterion:
    """The profiled criterion at two ratios, with its first and second derivatives.

    It is a determinant part plus df·log of the residual sum of squares; ``rss1``, ``rss2`` and
    ``det2`` are the derivatives of each.
    """

    value: float
    first: Floats
    second: Floats
    rss1: Floats
    rss2: Floats
    det2: Floats


class _Profile:
    """Profiled REML criterion of the variance ratios (client, occasion).

    With exact first and second derivatives.
    """

    def __init__(self, sums: _Sums, free: tuple[bool, bool]) -> None:
        self.s, self.free = sums, free

    def evaluate(self, g: Floats) -> _Criterion:
        s, p = self.s, self.s.p
        gc, go = float(g[0]), float(g[1])
        w = 1 / (go + 1 / s.sizes)
        powers = np.array([w, w * w, w * w * w])
        # sums over the occasions of each client: of the powers of w, and of those times the means
        big = np.add.reduceat(powers, s.starts, axis=1)
        t0, t1, t2 = np.add.reduceat(powers[:, None, :] * s.columns, s.starts, axis=2)
        a = 1 + gc * big[0]
        c = gc / a
        square = 1 / (a * a)
        cube = 2 * square / a
        c1 = c * c * big[1]
        c2 = 2 * c * (c1 * big[1] - c * big[2])
        whole = (powers @ s.products).reshape(3, p + 1, p + 1)
        shares = np.array([c, square, c1, cube * big[0], cube * gc * big[1], c2])
        beside = _cross(shares, t0, t0)
        across = _cross(shares[:3], t1, t0)
        full = s.within + whole[0] - beside[0]
        # first derivatives: dw = -w², dW = W2·(-1), dT = -T2, dc/dW = -c², dc/dgc = 1/a²
        first = np.array([-beside[1], 2 * across[0] - whole[1] - beside[2]])
        second = np.array(
            [
                beside[3],
                2 * across[1] - beside[4],
                2 * (whole[2] - _cross(c, t1, t1)[0] - 2 * _cross(c, t2, t0)[0] + 2 * across[2])
                - beside[5],
            ]
        )
        inverse = np.linalg.inv(full[:p, :p])
        b = np.ones(p + 1)
        b[:p] = -inverse @ full[:p, p]  # the residual sum of squares is b'·full·b
        moved = first @ b
        rss, rss1 = float(b @ full @ b), moved @ b
        if rss == 0:
            raise np.linalg.LinAlgError("no residual is left")
        rss2 = (second @ b) @ b - 2 * _products(moved[:, :p] @ inverse, moved[:, :p])
        # the logarithms of two determinants: of the covariance, and of that of the fixed effects
        share = inverse @ first[:, :p, :p]
        u, v = big[0] / a, c * big[1]
        sums, both = powers.sum(axis=1), float(big[1] @ square)
        det1 = np.trace(share, axis1=1, axis2=2) + np.array([u.sum(), sums[0] - v.sum()])
        det2 = (
            np.trace(inverse @ second[:, :p, :p], axis1=1, axis2=2)
            - _products(share.reshape(2, -1), share.transpose(0, 2, 1).reshape(2, -1))
            - (u @ u, both, sums[1] - 2 * (c @ big[2]) + v @ v)
        )
        logdet = np.log(a).sum() - np.log(w / s.sizes).sum()
        df = s.n - p
        return _Criterion(
            float(logdet + np.linalg.slogdet(full[:p, :p])[1]) + df * math.log(abs(rss)),
            det1 + df * rss1 / rss,
            _symmetric(det2 + df * (rss2 / rss - _products(rss1[:, None], rss1[:, None]) / rss**2)),
            rss1,
            _symmetric(rss2),
            _symmetric(det2),
        )

    def minimise(self, start: Floats) -> tuple[Floats, float]:
        """Newton steps on the SD ratios.

        Eigenvalues are made positive and the step is halved until the deviance falls.
        """
        free = np.array(self.free)
        ratio = np.where(free, np.sqrt(np.maximum(start, 1e-8)), 0.0)
        at = self.evaluate(ratio**2)
        for _ in range(100):
            gradient = 2 * ratio * at.first * free
            hessian = 4 * np.outer(ratio, ratio) * at.second + np.diag(2 * at.first)
            hessian[~free] = hessian[:, ~free] = 0
            hessian[np.diag_indices(2)] += ~free
            values, vectors = np.linalg.eigh(hessian)
            step = -vectors @ ((vectors.T @ gradient) / np.maximum(np.abs(values), 1e-9))
            limit = 2.0 * (1 + np.abs(ratio)).max()
            if abs(float(gradient @ step)) < 1e-13 * (1 + abs(at.value)) and values.min() > -1e-9:
                break  # the Newton decrement is below the noise of the criterion
            length = float(np.abs(step).max())
            step *= min(1.0, limit / length) if length > 0 else 1.0
            scale = 1.0
            while scale > 1e-10:
                trial = np.abs(ratio + scale * step)
                new = self.evaluate(trial**2)
                if new.value <= at.value + 1e-12 * abs(at.value):
                    break
                scale /= 2
            else:
                break
            moved = float(np.abs(trial - ratio).max())
            ratio, at = trial, new
            # a ratio that has run into zero while the criterion still falls there is pushed off the
            # false zero
            stuck = free & (ratio < 1e-5) & (at.first < -1e-8)
            if stuck.any():
                ratio = np.where(stuck, 1e-2, ratio)
                at = self.evaluate(ratio**2)
                continue
            if moved <= 1e-10 * (1 + float(ratio.max())):
                break
        # on the boundary: exactly zero
        g, f = ratio**2, at.value
        for k in range(2):
            if free[k] and 0 < g[k] < 1e-6:
                at_zero = g.copy()
                at_zero[k] = 0.0
                zero = self.evaluate(at_zero)
                if zero.value <= f + 1e-9 and zero.first[k] >= 0:
                    g, f = at_zero, zero.value
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
    at, ratio, df = profile.evaluate(g), g, sums.n - sums.p
    h = np.empty((3, 3))
    h[:2, :2] = at.det2 + at.rss2 / residual
    h[2, :2] = h[:2, 2] = -at.rss1 / residual
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
