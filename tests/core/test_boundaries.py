"""Bounds of the statistics and of what is read: the value at the bound, and the one beside it."""

import math
from dataclasses import replace
from datetime import date
from itertools import pairwise

import numpy as np
import pytest
from scipy import stats

from anchor_tally.analysis.agreement.agreement import CompareRequest
from anchor_tally.analysis.entry.entry_check import doubt
from anchor_tally.analysis.entry.repeats import judge
from anchor_tally.analysis.offsets.which_device import _days
from anchor_tally.analysis.time.drift import DriftRequest
from anchor_tally.analysis.time.track import TrackRequest
from anchor_tally.domain.lens import Lens
from anchor_tally.domain.metrics import METRICS, metric_named
from anchor_tally.domain.repeats import Rule
from anchor_tally.domain.steps import finish
from anchor_tally.domain.units import ValueRefused, parse_difference, parse_quantity
from anchor_tally.exchange.dates import iso_moment
from anchor_tally.exchange.guessing import _guess_column
from anchor_tally.exchange.readings_csv import HEADER
from anchor_tally.figures import track as track_figure
from anchor_tally.stats.change import smallest_change
from anchor_tally.stats.derived import is_derived
from anchor_tally.stats.difference_forms import without_reference_error
from anchor_tally.stats.distributions import t_estimate
from anchor_tally.stats.estimate import Estimate, Interval
from anchor_tally.stats.limits import single_trend
from anchor_tally.stats.offsets import pooled_from_single
from anchor_tally.stats.one_client import rate_of
from anchor_tally.stats.pair_slopes import passing_bablok
from anchor_tally.stats.repeatability import display_step, repeatability
from anchor_tally.stats.time_slope import TimeSlope
from anchor_tally.stats.trend import reference_error, reference_trend
from anchor_tally.stats.within_clients import detrended, detrended_slope
from anchor_tally.study.edits.imports import ImportReadings
from anchor_tally.study.edits.readings import AddReadings, NewReading
from anchor_tally.wording import drift as drift_words
from anchor_tally.wording.names import axis_name
from anchor_tally.wording.track import track_lines
from places import parse_text, reading, study_of


def test_smallest_change_by_hand():
    """√2·z·√(day²/days + within²/(repeats·days)); ends by MOVER on both variances, worked out apart."""
    day = Estimate(1.0, Interval(0.8, 1.4), 20, "")
    within = Estimate(0.6, Interval(0.5, 0.75), 30, "")
    found = smallest_change(day, within, repeats=2, days=4)
    wd, ww, z = 1 / 4, 1 / 8, stats.norm.ppf(0.975) * math.sqrt(2)
    whole = wd * 1.0**2 + ww * 0.6**2
    below = math.hypot(wd * (1.0**2 - 0.8**2), ww * (0.6**2 - 0.5**2))
    above = math.hypot(wd * (1.4**2 - 1.0**2), ww * (0.75**2 - 0.6**2))
    assert found.value == pytest.approx(z * math.sqrt(whole))
    assert found.interval.low == pytest.approx(z * math.sqrt(whole - below))
    assert found.interval.high == pytest.approx(z * math.sqrt(whole + above))


def test_fewest_values_of_a_statistic():
    """Three degrees of freedom within clients, four points of a line, two of an offset, five of a scan's SD."""
    rng = np.random.default_rng(2)
    x, y = rng.normal(size=(2, 8))
    client, time = np.repeat([0, 1], 4), np.tile(np.arange(4.0), 2)
    assert detrended_slope(x, y, client, time).slope.df == 3
    assert detrended_slope(x[:7], y[:7], client[:7], time[:7]) is None
    spread = detrended(x, client, time)
    whole = float(spread @ spread) / (8 - 2 * 2)
    for share, told in ((0.74, True), (0.76, False)):  # of the spread of x that is error
        found = detrended_slope(x, y, client, time, error=share * whole)
        assert (found is not None) is told
    assert passing_bablok(x[:4], x[:4] + 0.1) is not None
    assert passing_bablok(x[:3], x[:3] + 0.1) is None
    bias = t_estimate(1.0, 0.5, 1, 2, "")
    two = pooled_from_single(np.array([0.5, 1.5]), bias, 0.7)
    half = stats.t.ppf(0.975, 1) * 0.7 * math.sqrt(1.5)
    assert (two.new.low, two.new.high) == pytest.approx((1 - half, 1 + half))
    assert pooled_from_single(np.array([1.0]), bias, 0.7).new is None
    scans, ss = np.array([2] * 5), np.full(5, 0.18)
    assert (reference_error(scans, ss, 0.9).source, reference_error(scans, ss, 0.9).df) == (
        "replicates",
        5,
    )
    assert reference_error(scans[:4], ss[:4], 0.9).source == "stated"


