"""Drift and verdicts: against independent libraries, definitions by loops, and seeded simulation of what the screen says."""

from __future__ import annotations

import math
from collections import Counter
from dataclasses import replace
from datetime import date, datetime, timedelta

import numpy as np
import pandas as pd
import pytest
import statsmodels.formula.api as smf
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats

from anchor_tally.analysis.agreement.hydration import HydrationRequest
from anchor_tally.analysis.offsets.adopt import record_of
from anchor_tally.analysis.offsets.calibrate import CalibrateRequest
from anchor_tally.analysis.offsets.cross_validation import _left_out
from anchor_tally.analysis.offsets.record import correct, correct_series
from anchor_tally.analysis.offsets.versions import compare_versions
from anchor_tally.analysis.pairs.comparator import CannotCompare
from anchor_tally.analysis.people.fat_ranges import placed
from anchor_tally.analysis.time.drift import DRIFTING, EITHER, OPEN, STEPPED, DriftRequest
from anchor_tally.analysis.time.track import TrackRequest
from anchor_tally.domain.calibrations import CalibrationRecord, LineRecord, MadeOf
from anchor_tally.domain.lens import Lens
from anchor_tally.domain.steps import finish
from anchor_tally.exchange.drift_json import drift_json
from anchor_tally.figures import drift as drift_figure
from anchor_tally.stats.calibration_line import leave_out_line, line_fit, offset_at
from anchor_tally.stats.components import fit_nested
from anchor_tally.stats.control_chart import LAMBDA, control_chart, limit_of
from anchor_tally.stats.estimate import Interval
from anchor_tally.stats.one_client import Noise, noise_of, rate_of, verdict, week_means
from anchor_tally.stats.repeated import repeated_trend
from anchor_tally.stats.steps import _deviances, find_steps
from anchor_tally.stats.time_slope import (
    robust_slope,
    rounds_needed,
    slope_on_time,
    straight_line,
    summary_slopes,
)
from anchor_tally.stats.trend import client_means, reference_error, reference_trend
from anchor_tally.stats.variance_grid import leave_out, occasion_means, variance_grid
from anchor_tally.wording import drift as drift_words
from places import reading, study_of


def nested(
    rng,
    clients,
    anchors,
    repeats,
    *,
    day=1.0,
    noise=0.4,
    own=1.5,
    slope=0.0,
    step=0.0,
    at=13.0,
    gap=12.0,
):
    """Differences with their client, occasion and weeks."""
    client = np.repeat(np.arange(clients), anchors * repeats)
    k = np.tile(np.repeat(np.arange(anchors), repeats), clients)
    occasion, weeks = client * anchors + k, k * gap
    d = (
        rng.normal(0, own, clients)[client]
        + rng.normal(0, day, clients * anchors)[occasion]
        + rng.normal(0, noise, client.size)
    )
    return d + slope * weeks + step * (weeks >= at), client, occasion, weeks


def search(d, client, occasion, weeks, known=(), **more):
    """Steps of readings."""
    m = occasion_means(d, client, occasion)
    return find_steps(
        m, occasion_means(weeks, client, occasion).mean, d, client, occasion, known, **more
    )


def test_slope_is_that_of_the_nested_mixed_model():
    """Statsmodels' MixedLM with a variance component for the occasion, REML.

    An unbalanced design.
    """
    rng = np.random.default_rng(4)
    d, client, occasion, weeks = nested(rng, 12, 4, 3, slope=0.08)
    keep = rng.random(d.size) > 0.2
    d, client, occasion, weeks = (
        d[keep],
        client[keep],
        occasion[keep],
        weeks[keep] + rng.uniform(-1, 1, 48)[occasion[keep]],
    )
    ours = slope_on_time(d, client, occasion, weeks)
    data = pd.DataFrame({"d": d, "w": weeks, "c": client, "o": occasion})
    fit = smf.mixedlm("d ~ w", data, groups="c", re_formula="1", vc_formula={"o": "0 + C(o)"}).fit(
        reml=True, method="lbfgs"
    )
    assert ours.slope.value == pytest.approx(fit.params["w"], abs=1e-4)
    assert math.sqrt(ours.slope_variance) == pytest.approx(fit.bse["w"], rel=1e-3)
    line, low, high = ours.band(np.array([ours.middle]))
    assert line[0] == pytest.approx(
        fit.params["Intercept"] + fit.params["w"] * ours.middle, abs=1e-3
    )
    assert low[0] < line[0] < high[0]


def test_robust_company_of_the_slope():
    """One block: Theil–Sen of scipy.

    Blocks: all pairs within clients by loops, S and its variance (Hirsch et al. 1982).
    """
    rng = np.random.default_rng(1)
    weeks, y = np.arange(12.0), rng.normal(0, 1, 12) + 0.1 * np.arange(12)
    alone = robust_slope(y, np.zeros(12, dtype=int), weeks)
    theirs = stats.theilslopes(y, weeks)
    assert alone.slope.value == pytest.approx(theirs.slope)
    assert alone.pairs == 66
    client, y = np.repeat([0, 1, 2], 4), np.round(rng.normal(0, 1, 12), 1)
    weeks = np.tile([0.0, 12, 24, 36], 3)
    ours = robust_slope(y, client, weeks)
    slopes, s = [], 0
    for c in range(3):
        for i in range(4):
            for j in range(i):
                a, b = 4 * c + i, 4 * c + j
                slopes.append((y[a] - y[b]) / (weeks[a] - weeks[b]))
                s += np.sign(y[a] - y[b])
    variance = 3 * 4 * 3 * 13 / 18 - sum(
        t * (t - 1) * (2 * t + 5) / 18
        for c in range(3)
        for t in np.unique(y[4 * c : 4 * c + 4], return_counts=True)[1]
    )
    assert ours.slope.value == pytest.approx(np.median(slopes))
    assert ours.p == pytest.approx(min(2 * stats.norm.sf((abs(s) - 1) / math.sqrt(variance)), 1.0))


