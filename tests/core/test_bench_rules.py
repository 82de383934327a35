"""The rules of the bench: repeats, cautions, assessors, practice."""

import numpy as np
import pandas as pd
import pytest
import statsmodels.api as sm
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats as reference
from statsmodels.formula.api import ols

from anchor_tally.analysis.entry.assessor import check, errors_of
from anchor_tally.analysis.entry.field_method import reading_error, sensitivity
from anchor_tally.analysis.entry.practice import hidden_values, score
from anchor_tally.analysis.entry.repeats import judge
from anchor_tally.analysis.people.cautions import cautions_of, scan_cautions
from anchor_tally.domain.events import AssessorValue
from anchor_tally.domain.metrics import METRICS, is_fat, metric_named, own_metric_id, region_of
from anchor_tally.domain.protocol import breaches
from anchor_tally.domain.records import Client
from anchor_tally.domain.repeats import Rule
from anchor_tally.methods.registry import EQUATIONS
from anchor_tally.stats.measurement_error import digit_preference, technical_error
from anchor_tally.wording.assessor import assessor_rows, practice_words, verdict
from anchor_tally.wording.notes import sentence


@pytest.mark.parametrize(
    ("metric", "values", "repeats", "usual", "value", "how", "ask"),
    [
        # tolerances are common practice: skinfolds 5 % or 1 mm, girths 1 %, scales their own
        # repeatability
        ("skinfold_triceps", [9.0], 2, None, 9.0, "single", True),
        ("skinfold_triceps", [9.0, 10.0], 2, None, 9.5, "mean", False),  # 1 mm apart
        ("skinfold_triceps", [9.0, 10.2], 2, None, 9.6, "mean", True),
        ("skinfold_triceps", [9.0, 10.2, 10.0], 2, None, 10.0, "median", False),
        ("skinfold_thigh", [30.0, 31.5], 2, None, 30.75, "mean", False),  # 4.9 %
        ("skinfold_thigh", [30.0, 31.6], 2, None, 30.8, "mean", True),  # 5.2 %
        ("girth_waist", [80.0, 80.8], 2, None, 80.4, "mean", False),
        ("girth_waist", [80.0, 80.9], 2, None, 80.45, "mean", True),  # 1.1 %
        ("body_fat_percent", [18.0, 18.4], 2, 0.2, 18.2, "mean", False),  # within 2.77 × 0.2
        ("body_fat_percent", [18.0, 18.6], 2, 0.2, 18.3, "mean", True),
        ("body_fat_percent", [18.0, 18.6, 18.1], 3, 0.2, 18.1, "median", False),
        ("body_fat_percent", [18.0, 18.2, 18.4], 3, 0.2, 18.2, "mean", False),
        (
            "body_fat_percent",
            [18.0, 25.0],
            2,
            None,
            21.5,
            "mean",
            False,
        ),  # nothing is known of this scale yet
        ("body_fat_percent", [], 3, None, None, "", False),
    ],
)
def test_repeats(metric, values, repeats, usual, value, how, ask):
    """Mean of two, median of three, and a third when the first two differ too much."""
    t = judge(METRICS[metric], values, Rule(repeats), usual)
    assert (t.value, t.how, t.ask) == (
        pytest.approx(value) if value is not None else None,
        how,
        ask,
    )
    assert bool(t.notes) == (ask and len(values) == 2)


@pytest.mark.parametrize(
    ("counts", "value"), [("mean", 21.0), ("median", 19.0), ("last", 26.0), ("agree", 19.0)]
)
def test_what_counts_of_repeats(counts, value):
    """Mean, median, the last of a run, or agreement: two that differ by more than 2.77 SDs give way to the median."""
    t = judge(METRICS["body_fat_percent"], [18.0, 19.0, 26.0], Rule(3, counts), 0.2)
    assert (t.value, t.ask) == (pytest.approx(value), False)
    assert judge(METRICS["body_fat_percent"], [18.0, 19.0], Rule(2, counts), 0.2).ask is (
        counts == "agree"
    )


@given(st.lists(st.floats(2, 60), min_size=1, max_size=5), st.integers(1, 3))
def test_a_tally_lies_among_its_repeats(values, repeats):
    """Whatever was read, the value lies between the smallest and the largest, and three repeats are enough."""
    t = judge(METRICS["skinfold_thigh"], values, Rule(repeats))
    assert min(values) - 1e-9 <= t.value <= max(values) + 1e-9
    assert t.ask is False or t.n < 3