@pytest.mark.parametrize(
    ("values", "step"), [([3, 5, 9], 1), ([0.5, 2], 0.5), ([20.2, 21.4], 0.2), ([3.14, 2.72], 0.02)]
)
def test_display_steps(values, step):
    """The largest step of 1, 2 and 5 times a power of ten of which all values are multiples."""
    assert display_step(np.array(values, dtype=float)) == pytest.approx(step)


def test_repeats_at_the_tolerance():
    """Two folds 1 mm apart agree, 1.005 mm apart do not."""
    fold, rule = METRICS["skinfold_triceps"], Rule(2)
    assert judge(fold, [10.0, 11.0], rule).agree is True
    assert judge(fold, [10.0, 11.005], rule).agree is False


def test_normality_is_that_of_client_means():
    """Shapiro–Wilk of the mean difference of each client, as SciPy has it."""
    rng = np.random.default_rng(8)
    lines, means = [], []
    for c in range(8):
        gaps = []
        for k, day in enumerate(("02", "09", "16")[: 1 + c % 3]):
            scan, gap = 20 + c + k / 10, round(float(rng.normal(2, 1)), 1)
            at = f"2026-03-{day}T06:00:00+00:00"
            lines.append(reading(f"C{c}", at, f"{scan + gap:.1f}"))
            lines.append(reading(f"C{c}", at, f"{scan:.1f}", name="Lab", kind="reference"))
            gaps.append(gap)
        means.append(np.mean(gaps))
    r = finish(CompareRequest(study_of(lines).snapshot(), Lens(), "Fir").run())
    assert r.forms.normality[0] == pytest.approx(stats.shapiro(means).statistic, abs=1e-3)
    assert "settings_pooled" not in {n.code for n in r.pairs.notes}


@pytest.mark.parametrize(
    ("clock", "good"),
    [
        ("06:59", "06:59"),
        ("06:60", ""),
        ("23:59:59", "23:59:59"),
        ("24:00", ""),
        ("1:05 pm", "13:05"),
        ("12:05 am", "00:05"),
        ("12:05 pm", "12:05"),
        ("0:30 am", ""),
        ("13:00 pm", ""),
    ],
)
def test_times_of_day(clock, good):
    """The last minute and hour of a day, the ones after them, and hours of the twelve-hour clock."""
    if good:
        assert iso_moment("2026-03-02", clock, "iso") == f"2026-03-02T{good}"
    else:
        with pytest.raises(ValueError, match="not a time of day"):
            iso_moment("2026-03-02", clock, "iso")


def test_units_of_columns_with_a_role():
    """A height keeps the unit of its header; a code whose header names one does not."""
    assert _guess_column(("Height (in)",), "").unit == "in"
    assert (
        _guess_column(("Athlete (kg)",), "").role,
        _guess_column(("Athlete (kg)",), "").unit,
    ) == ("client", "")


def test_further_steps_and_single_devices_in_words(demo):
    """Two steps are counted as one more; each device has a row of its own."""
    r = finish(DriftRequest(demo.snapshot(), demo.lens, "Birch").run())[0]
    twice = replace(r, steps=(r.steps[0], r.steps[0]))
    assert ", and 1 more step." in drift_words.drift_headline(twice)
    for size, way in ((0.4, "up 0.4"), (-0.4, "down 0.4")):
        step = replace(r.steps[0], size=replace(r.steps[0].size, value=size))
        assert f"step change, {way} pp" in drift_words.drift_headline(replace(r, steps=(step,)))
    t = finish(TrackRequest(demo.snapshot(), demo.lens, "Auk").run())
    assert [x.name for x in track_lines(t) if x.main][:2] == ["Alder (pp)", "Birch (pp)"]


@pytest.mark.parametrize(
    ("metric", "text", "others", "asked"),
    [
        ("girth_neck", "23", (), True),
        ("girth_neck", "34", (), False),
        ("breadth_femur", "6.0", (), True),
        ("breadth_femur", "9.4", (), False),
        ("body_fat_percent", "21", (23.5, 23.0), True),
        ("body_fat_percent", "21.3", (23.5, 23.0), False),
        ("body_fat_percent", "42.4", (46.0, 46.0), False),
        ("body_fat_percent", "42.2", (46.0, 46.0), True),
    ],
)
def test_values_that_are_asked_about(metric, text, others, asked):
    """Outside the range of people, or further from the other repeats than 2 points and 8 % (common practice)."""
    assert (doubt(text, METRICS[metric], others=others) is not None) == asked


