"""The planner beside a plain loop over the analysis, and beside drawn studies of one design.

Run ``python benchmarks/planning.py``. CPU time of this process.
"""

import time
from collections.abc import Callable
from typing import Any

import numpy as np

from anchor_tally.stats.components import fit_nested
from anchor_tally.stats.offsets import client_offsets
from anchor_tally.stats.planning import QUICK, Design, Spreads, expected
from anchor_tally.stats.repeated import repeated_bias, repeated_limits
from anchor_tally.stats.variance_grid import occasion_means, variance_grid

N, A, K = 14, 3, 3
SPREADS = Spreads(2.0, 0.5, 1.1, 0.3)


def seconds(do: Callable[[], Any]) -> float:
    """CPU seconds of one call."""
    start = time.process_time()
    do()
    return time.process_time() - start


def one(rng: np.random.Generator) -> None:
    """One drawn study through the analysis: bias, limits and the clients' offsets."""
    client, occasion = np.repeat(np.arange(N), A * K), np.repeat(np.arange(N * A), K)
    d = 2.0 * rng.standard_normal(N)[client] + 0.3 * rng.standard_normal(N * A * K)
    d += 1.2 * rng.standard_normal(N * A)[occasion]
    fit = fit_nested(d, client, occasion)
    assert fit is not None
    grid = variance_grid(occasion_means(d, client, occasion))
    bias, _ = repeated_bias(fit)
    repeated_limits(fit, bias, grid, d, client)
    client_offsets(fit, grid)


def main() -> None:
    """Print each time and its ratio to the loop."""
    rng, design = np.random.default_rng(1), Design(N, A, 1, K)
    loop = seconds(lambda: [one(rng) for _ in range(40)]) / 40 * 10_000
    print(f"plain loop of 10,000 analyses (from 40): {loop:.0f} s")
    fine = seconds(lambda: expected(SPREADS, design))
    print(f"expected half-widths of the design: {fine:.3f} s, {loop / fine:.0f} times faster")
    for points in (64, 256):
        took = seconds(lambda points=points: expected(SPREADS, design, "", (10_000, points)))
        print(f"10,000 drawn studies, {points} points each: {took:.2f} s, {loop / took:.0f} times")
    picture = seconds(
        lambda: [
            expected(SPREADS, Design(N, a, 1, k), "offset", QUICK)
            for a in range(1, 9)
            for k in (1, 2, 3)
        ]
    )
    print(f"picture of 24 designs: {1000 * picture:.0f} ms")


if __name__ == "__main__":
    main()
