"""Closeness and variance components against published tables and independent libraries."""

import warnings

import numpy as np
import pandas as pd
import pytest
import statsmodels.formula.api as smf
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats

from anchor_tally.stats.closeness import agreement, approximate_limits, single_bias, single_limits, single_trend
from anchor_tally.stats.components import fit_nested
from anchor_tally.stats.distributions import noncentral_t_quantile, t_interval
from anchor_tally.stats.offsets import client_offsets, cross_validate, pooled_from_fit
from anchor_tally.stats.regression import deming
from anchor_tally.stats.repeated import mean_squares, repeated_bias, repeated_limits, repeated_trend

# Bland & Altman 1986, Lancet i:307, table 1 (first readings)
LARGE = np.array([494, 395, 516, 434, 476, 557, 413, 442, 650, 433, 417, 656, 267, 478, 178, 423, 427.0])
MINI = np.array([512, 430, 520, 428, 500, 600, 364, 380, 658, 445, 432, 626, 260, 477, 259, 350, 451.0])


def nested(rng, clients, occasions, replicates, sds, drop=0.0, bias=1.5):
    """Draw an (un)balanced nested set: d, client, occasion."""
    c, o, _ = (g.ravel() for g in np.meshgrid(range(clients), range(occasions), range(replicates), indexing="ij"))
    u, w, e = (sd * rng.standard_normal(n) for sd, n in zip(sds, (clients, clients * occasions, c.size), strict=True))
    keep = rng.random(c.size) >= drop
    return (bias + u[c] + w[c * occasions + o] + e)[keep], c[keep], o[keep]


def test_peak_flow_table():
    """The published bias, SD, limits and intervals come out, to the printed decimal."""
    d = LARGE - MINI
    bias, sd = single_bias(d)
    lim = approximate_limits(d)
    assert [round(x, 1) for x in (bias.value, sd)] == [-2.1, 38.8]
    assert [round(x, 1) for x in (bias.interval.low, bias.interval.high)] == [-22.0, 17.8]  # printed -22.1: rounded SD
    # the paper works from the rounded -2.1 and 38.8
    assert (lim.lower, lim.upper) == pytest.approx((-79.7, 75.5), abs=0.11)
    assert (lim.lower_interval.low, lim.lower_interval.high) == pytest.approx((-114.3, -45.1), abs=0.31)
    assert (lim.upper_interval.low, lim.upper_interval.high) == pytest.approx((40.9, 110.1), abs=0.31)


@pytest.mark.parametrize("n", [2, 5, 17, 100, 1160, 5000])
def test_exact_limits(n):
    """Exact intervals equal those from scipy's noncentral t, also for thousands (Carkeet 2015)."""
    d = np.random.default_rng(n).standard_normal(n)
    lim = single_limits(d)
    ncp = stats.norm.ppf(0.975) * np.sqrt(n)
    low, high = (d.mean() + d.std(ddof=1) * stats.nct.ppf(p, n - 1, ncp) / np.sqrt(n) for p in (0.025, 0.975))
    assert (lim.upper_interval.low, lim.upper_interval.high) == pytest.approx((low, high), rel=1e-9)
    assert noncentral_t_quantile(0.3, n - 1, -1.0) == pytest.approx(stats.nct.ppf(0.3, n - 1, -1.0), rel=1e-8)


def test_pairs_agree_with_scipy():
    """Correlation, its interval and the trend equal scipy's; concordance equals its definition (Lin 1989)."""
    a = agreement(MINI, LARGE, np.arange(17))
    r = stats.pearsonr(MINI, LARGE)
    ci = r.confidence_interval()
    assert a.pearson.value == pytest.approx(r.statistic, rel=1e-12)
    assert (a.pearson.interval.low, a.pearson.interval.high) == pytest.approx((ci.low, ci.high), rel=1e-9)
    v = np.cov(MINI, LARGE, ddof=0)
    assert a.concordance.value == pytest.approx(2 * v[0, 1] / (v[0, 0] + v[1, 1] + (MINI.mean() - LARGE.mean()) ** 2), rel=1e-12)
    assert a.concordance.interval.low < a.concordance.value < a.concordance.interval.high
    line = stats.linregress((MINI + LARGE) / 2, LARGE - MINI)
    t = single_trend(LARGE - MINI, (MINI + LARGE) / 2)
    assert (t.slope.value, t.p) == pytest.approx((line.slope, line.pvalue), rel=1e-9)


def test_deming_is_orthogonal_regression():
    """With ratio 1 the line is the first principal axis."""
    line = deming(MINI, LARGE, np.arange(17))
    _, vectors = np.linalg.eigh(np.cov(MINI, LARGE))
    assert line.slope.value == pytest.approx(vectors[1, 1] / vectors[0, 1], rel=1e-9)


