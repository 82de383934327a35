"""Integration over the variance ratios of the nested design.

Its intervals account for estimated variances.

The model is that of ``components`` with an intercept only. At given ratios g_c, g_o (client and
occasion variance over replicate variance) everything is a t distribution with N − 1 degrees of
freedom; the ratios are integrated over a grid. The weights are the REML likelihood times a
density that is flat in the logarithms of the expected mean squares between occasions and
clients, which are bounded below by the mean square under them (Box & Tiao 1973, *Bayesian
Inference in Statistical Analysis*, section 5.2; Tiao & Box 1967, Biometrika 54:109, from
memory). With one level only this gives the exact interval of the single design. The exponent
OCCASIONS keeps the coverage at few occasions; it was found by simulation.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy import special

from .estimate import Floats, FrozenArrays, Interval, Ints
from .mixture import mixture_quantile

OCCASIONS = 0.3
_ZOOM, _FINE, _COARSE = 11, 15, 11
_DEPTH, _RANGE = 14.0, 12.0
_LIGHT = 1e-3  # share of the heaviest node below which a node does not count for quantiles


@dataclass(frozen=True, eq=False)
class OccasionMeans(FrozenArrays):
    """Occasions in the order of their clients: mean, size, sum of squares within (M,).

    The client of each (places in ``clients``).
    """

    mean: Floats
    size: Floats
    ss: Floats
    client_of: Ints
    clients: Ints
    occasions: Ints
    starts: Ints

    @property
    def n(self) -> int:
        """Number of readings."""
        return int(self.size.sum())

    def per_client(self, values: Floats) -> Floats:
        """Sum over the occasions of each client: (…, M) to (…, C)."""
        return np.asarray(np.add.reduceat(values, self.starts, axis=-1), dtype=float)


def occasion_means(value: Floats, client: Ints, occasion: Ints) -> OccasionMeans:
    """Group values by occasion within client.

    Parameters
    ----------
    value : ndarray, shape (N,)
        Differences.
    client, occasion : ndarray of int, shape (N,)
        Client and occasion of each value.

    Returns
    -------
    OccasionMeans
        Mean, size and client of each of the M occasions, and their sums of squares.
    """
    clients, c = np.unique(client, return_inverse=True)
    span = int(occasion.max()) - int(occasion.min()) + 1
    cells, cell = np.unique(c * span + (occasion - occasion.min()), return_inverse=True)
    size = np.bincount(cell).astype(float)
    mean = np.bincount(cell, value) / size
    client_of = (cells // span).astype(np.int64)
    return OccasionMeans(
        mean=mean,
        size=size,
        ss=np.asarray(np.bincount(cell, (value - mean[cell]) ** 2), dtype=float),
        client_of=client_of,
        clients=clients.astype(np.int64),
        occasions=(cells % span + int(occasion.min())).astype(np.int64),
        starts=np.flatnonzero(np.r_[True, np.diff(client_of) > 0]),
    )


@dataclass(frozen=True, eq=False)
class Nodes(FrozenArrays):
    """Sums at G nodes of the ratios.

    Weights w of the occasions (G, M), and per client (G, C): W, k = 1/(g_c + 1/W), mean m and
    term.

    ``s`` (G,) is Σk, ``t`` Σk·m, ``p`` the weighted sum of squares without the part of the mean,
    ``logdet`` log |V|.
    """

    gc: Floats
    go: Floats
    w: Floats
    total: Floats
    k: Floats
    m: Floats
    term: Floats
    s: Floats
    t: Floats
    p: Floats
    logdet: Floats


@dataclass(frozen=True, eq=False)
class VarianceGrid(FrozenArrays):
    """Nodes (A·B) with weights and REML criterion, and which levels the design separates.

    ``shape`` is (A, B): the client ratio varies fastest. ``weight`` sums to 1; ``criterion`` is
    log REML likelihood.
    """

    sums: OccasionMeans
    nodes: Nodes
    shape: tuple[int, int]
    weight: Floats
    criterion: Floats
    df: int

    @property
    def beta(self) -> Floats:
        """Generalised least-squares mean at each node (G,)."""
        return np.asarray(self.nodes.t / self.nodes.s, dtype=float)

    @property
    def residual(self) -> Floats:
        """Replicate variance at each node (G,)."""
        return np.asarray((self.nodes.p - self.nodes.t**2 / self.nodes.s) / self.df, dtype=float)

    @property
    def spread(self) -> Floats:
        """Variance of one reading of a new client about the mean, in replicate variances (G,)."""
        return np.asarray(1 + self.nodes.gc + self.nodes.go, dtype=float)

    def limit(self, z: float, confidence: float = 0.95, of: int = 1) -> Interval:
        """Interval of mean + z·SD of single readings, or of means of ``of`` repeats.

        A mixture of noncentral t distributions.
        """
        spread = self.spread - 1 + 1 / of
        scale, reach = np.sqrt(self.residual / self.nodes.s), z * np.sqrt(spread * self.nodes.s)
        kept = self.weight > _LIGHT * self.weight.max()
        weight, beta = self.weight[kept] / self.weight[kept].sum(), self.beta[kept]
        scale, reach = scale[kept], reach[kept]

        def below(q: float) -> float:
            t = (q - beta) / scale
            share = special.nctdtr(
                self.df, reach, t
            )  # not a number far from the middle, where it is 0 or 1
            return float(weight @ np.where(np.isnan(share), t > reach, share))

        centre = float(weight @ (beta + reach * scale))
        width = float(
            np.sqrt(weight @ (scale**2 + (beta + reach * scale - centre) ** 2))
            + abs(z) * np.sqrt(weight @ (self.residual[kept] * spread[kept]))
        )
        return Interval(
            *(_root(below, p, centre, width) for p in (0.5 - confidence / 2, 0.5 + confidence / 2))
        )

    def client_means(self) -> tuple[Floats, Floats]:
        """Mean plus effect of each client at each node, and its variance, both (G, C).

        Variances are in units of the replicate variance.
        """
        n = self.nodes
        shrink = n.gc[:, None] * n.k
        mean = self.beta[:, None] + shrink * (n.m - self.beta[:, None])
        return mean, n.gc[:, None] * (1 - shrink) + (1 - shrink) ** 2 / n.s[:, None]

    def quantiles(
        self, location: Floats, variance: Floats, confidence: float = 0.95
    ) -> tuple[Floats, Floats]:
        """Equal-tailed interval of K mixtures of t.

        ``location`` and ``variance`` (in replicate variances) have shape (G, K).
        """
        kept = self.weight > _LIGHT * self.weight.max()
        weight = self.weight[kept] / self.weight[kept].sum()
        loc, scale = location[kept], np.sqrt(variance[kept] * self.residual[kept, None])
        mean = weight @ loc
        sd = np.sqrt(weight @ (scale**2 + (loc - mean) ** 2))
        scale = np.maximum(scale, 1e-300)
        return tuple(  # type: ignore[return-value]
            mixture_quantile(p, mean, sd, weight[:, None], loc, scale, self.df)
            for p in (0.5 - confidence / 2, 0.5 + confidence / 2)
        )


def _root(below: Callable[[float], float], p: float, centre: float, width: float) -> float:
    """Find where a distribution function reaches ``p``.

    A bracket is widened until it holds the root, then Brent's method.
    """
    low, high = centre - width, centre + width
    while below(low) > p:
        low -= high - low
    while below(high) < p:
        high += high - low
    from scipy.optimize import brentq  # only here: a quarter of a second that lists need not pay

    return float(brentq(lambda at: below(at) - p, low, high, xtol=1e-9 * width, rtol=1e-12))


def _nodes(s: OccasionMeans, gc: Floats, go: Floats) -> Nodes:
    v = go[:, None] + 1 / s.size
    w = 1 / v
    total = s.per_client(w)
    t = s.per_client(w * s.mean)
    q = s.per_client(w * s.mean**2)
    m = t / total
    k = 1 / (gc[:, None] + 1 / total)
    term = q - t * m + k * m * m
    return Nodes(
        gc=gc,
        go=go,
        w=w,
        total=total,
        k=k,
        m=m,
        term=term,
        s=k.sum(axis=1),
        t=(k * m).sum(axis=1),
        p=float(s.ss.sum()) + term.sum(axis=1),
        logdet=np.log(s.size * v).sum(axis=1) + np.log1p(gc[:, None] * total).sum(axis=1),
    )


def _criterion(nodes: Nodes, df: int) -> Floats:
    """Log REML likelihood with the replicate variance integrated out, (G,)."""
    rss = np.maximum(nodes.p - nodes.t**2 / nodes.s, 1e-300)
    return np.asarray(-nodes.logdet / 2 - np.log(nodes.s) / 2 - df / 2 * np.log(rss), dtype=float)


def variance_grid(sums: OccasionMeans) -> VarianceGrid | None:
    """Integrate the nested design over a grid of variance ratios.

    Parameters
    ----------
    sums : OccasionMeans
        The data.

    Returns
    -------
    VarianceGrid or None
        None where nothing varies below the highest level that can be separated.

    Notes
    -----
    Without repeats the lowest level is occasion and repeat together. With one occasion a client the
    client level carries both. With one client there is no client level.
    """
    shift = float(sums.mean.mean())
    centred = OccasionMeans(
        sums.mean - shift,
        sums.size,
        sums.ss,
        sums.client_of,
        sums.clients,
        sums.occasions,
        sums.starts,
    )
    occasions, clients = sums.mean.size, sums.clients.size
    per = np.bincount(sums.client_of).astype(float)
    own = sums.per_client(sums.mean) / per
    centre = own[sums.client_of] if occasions > clients else shift
    lowest = (
        float(sums.ss.sum()) if sums.n > occasions else float(((sums.mean - centre) ** 2).sum())
    )
    scale = float(np.abs(sums.mean).max())
    if sums.n < 2 or lowest <= 1e-20 * sums.n * max(1.0, scale) ** 2:
        return None
    has_client = clients > 1 and (occasions > clients or sums.n > occasions)
    has_occasion = sums.n > occasions > clients
    inverse = 1 / sums.size
    below = (
        float(((1 - 1 / per[sums.client_of]) * inverse).sum()) / (occasions - clients)
        if has_occasion
        else 1.0
    )
    k1, k2 = float((1 / per).mean()), float((np.bincount(sums.client_of, inverse) / per**2).mean())
    most = _FINE if occasions < 600 else _COARSE

    def ratios(a: Floats, b: Floats) -> tuple[Floats, Floats]:
        go = below * np.expm1(a) if has_occasion else np.zeros_like(a)
        return (k1 * go + k2) * np.expm1(b) if has_client else np.zeros_like(b), go

    def evaluate(along_a: Floats, along_b: Floats) -> tuple[Nodes, Floats, Floats]:
        a, b = (x.ravel() for x in np.meshgrid(along_a, along_b, indexing="ij"))
        nodes = _nodes(centred, *ratios(a, b))
        criterion = _criterion(nodes, sums.n - 1)
        return nodes, criterion, criterion + OCCASIONS * a * has_occasion

    zero = np.zeros(1)
    a = np.linspace(0, _RANGE, _ZOOM) if has_occasion else zero
    b = np.linspace(0, _RANGE, _ZOOM) if has_client else zero
    for count in (_ZOOM, _ZOOM, most):
        density = evaluate(a, b)[2].reshape(a.size, b.size)
        near = density > density.max() - _DEPTH
        a, b = _zoomed(a, near.any(axis=1), count), _zoomed(b, near.any(axis=0), count)
    nodes, criterion, log_density = evaluate(a, b)
    weight = (
        np.exp(log_density - log_density.max())
        * np.outer(_trapezoid(a.size), _trapezoid(b.size)).ravel()
    )
    shifted = _shifted(nodes, shift, sums)
    return VarianceGrid(
        sums, shifted, (a.size, b.size), weight / weight.sum(), criterion, sums.n - 1
    )


def _shifted(n: Nodes, shift: float, sums: OccasionMeans) -> Nodes:
    """The same nodes in the units of the data.

    Sums of squares about a far origin lose digits, so this is done last.
    """
    if shift == 0:
        return n
    m = n.m + shift
    term = n.term + n.k * (2 * shift * n.m + shift**2)
    t = n.t + shift * n.s
    return Nodes(
        n.gc,
        n.go,
        n.w,
        n.total,
        n.k,
        m,
        term,
        n.s,
        t,
        float(sums.ss.sum()) + term.sum(axis=1),
        n.logdet,
    )


def _zoomed(axis: Floats, near: np.ndarray, count: int) -> Floats:
    if axis.size == 1:
        return axis
    where, step = np.flatnonzero(near), float(axis[1] - axis[0])
    return np.linspace(max(float(axis[where[0]]) - step, 0.0), float(axis[where[-1]]) + step, count)


def _trapezoid(n: int) -> Floats:
    out = np.ones(n)
    if n > 1:
        out[[0, -1]] = 0.5
    return out


@dataclass(frozen=True, eq=False)
class LeftOut(FrozenArrays):
    """Predicted differences of left-out occasion means, shape (M,).

    From the other clients' mean, and from the client's own offset.

    ``pooled_sd`` and ``own_sd`` are the SDs of what is left out about its prediction, at the
    refitted variances.
    """

    pooled: Floats
    own: Floats
    pooled_sd: Floats
    own_sd: Floats


def leave_out(grid: VarianceGrid) -> LeftOut | None:
    """Leave out whole clients, and single occasions, and fit again each time.

    Parameters
    ----------
    grid : VarianceGrid
        The fit of all data.

    Returns
    -------
    LeftOut or None
        Predictions and SDs of shape (M,). None below three clients.

    Notes
    -----
    The sums are down-dated exactly at every node of the grid; the REML maximum is interpolated
    between nodes.
    """
    s, n = grid.sums, grid.nodes
    c = s.client_of
    if s.clients.size < 3:
        return None
    v = 1 / n.w
    size_v = np.log(s.size * v)
    # without client i
    rest_s, rest_t = n.s[:, None] - n.k, n.t[:, None] - n.k * n.m
    rest_p = n.p[:, None] - n.term - s.per_client(s.ss)
    rest_det = n.logdet[:, None] - s.per_client(size_v) - np.log1p(n.gc[:, None] * n.total)
    rest_df = s.n - 1 - s.per_client(s.size)
    rest_var = np.maximum(rest_p - rest_t**2 / rest_s, 1e-300) / np.maximum(rest_df, 1)
    size_of = np.maximum.reduceat(
        s.size, s.starts
    )  # repeats of an occasion, for the spread of its mean
    rest_sd = np.sqrt(rest_var * (n.gc[:, None] + n.go[:, None] + 1 / size_of + 1 / rest_s))
    without, without_sd = _best(
        grid.shape, rest_s, rest_t, rest_p, rest_det, rest_df, rest_t / rest_s, np.log(rest_sd)
    )
    # without occasion j of client i
    w = n.w
    left = n.total[:, c] - w
    alone = left <= 1e-9 * n.total[:, c]
    left = np.where(alone, 1.0, left)
    t = np.where(alone, 0.0, n.total[:, c] * n.m[:, c] - w * s.mean)
    m = t / left
    k = np.where(alone, 0.0, 1 / (n.gc[:, None] + 1 / left))
    q = n.term[:, c] - n.k[:, c] * n.m[:, c] ** 2 + n.total[:, c] * n.m[:, c] ** 2 - w * s.mean**2
    term = np.where(alone, 0.0, q - t * m + k * m * m)
    new_s = n.s[:, None] - n.k[:, c] + k
    new_t = n.t[:, None] - n.k[:, c] * n.m[:, c] + k * m
    new_p = n.p[:, None] - n.term[:, c] + term - s.ss
    new_det = (
        n.logdet[:, None]
        - size_v
        - np.log1p(n.gc[:, None] * n.total)[:, c]
        + np.where(alone, 0.0, np.log1p(n.gc[:, None] * left))
    )
    beta = new_t / new_s
    prediction = beta + n.gc[:, None] * k * (m - beta)
    shrink = n.gc[:, None] * k
    spread = n.gc[:, None] * (1 - shrink) + (1 - shrink) ** 2 / new_s + n.go[:, None] + 1 / s.size
    own_var = np.maximum(new_p - new_t**2 / new_s, 1e-300) / np.maximum(s.n - 1 - s.size, 1)
    log_sd = np.log(np.sqrt(own_var * spread))
    own, own_sd = _best(
        grid.shape, new_s, new_t, new_p, new_det, s.n - 1 - s.size, prediction, log_sd
    )
    return LeftOut(without[c], own, np.exp(without_sd)[c], np.exp(own_sd))


def _best(
    shape: tuple[int, int],
    s: Floats,
    t: Floats,
    p: Floats,
    logdet: Floats,
    df: Floats,
    *wanted: Floats,
) -> list[Floats]:
    """Interpolate each of ``wanted`` (G, K) at the REML maximum of K refits.

    By second-order surfaces through the neighbours of the best node.
    """
    rss = np.maximum(p - t * t / s, 1e-300)
    criterion = (-logdet / 2 - np.log(s) / 2 - np.maximum(df, 1) / 2 * np.log(rss)).reshape(
        *shape, -1
    )
    each = np.arange(criterion.shape[2])
    a, b = np.unravel_index(criterion.reshape(-1, each.size).argmax(axis=0), shape)
    step_a = ((a > 0) & (a < shape[0] - 1)).astype(np.int64)
    step_b = ((b > 0) & (b < shape[1] - 1)).astype(np.int64)

    def derivatives(f: Floats) -> tuple[Floats, ...]:
        def at(i: int, j: int) -> Floats:
            return np.asarray(f[a + i * step_a, b + j * step_b, each], dtype=float)

        middle = at(0, 0)
        return (
            middle,
            (at(1, 0) - at(-1, 0)) / 2,
            (at(0, 1) - at(0, -1)) / 2,
            at(1, 0) - 2 * middle + at(-1, 0),
            at(0, 1) - 2 * middle + at(0, -1),
            (at(1, 1) - at(1, -1) - at(-1, 1) + at(-1, -1)) / 4,
        )

    _, fa, fb, faa, fbb, fab = derivatives(criterion)
    faa, fbb = (
        np.where(faa < 0, faa, -1.0),
        np.where(fbb < 0, fbb, -1.0),
    )  # on an edge there is no slope and nothing moves
    det = faa * fbb - fab**2
    flat = det <= 0
    det, fab = np.where(flat, faa * fbb, det), np.where(flat, 0.0, fab)
    u = ((fab * fb - fbb * fa) / det).clip(-1, 1) * step_a
    v = ((fab * fa - faa * fb) / det).clip(-1, 1) * step_b

    def surface(f: Floats) -> Floats:
        g, ga, gb, gaa, gbb, gab = derivatives(f.reshape(*shape, -1))
        return np.asarray(
            g + u * ga + v * gb + u * u * gaa / 2 + v * v * gbb / 2 + u * v * gab, dtype=float
        )

    return [surface(f) for f in wanted]
