"""Verdicts on one client through the whole request: how often they hold on drawn squads with known changes, and their cautions."""

import json
from datetime import date, timedelta
from types import SimpleNamespace

import numpy as np
import pytest
from scipy import stats

from anchor_tally.analysis.agreement.change import ChangeRequest
from anchor_tally.analysis.agreement.repeatability import RepeatabilityRequest
from anchor_tally.analysis.offsets.calibrate import CalibrateRequest
from anchor_tally.analysis.offsets.which_device import WhichDeviceRequest
from anchor_tally.analysis.pairs.comparator import CannotCompare
from anchor_tally.analysis.time.drift import DriftRequest
from anchor_tally.analysis.time.group_levels import GroupRequest
from anchor_tally.analysis.time.shared_inputs import measured_inputs, sharing
from anchor_tally.analysis.time.track import TrackRequest
from anchor_tally.cli.main import main
from anchor_tally.domain.lens import Lens
from anchor_tally.domain.records import Instrument
from anchor_tally.domain.steps import finish
from anchor_tally.exchange.track_json import VERDICTS
from anchor_tally.figures import best_course
from anchor_tally.stats.change import change
from anchor_tally.wording import summary
from anchor_tally.wording import track as words
from anchor_tally.wording.best_estimate import KINDS, bench_words
from anchor_tally.wording.drift import drift_headline
from anchor_tally.wording.group_levels import row as group_row
from anchor_tally.wording.offsets import calibration_sentence
from anchor_tally.wording.views import change_headline
from places import reading, study_of

START = date(2026, 1, 5)
FAT = "body_fat_percent"
BESIDE = ("body_fat_percent", "body_mass", "girth_waist")


def squad(rng, *, clients=10, weeks=24, moved=0.0, shared=0.5):
    """A study: scans at weeks 0, 12 and 24, two mornings a week of two devices.

    Every second client changes by 0.1 a week.

    Days differ by SD 0.7 a device and by ``shared`` in both (water); ``moved`` a week is the
    second device's own drift.
    """
    lines = []
    for c in range(clients):
        level, own = rng.uniform(16, 28), rng.normal(0, 1.5, 2)
        slope = -0.1 if c % 2 else 0.0
        for day in sorted({d for w in range(0, 7 * weeks + 1, 7) for d in (w, w + 3)}):
            true, wet, at = (
                level + slope * day / 7,
                rng.normal(0, shared),
                START + timedelta(days=day),
            )
            for k, name in enumerate(("Fir", "Elm")):
                shown = true + own[k] + wet + rng.normal(0, 0.7) + k * moved * day / 7
                lines.append(reading(f"C{c}", f"{at}T07:0{k}", round(shown, 1), name=name))
            if day % 84 == 0:
                lines.append(
                    reading(
                        f"C{c}",
                        f"{at}T08:00",
                        round(true + rng.normal(0, 0.4), 1),
                        name="Scan",
                        kind="reference",
                    )
                )
    return study_of(lines)


def rates(n, seed, **design):
    """Of ``n`` squads, percent: *real* of clients who did not change, by all together.

    Found of those who did; coverage of the change.
    """
    rng = np.random.default_rng(seed)
    false, found, held, alone, odd = [], [], [], [], []
    for _ in range(n):
        snapshot = squad(rng, **design).snapshot()
        for c in range(10):
            r = finish(
                TrackRequest(
                    snapshot, Lens(), f"C{c}", until=(START + timedelta(days=168)).toordinal()
                ).run()
            )
            true, v = -2.4 if c % 2 else 0.0, r.best.change
            (found if c % 2 else false).append(v.kind == "real")
            odd.append(bool(r.best.odd))
            held.append(v.change.interval.low <= true <= v.change.interval.high)
            alone += [
                d.verdict.change.interval.low <= true <= d.verdict.change.interval.high
                for d in r.devices
            ]
    return SimpleNamespace(
        **{
            k: 100 * float(np.mean(v))
            for k, v in locals().items()
            if k in ("false", "found", "held", "alone", "odd")
        }
    )


def test_changes_told_are_changes():
    """Four squads: *real* of few who did not change, of most who did."""
    r = rates(4, 3)
    assert r.false <= 12.5
    assert r.found >= 60
    assert r.held >= 90


@pytest.mark.slow
@pytest.mark.parametrize("design", [{}, {"shared": 1.0}, {"moved": 0.04}])
def test_rates_of_verdicts(design):
    """200 squads a design; prints a line of the table in methods."""
    r = rates(200, 4, **design)
    row = (r.false, r.found, r.held, r.alone, r.odd)
    print(f"\n| {design} | {' | '.join(f'{x:.1f}' for x in row)} |")
    assert r.false <= 6
    assert r.odd <= 3 or design.get("moved")
    assert r.held >= 94
    assert r.alone >= 93