def test_regions_never_compare_with_the_whole():
    """A part of the body, and the scan without the head, are groups of their own."""
    total, without_head = METRICS["body_fat_percent"], metric_named("body_fat_percent_subtotal")
    assert without_head.group != total.group
    assert (without_head.unit, region_of(without_head.id)) == (
        "percent",
        ("body_fat_percent", "subtotal"),
    )
    assert region_of("body_fat_percent_low") == ("body_fat_percent_low", "total")
    assert metric_named("fat_mass_leg_left").label == "Fat mass, left leg"
    assert metric_named("fat_mass_left_leg") is None
    assert metric_named("reactance_250khz").group == "reactance_250khz"
    assert metric_named("resistance_trunk_1000khz").label == "Resistance 1000 kHz, trunk"
    assert metric_named(own_metric_id("Body age!")).device_only
    assert [
        is_fat(m)
        for m in ("fat_mass_arm_left", "fat_free_mass", "sum_skinfolds_7", "visceral_fat_rating")
    ] == [True, False, False, True]


def test_cautions():
    """Implants and pregnancy forbid impedance; agreement is shown, not forgotten.

    Scans are counted and spaced.
    """
    assert cautions_of(Client(1, "A")) == ()
    words = [
        c.note.code
        for c in cautions_of(
            Client(1, "A", cautions=frozenset({"ill", "eating_disorder", "cutting_weight"}))
        )
    ]
    assert words == ["eating_disorder", "cutting_weight", "ill"]
    for birth, young in (
        ("2008-11-26", False),
        ("2008-11-27", True),
        ("2008", True),
        ("2007", False),
        ("2008-11", True),
    ):
        found = [c.note.code for c in cautions_of(Client(1, "A", birth=birth), "2026-11-26T07:00")]
        assert found == (["under_18"] if young else []), birth
    assert [c.forbids for c in cautions_of(Client(1, "A", cautions=frozenset({"implant"})))] == [
        "impedance"
    ]
    cleared = cautions_of(Client(1, "A", cautions=frozenset({"implant", "implant_cleared"})))
    assert [(c.forbids, c.note.code) for c in cleared] == [("", "implant_cleared")]
    assert {c.forbids for c in cautions_of(Client(1, "A", cautions=frozenset({"pregnant"})))} == {
        "impedance",
        "scan",
    }
    client = Client(1, "A", scans_before=2, last_scan="2026-01-10")
    first = scan_cautions(client, (), "2026-04-20")
    assert [n.code for n in first] == ["scan_local_rules_dated"]
    assert dict(first[0].facts)["scans"] == 2
    soon = scan_cautions(client, ("2026-03-20",), "2026-04-20")
    assert [n.code for n in soon] == ["scan_local_rules_dated", "scan_too_soon"]
    assert sentence(soon[1]).startswith("The last scan was 4 weeks ago")  # 31 days
    assert [
        len(scan_cautions(client, ("2026-03-20",), day)) for day in ("2026-05-14", "2026-05-15")
    ] == [2, 1]  # eight weeks
    assert [c.key for c in breaches({"fasted": "no", "voided": "yes", "exercise_24h": "yes"})] == [
        "fasted",
        "exercise_24h",
    ]


@settings(max_examples=30, deadline=None)
@given(st.integers(3, 12), st.integers(2, 4), st.integers(0, 10**6))
def test_technical_error_against_analysis_of_variance(persons, repeats, seed):
    """TEM² is the mean square within persons of a one-way analysis of variance (statsmodels).

    Two repeats: Σd²/2n.
    """
    rng = np.random.default_rng(seed)
    value = rng.uniform(5, 30, persons)[:, None] + rng.normal(0, 0.5, (persons, repeats))
    person = np.repeat(np.arange(persons), repeats)
    found = technical_error(person, value.ravel())
    table = sm.stats.anova_lm(
        ols("v ~ C(p)", pd.DataFrame({"v": value.ravel(), "p": person})).fit()
    )
    within = float(table["mean_sq"]["Residual"])
    assert found.tem.value**2 == pytest.approx(within, rel=1e-9)
    if repeats == 2:
        d = value[:, 0] - value[:, 1]
        assert found.tem.value == pytest.approx(np.sqrt((d**2).sum() / (2 * persons)))
    df = persons * (repeats - 1)
    low, high = np.sqrt(df * within / reference.chi2.ppf([0.975, 0.025], df))
    assert (found.tem.interval.low, found.tem.interval.high) == pytest.approx((low, high))
    assert found.reliability == pytest.approx(1 - within / value.var(ddof=1))


def people(pairs, metric="skinfold_triceps", who="R"):
    """Values of an assessor check from pairs of readings."""
    return [
        AssessorValue(0, who, "2026-03-02", metric, str(n), k, v, f"{v}", "mm")
        for n, pair in enumerate(pairs)
        for k, v in enumerate(pair, start=1)
    ]


