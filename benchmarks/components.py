"""Variance components beside statsmodels' mixed model in one run.

``python benchmarks/components.py``.
"""

import os

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import time
import warnings

import numpy as np
import pandas as pd
import statsmodels.formula.api as smf

from anchor_tally.stats.components import fit_nested


def draw(rng, clients, occasions, replicates):
    """A balanced nested set."""
    c, o, _ = (
        g.ravel()
        for g in np.meshgrid(range(clients), range(occasions), range(replicates), indexing="ij")
    )
    u, w, e = (
        rng.standard_normal(clients),
        0.7 * rng.standard_normal(clients * occasions),
        0.4 * rng.standard_normal(c.size),
    )
    return 1.5 + u[c] + w[c * occasions + o] + e, c, o


def best(function, times):
    """Shortest of several runs, in seconds, and the last result."""
    spent = []
    for _ in range(times):
        start = time.perf_counter()
        result = function()
        spent.append(time.perf_counter() - start)
    return min(spent), result


def main():
    """Print time ratios and the largest relative difference of the estimates."""
    warnings.simplefilter("ignore")
    for shape, target, times in (((20, 3, 3), 25, 3), ((200, 12, 3), 200, 1)):
        d, c, o = draw(np.random.default_rng(3), *shape)
        ours, fit = best(lambda d=d, c=c, o=o: fit_nested(d, c, o), 15)
        frame = pd.DataFrame({"d": d, "c": c, "o": o})
        model = smf.mixedlm("d~1", frame, groups="c", re_formula="1", vc_formula={"o": "0+C(o)"})
        theirs, oracle = best(lambda model=model: model.fit(reml=True, gtol=1e-10), times)
        reference = np.array([oracle.cov_re.iloc[0, 0], oracle.vcomp[0], oracle.scale])
        gap = np.max(np.abs(np.array(fit.variances) - reference) / reference)
        print(
            f"{shape}: ours {ours * 1e3:.2f} ms, statsmodels {theirs * 1e3:.0f} ms, ratio"
            f" {theirs / ours:.0f} (aim {target}), difference {gap:.1e}"
        )


if __name__ == "__main__":
    main()
