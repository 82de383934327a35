"""Consistency, change, water and the other forms of closeness, beside independent implementations and published tables."""

import json
import math
from dataclasses import replace

import numpy as np
import pandas as pd
import pingouin as pg
import pytest
import statsmodels.formula.api as smf
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats
from statsmodels.stats.proportion import proportion_confint

from anchor_tally.analysis.agreement.agreement import CompareRequest
from anchor_tally.analysis.agreement.change import ChangeRequest
from anchor_tally.analysis.agreement.hydration import (
    FAT,
    WATER,
    HydrationRequest,
    unfit_for_hydration_test,
)
from anchor_tally.analysis.agreement.hydration_test import HydrationTestRequest
from anchor_tally.analysis.agreement.redundancy import RedundancyRequest
from anchor_tally.analysis.agreement.repeatability import RepeatabilityRequest
from anchor_tally.analysis.offsets.calibrate import CalibrateRequest
from anchor_tally.app.session import Session
from anchor_tally.cli.main import main
from anchor_tally.domain.errors import UserError
from anchor_tally.domain.lens import Lens
from anchor_tally.domain.records import Client
from anchor_tally.domain.steps import finish
from anchor_tally.stats import pair_slopes
from anchor_tally.stats.change import change, sign_concordance, smallest_change
from anchor_tally.stats.components import fit_nested
from anchor_tally.stats.difference_forms import (
    percentile_limits,
    ratio_limits,
    shapiro_wilk,
    sloping_limits,
)
from anchor_tally.stats.estimate import Estimate, Interval
from anchor_tally.stats.intraclass import intraclass
from anchor_tally.stats.pair_slopes import inversions, passing_bablok, theil_sen
from anchor_tally.stats.regression import least_squares
from anchor_tally.stats.repeatability import display_step, repeatability
from anchor_tally.stats.repeated import repeated_bias, repeated_limits
from anchor_tally.stats.shares import wilson
from anchor_tally.stats.variance_grid import occasion_means, variance_grid
from anchor_tally.stats.within_clients import (
    detrended_slope,
    repeated_correlation,
    shared_correlation,
)
from anchor_tally.study import open_file
from anchor_tally.study.edits.clients import PutClient
from anchor_tally.wording.views import (
    change_headline,
    hydration_headline,
    hydration_test_result_words,
    repeatability_headline,
)
from places import CLOCK, DATA, typed

# fmt: off
# Bland & Altman 1986, Lancet i:307, table 1 (second readings from memory): first and second
# readings of two meters, 17 people
LARGE = np.array([
    [494, 395, 516, 434, 476, 557, 413, 442, 650, 433, 417, 656, 267, 478, 178, 423, 427],
    [490, 397, 512, 401, 470, 611, 415, 431, 638, 429, 420, 633, 275, 492, 165, 372, 421],
], dtype=float)
MINI = np.array([
    [512, 430, 520, 428, 500, 600, 364, 380, 658, 445, 432, 626, 260, 477, 259, 350, 451],
    [525, 415, 508, 444, 500, 625, 460, 390, 642, 432, 420, 605, 227, 467, 268, 370, 443],
], dtype=float)
# fmt: on
# Shrout & Fleiss 1979, Psychol Bull 86:420, table 2 (from memory): six targets, four judges
FLEISS = np.array(
    [[9, 2, 5, 8], [6, 1, 3, 2], [8, 4, 6, 8], [7, 1, 2, 6], [10, 5, 6, 9], [6, 2, 4, 7]],
    dtype=float,
)