def test_summary_slopes_and_a_straight_line():
    """Each client's own line by numpy, t over clients by scipy.

    One series by scipy's linregress.
    """
    rng = np.random.default_rng(2)
    weeks, client = np.tile(np.arange(8.0), 6), np.repeat(np.arange(6), 8)
    y = rng.normal(0, 1, 48) + 0.2 * weeks
    ours, p = summary_slopes(y, client, weeks)
    own = [np.polyfit(np.arange(8.0), y[client == c], 1)[0] for c in range(6)]
    assert ours.value == pytest.approx(np.mean(own))
    assert p == pytest.approx(stats.ttest_1samp(own, 0).pvalue)
    days, same = summary_slopes(y, client, weeks / 7)  # eight days in the place of eight weeks
    assert (days.value, same) == pytest.approx((7 * ours.value, p))
    e, p = straight_line(y[:8], np.arange(8.0))
    theirs = stats.linregress(np.arange(8.0), y[:8])
    assert (e.value, p) == pytest.approx((theirs.slope, theirs.pvalue))
    assert e.interval.high - e.value == pytest.approx(stats.t.ppf(0.975, 6) * theirs.stderr)


def test_likelihood_of_splits_by_dense_matrices():
    """Deviance at the best node of the grid: log |V| and the residual sum of squares by whole matrices."""
    rng = np.random.default_rng(3)
    d, client, occasion, weeks = nested(rng, 5, 4, 2, step=1.5)
    m = occasion_means(d, client, occasion)
    w = occasion_means(weeks, client, occasion).mean
    base, column = np.ones((m.mean.size, 1)), (w >= 24).astype(float)[:, None]
    ours, alone, at = _deviances(m, m.mean, base, column)
    best, least = np.inf, np.inf
    from anchor_tally.stats.steps import _CLIENT, _OCCASION

    x = np.column_stack([np.ones(d.size), weeks >= 24])
    for gc in _CLIENT:
        for go in _OCCASION:
            v = (
                gc * (client[:, None] == client)
                + go * (occasion[:, None] == occasion)
                + np.eye(d.size)
            )
            inverse = np.linalg.inv(v)
            for design, which in ((x, "step"), (x[:, :1], "none")):
                beta = np.linalg.solve(design.T @ inverse @ design, design.T @ inverse @ d)
                r = d - design @ beta
                deviance = np.linalg.slogdet(v)[1] + d.size * math.log(r @ inverse @ r)
                best, least = (
                    (min(best, deviance), least)
                    if which == "step"
                    else (best, min(least, deviance))
                )
    assert ours[0] - alone == pytest.approx(best - least, abs=1e-8)
    assert at in {(float(c), float(o)) for c in _CLIENT for o in _OCCASION}


def test_control_chart_by_its_definition():
    """One-step errors from the dense covariance in the order of time, then the average and its limits term by term."""
    rng = np.random.default_rng(5)
    d, client, occasion, weeks = nested(rng, 4, 4, 2)
    weeks = weeks + rng.uniform(0, 1, 16)[occasion]
    m, fit = occasion_means(d, client, occasion), fit_nested(d, client, occasion)
    w = occasion_means(weeks, client, occasion).mean
    chart = control_chart(m, w, fit)
    order = np.argsort(w)
    y, c = m.mean[order], m.client_of[order]
    v = fit.variances[0] * (c[:, None] == c) + np.diag(
        fit.variances[1] + fit.variances[2] / m.size[order]
    )
    z, values = 0.0, []
    for k in range(1, y.size):
        inverse, one = np.linalg.inv(v[:k, :k]), np.ones(k)
        mean = one @ inverse @ y[:k] / (one @ inverse @ one)
        foretold = mean + v[k, :k] @ inverse @ (y[:k] - mean)
        lead = 1 - v[k, :k] @ inverse @ one
        variance = v[k, k] - v[k, :k] @ inverse @ v[:k, k] + lead**2 / (one @ inverse @ one)
        z = LAMBDA * (y[k] - foretold) / math.sqrt(variance) + (1 - LAMBDA) * z
        values.append(z)
    assert chart.value == pytest.approx(values)
    assert chart.limit[-1] == pytest.approx(
        limit_of(15) * math.sqrt(LAMBDA / (2 - LAMBDA) * (1 - (1 - LAMBDA) ** (2 * len(values))))
    )
    assert (chart.weeks == w[order][1:]).all()


def test_few_charts_of_stable_devices_pass_their_limits():
    """Of 400 charts of 14 clients and three scans about one in 20 has a point beyond; more scans change nothing in that."""
    rng = np.random.default_rng(6)
    for scans in (3, 8):
        beyond = 0
        for _ in range(200):
            d, client, occasion, weeks = nested(rng, 14, scans, 2)
            m, fit = occasion_means(d, client, occasion), fit_nested(d, client, occasion)
            w = occasion_means(weeks, client, occasion).mean
            beyond += control_chart(m, w, fit).signals.size > 0
        assert beyond <= 0.09 * 200, scans


