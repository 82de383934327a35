"""What the program claims, on drawn studies with known truths, through whole requests or whole statistics.

The default run draws few of each, with bounds that earlier versions break; ``make slow`` draws
hundreds and prints the rows of the table in docs/methods.
"""

import math

import numpy as np
import pytest
from scipy import stats

from anchor_tally.analysis.agreement.agreement import CompareRequest
from anchor_tally.analysis.agreement.change import ChangeRequest
from anchor_tally.analysis.agreement.hydration import HydrationRequest
from anchor_tally.analysis.agreement.redundancy import RedundancyRequest
from anchor_tally.analysis.agreement.repeatability import RepeatabilityRequest
from anchor_tally.analysis.offsets.calibrate import CalibrateRequest
from anchor_tally.analysis.time.drift import DriftRequest
from anchor_tally.domain.lens import Lens
from anchor_tally.domain.steps import finish
from anchor_tally.stats.change import change
from anchor_tally.stats.repeatability import repeatability
from anchor_tally.stats.shares import clustered_share
from anchor_tally.stats.tails import kurtosis_p
from anchor_tally.study.edits.checks import StateValue
from anchor_tally.wording.drift import drift_headline
from anchor_tally.wording.offsets import calibration_sentence
from anchor_tally.wording.sentences import headline
from anchor_tally.wording.views import change_headline, redundancy_headline, repeatability_headline
from places import drawn_study, reading, study_of


def device(slope=1.0, day=0.8, repeat=0.3, own=0.0):
    """A device that shows ``slope`` of each change, 2 pp high, with day and repeat noise and a spread between clients."""

    def make(rng, true, of_client):
        base = 2 + slope * true + (1 - slope) * 22 + own * of_client + day * rng.standard_normal()
        return lambda: base + repeat * rng.standard_normal()

    return make


def held(interval, truth):
    """Whether an interval holds the truth."""
    return interval.low <= truth <= interval.high


def row(claim, design, n, *found):
    """Print a row of the table: shares in percent with their Monte-Carlo error."""
    error = 100 * math.sqrt(0.05 * 0.95 / n)
    print(
        f"\n| {claim} | {design} | {' | '.join(f'{100 * x:.1f}' for x in found)} | ± {error:.1f} |"
    )


@pytest.mark.parametrize("n", [4, pytest.param(300, marks=pytest.mark.slow)])
@pytest.mark.parametrize(
    ("within", "day", "scan"), [(0.7, 0.3, 0.5), (0.7, 1.2, 0.5), (2.0, 0.8, 0.6), (1.2, 0.5, 0.8)]
)
def test_a_perfect_device_is_never_said_not_to_respond(n, within, day, scan):
    """The scan's error is neither stated nor measured: the slope's interval holds 1, and no view says *too little*."""
    rng = np.random.default_rng(3)
    little = inside = given = level_only = 0
    for _ in range(n):
        snapshot = drawn_study(rng, device(day=day), within=within, scan_sd=scan)
        r = finish(ChangeRequest(snapshot, Lens(), "Fir").run())[0]
        advised = finish(CalibrateRequest(snapshot, Lens()).run())[0]
        little += "too little" in change_headline(r) + calibration_sentence(advised)
        level_only += advised.advice_code == "level_only"
        if r.follows is not None:
            given += 1
            inside += held(r.follows.interval, 1)
    if n > 100:
        design = f"14 × 3 × 3, SD within {within}, day {day}, scan {scan} not stated"
        row("too little, slope held", design, n, little / n, inside / max(given, 1))
    assert little <= max(0.01 * n, 0)
    assert level_only == little
    assert inside >= 0.93 * given - 1


def test_the_stuck_device_is_found_without_the_scans_error():
    """A device that shows nothing of changes of SD 2 is named, whatever the scan's error in its usual range."""
    rng = np.random.default_rng(4)
    for slope, code in ((0.0, "level_only"), (1.0, "level_and_change")):
        studies = [
            drawn_study(rng, device(slope, day=0.4), within=2.0, scan_sd=0.6) for _ in range(6)
        ]
        found = [finish(CalibrateRequest(s, Lens()).run())[0].advice_code for s in studies]
        assert found.count(code) >= 5, (slope, found)


