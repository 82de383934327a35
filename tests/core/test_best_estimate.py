"""The best estimate: its filter against brute force and statsmodels, its rates by simulation, and the demo's truth."""

import json
from dataclasses import replace
from datetime import date, timedelta
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pytest
from scipy import stats
from scipy.stats import multivariate_normal, norm, studentized_range
from statsmodels.tsa.statespace.kalman_smoother import KalmanSmoother

from anchor_tally.analysis.agreement import redundancy
from anchor_tally.analysis.pairs.comparator import CannotCompare
from anchor_tally.analysis.time import next_measurement, study_model
from anchor_tally.analysis.time.best_estimate import SIZES, BestEstimateRequest, fixed_days
from anchor_tally.analysis.time.group_levels import GroupRequest
from anchor_tally.analysis.time.next_measurement import (
    TRIED,
    MoreMornings,
    more_mornings,
    power_after,
)
from anchor_tally.analysis.time.study_model import StudyModelRequest, days_of_change, measured_days
from anchor_tally.analysis.time.track import level_series
from anchor_tally.app.demo import demo_session
from anchor_tally.cli.main import main
from anchor_tally.domain.course_priors import course_prior
from anchor_tally.domain.events import Event
from anchor_tally.domain.lens import Lens
from anchor_tally.domain.steps import finish
from anchor_tally.scenario.squad import CLIENTS, WEEKS
from anchor_tally.stats import client_course, course_model, source_spreads, turns
from anchor_tally.stats.best_estimate import Observations, Spreads, filter_clients
from anchor_tally.stats.client_course import (
    Sets,
    ahead_of,
    course_of,
    disagreements,
    independent_mornings,
    sds_after,
    sds_as_they_come,
)
from anchor_tally.stats.course_model import fit_model, levels_of
from anchor_tally.stats.distributions import largest_difference, t_quantile
from anchor_tally.stats.estimate import Estimate, Interval
from anchor_tally.stats.source_spreads import Known, Sources, spreads_of
from anchor_tally.stats.turns import (
    SHIFTS,
    SHRUNK,
    TURNS,
    Beside,
    Knots,
    hypotheses,
    knots_of,
    posterior,
)
from anchor_tally.study.edits.checks import StateValue
from anchor_tally.study.edits.clients import PutClient
from anchor_tally.wording.best_estimate import (
    basis_words,
    beside_words,
    left_out_words,
    margin_words,
    more_words,
    sentences,
    share_lines,
    weight_words,
)
from anchor_tally.wording.group_levels import headline as group_headline
from anchor_tally.wording.group_levels import ordered, under
from anchor_tally.wording.group_levels import row as line_of
from answers import moving
from places import CLOCK, reading, squad_lines, study_of

SPREADS = Spreads(
    level=0.1,
    trend=0.02,
    start=8.0,
    start_trend=0.15,
    middle=20.0,
    offset=np.array([0, 1.5, 1.2, 0.8]),
    day=np.array([0.8, 0.7]),
    repeat=np.array([0.5, 0.3, 0.3, 0.6]),
    slope=np.array([1, 1, 0.8, 1.0]),
    slope_sd=np.array([0.2, 0.1]),
    drift=np.array([0.02, 0.05]),
    device=np.array([-1, 0, 1, 1]),
    shares_morning=np.array([False, True, True, True]),
    shifts=np.array([False, True, True, False]),
    morning=0.4,
    correlation=0.5,
)
NEVER = np.array([1.0])  # probability of the only course


def drawn(rng, clients, days, sources=4):
    """Readings at random days: scans now and then, and devices mostly."""
    rows = [
        (c, int(d), s, 20 + rng.normal(0, 3), int(rng.integers(1, 4)))
        for c in range(clients)
        for d in np.sort(rng.choice(120, days, replace=False))
        for s in range(sources)
        if rng.random() < (0.15 if s == 0 else 0.8)
    ]
    columns = [np.array(x) for x in zip(*rows, strict=True)]
    return Observations(*columns, rng.normal(0, 1, len(rows)))


def joint(o, s, of):
    """Mean and covariance of all readings, and of the level of each client on a day with them."""
    n, start = o.value.size, {}
    for c in set(o.client.tolist()):
        start[c] = min(o.day[o.client == c].min(), of[c][0])
    x = s.regressors(o.source, o.day / 7)
    v = x @ np.diag(1 / s.prior_precision()) @ x.T

    def level(c, t, u):
        a, b = sorted(((t - start[c]) / 7, (u - start[c]) / 7))
        walk = s.level**2 * a + s.trend**2 * (a**2 * b / 2 - a**3 / 6)
        return s.start**2 + s.start_trend**2 * a * b + walk

    for i in range(n):
        for j in range(n):
            if o.client[i] != o.client[j]:
                continue
            a, b, days = o.source[i], o.source[j], abs(int(o.day[i]) - int(o.day[j]))
            v[i, j] += s.slope[a] * s.slope[b] * level(o.client[i], o.day[i], o.day[j])
            if a == b and s.device[a] >= 0:
                v[i, j] += s.offset[a] ** 2
            if s.device[a] == s.device[b] >= 0:
                v[i, j] += s.day[s.device[a]] ** 2 * s.correlation**days
            if days == 0 and s.shares_morning[a] and s.shares_morning[b]:
                v[i, j] += s.morning**2
            v[i, j] += (i == j) * s.repeat[a] ** 2 / o.size[i]
    cross = {
        (c, d): np.array(
            [s.slope[o.source[i]] * level(c, o.day[i], d) * (o.client[i] == c) for i in range(n)]
        )
        for c, ds in of.items()
        for d in ds
    }
    return s.slope[o.source] * s.middle, v, cross, level


@pytest.mark.parametrize("seed", range(4))
def test_the_filter_is_a_dense_gaussian(seed):
    """Likelihood, values and changes of random designs equal one large normal distribution."""
    rng = np.random.default_rng(seed)
    o, s = drawn(rng, 3, 7), SPREADS
    s = s if seed else replace(s, correlation=0.0, morning=0.0)
    s = replace(s, slope_sd=np.zeros(2))
    since, until, now = 20, 80, 125
    days = dict.fromkeys(range(3), (since, until, now))
    mean, v, cross, level = joint(o, s, days)
    other = replace(s, level=0.3, trend=0.05, morning=0.2)  # courses do not mix
    asked = [np.full(3, d) for d in (since, until, now)]
    found = filter_clients(o, [s, other], *asked, 0)
    p, prior = s.common, s.prior_precision()
    sums = found.products[0].sum(axis=0)
    precision = np.diag(prior) + sums[1 : 1 + p, 1 : 1 + p]
    told = sums[1 : 1 + p, 0]
    value = np.linalg.solve(precision, told)
    fit = found.logs[0].sum() + sums[0, 0] - told @ value
    size = np.linalg.slogdet(precision)[1] - np.log(prior).sum()
    expected = multivariate_normal(mean, v).logpdf(o.value)
    assert -0.5 * (fit + size) == pytest.approx(expected, rel=1e-9)
    weight = np.linalg.solve(v, o.value - mean)
    inverse = np.linalg.inv(precision)
    for c in range(3):
        k = np.array([cross[c, d] for d in days[c]])
        before = np.array([[level(c, a, b) for b in days[c]] for a in days[c]])
        middle, after = s.middle + k @ weight, before - k @ np.linalg.solve(v, k.T)
        for told_of, g in ((found.level, [0.0, 0.0, 1.0]), (found.change, [-1.0, 1.0, 0.0])):
            of = told_of.load[0, c, :p]
            assert told_of.value[0, c] + of @ value == pytest.approx(g @ middle, abs=1e-7)
            variance = told_of.variance[0, c] + of @ inverse @ of
            assert variance == pytest.approx(g @ after @ np.array(g), abs=1e-7)


