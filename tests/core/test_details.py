"""Branches and bounds that few studies reach: each against a published value, or against both of its sides."""

from dataclasses import replace
from datetime import date, timedelta

import numpy as np
import pytest
from scipy import stats

from anchor_tally.analysis.agreement.agreement import CompareRequest
from anchor_tally.analysis.agreement.change import ChangeRequest
from anchor_tally.analysis.agreement.evidence import explain
from anchor_tally.analysis.agreement.hydration import HydrationRequest
from anchor_tally.analysis.agreement.redundancy import RedundancyRequest
from anchor_tally.analysis.entry.field_method import evaluate, line, sensitivity
from anchor_tally.analysis.offsets.versions import versions
from anchor_tally.analysis.pairs.offset_drift import movement
from anchor_tally.analysis.plan.precision import PrecisionRequest
from anchor_tally.analysis.plan.schedule import PlannedDay, ordinal
from anchor_tally.analysis.review import ReviewRequest
from anchor_tally.analysis.review.values import slip_of
from anchor_tally.analysis.time.drift import DriftRequest
from anchor_tally.app.demo import demo_session
from anchor_tally.app.session import Session
from anchor_tally.app.sheets import sheets_of
from anchor_tally.domain.errors import UserError
from anchor_tally.domain.lens import Lens
from anchor_tally.domain.metrics import METRICS
from anchor_tally.domain.records import StationChoice
from anchor_tally.domain.scan_precision import assumed_sd
from anchor_tally.domain.scheme import PRESETS
from anchor_tally.domain.steps import finish
from anchor_tally.figures import difference, ladder, views
from anchor_tally.methods.registry import EQUATIONS
from anchor_tally.stats import planning
from anchor_tally.stats.estimate import Estimate, Interval
from anchor_tally.stats.pair_slopes import passing_bablok
from anchor_tally.stats.steps import find_steps
from anchor_tally.stats.time_slope import moments_apart, rounds_needed
from anchor_tally.stats.variance_grid import occasion_means
from anchor_tally.study import open_file, read_columns
from anchor_tally.study.edits.protocol import PutStation
from anchor_tally.study.edits.visits import NoteVisit
from anchor_tally.wording import statistics
from anchor_tally.wording import views as words
from anchor_tally.wording.evidence import pair_words
from places import CLOCK, adoption, reading, study_of, typed

# rating form of the somatotype: sum of three corrected skinfolds (mm) and endomorphy (Carter &
# Heath 1990, from memory)
RATING = [
    (9, 0.5),
    (17, 1.5),
    (29, 3),
    (49, 5),
    (77, 7),
    (104, 8.5),
    (137, 10),
    (164, 11),
    (196, 12),
]


@pytest.mark.parametrize(("folds", "rating"), RATING)
def test_endomorphy_of_the_rating_form(folds, rating):
    """The equation agrees with the rating form within a quarter of a unit over its whole range."""
    given = {"height": 170.18, "body_mass": 70.0, "breadth_humerus": 7.0, "breadth_femur": 9.5}
    given |= {"girth_arm_flexed": 32.0, "girth_calf": 37.0, "skinfold_medial_calf": 8.0}
    given |= {f"skinfold_{site}": folds / 3 for site in ("triceps", "subscapular", "supraspinale")}
    found = line(EQUATIONS["somatotype_carter_heath_1990"], given)
    assert found.value == pytest.approx(rating, abs=0.26)


FOLDS = {"skinfold_chest": "10", "skinfold_abdominal": "20", "skinfold_thigh": "15"}


def test_fat_from_density_by_either_equation():
    """Siri 495/d − 450 and Brozek 457/d − 414.2 of the same density.

    The sensitivity is that of the chosen one.
    """
    person = {"sex": "male", "age_years": "30", "height": "180 cm", "body_mass": "80 kg"} | FOLDS
    siri = evaluate("jackson_pollock_1978_3", person).outputs
    brozek = evaluate(
        "jackson_pollock_1978_3", person | {"density_equation": "brozek_1963"}
    ).outputs
    d = siri["body_density"]
    assert (siri["body_fat_percent"], brozek["body_fat_percent"]) == pytest.approx(
        (495 / d - 450, 457 / d - 414.2)
    )
    assert brozek["body_density"] == d
    numbers = {"sex": 1.0, "age_years": 30.0, "height": 180.0, "body_mass": 80.0} | {
        k: float(v) for k, v in FOLDS.items()
    }
    equation = EQUATIONS["jackson_pollock_1978_3"]
    for form in ("siri_1961", "brozek_1963"):
        (fold,) = (s for s in sensitivity(equation, numbers, form) if s.input == "skinfold_thigh")
        fat = [
            dict(
                line(equation, numbers | {"skinfold_thigh": v}, form).others,
                body_fat_percent=line(equation, numbers | {"skinfold_thigh": v}, form).value,
            )["body_fat_percent"]
            for v in (15.0, 15.0 + fold.step)
        ]
        assert fold.change == pytest.approx(fat[1] - fat[0])