@pytest.mark.parametrize(("apart", "n"), [(1, 12), (84, 12)])
def test_day_to_day_is_of_neighbouring_days(apart, n):
    """Planted 0.8 from day to day: found from mornings, also single ones; visits 12 weeks apart are named as such."""
    rng, inside = np.random.default_rng(5), 0
    for k in range(n):
        repeats = 1 + 2 * (k % 2)
        lines = []
        for c in range(8):
            level = rng.uniform(15, 30)
            for visit in range(9):
                true = level + (1.5 * rng.standard_normal() if apart > 7 else 0.0)
                shown = true + 0.8 * rng.standard_normal()
                at = np.datetime64("2026-01-05") + visit * apart
                lines += [
                    reading(
                        f"C{c}",
                        f"{at}T07:0{i}",
                        f"{shown + 0.3 * rng.standard_normal():.2f}",
                        repeat=i + 1,
                    )
                    for i in range(repeats)
                ]
        r = finish(RepeatabilityRequest(study_of(lines).snapshot(), Lens(), "Fir").run())[0]
        if apart > 7:
            assert r.found.day is None
            assert r.found.single_day is None
            assert repeats == 1 or "about 12 weeks apart: SD" in repeatability_headline(r)
        else:
            inside += held(r.found.day.interval, 0.8 if repeats > 1 else math.hypot(0.8, 0.3))
    assert apart > 7 or inside >= n - 2


@pytest.mark.parametrize("n", [12, pytest.param(300, marks=pytest.mark.slow)])
def test_lines_and_shares_of_repeats(n):
    """Repeats of linear studies: *may not be linear* is rare; Theil–Sen and shares cover; no percentile limits."""
    rng = np.random.default_rng(6)
    odd = sen = share = 0
    sd = math.sqrt(1.3**2 + 0.8**2 + 0.3**2 + 0.4**2)
    for _ in range(n):
        forms = finish(CompareRequest(drawn_study(rng, device(own=1.3)), Lens(), "Fir").run()).forms
        odd += any(x.code == "not_a_line" for x in forms.notes)
        sen += held(forms.theil_sen.interval, 1)
        bound, found = forms.near[0]
        p = stats.norm.cdf((bound + 0.05 - 2) / sd) - stats.norm.cdf((-bound - 0.05 - 2) / sd)
        share += held(found.interval, p)
        assert forms.percentiles is None
    if n > 100:
        row("not linear, Theil–Sen, share", "14 × 3 × 3", n, odd / n, sen / n, share / n)
    assert odd <= max(1, 0.06 * n)
    assert min(sen, share) >= 0.92 * n - 1


@pytest.mark.parametrize("n", [80, pytest.param(1000, marks=pytest.mark.slow)])
@pytest.mark.parametrize(("tail", "least"), [("normal", 0.92), ("t4", 0.86)])
def test_spreads_of_change_and_repeats(n, tail, least):
    """14 clients, 3 scans, 3 repeats: bias, SD and correlation of changes, SD of repeats and ICC are covered, and not in all."""
    rng, hits = np.random.default_rng(7), np.zeros(5)
    c, o = 14, 3
    client, tally = np.repeat(np.arange(c), o), np.repeat(np.arange(c * o), 3)

    def draw(shape, sd):
        return sd * (
            rng.standard_normal(shape)
            if tail == "normal"
            else rng.standard_t(4, shape) / math.sqrt(2)
        )

    for _ in range(n):
        true = 22 + 5 * rng.standard_normal((c, 1)) + 1.2 * rng.standard_normal((c, o))
        x, y = true + draw((c, o), 0.4), true + draw((c, o), 0.8) + rng.standard_normal((c, 1))
        dx, dy = np.diff(x).ravel(), np.diff(y).ravel()
        r = change(dx, dy, np.repeat(np.arange(c), o - 1), 0.0)
        rho = 1.44 / math.sqrt((1.44 + 0.16) * (1.44 + 0.64))
        f = repeatability(
            tally,
            (y.ravel()[:, None] + draw((c * o, 3), 0.6)).ravel(),
            np.tile([1, 2, 3], c * o),
            np.repeat(client, 3),
            tally,
        )
        total = 25 + 1.44 + 1 + 0.64
        hits += [
            held(r.bias.interval, 0),
            held(r.sd.interval, math.sqrt(2 * (0.16 + 0.64))),
            held(r.correlation.interval, rho),
            held(f.sd.interval, 0.6),
            held(f.icc.one.interval, total / (total + 0.36)),
        ]
    share = hits / n
    if n > 500:
        row("bias, SD, r of changes; SD of repeats, ICC", f"14 × 3 × 3, {tail}", n, *share)
    assert share.min() >= least - 2 * math.sqrt(0.05 * 0.95 / n), share
    assert share[0] <= 0.98  # 99.5 % when a client's changes counted as independent


def test_shares_of_clients_and_tails():
    """One pair a client is Wilson's interval; alike pairs count clients; tails as in SciPy's kurtosis test."""
    hit = np.array([1.0, 1, 0, 1, 1, 0, 1, 1])
    single = stats.binomtest(6, 8).proportion_ci(method="wilson")
    found = clustered_share(hit, np.arange(8)).interval
    assert (found.low, found.high) == pytest.approx((single.low, single.high))
    twice = clustered_share(np.repeat(hit, 4), np.repeat(np.arange(8), 4)).interval
    assert twice.high - twice.low > found.high - found.low
    x = np.random.default_rng(1).standard_t(4, 60)
    assert kurtosis_p(x) == pytest.approx(stats.kurtosistest(x, alternative="greater").pvalue)
    assert kurtosis_p(x[:19]) is None


