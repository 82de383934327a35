"""Equations against worked values; the fixed ids and inputs; limits of use."""

import json

import pytest

from anchor_tally.analysis.field_method import catalogue, evaluate
from anchor_tally.cli.main import main
from anchor_tally.domain.errors import UserError

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
MAN = {"sex": "male", "age_years": "30", "height": "180cm", "body_mass": "80"}
RAW = {"resistance_50khz": "500", "reactance_50khz": "60"}
WATER = {"body_mass": "80", "total_body_water": "48", "bone_mineral_content": "3.2", "body_density": "1.06"}


@pytest.mark.parametrize(
    ("name", "inputs", "output", "value", "places"),
    [
        # values from practice (common practice, no published source)
        ("six_skinfold_carter_1982", {"sex": "male", "sum_skinfolds": "51"}, "body_fat_percent", 7.9, 1),
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
        # worked by hand from the published formulas, coefficients from memory
        ("siri_1961", {"body_density": "1.06"}, "body_fat_percent", 495 / 1.06 - 450, 6),
        ("brozek_1963", {"body_density": "1.06"}, "body_fat_percent", 457 / 1.06 - 414.2, 6),
        ("jackson_pollock_1978_3", MAN | {"sum_skinfolds": "60"}, "body_density", 1.10938 - 0.049602 + 0.00576 - 0.007722, 6),
        ("jackson_pollock_1978_7", MAN | {"sum_skinfolds": "100"}, "body_density", 1.112 - 0.043499 + 0.0055 - 0.0086478, 6),
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
        ("impedance_lukaski_1986", MAN | RAW, "fat_free_mass", 0.756 * 64.8 + 8.8 + 6.42 - 5.463, 6),
        ("impedance_kyle_2001", MAN | RAW, "fat_free_mass", -4.104 + 33.5664 + 18.48 + 7.8 + 4.229, 6),
        ("impedance_sun_2003", MAN | {"resistance_50khz": "500"}, "fat_free_mass", -10.678 + 42.2496 + 20.96 + 7.5, 6),
        ("impedance_janssen_2000", MAN | {"resistance_50khz": "500"}, "skeletal_muscle_mass", 25.9848 + 3.825 - 2.13 + 5.102, 6),
        ("phase_angle", RAW, "phase_angle", 6.8428, 4),
        (
            "three_compartment_siri_1961",
            {k: v for k, v in WATER.items() if "bone" not in k},
            "body_fat_percent",
            100 * (2.118 / 1.06 - 0.468 - 1.354),
            6,
        ),
        ("four_compartment_wang_2002", WATER, "fat_mass", 2.748 * 80 / 1.06 - 0.699 * 48 + 1.129 * 3.2 - 2.051 * 80, 6),
        ("four_compartment_lohman_1986", WATER, "body_fat_percent", 100 * (2.747 / 1.06 - 0.4284 + 0.04584 - 2.0503), 6),
        ("rmr_harris_benedict_1919", MAN, "basal_metabolic_rate", 66.473 + 1100.128 + 900.594 - 202.65, 6),
        ("rmr_mifflin_st_jeor_1990", MAN, "basal_metabolic_rate", 1780, 6),
        ("rmr_katch_mcardle", {"fat_free_mass": "60"}, "basal_metabolic_rate", 1666, 6),
        (
            "underwater_weighing",
            {"body_mass": "80", "mass_in_water": "4", "water_temperature": "25", "residual_volume": "1.2"},
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
    args = [f"{k}={v}" for k, v in {"sex": "male", "height": "70in", "girth_neck": "15in", "girth_waist_navel": "34in"}.items()]
    assert main(["method", "tape_hodgdon_beckett_1984_inch", *args, "--json"]) == 0
    out = json.loads(capsys.readouterr().out)
    assert set(out) == {"id", "outputs", "applies", "notes", "source"}
    assert out["applies"] is True
    assert main(["methods", "--json"]) == 0
    assert len(json.loads(capsys.readouterr().out)) == len(catalogue()) == 42
    for bad in (
        ["nothing"],
        ["siri_1961"],
        ["siri_1961", "body_density"],
        ["siri_1961", "body_density=5"],
        ["siri_1961", "x=1", "body_density=1.05"],
    ):
        assert main(["method", *bad]) == 2
        assert capsys.readouterr().err.count("\n") == 1


def test_limits_of_use():
    """Outside its population an equation says why; without a form for the sex it gives no number."""
    wrong_sex = evaluate("jackson_pollock_1978_3", {"sex": "female", "age_years": "30", "sum_skinfolds": "60"})
    assert (wrong_sex.outputs, wrong_sex.applies) == ({}, False)
    heavy = evaluate("six_skinfold_carter_1982", {"sex": "male", "sum_skinfolds": "150", "height": "170", "body_mass": "110"})
    assert not heavy.applies
    assert "BMI above 30" in heavy.notes[0]
    assert heavy.outputs
    nobody = evaluate(
        "tape_hodgdon_beckett_1984_inch", {"sex": "male", "height": "180", "girth_neck": "60", "girth_waist_navel": "50"}
    )
    assert (nobody.outputs, nobody.applies) == ({}, False)
    brozek = evaluate(
        "durnin_womersley_1974", {"sex": "male", "age_years": "25", "sum_skinfolds": "60", "density_equation": "brozek_1963"}
    )
    assert brozek.outputs["body_fat_percent"] == pytest.approx(457 / brozek.outputs["body_density"] - 414.2)
    with pytest.raises(UserError, match="needs"):
        evaluate(
            "tape_hodgdon_beckett_1984_inch", {"sex": "female", "height": "170", "girth_neck": "32", "girth_waist_navel": "75"}
        )