@pytest.mark.parametrize(
    ("change", "state", "why"),
    [
        ({}, "applies", ""),
        ({"age_years": 17.0}, "outside", "ages 18 to 61"),
        ({"age_years": 18.0}, "applies", ""),
        ({"age_years": 61.0}, "applies", ""),
        ({"age_years": 62.0}, "outside", "ages 18 to 61"),
        ({"sex": 0.0}, "unfit", "for men"),
        ({"body_mass": 98.0}, "applies", ""),  # folds within the sample
        ({"body_mass": 98.0, "skinfold_chest": 90.0}, "outside", "BMI above 30"),
        (
            {"body_mass": 97.0, "skinfold_chest": 90.0},
            "outside",
            "outside the sample (14 to 118 mm)",
        ),
        ({"skinfold_chest": 240.0}, "outside", "its curve turns back"),
    ],
)
def test_people_outside_the_population(change, state, why):
    """Each bound of the published population from both sides: who lies outside is told why."""
    given = {"sex": 1.0, "age_years": 30.0, "height": 180.0, "body_mass": 80.0} | {
        k: float(v) for k, v in FOLDS.items()
    }
    found = line(EQUATIONS["jackson_pollock_1978_3"], given | change)
    assert found.state == state
    assert why in " ".join(found.reasons)


def test_moments_lie_three_days_apart():
    """Two looks on one day, or two days apart, are one moment; three days apart they are two."""
    day = 1 / 7
    for gap, n in ((0.0, 1), (2 * day, 1), (3 * day, 2), (12.0, 2)):
        assert moments_apart(np.array([0.0, gap])) == n
    assert moments_apart(np.empty(0)) == 0


def looked_at(moments, per_client=4):
    """Pairs of clients who were seen at some moments (weeks), with a slope of 0.3 a week."""
    rows = []
    for c in range(per_client):
        for w in moments:
            day = date(2026, 1, 5) + timedelta(weeks=w)
            rows.append(reading(f"C{c}", f"{day}T08:00", 20 + c, name="Scan", kind="reference"))
            rows += [
                reading(
                    f"C{c}",
                    f"{day}T07:0{k}",
                    20 + c + 0.3 * w + 0.1 * ((c + k + w) % 3),
                    repeat=k + 1,
                )
                for k in range(2)
            ]
    session = study_of(rows)
    pairs = finish(CompareRequest(session.snapshot(), Lens(), "Fir").run()).pairs
    session.close()
    return pairs


@pytest.mark.parametrize(("moments", "told"), [((0, 8), False), ((0, 8, 16), True)])
def test_drift_needs_three_moments(moments, told):
    """Two moments tell no slope through time; three do, and the planted one is found."""
    found = movement(looked_at(moments))
    assert (found is not None) == told
    if found is not None:
        assert found.slope.interval.low < 0.3 < found.slope.interval.high


def test_how_many_scans_the_drift_needs_by_hand():
    """The spread of a client's occasion means, worked out from the pairs alone, tells the further scans that are named."""
    rng, rows = np.random.default_rng(5), []
    for c in range(4):
        for w in (0, 8, 16):
            day, own = date(2026, 1, 5) + timedelta(weeks=w), 20 + c + rng.normal(0, 1.0)
            rows.append(reading(f"C{c}", f"{day}T08:00", 20 + c, name="Scan", kind="reference"))
            rows += [
                reading(f"C{c}", f"{day}T07:0{k}", round(own + rng.normal(0, 2.0), 1), repeat=k + 1)
                for k in range(2)
            ]
    session = study_of(rows)
    r = finish(DriftRequest(session.snapshot(), Lens(), "Fir").run())[0]
    session.close()
    means = r.pairs.d.reshape(4, 3, 2).mean(axis=2)  # pairs lie by client, time and repeat
    sd = np.sqrt(((means - means.mean(axis=1, keepdims=True)) ** 2).sum() / 8)
    assert r.needed is not None
    assert r.needed == rounds_needed(sd, 4, 3, 8.0, r.bound)


def test_without_a_slope_three_scans_of_each_client_are_named():
    """Two clients with three scans between them tell no spread: two more of each make three."""
    rows = []
    for c, w in ((0, 0), (0, 8), (1, 0)):
        day = date(2026, 1, 5) + timedelta(weeks=w)
        rows.append(reading(f"C{c}", f"{day}T08:00", 20 + c, name="Scan", kind="reference"))
        rows += [reading(f"C{c}", f"{day}T07:0{k}", 20 + c + k + w, repeat=k + 1) for k in range(2)]
    session = study_of(rows)
    r = finish(DriftRequest(session.snapshot(), Lens(), "Fir").run())[0]
    session.close()
    assert (r.slope, r.needed) == (None, 2)