def test_one_source_has_one_vote():
    """An equation of body mass and a device that shows one value have none; equations that share skinfolds count once; without a scan there is one device."""
    rng, lines = np.random.default_rng(8), []
    for c in range(4):
        for day in range(0, 60, 2):
            at = START + timedelta(days=day)
            values = (
                ("Scale", "body_mass", 80 - 0.05 * day + rng.normal(0, 0.3), "kg"),
                ("Fir", "body_fat_percent", 24 - 0.03 * day + rng.normal(0, 0.4), "percent"),
                ("Elm", "body_fat_percent", 25.0, "percent"),
            )
            lines += [
                reading(f"C{c}", f"{at}T07:00", f"{v:.2f}", name=name, metric=metric, unit=unit)
                for name, metric, v, unit in values
            ]
            if day % 28 == 0:
                scan = f"{22 - 0.03 * day + rng.normal(0, 0.3):.1f}"
                lines.append(reading(f"C{c}", f"{at}T08:00", scan, name="Scan", kind="reference"))
    snapshot = finish(study_of(lines).wide_snapshot_steps(BESIDE))
    best = finish(TrackRequest(snapshot, Lens(), "C0").run()).best
    why = {x.name: x.why for x in best.sources}
    assert (why["Fir"], why["Elm"]) == ("", "no_scatter")
    assert {w for n, w in why.items() if n.startswith("BMI")} == {"formula"}
    ids = (
        "jackson_pollock_1978_3",
        "jackson_pollock_1978_7",
        "rfm_woolcott_bergman_2018",
        "siri_1961",
    )
    methods = [Instrument(k, key, "method", equation=key) for k, key in enumerate(ids)]
    groups = sharing([(measured_inputs(i), i.id) for i in methods])
    assert sorted(map(sorted, groups)) == [[0, 1], [2], [3]]
    silent = [line for line in lines if line.split(",")[6] != "reference"]
    snapshot = finish(study_of(silent).wide_snapshot_steps(BESIDE))
    r = finish(TrackRequest(snapshot, Lens(), "C0", instrument="Fir").run())
    assert words.track_headline(r).startswith("C0, body fat: real change, −1.")  # and no level
    assert words.alone_headline(r).startswith("C0, body fat, Fir alone: ")
    assert "level of Fir" in best_course.info(r, r.best).label


def test_cautions_say_how_sure_they_are():
    """A mass that falls 1.4 % a week, with the interval of a straight line (scipy).

    A device that does not follow, with its slope's.
    """
    rng, lines = np.random.default_rng(6), []
    for c in range(6):
        for k, day in enumerate(range(0, 43, 3)):
            at, mass = START + timedelta(days=day), 80 - 0.16 * day + rng.normal(0, 0.3)
            true = 25 + (-1) ** c * 0.1 * day + rng.normal(0, 0.2)
            lines.append(
                reading(f"C{c}", f"{at}T07:00", f"{mass:.2f}", metric="body_mass", unit="kg")
            )
            lines.append(reading(f"C{c}", f"{at}T07:00", f"{22 + c + rng.normal(0, 0.1):.2f}"))
            if k % 7 == 0:
                lines.append(
                    reading(
                        f"C{c}", f"{at}T08:00", f"{true + c:.2f}", name="Scan", kind="reference"
                    )
                )
    session = study_of(lines)
    r = finish(TrackRequest(finish(session.wide_snapshot_steps(BESIDE)), Lens(), "C2").run())
    mass = session.snapshot("body_mass").columns["body_mass"]
    own = mass.client == r.client.id
    fit = stats.linregress(mass.day[own] / 7, mass.value[own])
    half = stats.t.ppf(0.975, own.sum() - 2) * fit.stderr
    low, high = (100 * (-fit.slope + s * half) / mass.value[own].mean() for s in (-1, 1))
    assert (
        f"body mass falls by {-100 * fit.slope / mass.value[own].mean():.1f} % a week"
        f" (95 % ci {low:.1f} to {high:.1f})" in words.caution_words(r).lower()
    )
    slope = finish(CalibrateRequest(session.snapshot(), Lens(), "Fir").run())[0].within_slope
    ends = f"(95 % CI {slope.interval.low:.2f} to {slope.interval.high:.2f})"
    said = f"Fir shows only {slope.value:.2f} of each unit of a client's change {ends}"
    assert said in words.track_notes(r).replace("−", "-")


