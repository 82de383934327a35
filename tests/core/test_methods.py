"""Equations against worked values; the fixed ids and inputs; limits of use."""

import json
import re

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.stats import chi2

from anchor_tally.analysis.entry.field_method import (
    STEPS,
    evaluate,
    line,
    parse_input,
    sensitivity,
    side_by_side,
)
from anchor_tally.cli.main import main
from anchor_tally.domain.errors import UserError
from anchor_tally.methods.density import water_density
from anchor_tally.methods.registry import EQUATIONS, catalogue

SOMATOTYPE = {
    "height": "181.1",
    "body_mass": "71.5",
    "skinfold_triceps": "6",
    "skinfold_subscapular": "9",
    "skinfold_supraspinale": "8",
    "skinfold_medial_calf": "6",
    "breadth_humerus": "6.2",
    "breadth_femur": "9.2",
    "girth_arm_flexed": "34",
    "girth_calf": "36.5",
}
EIGHT = dict(
    zip(
        [
            f"skinfold_{k}"
            for k in [
                "triceps",
                "subscapular",
                "biceps",
                "iliac_crest",
                "supraspinale",
                "abdominal",
                "thigh",
                "medial_calf",
            ]
        ],
        ["6", "9", "3", "12", "8", "12", "10", "6"],
        strict=True,
    )
)
MAN = {"sex": "male", "age_years": "30", "height": "180cm", "body_mass": "80"}
RAW = {"resistance_50khz": "500", "reactance_50khz": "60"}
WATER = {
    "body_mass": "80",
    "total_body_water": "48",
    "bone_mineral_content": "3.2",
    "body_density": "1.06",
}


SEGMENTS = {
    f"fat_mass_{part}": text
    for part, text in (
        ("arm_left", "0.9"),
        ("arm_right", "1.0 kg"),
        ("leg_left", "2,8"),
        ("leg_right", "3.1"),
        ("trunk", "6.5"),
    )
}


def _inside(vector, mean, sd, r):
    """Share of a bivariate normal group inside the ellipse through a vector, in percent."""
    both = np.array([[sd[0] ** 2, r * sd[0] * sd[1]], [r * sd[0] * sd[1], sd[1] ** 2]])
    away = np.subtract(vector, mean)
    return 100 * chi2.cdf(away @ np.linalg.solve(both, away), 2)