def test_two_readings_of_a_girth_count_by_their_mean():
    """Of two waists of one visit an equation takes the mean: 81 of 180 cm."""
    at = "2026-01-05T07:00"
    waists = [
        reading(
            "C0", at, v, name="Tape", kind="method", metric="girth_waist", unit="cm", repeat=k + 1
        )
        for k, v in enumerate((80.0, 82.0))
    ]
    session = study_of(waists)
    found = session.snapshot("waist_height_ratio").columns["waist_height_ratio"].value
    session.close()
    assert found == pytest.approx([0.45])


@pytest.mark.parametrize(("at", "found"), [(20.0, False), (16.0, True), (8.0, True), (4.0, False)])
def test_a_step_has_two_occasions_on_each_side(at, found):
    """A jump of 3 with one occasion before or after it is told at no such week.

    With two on each side it is told at its own.
    """
    client, weeks, occasion = np.arange(1), np.arange(6) * 4.0, np.arange(6)
    d = np.array([0.0, 0.1, -0.1, 0.05, -0.05, 0.1]) + 3.0 * (weeks >= at)
    client = np.zeros(6, dtype=np.int64)
    s = occasion_means(d, client, occasion)
    search = find_steps(s, weeks, d, client, occasion, (), resamples=199)
    assert search.splits == 3  # at weeks 8, 12 and 16
    assert (at in {x.week for x in search.steps}) <= found


def visits_apart(hours, **conditions):
    """A scan, and a device read so many hours before it by an unfasted client."""
    session = Session(open_file.create_in_memory("t"), None)
    at = np.datetime64("2026-03-02T08:00") - np.timedelta64(hours, "h")
    session.do(typed("A", "2026-03-02T08:00", "Scan", "reference", "body_fat_percent", "20"))
    session.do(typed("A", str(at)[:16], "Fir", "device", "body_fat_percent", "21"))
    session.do(NoteVisit("A", "2026-03-02T08:00", (("fasted", "yes"),)))
    session.do(NoteVisit("A", str(at)[:16], (("fasted", "no"),)))
    found = finish(ReviewRequest(finish(session.material_steps())).run()).found
    session.close()
    return {f.rule for f in found}


def test_the_day_before_a_scan():
    """Other conditions count where the device was read within a day of the scan, and not beyond."""
    assert "unlike_scan" in visits_apart(23)
    assert "unlike_scan" in visits_apart(24)
    assert "unlike_scan" not in visits_apart(25)


def slope(low, high):
    """A slope with an interval."""
    return Estimate((low + high) / 2, Interval(low, high), 20, "x")


def test_change_in_words_by_its_interval(demo):
    """Above zero, below a half, and neither: each sentence by the interval alone."""
    r = finish(ChangeRequest(demo.snapshot(), demo.lens, "Alder").run())[0]

    def said(found):
        return words.change_headline(replace(r, follows=found))

    assert "Alder responds to change: +0.90 pp per 1 pp on the scan (95 % CI 0.60 to 1.20)" in said(
        slope(0.6, 1.2)
    )
    assert "responds to change, size uncertain: +0.60" in said(slope(0.1, 1.1))
    assert "responds too little to change, or not at all: +0.25" in said(slope(0.1, 0.4))
    assert "or not at all: −0.05 pp per 1 pp on the scan (95 % CI −0.30 to 0.20)" in said(
        slope(-0.3, 0.2)
    ).replace("+", "")
    assert "Whether Alder responds to change cannot be told yet: +0.40" in said(slope(-0.1, 0.9))
    assert "cannot be told yet: 28 changes of" in said(None)


def test_water_in_words_by_its_interval(demo):
    """Fat falls, rises, or is not shown to move with water.

    The ends of the interval have the sign of the sentence.
    """
    wide = finish(demo.wide_snapshot_steps(("body_fat_percent", "total_body_water_percent")))
    r = replace(finish(HydrationRequest(wide, demo.lens, "Birch").run())[0], circular=False)

    def said(found):
        return words.hydration_headline(replace(r, slope=replace(r.slope, slope=found)))

    assert "fat falls by 0.60 pp (95 % CI 0.40 to 0.80)" in said(slope(-0.8, -0.4))
    assert "fat rises by 0.60 pp (95 % CI 0.40 to 0.80)" in said(slope(0.4, 0.8))
    assert "no effect of water on fat found (−0.20 to +0.30 pp" in said(slope(-0.2, 0.3))


def test_slips_have_bounds():
    """A value near the expected one is no typing error, however it could be explained."""
    assert slip_of(80.4, 80.0, METRICS["body_mass"]) == ""
    assert slip_of(176.0, 80.0, METRICS["body_mass"]) == "pounds for kilograms"


