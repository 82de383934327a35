"""The best estimate: its filter against brute force and statsmodels, its rates by simulation, and the demo's truth."""

import json
from dataclasses import replace
from datetime import date, timedelta
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pytest
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
from anchor_tally.analysis.time.study_model import StudyModelRequest
from anchor_tally.analysis.time.track import level_series
from anchor_tally.app.demo import demo_session
from anchor_tally.cli.main import main
from anchor_tally.domain.events import Event
from anchor_tally.domain.lens import Lens
from anchor_tally.domain.steps import finish
from anchor_tally.scenario.squad import CLIENTS, WEEKS
from anchor_tally.stats import client_course, source_spreads
from anchor_tally.stats.best_estimate import Observations, Spreads, filter_clients
from anchor_tally.stats.client_course import (
    Model,
    Sets,
    course_of,
    disagreements,
    independent_mornings,
    sds_after,
    sds_as_they_come,
)
from anchor_tally.stats.distributions import largest_difference, t_quantile
from anchor_tally.stats.source_spreads import Sources, estimate_levels, spreads_of
from anchor_tally.study.edits.clients import PutClient
from anchor_tally.wording.best_estimate import (
    basis_words,
    left_out_words,
    margin_words,
    more_words,
    sentences,
    share_lines,
    weight_words,
)
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
    drift=np.array([0.02, 0.05]),
    device=np.array([-1, 0, 1, 1]),
    shares_morning=np.array([False, True, True, True]),
    morning=0.4,
    correlation=0.5,
)


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
    return Observations(*columns)


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
    since, until, now = 20, 80, 125
    days = dict.fromkeys(range(3), (since, until, now))
    mean, v, cross, level = joint(o, s, days)
    other = replace(s, level=0.3, trend=0.05, morning=0.2)  # courses do not mix
    asked = [np.full(3, d) for d in (since, until, now)]
    (common, levels), _ = filter_clients(o, [s, other], *asked, 0)
    expected = multivariate_normal(mean, v).logpdf(o.value)
    assert common.log_likelihood == pytest.approx(expected, rel=1e-9)
    weight = np.linalg.solve(v, o.value - mean)
    for c in range(3):
        k = np.array([cross[c, d] for d in days[c]])
        prior = np.array([[level(c, a, b) for b in days[c]] for a in days[c]])
        value, after = s.middle + k @ weight, prior - k @ np.linalg.solve(v, k.T)
        g = np.array([-1.0, 1.0, 0.0])
        assert levels.value[c] == pytest.approx(value[2], abs=1e-7)
        assert levels.value_sd[c] == pytest.approx(np.sqrt(after[2, 2]), abs=1e-7)
        assert levels.change[c] == pytest.approx(g @ value, abs=1e-7)
        assert levels.change_sd[c] == pytest.approx(np.sqrt(g @ after @ g), abs=1e-7)
        model = Model((s,), (common,), np.ones(1), 0)
        course = course_of(o, model, c, np.array(days[c]), 2)
        assert course.level == pytest.approx(value, abs=1e-7)
        assert course.covariance == pytest.approx(after, abs=1e-7)


