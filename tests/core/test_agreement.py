"""Closeness and variance components against published tables and independent libraries."""

import warnings

import numpy as np
import pandas as pd
import pytest
import statsmodels.formula.api as smf
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats

from anchor_tally.stats.agreement import agreement
from anchor_tally.stats.components import fit_nested
from anchor_tally.stats.day_steps import day_steps
from anchor_tally.stats.distributions import noncentral_t_quantile
from anchor_tally.stats.limits import approximate_limits, single_bias, single_limits, single_trend
from anchor_tally.stats.offsets import (
    client_offsets,
    day_to_day,
    pooled_from_grid,
    pooled_from_stated,
)
from anchor_tally.stats.regression import deming
from anchor_tally.stats.repeated import repeated_bias, repeated_limits, repeated_trend
from anchor_tally.stats.tallies import far_off, robust_sd
from anchor_tally.stats.trend import ScanError, reference_error, reference_trend
from anchor_tally.stats.validation import Foretold, cross_validate, gain
from anchor_tally.stats.variance_grid import leave_out, occasion_means, variance_grid

# Bland & Altman 1986, Lancet i:307, table 1 (first readings)
LARGE = np.array(
    [494, 395, 516, 434, 476, 557, 413, 442, 650, 433, 417, 656, 267, 478, 178, 423, 427.0]
)
MINI = np.array(
    [512, 430, 520, 428, 500, 600, 364, 380, 658, 445, 432, 626, 260, 477, 259, 350, 451.0]
)


def nested(rng, clients, occasions, replicates, sds, drop=0.0, bias=1.5):
    """Draw an (un)balanced nested set: d, client, occasion."""
    c, o, _ = (
        g.ravel()
        for g in np.meshgrid(range(clients), range(occasions), range(replicates), indexing="ij")
    )
    u, w, e = (
        sd * rng.standard_normal(n)
        for sd, n in zip(sds, (clients, clients * occasions, c.size), strict=True)
    )
    keep = rng.random(c.size) >= drop
    return (bias + u[c] + w[c * occasions + o] + e)[keep], c[keep], o[keep]


def test_peak_flow_table():
    """The published bias, SD, limits and intervals come out, to the printed decimal."""
    d = LARGE - MINI
    bias, sd = single_bias(d)
    lim = approximate_limits(d)
    assert [round(x, 1) for x in (bias.value, sd)] == [-2.1, 38.8]
    assert lim.coverage == pytest.approx(2 * stats.norm.cdf(2) - 1)
    assert [round(x, 1) for x in (bias.interval.low, bias.interval.high)] == [
        -22.0,
        17.8,
    ]  # printed -22.1: rounded SD
    # the paper works from the rounded -2.1 and 38.8
    assert (lim.lower, lim.upper) == pytest.approx((-79.7, 75.5), abs=0.11)
    assert (lim.lower_interval.low, lim.lower_interval.high) == pytest.approx(
        (-114.3, -45.1), abs=0.31
    )
    assert (lim.upper_interval.low, lim.upper_interval.high) == pytest.approx(
        (40.9, 110.1), abs=0.31
    )


@pytest.mark.parametrize("n", [2, 5, 17, 100, 1160, 5000])
def test_exact_limits(n):
    """Exact intervals equal those from scipy's noncentral t, also for thousands (Carkeet 2015)."""
    d = np.random.default_rng(n).standard_normal(n)
    lim = single_limits(d)
    ncp = stats.norm.ppf(0.975) * np.sqrt(n)
    low, high = (
        d.mean() + d.std(ddof=1) * stats.nct.ppf(p, n - 1, ncp) / np.sqrt(n) for p in (0.025, 0.975)
    )
    assert (lim.upper_interval.low, lim.upper_interval.high) == pytest.approx((low, high), rel=1e-9)
    assert noncentral_t_quantile(0.3, n - 1, -1.0) == pytest.approx(
        stats.nct.ppf(0.3, n - 1, -1.0), rel=1e-8
    )