@pytest.mark.parametrize(
    ("name", "inputs", "output", "value", "places"),
    [
        # values from practice (common practice, no published source)
        (
            "six_skinfold_carter_1982",
            {"sex": "male", "sum_skinfolds": "51"},
            "body_fat_percent",
            7.9,
            1,
        ),
        (
            "tape_hodgdon_beckett_1984_metric",
            {"sex": "male", "height": "70in", "girth_neck": "15in", "girth_waist_navel": "34in"},
            "body_fat_percent",
            17.4,
            1,
        ),
        (
            "tape_hodgdon_beckett_1984_inch",
            {"sex": "male", "height": "70in", "girth_neck": "15in", "girth_waist_navel": "34in"},
            "body_fat_percent",
            17.5,
            1,
        ),
        ("somatotype_carter_heath_1990", SOMATOTYPE, "endomorphy", 2.1, 1),
        ("somatotype_carter_heath_1990", SOMATOTYPE, "mesomorphy", 3.7, 1),
        ("somatotype_carter_heath_1990", SOMATOTYPE, "ectomorphy", 3.4, 1),
        ("sum_skinfolds_8", EIGHT, "sum_skinfolds_8", 66, 6),
        (
            "sum_skinfolds_6",
            {k: v for k, v in EIGHT.items() if "biceps" not in k and "iliac" not in k},
            "sum_skinfolds_6",
            51,
            6,
        ),
        ("waist_hip_ratio", {"girth_waist": "75", "girth_hip": "91"}, "waist_hip_ratio", 0.82, 2),
        # textbook example of underwater weighing (McArdle, Katch & Katch, Exercise physiology; from
        # memory): 50 kg in air, 2 kg
        # in water, so density 50/48 and 25.2 % fat
        ("siri_1961", {"body_density": "1.0417"}, "body_fat_percent", 25.2, 1),
        # table 6 of Durnin & Womersley 1974 (from memory): four skinfolds of 50 mm, men 30 to 39:
        # 21.5 %, 40 to 49: 24.6 %
        (
            "durnin_womersley_1974",
            {"sex": "male", "age_years": "35", "sum_skinfolds": "50"},
            "body_fat_percent",
            21.5,
            1,
        ),
        (
            "durnin_womersley_1974",
            {"sex": "male", "age_years": "45", "sum_skinfolds": "50"},
            "body_fat_percent",
            24.6,
            1,
        ),
        # independent implementations: package BodyFatCalculator 0.2 (its documented example),
        # nutrition-macro-calculator 1.3.4
        (
            "bmi_deurenberg_1991",
            {"sex": "male", "age_years": "27", "height": "100", "body_mass": "22.22"},
            "body_fat_percent",
            16.674,
            3,
        ),
        (
            "bmi_deurenberg_1991",
            {"sex": "female", "age_years": "12", "height": "150", "body_mass": "45"},
            "body_fat_percent",
            1.51 * 20 - 8.4 + 1.4,
            6,
        ),
        (
            "rmr_mifflin_st_jeor_1990",
            MAN | {"sex": "female"},
            "basal_metabolic_rate",
            800 + 1125 - 150 - 161,
            6,
        ),
        # worked by hand from the published formulas, coefficients from memory
        ("body_mass_index", {"height": "180", "body_mass": "81"}, "body_mass_index", 25, 6),
        (
            "fat_free_mass_index",
            {"height": "200", "fat_free_mass": "80"},
            "fat_free_mass_index",
            20,
            6,
        ),
        (
            "impedance_kushner_schoeller_1986_by_sex",
            MAN | {"resistance_50khz": "500"},
            "total_body_water",
            0.396 * 64.8 + 11.44 + 8.399,
            6,
        ),
        ("residual_volume_goldman_becklake_1959", MAN, "residual_volume", 0.51 + 4.86 - 3.447, 6),
        # worked by hand from the published formulas, coefficients from memory
        ("siri_1961", {"body_density": "1.06"}, "body_fat_percent", 495 / 1.06 - 450, 6),
        ("brozek_1963", {"body_density": "1.06"}, "body_fat_percent", 457 / 1.06 - 414.2, 6),
        (
            "jackson_pollock_1978_3",
            MAN | {"sum_skinfolds": "60"},
            "body_density",
            1.10938 - 0.049602 + 0.00576 - 0.007722,
            6,
        ),
        (
            "jackson_pollock_1978_7",
            MAN | {"sum_skinfolds": "100"},
            "body_density",
            1.112 - 0.043499 + 0.0055 - 0.0086478,
            6,
        ),
        (
            "jackson_pollock_ward_1980_3",
            {"sex": "female", "age_years": "30", "sum_skinfolds": "60"},
            "body_density",
            1.0994921 - 0.059574 + 0.00828 - 0.004176,
            6,
        ),
        (
            "jackson_pollock_ward_1980_7",
            {"sex": "female", "age_years": "30", "sum_skinfolds": "100"},
            "body_density",
            1.097 - 0.046971 + 0.0056 - 0.0038484,
            6,
        ),
        (
            "durnin_womersley_1974",
            {"sex": "female", "age_years": "25", "sum_skinfolds": "100"},
            "body_density",
            1.1599 - 0.0717 * 2,
            6,
        ),
        (
            "bmi_gallagher_2000",
            MAN | {"height": "200", "body_mass": "100"},
            "body_fat_percent",
            64.5 - 33.92 + 2.37 - 16.4 + 1.5 + 1.56,
            6,
        ),
        (
            "impedance_lukaski_1986",
            MAN | RAW,
            "fat_free_mass",
            0.756 * 64.8 + 8.8 + 6.42 - 5.463,
            6,
        ),
        (
            "impedance_kyle_2001",
            MAN | RAW,
            "fat_free_mass",
            -4.104 + 33.5664 + 18.48 + 7.8 + 4.229,
            6,
        ),
        (
            "impedance_sun_2003",
            MAN | {"resistance_50khz": "500"},
            "fat_free_mass",
            -10.678 + 42.2496 + 20.96 + 7.5,
            6,
        ),
        (
            "impedance_janssen_2000",
            MAN | {"resistance_50khz": "500"},
            "skeletal_muscle_mass",
            25.9848 + 3.825 - 2.13 + 5.102,
            6,
        ),
        ("phase_angle", RAW, "phase_angle", 6.8428, 4),
        (
            "impedance_vector_piccoli_1995",  # group from memory; by chi-square of the distance
            {"sex": "male", "height": "175", "resistance_50khz": "480", "reactance_50khz": "55"},
            "impedance_vector_position",
            _inside((480 / 1.75, 55 / 1.75), (298.6, 30.8), (43.2, 7.2), 0.47),
            6,
        ),
        (
            "impedance_vector_piccoli_1995",
            {"sex": "female", "height": "160", "resistance_50khz": "700", "reactance_50khz": "50"},
            "impedance_vector_position",
            _inside((700 / 1.6, 50 / 1.6), (371.9, 34.4), (49.0, 7.7), 0.41),
            6,
        ),
        (
            "impedance_vector",
            {"height": "175", "resistance_50khz": "480", "reactance_50khz": "55"},
            "reactance_over_height",
            55 / 1.75,
            6,
        ),
        ("fat_mass_sum_of_segments", SEGMENTS, "fat_mass_subtotal", 14.3, 6),
        (
            "fat_mass_legs_left_minus_right",
            {k: v for k, v in SEGMENTS.items() if "leg" in k},
            "fat_mass_legs_difference",
            -0.3,
            6,
        ),
        (
            "three_compartment_siri_1961",
            {k: v for k, v in WATER.items() if "bone" not in k},
            "body_fat_percent",
            100 * (2.118 / 1.06 - 0.468 - 1.354),
            6,
        ),
        (
            "four_compartment_wang_2002",
            WATER,
            "fat_mass",
            2.748 * 80 / 1.06 - 0.699 * 48 + 1.129 * 1.0436 * 3.2 - 2.051 * 80,
            6,
        ),
        (
            "four_compartment_lohman_1986",
            WATER,
            "body_fat_percent",
            100 * (2.747 / 1.06 - 0.4284 + 0.04584 - 2.0503),
            6,
        ),
        (
            "rmr_harris_benedict_1919",
            MAN,
            "basal_metabolic_rate",
            66.473 + 1100.128 + 900.594 - 202.65,
            6,
        ),
        ("rmr_mifflin_st_jeor_1990", MAN, "basal_metabolic_rate", 1780, 6),
        ("rmr_katch_mcardle", {"fat_free_mass": "60"}, "basal_metabolic_rate", 1666, 6),
        (
            "underwater_weighing",
            {
                "body_mass": "80",
                "mass_in_water": "4",
                "water_temperature": "25",
                "residual_volume": "1.2",
            },
            "body_density",
            80 / (76 / 0.997047 - 1.3),
            5,
        ),
    ],
)
def test_worked_values(name, inputs, output, value, places):
    """Each equation gives the worked value."""
    result = evaluate(name, inputs)
    assert round(result.outputs[output], places) == pytest.approx(
        round(value, places), abs=10**-places * 1.01 if places > 1 else 1e-9
    )