def test_the_lead_of_a_step_over_a_slope_is_a_difference_of_aic():
    """Where a step lies counts as one parameter; a step at a noted change needs less."""
    rng = np.random.default_rng(3)
    for planted in ({"step": 1.5}, {"slope": 0.15}):
        d, client, occasion, weeks = nested(rng, 14, 4, 3, **planted)
        m = occasion_means(d, client, occasion)
        w = occasion_means(weeks, client, occasion).mean
        cuts = np.unique(w)[1:]
        columns = np.column_stack([w, *(w >= c for c in cuts)]).astype(float)
        deviance, _, _ = _deviances(m, m.mean, np.ones((w.size, 1)), columns)
        found = search(d, client, occasion, weeks)
        gap = deviance[1:].min() + 2 - deviance[0]
        assert found.lead == pytest.approx(abs(gap), abs=1e-6)
        assert found.slope_is_better == (gap >= 0) == ("slope" in planted)


def test_rounds_needed():
    """The half width of the slope's interval with so many anchors, from the design itself."""
    n = rounds_needed(1.0, 8, 2, 12.0, 0.03)
    for more, enough in ((n, True), (n - 1, False)):
        t = np.arange(2 + more) * 12.0
        se = 1.0 / math.sqrt(8 * float(((t - t.mean()) ** 2).sum()))
        assert bool(stats.t.ppf(0.975, 8 * (1 + more) - 1) * se <= 0.03) is enough
    assert rounds_needed(5.0, 2, 2, 12.0, 1e-4) is None


def test_steps_are_found_where_they_are():
    """A step between two anchors is dated there; at a change it is told as such.

    A slope is told from a step; two steps are two.
    """
    rng = np.random.default_rng(6)
    found = search(*nested(rng, 14, 3, 3, step=-3.2), known=(13.0,))
    assert [(s.before, s.after, s.known) for s in found.steps] == [(12.0, 24.0, 0)]
    assert found.steps[0].size.interval.low < -3.2 < found.steps[0].size.interval.high
    assert search(*nested(rng, 14, 4, 3, slope=0.15)).slope_is_better
    d, client, occasion, weeks = nested(rng, 20, 8, 2, step=4.0, at=30.0)
    two = search(d - 4.0 * (weeks >= 60), client, occasion, weeks)
    assert {(s.before, s.after) for s in two.steps} == {(24.0, 36.0), (48.0, 60.0)}
    nothing = search(np.zeros(24), client[:24], occasion[:24], weeks[:24])
    assert nothing.steps == ()
    assert search(*(x[:2] for x in nested(rng, 1, 2, 1))).p is None


def rates(n, *design, seed=0, **planted):
    """How often the search alarms, says slope or step.

    How often the slope's interval holds the truth; mean slope.
    """
    rng, found = np.random.default_rng(seed), np.zeros((n, 4))
    for k in range(n):
        data = nested(rng, *design, **planted)
        s, e = search(*data, resamples=399, seed=k), slope_on_time(*data)
        held = e.slope.interval.low <= planted.get("slope", 0.0) <= e.slope.interval.high
        found[k] = ((s.p or 1.0) < 0.05, s.slope_is_better, held, e.slope.value)
    return found.mean(axis=0)


def test_alarms_are_as_rare_as_they_claim():
    """24 studies without a drift, 4 with 0.15 pp a week (14 clients, three anchors)."""
    assert rates(24, 14, 3, 2)[0] <= 0.125
    assert rates(4, 14, 3, 2, slope=0.15)[0] == 1.0


@pytest.mark.slow
@pytest.mark.parametrize(
    "design", [(14, 3, 3), (8, 3, 3), (8, 2, 1), (14, 4, 2), (60, 3, 1), (3, 4, 3)]
)
def test_level_and_coverage_of_drift(design):
    """2,000 studies a design; prints a line of the table in methods."""
    alarm, _, held, mean = rates(2000, *design, seed=11)
    found = rates(500, *design, seed=12, slope=0.15)
    print(
        f"\n| {design} | {100 * alarm:.1f} | {100 * held:.1f} | {mean:+.4f} |"
        f" {100 * found[0]:.0f} | {100 * found[1]:.0f} |"
    )
    assert alarm <= 0.062
    assert 0.935 <= held <= 0.97


# one client
def test_verdict_is_a_t_test_of_means_of_days():
    """Interval and probabilities by scipy.

    A drift known of the device is taken off.
    """
    first, second, noise = (
        np.array([20.0, 20.4]),
        np.array([18.1, 18.5, 18.3]),
        Noise(0.8, 9.0, own=True),
    )
    v = verdict(first, second, noise, target=1.0)
    se = 0.8 * math.sqrt(1 / 2 + 1 / 3)
    ends = stats.t.interval(0.95, 9, v.change.value, se)
    assert (v.change.interval.low, v.change.interval.high) == pytest.approx(ends)
    assert v.direction == pytest.approx(stats.t.cdf(1.9 / se, 9))
    assert v.exceeds == pytest.approx(stats.t.cdf(0.9 / se, 9))
    assert v.kind == ("real" if ends[1] < 0 else "likely")
    moved = verdict(first, second, noise, moved=(-1.9, 0.3))
    assert (moved.change.value, moved.kind) == (pytest.approx(0.0, abs=1e-9), "within noise")
    assert moved.change.interval.high > v.change.interval.high - v.change.value