def test_figures_show_what_results_hold(demo):
    """Points, lines and zones of the pictures are the numbers of the result, with their units."""
    r = finish(CompareRequest(demo.snapshot(), demo.lens, "Alder").run())
    info = difference.info(r)
    assert info.d == pytest.approx(r.pairs.d[info.pair])
    assert info.x == pytest.approx(((r.pairs.x + r.pairs.y) / 2)[info.pair])
    assert {x.value for x in info.lines} >= {r.bias.value, r.limits.lower, r.limits.upper}
    assert "(pp)" in info.y_label
    rung = ladder.info((r,)).rungs[0]
    assert (rung.bias, rung.interval, rung.limits) == (
        r.bias.value,
        r.bias.interval,
        (r.limits.lower, r.limits.upper),
    )
    assert len(rung.ticks) == r.pairs.clients
    assert np.mean(rung.ticks) == pytest.approx(r.bias.value, abs=0.2)
    change = finish(ChangeRequest(demo.snapshot(), demo.lens, "Alder").run())[0]
    four = views.quadrants(change)
    assert (np.asarray(four.dx) == change.dx).all()
    assert (np.asarray(four.dy) == change.dy).all()
    assert four.zone == change.found.zone


def test_evidence_of_a_pair_and_of_a_statistic(demo):
    """A pair opens to its readings, those of its repeats and the scan.

    A statistic to all readings and what was not imported.
    """
    r = finish(CompareRequest(demo.snapshot(), demo.lens, "Cedar").run())
    pair = explain(r, "pair:4")
    assert pair.instrument_readings[0] == int(r.pairs.reading[4])
    mates = r.pairs.reading[r.pairs.occasion == r.pairs.occasion[4]].tolist()
    assert set(pair.instrument_readings) == set(mates)
    assert pair.reference_readings == r.pairs.reference_rows[int(r.pairs.occasion[4])]
    assert dict(pair.values) == {
        "reference": r.pairs.x[4],
        "instrument": r.pairs.y[4],
        "difference": r.pairs.d[4],
    }
    shown, scan = (f"{v:.1f} %" for v in (r.pairs.y[4], r.pairs.x[4]))
    apart = f"{r.pairs.d[4]:+.1f} pp".replace("-", "−")
    assert pair_words(pair, "Cedar") == f"Cedar {shown}, scan {scan}: difference {apart}"
    bias = explain(r, "bias")
    assert set(bias.instrument_readings) == set(r.pairs.reading.tolist())
    assert bias.left_out == r.pairs.left_out.counts


def test_somatotype_by_hand():
    """0.858·HB + 0.601·FB + 0.188·CAG + 0.161·CCG − 0.131·H + 4.5, girths less the fold.

    0.732·HWR − 28.58 (Carter & Heath 1990).
    """
    given = {"height": 178.0, "body_mass": 72.0, "breadth_humerus": 7.0, "breadth_femur": 9.6}
    given |= {"girth_arm_flexed": 33.0, "girth_calf": 37.5, "skinfold_medial_calf": 9.0}
    given |= {"skinfold_triceps": 11.0, "skinfold_subscapular": 10.0, "skinfold_supraspinale": 8.0}
    somatotype = line(EQUATIONS["somatotype_carter_heath_1990"], given)
    found = dict(somatotype.others)
    arm, calf = 33.0 - 1.1, 37.5 - 0.9
    assert found["mesomorphy"] == pytest.approx(
        0.858 * 7.0 + 0.601 * 9.6 + 0.188 * arm + 0.161 * calf - 0.131 * 178 + 4.5
    )
    assert found["ectomorphy"] == pytest.approx(0.732 * 178 / 72 ** (1 / 3) - 28.58)
    x = 29 * 170.18 / 178
    endomorphy = -0.7182 + 0.1451 * x - 0.00068 * x**2 + 0.0000014 * x**3
    assert somatotype.value == pytest.approx(endomorphy)


@pytest.mark.parametrize(
    ("sd", "clients", "anchors", "bound"),
    [(1.0, 8, 2, 0.05), (0.8, 14, 3, 0.02), (2.0, 3, 1, 0.1), (1.0, 1, 2, 0.2)],
)
def test_further_anchors_by_simulated_designs(sd, clients, anchors, bound):
    """The fewest further anchors at which t·SE of the pooled slope within clients is small enough, by whole designs."""

    def half(k):
        time = np.tile(np.arange(k) * 12.0, clients)
        own = np.kron(np.eye(clients), np.ones((k, 1)))
        x = np.column_stack([own, time])
        cov = sd**2 * np.linalg.inv(x.T @ x)
        return stats.t.ppf(0.975, clients * k - clients - 1) * np.sqrt(cov[-1, -1])

    wanted = next((k - anchors for k in range(anchors + 1, anchors + 13) if half(k) <= bound), None)
    assert rounds_needed(sd, clients, anchors, 12.0, bound) == wanted