def told_to_refer(rng, n, days, weekly, rho, sd=0.5):
    """Percent of ``n`` clients told to stop and refer, and percent told that or to weigh again.

    Day-to-day SD ``sd`` in kg with correlation ``rho`` from day to day; ``weekly`` is the fall in
    percent a week.
    """
    lines = []
    for c in range(n):
        noise = [rng.normal(0, sd)]
        for _ in range(days[-1]):
            noise.append(rho * noise[-1] + rng.normal(0, sd * np.sqrt(1 - rho**2)))
        for day in days:
            at, mass = START + timedelta(days=day), 80 * (1 - weekly / 700 * day) + noise[day]
            lines.append(
                reading(f"C{c}", f"{at}T07:00", f"{mass:.1f}", metric="body_mass", unit="kg")
            )
            lines.append(reading(f"C{c}", f"{at}T07:00", f"{22 + rng.normal(0, 0.5):.1f}"))
    snapshot = finish(study_of(lines).wide_snapshot_steps(BESIDE))
    said = [
        words.caution_words(finish(TrackRequest(snapshot, Lens(), f"C{c}").run())) for c in range(n)
    ]
    refer = np.mean(["Stop and refer" in t for t in said])
    return 100 * refer, 100 * np.mean(
        ["Stop and refer" in t or "Weigh on three" in t for t in said]
    )


@pytest.mark.parametrize("n", [30, pytest.param(1000, marks=pytest.mark.slow)])
def test_nobody_is_referred_for_a_stable_mass(n):
    """Four weighings in 14 days of a stable mass: at most 1 %; a fall of 1.5 % a week over four weeks is found in 90 %."""
    rng = np.random.default_rng(20)
    for rho in (0.0, 0.5):
        refer, either = told_to_refer(rng, n, (0, 4, 9, 14), 0.0, rho, sd=1.0)
        fall, seen = told_to_refer(rng, n, tuple(range(0, 29, 2)), 1.5, rho)
        print(f"\n| {rho} | {refer:.1f} | {either:.1f} | {fall:.1f} | {seen:.1f} |")
        assert refer <= max(1.0, 100 / n)  # one of 30
        assert fall >= (90 if n > 100 else 80)  # 3 of 30 are within chance
        assert seen >= 99


def test_settings_are_no_changes_of_clients():
    """A device that follows, read 4 higher from the second scan on in another setting: its slope is 1, not that of the settings."""
    rng, inside, found = np.random.default_rng(9), 0, []
    for _ in range(25):
        lines = []
        for c in range(10):
            level, pace = rng.uniform(16, 28), rng.normal(-1.0, 1.5)
            for k in range(3):
                at, true = START + timedelta(weeks=12 * k), level + pace * k
                shown = true + rng.normal(0, 0.5) + 4.0 * (k > 0)
                lines.append(
                    reading(f"C{c}", f"{at}T07:00", round(shown, 2), setting="athlete" if k else "")
                )
                lines.append(
                    reading(
                        f"C{c}",
                        f"{at}T08:00",
                        round(true + rng.normal(0, 0.3), 2),
                        name="Scan",
                        kind="reference",
                    )
                )
        request = CalibrateRequest(study_of(lines).snapshot(), Lens(), "Fir", reference_sd=0.3)
        slope = finish(request.run())[0].within_slope
        found.append(slope.value)
        inside += slope.interval.low <= 1 <= slope.interval.high
    assert abs(np.mean(found) - 1) < 0.1
    assert inside >= 21


def test_every_view_reports_the_same_slope(demo):
    """Offsets, change, score card, drift and one client: one slope for each instrument, 1 inside where it was planted, and the same word on it."""
    snapshot, lens = demo.snapshot(), Lens()
    changes = {r.instrument.name: r for r in finish(ChangeRequest(snapshot, lens).run())}
    cards = {c.instrument.name: c for c in finish(WhichDeviceRequest(snapshot, lens).run()).cards}
    drifts = {r.instrument.name: r for r in finish(DriftRequest(snapshot, lens).run())}
    followed = {
        s.instrument.name: s for s in finish(TrackRequest(snapshot, lens, "Auk").run()).series
    }
    repeats = finish(RepeatabilityRequest(snapshot, lens, "Cedar").run())[0].found
    ratio = (repeats.day.value**2 + repeats.sd.value**2 / repeats.replicates) / (
        changes["Cedar"].found.zone / 2.77
    ) ** 2
    assert changes["Cedar"].found.slope.ratio == pytest.approx(ratio)
    assert changes["BMI equation (Gallagher 2000)"].found.slope.ratio == 1
    for r in finish(CalibrateRequest(snapshot, lens).run()):
        name, slope = r.comparison.pairs.instrument.name, r.within_slope
        assert changes[name].follows == slope == cards[name].follows == followed[name].follows
        if name != "Dogwood" and not name.startswith(
            "BMI"
        ):  # of those that drift Agreement holds the course of time as well
            assert r.comparison.reference_trend.within.slope.value == pytest.approx(slope.value - 1)
        ends = f"(95 % CI {slope.interval.low:.2f} to {slope.interval.high:.2f})"
        told = f"{slope.value:.2f} pp per 1 pp on the scan {ends}"
        head, calibrate = change_headline(changes[name]), calibration_sentence(r)
        if name.startswith("BMI"):
            assert head.startswith(f"{name} responds too little to change, or not at all: +{told}")
            assert f"responds too little to change, or not at all: +{told}. Do not" in calibrate
            assert "Its error changes as clients change" in calibrate
            assert (
                f"The clients changed, and it shows only {slope.value:.2f} per 1 pp {ends}"
                in drift_headline(drifts[name])
            )
            assert drifts[name].not_following == slope
        else:
            answer = {True: "responds to change", False: "responds to change, size uncertain"}
            assert head.startswith(f"{name} {answer[slope.interval.low >= 0.5]}: +{told}")
            assert slope.interval.low <= 1 <= slope.interval.high
            assert drifts[name].not_following is None


