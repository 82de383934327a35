"""Resampling whole clients: counts in blocks of bounded memory, and BCa intervals of statistics of sums."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np
from scipy import special

from .estimate import Floats, Interval

MOST_BYTES = 3 << 20  # of one block: small enough to stay near the processor
Statistics = Callable[[Floats], Floats]  # sums (…, t) to statistics (…, s)


def client_weights(groups: int, draws: int, seed: int, columns: int = 0) -> Iterator[Floats]:
    """How often each of ``groups`` clients is drawn, (block, groups), in blocks until there are ``draws``.

    ``columns`` is the width of what is made of a block, so that it stays within memory. The same seed gives the same draws whatever the
    blocks are.
    """
    rng = np.random.default_rng(seed)
    block = max(1, min(draws, MOST_BYTES // (8 * max(groups, columns))))
    shift = (np.arange(block) * groups)[:, None]
    done = 0
    while done < draws:
        rows = min(block, draws - done)
        drawn = rng.integers(0, groups, (rows, groups), dtype=np.uint32) + shift[:rows]
        yield np.bincount(drawn.ravel(), minlength=rows * groups).reshape(rows, groups).astype(np.float64)
        done += rows


def bca(
    sums: Floats, statistics: Statistics, draws: int = 10_000, seed: int = 1, confidence: float = 0.95
) -> list[Interval | None]:
    """Bias-corrected and accelerated intervals of statistics that are functions of sums over clients (Efron 1987, JASA 82:171).

    ``sums`` (groups, t) holds each client's part of the sums; acceleration from leaving out one client at a time. One interval a
    statistic, None where it does not vary or cannot be computed in more than 1 % of the draws.
    """
    groups = sums.shape[0]
    total = sums.sum(axis=0)
    observed = statistics(total)
    drawn = np.concatenate([statistics(counts @ sums) for counts in client_weights(groups, draws, seed, sums.shape[1])])
    rest = statistics(total - sums)
    tail = special.ndtri([(1 - confidence) / 2, (1 + confidence) / 2])
    out: list[Interval | None] = []
    for k in range(observed.size):
        values = drawn[:, k]
        finite = np.isfinite(values)
        values = values if finite.all() else values[finite]
        jack = rest[:, k]
        if values.size < 0.99 * draws or float(np.ptp(values)) == 0 or not np.isfinite(jack).all():
            out.append(None)
            continue
        ties = (int((values < observed[k]).sum()) + int((values <= observed[k]).sum())) / 2
        z0 = float(special.ndtri(np.clip(ties / values.size, 0.5 / values.size, 1 - 0.5 / values.size)))
        gap = jack.mean() - jack
        power = float((gap**2).sum()) ** 1.5
        a = float((gap**3).sum()) / (6 * power) if power > 0 else 0.0
        ranks = special.ndtr(z0 + (z0 + tail) / (1 - a * (z0 + tail)))
        low, high = np.quantile(values, ranks)
        out.append(Interval(float(low), float(high)))
    return out