def test_a_step_between_settings_is_no_noise():
    """The spread about one slope with a level a setting (statsmodels), where it is the larger.

    Differences only within settings.
    """
    rng = np.random.default_rng(5)
    day, level = np.arange(0, 98, 7), np.repeat([4, 9], 7)
    bend = np.where(np.arange(14) % 7 < 4, 0.8, -0.8)
    value = 20 - 0.02 * day + rng.normal(0, 0.3, 14) + bend + 3.0 * (level == 9)
    fit = smf.ols("v ~ C(s) + t", pd.DataFrame({"v": value, "s": level, "t": day})).fit()
    found = noise_of(day, value, level)
    assert (found.sd, found.df) == pytest.approx((math.sqrt(fit.mse_resid), 11))
    still = np.array([1.0, 2, 1, 2, 11, 12, 11, 12])
    assert noise_of(np.arange(8), still, np.repeat([1, 2], 4)).sd == pytest.approx(
        math.sqrt(6 / 12)
    )


def test_means_of_a_week():
    """Trailing means by loops; no rate of few days."""
    day = np.array([1, 2, 4, 9, 10, 11, 30])
    value = np.array([1.0, 2, 3, 4, 5, 6, 7])
    means = week_means(day, value, Noise(1.0, 1e12, own=True))
    loops = [value[(day <= x) & (day > x - 7)].mean() for x in day]
    assert means.mean == pytest.approx(loops)
    assert means.half[2] == pytest.approx(1.959964 / math.sqrt(3), rel=1e-5)
    t = np.arange(0, 84, 7)
    assert rate_of(t[:4], np.arange(4.0)) is None


def test_verdicts_claim_no_more_than_they_may():
    """Of clients who did not change: *real* in at most 5 %, *likely* or more in at most 20 %, by mornings and by fortnights."""
    rng = np.random.default_rng(8)
    for days, near in ((np.arange(60), 7), (np.arange(0, 182, 14), 1)):
        kinds = []
        for _ in range(1500):
            value = rng.normal(20, 1.0, days.size)
            kinds.append(verdict(value[:near], value[-near:], noise_of(days, value)).kind)
        share = {k: kinds.count(k) / len(kinds) for k in ("real", "likely")}
        assert share["real"] <= 0.062, share
        assert share["real"] + share["likely"] <= 0.22, share


# a line
def line_study(rng, clients=20, anchors=3, slope=0.8, scan=0.5):
    """Readings of a device whose error falls with the value."""
    true = rng.uniform(10, 36, clients)
    client, occasion = np.repeat(np.arange(clients), anchors), np.arange(clients * anchors)
    fat = true[client] + rng.normal(0, 1.0, client.size)
    x = fat + rng.normal(0, scan, client.size)
    y = 6 + slope * fat + rng.normal(0, 0.8, clients)[client] + rng.normal(0, 0.7, client.size)
    return x, y, client, occasion


def parts_of_line(x, y, client, occasion, scan=0.5):
    """Client means and the corrected slope between them."""
    ones = np.ones(x.size)
    error = reference_error(np.ones(x.size, dtype=int), np.zeros(x.size), scan)
    trend = reference_trend(y - x, x, ones, client, occasion, error)
    return client_means(y - x, x, ones, client, occasion, error), trend.between.slope


def test_line_left_out_by_a_loop():
    """The line without each client, weights held, by moments written out.

    The client's part by refitting what it leaves.
    """
    x, y, client, occasion = line_study(np.random.default_rng(9), clients=12)
    means, _ = parts_of_line(x, y, client, occasion)
    s = occasion_means(y - x, client, occasion)
    ours = leave_out_line(s, x, y - x, means)
    line = np.empty(x.size)
    for c in range(12):
        rest = np.arange(12) != c
        k, mx, md, e = means.weight[rest], means.x[rest], means.d[rest], means.error[rest]
        cx, cd = k @ mx / k.sum(), k @ md / k.sum()
        sxx, sxd = k @ (mx - cx) ** 2, k @ ((mx - cx) * (md - cd))
        noise = (k - k**2 / k.sum()) @ e
        gamma = (sxd + noise) / (sxx - noise)
        own = client == c
        line[own] = y[own] - (cx + (y[own] - cx - cd) / (1 + gamma))
    assert ours.line == pytest.approx(line)
    left = (y - x) - line
    for j in (0, 7, 20):
        rest = np.arange(x.size) != j
        fit = fit_nested(left[rest], client[rest], occasion[rest])
        assert ours.own[j] == pytest.approx(line[j] + fit.beta[0] + fit.blup[client[j]], abs=0.02)


def test_interval_of_a_line_by_hand():
    """The slope's SE is that of its interval.

    What is subtracted at a reading has the line's own interval, a new reading a wider one.
    """
    x, y, client, occasion = line_study(np.random.default_rng(3))
    means, gamma = parts_of_line(x, y, client, occasion)
    line = line_fit(y - x, y, client, occasion, means, gamma).line
    t = stats.t.ppf(0.975, 18)
    assert t * math.sqrt(line.slope_variance) == pytest.approx(
        (gamma.interval.high - gamma.interval.low) / 2
    )
    at = line.centre + (14.0 - line.centre - line.level) / line.slope
    offset, ends = offset_at(line, 14.0)
    assert offset == pytest.approx(14.0 - at)
    own = line.level_variance + (at - line.centre) ** 2 * line.slope_variance
    assert (ends.high - offset, offset - ends.low) == pytest.approx(
        (t * math.sqrt(own) / line.slope,) * 2
    )
    assert line.half(np.array([14.0]))[0] == pytest.approx(
        t * math.sqrt(own + line.new) / line.slope
    )


