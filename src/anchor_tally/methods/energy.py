"""Resting energy: a check on what a device displays."""

from __future__ import annotations

import numpy as np

from .equation import MALE, Equation, Floats, Inputs


def _harris(v: Inputs) -> dict[str, Floats]:
    m, h, a = v["body_mass"], v["height"], v["age_years"]
    men = 66.4730 + 13.7516 * m + 5.0033 * h - 6.7550 * a
    return {
        "basal_metabolic_rate": np.where(
            v["sex"] == MALE, men, 655.0955 + 9.5634 * m + 1.8496 * h - 4.6756 * a
        )
    }


def _mifflin(v: Inputs) -> dict[str, Floats]:
    base = 10 * v["body_mass"] + 6.25 * v["height"] - 5 * v["age_years"]
    return {"basal_metabolic_rate": base + np.where(v["sex"] == MALE, 5.0, -161.0)}


_PERSON = ("sex", "age_years", "height", "body_mass")
_OUT = ("basal_metabolic_rate",)
_ADVICE = (
    "An estimate for a group; a person may differ by 200 kcal/d and more. Not a diet prescription."
)

ENERGY = (
    Equation(
        "rmr_harris_benedict_1919",
        "Resting energy (Harris & Benedict 1919)",
        _PERSON,
        _OUT,
        _harris,
        "239 adults",
        "about 210 kcal/d",
        "Harris JA, Benedict FG. Carnegie Institution of Washington 1919, publication 279",
        _ADVICE,
        ages=(15, 74),
        standard_error=(("basal_metabolic_rate", 210.0),),
    ),
    Equation(
        "rmr_mifflin_st_jeor_1990",
        "Resting energy (Mifflin–St Jeor 1990)",
        _PERSON,
        _OUT,
        _mifflin,
        "498 adults aged 19 to 78",
        "about 160 kcal/d",
        "Mifflin MD et al. Am J Clin Nutr 1990;51:241-247",
        _ADVICE,
        ages=(19, 78),
        certainty="checked against an independent implementation",
        standard_error=(("basal_metabolic_rate", 160.0),),
    ),
    Equation(
        "rmr_katch_mcardle",
        "Resting energy (Katch–McArdle)",
        ("fat_free_mass",),
        _OUT,
        lambda v: {"basal_metabolic_rate": 370 + 21.6 * v["fat_free_mass"]},
        "adults",
        "not published",
        "Katch FI, McArdle WD. Introduction to nutrition, exercise and health, 4th ed. 1993",
        _ADVICE,
        ages=(18, 80),
    ),
)
