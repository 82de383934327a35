"""Every statistic of small drawn data of many shapes: few clients, ties, constants, lines, large values."""

import math

import numpy as np

from anchor_tally.stats.agreement import agreement, equivalence
from anchor_tally.stats.best_estimate import Observations
from anchor_tally.stats.calibration_line import leave_out_line, line_fit, may_be_a_line, offset_at
from anchor_tally.stats.change import change, sign_concordance, smallest_change
from anchor_tally.stats.claims import left_by_correlation
from anchor_tally.stats.client_course import (
    Sets,
    course_of,
    disagreements,
    independent_mornings,
    sds_after,
    sds_as_they_come,
)
from anchor_tally.stats.components import fit_nested
from anchor_tally.stats.control_chart import control_chart, limit_of
from anchor_tally.stats.day_steps import day_steps
from anchor_tally.stats.derived import is_derived
from anchor_tally.stats.difference_forms import (
    percentile_limits,
    ratio_limits,
    shapiro_wilk,
    sloping_limits,
    without_reference_error,
)
from anchor_tally.stats.distributions import (
    binomial_tail,
    chi2_quantile,
    largest_difference,
    noncentral_t_quantile,
    t_estimate,
    t_interval,
    t_quantile,
    t_two_sided_p,
)
from anchor_tally.stats.intraclass import intraclass, intraclass_of_clients
from anchor_tally.stats.jackknife import of_correlation, of_positive
from anchor_tally.stats.limits import approximate_limits, single_bias, single_limits, single_trend
from anchor_tally.stats.measurement_error import digit_preference, technical_error
from anchor_tally.stats.offsets import (
    client_offsets,
    day_to_day,
    pooled_from_grid,
    pooled_from_single,
    pooled_from_stated,
)
from anchor_tally.stats.one_client import around, noise_of, rate_of, verdict, week_means
from anchor_tally.stats.pair_slopes import inversions, passing_bablok, theil_sen
from anchor_tally.stats.planning import (
    Design,
    Spreads,
    bias_error,
    chance_to_see,
    expected,
    mean_of_mornings,
    mornings_to_see,
    power_of_drift,
    power_of_equivalence,
    smallest_real_change,
)
from anchor_tally.stats.ranking import rank
from anchor_tally.stats.regression import deming, least_squares
from anchor_tally.stats.repeatability import display_step, repeatability, sd_interval
from anchor_tally.stats.repeated import repeated_bias, repeated_limits, repeated_trend
from anchor_tally.stats.shares import clustered_share, wilson
from anchor_tally.stats.source_spreads import Sources, estimate_levels, spreads_of
from anchor_tally.stats.steps import find_steps
from anchor_tally.stats.tails import kurtosis_p
from anchor_tally.stats.tallies import far_off, robust_sd, within
from anchor_tally.stats.time_slope import (
    moments_apart,
    robust_slope,
    rounds_needed,
    slope_beside,
    slope_on_time,
    straight_line,
    summary_slopes,
)
from anchor_tally.stats.trend import client_means, reference_error, reference_trend
from anchor_tally.stats.validation import Foretold, cross_validate, gain, other_scans
from anchor_tally.stats.variance_grid import leave_out, occasion_means, variance_grid
from anchor_tally.stats.within_clients import (
    detrended,
    detrended_slope,
    repeated_correlation,
    shared_correlation,
)
from answers import plain

SEEDS = range(36)


class Drawn:
    """Readings of a device beside a scan, in the order of client, occasion and repeat.

    The seed also says how many clients there are, whether values are rounded or large, follow the
    reference, drift, step, or are all the same.
    """

    def __init__(self, seed):
        rng = self.rng = np.random.default_rng(1000 + seed)
        self.seed, clients, most = seed, (1, 2, 3, 4, 5, 8, 12)[seed % 7], 1 + seed % 5
        per = rng.integers(1, most + 1, clients) if seed % 3 else np.full(clients, most)
        per[0] = most
        client = np.repeat(np.arange(clients), per)  # of each occasion
        occasions = client.size
        first = np.r_[0, np.cumsum(per)[:-1]]
        self.weeks = (np.arange(occasions) - first[client]) * (4.0 if seed % 2 else 6.5) + (
            rng.integers(0, 3, occasions) / 7
        )
        level = 15 + 3.0 * np.arange(clients) + (500 if seed % 11 == 10 else 0)
        scan = level[client] - 0.05 * self.weeks + rng.normal(0, 0.5, occasions)
        shape = (0.0, 0.15, -0.3)[seed % 3]
        own = rng.normal(0, 1.2, clients)[client]
        error = (
            1.5 + own + shape * (scan - scan.mean()) + (0.06 * self.weeks if seed % 4 == 3 else 0)
        )
        error = error + (2.0 * (self.weeks > 9) if seed % 5 == 4 else 0)
        repeats = rng.integers(1, 4, occasions) if seed % 4 else np.ones(occasions, dtype=int)
        self.occasion = np.repeat(np.arange(occasions), repeats)
        self.client, self.week = client[self.occasion], self.weeks[self.occasion]
        noise = rng.normal(0, 0.6, self.occasion.size) * (0 if seed in (17, 23) else 1)
        digits = (1, 1, 0, 3)[seed % 4]
        self.x = np.round(scan, 1)[self.occasion]
        self.y = np.round((scan + error)[self.occasion] + noise, digits)
        if seed == 17:  # the same everywhere
            self.y = self.x + 2.0
        self.replicate = (
            np.arange(self.occasion.size) - np.searchsorted(self.occasion, self.occasion) + 1
        )
        self.d, self.day = self.y - self.x, np.round(7 * self.week).astype(np.int64)
        self.means = occasion_means(self.d, self.client, self.occasion)
        self.own, self.scan = client, np.round(scan, 1)