def test_one_source_is_a_local_linear_trend():
    """With scans alone filter and course are those of statsmodels on a daily grid with gaps."""
    rng = np.random.default_rng(1)
    day = np.sort(rng.choice(100, 25, replace=False))
    day[0] = 0
    value = 20 + np.cumsum(rng.normal(0, 0.4, day.size))
    o = Observations(*(np.zeros(25, dtype=int), day, np.zeros(25, dtype=int)), value, np.ones(25))
    s = replace(
        SPREADS,
        **{k: getattr(SPREADS, k)[:1] for k in ("offset", "repeat", "slope", "shares_morning")},
        device=np.array([-1]),
        day=np.zeros(0),
        drift=np.zeros(0),
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
    ((common, levels),) = filter_clients(o, [s], *(np.array([d]) for d in (10, 60, 99)), 0)
    course = course_of(o, Model((s,), (common,), np.ones(1), 0), 0, days, 99)
    assert course.trend == pytest.approx(found.smoothed_state[1, 99], abs=1e-7)
    assert course.trend_sd**2 == pytest.approx(found.smoothed_state_cov[1, 1, 99], abs=1e-9)
    assert common.log_likelihood == pytest.approx(found.llf, abs=1e-6)
    assert course.level == pytest.approx(found.smoothed_state[0], abs=1e-7)
    assert np.diag(course.covariance) == pytest.approx(found.smoothed_state_cov[0, 0], abs=1e-7)
    assert levels.value[0] == pytest.approx(found.smoothed_state[0, 99], abs=1e-7)


def test_largest_difference_is_the_studentized_range():
    """Against SciPy, and 5.01 of the table of Harter 1960 (Ann Math Stat 31:1122; 10 means, 20 df)."""
    assert largest_difference(0.95, 10, 20) * np.sqrt(2) == pytest.approx(5.01, abs=0.005)
    for p, k, df in ((0.95, 2, 10), (0.8, 27, 26), (0.95, 60, 4), (0.95, 27, np.inf)):
        expected = studentized_range.ppf(p, k, df) / np.sqrt(2)
        assert largest_difference(p, k, df) == pytest.approx(expected, rel=1e-4)


@pytest.mark.parametrize("seed", range(2))
def test_what_further_readings_would_tell(seed):
    """The SD is the one that the course has once the readings are there, whatever they show."""
    rng = np.random.default_rng(seed)
    o = drawn(rng, 3, 8)
    ((common, _),) = filter_clients(o, [SPREADS], *(np.full(3, d) for d in (20, 80, 125)), 0)
    model = Model((SPREADS,), (common,), np.ones(1), 0)
    own = o.client == 1
    more = Sets(np.arange(126, 131), np.array([1, 1, 0, 2, 3]), np.array([1, 3, 1, 2, 1]))
    days, g = np.array([40, 130]), np.array([-1.0, 1.0])
    have, none = Sets(o.day[own], o.source[own], o.size[own]), Sets(*np.empty((3, 0), dtype=int))
    before, sd = sds_after(model, have, [none, more], days, g)
    courses = (SPREADS, replace(SPREADS, level=0.4))
    several = Model(courses, (common, common), np.array([0.3, 0.7]), 0)
    taken, ends = np.array([0, 3, 5, 1]), np.array([130, 128, 130, 131])
    asked_for = np.column_stack([np.full(4, 40), ends])
    nested = sds_as_they_come(several, have, more, taken, asked_for, g)
    for k in range(4):
        some = Sets(more.day[: taken[k]], more.source[: taken[k]], more.size[: taken[k]])
        alone = sds_after(several, have, [more, some], asked_for[k], g)[1]
        assert nested[k] == pytest.approx(alone, rel=1e-9)
    assert sds_as_they_come(model, have, more, np.zeros(1, dtype=int), days[None], g) == (
        pytest.approx(before, rel=1e-9)
    )
    parts = (np.full(5, 1), more.day, more.source, rng.normal(20, 3, 5), more.size)
    columns = zip((o.client, o.day, o.source, o.value, o.size), parts, strict=True)
    after = Observations(*(np.concatenate(pair) for pair in columns))
    order = np.lexsort((after.day, after.client))
    after = Observations(
        *(getattr(after, k)[order] for k in ("client", "day", "source", "value", "size"))
    )
    assert sd == pytest.approx(course_of(after, model, 1, days, 1).change(0, 1)[1], rel=1e-9)
    day = np.sort(rng.choice(60, 12, replace=False))
    dense = np.linalg.inv(0.6 ** np.abs(day[:, None] - day[None, :])).sum()
    assert independent_mornings(day, 0.6) == pytest.approx(dense)
    assert independent_mornings(day, 0.0) == 12


def test_a_source_that_disagrees_is_named_with_its_days():
    """Two weeks of one device 4 too high are found, with nobody else; an outlier of a scan too."""
    rng = np.random.default_rng(4)
    o, _ = squad(rng)
    numbers = np.array([-1, 0, 1, 2, 3])
    sources = Sources(numbers, np.ones(5), numbers >= 0, 0.5, np.zeros(5))

    def named(data):
        s, gap = spreads_of(data, sources, np.where(numbers >= 0, 0.3, 0.0))
        last = np.full(14, int(data.day.max()))
        model = estimate_levels(data, s, gap, last, last, last, 90).model
        found = [(c, d) for c in range(14) for d in disagreements(data, model, c)[0]]
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
    return Observations(*columns), np.array(truth)


def test_many_clients_leave_out_the_same_courses_as_all(monkeypatch):
    """Courses that 20 of 45 clients make unlikely would have changed nobody's level."""
    o, _ = squad(np.random.default_rng(8), clients=45, devices=2, weeks=8)
    numbers, last = np.array([-1, 0, 1]), np.full(45, 56)
    sources = Sources(numbers, np.ones(3), numbers >= 0, 0.5, np.zeros(3))
    s, gap = spreads_of(o, sources, np.where(numbers >= 0, 0.3, 0.0))
    part = estimate_levels(o, s, gap, last - 28, last, last, 28)
    monkeypatch.setattr(source_spreads, "FIRST_CLIENTS", 100)
    whole = estimate_levels(o, s, gap, last - 28, last, last, 28)
    assert len(part.model.tried) <= len(whole.model.tried) < 12
    assert part.levels.value == pytest.approx(whole.levels.value, abs=0.01)
    assert part.levels.change_sd == pytest.approx(whole.levels.change_sd, rel=0.02)


def rates(n, seed, **design):
    """Coverage of value and change, false or true *real*, and errors beside the previous scan."""
    rng, out = np.random.default_rng(seed), []
    for _ in range(n):
        o, truth = squad(rng, **design)
        devices = design.get("devices", 4)
        numbers = np.array([-1, *range(devices)])
        sources = Sources(numbers, np.ones(devices + 1), numbers >= 0, 0.5, np.zeros(devices + 1))
        s, gap = spreads_of(o, sources, np.where(numbers >= 0, 0.3, 0.0))
        last, c = int(o.day.max()), truth.shape[0]
        asked = (np.full(c, last - 28), np.full(c, last), np.full(c, last))
        levels = estimate_levels(o, s, gap, *asked, last // 2).levels
        scanned = np.unique(o.client[o.source == 0]).size
        wide = t_quantile(0.975, 2 * max(scanned - 1, 1))
        moved = truth[:, last] - truth[:, last - 28]
        scan = [o.value[(o.client == k) & (o.source == 0)] for k in range(c)]
        before = np.array([x[-1] if x.size else np.nan for x in scan])
        out.append(
            (
                np.abs(levels.value - truth[:, last]) <= wide * levels.value_sd,
                np.abs(levels.change - moved) <= wide * levels.change_sd,
                np.abs(levels.change) > wide * levels.change_sd,
                (levels.value - truth[:, last]) ** 2,
                (before - truth[:, last]) ** 2,
            )
        )
    value, change, real, own, scan = (np.concatenate(x) for x in zip(*out, strict=True))
    errors = float(np.sqrt(own.mean())), float(np.sqrt(np.nanmean(scan)))
    return value.mean(), change.mean(), real.mean(), *errors


def of_sources(o, numbers):
    """Readings of some sources, which are numbered anew."""
    at = np.isin(o.source, numbers)
    columns = [getattr(o, k)[at] for k in ("client", "day", "source", "value", "size")]
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
    sources = Sources(numbers, np.ones(6), numbers >= 0, 0.5, np.zeros(6))
    s, gap = spreads_of(o, sources, np.where(numbers >= 0, 0.3, 0.0))
    assert s.day[1:] == pytest.approx(0.8, abs=0.06)
    assert 0.78 < s.day[0] < 0.92  # what is common to a setting is taken for its level
    assert s.correlation == pytest.approx(0.6, abs=0.05)
    assert s.morning == pytest.approx(0.4, abs=0.04)
    assert gap == pytest.approx(1 / 7)
    assert s.offset[1:5].mean() == pytest.approx(1.5, abs=0.2)
    assert s.offset[5] == pytest.approx(np.hypot(1.5, 1.0), abs=0.35)
    assert (s.repeat[0], s.repeat[1]) == (0.5, pytest.approx(0.3))
    alone = Sources(np.array([-1, 0]), np.ones(2), np.array([False, True]), 0.5, np.zeros(2))
    one, _ = spreads_of(of_sources(o, np.array([0, 2])), alone, np.array([0.0, 0.3]))
    assert one.day == pytest.approx(np.hypot(0.8, 0.4), abs=0.05)  # mornings count as its own
    assert one.morning == 0
    wide = replace(alone, scale=2.0, step=np.array([0.0, 1.2]))
    few, _ = spreads_of(of_sources(o, np.array([0, 2])), wide, np.array([0.0, 0.3]))
    assert few.start_trend == pytest.approx(2 * one.start_trend)
    assert few.repeat[1] == pytest.approx(np.hypot(0.3, 1.2 / np.sqrt(12)))


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
    )
    numbers = np.array([-1, 0])
    sources = Sources(numbers, np.array([1.0, 0.8]), numbers >= 0, 0.5, np.zeros(2))
    s, _ = spreads_of(o, sources, np.array([0.0, 0.4]))
    noise = s.day[0] ** 2 + 0.4**2 / 2 + (0.8 * 0.5) ** 2
    expected = np.sqrt((own.var(ddof=1) - noise) * 6 / 4)
    assert s.offset[1] == pytest.approx(expected)
    assert (s.offset[0], s.morning) == (0.0, 0.0)


def test_it_is_closer_than_the_previous_scan_and_says_how_close():
    """The main design: a quarter less error than the previous scan, and intervals that hold."""
    value, change, _, own, scan = rates(8, 1)
    assert own < 0.75 * scan
    assert value > 0.9
    assert change > 0.95


@pytest.mark.parametrize("correlation", [0.0, 0.8])
def test_nobody_changes_and_nothing_real_is_told(correlation):
    """Days that are alike are no trend: three mornings a week, nobody changes."""
    real = rates(2, 2, gap=2, correlation=correlation, pace=(0, 0), clients=8)[2]
    assert real <= 0.05


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
    assert "No fat number is shown of 1 client" in under(group)
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
    have = Sets(m.data.day[mine], m.data.source[mine], m.data.size[mine])
    day = int(m.last[own]) + np.arange(1, n + 1)
    more = Sets(np.tile(day, 2), np.repeat([1, 2], n), np.ones(2 * n, dtype=int))
    days, g = np.array([since, day[-1]]), np.array([-1.0, 1.0])
    none = Sets(*(np.empty(0, dtype=int) for _ in range(3)))
    before, after = sds_after(m.model, have, [none, more], days, g)
    error = 1 / np.sqrt(after**-2 - before**-2)
    weight = before**2 / (before**2 + error**2)
    for change, size in ((-0.4, 1.0), (0.3, 0.6)):
        true, limit = np.copysign(size, change), t_quantile(0.975, m.df) * after
        mean = change + weight * (true - change)
        expected = norm.sf((limit - np.sign(true) * mean) / (weight * error))
        (power,), (half,) = power_after(m, own, since, size, change, np.array([n]))
        assert power == pytest.approx(expected, rel=1e-6)
        assert half == pytest.approx(limit)
    found = more_mornings(m, own, since, 1.6, -0.1)
    powers = dict(
        zip(TRIED, power_after(m, own, since, 1.6, -0.1, np.array(TRIED))[0], strict=True)
    )
    assert powers[found.mornings] >= 0.8
    fewer = [k for k in TRIED if k < found.mornings]
    assert fewer
    assert max(powers[k] for k in fewer) < 0.8
    assert more_mornings(m, own, since, 0.05, -0.1).mornings is None
    r = finish(BestEstimateRequest(snapshot, Lens(), "C2").run())
    half = (r.change.change.interval.high - r.change.change.interval.low) / 2
    wide = MoreMornings(half + abs(r.change.change.value) + 0.1, 3, 0.5)
    assert more_words(replace(r, more=wide)).startswith(f"A change of {wide.size:.1f} pp or more")
    near = replace(wide, size=wide.size - 0.2)
    assert more_words(replace(r, more=near)).startswith("3 more mornings would show")


def test_what_a_caution_forbids_is_not_measured_next():
    """No impedance and no scan in pregnancy; the others are ranked by what they narrow."""
    session = study_of(squad_lines(np.random.default_rng(8)))
    plain = asked(session).ahead
    assert plain.candidates[0].name == "Scan"
    assert {c.name: c.mornings for c in plain.candidates} == {"Scan": 0, "Fir": 7, "Elm": 7}
    assert {c.name: c.minutes for c in plain.candidates} == {"Scan": 30, "Fir": 35, "Elm": 35}
    halves = [c.half for c in plain.candidates]
    assert halves == sorted(halves)
    assert halves[-1] < plain.waiting
    client = session.catalogue().client_coded("C1")
    session.do(PutClient(replace(client, sex="female", cautions=frozenset({"pregnant"}))))
    assert asked(session).ahead.candidates == ()


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
    assert near.goal.latest - near.goal.earliest < 200
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
    chosen = change("2026-02-05", "2026-03-02")
    assert (plain.picked, chosen.picked) == (False, True)
    half = [(c.change.interval.high - c.change.interval.low) / c.change.se for c in (plain, chosen)]
    df = plain.change.df
    assert half == pytest.approx(
        [2 * t_quantile(0.975, df), 2 * largest_difference(0.95, 22 + 1, df)], rel=1e-6
    )
    assert plain.mornings == (1.0, 1.0)  # of the week of each date: a morning every two weeks
    assert change("2025-11-01", "2026-03-02").kind == "not enough"
    assert change("2025-12-08", "2026-03-02").kind != "not enough"  # four weeks from a reading
    assert change("2025-12-07", "2026-03-02").kind == "not enough"
    near = change("2026-02-19", "2026-03-09")  # three days after a reading, a week after one
    assert near.mornings == (1.0, 0.0)
    assert change("2026-02-20", "2026-03-09").mornings == (0.0, 0.0)  # four days after


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
    apart = json.loads(capsys.readouterr().out)["effective_mornings"]
    assert apart["from"] == 0 < apart["to"]  # the nearest reading is a week off
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
    assert (told["estimate"], told["verdict"], told["dates"]) == (None, "not_enough", "picked")


def test_what_is_assumed_stands_in_the_documents():
    """Every number that no reading gives is the one that docs/methods names."""
    text = (Path(__file__).parents[2] / "docs" / "methods.md").read_text()
    tried = ", ".join(map(str, TRIED[:-1])) + f" and {TRIED[-1]}"
    scales = (study_model.SCALES[k] for k in ("kg", "cm", "mm"))
    sizes = [f"{SIZES[k]:g}" for k in ("pp", "kg", "cm", "mm")]
    shrunk, trend = study_model.SLOPES, source_spreads.START_TREND
    ends = study_model.SLOPE_ENDS
    courses = len(source_spreads.LEVELS) * len(source_spreads.TRENDS)
    costs = next_measurement.USUAL_COSTS
    for words in (
        f"fewest of {tried} with the devices",
        f"({sizes[0]} pp or kg, {sizes[2]} cm, {sizes[3]} mm without one)",
        f"is real with {100 * next_measurement.POWER:.0f} % power",
        "times {:g}, {:g} and {:g} (assumed)".format(*scales),
        f"(SD of slopes between devices {shrunk:g}, kept within {ends[0]:g} and {ends[1]:g}, assumed)",
        f"the trend is 0 ± {trend:g} a week (SD, assumed)",
        f"0 ± {source_spreads.DRIFT:g} a week (SD, assumed)",
        f"{source_spreads.OFFSET:g} below four clients (assumed)",
        f"{courses} combinations of how much",
        f"at least {source_spreads.LEVELS[0]:g} a week (assumed)",
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