def test_leave_out_spread_by_refitting():
    """SDs of what is not imported: variances, mean and client's part refitted without it."""
    d, client, occasion, _ = nested(np.random.default_rng(10), 10, 4, 2)
    left = leave_out(variance_grid(occasion_means(d, client, occasion)))
    for j in (0, 9, 30):
        rest = occasion != j
        fit = fit_nested(d[rest], client[rest], occasion[rest])
        c = j // 4
        assert left.own[j] == pytest.approx(fit.beta[0] + fit.blup[c], abs=0.02)
        lower = fit.variances[1] + fit.variances[2] / 2
        assert left.own_sd[j] == pytest.approx(math.sqrt(fit.blup_sd[c] ** 2 + lower), rel=0.05)
        others = client != c
        fit = fit_nested(d[others], client[others], occasion[others])
        total = fit.variances[0] + fit.variances[1] + fit.variances[2] / 2 + fit.beta_cov[0, 0]
        assert left.pooled_sd[j] == pytest.approx(math.sqrt(total), rel=0.05)


def test_single_design_left_out_by_a_loop():
    """One pair a client: mean and SD of the others, as a new difference is stated from them."""
    d = np.random.default_rng(12).normal(2, 1.5, 9)
    pooled, _, sds = _left_out(occasion_means(d, np.arange(9), np.arange(9)), None)
    for j in range(9):
        others = np.delete(d, j)
        assert pooled[j] == pytest.approx(others.mean())
        assert sds[0][j] == pytest.approx(others.std(ddof=1) * math.sqrt(1 + 1 / 8))
    # nothing varies within clients: each occasion is predicted by its own repeats, exactly, and without
    # them by the other clients
    client = np.repeat([0, 1, 2], [3, 3, 1])
    still = occasion_means(np.array([1.0, 3.0, 8.0])[client], client, np.arange(7))
    pooled, own, sds = _left_out(still, None)
    assert own == pytest.approx([1, 1, 1, 3, 3, 3, 2])
    assert pooled == pytest.approx([5.5, 5.5, 5.5, 4.5, 4.5, 4.5, 2])
    assert sds is None


def held_by_line(n, seed):
    """Share of new clients' scans inside the line's interval, and the mean slope."""
    rng, inside, slopes = np.random.default_rng(seed), [], []
    for _ in range(n):
        x, y, client, occasion = line_study(rng)
        means, gamma = parts_of_line(x, y, client, occasion)
        fit = line_fit(y - x, y, client, occasion, means, gamma)
        x, y, _, _ = line_study(rng)
        inside.append(np.abs(fit.line.reference(y) - x) <= fit.line.half(y))
        slopes.append(fit.line.slope)
    return float(np.mean(inside)), float(np.mean(slopes))


def test_line_serves_new_clients():
    """40 studies: new scans of new clients inside the 95 % interval, the slope without the scan's error in it."""
    inside, slope = held_by_line(40, 3)
    assert 0.93 <= inside <= 0.98
    assert slope == pytest.approx(0.8, abs=0.015)


@pytest.mark.slow
def test_line_coverage():
    """1,000 studies."""
    inside, slope = held_by_line(1000, 4)
    print(f"\nline: {100 * inside:.1f} % of new scans inside, mean slope {slope:.3f} (0.8)")
    assert 0.94 <= inside <= 0.965


# records
LINE = LineRecord(20.0, 2.0, 0.8, 1.0, 0.01, 0.001, 2.1)
RECORD = CalibrationRecord(
    1, "Alder", "body_fat_percent", "", "Lab scan", "client", (2.0, -2.0, 6.0), {"A": (3.0, 1.0, 5.0, 3)}, ("1",), 10.0, 40.0, 9, 3,
    "2026-08-20", "2026-12-01", 1, "x", made_of=MadeOf(settings=("", "athlete"), drift=(0.05, 0.15), drift_from="2026-05-25"),
)  # fmt: skip


def test_interval_grows_with_a_known_drift():
    """Ten weeks after the day where the offset holds, a difference has moved by 0.5 to 1.5: the corrected value reaches lower."""
    at = correct(RECORD, "A", 25.0, "2026-05-25", "")
    later = correct(RECORD, "A", 25.0, "2026-08-03", "")
    assert (at.interval.low, at.interval.high) == (20.0, 24.0)
    assert (later.interval.low, later.interval.high) == pytest.approx((18.5, 24.0))
    assert "grown" in {n.code for n in later.notes}
    assert [
        r.difference
        for r in compare_versions(RECORD, replace(RECORD, pooled=(2.5, -1.0, 6.0), id=2))
    ] == [0.5, 0.0]
    # with a line at the middle of the range: 25 stands for 20 + (25 − 20 − 2)/0.8 = 23.75, less a
    # client's own part
    rows = compare_versions(RECORD, replace(RECORD, line=LINE, id=2))
    assert [r.second[0] for r in rows] == pytest.approx([25 - 23.75, 25 - 23.75 + 3.0])
    # a client without a part of their own has the interval of the line on both sides
    plain = replace(RECORD, line=LINE, clients={}, made_of=MadeOf(settings=("",)))
    fixed = correct(plain, "B", 25.0, "2026-08-03", "")
    half = LINE.half(25.0)
    assert (fixed.interval.low, fixed.interval.high) == pytest.approx((23.75 - half, 23.75 + half))


