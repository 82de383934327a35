"""Slopes of all pairs beside plain NumPy in the same run: python benchmarks/pair_slopes.py."""

import os

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import resource

import numpy as np
from components import best

from anchor_tally.stats.pair_slopes import passing_bablok


def all_pairs(x, y):
    """Passing–Bablok's slope and the ends of its interval from every pair."""
    i, j = np.triu_indices(x.size, 1)
    dx, dy = x[j] - x[i], y[j] - y[i]
    there = (dx != 0) | (dy != 0)
    slope = np.where(dx[there] == 0, np.inf, dy[there] / np.where(dx[there] == 0, 1.0, dx[there]))
    slope = slope[np.abs(slope + 1) > 1e-9]
    below, n = int((slope < -1).sum()), slope.size
    wide = 1.959964 * np.sqrt(x.size * (x.size - 1) * (2 * x.size + 5) / 18)
    end = round((n - wide) / 2)
    at = [end + below - 1, (n - 1) // 2 + below, n // 2 + below, n - end + below]
    slope = np.partition(slope, at)[at]
    return float(slope[1:3].mean()), float(slope[0]), float(slope[3])


def peak():
    """Largest memory of this process so far, MB."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def main():
    """Print time ratios, our extra memory (measured first), and the difference of the results."""
    rng = np.random.default_rng(1)
    for decimals in (1, 8):
        x = np.round(25 + 6 * rng.standard_normal(10_000), decimals)
        y = np.round(1 + 1.05 * x + 2 * rng.standard_normal(10_000), decimals)
        before = peak()
        ours, found = best(lambda x=x, y=y: passing_bablok(x, y), 3)
        extra = peak() - before
        theirs, others = best(lambda x=x, y=y: all_pairs(x, y), 1)
        s = found.line.slope
        apart = max(
            abs(a - b)
            for a, b in zip((s.value, s.interval.low, s.interval.high), others, strict=True)
        )
        print(
            f"Passing–Bablok, 10,000 pairs to {decimals} decimals: ours {ours:.2f} s, all pairs"
            f" {theirs:.2f} s, ratio {theirs / ours:.1f} (aim 12), extra {extra:.0f} MB, difference"
            f" {apart:.1e}"
        )


if __name__ == "__main__":
    main()