@pytest.mark.parametrize(
    ("metric", "text", "last", "instead"),
    [
        ("girth_hip", "149", 104.0, ""),
        ("girth_waist", "68.4", 86.2, "86.4"),
        ("girth_waist", "804", 80.0, "80.4"),
        ("body_mass", "17.2", 71.0, "71.2"),
        ("body_mass", "62.4", 82.0, "82.4"),
        ("body_mass", "182.4", 128.0, "128.4"),
        ("skinfold_thigh", "2.4", 23.0, "2.4 cm"),
        ("skinfold_biceps", "23.4", 2.3, ""),  # a point that was typed is not moved
    ],
)
def test_what_was_meant_is_offered(metric, text, last, instead):
    """Swapped digits, a lost point, a first digit two off, another unit: what comes nearest to the last visit is offered."""
    found = doubt(text, METRICS[metric], last=last)
    assert found is not None
    assert found.instead == instead


def test_a_change_of_setting_is_drawn_at_its_first_reading(demo):
    """The line stands on the day of the first reading under the new setting, with its name."""
    r = finish(TrackRequest(demo.snapshot(), demo.lens, "Auk", instrument="Birch").run())
    labels = {k: s.label for k, s in demo.catalogue().settings.items()}
    known = [
        (date.fromisoformat(x.taken_at[:10]).toordinal(), x.setting)
        for x in demo.readings()
        if (x.client, x.instrument, x.metric) == ("Auk", "Birch", r.metric)
    ]
    first = [b for a, b in pairwise(sorted(known)) if a[1] != b[1]]
    assert len(first) == 1
    assert list(track_figure.info(r, labels).changes) == first


def test_three_visits_show_that_a_value_is_computed():
    """Fat that is 100 − water/0.732 of each reading: found from three visits of a client on, not from two."""
    rng = np.random.default_rng(4)
    water = np.round(rng.uniform(45, 65, 24), 1)
    fat, week = np.round(100 - water / 0.732, 1), np.tile(np.arange(3.0), 8)
    client = np.repeat(np.arange(8), 3)
    assert is_derived(fat, (water,), client, week) is True
    two = week < 2
    assert is_derived(fat[two], (water[two],), client[two], week[two]) is None
    other = fat + rng.normal(0, 2, 24).round(1)
    assert is_derived(other, (water,), client, week) is False
    few = np.concatenate([np.flatnonzero(client < 6), np.flatnonzero((client > 5) & two)])
    again = np.concatenate([few, few[-4:]]), np.append(client[few], [9, 9, 10, 10])
    at = again[0]  # clients of two visits neither help nor harm
    assert is_derived(fat[at], (water[at],), again[1], week[at]) is True
    assert len(axis_name("x" * 28)) == 28
    assert axis_name("x" * 29) == "x" * 27 + "…"