def test_pairs_agree_with_scipy():
    """Correlation, its interval and the trend equal scipy's; concordance equals its definition.

    Source: Lin 1989.
    """
    a = agreement(MINI, LARGE, np.arange(17))
    r = stats.pearsonr(MINI, LARGE)
    ci = r.confidence_interval()
    assert a.pearson.value == pytest.approx(r.statistic, rel=1e-12)
    assert (a.pearson.interval.low, a.pearson.interval.high) == pytest.approx(
        (ci.low, ci.high), rel=1e-9
    )
    v = np.cov(MINI, LARGE, ddof=0)
    assert a.concordance.value == pytest.approx(
        2 * v[0, 1] / (v[0, 0] + v[1, 1] + (MINI.mean() - LARGE.mean()) ** 2), rel=1e-12
    )
    assert a.concordance.interval.low < a.concordance.value < a.concordance.interval.high
    line = stats.linregress((MINI + LARGE) / 2, LARGE - MINI)
    t = single_trend(LARGE - MINI, (MINI + LARGE) / 2)
    assert (t.slope.value, t.p) == pytest.approx((line.slope, line.pvalue), rel=1e-9)


def test_interval_of_concordance_by_the_delta_method():
    """Lin's interval equals the delta method on the sample moments of a normal pair, differentiated numerically, bias included."""
    rng = np.random.default_rng(11)
    x = 20 + 4 * rng.standard_normal(40)
    y = 3 + 1.1 * x + 2 * rng.standard_normal(40)
    found = agreement(x, y, np.arange(40)).concordance

    def z_of(m):
        mx, my, vx, vy, c = m
        return np.arctanh(2 * c / (vx + vy + (mx - my) ** 2))

    moments = np.array(
        [x.mean(), y.mean(), x.var(), y.var(), np.mean((x - x.mean()) * (y - y.mean()))]
    )
    _, _, vx, vy, c = moments
    spread = np.zeros((5, 5))
    spread[:2, :2] = [[vx, c], [c, vy]]
    spread[2:, 2:] = [
        [2 * vx**2, 2 * c**2, 2 * vx * c],
        [2 * c**2, 2 * vy**2, 2 * vy * c],
        [2 * vx * c, 2 * vy * c, vx * vy + c**2],
    ]
    step = 1e-6 * np.abs(moments)
    slope = np.array(
        [(z_of(moments + s) - z_of(moments - s)) / (2 * s.sum()) for s in np.diag(step)]
    )
    half = stats.norm.ppf(0.975) * np.sqrt(slope @ spread @ slope / 38)
    ends = np.tanh(np.arctanh(found.value) + np.array([-half, half]))
    assert (found.interval.low, found.interval.high) == pytest.approx(tuple(ends), rel=1e-6)


def test_least_data_that_say_something():
    """Two pairs have limits of the first form; a day-to-day SD needs three differences."""
    two = approximate_limits(np.array([1.0, 3.0]))
    assert (two.lower, two.upper) == pytest.approx((2 - 2 * np.sqrt(2), 2 + 2 * np.sqrt(2)))
    series = np.array([20.0, 21.0, 20.0, 21.0])
    days = np.arange(4)
    assert day_to_day(series, days * 0, days) == pytest.approx((np.sqrt(3 / 6), 3 / (1 + 2 / 6)))
    assert day_to_day(series[:3], days[:3] * 0, days[:3]) is None
    assert day_to_day(series, days * 0, 8 * days) is None  # neighbours too far apart


def test_jackknife_of_whole_clients():
    """Repeated pairs: the interval is that of Fisher's z with each client not imported in turn, t with clients − 1."""
    rng = np.random.default_rng(8)
    client = np.repeat(np.arange(7), 3)
    x = 20 + 4 * rng.standard_normal(7)[client] + rng.standard_normal(21)
    y = x + 1 + rng.standard_normal(21)
    found = agreement(x, y, client)

    def lin(x, y):
        return 2 * np.cov(x, y, ddof=0)[0, 1] / (x.var() + y.var() + (x.mean() - y.mean()) ** 2)

    for of, value in (
        (found.pearson, lambda x, y: np.corrcoef(x, y)[0, 1]),
        (found.concordance, lin),
    ):
        z = np.arctanh([value(x[client != k], y[client != k]) for k in range(7)])
        half = stats.t.ppf(0.975, 6) * np.sqrt(6 * z.var())
        ends = np.tanh(np.arctanh(value(x, y)) + np.array([-half, half]))
        assert (of.interval.low, of.interval.high) == pytest.approx(tuple(ends), rel=1e-9)


