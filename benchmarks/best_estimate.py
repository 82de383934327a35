"""The filter over clients beside statsmodels' own filter, client by client, on the same series."""

import time

import numpy as np
from statsmodels.tsa.statespace.kalman_filter import KalmanFilter

from anchor_tally.stats.best_estimate import Observations, Spreads, filter_clients

CLIENTS, DAYS = 200, 180


def series(rng: np.random.Generator) -> Observations:
    """One source for each client, read twice a week."""
    day = np.sort(rng.choice(DAYS, 52, replace=False))
    day[0], day[-1] = 0, DAYS - 1
    n = day.size
    client = np.repeat(np.arange(CLIENTS), n)
    value = 20 + rng.normal(0, 1, CLIENTS * n)
    zeros = np.zeros(CLIENTS * n, dtype=np.int64)
    return Observations(client, np.tile(day, CLIENTS), zeros, value, zeros + 1, 0.0 * value)


def main() -> None:
    """Print seconds for all clients, and the ratio."""
    o = series(np.random.default_rng(1))
    one = np.ones(1)
    none = np.zeros(0)
    s = Spreads(
        level=0.1, trend=0.02, start=8.0, start_trend=0.15, middle=20.0, offset=0 * one, day=none,
        repeat=0.5 * one, slope=one, slope_sd=none, drift=none, device=np.array([-1]),
        shares_morning=np.array([False]), shifts=np.array([False]), morning=0.0, correlation=0.0,
    )  # fmt: skip
    last = np.full(CLIENTS, DAYS - 1)
    start = time.perf_counter()
    found = filter_clients(o, [s], last - 28, last, last, 0)
    log = -0.5 * float((found.logs + found.products[..., 0, 0]).sum())
    ours = time.perf_counter() - start
    week = 1 / 7
    walk = np.array([[week**3 / 3, week**2 / 2], [week**2 / 2, week]])
    start, total = time.perf_counter(), 0.0
    for c in range(CLIENTS):
        own = o.client == c
        grid = np.full(DAYS, np.nan)
        grid[o.day[own]] = o.value[own]
        f = KalmanFilter(k_endog=1, k_states=2)
        f.bind(grid[:, None])
        f["design"], f["obs_cov"] = np.array([[1.0, 0.0]]), np.array([[s.repeat[0] ** 2]])
        f["transition"], f["selection"] = np.array([[1.0, week], [0.0, 1.0]]), np.eye(2)
        f["state_cov"] = s.trend**2 * walk + np.diag([s.level**2 * week, 0.0])
        f.initialize_known(np.array([s.middle, 0.0]), np.diag([s.start**2, s.start_trend**2]))
        total += f.filter().llf
    theirs = time.perf_counter() - start
    print(f"{CLIENTS} clients: {ours:.3f} s, statsmodels {theirs:.3f} s, ratio {theirs / ours:.1f};"
          f" likelihoods {log:.6f} and {total:.6f}")  # fmt: skip


if __name__ == "__main__":
    main()