def brute(o, s, hyp, knots, asked):
    """Weights, means and SDs of level and change of one client under each hypothesis, by inverses."""
    first = min(o.day.min(), asked[0])
    t, q = (o.day - first) / 7, (np.array(asked) - first) / 7

    def walk(a, b):
        low, high = np.minimum.outer(a, b), np.maximum.outer(a, b)
        turned = s.trend**2 * low**2 * (3 * high - low) / 6
        return s.start**2 + s.start_trend**2 * np.outer(a, b) + s.level**2 * low + turned

    slope, d = s.slope[o.source], s.device[o.source]
    x = s.regressors(o.source, o.day / 7)
    v = np.outer(slope, slope) * walk(t, t) + x @ np.diag(1 / s.prior_precision()) @ x.T
    same, near = o.source[:, None] == o.source, np.abs(o.day[:, None] - o.day)
    v += same * (s.offset[o.source] * (d >= 0)) ** 2
    v += (d[:, None] == d) * (d >= 0) * (s.day[d] ** 2 * s.correlation ** near.astype(float))
    v += (
        (near == 0)
        * np.outer(s.shares_morning[o.source], s.shares_morning[o.source])
        * s.morning**2
    )
    v += np.diag(s.repeat[o.source] ** 2 / o.size)
    zero = np.zeros(o.day.size, dtype=int)
    gamma = knots.regressors(zero, o.day, slope, s.shifts[o.source] * 1.0)
    gamma = np.column_stack([gamma, zero])
    ahead = np.column_stack([np.maximum(np.array(asked)[:, None] - knots.turn, 0) / 7])
    ahead = np.nan_to_num(np.column_stack([ahead, np.zeros((3, SHIFTS + 1))]))
    moved = s.responses(o.source, o.moved)
    g = np.array([[0.0, 0.0, 1.0], [-1.0, 1.0, 0.0]])
    logs, out = [], []
    for i, j, a, b in zip(hyp.first, hyp.second, hyp.sd_first, hyp.sd_second, strict=True):
        u, w = gamma[:, [i, j]] * [a, b], ahead[:, [i, j]] * [a, b]
        full = v + u @ u.T
        k, prior = slope * walk(q, t) + w @ u.T, walk(q, q) + w @ w.T
        gain = g @ k @ np.linalg.inv(full)
        rest = o.value - slope * s.middle
        logs.append(multivariate_normal(np.zeros(t.size), full).logpdf(rest))
        off = (gain @ moved * s.slope_sd) ** 2
        shrunk = (g @ w - gain @ u) ** 2
        variance = np.diag(g @ prior @ g.T - gain @ (g @ k).T)
        variance = variance + off.sum(axis=1) + SHRUNK * shrunk.sum(axis=1)
        out.append((gain @ rest + [s.middle, 0], variance))
    logs = np.array(logs) + hyp.log_prior(knots.prior)[0]
    weight = np.exp(logs - logs.max())
    return weight / weight.sum(), *(np.array(x) for x in zip(*out, strict=True))


@pytest.mark.parametrize("seed", range(3))
def test_turns_and_shifts_are_mixtures_of_dense_gaussians(seed):
    """Weights, means and variances of each hypothesis by plain inverses; course and list agree."""
    rng = np.random.default_rng(seed)
    o = drawn(rng, 1, 9)
    asked = (20, 80, 125)
    first, last = np.array([o.day.min()]), np.array([o.day.max()])
    knots = knots_of(first, last, np.array([90.0]))
    hyp = hypotheses(SPREADS.start_trend, shifts=True)
    own = knots.regressors(o.client, o.day, SPREADS.slope[o.source], SPREADS.shifts[o.source] * 1.0)
    days = [np.array([d]) for d in asked]
    ahead = (knots.ahead(days[2]), knots.ahead(days[1]) - knots.ahead(days[0]))
    found = filter_clients(o, [SPREADS], *days, 0, own, ahead)
    p = SPREADS.common
    alone = Beside(np.diag(SPREADS.prior_precision())[None], np.zeros((1, p)))
    each = posterior(found, alone, hyp, knots.prior, NEVER, SPREADS.slope_sd)
    weight, mean, variance = brute(o, SPREADS, hyp, knots, asked)
    assert each.weight[0, 0] == pytest.approx(weight, abs=1e-8)
    for k, told in enumerate((each.level, each.change)):
        assert told[0][0, 0] == pytest.approx(mean[:, k], abs=1e-6)
        assert told[1][0, 0] == pytest.approx(variance[:, k], abs=1e-6)
    model = fit_model(
        o, Known(SPREADS, 0.0, 30, 30), (0.1, 0.3), np.array([7]), days, 0, (30.0, 40.0)
    )
    levels = levels_of(o, model, np.array([7]), *days)
    course = course_of(o, model, 0, 7, np.array(asked), 2)
    for q in (0.025, 0.1, 0.975):  # parts of little weight are left out of both
        assert course.bands.quantile(q)[2] == pytest.approx(levels.level.quantile(q)[0], abs=2e-3)
        assert course.change(0, 1).quantile(q) == pytest.approx(levels.change.quantile(q), abs=2e-3)
    assert course.level[2] == pytest.approx(levels.level.mean[0], abs=2e-3)
    assert course.shifted == pytest.approx(levels.shifted[0], abs=1e-9)
    step = replace(o, value=o.value + np.where(np.arange(o.value.size) == 3, 0.01, 0.0))
    moved = course_of(step, model, 0, 7, np.array(asked), 2).level[2] - course.level[2]
    # a small step of one reading: the weights of hypotheses hardly move
    assert moved / 0.01 == pytest.approx(course.weight[3], abs=0.05)


def test_one_source_is_a_local_linear_trend(monkeypatch):
    """With scans alone filter and course are those of statsmodels on a daily grid with gaps."""
    rng = np.random.default_rng(1)
    day = np.sort(rng.choice(100, 25, replace=False))
    day[0] = 0
    value = 20 + np.cumsum(rng.normal(0, 0.4, day.size))
    zero = np.zeros(25, dtype=int)
    o = Observations(zero, day, zero, value, np.ones(25), np.zeros(25))
    s = replace(
        SPREADS,
        **{
            k: getattr(SPREADS, k)[:1]
            for k in ("offset", "repeat", "slope", "shares_morning", "shifts")
        },
        device=np.array([-1]),
        day=np.zeros(0),
        drift=np.zeros(0),
        slope_sd=np.zeros(0),
    )
    days = np.arange(100)
    grid = np.full(100, np.nan)
    grid[day] = value
    week = 1 / 7
    smoother = KalmanSmoother(k_endog=1, k_states=2)
    smoother.bind(grid[:, None])
    smoother["design"] = np.array([[1.0, 0.0]])
    smoother["obs_cov"] = np.array([[s.repeat[0] ** 2]])
    smoother["transition"] = np.array([[1.0, week], [0.0, 1.0]])
    smoother["selection"] = np.eye(2)
    walk = np.array([[week**3 / 3, week**2 / 2], [week**2 / 2, week]])
    smoother["state_cov"] = s.trend**2 * walk + np.diag([s.level**2 * week, 0.0])
    smoother.initialize_known(np.array([s.middle, 0.0]), np.diag([s.start**2, s.start_trend**2]))
    found = smoother.smooth()
    found_here = filter_clients(o, [s], *(np.array([d]) for d in (10, 60, 99)), 0)
    log = -0.5 * float(found_here.logs[0, 0] + found_here.products[0, 0, 0, 0])
    assert log == pytest.approx(found.llf, abs=1e-6)
    # a turn of the trend that cannot have happened leaves the smoother
    monkeypatch.setattr(client_course, "knots_of", lambda first, *_: never(first.size))
    monkeypatch.setattr(course_model, "knots_of", lambda first, *_: never(first.size))
    asked = [np.array([d]) for d in (10, 60, 99)]
    model = fit_model(o, Known(s, 0.0, 9, 9), (s.level,), np.array([1]), asked, 0, (1e9, 1e9))
    course = course_of(o, model, 0, 1, days, 99)
    assert course.level == pytest.approx(found.smoothed_state[0], abs=1e-7)
    assert course.bands.sd**2 == pytest.approx(found.smoothed_state_cov[0, 0], abs=1e-7)
    levels = levels_of(o, model, np.array([1]), *asked)
    assert levels.level.mean[0] == pytest.approx(found.smoothed_state[0, 99], abs=1e-7)