def test_assessor_verdicts():
    """Limits of Perini et al. 2005 (from memory): skinfolds 5 and 7.5 %, girths 1 and 1.5 %.

    Fewer than 10 people: none.
    """
    close = people([(10 + k, 10.2 + k) for k in range(12)])
    r = check(close, "R", "skinfold_triceps")
    assert (r.verdict, r.sure, r.error.persons) == ("skilled", True, 12)
    assert r.error.tem.value == pytest.approx(np.sqrt(0.04 / 2))
    assert "meets the limit for a skilled" in verdict(r)
    assert check(close[:18], "R", "skinfold_triceps").verdict == "too_few"
    rough = people([(10 + k, (13 + k) if k % 2 else (8 + k)) for k in range(12)])
    assert check(rough, "R", "skinfold_triceps").verdict == "not_yet"
    edge = check(people([(20 + k, 20 + k + 1.7) for k in range(10)]), "R", "skinfold_triceps")
    assert (edge.verdict, edge.sure, edge.notes[0].code) == ("skilled", False, "assessor_unsure")
    hopeless = check(people([(10 + k, 16 + k) for k in range(12)]), "R", "skinfold_triceps")
    assert (hopeless.verdict, hopeless.sure) == ("not_yet", True)
    as_girth = people([(80 + k, 81.5 + k) for k in range(12)], "girth_waist")
    assert check(as_girth, "R", "girth_waist").verdict == "beginner"
    nobody = check([], "R", "girth_waist")
    assert nobody.error.tem is None
    assert [cells[1] for cells in assessor_rows(nobody)] == ["–", "–", "–", "–", "0"]
    constant = check(people([(10.0, 10.0)] * 12), "R", "skinfold_triceps")
    assert (constant.error.tem.value, constant.error.reliability) == (0.0, None)


def test_assessor_error_goes_into_results():
    """The error of a mean of two skinfolds in the six-site sum: 0.1051·TEM·√6/√2 (men), known inputs only."""
    tem = {k: 0.5 for k in EQUATIONS["six_skinfold_carter_1982"].all_inputs if k != "sex"}
    given_ = {"sex": 1.0} | dict.fromkeys(tem, 10.0)
    changes = sensitivity(EQUATIONS["six_skinfold_carter_1982"], given_)
    assert reading_error(changes, tem, 2) == pytest.approx(0.1051 * 0.5 * np.sqrt(3))
    assert reading_error(changes, {}, 2) is None
    values = people([(10 + k, 10.2 + k) for k in range(12)])
    assert errors_of(values, "R") == {"skinfold_triceps": pytest.approx(np.sqrt(0.02))}
    assert errors_of(values[:10], "R") == {}


def test_digit_preference_against_scipy():
    """χ² of last digits equals scipy.stats.chisquare; with few digits there is no p-value."""
    digits = np.array([0] * 30 + [5] * 20 + list(range(10)) * 3)
    found = digit_preference(digits)
    expected = reference.chisquare(np.bincount(digits, minlength=10))
    assert (found.chi_square, found.p) == pytest.approx((expected.statistic, expected.pvalue))
    assert digit_preference(digits[:20]).p is None


def test_practice():
    """A perfect reader is scored as such; one who rounds to halves is told which digit."""
    for kind, low, high in (("dial", 3, 40), ("tape", 20, 120)):  # common practice
        drawn = hidden_values(kind, 2000, seed=1)
        assert low < min(drawn) < 1.05 * low
        assert 0.99 * high < max(drawn) < high
    hidden = hidden_values("dial", 60, seed=3)
    assert hidden == hidden_values("dial", 60, seed=3)
    perfect = score(hidden, tuple(round(h, 1) for h in hidden))
    assert (perfect.n, perfect.close) == (60, 1.0)
    assert abs(perfect.bias) < 0.02
    rounder = score(hidden, tuple(round(h * 2) / 2 for h in hidden))
    assert rounder.digits.p < 1e-6
    assert "not used evenly" in practice_words(rounder, "mm")
    assert practice_words(score(hidden[:9], hidden[:9]), "mm").endswith(
        "needs at least 50 readings."
    )
    assert score(hidden, ()).bias is None


def test_one_person_has_a_technical_error_but_no_reliability():
    """Between persons there is nothing to compare it with."""
    found = technical_error(np.zeros(2, dtype=np.int64), np.array([10.0, 10.4]))
    assert found.tem.value == pytest.approx(0.4 / np.sqrt(2))
    assert (found.persons, found.reliability) == (1, None)