def test_nothing_is_said_of_following_what_is_no_reference(demo):
    """Beside a device's own errors no slope tells who follows.

    A reference is not judged by itself.
    """
    for name in ("Cedar", "Consensus"):
        r = finish(ChangeRequest(demo.snapshot(), Lens(reference=name), "Alder").run())[0]
        assert r.follows is None
        assert change_headline(r).startswith(
            "Alder: only a scan as the reference shows whether it responds to change"
        )
    with pytest.raises(CannotCompare, match="Lab scan is the comparator"):
        finish(DriftRequest(demo.snapshot(), Lens(), "Lab scan").run())


def test_slope_of_change_knows_how_the_errors_compare():
    """Changes of 1 for 1, errors of 1.0 and 0.4: the slope is 1 with the ratio of their variances, and far too steep without it."""
    rng, n = np.random.default_rng(2), 4000
    true = rng.normal(0, 1.2, n)
    dx, dy = true + rng.normal(0, 0.4, n), true + rng.normal(0, 1.0, n)
    assert change(dx, dy, np.arange(n), 0.0, 6.25).slope.slope.value == pytest.approx(1, abs=0.06)
    assert change(dx, dy, np.arange(n), 0.0).slope.slope.value > 1.25


@pytest.mark.parametrize("seed", range(3))
def test_every_view_has_the_same_verdict(seed, tmp_path, capsys):
    """Track, all clients, the page of a client, the bench, JSON and export: one change, one word."""
    rng, lines = np.random.default_rng(seed), []
    for c in range(4):
        for day in range(0, 57, 2):
            at = START + timedelta(days=day)
            true = 20 + 2 * c - 2.5 * (c % 2) * max(day - 28, 0) / 28
            for k, name in enumerate(("Fir", "Elm")):
                shown = round(true + k + rng.normal(0, 0.8), 1)
                lines.append(reading(f"C{c}", f"{at}T07:0{k}", shown, name=name))
            if day in (0, 28) and c < 3:
                scan = round(true + rng.normal(0, 0.4), 1)
                lines.append(reading(f"C{c}", f"{at}T08:00", scan, name="Scan", kind="reference"))
    session = study_of(lines)
    snapshot = finish(session.wide_snapshot_steps(BESIDE))
    session.save_copy(tmp_path / "s.tally")
    group = finish(GroupRequest(snapshot, Lens()).run())
    told = []
    for row in group.rows:
        code = row.client.code
        r = finish(TrackRequest(snapshot, Lens(), code, whole=False).run())
        i, j = row.change.change.interval, r.best.change.change.interval
        assert (i.low, i.high) == pytest.approx((j.low, j.high), abs=1e-6)
        assert row.change.kind == r.best.change.kind
        assert (row.value is not None) is r.best.tied
        dates = [date.fromordinal(d).isoformat() for d in (row.change.since, row.change.until)]
        given = ["track", str(tmp_path / "s.tally"), "--client", code]
        assert main([*given, "--from", dates[0], "--to", dates[1], "--json"]) == 0
        found = json.loads(capsys.readouterr().out)
        assert found["verdict"] == VERDICTS[row.change.kind]
        assert found["change"]["ci"] == pytest.approx([i.low, i.high], abs=1e-6)
        meaning = summary.meaning_words(r)
        word = KINDS.get(row.change.kind, "no detectable change")
        assert word in meaning
        assert word in words.track_headline(r).lower()
        assert (group_row(row, FAT)[1] == "needs a scan") is (
            summary.level_words(r, None) == "–"
        ), code
        if r.best.tied:
            value = f"{row.value.value:.1f} %"
            assert value in summary.level_words(r, None)
            assert value in bench_words(r.best)
        told.append(row.change.kind)
    assert told[1] == "real"
    assert told[0] != "real"