@pytest.mark.parametrize("draws", [150, pytest.param(4000, marks=pytest.mark.slow)])
def test_jackknife_covers(draws):
    """Correlation and concordance of 14 clients, 3 scans, 3 repeats lie in their intervals about as often as said."""
    rng, shape, hits = np.random.default_rng(3), (14, 3, 3), np.zeros(2)
    cov = 25 + 1.0
    vx, vy = cov + 0.4**2, cov + 1.3**2 + 0.8**2 + 0.3**2
    truth = np.array([cov / np.sqrt(vx * vy), 2 * cov / (vx + vy + 1.5**2)])
    client = np.repeat(np.arange(14), 9)
    for _ in range(draws):
        true = rng.normal(0, 5, (14, 1, 1)) + rng.normal(0, 1, (14, 3, 1))
        x = np.broadcast_to(true + 0.4 * rng.standard_normal((14, 3, 1)), shape)
        y = (
            true
            + 1.5
            + rng.normal(0, 1.3, (14, 1, 1))
            + rng.normal(0, 0.8, (14, 3, 1))
            + rng.normal(0, 0.3, shape)
        )
        found = agreement(x.ravel(), y.ravel(), client)
        for k, e in enumerate((found.pearson, found.concordance)):
            hits[k] += e.interval.low <= truth[k] <= e.interval.high
    slack = 100 * 3 * np.sqrt(0.05 * 0.95 / draws)
    assert (100 * hits / draws > np.array([94, 91.5]) - slack).all(), hits / draws


def test_deming_is_orthogonal_regression():
    """With ratio 1 the line is the first principal axis.

    Its intervals are those of a jackknife that fits again without each (Linnet 1993).
    """

    def axis(x, y):
        _, vectors = np.linalg.eigh(np.cov(x, y))
        slope = vectors[1, 1] / vectors[0, 1]
        return slope, y.mean() - slope * x.mean()

    line, whole = deming(MINI, LARGE, np.arange(17)), np.array(axis(MINI, LARGE))
    pseudo = np.array(
        [
            17 * whole - 16 * np.array(axis(np.delete(MINI, k), np.delete(LARGE, k)))
            for k in range(17)
        ]
    )
    half = stats.t.ppf(0.975, 16) * pseudo.std(axis=0, ddof=1) / np.sqrt(17)
    for k, found in enumerate((line.slope, line.intercept)):
        ends = (found.interval.low, found.interval.high)
        assert (found.value, *ends) == pytest.approx(
            (whole[k], whole[k] - half[k], whole[k] + half[k]), rel=1e-6
        )
    # without the first client the others do not vary together: a line, and no interval
    alone = deming(np.array([9.0, 1, 1, 2, 2]), np.array([9.0, 1, 2, 1, 2]), np.arange(5))
    assert (alone.slope.value > 0, alone.slope.interval) == (True, None)


@pytest.mark.parametrize(
    ("shape", "sds", "drop"),
    [((20, 3, 3), (2, 1, 0.5), 0.2), ((12, 4, 1), (1.5, 1, 0), 0.0), ((15, 1, 3), (1, 0, 1), 0.2)],
)
def test_components_equal_statsmodels(shape, sds, drop):
    """REML components, bias, its SE, deviance and BLUPs equal statsmodels' mixed model on unbalanced sets."""
    d, c, o = nested(np.random.default_rng(5), *shape, sds, drop)
    fit = fit_nested(d, c, o)
    frame = pd.DataFrame({"d": d, "c": c, "o": o})
    both = shape[1] > 1 and shape[2] > 1
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # the oracle reports its own convergence trouble
        model = smf.mixedlm(
            "d~1", frame, groups="c", re_formula="1", vc_formula={"o": "0+C(o)"} if both else None
        )
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