def test_command_line(capsys):
    """Method and methods print the fixed keys; errors are one line."""
    args = [
        f"{k}={v}"
        for k, v in {
            "sex": "male",
            "height": "70in",
            "girth_neck": "15in",
            "girth_waist_navel": "34in",
        }.items()
    ]
    assert main(["method", "tape_hodgdon_beckett_1984_inch", *args, "--json"]) == 0
    out = json.loads(capsys.readouterr().out)
    assert set(out) == {"id", "outputs", "applies", "notes", "source"}
    assert out["applies"] is True
    assert main(["methods", "--json"]) == 0
    assert len(json.loads(capsys.readouterr().out)) == len(catalogue()) == len(EQUATIONS)
    for bad in (
        ["nothing"],
        ["siri_1961"],
        ["siri_1961", "body_density"],
        ["siri_1961", "body_density=5"],
        ["siri_1961", "x=1", "body_density=1.05"],
    ):
        assert main(["method", *bad]) == 2
        assert capsys.readouterr().err.count("\n") == 1


def test_published_errors_are_those_of_the_words():
    """The standard error as a number is the one that stands in the words beside the equation."""
    with_numbers = [e for e in EQUATIONS.values() if e.standard_error]
    assert len(with_numbers) > 20
    for e in with_numbers:
        for metric, value in e.standard_error:
            said = [float(x) for x in re.findall(r"\d+(?:\.\d+)?", e.see)]
            assert value in said, (e.id, metric)