@settings(max_examples=60, deadline=None)
@given(
    values=st.lists(st.floats(5, 60), min_size=1, max_size=6),
    client=st.sampled_from(["A", "B"]),
    setting=st.sampled_from(["", "athlete", "other"]),
    line=st.booleans(),
    pooled=st.booleans(),
    weeks=st.integers(-20, 40),
)
def test_a_series_is_corrected_as_its_readings(values, client, setting, line, pooled, weeks):
    """Correcting together gives what correcting one by one gives."""
    record = replace(RECORD, line=LINE if line else None, pooled=RECORD.pooled if pooled else None)
    day = date.fromordinal(date(2026, 5, 25).toordinal() + 7 * weeks).isoformat()
    found = correct_series(
        record, client, np.array(values), [day] * len(values), [setting] * len(values), stale=False
    )
    for k, value in enumerate(values):
        one = correct(record, client, value, day, setting)
        assert bool(found.known[k]) is (one.value is not None)
        if one.value is not None:
            assert (found.value[k], found.low[k], found.high[k]) == pytest.approx(
                (one.value, one.interval.low, one.interval.high)
            )


def test_ranges_of_the_published_table():
    """Bounds of Gallagher et al. 2000 (from memory).

    An interval across a bound supports no single range.
    """
    one = placed("body_fat_percent", "female", 30, 27.0, Interval(25.0, 29.0))
    assert (one.bounds, one.first, one.last, one.supported) == ((21.0, 33.0, 39.0), 1, 1, True)
    table = [
        placed("body_fat_percent", sex, age, 20.0, Interval(20.0, 20.0)).bounds
        for sex in ("female", "male")
        for age in (20, 40, 79)
    ]
    assert table == [
        (21, 33, 39),
        (23, 34, 40),
        (24, 36, 42),
        (8, 20, 25),
        (11, 22, 28),
        (13, 25, 30),
    ]
    two = placed("body_fat_percent", "male", 45, 21.5, Interval(19.0, 24.0))
    assert (two.first, two.last, two.supported) == (1, 2, False)
    between = placed("body_fat_percent", "male", 45, 22.5, Interval(22.3, 22.7))
    assert (between.first, between.last) == (1, 2)  # the two forms of the table differ here
    assert placed("body_fat_percent", "male", 17, 21.5, Interval(19.0, 24.0)) is None
    assert placed("body_mass", "male", 30, 80.0, Interval(79.0, 81.0)) is None


# the other devices
def witnesses(n, seed, *, setting=True, drift=0.0):
    """Of ``n`` squads that lose fat: by device, share told to move beside the others, mean slope, coverage of the true one.

    Four devices read weekly, three of them moved by one water; Elm goes to another setting
    half-way, Oak drifts by ``drift`` a week.
    """
    rng, said = np.random.default_rng(seed), {}
    for _ in range(n):
        lines = []
        for c in range(10):
            level, own, pace = (
                rng.uniform(16, 28),
                rng.normal(0, 1.5, 4),
                -0.1 + rng.normal(0, 0.05),
            )
            for week in range(25):
                at, true, wet = (
                    date(2026, 1, 5) + timedelta(weeks=week),
                    level + pace * week,
                    rng.normal(0, 0.5),
                )
                late = setting and week > 12
                for k, name in enumerate(("Fir", "Elm", "Ash", "Oak")):
                    moved = -3.0 * (name == "Elm" and late) + drift * week * (name == "Oak")
                    value = true + own[k] + wet * (name != "Ash") + rng.normal(0, 0.7) + moved
                    if rng.random() > 0.05:
                        mode = "b" if name == "Elm" and late else ""
                        lines.append(
                            reading(
                                f"C{c}", f"{at}T07:0{k}", round(value, 1), name=name, setting=mode
                            )
                        )
                if week % 12 == 0:
                    lines.append(
                        reading(
                            f"C{c}",
                            f"{at}T08:00",
                            round(true + rng.normal(0, 0.4), 1),
                            name="Scan",
                            kind="reference",
                        )
                    )
        for r in finish(DriftRequest(study_of(lines).snapshot(), Lens()).run()):
            true = drift if r.instrument.name == "Oak" else 0.0
            for s in r.side:
                i = s.slope.interval
                said.setdefault(r.instrument.name, []).append(
                    (s.p < 0.05, s.slope.value, i.low <= true <= i.high)
                )
    return {name: np.mean(np.array(rows, dtype=float), axis=0) for name, rows in said.items()}


def test_other_devices_are_fair_witnesses():
    """Neither another's change of setting nor another's drift makes a steady device move.

    One that drifts is found, with its slope.
    """
    for drift in (0.0, 0.08):
        found = witnesses(3, 5, drift=drift)
        assert max(found[name][0] for name in ("Fir", "Ash", "Elm")) <= 0.25
        assert max(abs(found[name][1]) for name in ("Fir", "Ash", "Elm")) < 0.02
        assert found["Oak"][1] == pytest.approx(drift, abs=0.015)
        assert found["Oak"][0] == 1 or drift == 0


@pytest.mark.slow
@pytest.mark.parametrize("design", [{}, {"setting": False}, {"drift": 0.08}])
def test_level_beside_other_devices(design):
    """200 squads; prints a line of the table in methods."""
    found = witnesses(200, 6, **design)
    print(
        f"\n| {design} |",
        " | ".join(
            f"{100 * f[0]:.1f}, {f[1]:+.3f}, {100 * f[2]:.1f}" for _, f in sorted(found.items())
        ),
        "|",
    )
    assert all(
        f[0] <= 0.09 for name, f in found.items() if name != "Oak" or not design.get("drift")
    )