def never(clients):
    """No day on which a trend may turn."""
    return Knots(np.full((clients, TURNS), np.nan), np.full((clients, SHIFTS), np.nan))


def test_largest_difference_is_the_studentized_range():
    """Against SciPy, and 5.01 of the table of Harter 1960 (Ann Math Stat 31:1122; 10 means, 20 df)."""
    assert largest_difference(0.95, 10, 20) * np.sqrt(2) == pytest.approx(5.01, abs=0.005)
    for p, k, df in ((0.95, 2, 10), (0.8, 27, 26), (0.95, 60, 4), (0.95, 27, np.inf)):
        expected = studentized_range.ppf(p, k, df) / np.sqrt(2)
        assert largest_difference(p, k, df) == pytest.approx(expected, rel=1e-4)


@pytest.mark.parametrize("seed", range(2))
def test_what_further_readings_would_tell(seed, monkeypatch):
    """The SD is the one that the course has once the readings are there, whatever they show."""
    monkeypatch.setattr(client_course, "knots_of", lambda first, *_: never(first.size))
    monkeypatch.setattr(course_model, "knots_of", lambda first, *_: never(first.size))
    rng = np.random.default_rng(seed)
    s = replace(SPREADS, slope_sd=np.zeros(2))
    o = drawn(rng, 1, 8)
    asked = [np.array([d]) for d in (20, 80, 125)]
    model = fit_model(o, Known(s, 0.0, 9, 9), (0.1,), np.array([4]), asked, 0, (1e9, 1e9))
    nothing = np.zeros(5)
    more = Sets(np.arange(126, 131), np.array([1, 1, 0, 2, 3]), np.array([1, 3, 1, 2, 1]), nothing)
    days, g = np.array([40, 130]), np.array([-1.0, 1.0])
    none = Sets(*np.empty((3, 0), dtype=int), np.empty(0))
    known = ahead_of(o, model, 0, 4, course_of(o, model, 0, 4, days, 1))
    before, sd = sds_after(known, [none, more], days, g[None])[:, 0]
    assert before == pytest.approx(course_of(o, model, 0, 4, days, 1).change(0, 1).sd[0], rel=1e-9)
    taken, ends = np.array([0, 3, 5, 1]), np.array([130, 128, 130, 131])
    asked_for = np.column_stack([np.full(4, 40), ends])
    nested = sds_as_they_come(known, more, taken, asked_for, g)
    for k in range(4):
        some = Sets(*(getattr(more, x)[: taken[k]] for x in ("day", "source", "size", "moved")))
        assert nested[k] == pytest.approx(sds_after(known, [some], asked_for[k], g[None])[0, 0])
    parts = (
        np.zeros(5, dtype=int),
        more.day,
        more.source,
        rng.normal(20, 3, 5),
        more.size,
        nothing,
    )
    columns = zip((o.client, o.day, o.source, o.value, o.size, o.moved), parts, strict=True)
    after = Observations(*(np.concatenate(pair) for pair in columns))
    later = fit_model(after, Known(s, 0.0, 9, 9), (0.1,), np.array([4]), asked, 0, (1e9, 1e9))
    assert sd == pytest.approx(course_of(after, later, 0, 4, days, 1).change(0, 1).sd[0], rel=1e-9)
    day = np.sort(rng.choice(60, 12, replace=False))
    dense = np.linalg.inv(0.6 ** np.abs(day[:, None] - day[None, :])).sum()
    assert independent_mornings(day, 0.6) == pytest.approx(dense)
    assert independent_mornings(day, 0.0) == 12


def sources_of(numbers, slope=None, **more):
    """Sources of some devices, all impedance devices."""
    n = numbers.size
    slope = np.ones(n) if slope is None else slope
    read = numbers >= 0
    return Sources(numbers, slope, np.full(n, 0.25), read, read, 0.5, np.zeros(n), **more)


def fitted(o, numbers, within=0.3):
    """Model of all clients of some readings, whose numbers begin at 0."""
    sources, clients = sources_of(numbers), np.unique(o.client)
    known = spreads_of(o, sources, np.where(numbers >= 0, within, 0.0))
    wander = course_prior("body_fat_percent", 20.0).wander
    dfs = (8.0, known.day_df)
    return fit_model(o, known, wander, clients, days_of_change(o), 90, dfs)


def test_a_source_that_disagrees_is_named_with_its_days():
    """Two weeks of one device 4 too high are found, with nobody else; an outlier of a scan too."""
    o, _ = squad(np.random.default_rng(4))
    numbers = np.array([-1, 0, 1, 2, 3])

    def named(data):
        model, found = fitted(data, numbers), []
        for c in range(14):
            course = course_of(data, model, c, c, np.array([0, 182]), 1)
            known = ahead_of(data, model, c, c, course)
            found += [(c, d) for d in disagreements(data, known, course)[0]]
        return [(c, d.source, d.first, d.last, round(d.gap)) for c, d in found]

    assert named(o) == []
    odd = (o.client == 3) & (o.source == 2) & np.isin(o.day, (98, 105))
    assert named(replace(o, value=o.value + 4.0 * odd)) == [(3, 2, 98, 105, 4)]
    scan = np.flatnonzero((o.client == 5) & (o.source == 0))[1]
    wrong = np.where(np.arange(o.value.size) == scan, o.value + 6, o.value)
    assert [x[:2] for x in named(replace(o, value=wrong))] == [(5, 0)]


def squad(
    rng,
    *,
    clients=14,
    scans=3,
    devices=4,
    weeks=26,
    gap=7,
    correlation=0.5,
    pace=(-0.1, 0.1),
    wander=0.0,
    drift=0.0,
    unscanned=0,
    tails=False,
):
    """Readings of a squad, and the true level of each client by day.

    Offsets differ by 1.5 between clients, days by 0.8 with AR(1), mornings by 0.4, scans by 0.5.
    """
    rows, truth, last = [], [], weeks * 7
    for c in range(clients):
        level = rng.normal(22, 5) + rng.normal(*pace) * np.arange(last + 1) / 7
        level = level + np.cumsum(rng.normal(0, wander / np.sqrt(7), last + 1))
        own, morning = rng.normal(0, 1.5, devices), rng.normal(0, 0.4, last + 1)
        noise = (
            rng.standard_t(3, (last + 1, devices)) / np.sqrt(3)
            if tails
            else rng.standard_normal((last + 1, devices))
        )
        day = np.empty((last + 1, devices))
        day[0] = 0.8 * noise[0]
        for t in range(last):
            day[t + 1] = correlation * day[t] + 0.8 * np.sqrt(1 - correlation**2) * noise[t + 1]
        for t in range(0, last + 1, gap):
            shown = level[t] + own + day[t] + morning[t] + rng.normal(0, 0.3, (3, devices)).mean(0)
            shown[0] += drift * t / 7
            rows += [(c, t, 1 + d, round(float(shown[d]), 2), 3) for d in range(devices)]
        for t in np.linspace(0, last - 14, scans).astype(int) // 7 * 7 if c >= unscanned else ():
            rows.append((c, int(t), 0, level[t] + rng.normal(0, 0.5), 1))
        truth.append(level)
    rows.sort(key=lambda r: r[:3])
    columns = [np.array(x) for x in zip(*rows, strict=True)]
    return Observations(*columns, np.zeros(len(rows))), np.array(truth)


def of_sources(o, numbers):
    """Readings of some sources, which are numbered anew."""
    at = np.isin(o.source, numbers)
    columns = [getattr(o, k)[at] for k in ("client", "day", "source", "value", "size", "moved")]
    columns[2] = np.searchsorted(numbers, columns[2])
    return Observations(*columns)