def by_loops(x, y):
    """The line of Passing & Bablok 1983, pair by pair."""
    slopes, n = [], len(x)
    for i in range(n):
        for j in range(i + 1, n):
            dx, dy = x[j] - x[i], y[j] - y[i]
            if (dx, dy) != (0, 0) and dy != -dx:
                slopes.append(math.inf if dx == 0 else dy / dx)
    slopes.sort()
    count, k = len(slopes), sum(s < -1 for s in slopes)
    middle = [slopes[(count - 1) // 2 + k], slopes[count // 2 + k]]
    spread = stats.norm.ppf(0.975) * math.sqrt(n * (n - 1) * (2 * n + 5) / 18)
    first = round((count - spread) / 2)
    return sum(middle) / 2, slopes[first + k - 1], slopes[count - first + k]


@settings(max_examples=25, deadline=None)
@given(
    st.integers(0, 10**6),
    st.integers(12, 70),
    st.integers(0, 2),
    st.sampled_from([1.0, 2.20462, 0.01]),
    st.sampled_from([600, 4]),
)
def test_lines_of_all_pairs(seed, n, decimals, unit, all_pairs):
    """Passing–Bablok equals its definition, Theil–Sen scipy's.

    Both ways of finding ranks, ties, and another unit give the same.
    """
    rng = np.random.default_rng(seed)
    x = np.round(20 + 5 * rng.standard_normal(n), decimals)
    y = np.round(2 + 1.1 * x + 1.5 * rng.standard_normal(n), decimals)
    kept, pair_slopes.ALL_PAIRS = pair_slopes.ALL_PAIRS, all_pairs
    try:
        line = passing_bablok(unit * x, unit * y).line.slope
        slope = theil_sen(unit * x, unit * y)
    finally:
        pair_slopes.ALL_PAIRS = kept
    # whole numbers of the last decimal: pairs are equal, and slopes −1, exactly
    exact = by_loops(np.rint(x * 10**decimals).tolist(), np.rint(y * 10**decimals).tolist())
    assert (line.value, line.interval.low, line.interval.high) == pytest.approx(exact, rel=1e-7)
    other = stats.theilslopes(y, x, 0.95)
    assert (slope.value, slope.interval.low, slope.interval.high) == pytest.approx(
        (other[0], other[2], other[3]), rel=1e-7
    )


def test_slopes_where_most_pairs_are_tied():
    """Ties in both values narrow the interval: against scipy at sizes where that changes the rank."""
    rng = np.random.default_rng(4)
    for n in (60, 150, 300):
        x = rng.integers(0, 3, n).astype(float)
        y = np.round(x + rng.normal(0, 1, n), 1)
        other, s = stats.theilslopes(y, x, 0.95), theil_sen(x, y)
        assert (s.value, s.interval.low, s.interval.high) == pytest.approx(
            (other[0], other[2], other[3]), rel=1e-9
        )


@given(st.lists(st.integers(0, 30), min_size=1, max_size=60))
def test_inversions(values):
    """Pairs out of order, counted bit by bit and one by one."""
    assert inversions(np.array(values)) == sum(
        a > b for k, a in enumerate(values) for b in values[k + 1 :]
    )


def test_linearity_of_a_bent_relation():
    """The cusum test finds a bend, and none in a straight relation."""
    x = np.linspace(5, 40, 80)
    noise = 0.3 * np.random.default_rng(3).standard_normal(80)
    assert passing_bablok(x, x + 0.02 * (x - 20) ** 2 + noise).linearity_p < 0.01
    assert passing_bablok(x, 1 + x + noise).linearity_p > 0.05
    assert passing_bablok(x, 50 - x) is None


@pytest.mark.filterwarnings("ignore::pandas.errors.Pandas4Warning")  # of the other library
def test_intraclass_correlations():
    """The published table, and pingouin on drawn tallies, intervals included.

    Source: McGraw & Wong 1996.
    """
    found = intraclass(FLEISS)
    six = (
        found.one,
        found.random,
        found.mixed,
        found.one_mean,
        found.random_mean,
        found.mixed_mean,
    )
    assert [round(e.value, 2) for e in six] == [0.17, 0.29, 0.71, 0.44, 0.62, 0.91]
    rng = np.random.default_rng(2)
    values = rng.normal(20, 3, (9, 1)) + rng.normal(0, 1, (9, 4)) + np.array([0, 0.5, 0.2, -0.3])
    long = pd.DataFrame(
        [(t, r, values[t, r]) for t in range(9) for r in range(4)], columns=["t", "r", "v"]
    )
    table = pg.intraclass_corr(long, "t", "r", "v")
    ours = intraclass(values)
    six = (ours.one, ours.random, ours.mixed, ours.one_mean, ours.random_mean, ours.mixed_mean)
    assert [e.value for e in six] == pytest.approx(table["ICC"].tolist(), rel=1e-9)
    assert np.round([(e.interval.low, e.interval.high) for e in six], 2).tolist() == [
        list(c) for c in table["CI95"]
    ]
    assert intraclass(np.ones((5, 3))) is None


def test_repeatability_by_analysis_of_variance():
    """Within-tally SD is the root of the error mean square (statsmodels).

    Planted spreads of minutes and of days are found apart.
    """
    rng = np.random.default_rng(5)
    client = np.repeat(np.arange(12), 20 * 3)
    tally = np.repeat(np.arange(240), 3)
    day = rng.normal(0, 0.8, 240)[tally] + 0.02 * (tally % 20)
    value = 20 + client + day + rng.normal(0, 0.4, 720)
    found = repeatability(tally, value, np.tile(np.arange(1, 4), 240), client, tally % 20)
    table = smf.ols("v ~ C(t)", pd.DataFrame({"v": value, "t": tally})).fit()
    assert found.sd.value == pytest.approx(math.sqrt(table.mse_resid), rel=1e-9)
    low, high = stats.chi2.ppf([0.025, 0.975], 480)
    ends = [
        found.sd.value * math.sqrt(480 / q) for q in (high, low)
    ]  # or those of a jackknife, if wider
    assert ends[0] * 0.99 <= found.sd.interval.low <= ends[0] * (1 + 1e-9)
    assert ends[1] * (1 - 1e-9) <= found.sd.interval.high <= ends[1] * 1.01
    assert found.coefficient.value == pytest.approx(2.77 * found.sd.value, rel=1e-3)
    assert found.day.interval.low < 0.8 < found.day.interval.high
    assert abs(found.day.value - 0.8) < 0.1
    assert found.single_day == pytest.approx(math.hypot(found.day.value, found.sd.value))
    pairs = repeatability(
        np.array([0, 0, 1, 1]),
        np.array([10.0, 10.4, 12.0, 11.6]),
        np.array([1, 2, 1, 2]),
        np.zeros(4, int),
        np.array([0, 0, 1, 1]),
    )
    assert pairs.tem == pytest.approx(math.sqrt((0.4**2 + 0.4**2) / 4))  # √(Σd²/2n)
    flat = repeatability(
        np.array([0, 0, 1, 1, 2, 2]),
        np.array([10.0, 10.2, 11, 11, 12, 12]),
        np.tile([1, 2], 3),
        np.zeros(6, int),
        np.repeat([0, 1, 2], 2),
    )
    assert (display_step(np.array([10.0, 10.2])), flat.limited) == (0.2, False)


@pytest.mark.filterwarnings("ignore::pandas.errors.Pandas4Warning")
def test_water_within_clients():
    """Repeated-measures correlation as pingouin's, slope as an analysis of covariance with a trend for each client (statsmodels)."""
    rng = np.random.default_rng(7)
    client, time = np.repeat(np.arange(6), 7), np.tile(np.arange(7.0), 6)
    water = rng.normal(55, 3, 6)[client] + 0.1 * time * client + rng.normal(0, 1, 42)
    fat = 75 - water + rng.normal(0, 0.7, 42)
    frame = pd.DataFrame({"f": fat, "w": water, "c": client, "t": time})
    other = pg.rm_corr(frame, "w", "f", "c")
    r = repeated_correlation(water, fat, client)
    assert r.value == pytest.approx(other["r"].iloc[0], rel=1e-9)
    assert np.round([r.interval.low, r.interval.high], 2).tolist() == list(other["CI95"].iloc[0])
    fit = smf.ols("f ~ w + C(c) + C(c):t", frame).fit()
    # each client's trend out of both by least squares: the correlation of what is left, Fisher's
    # interval on n − 2·clients − 1
    left = [smf.ols(f"{v} ~ C(c) * t", frame).fit().resid for v in "wf"]
    found, expected = (
        shared_correlation(water, fat, client, time, None, (0.0, 0.0)),
        stats.pearsonr(*left).statistic,
    )
    z = np.arctanh(expected) + np.array([-1, 1]) * stats.norm.ppf(0.975) / math.sqrt(
        water.size - 2 * np.unique(client).size - 2
    )
    assert (found.value, found.interval.low, found.interval.high) == pytest.approx(
        (expected, *np.tanh(z)), rel=1e-8
    )
    slope = detrended_slope(water, fat, client, time)
    ends = (slope.slope.interval.low, slope.slope.interval.high)
    assert (slope.slope.value, *ends) == pytest.approx(
        (fit.params["w"], *fit.conf_int().loc["w"]), rel=1e-8
    )
    assert slope.sd == pytest.approx(math.sqrt(fit.scale), rel=1e-8)


def test_forms_of_closeness():
    """Normality, least squares, ratios, sloping limits and shares, each beside its usual implementation."""
    rng = np.random.default_rng(4)
    for n in (4, 7, 12, 300):
        skewed = rng.gamma(3, 1, n)
        other = stats.shapiro(skewed)
        assert shapiro_wilk(skewed) == pytest.approx((other.statistic, other.pvalue), rel=1e-6)
    x = 20 + 5 * rng.standard_normal(40)
    y = x * (1.1 + 0.05 * rng.standard_normal(40))
    apart = np.arange(40)
    line, other = least_squares(x, y), stats.linregress(x, y)
    half = stats.t.ppf(0.975, 38) * np.array([other.stderr, other.intercept_stderr])
    assert (line.slope.value, line.slope.interval.low) == pytest.approx(
        (other.slope, other.slope - half[0]), rel=1e-9
    )
    assert (line.intercept.value, line.intercept.interval.high) == pytest.approx(
        (other.intercept, other.intercept + half[1]), rel=1e-9
    )
    logs, ratio = np.log(y / x), ratio_limits(x, y, apart, apart)
    assert ratio.ratio.value == pytest.approx(stats.gmean(y / x), rel=1e-9)
    assert (ratio.lower, ratio.upper) == pytest.approx(
        np.exp(logs.mean() + np.array([-1, 1]) * 1.959964 * logs.std(ddof=1)), rel=1e-6
    )
    d, mean = y - x, (x + y) / 2
    frame = pd.DataFrame({"d": d, "m": mean - mean.mean()})
    first = smf.ols("d ~ m", frame).fit()
    second = smf.ols("r ~ m", frame.assign(r=np.abs(first.resid))).fit()
    found = sloping_limits(d, mean, np.arange(d.size))
    assert (found.b0.value, found.b1.value, found.r0, found.r1) == pytest.approx(
        (*first.params, *second.params), rel=1e-9
    )
    assert found.b1.interval.low == pytest.approx(first.conf_int().loc["m", 0], rel=1e-9)
    upper = found.at(np.array([25.0]))[
        2
    ]  # Bland & Altman 1999, section 3.2: 2.46 mean absolute residuals
    assert upper[0] == pytest.approx(
        np.array([1, 25 - mean.mean()]) @ (first.params + 2.4565 * second.params).to_numpy(),
        rel=1e-3,
    )
    of_means = stats.linregress(mean, np.abs(first.resid))  # one pair a client: those are the means
    assert found.widens_p == pytest.approx(of_means.pvalue, rel=1e-6)
    share = wilson(17, 40)
    assert (share.interval.low, share.interval.high) == pytest.approx(
        proportion_confint(17, 40, method="wilson"), rel=1e-9
    )
    limits = percentile_limits(d, apart)
    assert (limits.lower, limits.upper) == pytest.approx(np.percentile(d, [2.5, 97.5]))
    assert limits.lower_interval.low <= limits.lower <= limits.lower_interval.high


@pytest.mark.filterwarnings("ignore::pandas.errors.Pandas4Warning")
def test_open_data():
    """Published figures and other libraries on open data: the peak-flow table, repeated pH and PaCO2 of eight people, the survey's women.

    Coefficients of repeatability 43.2 and 56.4 l/min (2 SD; Bland & Altman 1986); r within
    people −0.51 (Bland & Altman 1995, BMJ 310:446).
    """
    for meter, printed in ((LARGE, 43.2), (MINI, 56.4)):
        found = repeatability(
            np.tile(np.arange(17), 2),
            meter.ravel(),
            np.repeat([1, 2], 17),
            np.tile(np.arange(17), 2),
            np.zeros(34, int),
        )
        assert found.coefficient.value * 2 / 1.959964 == pytest.approx(printed, abs=0.15)
        long = pd.DataFrame(
            {"t": np.tile(np.arange(17), 2), "r": np.repeat([1, 2], 17), "v": meter.ravel()}
        )
        assert found.icc.one.value == pytest.approx(
            pg.intraclass_corr(long, "t", "r", "v")["ICC"].iloc[0], rel=1e-9
        )
    blood = pg.read_dataset("rm_corr")
    r = repeated_correlation(
        blood["pH"].to_numpy(), blood["PacO2"].to_numpy(), blood["Subject"].to_numpy()
    )
    assert round(r.value, 2) == -0.51
    assert [round(x, 2) for x in (r.interval.low, r.interval.high)] == [-0.71, -0.23]
    women = pd.read_csv(DATA / "nhanes_2017_2018_women.csv")
    scan, waist = women["dxa_body_fat_percent"].to_numpy(), women["waist_cm"].to_numpy()
    there = ~np.isnan(scan + waist)
    for x, y in ((MINI[0], LARGE[0]), (waist[there], scan[there])):
        other = stats.theilslopes(y, x)
        s = theil_sen(x, y)
        assert (s.value, s.interval.low, s.interval.high) == pytest.approx(
            (other.slope, other.low_slope, other.high_slope), rel=1e-6
        )
        assert shapiro_wilk(y - x) == pytest.approx(tuple(stats.shapiro(y - x)), rel=1e-4)
        line, fit = least_squares(x, y), smf.ols("y ~ x", pd.DataFrame({"x": x, "y": y})).fit()
        assert (line.slope.value, line.slope.interval.low) == pytest.approx(
            (fit.params["x"], fit.conf_int().loc["x", 0]), rel=1e-9
        )
        slopes = by_loops(
            np.round(10 * x[:60]), np.round(10 * y[:60])
        )  # in whole tenths a tie is a tie
        found = passing_bablok(x[:60], y[:60]).line.slope
        assert (found.value, found.interval.low, found.interval.high) == pytest.approx(
            slopes, rel=1e-9
        )


def test_limits_for_means_of_repeats():
    """In a balanced design limits for means of k are those of the means taken as readings: the same estimate, intervals a few per cent apart."""
    rng = np.random.default_rng(4)
    client, occasion = np.repeat(np.arange(14), 9), np.repeat(np.arange(42), 3)
    d = (
        1
        + rng.normal(0, 1, 14)[client]
        + rng.normal(0, 0.7, 42)[occasion]
        + rng.normal(0, 0.9, 126)
    )
    means, of_client, apart = d.reshape(42, 3).mean(axis=1), client[::3], np.arange(42)
    found = []
    for value, c, o, of in (
        (d, client, occasion, 3),
        (means, of_client, apart, 1),
        (d, client, occasion, 1),
    ):
        fit = fit_nested(value, c, o)
        grid = variance_grid(occasion_means(value, c, o))
        found.append(repeated_limits(fit, repeated_bias(fit)[0], grid, value, c, of=of))
    ours, other, single = found
    assert (ours.lower, ours.upper) == pytest.approx((other.lower, other.upper), abs=1e-6)
    for a, b in (
        (ours.lower_interval, other.lower_interval),
        (ours.upper_interval, other.upper_interval),
    ):
        assert (a.low, a.high) == pytest.approx((b.low, b.high), abs=0.08 * (b.high - b.low))
    assert single.upper - single.lower > ours.upper - ours.lower


def test_changes():
    """Signs outside the zone, the smallest change by its formula, and the bias of the classical design."""
    dx, dy = np.array([2.0, -3.0, 0.2, 1.5, -2.0]), np.array([1.0, -2.0, 0.1, -1.0, -1.0])
    signs = sign_concordance(dx, dy, np.arange(5), 0.5)
    assert (signs.same, signs.judged, signs.excluded) == (3, 4, 1)
    found = change(dx, dy, np.arange(5), 0.5)
    assert (found.bias.value, found.sd.value) == pytest.approx(
        ((dy - dx).mean(), (dy - dx).std(ddof=1))
    )
    assert found.sd.interval.low == pytest.approx(
        found.sd.value * math.sqrt(4 / stats.chi2.ppf(0.975, 4))
    )
    r = stats.pearsonr(dx, dy)
    assert found.correlation.value == pytest.approx(r.statistic)
    ends = r.confidence_interval()
    assert (found.correlation.interval.low, found.correlation.interval.high) == pytest.approx(
        (ends.low, ends.high)
    )
    day, within = (
        Estimate(2.0, Interval(1.5, 2.8), 30, ""),
        Estimate(0.6, Interval(0.5, 0.8), 60, ""),
    )
    least = smallest_change(day, within, 3, 7)
    assert least.value == pytest.approx(1.959964 * math.sqrt(2 * (4 + 0.12) / 7), rel=1e-6)
    alone = smallest_change(
        day, None, 1, 1
    )  # with one variance the interval is that of the SD itself
    assert (alone.interval.low, alone.interval.high) == pytest.approx(
        (1.5 * 2.7718, 2.8 * 2.7718), rel=1e-4
    )
    assert least.interval.low > alone.interval.low / math.sqrt(7) * 0.99


def test_views_of_the_demo(demo, capsys):
    """Planted truths of the demo, face by face: the blind device, the circular one, the one that follows; and the command line."""
    repeat = {
        r.instrument.name: r for r in finish(RepeatabilityRequest(demo.snapshot(), Lens()).run())
    }
    assert "minutes apart agree within" in repeatability_headline(repeat["Dogwood"])
    wide = finish(demo.wide_snapshot_steps((FAT, WATER)))
    water = {r.instrument.name: r for r in finish(HydrationRequest(wide, Lens()).run())}
    assert set(water) == {"Alder", "Birch"}
    assert hydration_headline(water["Alder"])
    for name in ("repeatability", "change", "hydration"):
        assert main([name, "--demo", "--instrument", "Alder", "--json"], CLOCK) == 0
        out = json.loads(capsys.readouterr().out)
        assert out["schema"] == f"anchor-tally/{name}/1"
        assert main([name, "--demo", "--instrument", "Alder"], CLOCK) == 0
        assert capsys.readouterr().out.startswith("Alder")
    changes = {r.instrument.name: r for r in finish(ChangeRequest(demo.snapshot(), Lens()).run())}
    assert changes["Alder"].found.n == 28
    assert change_headline(changes["Alder"])
    null = finish(CompareRequest(demo.snapshot(), Lens(), "Alder").run()).forms.null_devices
    derived = next(
        r
        for r in finish(CalibrateRequest(demo.snapshot(), Lens()).run())
        if r.comparison.pairs.instrument.name == "Alder"
    )
    assert null.last_scan == pytest.approx(derived.cross_validation.baselines.last_scan, rel=1e-9)
    people = [
        Client(1, "A"),
        Client(2, "B", cautions=frozenset({"ill"})),
        Client(3, "C", birth="2012-05"),
    ]
    assert unfit_for_hydration_test(people, "2026-11-26") == ("B", "C")


def test_two_mornings_dry_and_loaded():
    """Two kilograms of water: dilution by its formula, the rest for one kilogram.

    Nobody with a caution, no other week, no same mass.
    """
    session = Session(open_file.create_in_memory("t"), None)
    for day, mass, fat in (
        ("02", "80.0", ("20.0", "20.2")),
        ("03", "82.0", ("18.4", "18.6")),
        ("20", "82.1", ("19.0", "19.1")),
    ):
        session.do(typed("A", f"2026-03-{day}T07:00", "Fir", "device", FAT, *fat))
        session.do(typed("A", f"2026-03-{day}T07:01", "Fir", "device", "body_mass", mass))
    snapshot = finish(session.wide_snapshot_steps((FAT, "body_mass")))

    def ask(dry, loaded):
        return finish(
            HydrationTestRequest(
                snapshot, Lens(), "Fir", session.catalogue().client_coded("A"), dry, loaded
            ).run()
        )

    r = ask(1, 2)
    assert (r.mass, r.fat) == pytest.approx((2.0, -1.6))
    assert r.dilution == pytest.approx(20.1 * 80 / 82 - 20.1)
    assert r.per_kg.value == pytest.approx((-1.6 - r.dilution) / 2)
    sd = math.sqrt((0.02 + 0.02 + 0.005) / 3)
    assert r.per_kg.interval.high - r.per_kg.value == pytest.approx(stats.t.ppf(0.975, 3) * sd / 2)
    assert "−0.6 pp per kg" in hydration_test_result_words(r)
    assert "too narrow" in hydration_test_result_words(r)
    for low, high, affects in ((0.2, 0.9, True), (-0.9, -0.1, True), (-0.1, 0.4, False)):
        said = replace(r, per_kg=replace(r.per_kg, interval=Interval(low, high)))
        assert ("affects this device" in hydration_test_result_words(said)) is affects
    for pair, why in (
        ((1, 3), "more than 7 days"),
        ((1, 1), "needs two visits"),
        ((2, 9), "needs two visits"),
    ):
        with pytest.raises(UserError, match=why):
            ask(*pair)
    session.do(
        PutClient(
            replace(session.catalogue().client_coded("A"), cautions=frozenset({"cutting_weight"}))
        )
    )
    with pytest.raises(UserError, match="the card has a caution"):
        ask(1, 2)
    session.close()


@pytest.mark.parametrize(
    "case",
    ["one client", "one pair", "constant scan", "constant device", "all failed", "no repeats"],
)
def test_awkward_studies_give_reasons(case):
    """Degenerate data give a result with reasons, never a warning, a NaN or a traceback (warnings are errors here)."""
    session = Session(open_file.create_in_memory("t"), None)
    clients = 1 if case == "one client" else 5
    for c in range(clients):
        for week in range(1 if case in ("one pair", "no repeats") else 3):
            day = f"2026-0{3 + week}-02"
            scan = "20" if case == "constant scan" else f"{20 + c + week}"
            values = (
                ["22"] * 3
                if case == "constant device"
                else [f"{22 + c + week + 0.1 * k:.1f}" for k in range(3)]
            )
            values = (
                [None] * 3
                if case == "all failed"
                else values[:1]
                if case in ("one pair", "no repeats")
                else values
            )
            session.do(typed(f"C{c}", f"{day}T07:00", "Fir", "device", "body_fat_percent", *values))
            session.do(
                typed(f"C{c}", f"{day}T07:01", "Fir", "device", "total_body_water_percent", "55")
            )
            session.do(
                typed(f"C{c}", f"{day}T07:30", "Scan", "reference", "body_fat_percent", scan)
            )
    snapshot, wide = (
        session.snapshot("body_fat_percent"),
        finish(session.wide_snapshot_steps((FAT, WATER))),
    )
    for request in (
        CompareRequest(snapshot, Lens(), "Fir"),
        RepeatabilityRequest(snapshot, Lens(), "Fir"),
        ChangeRequest(snapshot, Lens(), "Fir"),
        HydrationRequest(wide, Lens(), "Fir"),
    ):
        try:
            found = finish(request.run())
        except UserError:  # a sentence why it cannot be asked
            continue
        found = found[0] if isinstance(found, tuple) else found
        assert "nan" not in repr(found).lower().replace("nano", "")
    session.close()


def share_covered(n, draws, seed):
    """Percent of 95 % intervals that hold the truth: n pairs, tallies, visits of 8 clients, or clients, as the statistic asks."""
    rng, clients = np.random.default_rng(seed), np.arange(n) % 8
    truth = {
        "Passing–Bablok slope": 1.1,
        "Theil–Sen slope": 0.1,
        "ratio": 1.1,
        "within-tally SD": 0.5,
        "ICC(1,1)": 0.8,
    }
    truth |= {"r within clients": 0.6, "slope within clients": 0.6}
    held = dict.fromkeys(truth, 0)
    for _ in range(draws):
        true = rng.normal(32, 5, n)
        x, y = true + rng.normal(0, 0.5, n), 1.1 * true + rng.normal(0, 0.55, n)
        d = 0.1 * true + rng.normal(0, 1, n)
        grown = true * rng.lognormal(0, 0.03, n) * 1.1
        tally = np.repeat(np.arange(n), 3)
        value = np.repeat(rng.normal(0, 1, n), 3) + rng.normal(0, 0.5, 3 * n)
        u = rng.normal(0, 3, 8)[clients]
        a = rng.normal(0, 1, n)
        b = 0.6 * a + 0.8 * rng.normal(0, 1, n)
        line, sen = passing_bablok(x, y), theil_sen(true, d)
        found = {
            "Passing–Bablok slope": line.line.slope.interval,
            "Theil–Sen slope": sen.interval,
            "ratio": ratio_limits(true, grown, np.arange(n), np.arange(n)).ratio.interval,
            "within-tally SD": (
                repeatability(tally, value, np.tile([1, 2, 3], n), tally * 0, tally).sd.interval
            ),
            "ICC(1,1)": intraclass(value.reshape(n, 3)).one.interval,
            "r within clients": repeated_correlation(a + u, b - u, clients).interval,
            "slope within clients": (
                detrended_slope(a + u, b - u, clients, rng.uniform(0, 1, n)).slope.interval
            ),
        }
        for name, i in found.items():
            held[name] += i.low <= truth[name] <= i.high
    return {name: round(100 * k / draws, 1) for name, k in held.items()}


@pytest.mark.parametrize(
    ("n", "draws"),
    [(40, 60), *(pytest.param(n, 4000, marks=pytest.mark.slow) for n in (24, 40, 120))],
)
def test_coverage_of_the_other_intervals(n, draws):
    """Prints a line of the table in the methods."""
    held = share_covered(n, draws, 3)
    print(f"\n| {n} | {' | '.join(map(str, held.values()))} |")
    slack = 100 * 3 * math.sqrt(0.05 * 0.95 / draws)
    assert all(94 - slack <= k <= 97 + slack for k in held.values()), held


def test_a_change_of_setting_is_no_change_of_water(demo):
    """Pooled settings of the demo's Birch: correlation and slope lie between those of each, as does its likeness to the others."""
    wide = finish(demo.wide_snapshot_steps(("body_fat_percent", "total_body_water_percent")))
    lenses = [Lens(setting=s) for s in ("athlete", "standard", None)]
    first, second, pooled = (
        finish(HydrationRequest(wide, lens, "Birch").run())[0] for lens in lenses
    )
    for a, b, both in (
        (first.r, second.r, pooled.r),
        (first.slope.slope, second.slope.slope, pooled.slope.slope),
    ):
        assert min(a.value, b.value) < both.value < max(a.value, b.value)
        assert (
            both.interval.high - both.interval.low
            < min(x.interval.high - x.interval.low for x in (a, b)) * 1.05
        )
    assert pooled.uncorrected == pytest.approx(
        (first.uncorrected + second.uncorrected) / 2, abs=0.1
    )
    apart = [finish(RedundancyRequest(wide, lens).run()) for lens in lenses]
    likeness = [
        {frozenset((r.names[i], r.names[j])): r.r[i, j] for i in range(4) for j in range(i)}
        for r in apart
    ]
    for other in ("Alder", "Cedar", "Dogwood"):
        pair = frozenset(("Birch", other))
        assert likeness[2][pair] == pytest.approx(
            (likeness[0][pair] + likeness[1][pair]) / 2, abs=0.03
        )


def test_no_slope_where_changes_do_not_vary_together():
    """Noise against noise has no slope of change on change, a device that follows has one near 1."""
    rng = np.random.default_rng(4)
    client = np.repeat(np.arange(30), 2)
    dx = rng.normal(0, 1, 60)
    still = change(dx, rng.normal(0, 1, 60), client, 0.5)
    assert still.slope is None
    assert "change_slope_undetermined" in [n.code for n in still.notes]
    follows = change(dx * 3, dx * 3 + rng.normal(0, 1, 60), client, 0.5)
    assert follows.slope.slope.interval.low < 1 < follows.slope.slope.interval.high