def test_two_devices_are_enough_to_compare_them(demo):
    """One device cannot be like another; two are compared."""
    rows = [
        r
        for r in demo.readings()
        if r.instrument in ("Alder", "Cedar") and r.metric == "body_fat_percent"
    ]
    lines = [
        reading(r.client, r.taken_at, r.entered, name=r.instrument, repeat=r.replicate)
        for r in rows
        if r.status == "ok"
    ]
    both, one = study_of(lines), study_of([x for x in lines if "Alder" in x])
    found = finish(RedundancyRequest(both.snapshot(), Lens()).run())
    assert found.names == ("Alder", "Cedar")
    assert -1 < found.r[0, 1] < 1
    with pytest.raises(UserError, match="two devices"):
        finish(RedundancyRequest(one.snapshot(), Lens()).run())
    both.close()
    one.close()


def test_a_line_of_changes_is_drawn_where_a_slope_is_shown(demo):
    """The line through the quadrants stands there only where the interval of the slope lies above zero."""
    r = finish(ChangeRequest(demo.snapshot(), demo.lens, "Alder").run())[0]
    assert views.quadrants(replace(r, follows=slope(0.02, 0.5))).slope is not None
    assert views.quadrants(replace(r, follows=slope(-0.02, 0.5))).slope is None
    assert views.quadrants(replace(r, follows=None)).slope is None


def test_decimals_of_each_statistic(demo):
    """The bias, its limits and the margin have the decimals of readings, p-values three, everything else two."""
    r = finish(CompareRequest(demo.snapshot(), demo.lens, "Alder").run())
    lines = [x for _, x in statistics.rows(r, all_of_them=True)]
    assert len(lines) > 30
    for x in lines:
        wanted = 3 if x.name.startswith("  p") else 2
        if x.name.startswith(("Bias", "Upper", "Lower", "Margin")):
            wanted = 1
        shown = [y.partition(".")[2] for y in (x.value, *x.interval.split(" to ")) if y]
        assert {len(y) for y in shown} == {wanted}, x


def test_cells_on_a_sheet(demo):
    """As many as on the bench: what is read once has room for a second, folds for a third that may be asked for.

    Where the mean of two counts, no third one is asked for.
    """
    client, day = demo.catalogue().client_coded("Cod").id, ordinal("2026-08-31")

    def cells(key):
        planned = PlannedDay(client, 0, key, "", day, day, "due")
        (sheet,) = sheets_of(demo, [planned], named=False)
        return {row.metric: row.cells for row in sheet.stations[0].rows}

    assert set(cells("scan").values()) == {2}
    assert cells("devices")["Body fat"] == 3
    assert cells("girths")["Waist girth"] == 3
    demo.do(PutStation(StationChoice("girths", (), "", "", 2, "mean")))
    assert cells("girths")["Waist girth"] == 2
    assert (cells("underwater")["Mass in water"], cells("underwater")["Residual volume"]) == (3, 2)


def test_presets_plan_what_their_words_say():
    """A Monday in January: weeks, first and last days and scans of each preset, counted by hand."""
    rules = {p.key: p.rules("2026-01-05") for p in PRESETS}

    def spans(key, station="devices"):
        return [(r.starts, r.ends) for r in rules[key] if r.station == station and r.starts]

    assert spans("two_weeks") == [("2026-01-05", "2026-01-11"), ("2026-02-02", "2026-02-08")]
    assert spans("one_scan") == [("2026-01-05", "2026-03-29")]  # twelve weeks
    assert [r.days for r in rules["one_scan"]] == [(0, 3), ("2026-02-16",), (-1, 0, 1)]
    assert spans("contest", "scan") == [("2026-01-05", "2026-06-22")]
    assert [(r.days, r.most) for r in rules["research"]] == [
        ((42,), 3),
        (("2026-01-05", "2026-03-30"), None),
    ]
    assert spans("research") == [("2026-01-05", "2026-03-30")]
    assert [r.days for r in rules["dry_and_loaded"]] == [("2026-01-05",), ("2026-01-06",)]
    assert {r.days for r in rules["retest"]} == {(24,)}
    assert rules["yearly"][0].days == (364,)
    assert rules["yearly"][0].spread


def test_slopes_of_equal_points():
    """Passing–Bablok on values in whole steps: pairs one apart count as any other, equal points not at all."""
    x = np.array([1.0, 2.0, 3.0, 4.0, 4.0, 6.0])
    y = np.array([1.1, 2.0, 3.2, 4.1, 4.1, 6.3])
    i, j = np.triu_indices(6, 1)
    dx, dy = x[j] - x[i], y[j] - y[i]
    slopes = np.sort(dy[dx != 0] / dx[dx != 0])
    line = passing_bablok(x, y).line
    assert line.slope.value == pytest.approx(np.median(slopes))
    ends = line.slope.interval
    assert (line.intercept.interval.low, line.intercept.interval.high) == pytest.approx(
        (np.median(y - ends.high * x), np.median(y - ends.low * x))
    )