def test_spreads_of_much_data_are_those_it_was_drawn_with():
    """40 clients, daily; the first device in another setting, 2 lower, from the middle on."""
    rng = np.random.default_rng(1)
    o, _ = squad(rng, clients=40, weeks=20, gap=1, correlation=0.6, scans=5)
    late, own = (o.source == 1) & (o.day > 70), rng.normal(0, 1.0, 40)
    o = replace(
        o, source=np.where(late, 5, o.source), value=o.value + np.where(late, own[o.client] - 2, 0)
    )
    numbers = np.array([-1, 0, 1, 2, 3, 0])
    known = spreads_of(o, sources_of(numbers), np.where(numbers >= 0, 0.3, 0.0))
    s, gap = known.spreads, known.gap
    assert s.day[1:] == pytest.approx(0.8, abs=0.06)
    assert 0.78 < s.day[0] < 0.92  # what is common to a setting is taken for its level
    assert s.correlation == pytest.approx(0.6, abs=0.05)
    assert s.morning == pytest.approx(0.4, abs=0.04)
    assert gap == pytest.approx(1 / 7)
    assert s.offset[1:5].mean() == pytest.approx(1.5, abs=0.2)
    assert s.offset[5] == pytest.approx(np.hypot(1.5, 1.0), abs=0.35)
    assert (s.repeat[0], s.repeat[1]) == (0.5, pytest.approx(0.3))
    alone = sources_of(np.array([-1, 0]))
    some, within = of_sources(o, np.array([0, 2])), np.array([0.0, 0.3])
    one = spreads_of(some, alone, within).spreads
    assert one.day == pytest.approx(np.hypot(0.8, 0.4), abs=0.07)  # mornings count as its own
    assert one.morning == 0
    wide = replace(alone, trend=0.3, step=np.array([0.0, 1.2]))
    few = spreads_of(some, wide, within).spreads
    assert few.start_trend == pytest.approx(2 * one.start_trend)
    assert few.repeat[1] == pytest.approx(np.hypot(0.3, 1.2 / np.sqrt(12)))


def test_few_days_leave_the_usual_spread():
    """Three days of one device: its variance counts for one degree of freedom beside six usual ones."""
    zero = np.zeros(3, dtype=int)
    value = np.array([20.0, 21.5, 20.2])
    o = Observations(zero, np.arange(3), zero, value, zero + 1, np.zeros(3))
    alone = sources_of(np.array([0]), day=0.8)
    found = spreads_of(o, alone, np.zeros(1))
    left = value - np.polyval(np.polyfit([0, 1, 2], value, 1), [0, 1, 2])
    repeat = (0.3 * 0.8) ** 2  # of a device that was never repeated
    assert found.spreads.day[0] ** 2 == pytest.approx((left @ left + 6 * 0.8**2) / 7 - repeat)
    assert found.day_df == pytest.approx(7)
    none = spreads_of(of_sources(o, np.array([5])), alone, np.zeros(1))
    assert (none.spreads.day[0], none.day_df) == (0.8, 6)


def test_offsets_of_few_clients_by_hand():
    """Spread of device less slope times scan, less what noise adds, raised to its mean given the data."""
    rng = np.random.default_rng(3)
    scan, own = rng.uniform(15, 30, 7), rng.normal(0, 2.0, 7)
    o = Observations(
        np.repeat(np.arange(7), 2),
        np.zeros(14, dtype=int),
        np.tile([0, 1], 7),
        np.column_stack([scan, 0.8 * scan + own]).ravel(),
        np.tile([1, 2], 7),
        np.zeros(14),
    )
    sources = sources_of(np.array([-1, 0]), np.array([1.0, 0.8]))
    s = spreads_of(o, sources, np.array([0.0, 0.4])).spreads
    noise = s.day[0] ** 2 + 0.4**2 / 2 + (0.8 * 0.5) ** 2
    expected = np.sqrt((own.var(ddof=1) - noise) * 6 / 4)
    assert s.offset[1] == pytest.approx(expected)
    assert (s.offset[0], s.morning) == (0.0, 0.0)


def truth_of_the_demo():
    """The true body fat of the demo's clients at the end, from the first draws of its seed."""
    rng, n = np.random.default_rng(20260302), len(CLIENTS)
    male = np.arange(n) % 2 == 0
    rng.integers(19, 38, n)
    for mean, sd in ((186, 5), (174, 5), (84, 6), (70, 5)):
        rng.normal(mean, sd, n)
    lean, fat = rng.normal(15, 3, n), rng.normal(25, 3.5, n)
    return np.where(male, lean, fat) + rng.normal(-2.0, 1.2, n) * (WEEKS - 2) / WEEKS


def test_the_demo_has_its_truth():
    """Intervals hold what the demo was made with, beside its odd device and its drift."""
    session = demo_session(clock=CLOCK)
    snapshot = finish(session.wide_snapshot_steps(("body_fat_percent",)))
    held, error = [], []
    for code, true in list(zip(CLIENTS, truth_of_the_demo(), strict=True))[::2]:
        r = finish(BestEstimateRequest(snapshot, Lens(), code).run())
        i = r.value.interval
        held.append(i.low <= true <= i.high)
        error.append(r.value.value - true)
    assert sum(held) >= 6  # of 7
    assert np.sqrt(np.mean(np.square(error))) < 0.5
    told = {(x.name, x.setting) for x in r.sources if not x.why}
    assert {("Birch", "standard"), ("Birch", "athlete")} <= told
    assert {x.why for x in r.sources if x.name.startswith("BMI")} == {"formula"}
    brill = session.catalogue().client_coded("Brill")
    session.do(PutClient(replace(brill, cautions=frozenset({"eating_disorder"}))))
    snapshot = finish(session.wide_snapshot_steps(("body_fat_percent",)))
    with pytest.raises(CannotCompare, match="no fat number is shown"):
        finish(BestEstimateRequest(snapshot, Lens(), "Brill").run())
    session.close()


def asked(session, code="C1"):
    """The best estimate of a client."""
    snapshot = finish(session.wide_snapshot_steps(("body_fat_percent",)))
    return finish(BestEstimateRequest(snapshot, Lens(), code).run())


def test_what_must_not_matter_does_not():
    """The order of entry changes nothing; a device of pure noise moves the value by little."""
    lines = squad_lines(np.random.default_rng(5))
    plain = asked(study_of(lines))
    back = asked(study_of(lines[::-1]))
    assert back.value.value == pytest.approx(plain.value.value, abs=1e-9)
    assert back.change.change.se == pytest.approx(plain.change.change.se, abs=1e-9)
    zoned = [x.replace("T07:00", "T07:00+01:00").replace("T08:00", "T08:00+01:00") for x in lines]
    there = asked(study_of(zoned))  # written in another zone, on the same days
    assert there.value.value == pytest.approx(plain.value.value, abs=1e-9)
    rng = np.random.default_rng(6)
    more = [
        reading(
            f"C{c}",
            f"{date(2026, 1, 5) + timedelta(weeks=w)}T07:09",
            round(3 + abs(rng.normal(20, 8)), 1),
            name="Dice",
        )
        for c in range(6)
        for w in range(0, 24, 2)
    ]
    with_noise = asked(study_of(lines + more))
    moved = abs(with_noise.value.value - plain.value.value)
    assert moved < 0.1 * plain.value.se


def test_all_clients_are_those_asked_one_by_one():
    """Value and change of each; no fat of a protected client; order by name or last scan."""
    session = study_of(squad_lines(np.random.default_rng(7), clients=4))
    code = {"C2": frozenset({"eating_disorder"})}
    for name, cautions in code.items():
        client = session.catalogue().client_coded(name)
        session.do(PutClient(replace(client, cautions=cautions)))
    snapshot = finish(session.wide_snapshot_steps(("body_fat_percent",)))
    group = finish(GroupRequest(snapshot, Lens()).run())
    for row in group.rows:
        if row.client.code == "C2":
            assert (row.value, row.change) == (None, None)
            continue
        alone = asked(session, row.client.code)
        assert row.value.value == pytest.approx(alone.value.value, abs=1e-6)
        assert row.change.change.se == pytest.approx(alone.change.change.se, abs=1e-6)
        assert row.change.kind == alone.change.kind
        assert row.last == alone.at
        assert date.fromordinal(row.last_scan).isoformat() == "2026-04-27"
    assert "No value is shown of 1 client" in under(group)
    assert [x.client.code for x in ordered(group.rows, "name")] == ["C0", "C1", "C2", "C3"]
    assert line_of(group.rows[2], group.metric)[1:3] == ("not shown", "not shown")
    with pytest.raises(CannotCompare, match="no readings of this metric"):
        finish(GroupRequest(snapshot, Lens("girth_waist")).run())