def paired(rng, kind, *, loss=0.0, alike=0.0, noise=0.0, slope=-0.8, repeats=1):
    """Fat and water of 8 clients on 14 mornings; ``alike`` is the correlation of neighbouring days."""
    lines = []
    for c in range(8):
        level, off, wet, own = rng.uniform(20, 30), rng.normal(0, 1), 0.0, 0.0
        for visit in range(14):
            fat = level - loss * visit / 13
            fresh = math.sqrt(1 - alike**2)
            wet = alike * wet + fresh * 0.8 * rng.standard_normal()
            own = alike * own + fresh * 0.6 * rng.standard_normal()
            at = np.datetime64("2026-01-05") + 3 * visit
            for k in range(repeats):
                if kind == "computed":
                    shown = round(fat + off + own + 0.2 * rng.standard_normal(), 1)
                    water = (100 - shown) * 0.73
                else:
                    shown = fat + off + slope * wet + own
                    water = (100 - fat) * 0.73 + wet + noise * rng.standard_normal()
                for metric, value in (
                    ("body_fat_percent", shown),
                    ("total_body_water_percent", water),
                ):
                    lines.append(
                        reading(
                            f"C{c}", f"{at}T07:0{k}", f"{value:.1f}", metric=metric, repeat=k + 1
                        )
                    )
    metrics = ("body_fat_percent", "total_body_water_percent")
    return finish(study_of(lines).wide_snapshot_steps(metrics))


@pytest.mark.parametrize("n", [8, pytest.param(200, marks=pytest.mark.slow)])
@pytest.mark.parametrize(
    ("design", "derived", "truth"),
    [
        ({"kind": "measured", "loss": 8.0}, False, -0.8),
        ({"kind": "computed", "loss": 3.0}, True, None),
        ({"kind": "measured", "alike": 0.8, "slope": 0.0}, False, 0.0),
        ({"kind": "measured", "noise": 0.4, "repeats": 3}, False, -0.8),
    ],
)
def test_fat_and_water(n, design, derived, truth):
    """Measured water is never said to come from fat, computed water always; the slope holds the truth through alike days and noise."""
    rng = np.random.default_rng(8)
    found = [finish(HydrationRequest(paired(rng, **design), Lens()).run())[0] for _ in range(n)]
    circular = sum(r.circular for r in found)
    assert circular == (n if derived else 0)
    if truth is None:
        return
    inside = sum(held(r.slope.slope.interval, truth) for r in found)
    if n > 100:
        row("computed, slope held", str(design), n, circular / n, inside / n)
    assert inside >= 0.92 * n - 1
    assert np.mean([r.slope.slope.value for r in found]) == pytest.approx(truth, abs=0.08)


def test_devices_that_behave_alike():
    """Twins with noise of their own are found; independent devices are not, though clients truly vary by SD 2.5."""
    rng = np.random.default_rng(9)
    for twins, vary, count in ((True, 1.0, 3), (False, 2.5, 4)):
        lines = []
        for c in range(8):
            level, own = rng.uniform(15, 30), rng.normal(0, 1.3, count)
            for visit in range(10):
                true = level + vary * rng.standard_normal()
                day = (0.8 if twins else 0.3) * rng.standard_normal(count)
                day[1] = day[0] if twins else day[1]
                at = np.datetime64("2026-01-05") + 7 * visit
                lines += [
                    reading(
                        f"C{c}",
                        f"{at}T07:0{k}",
                        f"{true + own[i] + day[i] + 0.4 * rng.standard_normal():.2f}",
                        name=name,
                        repeat=k + 1,
                    )
                    for i, name in enumerate(("Ash", "Elm", "Fir", "Oak")[:count])
                    for k in range(3)
                ]
        r = finish(RedundancyRequest(study_of(lines).snapshot(), Lens()).run())
        assert [(a.first, a.second) for a in r.alike] == ([("Ash", "Elm")] if twins else [])
        assert ("a shared formula" in redundancy_headline(r)) is twins