def _told(ask):
    """What a function answers, or the kind of its refusal."""
    try:
        return plain(ask())
    except (ValueError, ZeroDivisionError, np.linalg.LinAlgError, RuntimeWarning) as error:
        return f"{type(error).__name__}: {error}"


def statistics(seed):
    """Everything that is computed of the data of a seed, by name."""
    x = Drawn(seed)
    parts = (_agreement, _slopes, _components, _offsets, _change, _levels, _plan, _repeats)
    return {k: _told(ask) for part in parts for k, ask in part(x)}


def _agreement(x):
    d, c, m = x.d, x.client, x.means
    yield "agreement", lambda: agreement(x.x, x.y, c)
    for margin in (0.5, 2.0):
        yield f"equivalence {margin}", lambda e=margin: equivalence(d.mean(), 0.3, 4 + x.seed, e)
    yield "bias", lambda: single_bias(d)
    yield "limits", lambda: [single_limits(d), single_limits(d, 0.9), approximate_limits(d)]
    yield "trend", lambda: single_trend(d, (x.x + x.y) / 2)
    yield "ratio", lambda: ratio_limits(x.x, x.y, c, x.occasion)
    yield "sloping", lambda: _sloping(sloping_limits(d, (x.x + x.y) / 2, c), x)
    yield "percentiles", lambda: percentile_limits(d, c, draws=60)
    yield "normal", lambda: [shapiro_wilk(d), kurtosis_p(d - d.mean())]
    yield "without", lambda: without_reference_error(d.mean(), float(d.std()), 0.4, 1 + x.seed % 3)
    yield "line", lambda: [least_squares(x.x, x.y), least_squares(m.mean, m.size)]
    yield "deming", lambda: [deming(x.x, x.y, c, r) for r in (0.5, 1.0, 2.0)]
    yield "ranks", lambda: [passing_bablok(x.x, x.y), theil_sen(x.x, x.y), theil_sen(x.week, d)]
    if x.seed % 6 == 0:
        yield "ranks of many", lambda: _ranks(np.random.default_rng(x.seed), 610 + 80 * x.seed)
    yield "inversions", lambda: inversions(np.argsort(x.y, kind="stable"))
    yield "intraclass", lambda: intraclass_of_clients(np.column_stack([x.x, x.y]), c)
    yield "intraclass of rows", lambda: intraclass(np.column_stack([x.x, x.y, x.y + x.replicate]))
    yield "error", lambda: technical_error(x.occasion, x.y)
    yield "digits", lambda: digit_preference(np.round(10 * x.y).astype(np.int64) % 10)
    yield "share", lambda: [clustered_share((d > 1).astype(float), c), wilson(x.seed, 36)]
    yield "left", lambda: left_by_correlation(0.5 + x.seed / 80, 3.0)
    if x.own[-1] > 0:
        yield "jackknife", lambda: _jackknife(x)
    sums = np.stack([np.abs(d) * k for k in (1.0, 1.3, 0.8)], axis=1)[:, :, None]
    sums = np.concatenate([sums, np.ones_like(sums)], axis=2)
    yield "rank", lambda: rank(np.add.reduceat(sums, np.flatnonzero(np.r_[True, np.diff(c) > 0])))