OATS = """111 130 157 174 117 114 161 141 105 140 118 156 61 91 97 100 70 108 126 149 96 124 121 144 68 64 112 86 60 102 89 96 89 129
 132 124 74 89 81 122 64 103 132 133 70 89 104 117 62 90 100 116 80 82 94 126 63 70 109 99 53 74 118 113 89 82 86 104 97 99 119 121"""
PASTES = """62.8 62.6 60.1 62.3 62.7 63.1 60 61.4 57.5 56.9 61.1 58.9 58.7 57.5 63.9 63.1 65.4 63.7 57.1 56.4 56.9 58.6 64.7 64.5 55.1 55.1
 54.7 54.2 58.8 57.5 63.4 64.9 59.3 58.1 60.5 60 62.5 62.6 61 58.7 56.9 57.7 59.2 59.4 65.2 66 64.8 64.1 54.8 54.8 64 64 57.7 56.8
 58.3 59.3 59.2 59.2 58.9 56.6"""


@pytest.mark.parametrize(
    ("data", "per", "drop", "line", "variances", "fixed"),
    [
        (OATS, 4, (2, 16, 17, 39, 40, 58), True, (197.2125, 164.7971, 144.7887),
         ((84.1649424, 6.9670722, 6.0120503), (66.8980060, 6.7402408, 47.7668270))),
        (OATS, 4, (2, 16, 17, 39, 40, 58), False, (179.4676, 142.7211, 430.2914), ((104.4143965, 6.6693520, 5.0069196),)),
        (PASTES, 2, (0, 7, 8, 22, 43), False, (1.755754, 8.261214, 0.764437), ((60.0070750, 0.6824572, 9.0143184),)),
    ],
)  # fmt: skip
def test_components_equal_r(data, per, drop, line, variances, fixed):
    """Yates 1935 (blocks, plots, four doses) and Davies & Goldsmith 1972 (batches, casks, two tests), some values not imported.

    Recorded from lmer(y ~ 1 + (1|client/occasion)), and with + dose, of R 4.2.2 with lme4 1.1.31
    and lmerTest 3.1.3, Satterthwaite's df.
    """
    keep = np.setdiff1d(np.arange(len(data.split())), drop)
    y = np.array(data.split(), dtype=float)[keep]
    client, occasion = keep // (3 * per), keep // per
    fit = fit_nested(
        y, client, occasion, np.column_stack([np.ones(keep.size), keep % 4 * 0.2]) if line else None
    )
    assert fit.variances == pytest.approx(variances, rel=2e-5)
    for k, (beta, se, df) in enumerate(fixed):
        assert (fit.beta[k], np.sqrt(fit.beta_cov[k, k])) == pytest.approx((beta, se), rel=1e-5)
        assert fit.satterthwaite(np.eye(len(fixed))[k]) == pytest.approx(df, rel=1e-4)
    if line:
        blups = (
            -5.959688,
            -11.165204,
            -6.208495,
            -3.443488,
            4.366302,
            22.410572,
        )  # in lme4's order of the blocks' names
        assert sorted(fit.blup) == pytest.approx(sorted(blups), rel=1e-5)


def test_balanced_design_has_closed_forms():
    """Balanced, interior: REML is the analysis of variance.

    The bias interval is the t interval of client means.
    """
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
    grid = variance_grid(occasion_means(d, c, o))
    lim = repeated_limits(fit, bias, grid, d, c)
    reach = stats.norm.ppf(0.975) * np.sqrt(sum(fit.variances))
    assert (lim.lower, lim.upper) == pytest.approx(
        (cube.mean() - reach, cube.mean() + reach), rel=1e-6
    )
    assert (
        lim.lower_interval.low
        < lim.lower
        < lim.lower_interval.high
        < lim.upper_interval.low
        < lim.upper
        < lim.upper_interval.high
    )
    shrink = fit.variances[0] / (fit.variances[0] + ms_o / 9)
    assert fit.blup == pytest.approx(shrink * (cube.mean(axis=(1, 2)) - cube.mean()), rel=1e-5)