@pytest.mark.parametrize(
    ("shape", "sds", "drop"), [((20, 3, 3), (2, 1, 0.5), 0.2), ((12, 4, 1), (1.5, 1, 0), 0.0), ((15, 1, 3), (1, 0, 1), 0.2)]
)
def test_components_equal_statsmodels(shape, sds, drop):
    """REML components, bias, its SE, deviance and BLUPs equal statsmodels' mixed model on unbalanced sets."""
    d, c, o = nested(np.random.default_rng(5), *shape, sds, drop)
    fit = fit_nested(d, c, o)
    frame = pd.DataFrame({"d": d, "c": c, "o": o})
    both = shape[1] > 1 and shape[2] > 1
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # the oracle reports its own convergence trouble
        model = smf.mixedlm("d~1", frame, groups="c", re_formula="1", vc_formula={"o": "0+C(o)"} if both else None)
        oracle = model.fit(reml=True, gtol=1e-12)
    lower = [float(oracle.vcomp[0]), oracle.scale] if both else [oracle.scale]
    theirs = [float(oracle.cov_re.iloc[0, 0]), *lower]
    ours = [v for v in fit.variances if v > 0]
    assert fit.deviance <= -2 * oracle.llf + 1e-6
    assert ours == pytest.approx(theirs, rel=2e-4)
    assert fit.beta[0] == pytest.approx(oracle.params.iloc[0], rel=1e-5)
    assert np.sqrt(fit.beta_cov[0, 0]) == pytest.approx(oracle.bse.iloc[0], rel=1e-4)
    effects = [float(v.iloc[0]) for v in oracle.random_effects.values()]
    assert fit.blup == pytest.approx(np.array(effects), abs=2e-4)


def test_balanced_design_has_closed_forms():
    """Balanced, interior: REML is the analysis of variance; the bias interval is the t interval of client means."""
    d, c, o = nested(np.random.default_rng(1), 14, 3, 3, (2, 1, 0.5))
    fit = fit_nested(d, c, o)
    cube = d.reshape(14, 3, 3)
    ms_r = cube.var(axis=2, ddof=1).mean()
    ms_o = 3 * cube.mean(axis=2).var(axis=1, ddof=1).mean()
    ms_c = 9 * cube.mean(axis=(1, 2)).var(ddof=1)
    assert fit.variances == pytest.approx(((ms_c - ms_o) / 9, (ms_o - ms_r) / 3, ms_r), rel=1e-6)
    bias, df = repeated_bias(fit)
    interval = stats.t.interval(0.95, 13, cube.mean(), np.sqrt(ms_c / 126))
    assert df == pytest.approx(13, rel=1e-5)
    assert (bias.interval.low, bias.interval.high) == pytest.approx(interval, rel=1e-5)
    shrink = fit.variances[0] / (fit.variances[0] + ms_o / 9)
    assert fit.blup == pytest.approx(shrink * (cube.mean(axis=(1, 2)) - cube.mean()), rel=1e-5)
    ms = mean_squares(d, c, o)
    assert sum(a * s for a, s in zip(ms.weights, ms.squares, strict=True)) == pytest.approx(fit.total_variance, rel=1e-6)


def test_leave_one_out_equals_refits():
    """Closed-form cross-validation equals leaving out by hand with the variances held."""
    d, c, o = nested(np.random.default_rng(2), 6, 3, 1, (1.0, 0.7, 0.0))
    fit = fit_nested(d, c, o)
    cv = cross_validate(fit)
    tau, sigma = fit.variances[0], fit.variances[1]
    errors = []
    for k in range(d.size):
        rest = np.arange(d.size) != k
        means = np.array([d[rest & (c == i)].mean() for i in range(6)])
        size = np.array([np.sum(rest & (c == i)) for i in range(6)])
        w = 1 / (tau + sigma / size)
        beta = (w * means).sum() / w.sum()
        i = c[k]
        errors.append(d[k] - beta - tau * w[i] * (means[i] - beta))
    assert cv.individual == pytest.approx(np.sqrt(np.mean(np.square(errors))), rel=1e-6)


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 10_000), st.integers(2, 6), st.integers(1, 3), st.integers(1, 3), st.floats(-50, 50), st.floats(0.1, 100))
def test_shift_scale_and_order(seed, clients, occasions, replicates, shift, scale):
    """Adding a constant moves bias and limits only; scaling scales all; row order does not matter."""
    rng = np.random.default_rng(seed)
    d, c, o = nested(rng, clients, occasions, replicates, (1, 0.7, 0.4))
    if d.size == clients:
        return
    first, order = fit_nested(d, c, o), rng.permutation(d.size)
    second = fit_nested((scale * d + shift)[order], c[order], o[order])
    assert second.beta[0] == pytest.approx(scale * first.beta[0] + shift, rel=1e-5, abs=1e-6)
    total = first.total_variance * scale**2
    assert second.total_variance == pytest.approx(total, rel=1e-4)