# The branches of the published formulas that the worked values do not reach, by hand; coefficients
# from memory: MAN and WOMAN weigh 80 kg, are 180 cm and 30 years of age, and have 500 Ω and 60 Ω.
_R = {"resistance_50khz": "500", "reactance_50khz": "60"}
MAN = {"sex": "male", "age_years": "30", "height": "180 cm", "body_mass": "80 kg"} | _R
WOMAN, INDEX = MAN | {"sex": "female"}, 180**2 / 500
HIPS = {"girth_neck": "34", "girth_waist_narrowest": "74", "girth_hip": "96"}
BRANCHES = [
    ("bmi_deurenberg_1991", WOMAN, "body_fat_percent", 1.2 * 80 / 3.24 + 0.23 * 30 - 5.4),
    ("bmi_deurenberg_1991", MAN | {"age_years": "12"}, "body_fat_percent", 1.51 * 80 / 3.24 - 8.4 - 3.6 + 1.4),
    ("bmi_gallagher_2000", WOMAN, "body_fat_percent", 64.5 - 848 * 3.24 / 80 + 0.079 * 30),
    ("rfm_woolcott_bergman_2018", MAN | {"girth_waist": "90"}, "body_fat_percent", 64 - 40),
    ("rfm_woolcott_bergman_2018", WOMAN | {"girth_waist": "90"}, "body_fat_percent", 76 - 40),
    ("tape_hodgdon_beckett_1984_metric", WOMAN | HIPS, "body_fat_percent",
     495 / (1.29579 - 0.35004 * np.log10(136) + 0.221 * np.log10(180)) - 450),
    ("tape_hodgdon_beckett_1984_inch", WOMAN | HIPS, "body_fat_percent",
     163.205 * np.log10(136 / 2.54) - 97.684 * np.log10(180 / 2.54) - 78.387),
    ("six_skinfold_carter_1982", {"sex": "female", "sum_skinfolds": "100"}, "body_fat_percent", 15.48 + 3.58),
    ("impedance_kushner_schoeller_1986", MAN, "total_body_water", 0.5561 * INDEX + 0.0955 * 80 + 1.726),
    ("impedance_kushner_schoeller_1986_by_sex", WOMAN, "total_body_water", 0.382 * INDEX + 8.4 + 8.315),
    ("impedance_kyle_2001", WOMAN, "fat_free_mass", -4.104 + 0.518 * INDEX + 18.48 + 7.8),
    ("impedance_sun_2003", WOMAN, "fat_free_mass", -9.529 + 0.696 * INDEX + 13.44 + 8),
    ("impedance_sun_2003", MAN, "total_body_water", 1.203 + 0.449 * INDEX + 14.08),
    ("impedance_sun_2003", WOMAN, "total_body_water", 3.747 + 0.45 * INDEX + 9.04),
    ("impedance_janssen_2000", WOMAN, "skeletal_muscle_mass", 0.401 * INDEX - 2.13 + 5.102),
    ("residual_volume_goldman_becklake_1959", WOMAN, "residual_volume", 0.27 + 5.76 - 3.9),
    ("rmr_harris_benedict_1919", WOMAN, "basal_metabolic_rate", 655.0955 + 765.072 + 332.928 - 140.268),
    ("slaughter_1988", {"sex": "male", "skinfold_triceps": "12", "skinfold_medial_calf": "10"}, "body_fat_percent", 17.17),
    ("slaughter_1988", {"sex": "female", "skinfold_triceps": "12", "skinfold_medial_calf": "10"}, "body_fat_percent", 18.52),
    ("evans_2005_3", {"sex": "male", "skinfold_abdominal": "20", "skinfold_thigh": "15", "skinfold_triceps": "10"}, "body_fat_percent", 13.7501),
    ("evans_2005_3", {"sex": "female", "skinfold_abdominal": "20", "skinfold_thigh": "15", "skinfold_triceps": "10"}, "body_fat_percent", 20.0931),
    ("reilly_2009", {"sex": "male", "skinfold_thigh": "10", "skinfold_abdominal": "20", "skinfold_triceps": "10", "skinfold_medial_calf": "10"}, "body_fat_percent", 12.614),
    ("faulkner_1968", {"sex": "male", "skinfold_triceps": "10", "skinfold_subscapular": "10", "skinfold_suprailiac": "10", "skinfold_abdominal": "20"}, "body_fat_percent", 13.433),
    ("withers_1987_women_4", {"sex": "female", "skinfold_triceps": "25", "skinfold_subscapular": "25", "skinfold_supraspinale": "25", "skinfold_medial_calf": "25"}, "body_density", 1.03026),
    ("withers_1987_men_7", {"sex": "male", **{f"skinfold_{k}": "10" for k in ("triceps", "subscapular", "biceps", "supraspinale", "abdominal", "thigh", "medial_calf")}}, "body_density", 1.0708),
    ("rmr_cunningham_1980", {"fat_free_mass": "60"}, "basal_metabolic_rate", 1820),
    *(("bmr_schofield_1985", {"sex": sex, "age_years": age, "body_mass": "70"}, "basal_metabolic_rate", value)
      for sex, age, value in (
          ("male", "17", 1896.22), ("male", "18", 1746.19), ("male", "45", 1676.14), ("male", "60", 1407.47),
          ("female", "17", 1629.48), ("female", "29", 1523.86), ("female", "30", 1414.42), ("female", "70", 1294.24))),
    ("tbw_watson_1980", {"sex": "male", "age_years": "50", "height": "180", "body_mass": "80"}, "total_body_water", 44.097),
    ("tbw_watson_1980", {"sex": "female", "age_years": "50", "height": "160", "body_mass": "60"}, "total_body_water", 29.803),
    ("bmi_cun_bae_2012", {"sex": "male", "age_years": "40", "height": "200", "body_mass": "100"}, "body_fat_percent", 23.432),
    ("bmi_cun_bae_2012", {"sex": "female", "age_years": "40", "height": "200", "body_mass": "100"}, "body_fat_percent", 35.521),
    ("impedance_matias_2021", MAN, "fat_free_mass", 66.3906),
    ("appendicular_lean_index", {"height": "200", "appendicular_lean_mass": "28"}, "appendicular_lean_index", 7.0),
    ("ffmi_height_adjusted_kouri_1995", {"height": "200", "fat_free_mass": "80"}, "fat_free_mass_index_adjusted", 18.78),
    ("muscle_lee_2000", {"sex": "male", "age_years": "50", "height": "180", "body_mass": "80"}, "skeletal_muscle_mass", 31.96),
    ("waist_height_ratio", {"girth_waist": "81", "height": "180"}, "waist_height_ratio", 0.45),
    ("fat_mass_index", {"height": "200", "fat_mass": "20"}, "fat_mass_index", 5.0),
    *(("durnin_womersley_1974", {"sex": sex, "age_years": age, "sum_skinfolds": "100"}, "body_density", c - 2 * m)
      for sex, age, c, m in (
          ("male", "18", 1.1620, 0.0630), ("male", "20", 1.1631, 0.0632), ("male", "50", 1.1715, 0.0779),
          ("female", "19", 1.1549, 0.0678), ("female", "30", 1.1423, 0.0632), ("female", "40", 1.1333, 0.0612),
          ("female", "50", 1.1339, 0.0645), ("male", "39", 1.1422, 0.0544))),
]  # fmt: skip


