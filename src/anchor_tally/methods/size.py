"""Equations from height, mass, waist and tape."""

from __future__ import annotations

import numpy as np

from .equation import MALE, Equation, Floats, Inputs, from_density

_INCH = 2.54


def _deurenberg(v: Inputs) -> dict[str, Floats]:
    bmi = v["body_mass"] / (v["height"] / 100) ** 2
    adult = 1.20 * bmi + 0.23 * v["age_years"] - 10.8 * v["sex"] - 5.4
    child = 1.51 * bmi - 0.70 * v["age_years"] - 3.6 * v["sex"] + 1.4
    return {"body_fat_percent": np.where(v["age_years"] <= 15, child, adult)}


def _gallagher(v: Inputs) -> dict[str, Floats]:
    inverse = 1 / (v["body_mass"] / (v["height"] / 100) ** 2)
    sex, age = v["sex"], v["age_years"]
    return {
        "body_fat_percent": (
            64.5
            - 848 * inverse
            + 0.079 * age
            - 16.4 * sex
            + 0.05 * sex * age
            + 39.0 * sex * inverse
        )
    }


def _relative_fat_mass(v: Inputs) -> dict[str, Floats]:
    return {"body_fat_percent": 64 - 20 * v["height"] / v["girth_waist"] + 12 * (1 - v["sex"])}


def _tape_difference(v: Inputs) -> Floats:
    """Men: waist − neck; women: waist + hip − neck (cm).

    NaN where the girths cannot be of one body.
    """
    men = v["girth_waist_navel"] - v["girth_neck"]
    women = v["girth_waist_narrowest"] + v["girth_hip"] - v["girth_neck"]
    difference = np.where(v["sex"] == MALE, men, women)
    return np.where(difference > 0, difference, np.nan)


def _tape_inch(v: Inputs) -> dict[str, Floats]:
    d, h = np.log10(_tape_difference(v) / _INCH), np.log10(v["height"] / _INCH)
    return {
        "body_fat_percent": np.where(
            v["sex"] == MALE, 86.010 * d - 70.041 * h + 36.76, 163.205 * d - 97.684 * h - 78.387
        )
    }


def _tape_metric(v: Inputs) -> dict[str, Floats]:
    d, h = np.log10(_tape_difference(v)), np.log10(v["height"])
    return from_density(
        np.where(
            v["sex"] == MALE,
            1.0324 - 0.19077 * d + 0.15456 * h,
            1.29579 - 0.35004 * d + 0.22100 * h,
        )
    )


_TAPE = ("sex", "height", "girth_neck")
_MEN, _WOMEN = ("girth_waist_navel",), ("girth_waist_narrowest", "girth_hip")
_TAPE_SOURCE = "Hodgdon JA, Beckett MB. Naval Health Research Center reports 84-11 and 84-29, 1984"


def _watson(v: Inputs) -> dict[str, Floats]:
    men = 2.447 - 0.09156 * v["age_years"] + 0.1074 * v["height"] + 0.3362 * v["body_mass"]
    women = -2.097 + 0.1069 * v["height"] + 0.2466 * v["body_mass"]
    return {"total_body_water": np.where(v["sex"] == MALE, men, women)}


def _lee(v: Inputs) -> dict[str, Floats]:
    return {
        "skeletal_muscle_mass": (
            0.244 * v["body_mass"]
            + 7.80 * v["height"] / 100
            + 6.6 * v["sex"]
            - 0.098 * v["age_years"]
            - 3.3
        )
    }


def _cun_bae(v: Inputs) -> dict[str, Floats]:
    bmi, age, woman = v["body_mass"] / (v["height"] / 100) ** 2, v["age_years"], 1 - v["sex"]
    return {
        "body_fat_percent": (
            -44.988
            + 0.503 * age
            + 10.689 * woman
            + 3.172 * bmi
            - 0.026 * bmi**2
            + 0.181 * bmi * woman
            - 0.02 * bmi * age
            - 0.005 * bmi**2 * woman
            + 0.00021 * bmi**2 * age
        )
    }