def test_power_is_that_of_one_more_measurement_of_the_change():
    """What N mornings add is a measurement of the change with an error of its own (scipy's normal)."""
    session = study_of(squad_lines(np.random.default_rng(8)))
    snapshot = finish(session.wide_snapshot_steps(("body_fat_percent",)))
    m = finish(StudyModelRequest(snapshot, Lens()).run())
    own, since, n = 2, int(m.last[2]) - 28, 9
    mine = m.data.client == own
    course = course_of(m.data, m.model, own, m.clients[own], np.array([since, m.last[own]]), 1)
    known = ahead_of(m.data, m.model, own, m.clients[own], course)
    day = int(m.last[own]) + np.arange(1, n + 1)
    moved = np.full(2 * n, m.data.moved[mine][-1])
    more = Sets(np.tile(day, 2), np.repeat([1, 2], n), np.ones(2 * n, dtype=int), moved)
    days, g = np.array([since, day[-1]]), np.array([-1.0, 1.0])
    none = Sets(*(np.empty(0, dtype=int) for _ in range(3)), np.empty(0))
    before, after = sds_after(known, [none, more], days, g[None])[:, 0]
    now = sds_after(known, [none], np.array([since, m.last[own]]), g[None])[0, 0]
    error = 1 / np.sqrt(after**-2 - before**-2)
    weight = before**2 / (before**2 + error**2)
    for change, size in ((-0.4, 1.0), (0.3, 0.6)):
        told = Estimate(change, Interval(change - 0.9, change + 0.9), 9, "")
        true, limit = np.copysign(size, change), 0.9 / now * after
        mean = change + weight * (true - change)
        expected = norm.sf((limit - np.sign(true) * mean) / (weight * error))
        (power,), (half,) = power_after(m, own, known, since, size, told, np.array([n]))
        assert power == pytest.approx(expected, rel=1e-6)
        assert half == pytest.approx(limit)
    told = Estimate(-0.1, Interval(-1.0, 0.8), 9, "")
    found = more_mornings(m, own, known, since, 2.2, told)
    powers = dict(
        zip(TRIED, power_after(m, own, known, since, 2.2, told, np.array(TRIED))[0], strict=True)
    )
    assert powers[found.mornings] >= 0.8
    fewer = [k for k in TRIED if k < found.mornings]
    assert fewer
    assert max(powers[k] for k in fewer) < 0.8
    assert more_mornings(m, own, known, since, 0.05, told).mornings is None
    r = finish(BestEstimateRequest(snapshot, Lens(), "C2").run())
    i = r.change.change.interval
    wide = MoreMornings(max(-i.low, i.high) + 0.1, 3, 0.5)
    assert more_words(replace(r, more=wide)).startswith(f"A change of {wide.size:.1f} pp or more")
    near = replace(wide, size=min(-i.low, i.high) - 0.05)
    assert more_words(replace(r, more=near)).startswith("3 more mornings would show")


def test_what_a_caution_forbids_is_not_measured_next():
    """Nothing of body fat in pregnancy; the others are ranked by what they narrow."""
    session = study_of(squad_lines(np.random.default_rng(8)))
    plain = asked(session).ahead
    assert {c.name: c.mornings for c in plain.candidates} == {
        "Fir": 7,
        "Elm": 7,
    }  # scan: 6 weeks ago
    lines = squad_lines(np.random.default_rng(8))
    lines += [reading(f"C{c}", "2026-06-22T07:00", 19.5 + c) for c in range(6)]
    plain = asked(study_of(lines)).ahead
    assert plain.candidates[0].name == "Scan"
    assert {c.name: c.mornings for c in plain.candidates} == {"Scan": 0, "Fir": 7, "Elm": 7}
    assert {c.name: c.minutes for c in plain.candidates} == {"Scan": 30, "Fir": 35, "Elm": 35}
    halves = [c.half for c in plain.candidates]
    assert halves == sorted(halves)
    assert halves[-1] < plain.waiting
    client = session.catalogue().client_coded("C1")
    session.do(PutClient(replace(client, sex="female", cautions=frozenset({"pregnant"}))))
    with pytest.raises(CannotCompare, match="C1: pregnancy: impedance, scans and equations"):
        asked(session)


def test_a_goal_lies_where_the_band_meets_it():
    """A line that falls by 0.25 a week: the date by hand; none where it moves away."""
    rng, lines = np.random.default_rng(4), []
    for c in range(6):
        for week in range(24):
            at = date(2026, 1, 5) + timedelta(weeks=week)
            level = 24 + c - 0.25 * week
            lines.append(reading(f"C{c}", f"{at}T07:00", round(level + rng.normal(0, 0.4), 1)))
            if week % 6 == 0:
                scan = round(level + rng.normal(0, 0.2), 1)
                lines.append(reading(f"C{c}", f"{at}T08:00", scan, name="Scan", kind="reference"))
    snapshot = finish(study_of(lines).wide_snapshot_steps(("body_fat_percent",)))
    now = 24 + 2 - 0.25 * 23
    near = finish(BestEstimateRequest(snapshot, Lens(), "C2", goal=now - 1.0).run())
    assert near.trend.interval.high < 0
    assert near.goal.earliest <= near.at + 28 <= near.goal.latest
    assert near.at <= near.goal.earliest
    assert near.goal.latest - near.goal.earliest < 700
    behind = finish(BestEstimateRequest(snapshot, Lens(), "C2", goal=now + 3.0).run())
    assert behind.goal.reached
    far = finish(BestEstimateRequest(snapshot, Lens(), "C2", goal=1.5).run())
    assert far.goal.earliest is None or far.goal.earliest > far.at + 300


def test_a_girth_needs_no_scan():
    """Two tapes and no scan: the one that is used most tells the level, and nothing is calibrated."""
    rng, lines = np.random.default_rng(2), []
    for c in range(5):
        for week in range(20):
            at = date(2026, 1, 5) + timedelta(weeks=week)
            for k, name in enumerate(("Tape", "Ribbon")[: 2 if week % 2 else 1]):
                shown = round(80 + 2 * c - 0.3 * week + 1.5 * k + rng.normal(0, 0.6), 1)
                lines.append(
                    reading(
                        f"C{c}", f"{at}T07:0{k}", shown, name=name, metric="girth_waist", unit="cm"
                    )
                )
    session = study_of(lines)
    snapshot = finish(session.wide_snapshot_steps(("girth_waist",)))
    request = BestEstimateRequest(snapshot, Lens("girth_waist"), "C3", goal=79.0)
    r = finish(request.run())
    assert (r.anchor, r.scanned, r.scans, r.since_scan) == ("Tape", False, 0, None)
    assert r.value.interval.low < 80 + 6 - 0.3 * 19 < r.value.interval.high
    assert r.change.change.interval.low < -1.2 < r.change.change.interval.high
    # 1.3 cm to go at 0.3 cm a week
    assert r.goal.earliest <= r.at + 30 <= r.goal.latest
    said = " ".join(sentences(r))
    assert "scan" not in said
    assert "Goal 79.0 cm: between" in said
    assert finish(replace(request, goal=90.0).run()).goal.reached
    still = replace(request, goal=10.0)
    assert finish(still.run()).goal.earliest is None  # not within two years