@pytest.mark.parametrize(("name", "given", "output", "value"), BRANCHES)
def test_equations_of_the_other_sex_and_ages(name, given, output, value):
    """Every branch gives what the published formula gives by hand."""
    inputs = {k: v for k, v in given.items() if k in EQUATIONS[name].inputs or k not in MAN}
    assert evaluate(name, inputs).outputs[output] == pytest.approx(value, rel=1e-9)


@pytest.mark.parametrize(
    ("mass", "value"), [(88.0, 0.463 * 180 / 88 ** (1 / 3) - 17.63), (110.0, 0.1)]
)
def test_ectomorphy_of_heavy_people(mass, value):
    """Below a ratio of 40.75 the second line holds, from 38.25 down it is a tenth.

    Source: Carter & Heath 1990.
    """
    given = {"height": 180.0, "body_mass": mass, "breadth_humerus": 7.0, "breadth_femur": 9.6}
    given |= {"girth_arm_flexed": 33.0, "girth_calf": 37.5, "skinfold_medial_calf": 9.0}
    given |= {"skinfold_triceps": 11.0, "skinfold_subscapular": 10.0, "skinfold_supraspinale": 8.0}
    found = dict(line(EQUATIONS["somatotype_carter_heath_1990"], given).others)
    assert found["ectomorphy"] == pytest.approx(value)


def test_a_metric_is_read_the_same_by_its_index_and_by_number(monkeypatch, demo):
    """Readings that fill most of the table are read in the table's own order, in blocks: the columns are the same."""
    by_index = read_columns.columns(demo.connection(), "body_fat_percent")
    assert not read_columns._by_number(demo.connection(), "body_fat_percent")
    monkeypatch.setattr(read_columns, "BLOCK", 50)
    assert read_columns._by_number(demo.connection(), "body_fat_percent")
    by_number = read_columns.columns(demo.connection(), "body_fat_percent")
    for name in ("reading", "visit", "instrument", "setting", "status", "value"):
        np.testing.assert_array_equal(getattr(by_number, name), getattr(by_index, name))