def test_limits_of_use():
    """Outside its population an equation states why.

    Without a form for the sex it gives no number.
    """
    wrong_sex = evaluate(
        "jackson_pollock_1978_3", {"sex": "female", "age_years": "30", "sum_skinfolds": "60"}
    )
    assert (wrong_sex.outputs, wrong_sex.applies) == ({}, False)
    heavy = evaluate(
        "six_skinfold_carter_1982",
        {"sex": "male", "sum_skinfolds": "150", "height": "170", "body_mass": "110"},
    )
    assert not heavy.applies
    assert "BMI above 30" in heavy.notes[0]
    assert heavy.outputs
    nobody = evaluate(
        "tape_hodgdon_beckett_1984_inch",
        {"sex": "male", "height": "180", "girth_neck": "60", "girth_waist_navel": "50"},
    )
    assert (nobody.outputs, nobody.applies) == ({}, False)
    brozek = evaluate(
        "durnin_womersley_1974",
        {
            "sex": "male",
            "age_years": "25",
            "sum_skinfolds": "60",
            "density_equation": "brozek_1963",
        },
    )
    assert brozek.outputs["body_fat_percent"] == pytest.approx(
        457 / brozek.outputs["body_density"] - 414.2
    )
    with pytest.raises(UserError, match="needs"):
        evaluate(
            "tape_hodgdon_beckett_1984_inch",
            {"sex": "female", "height": "170", "girth_neck": "32", "girth_waist_navel": "75"},
        )


@pytest.mark.parametrize(
    ("celsius", "kg_per_litre"), [(4, 0.999972), (20, 0.998207), (30, 0.995649), (37, 0.993333)]
)
def test_water_density(celsius, kg_per_litre):
    """Density of water against the table of the CRC Handbook of Chemistry and Physics (from memory)."""
    assert water_density(np.array([float(celsius)]))[0] == pytest.approx(kg_per_litre, abs=6e-6)


def test_estimated_residual_volume_is_named():
    """Without a residual volume it is estimated, and the result says so; with one it is used."""
    tank = {"body_mass": "80", "mass_in_water": "4", "water_temperature": "30"}
    estimated = evaluate(
        "underwater_weighing", tank | {"sex": "male", "age_years": "30", "height": "180"}
    )
    assert any("residual volume estimated as 1.92 L" in n for n in estimated.notes)
    named = tank | {
        "sex": "male",
        "age_years": "30",
        "height": "180",
        "residual_volume": "residual_volume_goldman_becklake_1959",
    }
    assert evaluate("underwater_weighing", named).outputs == estimated.outputs
    measured = evaluate("underwater_weighing", tank | {"residual_volume": "1.2"})
    assert not any("estimated" in n for n in measured.notes)
    with pytest.raises(UserError, match="needs residual_volume"):
        evaluate("underwater_weighing", tank)