def mass_of(values, days, **more):
    """The best estimate of a client from weighings alone."""
    lines = [
        reading("A", f"{date(2026, 1, 5) + timedelta(days=d)}T07:0{r}", v, repeat=r + 1, **more)
        for d, each in zip(days, values, strict=True)
        for r, v in enumerate(each if isinstance(each, tuple) else (each,))
    ]
    metric = more["metric"]
    snapshot = finish(study_of(lines).wide_snapshot_steps((metric,)))
    first = date(2026, 1, 5).toordinal()
    asked = {"since": first, "until": first + days[-1]} if days[-1] else {}
    return finish(BestEstimateRequest(snapshot, Lens(metric), "A", goal=20.0, **asked).run())


def test_plain_changes_are_not_shrunk_away():
    """Each metric by its own precision: mass and waist along a line, two weighings, one scan of bone."""
    kg = {"name": "Scale", "metric": "body_mass", "unit": "kg"}
    weeks = [7 * k for k in range(12)]
    r = mass_of([round(117.4 - 7.5 * k / 11, 1) for k in range(12)], weeks, **kg)
    assert r.change.change.value == pytest.approx(-7.5, abs=0.2)
    assert r.change.kind == "real"
    assert r.value.value == pytest.approx(109.9, abs=0.2)
    assert r.goal.trend  # a rate is shown where a change is
    assert r.change.measured.devices == pytest.approx(-7.5)
    assert "Measured: −7.5 kg; all sources together: −7.4 kg." in " ".join(sentences(r))
    tape = {"name": "Tape", "kind": "method", "metric": "girth_waist", "unit": "cm"}
    r = mass_of([round(92 - 4.7 * k / 11, 1) for k in range(12)], weeks, **tape)
    assert r.change.kind == "real"
    assert r.change.change.value == pytest.approx(-4.7, abs=0.3)
    two = mass_of([(61.8, 61.8), (60.4, 60.4)], [0, 28], **kg)
    i = two.change.change.interval
    assert i.low < -1.4 < i.high
    assert two.change.change.value < -0.9
    bone = {"name": "Scan", "kind": "reference", "metric": "bone_mineral_content", "unit": "kg"}
    r = mass_of([2.8], [0], **bone)
    assert r.change.change is None
    assert 2.5 < r.value.interval.low < r.value.interval.high < 3.1


def test_visits_twice_a_day_and_settings_side_by_side():
    """Morning and evening, and two settings each morning, are sources of their own; the first day works."""
    rng, start = np.random.default_rng(1), date(2026, 1, 5)
    twice, both = [], []
    for d in range(20):
        at = start + timedelta(days=d)
        for hour, more in (("07", 0.0), ("19", 1.5)):
            shown = round(22 + more + rng.normal(0, 0.6), 1)
            twice.append(reading("C1", f"{at}T{hour}:00", shown))
        for k, setting in enumerate(("standard", "athlete")):
            shown = round(22 - 3 * k + rng.normal(0, 0.6), 1)
            both.append(reading("C1", f"{at}T07:0{k}", shown, setting=setting))
    found = asked(study_of(twice))
    assert {(x.setting, x.days) for x in found.sources} == {("morning", 20), ("evening", 20)}
    assert abs(found.change.change.value) < 1.0
    assert not found.odd
    found = asked(study_of(both))
    assert {x.setting for x in found.sources} == {"standard", "athlete"}
    assert not found.odd
    (pair,) = found.beside
    shown = {
        k: [float(x.split(",")[9]) for x in both if f",{k}," in x] for k in ("standard", "athlete")
    }
    expected = stats.ttest_rel(shown[pair.second], shown[pair.first])
    low, high = expected.confidence_interval()
    ends = pair.difference.interval
    assert (ends.low, ends.high) == pytest.approx((low, high))
    assert f"Fir, {pair.second} less {pair.first}: " in beside_words(found)
    lines = [reading("C1", "2026-01-05T07:00", 24.8)]
    lines.append(reading("C1", "2026-01-05T08:00", 21.8, name="Scan", kind="reference"))
    first = asked(study_of(lines))
    assert first.value.interval.low < 21.8 < first.value.interval.high
    half = (first.value.interval.high - first.value.interval.low) / 2
    assert half == pytest.approx(t_quantile(0.975, 6.0) * 0.55, rel=0.1)


def test_whose_scan_sets_whose_level():
    """Another person's scan tells no level; those of three others do, with the spread between people."""
    rng, lines = np.random.default_rng(3), []
    for c in range(5):
        for d in range(0, 40, 4):
            at, shown = date(2026, 1, 5) + timedelta(days=d), 20 + 2 * c + rng.normal(0, 0.5)
            lines.append(reading(f"C{c}", f"{at}T07:00", round(shown + 3, 1)))
    scans = [
        reading(f"C{c}", "2026-01-05T08:00", 20 + 2 * c, name="Scan", kind="reference")
        for c in (0, 2, 3)
    ]
    for some, told in ((scans[:1], False), (scans, True)):
        session = study_of([*lines, *some])
        r = asked(session)
        assert r.tied is told
        assert ("No level is told: it needs a scan of C1" in basis_words(r)) is not told
        snapshot = finish(session.wide_snapshot_steps(("body_fat_percent",)))
        rows = {x.client.code: x for x in finish(GroupRequest(snapshot, Lens()).run()).rows}
        assert (rows["C1"].value is not None) is told
        assert rows["C0"].value is not None
        own = rows["C0"].value.interval
        assert r.value.interval.high - r.value.interval.low > 2 * (own.high - own.low)
    assert "interval has the spread between clients" in basis_words(r)


def test_devices_that_contradict_a_scan_are_told():
    """All devices 2.5 lower from day 80 on, the scan of day 84 as before: told, and no real change."""
    rng, lines = np.random.default_rng(5), []
    for d in range(0, 113, 2):
        at = date(2026, 1, 5) + timedelta(days=d)
        for k, name in enumerate(("Fir", "Elm")):
            shown = 24 - 2 * k - 2.5 * (d >= 80) + rng.normal(0, 0.8)
            lines.append(reading("C1", f"{at}T07:0{k}", round(shown, 1), name=name))
    for d in (0, 84):
        at = date(2026, 1, 5) + timedelta(days=d)
        lines.append(reading("C1", f"{at}T08:00", 22.0, name="Scan", kind="reference"))
    session = study_of(lines)
    session.do(StateValue("body_fat_percent", "reference_sd", 0.3))
    r = asked(session)
    said = " ".join(sentences(r))
    assert "All devices together disagree with the scans: they may have moved" in said
    assert r.shifted > 0.5
    assert r.change.kind != "real"


def test_the_unit_of_entry_does_not_matter():
    """A girth typed in inches is told as one typed in centimetres."""
    more = {"name": "Tape", "kind": "method", "metric": "girth_waist"}
    typed = {"cm": [], "in": []}
    for c in range(3):
        for week in range(12):
            day = f"{date(2026, 1, 5) + timedelta(weeks=week)}T07:00"
            inches = 31.0 + c + 0.25 * (week % 3)
            typed["in"].append(reading(f"C{c}", day, inches, unit="in", **more))
            typed["cm"].append(reading(f"C{c}", day, f"{2.54 * inches:.4f}", unit="cm", **more))
    told = []
    for lines in typed.values():
        snapshot = finish(study_of(lines).wide_snapshot_steps(("girth_waist",)))
        told.append(finish(BestEstimateRequest(snapshot, Lens("girth_waist"), "C1").run()))
    assert told[0].value.value == pytest.approx(told[1].value.value, abs=1e-6)
    assert told[0].change.change.se == pytest.approx(told[1].change.change.se, rel=1e-6)