def test_leave_one_out_equals_refits():
    """Leaving out occasions and clients equals brute-force refits, variances included, with missing readings too."""
    d, c, o = nested(np.random.default_rng(2), 10, 3, 2, (1.0, 0.7, 0.4), 0.15)
    means = occasion_means(d, c, o)
    left = leave_out(variance_grid(means))
    own, pooled = [], []
    for j in range(means.mean.size):
        i = means.clients[means.client_of[j]]
        out = (c == i) & (o == means.occasions[j])
        rest, others = (fit_nested(d[k], c[k], o[k]) for k in (~out, c != i))
        at = np.flatnonzero(rest.clients == i)
        own.append(rest.beta[0] + (rest.blup[at[0]] if at.size else 0.0))
        pooled.append(others.beta[0])
    assert left.own == pytest.approx(own, abs=0.02)
    assert left.pooled == pytest.approx(pooled, abs=1e-3)
    rmse = np.sqrt(np.mean(np.square(means.mean - left.own)))
    assert rmse == pytest.approx(np.sqrt(np.mean(np.square(means.mean - own))), rel=2e-3)


@pytest.mark.parametrize("design", [(3, 2, 1), (5, 3, 2), (20, 2, 1)])
def test_quantiles_of_mixtures(design):
    """Against scipy.stats.t: as much of the mixture lies below each end as is stated."""
    d, c, o = nested(np.random.default_rng(7), *design, (1, 0.6, 0.3))
    grid = variance_grid(occasion_means(d, c, o))
    mean, variance = grid.client_means()
    scale = np.sqrt(variance * grid.residual[:, None])
    for q, p in zip(grid.quantiles(mean, variance), (0.025, 0.975), strict=True):
        below = grid.weight @ stats.t.cdf((q - mean) / scale, grid.df)
        assert below == pytest.approx(p, abs=1e-4)  # nodes of little weight are left out


def test_integrated_intervals_have_known_ends():
    """One level: the exact limits (Carkeet 2015) and the t interval.

    Balanced with a large spread: t on the client means.
    """
    d = np.random.default_rng(3).standard_normal(11)
    grid = variance_grid(occasion_means(d, np.arange(11), np.zeros(11, dtype=np.int64)))
    exact = single_limits(d)
    for z, interval in ((1.959963985, exact.upper_interval), (-1.959963985, exact.lower_interval)):
        got = grid.limit(z)
        assert (got.low, got.high) == pytest.approx((interval.low, interval.high), abs=1e-6)
    d, c, o = nested(np.random.default_rng(1), 14, 3, 3, (3, 0.5, 0.3))
    fit, grid = fit_nested(d, c, o), variance_grid(occasion_means(d, c, o))
    low, high = grid.quantiles(grid.beta[:, None], 1 / grid.nodes.s[:, None])
    t = stats.t.interval(
        0.95, 13, *(f(d.reshape(14, 9).mean(axis=1)) for f in (np.mean, stats.sem))
    )
    assert (low[0], high[0]) == pytest.approx(t, rel=2e-3)
    bias, _ = repeated_bias(fit)
    new, person = pooled_from_grid(grid, bias).new, d.reshape(14, 9).mean(axis=1)
    half = stats.t.ppf(0.975, 13) * person.std(ddof=1) * np.sqrt(1 + 1 / 14)
    assert (new.low, new.high) == pytest.approx(
        (person.mean() - half, person.mean() + half), abs=0.04 * half
    )
    offsets = client_offsets(fit, grid)
    # each client's own mean, nearly unshrunken: t with the degrees of freedom between occasions
    cell = d.reshape(14, 3, 3).mean(axis=2)
    se = np.sqrt(cell.var(axis=1, ddof=1).mean() / 3)
    assert offsets.high - offsets.low == pytest.approx(2 * stats.t.ppf(0.975, 28) * se, rel=0.04)
    assert np.all((offsets.low < offsets.offset) & (offsets.offset < offsets.high))
    assert offsets.sd == pytest.approx(
        (offsets.high - offsets.low) / (2 * stats.t.ppf(0.975, 28)), rel=0.1
    )
    assert np.all((offsets.new_low < offsets.low) & (offsets.new_high > offsets.high))