def _ranks(rng, n):
    """Lines through more points than of which all slopes are written down, with ties."""
    x = np.round(rng.normal(20, 3, n), n // 80 % 2)
    y = np.round(0.8 * x + rng.normal(0, 2, n), n // 80 % 2)
    return [passing_bablok(x, y), theil_sen(x, y), theil_sen(np.arange(n) / 7, y)]


def _sloping(found, x):
    ends = np.array([x.x.min(), x.x.max()])
    return found and [found, found.even(), found.error(ends), found.at(ends)]


def _jackknife(x):
    left = np.array([x.d[x.client != k].std() for k in np.unique(x.client)])
    r = np.tanh(left - left.mean())
    return [of_positive(float(x.d.std()), left, 0.95), of_correlation(0.4, r, 0.9)]


def _slopes(x):
    d, c, o, m = x.d, x.client, x.occasion, x.means
    beside = (x.week > 9).astype(float)[:, None]
    yield "moments", lambda: moments_apart(x.weeks)
    yield "slope", lambda: slope_on_time(d, c, o, x.week)
    yield "slope beside", lambda: slope_on_time(d, c, o, x.week, beside)
    yield "slope along", lambda: slope_beside(d, c, o, x.x)
    yield "robust", lambda: [robust_slope(m.mean, x.own, x.weeks), straight_line(m.mean, x.weeks)]
    yield (
        "summary",
        lambda: [
            summary_slopes(m.mean, x.own, x.weeks),
            summary_slopes(m.mean, x.own, x.weeks, 2),
            summary_slopes(m.mean, x.own, x.weeks, 3, x.own % 2),
        ],
    )
    yield (
        "rounds",
        lambda: [rounds_needed(1.0, 1 + x.seed % 5, 3, 8.0, b) for b in (0.01, 0.02, 0.05, 0.2)],
    )
    yield "steps", lambda: [find_steps(m, x.weeks, d, c, o, k, resamples=40) for k in ((), (9.0,))]
    yield "centred", lambda: [detrended(x.y, c, x.week), repeated_correlation(x.x, x.y, c)]
    scan = x.x + x.replicate / 10
    yield (
        "shared",
        lambda: [
            shared_correlation(scan, x.y, c, x.week, course, noise)
            for course in (None, x.week**2)
            for noise in ((0.0, 0.0), (0.1, 0.05))
        ],
    )
    yield (
        "within",
        lambda: [
            detrended_slope(scan, x.y, c, x.week),
            detrended_slope(scan, x.y, o % 4, x.week, people=c, error=0.02),
            detrended_slope(scan, x.y, o % 4, x.week, people=c, error=5.0),
        ],
    )
    yield (
        "derived",
        lambda: [
            is_derived(x.y, (2 * x.y + 1,), c, x.week),
            is_derived(x.y, (x.x, x.week), c, x.week),
        ],
    )
    yield "two", lambda: [robust_sd(o, d), far_off(o, d), far_off(o, d, 1.0), within(o, d)]


def _components(x):
    d, c, o, m = x.d, x.client, x.occasion, x.means
    columns = np.column_stack([np.ones(d.size), x.week])
    for name, fit in (("fit", fit_nested(d, c, o)), ("fit beside", _fit(d, c, o, columns))):
        yield name, lambda f=fit: f
        if fit is not None:
            yield f"{name} total", lambda f=fit: [f.total_variance, f.levels_apart]
    fit, grid = fit_nested(d, c, o), variance_grid(m)
    yield "means", lambda: [m, leave_out(grid) if grid else None]
    yield "grid", lambda: grid and [grid.beta, grid.residual, grid.spread, grid.client_means]
    if fit is not None:
        bias = repeated_bias(fit)[0]
        yield "repeated bias", lambda: repeated_bias(fit)
        yield (
            "repeated limits",
            lambda: [
                repeated_limits(fit, bias, g, d, c, share, of=n)
                for g in (grid, None)
                for share, n in ((0.95, 1), (0.9, 3))
            ],
        )
        yield "offsets", lambda: [client_offsets(fit, grid), pooled_from_stated(fit, bias, 1.5)]
        yield "pooled", lambda: [pooled_from_grid(grid, bias) if grid else None]
        yield "chart", lambda: _chart(control_chart(m, x.weeks, fit))
    yield "single pooled", lambda: pooled_from_single(d, single_bias(d)[0], float(d.std()))
    yield "repeated trend", lambda: repeated_trend(d, (x.x + x.y) / 2, c, o)
    yield "limit", lambda: limit_of(1 + x.seed)


def _fit(d, c, o, columns):
    return fit_nested(d, c, o, columns) if d.size > 3 else None


def _chart(chart):
    return chart and [chart, chart.signals]


def _offsets(x):
    d, c, o, m = x.d, x.client, x.occasion, x.means
    scans = 1 + (o % 2)
    first = np.flatnonzero(np.r_[True, np.diff(o) > 0])
    for stated in (None, 0.6):
        ss = np.where(scans[first] > 1, 0.3, 0.0)
        error = reference_error(scans[first], ss, stated, (0.3, 0.9))
        yield f"error {stated}", lambda e=error: e
        yield f"trend {stated}", lambda e=error: reference_trend(d, x.x, scans, c, o, e)
    error = reference_error(scans[first], np.zeros(first.size), 0.5)
    means = _or_none(lambda: client_means(d, x.x, scans, c, o, error))
    trend = _or_none(lambda: reference_trend(d, x.x, scans, c, o, error))
    gamma = trend.between.slope if trend is not None and trend.between is not None else None
    yield "client means", lambda: means
    yield "may be", lambda: may_be_a_line(x.scan[m.starts], gamma)
    if means is not None and gamma is not None:
        fit = line_fit(d, x.y, c, o, means, gamma)
        yield "line of all", lambda: fit
        yield "left out", lambda: leave_out_line(m, x.scan, m.mean, means)
        if fit is not None:
            yield "at", lambda: [offset_at(fit.line, v) for v in (10.0, 20.0, 40.0)]
    last, others = other_scans(x.scan, x.own, x.weeks)
    yield "other scans", lambda: [last, others]
    yield "gain", lambda: gain((x.scan - last) ** 2, (x.scan - others) ** 2, x.own)
    told = {"pooled": Foretold(np.full(m.mean.size, 1.4), np.full(m.mean.size, 2.0))}
    told["client"] = Foretold(m.mean.mean() + (m.mean - m.mean.mean()) / 2, None)
    for some in (("pooled",), ("pooled", "client")):
        yield (
            f"judged {len(some)}",
            lambda s=some: cross_validate(
                m.mean,
                x.scan,
                x.own,
                x.weeks,
                {k: told[k] for k in s},
                x.scan + 1 if len(s) > 1 else None,
            ),
        )


def _or_none(ask):
    try:
        return ask()
    except (ValueError, ZeroDivisionError, np.linalg.LinAlgError):
        return None


def _change(x):
    after = np.flatnonzero(np.diff(x.own) == 0)
    dx, dy = np.diff(x.scan)[after], np.diff(x.scan + x.means.mean)[after]
    own = x.own[after]
    yield "change", lambda: [change(dx, dy, own, z, r) for z in (0.0, 0.5) for r in (1.0, 0.5)]
    yield "signs", lambda: sign_concordance(dx, dy, own, 0.3)
    day = np.arange(40) // (1 + x.seed % 3) * (1 + x.seed % 2)
    value = np.round(20 - day * 0.02 + x.rng.normal(0, 0.5, 40), 1)
    if x.seed % 9 == 8:
        value[:] = 20.0
    level = (day > 20).astype(np.int64)
    yield "days", lambda: [day_to_day(value, level, day, n) for n in (1, 2, 9)]
    noise = noise_of(day, value)
    yield "noise", lambda: [noise, noise_of(day[:9], value[:9]), noise_of(day, value, level)]
    yield "weeks", lambda: [week_means(day, value, n) for n in (noise, None)]
    yield "around", lambda: [around(day, at) for at in (-3, 0, 13, 60)]
    if noise is not None:
        for target in (None, -0.5, 0.5):
            yield (
                f"verdict {target}",
                lambda t=target: verdict(
                    value[:6], value[-5:], noise, t, (0.1, 0.04) if x.seed % 2 else (0.0, 0.0)
                ),
            )
    yield (
        "rate",
        lambda: [rate_of(day, value), rate_of(day[:7], value[:7]), rate_of(day, value, 3, 5)],
    )
    shown = t_estimate(0.5, 0.1, 6 + x.seed, 12, "made up")
    yield (
        "smallest",
        lambda: [
            smallest_change(shown, w, r, n) for w in (shown, None) for r in (1, 3) for n in (1, 7)
        ],
    )


def _levels(x):
    rng, rows = np.random.default_rng(x.seed), []
    clients, sources = (1, 3, 4, 6)[x.seed % 4], (2, 3, 3, 4)[x.seed % 4]
    device = np.array([-1, 0, 1, 1])[:sources] if x.seed % 5 else np.array([0, 1, 1, 2])[:sources]
    for c in range(clients):
        for day in np.sort(rng.choice(90, 14, replace=False)):
            for s in range(sources):
                if rng.random() < (0.25 if device[s] < 0 else 0.8):
                    value = 20 + 2 * c - 0.02 * day + s + rng.normal(0, 0.7)
                    rows.append((c, int(day), s, round(value, 1), int(rng.integers(1, 4))))
    data = Observations(*(np.array(v) for v in zip(*rows, strict=True)))
    told_by = -1 if x.seed % 5 else 0
    slope, morning = np.ones(sources), device >= (0 if x.seed % 3 else 1)
    step, within = np.full(sources, 0.1), np.where(device >= 0, 0.3, 0.0)
    known = Sources(device, slope, morning, 0.4, step, 1.0 + (x.seed % 2) / 2, told_by)
    spreads, gap = spreads_of(data, known, within)
    yield "spreads", lambda: [spreads, gap]
    last = np.full(clients, 89, dtype=np.int64)
    found = estimate_levels(data, spreads, gap, last - 60, last, last, 45)
    yield "levels", lambda: [found.levels, found.model.weight, found.model.common]
    model, days = found.model, np.array([5, 40, 89])
    yield "course", lambda: _course(course_of(data, model, 0, days, 2))
    yield "disagreements", lambda: [disagreements(data, model, c, 0.3) for c in range(clients)]
    mine = data.client == 0
    have = Sets(data.day[mine], data.source[mine], data.size[mine])
    more = Sets(np.array([95, 96]), np.array([0, sources - 1]), np.array([1, 2]))
    contrast = np.array([0.0, -1.0, 1.0])
    yield "after", lambda: sds_after(model, have, [more], days, contrast)
    asked = np.stack([np.r_[5, 40, 96], np.r_[5, 40, 97]])
    yield (
        "as they come",
        lambda: sds_as_they_come(model, have, more, np.array([0, 1]), asked, contrast),
    )
    yield "mornings", lambda: [independent_mornings(data.day[mine], r) for r in (0.0, 0.4)]


def _course(course):
    return [course, course.sd, course.change(0, 2)]


def _plan(x):
    s = Spreads(1.2, 0.4 * (x.seed % 3), 0.5 + 0.1 * (x.seed % 4), 0.3 * (x.seed % 5))
    design = Design(2 + x.seed % 11, 1 + x.seed % 4, 1 + x.seed % 3, 1 + x.seed % 2)
    yield "expected", lambda: expected(s, design, points=(5, 3))
    yield "bias of plan", lambda: bias_error(s, design)
    yield (
        "power",
        lambda: [
            power_of_equivalence(0.1 * (1 + x.seed), df, 1.0, b)
            for df in (3, 30)
            for b in (0.0, 0.6)
        ],
    )
    weeks = np.arange(design.scans) * 8.0
    yield "power of drift", lambda: [power_of_drift(s, design, weeks, b) for b in (0.0, 0.02, 0.1)]
    yield "mean", lambda: [mean_of_mornings(s, n, 2, r) for n in (1, 3, 7) for r in (0.0, 0.5)]
    yield "real", lambda: [smallest_real_change(s, n, 1, 0.3) for n in (1, 4)]
    yield "chance", lambda: [chance_to_see(c, 0.5) for c in (0.0, 0.4, -2.0)]
    yield "to see", lambda: [mornings_to_see(c, s, 2, 0.2) for c in (-3.0, 0.6, 1.5, 0.01)]
    p, df = 0.01 + x.seed / 37, (0.7, 1.0, 2.0, 3.5, 11.0, 400.0, 1e11)[x.seed % 7]
    yield "quantiles", lambda: [t_quantile(p, df), chi2_quantile(p, df), t_two_sided_p(1.7, df)]
    yield "noncentral", lambda: [noncentral_t_quantile(p, df, n) for n in (0.0, 1.5, 6.0)]
    yield "largest", lambda: largest_difference(0.2 + p / 2, 2 + x.seed % 4, max(df, 2.0))
    yield "tail", lambda: [binomial_tail(k, 9, p) for k in (0, 4, 9)]
    yield "interval", lambda: [t_interval(1.0, 0.3, df), sd_interval(1.0, df)]


def _repeats(x):
    series = 2 * x.client + (x.occasion % 2 if x.seed % 2 else 0)
    for near in (1.0, 7.0, 60.0):
        yield (
            f"repeats {near}",
            lambda n=near: repeatability(
                x.occasion, x.y, x.replicate, series, x.day, near_days=n, client=x.client
            ),
        )
    yield "steps of days", lambda: _steps(day_steps(x.y, series, x.day), x)
    yield "shown", lambda: [display_step(v) for v in (x.y, x.x, np.round(x.y), math.pi * x.y)]


def _steps(found, x):
    return [found, found.variance()] if callable(getattr(found, "variance", None)) else found