@pytest.mark.parametrize(
    "d",
    [[3.0] * 12, [1, 1, 1, 2, 2, 2, 5, 5, 5, 0, 0, 0], [1, 1, 1, 1, 1, 1, 4, 4, 4, 4, 4, 4.0]],
    ids=["constant", "no replicate spread", "only clients"],
)
def test_degenerate_sets_give_finite_results(d):
    """Zero variances give a result, never NaN or a warning."""
    c, o = np.repeat(np.arange(2), 6), np.tile(np.repeat([0, 1], 3), 2)
    fit = fit_nested(np.array(d, dtype=float), c, o)
    bias, _ = repeated_bias(fit)
    lim = repeated_limits(fit, bias, np.array(d, dtype=float), c, o)
    offsets, pooled = client_offsets(fit), pooled_from_fit(fit, bias)
    values = [
        bias.value,
        lim.lower,
        lim.upper,
        pooled.prediction_sd,
        pooled.df,
        *fit.variances,
        *offsets.offset,
        *offsets.sd,
        *offsets.df,
    ]
    assert np.isfinite(values).all()
    assert repeated_trend(np.array(d, dtype=float), np.zeros(12), c, o).slope is None


def test_near_singular_sets_have_no_false_zero():
    """No fit stops at a zero variance where a positive one is more likely."""
    rng = np.random.default_rng(11)
    for _ in range(60):
        d, c, o = nested(rng, 8, 3, 2, (0.15, 0.5, 0.5), 0.2)
        fit = fit_nested(d, c, o)
        residual = fit.variances[2]
        for k in (0, 1):
            if fit.variances[k] == 0:
                theta = np.array(fit.variances)
                theta[k] = 1e-4 * residual
                assert _deviance(fit, theta) >= _deviance(fit, np.array(fit.variances)) - 1e-9


def _deviance(fit, theta):
    """REML deviance from dense matrices, an independent way to the same number."""
    s = fit.sums
    m = s.sizes.size
    v = theta[0] * (s.client_of[:, None] == s.client_of) + np.diag(theta[1] + theta[2] / s.sizes)
    x, y = s.means[:, :1], s.means[:, 1]
    inverse = np.linalg.inv(v)
    xvx = x.T @ inverse @ x
    b = np.linalg.solve(xvx, x.T @ inverse @ y)
    r = y - x @ b
    within = (s.n - m) * np.log(theta[2]) + s.within[1, 1] / theta[2]
    return np.linalg.slogdet(v)[1] + np.linalg.slogdet(xvx)[1] + r @ inverse @ r + within


@pytest.mark.slow
@pytest.mark.parametrize(
    ("shape", "sds", "drop"),
    [
        ((8, 2, 3), (1, 1, 0.5), 0.1),
        ((14, 3, 3), (1.3, 0.8, 0.3), 0.1),
        ((60, 2, 2), (1, 1, 1), 0.3),
        ((12, 1, 3), (1, 0, 0.5), 0.0),
    ],
)
def test_coverage(shape, sds, drop):
    """Intervals of bias and limits and prediction intervals cover about 95 % (4,000 draws; limits may be cautious)."""
    rng = np.random.default_rng(7)
    total, z, hits, n = np.sqrt(np.square(sds).sum()), stats.norm.ppf(0.975), np.zeros(4), 4000
    for _ in range(n):
        d, c, o = nested(rng, *shape, sds, drop)
        fit = fit_nested(d, c, o)
        bias, _ = repeated_bias(fit)
        lim = repeated_limits(fit, bias, d, c, o)
        p = pooled_from_fit(fit, bias)
        new = t_interval(bias.value, p.prediction_sd, p.df)
        future = 1.5 + total * rng.standard_normal()
        pairs = (
            (bias.interval, 1.5),
            (lim.upper_interval, 1.5 + z * total),
            (lim.lower_interval, 1.5 - z * total),
            (new, future),
        )
        hits += [i.low <= v <= i.high for i, v in pairs]
    assert 0.935 <= hits[0] / n <= 0.975
    assert (hits[1:3] / n >= 0.94).all()
    assert 0.935 <= hits[3] / n <= 0.97