def test_limits_at_three_levels_where_the_error_grows():
    """An error of 0.3 per pp is told at three levels, in which new people lie about as often as said; without one, at one."""
    rng = np.random.default_rng(10)
    new = np.random.default_rng(11)
    true = 22 + math.hypot(5, 1.2) * new.standard_normal(20_000)
    scan = true + 0.4 * new.standard_normal(true.size)
    shown = (
        2 + true + 0.3 * (true - 22) + math.sqrt(1 + 0.64 + 0.09) * new.standard_normal(true.size)
    )
    d, level = shown - scan, (shown + scan) / 2
    given, share, inside = 0, [], []
    for _ in range(10):
        r = finish(CompareRequest(drawn_study(rng, device(1.3, own=1.0)), Lens(), "Fir").run())
        given += len(r.by_level) == 3
        assert not r.by_level or "depends on the level. For one person:" in headline(r)
        for x in r.by_level:
            # limits of all people at this level: conditional mean ± 1.96 conditional SD of a large draw
            near = np.abs(level - x.level) < 0.5
            if near.sum() > 1000:
                middle, spread = d[near].mean(), 1.96 * d[near].std()
                inside += [
                    abs(x.lower - middle + spread) <= x.error,
                    abs(x.upper - middle - spread) <= x.error,
                ]
        for x in r.by_level:
            near = np.abs(level - x.level) < 0.5
            if near.sum() > 200:
                share.append(((d >= x.lower) & (d <= x.upper))[near].mean())
    assert given >= 9
    assert np.mean(share) >= 0.9
    assert np.mean(inside) >= 0.85
    even = [
        finish(CompareRequest(drawn_study(rng, device(own=1.0)), Lens(), "Fir").run())
        for _ in range(10)
    ]
    assert sum(len(r.by_level) > 0 for r in even) <= 2


def lost_together(rng, shown=1.0, per_week=-0.2, drift=0.0, step=0.0):
    """A study of 14 clients with scans at about 0, 12 and 24 weeks who change alike; the scan's SD 0.4 is stated."""
    lines = []
    for c in range(14):
        level, pace, own = rng.uniform(18, 32), rng.normal(per_week, 0.06), rng.normal(0, 1.3)
        for planned in (0, 12, 24):
            week = planned + int(rng.integers(0, 3))
            true = level + pace * week + 0.5 * rng.standard_normal()
            base = 2 + level + shown * (true - level) + own + drift * week + step * (week > 13)
            base += 0.8 * rng.standard_normal()
            at = np.datetime64("2026-01-05") + 7 * week
            lines += [
                reading(
                    f"C{c:02}",
                    f"{at}T07:0{k}",
                    f"{base + 0.3 * rng.standard_normal():.2f}",
                    repeat=k + 1,
                )
                for k in range(3)
            ]
            scan = true + 0.4 * rng.standard_normal()
            lines.append(
                reading(f"C{c:02}", f"{at}T07:30", f"{scan:.2f}", name="Scan", kind="reference")
            )
    session = study_of(lines)
    session.do(StateValue("body_fat_percent", "reference_sd", 0.4))
    session.do(StateValue("body_fat_percent", "margin", 3.5))
    return session.snapshot()


@pytest.mark.parametrize("n", [3, pytest.param(200, marks=pytest.mark.slow)])
def test_clients_who_change_together_are_no_drift(n):
    """A stable device that shows 80 % of a loss neither drifts nor steps, in Drift as in Calibrate; a true drift is found."""
    rng, told = np.random.default_rng(12), {}
    for design, most, least in (
        ({"shown": 0.8}, 0.1, 0.0),
        ({}, 0.08, 0.0),
        ({"per_week": 0.0, "drift": 0.12}, 1.0, 0.9),
    ):
        found = [lost_together(rng, **design) for _ in range(n)]
        drifts = [finish(DriftRequest(s, Lens(), "Fir").run())[0] for s in found]
        said = sum(r.not_following is None and r.verdict in ("drifting", "stepped") for r in drifts)
        advised = [finish(CalibrateRequest(s, Lens(), "Fir").run())[0] for s in found]
        calibrate = sum("drifts" in calibration_sentence(r) for r in advised)
        told[str(design)] = said / n, calibrate / n
        assert least * n <= said <= most * n + 1, told
        assert calibrate <= (most + 0.1) * n + 1, told
    if n > 100:
        for design, shares in told.items():
            row("drift or step: Drift, Calibrate", design, n, *shares)


@pytest.mark.slow
def test_a_step_is_not_called_a_drift():
    """A step of 1.5 pp is named a step, or said not to be told from a drift; a drift is never named a step."""
    rng, n = np.random.default_rng(13), 24
    words = {}
    for name, design in (("step", {"step": 1.5}), ("drift", {"drift": 0.12})):
        found = [lost_together(rng, per_week=0.0, **design) for _ in range(n)]
        said = [drift_headline(finish(DriftRequest(s, Lens(), "Fir").run())[0]) for s in found]
        words[name] = {
            "step": sum("step change" in w for w in said),
            "drift": sum("Fir drifts" in w for w in said),
            "either": sum("cannot be told apart" in w for w in said),
        }
    assert words["step"]["drift"] <= 2, words  # of 24 it was 5
    assert words["drift"]["step"] == 0, words
    assert words["step"]["step"] + words["step"]["either"] >= n - 3, words
    assert words["drift"]["drift"] >= 0.75 * n, words