def test_side_by_side_tells_why_not():
    """Every equation gives a number, a marked number, or the reason why there is none."""
    typed = {"sex": "female", "age_years": "66", "height": "165", "body_mass": "95"} | EIGHT
    found = {x.id: x for x in side_by_side({k: parse_input(k, v) for k, v in typed.items()})}
    assert set(found) == set(EQUATIONS)
    assert found["jackson_pollock_1978_3"].reasons == ("the equation is for men",)
    assert (found["six_skinfold_carter_1982"].state, found["six_skinfold_carter_1982"].value) == (
        "outside",
        pytest.approx(11.4748),
    )
    assert "BMI above 30" in found["six_skinfold_carter_1982"].reasons[0]
    assert found["tape_hodgdon_beckett_1984_inch"].missing == (
        "girth_neck",
        "girth_waist_narrowest",
        "girth_hip",
    )
    assert found["bmi_deurenberg_1991"].state == "applies"
    empty = side_by_side({})
    assert {x.state for x in empty} == {"missing"}


PERSON = {
    "sex": st.sampled_from([0.0, 1.0]),
    "age_years": st.floats(20, 60),
    "height": st.floats(150, 200),
    "body_mass": st.floats(50, 110),
}


@settings(max_examples=40, deadline=None)
@given(st.fixed_dictionaries(PERSON), st.floats(5, 30), st.floats(400, 700))
def test_sensitivity_is_the_difference(person, fold, resistance):
    """What a step of reading error does is the equation's own difference, for every equation and input."""
    inputs = dict(person) | {
        k: fold for e in EQUATIONS.values() for k in e.all_inputs if k.startswith("skinfold_")
    }
    inputs |= {
        "resistance_50khz": resistance,
        "reactance_50khz": 60.0,
        "girth_neck": 38.0,
        "girth_waist": 85.0,
        "girth_hip": 98.0,
    }
    inputs |= {
        "girth_waist_navel": 86.0,
        "girth_waist_narrowest": 80.0,
        "girth_arm_flexed": 33.0,
        "girth_calf": 37.0,
    }
    inputs |= {
        "breadth_humerus": 6.8,
        "breadth_femur": 9.5,
        "body_density": 1.05,
        "fat_free_mass": 55.0,
        "fat_mass": 15.0,
    }
    inputs |= {
        "total_body_water": 40.0,
        "appendicular_lean_mass": 24.0,
        "bone_mineral_content": 3.0,
        "mass_in_water": 3.0,
        "water_temperature": 30.0,
    }
    inputs |= {"residual_volume": 1.3, "body_fat_percent_low": 10.0, "body_fat_percent_high": 20.0}
    for equation in EQUATIONS.values():
        base = line(equation, inputs)
        changes = sensitivity(equation, inputs)
        if base.state in ("applies", "outside"):
            assert changes or equation.all_inputs == ("sex",)
            for s in changes:
                moved = line(equation, inputs | {s.input: inputs[s.input] + s.step})
                if moved.value is not None:
                    assert moved.value - base.value == pytest.approx(s.change, abs=1e-9)


def test_every_input_has_a_step():
    """Whatever an equation is computed from can be read a little wrong."""
    inputs = {k for e in EQUATIONS.values() for k in e.all_inputs} - {"sex"}
    assert not [k for k in inputs if not any(k.startswith(start) for start, *_ in STEPS)]


@pytest.mark.parametrize(("fold", "applies"), [(12, True), (39, True), (40, False), (4, False)])
def test_a_muscular_measuredis_judged_by_folds(fold, applies):
    """BMI 32: three folds within the sample (14 to 118 mm, from memory) are used, folds beyond it are not."""
    measured = {"sex": 1, "age_years": 30, "height": 180, "body_mass": 32 * 1.8**2}
    measured |= {f"skinfold_{site}": fold for site in ("chest", "abdominal", "thigh")}
    found = line(EQUATIONS["jackson_pollock_1978_3"], measured)
    assert (found.state == "applies") == applies
