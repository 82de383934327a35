"""Equations from resistance and reactance at 50 kHz."""

from __future__ import annotations

import numpy as np

from .equation import MALE, Equation, Floats, Inputs, from_fat_free_mass


def _index(v: Inputs) -> Floats:
    """Impedance index: height²/resistance (cm²/ohm)."""
    return v["height"] ** 2 / v["resistance_50khz"]


def _lukaski(v: Inputs) -> dict[str, Floats]:
    ffm = 0.756 * _index(v) + 0.110 * v["body_mass"] + 0.107 * v["reactance_50khz"] - 5.463
    return from_fat_free_mass(ffm, v["body_mass"])


def _kushner(v: Inputs) -> dict[str, Floats]:
    return {"total_body_water": 0.5561 * _index(v) + 0.0955 * v["body_mass"] + 1.726}


def _kushner_by_sex(v: Inputs) -> dict[str, Floats]:
    i, mass = _index(v), v["body_mass"]
    return {
        "total_body_water": np.where(
            v["sex"] == MALE, 0.396 * i + 0.143 * mass + 8.399, 0.382 * i + 0.105 * mass + 8.315
        )
    }


def _kyle(v: Inputs) -> dict[str, Floats]:
    ffm = (
        -4.104
        + 0.518 * _index(v)
        + 0.231 * v["body_mass"]
        + 0.130 * v["reactance_50khz"]
        + 4.229 * v["sex"]
    )
    return from_fat_free_mass(ffm, v["body_mass"])


def _sun(v: Inputs) -> dict[str, Floats]:
    men, i, mass, r = v["sex"] == MALE, _index(v), v["body_mass"], v["resistance_50khz"]
    ffm = np.where(
        men,
        -10.678 + 0.652 * i + 0.262 * mass + 0.015 * r,
        -9.529 + 0.696 * i + 0.168 * mass + 0.016 * r,
    )
    water = np.where(men, 1.203 + 0.449 * i + 0.176 * mass, 3.747 + 0.450 * i + 0.113 * mass)
    return from_fat_free_mass(ffm, mass) | {"total_body_water": water}


def _janssen(v: Inputs) -> dict[str, Floats]:
    return {
        "skeletal_muscle_mass": (
            0.401 * _index(v) + 3.825 * v["sex"] - 0.071 * v["age_years"] + 5.102
        )
    }


def _matias(v: Inputs) -> dict[str, Floats]:
    lean = -2.261 + 0.327 * _index(v) + 0.525 * v["body_mass"] + 5.462 * v["sex"]
    return {
        "fat_free_mass": lean,
        "body_fat_percent": 100 * (v["body_mass"] - lean) / v["body_mass"],
    }


_RAW = ("resistance_50khz", "reactance_50khz")
_FFM = ("fat_free_mass", "body_fat_percent")
_ADVICE = (
    "Only for the electrode layout and frequency of its source (hand to foot, 50 kHz); water shifts"
    " move it."
)

IMPEDANCE = (
    Equation(
        "impedance_index",
        "Impedance index",
        ("height", "resistance_50khz"),
        ("impedance_index",),
        lambda v: {"impedance_index": _index(v)},
        "anyone",
        "not a prediction",
        "Hoffer EC, Meador CK, Simpson DC. J Appl Physiol 1969;27:531-534",
        _ADVICE,
        certainty="definition",
    ),
    Equation(
        "phase_angle",
        "Phase angle",
        _RAW,
        ("phase_angle",),
        lambda v: {
            "phase_angle": np.degrees(np.arctan2(v["reactance_50khz"], v["resistance_50khz"]))
        },
        "anyone",
        "not a prediction",
        "Baumgartner RN, Chumlea WC, Roche AF. Am J Clin Nutr 1988;48:16-23",
        "Compare a person only with the same device.",
        certainty="definition",
    ),
    Equation(
        "impedance_lukaski_1986",
        "Impedance (Lukaski 1986)",
        ("height", "body_mass", *_RAW),
        _FFM,
        _lukaski,
        "114 adults aged 18 to 50",
        "about 2.1 kg fat-free mass",
        "Lukaski HC et al. J Appl Physiol 1986;60:1327-1332",
        _ADVICE,
        ages=(18, 50),
        standard_error=(("fat_free_mass", 2.1),),
    ),
    Equation(
        "impedance_kushner_schoeller_1986",
        "Body water (Kushner & Schoeller 1986)",
        ("height", "body_mass", "resistance_50khz"),
        ("total_body_water",),
        _kushner,
        "58 adults",
        "about 1.8 L",
        "Kushner RF, Schoeller DA. Am J Clin Nutr 1986;44:417-424",
        _ADVICE + " The form for both sexes together.",
        ages=(18, 70),
        standard_error=(("total_body_water", 1.8),),
    ),
    Equation(
        "impedance_kushner_schoeller_1986_by_sex",
        "Body water by sex (Kushner & Schoeller 1986)",
        ("sex", "height", "body_mass", "resistance_50khz"),
        ("total_body_water",),
        _kushner_by_sex,
        "40 adults, 20 of each sex",
        "1.7 L (men), 0.9 L (women)",
        "Kushner RF, Schoeller DA. Am J Clin Nutr 1986;44:417-424",
        _ADVICE + " The forms for men and for women.",
        ages=(18, 70),
        standard_error=(("total_body_water", 1.7),),
    ),
    Equation(
        "impedance_kyle_2001",
        "Impedance (Kyle 2001)",
        ("sex", "height", "body_mass", *_RAW),
        _FFM,
        _kyle,
        "343 adults aged 22 to 94",
        "1.72 kg fat-free mass",
        "Kyle UG et al. Nutrition 2001;17:248-253",
        _ADVICE,
        ages=(22, 94),
        bmi_high=34,
        standard_error=(("fat_free_mass", 1.72),),
    ),
    Equation(
        "impedance_sun_2003",
        "Impedance (Sun 2003)",
        ("sex", "height", "body_mass", "resistance_50khz"),
        (*_FFM, "total_body_water"),
        _sun,
        "1,829 people aged 12 to 94",
        "3.9 kg fat-free mass (men), 2.9 (women)",
        "Sun SS et al. Am J Clin Nutr 2003;77:331-340",
        _ADVICE,
        ages=(12, 94),
        standard_error=(("fat_free_mass", 3.9),),
    ),
    Equation(
        "impedance_janssen_2000",
        "Skeletal muscle (Janssen 2000)",
        ("sex", "age_years", "height", "resistance_50khz"),
        ("skeletal_muscle_mass",),
        _janssen,
        "388 adults aged 18 to 86",
        "2.7 kg (9 percent)",
        "Janssen I et al. J Appl Physiol 2000;89:465-471",
        _ADVICE,
        ages=(18, 86),
        standard_error=(("skeletal_muscle_mass", 2.7),),
    ),
    Equation(
        "impedance_matias_2021",
        "Impedance, athletes (Matias 2021)",
        ("sex", "height", "body_mass", "resistance_50khz"),
        _FFM,
        _matias,
        "142 athletes of several sports, against a four-compartment model",
        "about 2.4 kg fat-free mass",
        "Matias CN et al. Int J Sport Nutr Exerc Metab 2021;31:27-32",
        _ADVICE,
        ages=(16, 40),
        standard_error=(("fat_free_mass", 2.4),),
    ),
)