@pytest.mark.parametrize(
    ("sex", "age", "height", "mass", "fold", "fat"),
    [("male", 40, 180, 81, 12, 21.4447), ("female", 30, 165, 60, 18, 30.5544)],
)
def test_peterson_by_its_published_terms(sex, age, height, mass, fold, fat):
    """Worked by hand from the coefficients of Peterson et al. 2003 (Am J Clin Nutr 77:1186, from memory)."""
    folds = {f"skinfold_{k}": f"{fold}" for k in ("triceps", "subscapular", "suprailiac", "thigh")}
    person = {"sex": sex, "age_years": f"{age}", "height": f"{height} cm", "body_mass": f"{mass}"}
    found = evaluate("peterson_2003", person | folds).outputs["body_fat_percent"]
    assert found == pytest.approx(fat, abs=1e-3)


@pytest.mark.parametrize(
    ("metric", "level", "low", "high"),
    [
        ("fat_mass", -20.0, 0.2, 0.6),
        ("appendicular_lean_mass", 50.0, 0.25, 1.0),
        ("body_mass", 80.0, 0.04, 0.16),
        ("body_fat_percent", 40.0, 0.3, 1.0),
    ],
)
def test_usual_precision_of_a_scan(metric, level, low, high):
    """Shares in points whatever the level; masses as a share of the level (official positions 2013, from memory)."""
    assert assumed_sd(metric, level) == pytest.approx((low, high))


def test_an_offset_holds_on_its_last_day():
    """In force on the day that it is valid until, expired on the day after."""
    demo = demo_session(clock=CLOCK)
    demo.do(adoption(demo, "Alder"))
    found = demo.calibration_versions("Alder", "body_fat_percent")
    last = date.fromisoformat(found[-1][0].valid_until)
    states = [
        versions(found, (last + timedelta(days=d)).isoformat(), frozenset())[0].state
        for d in (0, 1)
    ]
    assert states == ["in force", "expired"]


# repeats do not narrow a single reading; what they separate is known to fewer degrees of freedom
ALIKE = ("reading", "repeats")


def test_one_more_of_anything_narrows_the_plan():
    """A scan, a morning, a repeat or a client more: the intervals of the plan narrow."""
    spreads = planning.Spreads(1.2, 0.8, 0.4, 0.5)
    design = planning.Design(clients=8, scans=2, mornings=1, repeats=1)
    for interval in ("bias", "offset", "reading"):
        found = finish(PrecisionRequest(spreads, {}, design, interval).run())
        now = found.half_width
        widths = {o.what: o.half_width for o in found.options}
        assert set(widths) == {"scans", "mornings", "repeats", "clients"}
        assert all(w < now for what, w in widths.items() if (interval, what) != ALIKE)
    assert widths["mornings"] < now


@pytest.mark.parametrize(("minute", "pairs"), [("00", 1), ("01", 0)])
def test_a_reading_a_whole_window_away_still_counts(minute, pairs):
    """24 hours are within a window of 24 hours; a minute more is not."""
    lines = [reading("C1", "2026-01-05T07:00", 20.0)]
    scan = {"name": "Scan", "kind": "reference"}
    lines.append(reading("C1", f"2026-01-06T07:{minute}", 19.0, **scan))
    found = finish(CompareRequest(study_of(lines).snapshot(), Lens(), "Fir").run())
    assert found.pairs.n == pairs


def test_one_pair_is_named_as_such():
    """The note on one pair stands with one pair only."""
    for scans, said in ((1, True), (3, False)):
        lines = []
        for k in range(scans):
            at = date(2026, 1, 5) + timedelta(weeks=12 * k)
            lines.append(reading(f"C{k}", f"{at}T07:00", 20 + k))
            lines.append(reading(f"C{k}", f"{at}T08:00", 18 + k, name="Scan", kind="reference"))
        r = finish(CompareRequest(study_of(lines).snapshot(), Lens(), "Fir").run())
        assert ("one_pair" in [n.code for n in r.notes]) is said


def test_limits_of_a_change_from_five_clients_on():
    """Five clients are enough for the sentence on a single client's change, four are not."""
    for clients in (4, 5):
        rng, lines = np.random.default_rng(3), []
        for c in range(clients):
            for k in range(3):
                at = date(2026, 1, 5) + timedelta(weeks=12 * k)
                value = 20 + 2 * c - k + rng.normal(0, 0.3)
                lines.append(reading(f"C{c}", f"{at}T07:00", round(value + 1, 1)))
                scan = reading(
                    f"C{c}", f"{at}T08:00", round(value, 1), name="Scan", kind="reference"
                )
                lines.append(scan)
        r = finish(ChangeRequest(study_of(lines).snapshot(), Lens(), "Fir").run())[0]
        assert ("A single client's change" in words.change_headline(r)) is (clients == 5)