# the demo
def test_drift_of_the_demo_is_what_was_planted(demo):
    """Dogwood drifts, Birch stepped at its change of setting, Alder and Cedar are steady, equations do not follow; nobody else is accused."""
    found = {r.instrument.name: r for r in finish(DriftRequest(demo.snapshot(), demo.lens).run())}
    assert {n: r.verdict for n, r in found.items() if not r.instrument.equation} == {
        "Alder": "steady", "Birch": "stepped", "Cedar": "steady", "Dogwood": "drifting"
    }  # fmt: skip
    step = found["Birch"].steps[0]
    assert (step.change.words, step.change.setting, step.at) == ("athlete", True, "2026-06-01")
    assert step.size.interval.low < -3.2 < step.size.interval.high
    assert found["Dogwood"].not_following is None
    assert all(
        r.not_following is not None
        for r in found.values()
        if r.instrument.equation.startswith("bmi_")
    )
    standard = finish(
        DriftRequest(demo.snapshot(), replace(demo.lens, setting="standard"), "Birch").run()
    )[0]
    # from two moments no drift is told from a part of the clients' change that is not shown
    assert standard.verdict == "not enough anchors"
    step = found["Birch"].steps[0]
    assert (step.at, step.before, step.after) == (
        "2026-06-01",
        "2026-05-25",
        "2026-08-17",
    )  # dated to the change, between two scans
    told = {n for n, r in found.items() for x in r.side if x.what == "consensus" and x.p < 0.05}
    assert told == {"Dogwood"}
    assert (
        "Dogwood"
        in dict(next(n for n in found["Cedar"].notes if n.code == "movers_left_out").facts)["names"]
    )
    one = finish(
        DriftRequest(
            demo.snapshot(), replace(demo.lens, clients=frozenset({"Auk", "Cod"})), "Alder"
        ).run()
    )[0]
    assert one.verdict == "not enough anchors"
    assert one.needed is None or one.needed >= 1
    again = finish(DriftRequest(demo.snapshot(), demo.lens, kept=tuple(found.values())).run())
    assert all(
        a.search is b.search for a, b in zip(again, found.values(), strict=True)
    )  # not computed again


def test_track_tells_stuck_from_following_and_drifting(demo):
    """What a device is known to have moved is taken off; one that is stuck has no say.

    A change of setting is not crossed.
    """
    for r in finish(CalibrateRequest(demo.snapshot(), demo.lens).run()):
        if r.comparison.pairs.instrument.name == "Alder":
            record = replace(record_of(r, demo.catalogue(), datetime(2026, 9, 1)), id=1, version=1)
            assert record.made_of.settings == ("",)
            for missing in ({"offer": ""}, {"range": None}, {"pooled": None}):
                with pytest.raises(CannotCompare, match="not enough pairs"):
                    record_of(replace(r, **missing), demo.catalogue(), datetime(2026, 9, 1))
    standard = finish(CalibrateRequest(demo.snapshot(), Lens(setting="standard"), "Birch").run())[0]
    assert record_of(
        standard, demo.catalogue(), datetime(2026, 9, 1), "as a test"
    ).made_of.settings == ("standard",)
    wide = finish(
        demo.wide_snapshot_steps(
            ("body_fat_percent", "total_body_water_percent", "body_mass", "girth_waist")
        )
    )
    r = finish(TrackRequest(wide, Lens(), "Auk", records=(record,), goal=10.0).run())
    why = {d.instrument: d.why for d in r.devices}
    assert why["Birch"] == "settings"
    birch = r.named("Birch")
    apart, pooled = (noise_of(birch.day, birch.raw, level).sd for level in (birch.setting, None))
    assert birch.noise.sd == pytest.approx(apart)
    assert apart < 0.8 * pooled
    early = finish(TrackRequest(wide, Lens(), "Auk", since=date(2025, 1, 1).toordinal()).run())
    assert {d.why for d in early.devices} == {"no_dates", "stuck"}
    far = date(2028, 1, 1).toordinal()
    late = finish(TrackRequest(wide, Lens(), "Auk", until=far).run())
    assert {d.why for d in late.devices} == {"no_dates", "stuck"}
    assert {n for n, w in why.items() if w == "stuck"} == {
        n for n in why if n.startswith("BMI equation")
    }
    dogwood = next(d for d in r.devices if d.instrument == "Dogwood").verdict
    alone = r.named("Dogwood")
    # by hand: the slope that Drift tells is taken off, and its uncertainty over these weeks is in
    # the interval
    slope = next(
        x for x in finish(DriftRequest(demo.snapshot(), Lens(), "Dogwood").run())
    ).slope.slope
    weeks, sd = (
        float(alone.day[-1] - alone.day[0]) / 7,
        (slope.interval.high - slope.interval.low) / (2 * 1.959964),
    )
    by_hand = verdict(
        alone.value[:1], alone.value[-1:], alone.noise, 2.0, (slope.value * weeks, sd * weeks)
    )
    assert (dogwood.change.value, dogwood.change.interval.low) == pytest.approx(
        (by_hand.change.value, by_hand.change.interval.low), rel=1e-4
    )
    assert dogwood.change.value < float(alone.value[-1] - alone.value[0]) - 1.0
    alder = r.named("Alder")
    assert alder.corrected.all()
    assert alder.version == 1
    assert (alder.low < alder.value).all()
    assert [o.metric for o in r.opinions] == ["girth_waist"]
    assert r.place is not None
    by_hand = correct(record, "Auk", float(alder.raw[0]), "2026-03-02", "")
    assert alder.value[0] == pytest.approx(by_hand.value)
    water = finish(TrackRequest(wide, Lens(), "Auk", instrument="Birch", water="rule").run())
    assert not np.allclose(water.named("Birch").value, r.named("Birch").value)
    # by hand: what the client's water departs from its mean, one for one or by the fitted slope
    shown = demo.snapshot("total_body_water_percent").columns["total_body_water_percent"]
    own = (
        (shown.client == r.client.id)
        & (shown.instrument == alder.instrument.id)
        & (shown.status == 0)
    )
    frame = (
        pd.DataFrame({"day": shown.day[own] + 719163, "water": shown.value[own]})
        .groupby("day")
        .water.mean()
    )
    departed = (frame - frame.mean()).reindex(alder.day).to_numpy()
    slope = finish(HydrationRequest(wide, Lens(), "Alder").run())[0].slope.slope.value
    for how, per_point in (("rule", 1.0), ("slope", -slope)):
        fixed = finish(
            TrackRequest(
                wide, Lens(), "Auk", records=(record,), instrument="Alder", water=how
            ).run()
        ).named("Alder")
        assert fixed.value - alder.value == pytest.approx(per_point * departed)
        assert fixed.low - alder.low == pytest.approx(per_point * departed)