def test_dates_that_were_fixed_beforehand():
    """Days of events of the client or of all, scans, first and last day; no others."""
    session = study_of(squad_lines(np.random.default_rng(9)))
    client = session.catalogue().client_coded("C1")
    noted = [
        Event(0, client.id, None, "2026-02-04", "2026-02-11", "illness", ""),
        Event(0, client.id + 1, None, "2026-02-18", "", "illness", ""),
        Event(0, None, None, "2026-02-25T07:00", "", "phase", ""),
        Event(0, None, 1, "2026-03-04", "", "battery", ""),
    ]
    days = fixed_days(noted, client)
    told = ["2026-02-04", "2026-02-11", "2026-02-25"]
    assert days == {date.fromisoformat(d).toordinal() for d in told}
    snapshot = finish(session.wide_snapshot_steps(("body_fat_percent",)))
    request = BestEstimateRequest(snapshot, Lens(), "C1", fixed=days)

    def change(since, until):
        ends = (date.fromisoformat(d).toordinal() for d in (since, until))
        return finish(
            replace(request, **dict(zip(("since", "until"), ends, strict=True))).run()
        ).change

    plain = change("2026-02-04", "2026-03-02")  # an event and a scan
    chosen = change("2026-01-20", "2026-03-02")  # the reading of 19 January
    assert (plain.picked, chosen.picked) == (False, True)
    half = [(c.change.interval.high - c.change.interval.low) / c.change.se for c in (plain, chosen)]
    df = plain.change.df
    # of one normal distribution the ratio is that of the two quantiles; tails of a mixture are longer
    assert half[1] / half[0] > 0.95 * largest_difference(0.95, 22 + 1, df) / t_quantile(0.975, df)
    assert plain.mornings == (1.0, 1.0)  # of the week of each date: a morning every two weeks
    assert change("2025-11-01", "2026-03-02").kind == "not enough"
    assert change("2025-12-08", "2026-03-02").kind != "not enough"  # four weeks from a reading
    assert change("2025-12-07", "2026-03-02").kind == "not enough"
    near = change("2026-02-19", "2026-03-09")  # told between the readings of 16 February, 2 March
    assert [date.fromordinal(d).isoformat() for d in (near.since, near.until)] == [
        "2026-02-16",
        "2026-03-02",
    ]


def test_changes_are_told_between_measured_days():
    """The nearest reading before the second day; none where there is one day, or none within four weeks."""
    days = np.array([10, 10, 24, 31, 59, 120])
    for asked, told in (
        ((None, 59), (31, 59)),
        ((None, 120), (59, 120)),
        ((None, 33), (10, 31)),
        ((12, 58), (10, 59)),
        ((10, 9), (10, 10)),
        ((70, 120), (59, 120)),
        ((90, 120), (120, 120)),
        ((30, 149), (120, 120)),
    ):
        assert measured_days(days, *asked) == told, asked
    assert measured_days(days[:2], None, 10) == (10, 10)
    lines = [reading("C1", "2026-02-03T07:00", 20.0), reading("C0", "2026-02-03T07:00", 25.0)]
    lines += [reading("C0", f"2026-02-{d:02}T07:00", 25.0 + d % 3) for d in range(4, 28)]
    session = study_of(lines)
    snapshot = finish(session.wide_snapshot_steps(("body_fat_percent",)))
    alone = finish(BestEstimateRequest(snapshot, Lens(), "C1").run())
    assert (alone.change.change, alone.change.kind, alone.more) == (None, "not enough", None)
    assert "no change computed" in sentences(alone)[0]
    group = finish(GroupRequest(snapshot, Lens()).run())
    assert group_headline(group).endswith(
        "1 with no detectable change, 1 measured on one day only."
    )


def test_a_day_with_a_scan_alone_is_no_morning():
    """Mornings are days with a device; scans are counted apart."""
    lines = squad_lines(np.random.default_rng(5))
    plain = asked(study_of(lines))
    scan = reading("C1", "2026-06-06T08:00", 19.0, name="Scan", kind="reference")
    more = asked(study_of([*lines, scan]))
    assert (more.scans, plain.scans) == (4, 3)
    assert (more.mornings, plain.mornings) == (12, 12)
    assert more.recent == plain.recent == 2
    assert more.change.mornings[1] == plain.change.mornings[1] == 1.0
    assert more.devices == plain.devices == 2
    assert "From 4 scans, 2 other sources, 12 mornings." in basis_words(more)
    parts = [float(x[1].removesuffix(" %")) for x in share_lines(more)]
    assert parts == [pytest.approx(100 * x.share, abs=0.5) for x in more.sources if not x.why]
    unscanned = [x for x in lines if "C2" not in x or "Scan" not in x]
    told = [asked(study_of(unscanned), code).notes for code in ("C1", "C2")]
    assert [[n.code for n in x] for x in told] == [[], ["no_scan_of_client"]]
    assert asked(study_of([x for x in lines if "Scan" not in x])).notes == ()
    scans_alone = asked(study_of([x for x in lines if "Scan" in x]))
    assert scans_alone.scan_sd == pytest.approx(np.sqrt(0.3 * 1.0))  # as beside devices
    assert scans_alone.scan_sd == pytest.approx(plain.scan_sd)


def test_track_on_the_command_line(tmp_path, capsys):
    """The sentence has the numbers of the JSON; a study without a scan says what is missing."""
    session = moving(5, 2)
    session.save_copy(tmp_path / "s.tally")
    given = ["track", str(tmp_path / "s.tally"), "--client", "C1"]
    assert main([*given, "--json"], CLOCK) == 0
    told = json.loads(capsys.readouterr().out)
    assert main(given, CLOCK) == 0
    said = capsys.readouterr().out
    low, high = told["estimate"]["ci"]
    assert f"{told['estimate']['value']:.1f} %" in said
    assert f"(95 % CI {low:.1f} to {high:.1f})" in said
    assert sum(x["share"] for x in told["shares"]) == pytest.approx(1)
    assert told["dates"] == "planned"
    assert {x["instrument"] for x in told["sources"] if x["votes"]} == {"Elm", "Fir", "Oak"}
    assert 0 < told["effective_mornings"]["to"] <= 2
    assert told["verdict"] in ("real", "probable", "none_shown")
    assert main([*given, "--from", "2026-02-09", "--to", "2026-03-30", "--json"], CLOCK) == 0
    apart = json.loads(capsys.readouterr().out)
    assert apart["from"] in ("2026-02-02", "2026-02-16")  # the nearest readings are a week off
    assert apart["measured"]["sources"] >= 1
    assert main([*given, "--from", "2026-02-02", "--to", "2026-03-30"], CLOCK) == 0
    said = capsys.readouterr().out
    assert "2 Feb 2026 to 30 Mar 2026" in said
    assert "holds for any two dates" in said
    moving(3, 2, scan=False).save_copy(tmp_path / "n.tally")
    assert main(["track", str(tmp_path / "n.tally"), "--client", "C1"], CLOCK) == 0
    said = capsys.readouterr().out
    assert said.startswith("C1, body fat: ")
    assert "Without a scan no level is told" in said
    early = ["--from", "2025-01-01", "--to", "2026-03-30", "--json"]
    assert main(["track", str(tmp_path / "n.tally"), "--client", "C1", *early], CLOCK) == 0
    told = json.loads(capsys.readouterr().out)
    assert (told["estimate"], told["verdict"], told["dates"]) == (None, "not_enough", "planned")