SIZE = (
    Equation(
        "bmi_deurenberg_1991",
        "BMI equation (Deurenberg 1991)",
        ("sex", "age_years", "height", "body_mass"),
        ("body_fat_percent",),
        _deurenberg,
        "1,229 people aged 7 to 83, BMI 13.9 to 40.9",
        "4.1 percent body fat (adults)",
        "Deurenberg P, Weststrate JA, Seidell JC. Br J Nutr 1991;65:105-114",
        "Reads muscular people high: it sees only height, mass, age and sex. Up to 15 years it has"
        " a form of its own, which does not meet that of adults: at 15 the value jumps by several"
        " points.",
        ages=(7, 83),
        certainty="checked against an independent implementation",
        standard_error=(("body_fat_percent", 4.1),),
    ),
    Equation(
        "bmi_gallagher_2000",
        "BMI equation (Gallagher 2000)",
        ("sex", "age_years", "height", "body_mass"),
        ("body_fat_percent",),
        _gallagher,
        "adults aged 20 to 79, African American and White (the term for Asian people is left out)",
        "about 5.0 percent body fat",
        "Gallagher D et al. Am J Clin Nutr 2000;72:694-701",
        "Reads muscular people high.",
        ages=(20, 79),
        bmi_high=35,
        standard_error=(("body_fat_percent", 5.0),),
    ),
    Equation(
        "bmi_cun_bae_2012",
        "BMI equation (Gómez-Ambrosi et al. 2012)",
        ("sex", "age_years", "height", "body_mass"),
        ("body_fat_percent",),
        _cun_bae,
        "6,123 white adults aged 18 to 80",
        "about 4.7 percent body fat",
        "Gómez-Ambrosi J et al. Diabetes Care 2012;35:383-388",
        "Reads muscular people high: it sees only height, mass, age and sex.",
        ages=(18, 80),
        standard_error=(("body_fat_percent", 4.7),),
    ),
    Equation(
        "rfm_woolcott_bergman_2018",
        "Relative fat mass (Woolcott & Bergman 2018)",
        ("sex", "height", "girth_waist"),
        ("body_fat_percent",),
        _relative_fat_mass,
        "12,581 adults aged 20 and over, US national survey 1999-2004",
        "not published",
        "Woolcott OO, Bergman RN. Sci Rep 2018;8:10980",
        "For adults; the waist is taken at the upper edge of the hip bone.",
        ages=(20, 120),
    ),
    Equation(
        "tape_hodgdon_beckett_1984_inch",
        "Tape, inch form (Hodgdon & Beckett 1984)",
        _TAPE,
        ("body_fat_percent",),
        _tape_inch,
        "602 men and 214 women of the US Navy",
        "3.5 percent body fat (men), 3.7 (women)",
        _TAPE_SOURCE,
        "Misreads very muscular people; differs from the metric form by about 0.1. The inch form is"
        " later than the reports of 1984 (from memory).",
        ages=(17, 65),
        men=_MEN,
        women=_WOMEN,
        certainty="checked against a value from practice (men)",
        standard_error=(("body_fat_percent", 3.7),),
    ),
    Equation(
        "tape_hodgdon_beckett_1984_metric",
        "Tape, metric form (Hodgdon & Beckett 1984)",
        _TAPE,
        ("body_fat_percent", "body_density"),
        _tape_metric,
        "602 men and 214 women of the US Navy",
        "3.5 percent body fat (men), 3.7 (women)",
        _TAPE_SOURCE,
        "Misreads very muscular people; differs from the inch form by about 0.1.",
        ages=(17, 65),
        men=_MEN,
        women=_WOMEN,
        certainty="checked against a value from practice (men)",
        standard_error=(("body_fat_percent", 3.7),),
    ),
    Equation(
        "tbw_watson_1980",
        "Body water (Watson et al. 1980)",
        ("sex", "age_years", "height", "body_mass"),
        ("total_body_water",),
        _watson,
        "458 men and 265 women of several studies",
        "about 3.8 l (men), 3.6 l (women)",
        "Watson PE et al. Am J Clin Nutr 1980;33:27-39",
        "From size alone: it shows no dehydration and no change of a person's water.",
        ages=(17, 86),
        standard_error=(("total_body_water", 3.8),),
    ),
    Equation(
        "muscle_lee_2000",
        "Skeletal muscle from size (Lee et al. 2000)",
        ("sex", "age_years", "height", "body_mass"),
        ("skeletal_muscle_mass",),
        _lee,
        "244 adults of a BMI below 30; the published terms by descent are left out",
        "2.8 kg",
        "Lee RC et al. Am J Clin Nutr 2000;72:796-803",
        "From size alone: it cannot show that training changed the muscle.",
        ages=(20, 81),
        bmi_high=30,
        standard_error=(("skeletal_muscle_mass", 2.8),),
    ),
)