def test_what_leaves_nothing_to_vary(demo):
    """Cases that random studies found: settings that explain every occasion, devices that never vary."""
    client, occasion = np.repeat([0, 1], 4), np.repeat(np.arange(4), 2)
    d = np.repeat([2.0, 2.0, 2.5, 2.5], 2)
    beside = np.column_stack([occasion == 1, occasion == 2]).astype(float)
    assert slope_on_time(d, client, occasion, 12.0 * (occasion % 2), beside) is None
    assert slope_on_time(d, client, occasion, np.zeros(8)) is None
    exact = verdict(np.array([20.0]), np.array([20.0]), Noise(0.0, 5.0, own=True))
    assert (exact.kind, exact.direction) == ("within noise", 0.5)
    assert verdict(np.array([20.0]), np.array([21.0]), Noise(0.0, 5.0, own=True)).kind == "real"
    assert noise_of(np.arange(3), np.arange(3.0)) is None


def test_one_degree_of_freedom_cannot_tell_two_variances_apart():
    """Three occasions of two clients give no slope; a fourth, or one client alone, does."""
    rng = np.random.default_rng(3)
    client, weeks = np.array([0, 0, 1, 1]), np.array([0.0, 12.0, 0.0, 12.0])
    d, level = rng.normal(0, 1, 4), 20 + rng.normal(0, 4, 4)

    def slopes(which):
        at = np.repeat(which, 2)  # two readings of each occasion
        repeat = d[at] + rng.normal(0, 0.2, at.size)
        told = slope_on_time(repeat, client[at], at, weeks[at])
        trend = repeated_trend(repeat, level[at], client[at], at)
        return told is not None, trend.slope is not None

    assert slopes([0, 1, 2]) == (False, False)
    assert slopes([0, 1, 2, 3]) == (True, True)
    client = np.array([0, 0, 0, 0])
    weeks = 12.0 * np.arange(4)
    assert slopes([0, 1, 2]) == (True, True)


def moving_device(rng, *, slope=0.0, change=0.0, shows=1.0, clients=14, scans=3, gap=12):
    """A study of one device whose error moves, or of clients who change while it shows a part."""
    lines = []
    for c in range(clients):
        level, own, pace = rng.normal(22, 4), rng.normal(0, 1.5), rng.normal(change, 0.03)
        for week in range(0, scans * gap, gap):
            at = date(2026, 1, 5) + timedelta(weeks=week)
            shown = level + (shows * pace + slope) * week + own + rng.normal(0, 0.8)
            for r in range(2):
                value = round(shown + rng.normal(0, 0.3), 1)
                lines.append(reading(f"C{c}", f"{at}T07:0{r}", value, repeat=r + 1))
            scan = round(level + pace * week + rng.normal(0, 0.4), 1)
            lines.append(reading(f"C{c}", f"{at}T08:00", scan, name="Scan", kind="reference"))
    return study_of(lines)


def test_what_cannot_be_told_from_drift_is_told():
    """Clients who lose together beside a device that shows 40 %: open, in sentence, JSON and figure."""
    r = finish(
        DriftRequest(
            moving_device(np.random.default_rng(5), change=-0.15, shows=0.4).snapshot(), Lens()
        ).run()
    )[0]
    assert r.verdict == OPEN
    said = drift_words.drift_headline(r)
    assert "its error rises by 0." in said
    assert "Drift of the device or a partial response to the clients' change" in said
    assert drift_json(r)["verdict"] == OPEN
    assert not drift_json(r)["drift_or_step"]
    what = drift_figure.info(r, "UTC")
    assert what.line is not None
    assert what.label == "device − scan, adjusted for client (pp)"


@pytest.mark.parametrize("n", [12, pytest.param(60, marks=pytest.mark.slow)])
def test_a_steady_drift_is_no_step(n):
    """0.06 a week, four scans: told as drifting, or as drift or step, in 5 % at most as a step."""
    rng, told = np.random.default_rng(6), []
    for _ in range(n):
        session = moving_device(rng, slope=0.06, scans=4, gap=8)
        r = finish(DriftRequest(session.snapshot(), Lens()).run())[0]
        told.append(r.verdict)
        assert (drift_json(r)["verdict"] == EITHER) is drift_json(r)["drift_or_step"]
        assert ("A drift and a step cannot be told apart" in drift_words.drift_headline(r)) is (
            r.verdict == EITHER
        )
        session.close()
    print(f"\nsteady drift of 0.06 a week, {n} studies: {dict(Counter(told))}")
    assert told.count(STEPPED) <= max(1, 0.05 * n)
    assert told.count(DRIFTING) >= n / 4