def test_what_is_assumed_stands_in_the_documents():
    """Every number that no reading gives is the one that docs/methods names."""
    text = (Path(__file__).parents[2] / "docs" / "methods.md").read_text()
    tried = ", ".join(map(str, TRIED[:-1])) + f" and {TRIED[-1]}"
    sizes = [f"{SIZES[k]:g}" for k in ("pp", "kg", "cm", "mm")]
    ends, costs = study_model.SLOPE_ENDS, next_measurement.USUAL_COSTS
    fat, mass = course_prior("body_fat_percent", 20.0), course_prior("body_mass", 70.0)
    girth, folds = course_prior("girth_waist", 80.0), course_prior("skinfold_triceps", 1.0)
    small, large = turns.SIZES
    for words in (
        f"fewest of {tried} with the devices",
        f"({sizes[0]} pp or kg, {sizes[2]} cm, {sizes[3]} mm without one)",
        f"is real with {100 * next_measurement.POWER:.0f} % power",
        f"kept within {ends[0]:g} and {ends[1]:g}, assumed",
        f"counts for {course_model.OWN_WEIGHT:g} clients (assumed)",
        f"one of {('', 'two', 'three', 'four')[len(fat.wander) - 1]} SDs a week",
        f"one turn {turns.ONE_TURN:g}, two {turns.TWO_TURNS:g}; the trend changes by an SD of"
        f" {small:g} or {large:g} times",
        f"prior {turns.SHIFT:g}, with a turn {turns.SHIFT_AND_TURN:g}; SD of"
        f" {turns.LARGE_SHIFT:g} times",
        f"one or two of {TURNS} days (weekly over the last {turns.WEEKLY} weeks",
        f"on one of {SHIFTS} days",
        f"counts for {source_spreads.USUAL:g} degrees of freedom (assumed)",
        f"at most {study_model.SCAN_DF:g}, as much as a range",
        f"| body fat (pp) | {fat.trend:g} | {fat.wander[0]:g} to {fat.wander[-1]:g} | {fat.day:.1f} |"
        f" {fat.offset:g} | {fat.drift:g} | {fat.response:g} |",
        f"| body mass (kg) | {mass.trend:g} | {mass.wander[0]:g} to {mass.wander[-1]:g} |"
        f" {mass.day:g} | {mass.offset:g} | {mass.drift:g} | {mass.response:g} |",
        f"| girths (cm) | {girth.trend:g} | {girth.wander[0]:g} to {girth.wander[-1]:g} |"
        f" {girth.day:g} | {girth.offset:g} | {girth.drift:g} | {girth.response:g} |",
        f"| skinfolds (of the level) | {100 * folds.trend:g} %",
        f"three visits or more on each side of {study_model.NOON // 3600}:00",
        f"at most {study_model.MOST_CLIENTS} clients",
        f"Minutes: {costs.scan_minutes:g} a scan, {costs.morning_minutes:g} a morning,"
        f" {costs.repeat_minutes:g} each",
    ):
        assert words in text, words
    alike = (
        f"alike from {redundancy.AS_ONE:g} with the interval above {redundancy.SURELY:g}; a ratio"
        f" constant within {100 * redundancy.COMPUTED:g} %"
    )
    assert alike in text
    assert sizes[0] == sizes[1]
    assert "of one day, one, two or four weeks" in text
    assert client_course.STRETCHES == (1, 7, 14, 28)
    assert source_spreads.LEAST_CLIENTS == 4


def test_each_weight_opens_the_readings_of_its_set():
    """The readings of a set are the client's own of that day and source, and have its mean."""
    lines = squad_lines(np.random.default_rng(5), clients=3)
    lines += [x.replace("T07:00", "T07:02").replace(",1,ok", ",2,ok") for x in lines if "Fir" in x]
    session = study_of(lines)
    r = asked(session)
    stored = {x.id: x for x in session.readings()}
    opened = [i for x in r.weighed for i in x.readings]
    assert sorted(opened) == sorted(i for i, x in stored.items() if x.client == "C1")
    for x in r.weighed:
        own = [stored[i] for i in x.readings]
        assert {(o.instrument, o.taken_at[:10]) for o in own} == {
            (x.name, date.fromordinal(x.day).isoformat())
        }
        assert np.mean([o.value for o in own]) == pytest.approx(x.value)
        assert len(own) == x.size
    assert {x.size for x in r.weighed if x.name == "Fir"} == {2}
    heaviest = max(r.weighed, key=lambda x: abs(x.weight))
    text = weight_words(r, 5)
    assert f"{heaviest.value:.1f} %, weight +{100 * heaviest.weight:.1f} %" in text
    sizes = sorted((abs(x.weight) for x in r.weighed), reverse=True)
    rest = 100 * sum(sizes[5:]) / sum(sizes)
    assert text.endswith(f"{len(sizes) - 5} more sets have {rest:.0f} % of all weights.")
    for p in r.points:  # readings of a device lie about the course
        gap = p.value - np.interp(p.day, r.day, r.level)
        assert p.scan or gap.mean() == pytest.approx(0, abs=1e-3)


def test_a_device_that_shows_one_value_every_day_tells_nothing():
    """From three days beside each client's first on; with one day less it may be chance."""
    for days, why in ((3, ""), (4, "no_scatter")):
        lines = squad_lines(np.random.default_rng(5), clients=2)
        for k in range(days):
            stuck = {"name": "Memo", "unit": "percent"}
            lines.append(reading("C1", f"2026-02-{k + 3:02}T09:00", 21.0, **stuck))
            if k == 0:
                lines.append(reading("C0", "2026-02-03T09:00", 18.0, **stuck))
        found = {x.name: x.why for x in asked(study_of(lines)).sources}
        assert found["Memo"] == why, days


@pytest.mark.parametrize("scanned", [True, False])
def test_a_copy_of_a_device_counts_once(scanned):
    """Readings shown again under another name, a constant apart, change nothing, with a scan or without.

    Up to seven days beside the first of each client may be chance.
    """
    lines = squad_lines(np.random.default_rng(5), clients=3)
    if not scanned:
        lines = [x for x in lines if "reference" not in x]
    fir = [x.split(",") for x in lines if ",Fir," in x]
    parts = [(x[0], x[4].replace(":00", ":09"), f"{float(x[9]) + 2:.1f}") for x in fir]
    alone = asked(study_of(lines))
    for used, why in ((3 + 7, ""), (3 + 8, "copy"), (len(parts), "copy")):
        some = sorted(parts, key=lambda x: x[1])[:used]  # the first days of all clients
        again = [reading(*x, name="Echo") for x in some]
        found = asked(study_of(lines + again))
        assert {x.name: x.why for x in found.sources}["Echo"] == why, used
        if why:
            assert found.value.value == pytest.approx(alone.value.value, abs=1e-6)
            assert found.value.se == pytest.approx(alone.value.se, abs=1e-6)
    assert "Echo (repeats the readings of another device)" in left_out_words(found)
    days = sum(x[0] == "C1" for x in parts[6:])
    for more, said in ((3, "Echo"), (4, f"Echo on {days} days")):  # those it has alone count
        own = [
            reading("C1", f"2026-07-{k + 1:02}T07:09", 20 + k % 3, name="Echo") for k in range(more)
        ]
        found = asked(study_of([*lines, *(reading(*x, name="Echo") for x in parts[6:]), *own]))
        assert f"{said} (repeats the readings of another device)" in left_out_words(found)
        counting = {x.name: x.days for x in found.sources if not x.why}
        assert counting.get("Echo") == (more if "on" in said else None)
    once = asked(study_of([*lines, *own]))
    assert found.value == once.value


def test_the_device_that_gives_the_level_of_a_page():
    """Corrected before uncorrected, responding before stuck, then the narrowest at the last day."""

    def series(name, corrected, counts, ends, days=3):
        method = SimpleNamespace(name=name, equation="")
        value = SimpleNamespace(high=np.array(ends), low=np.zeros(len(ends)), day=np.arange(days))
        vars(value).update(instrument=method, corrected=np.array([corrected]), counts=counts)
        return value

    raw, stuck = series("raw", False, True, (0, 0), 9), series("stuck", True, False, (1, 1))
    wide, narrow = series("wide", True, True, (1, 3)), series("narrow", True, True, (9, 2))
    every = (raw, stuck, wide, narrow)
    for k, best in enumerate(("narrow", "wide", "stuck", "raw")):
        assert level_series(SimpleNamespace(series=every[: 4 - k])).instrument.name == best
    assert level_series(SimpleNamespace(series=())) is None


def test_probabilities_of_the_margin_are_rounded_down_to_words():
    """Below 1 % is said as such; a change that is not shown has no such probability."""
    r = asked(study_of(squad_lines(np.random.default_rng(5))))

    def said(p, kind="real"):
        return margin_words(replace(r, change=replace(r.change, exceeds=p, kind=kind)))

    assert said(0.0099) == "Probability that it is more than the margin: below 1 %."
    assert said(0.0101) == "Probability that it is more than the margin: 1 %."
    assert said(0.456, "likely") == "Probability that it is more than the margin: 46 %."
    assert said(0.456, "within noise") == said(None) == ""