def test_a_slope_without_scatter():
    """Differences exactly on a line, and all alike: p is 0 and 1, whatever the error of the slope."""
    x = np.array([10.0, 15.0, 20.0, 30.0])
    for slope, p in ((0.5, 0.0), (1.0, 0.0), (0.0, 1.0)):
        found = single_trend(2.0 + slope * x, x)
        assert (found.slope.value, found.p) == (pytest.approx(slope, abs=1e-12), p)
    place, none = np.arange(12), reference_error(np.ones(12, dtype=np.int64), np.zeros(12), None)
    scan = 20.0 + 4 * (place // 3) + place % 3
    for slope, p in ((0.5, 0.0), (0.0, 1.0)):
        found = reference_trend(2.0 + slope * scan, scan, np.ones(12), place // 3, place, none)
        for way in (found.within, found.between):
            assert (way.slope.value, way.p) == (pytest.approx(slope, abs=1e-12), p)


@pytest.mark.parametrize(("text", "value"), [("0.005", 0.005), ("2 pp", 2.0), ("0", None)])
def test_differences_that_are_typed(text, value):
    """Any difference above 0 is taken, with its unit or without."""
    if value is None:
        with pytest.raises(ValueRefused, match="above 0"):
            parse_difference(text, METRICS["body_fat_percent"])
    else:
        assert parse_difference(text, METRICS["body_fat_percent"]) == value


def test_baselines_without_a_device_by_hand():
    """Two scans of three clients, each read 1 pp high; the sample mean of a client is that of the other two."""
    scans = {"A": (20, 22), "B": (30, 34), "C": (26, 26)}
    lines = [
        reading(c, f"2026-0{m + 1}-02 07:0{k}", v + k, name=n, kind=kind)
        for c, of in scans.items()
        for m, v in enumerate(of)
        for k, (n, kind) in enumerate((("Scan", "reference"), ("Fir", "device")))
    ]
    null = finish(
        CompareRequest(study_of(lines).snapshot(), Lens(), "Fir").run()
    ).forms.null_devices
    assert null.instrument == pytest.approx(1)
    assert null.last_scan == pytest.approx(math.sqrt((2 * 2**2 + 2 * 4**2) / 6))
    errors = (20 - 29, 22 - 29, 30 - 23.5, 34 - 23.5, 26 - 26.5, 26 - 26.5)
    assert null.sample_mean == pytest.approx(math.sqrt(sum(e**2 for e in errors) / 6))
    assert null.bmi_equation is None
    kg = {"name": "Fir", "metric": "body_mass", "unit": "kg"}
    for months in (2, 1):  # at last the second visits have no mass: half of the scans are enough
        masses = [
            reading(c, f"2026-0{m + 1}-02 07:01", 81.0, **kg) for c in scans for m in range(months)
        ]
        session = study_of([*lines, *masses])
        asked = CompareRequest(
            finish(session.wide_snapshot_steps(("body_fat_percent",))), Lens(), "Fir"
        )
        found = finish(asked.run()).forms.null_devices.bmi_equation
        body = 1.2 * 81 / 1.8**2 + 0.23 * 30 - 10.8 - 5.4  # Deurenberg et al. 1991, a man of 30
        true = [of[m] for of in scans.values() for m in range(months)]
        assert found == pytest.approx(
            math.sqrt(sum((body - v) ** 2 for v in true) / len(true)), abs=0.05
        )


@pytest.mark.parametrize(("minute", "visits"), [("08:59", 1), ("09:00", 2)])
def test_a_visit_ends_two_hours_after_its_last_reading(minute, visits):
    """The same in one table, in a second one, and at the bench."""
    first, second = (reading("A", f"2026-03-02T{at}", 20.0) for at in ("07:00", minute))
    together, apart, typed = study_of([first, second]), study_of([first]), study_of([first])
    rows, _ = parse_text("\n".join([",".join(HEADER), second]) + "\n")
    apart.do(ImportReadings(tuple(rows), "y"))
    new = NewReading("Fir", "device", "body_fat_percent", "20")
    typed.do(AddReadings("A", f"2026-03-02T{minute}", (new,)))
    for session in (together, apart, typed):
        assert len({r.visit for r in session.readings()}) == visits


def test_steps_from_day_to_day_stay_within_a_client_and_a_setting():
    """Squared differences of neighbouring days, worked out reading by reading."""
    rng, lines, wanted = np.random.default_rng(2), [], {}
    for c in range(4):
        for setting in ("", "a"):
            last = None
            for day in range(4):
                value = round(20 + 4 * c + rng.normal(0, 1), 1)
                at = f"2026-03-{day + 2 + (4 if setting else 0):02}T07:00"
                lines.append(reading(f"C{c}", at, value, setting=setting))
                if last is not None:
                    wanted.setdefault(c, []).append((value - last) ** 2)
                last = value
    snapshot = study_of(lines).snapshot()
    item = next(i for i in snapshot.instruments.values() if i.name == "Fir")
    found = _days(snapshot, Lens(), item, np.array(sorted(snapshot.clients)))
    assert found[:, 0] == pytest.approx([sum(wanted[c]) for c in range(4)])
    assert found[:, 1].tolist() == [6, 6, 6, 6]


def test_band_of_a_slope_by_its_variances():
    """Line ± t·√(variance of the level + 2·t·covariance + t²·variance of the slope), at two times."""
    slope = t_estimate(0.1, 0.2, 9, 20, "")
    found = TimeSlope(slope, 0.5, 9.0, 4.0, 2.0, 0.09, -0.01, 0.04)
    line, low, high = found.band(np.array([4.0, 7.0]))
    assert line == pytest.approx([2.0, 2.3])
    half = stats.t.ppf(0.975, 9) * np.sqrt([0.09, 0.09 - 2 * 3 * 0.01 + 9 * 0.04])
    assert low == pytest.approx(line - half)
    assert high == pytest.approx(line + half)


def test_a_rate_needs_its_span_and_a_share_its_scans():
    """Five days within three weeks are no rate, five over three weeks are; the error of two scans is halved in variance."""
    days = np.array([739_000, 739_005, 739_010, 739_015, 739_020])
    value = np.array([20.0, 20.1, 19.9, 20.0, 19.8])
    assert rate_of(days, value) is None
    assert rate_of(np.append(days[:-1], 739_021), value) is not None
    apart = without_reference_error(1.0, 2.0, 1.0, 2.0)
    assert apart.sd == pytest.approx(math.sqrt(4 - 0.5))


def test_three_scans_of_one_client_tell_no_verdict():
    """However close its error stays: nothing tells a slope from a step there."""
    lines = []
    for k, scan in enumerate((20.0, 21.0, 22.0)):
        day = date(2026, 1, 5).toordinal() + 56 * k
        stamp = date.fromordinal(day).isoformat()
        shown = scan + 1 + (0.001, -0.002, 0.001)[k]
        lines.append(reading("A", f"{stamp}T07:00", shown))
        lines.append(reading("A", f"{stamp}T08:00", scan, name="Scan", kind="reference"))
    session = study_of(lines)
    [found] = finish(DriftRequest(session.snapshot(), Lens(), "Fir").run())
    assert (found.search.p, found.verdict) == (None, "not enough anchors")
    session.close()


def test_a_segment_resists_less_than_the_whole_path():
    """From 1 ohm on; the whole body from 50."""
    arm, body = (metric_named(f"resistance_{x}250khz") for x in ("arm_left_", ""))
    assert (arm.low, body.low) == (1.0, 50.0)
    assert parse_quantity("1", arm).value == 1.0
    with pytest.raises(ValueRefused, match="allowed 1 to"):
        parse_quantity("0.9", arm)


def test_a_drift_without_pairs_is_empty():
    """A device that never met a scan: no client, no moment, no verdict."""
    session = study_of([reading("A", "2026-01-05T07:00", 20.0)])
    session.do(
        ImportReadings(
            tuple(
                parse_text(
                    ",".join(HEADER)
                    + "\n"
                    + reading("B", "2026-01-05T07:00", 19.0, name="Scan", kind="reference")
                    + "\n"
                )[0]
            ),
            "x",
        )
    )
    [found] = finish(DriftRequest(session.snapshot(), Lens(), "Fir").run())
    assert [x.size for x in (found.weeks, found.instant, found.client, found.mean)] == [0] * 4
    session.close()


def test_no_correction_by_water_for_a_client_without_water():
    """A device corrects by its own reading of water: offered to those whose water it read."""
    rng, lines = np.random.default_rng(4), []
    for c in range(6):
        for k in range(8):
            stamp = date.fromordinal(date(2026, 1, 5).toordinal() + 28 * k).isoformat()
            wet = rng.normal(0, 1)
            shown = 20 + c - 0.6 * wet + rng.normal(0, 0.3)
            lines.append(reading(f"C{c}", f"{stamp}T07:00", round(shown, 1)))
            if c < 5:
                water = {"metric": "total_body_water_percent"}
                lines.append(reading(f"C{c}", f"{stamp}T07:00", round(55 + wet, 1), **water))
    session = study_of(lines)
    read = ("body_fat_percent", "total_body_water_percent")
    wide = finish(session.wide_snapshot_steps(read))
    offered = [
        finish(TrackRequest(wide, Lens(), code, instrument="Fir").run()).water_offered
        for code in ("C0", "C5")
    ]
    assert offered == [True, False]
    session.close()


def test_relative_spread_of_values_below_one():
    """Percent of the mean is told of any mean above 0, such as a ratio of 0.5."""
    tally, repeat = np.repeat([0, 1, 2], 2), np.tile([1, 2], 3)
    value = np.array([0.50, 0.52, 0.49, 0.51, 0.55, 0.53])
    found = repeatability(tally, value, repeat, tally, tally)
    assert found.cv_percent == pytest.approx(100 * math.sqrt(0.0002) / value.mean())
    assert found.tem_percent == pytest.approx(found.cv_percent)
    assert repeatability(tally, value - 1, repeat, tally, tally).cv_percent is None