def test_stated_spread_is_in_the_interval():
    """One client, the spread between clients stated: normal variance τ² and that of the client's mean, by hand."""
    d, c, o = nested(np.random.default_rng(4), 1, 6, 1, (0, 0.5, 0))
    fit = fit_nested(d, c, o)
    bias, _ = repeated_bias(fit)
    p = pooled_from_stated(fit, bias, 3.0)
    s2 = d.var(ddof=1)
    sd = np.sqrt(2 * 9 + s2 / 6 + s2)
    half = (p.new.high - p.new.low) / 2
    assert 1.96 * sd <= half <= 2.05 * sd


def test_day_to_day_spread():
    """Successive differences are blind to a slow trend, and need three of them."""
    rng = np.random.default_rng(5)
    series = 0.05 * np.arange(400) + rng.normal(0, 0.8, 400)
    days = np.arange(400)
    sd, df = day_to_day(series, days * 0, days)
    assert sd == pytest.approx(0.8, rel=0.1)
    assert df == pytest.approx(399 / (1 + 398 / 798))
    pairs = day_steps(series, days * 0, days + 20 * (days // 2))  # two days together, then a gap
    assert (pairs.step.size, pairs.df) == (200, 200)


def test_slopes_on_the_reference_equal_least_squares():
    """Without error of the reference: between clients the regression of client means, within clients that with client dummies."""
    rng = np.random.default_rng(6)
    d, c, o = nested(rng, 9, 4, 2, (1, 0.6, 0.3))
    x = 20 + 4 * rng.standard_normal(9)[c] + rng.standard_normal((9, 4))[c, o]
    found = reference_trend(
        d,
        x,
        np.ones(d.size),
        c,
        c * 4 + o,
        reference_error(np.ones(36, dtype=np.int64), np.zeros(36), None),
    )
    cell = pd.DataFrame({"d": d, "x": x, "c": c, "o": o}).groupby(["c", "o"]).mean().reset_index()
    within = smf.ols("d ~ x + C(c)", cell).fit()
    between = smf.ols("d ~ x", cell.groupby("c").mean()).fit()
    for ours, theirs in ((found.within, within), (found.between, between)):
        assert ours.slope.value == pytest.approx(theirs.params["x"], rel=1e-6)
        assert (ours.slope.interval.low, ours.slope.interval.high) == pytest.approx(
            tuple(theirs.conf_int().loc["x"]), rel=1e-6
        )
        assert ours.p == pytest.approx(theirs.pvalues["x"], rel=1e-6)
    known, estimated = (
        reference_trend(d, x, np.ones(d.size), c, c * 4 + o, ScanError(0.4, df, "stated"))
        for df in (np.inf, 6.0)
    )
    # an error that was itself estimated leaves the slope where it is, and is less sure of it
    assert estimated.within.slope.value == pytest.approx(known.within.slope.value)
    narrow, wide = known.within.slope.interval, estimated.within.slope.interval
    assert wide.high - wide.low > narrow.high - narrow.low


def test_reference_error_comes_from_replicates():
    """RMS-SD of replicate scans (Glueer 1995: pooled root mean square).

    Few replicates give way to what is stated.
    """
    assert reference_error(np.array([2, 3]), np.array([0.5, 1.0]), None).sd == pytest.approx(
        np.sqrt(1.5 / 3)
    )
    assert reference_error(np.array([2, 2]), np.array([0.5, 1.0]), 0.3).source == "stated"
    assert reference_error(np.array([1, 1]), np.zeros(2), None).source == "none"


def test_squared_errors_over_clients():
    """The standard error of a gain is that of client sums (by hand), and a single client gives none."""
    worse, better, client = (
        np.array([4.0, 2, 9, 1]),
        np.array([1.0, 1, 1, 1]),
        np.array([0, 0, 1, 1]),
    )
    mean, error = gain(worse, better, client)
    parts = np.array([3 + 1 - 6, 8 + 0 - 6.0])
    assert (mean, error) == pytest.approx((3, np.sqrt(2 * (parts**2).sum()) / 4))
    assert gain(worse, better, np.zeros(4))[1] == np.inf


def test_baselines_by_hand():
    """Last scan (the next one for the first), mean of the other scans, mean of the other clients, on the same occasions."""
    x = np.array([10.0, 12, 17, 30, 34, 20, 21])
    client, instant = np.array([0, 0, 0, 1, 1, 2, 2]), np.array([1.0, 2, 3, 1, 2, 2, 1])
    d = np.array([2.0, 2.5, 1.5, 2, 2, 2.2, 1.8])
    equation = x + np.array([1.0, -1, 2, -2, 1, 0, 3])
    cv = cross_validate(
        d,
        x,
        client,
        instant,
        {m: Foretold(np.full(7, 2.0), None) for m in ("pooled", "client")},
        equation,
    )
    b = cv.baselines
    assert b.bmi_equation == pytest.approx(np.sqrt(20 / 7))
    assert b.last_scan == pytest.approx(np.sqrt(np.mean(np.square([2, 2, 5, 4, 4, 1, 1]))))
    assert b.other_scans_mean == pytest.approx(
        np.sqrt(np.mean(np.square([4.5, 1.5, 6, 4, 4, 1, 1])))
    )
    person = np.array([13, 32, 20.5])
    rest = np.array([26.25, 16.75, 22.5])[client]
    assert person.mean() == pytest.approx(21.8333, abs=1e-3)
    assert b.sample_mean == pytest.approx(np.sqrt(np.mean(np.square(x - rest))))
    assert (cv.model, cv.beats_scans, cv.beats_people) == ("pooled", True, True)
    assert (cv.before, cv.after) == pytest.approx(
        (np.sqrt(np.mean(d**2)), np.sqrt(np.mean((d - 2) ** 2)))
    )


def test_robust_spread_and_what_is_far_off():
    """One mistyped repeat moves the usual spread by little, and is the one that is named (19.4 / 39.2 / 19.5)."""
    rng = np.random.default_rng(7)
    group, value = np.repeat(np.arange(20), 3), np.round(20 + rng.normal(0, 0.25, 60), 1)
    clean, _ = robust_sd(group, value)
    assert clean == pytest.approx(np.sqrt(pd.Series(value).groupby(group).var().mean()), rel=1e-9)
    value[31:33] = 39.2, 19.5
    value[30] = 19.4
    assert robust_sd(group, value)[0] == pytest.approx(clean, rel=0.1)
    assert far_off(group, value).tolist() == [31]
    assert far_off(np.zeros(3, dtype=np.int64), np.array([19.4, 39.2, 19.5])).tolist() == [1]
    assert far_off(np.repeat(np.arange(9), 2), np.arange(18.0)).size == 0


@settings(max_examples=40, deadline=None)
@given(
    st.integers(0, 10_000),
    st.integers(2, 6),
    st.integers(1, 3),
    st.integers(1, 3),
    st.floats(-50, 50),
    st.floats(0.1, 100),
)
def test_shift_scale_and_order(seed, clients, occasions, replicates, shift, scale):
    """Adding a constant moves bias and limits only; scaling scales all.

    Row order does not matter.
    """
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
    grid = variance_grid(occasion_means(np.array(d, dtype=float), c, o))
    lim = repeated_limits(fit, bias, grid, np.array(d, dtype=float), c)
    offsets = client_offsets(fit, grid)
    pooled = pooled_from_grid(grid, bias).new if grid is not None else bias.interval
    values = [
        bias.value,
        lim.lower,
        lim.upper,
        pooled.low,
        pooled.high,
        *fit.variances,
        *offsets.offset,
        *offsets.sd,
        *offsets.new_high,
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
