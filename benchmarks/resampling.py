"""Slopes of all pairs and resampled intervals beside plain NumPy and SciPy in the same run: python benchmarks/resampling.py."""

import os

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import resource

import numpy as np
from components import best
from scipy import stats

from anchor_tally.stats.pair_slopes import passing_bablok
from anchor_tally.stats.resample import bca


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


def four(sums):
    """Bias, root mean square, correlation and concordance from n and sums of x, y, their squares and product."""
    n, a, b, aa, bb, ab = np.moveaxis(sums, -1, 0)
    ma, mb = a / n, b / n
    va, vb, c = aa / n - ma**2, bb / n - mb**2, ab / n - ma * mb
    return np.stack([mb - ma, np.sqrt((aa + bb - 2 * ab) / n), c / np.sqrt(va * vb), 2 * c / (va + vb + (ma - mb) ** 2)], axis=-1)


def stacked(x, y, axis=-1):
    """The same four from resampled data."""
    mx, my, c = x.mean(axis), y.mean(axis), (x * y).mean(axis)
    vx, vy, c = x.var(axis), y.var(axis), c - mx * my
    return np.stack([my - mx, np.sqrt(((x - y) ** 2).mean(axis)), c / np.sqrt(vx * vy), 2 * c / (vx + vy + (mx - my) ** 2)])


def peak():
    """Largest memory of this process so far, MB."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def main():
    """Print time ratios, extra memory of ours (measured first), and how far the results lie apart."""
    rng = np.random.default_rng(1)
    for decimals in (1, 8):
        x = np.round(25 + 6 * rng.standard_normal(10_000), decimals)
        y = np.round(1 + 1.05 * x + 2 * rng.standard_normal(10_000), decimals)
        before = peak()
        ours, found = best(lambda x=x, y=y: passing_bablok(x, y), 3)
        extra = peak() - before
        theirs, others = best(lambda x=x, y=y: all_pairs(x, y), 1)
        s = found.line.slope
        apart = max(abs(a - b) for a, b in zip((s.value, s.interval.low, s.interval.high), others, strict=True))
        print(
            f"Passing–Bablok, 10,000 pairs to {decimals} decimals: ours {ours:.2f} s, all pairs {theirs:.2f} s, ratio {theirs / ours:.1f}"
            f" (aim 12), extra {extra:.0f} MB, difference {apart:.1e}"
        )
    for n, aim in ((60, 1.3), (3000, 3.0)):
        x = 20 + 5 * rng.standard_normal(n)
        y = x + 1 + 2 * rng.standard_normal(n)
        sums = np.column_stack([np.ones(n), x, y, x * x, y * y, x * y])
        before = peak()
        ours, intervals = best(lambda sums=sums: bca(sums, four), 5)
        extra = peak() - before
        theirs, other = best(
            lambda x=x, y=y: (
                stats.bootstrap(
                    (x, y), stacked, paired=True, vectorized=True, n_resamples=10_000, method="BCa", random_state=1, batch=500
                ).confidence_interval
            ),
            3,
        )
        apart = max(abs(i.low - other.low[k]) / (other.high[k] - other.low[k]) for k, i in enumerate(intervals))
        print(
            f"BCa, 10,000 draws of four statistics, n = {n}: ours {ours * 1e3:.0f} ms, scipy.stats.bootstrap {theirs * 1e3:.0f} ms,"
            f" ratio {theirs / ours:.1f} (aim {aim}), extra {extra:.0f} MB, lower ends {100 * apart:.0f} % of a width apart"
        )


if __name__ == "__main__":
    main()
