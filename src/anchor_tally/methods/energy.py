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


# Schofield 1985: lower age bound, men slope and level, women slope and level (kcal/d)
_SCHOFIELD = np.array(
    [
        [10, 17.686, 658.2, 13.384, 692.6],
        [18, 15.057, 692.2, 14.818, 486.6],
        [30, 11.472, 873.1, 8.126, 845.6],
        [60, 11.711, 587.7, 9.082, 658.5],
    ]
)


def _schofield(v: Inputs) -> dict[str, Floats]:
    at = np.clip(np.searchsorted(_SCHOFIELD[:, 0], v["age_years"], side="right") - 1, 0, 3)
    men = v["sex"] == MALE
    slope = np.where(men, _SCHOFIELD[at, 1], _SCHOFIELD[at, 3])
    level = np.where(men, _SCHOFIELD[at, 2], _SCHOFIELD[at, 4])
    return {"basal_metabolic_rate": slope * v["body_mass"] + level}


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
    Equation(
        "rmr_cunningham_1980",
        "Resting energy (Cunningham 1980)",
        ("fat_free_mass",),
        _OUT,
        lambda v: {"basal_metabolic_rate": 500 + 22 * v["fat_free_mass"]},
        "223 adults",
        "not published",
        "Cunningham JJ. Am J Clin Nutr 1980;33:2372-2374",
        _ADVICE,
        ages=(16, 80),
    ),
    Equation(
        "bmr_schofield_1985",
        "Basal energy (Schofield 1985)",
        ("sex", "age_years", "body_mass"),
        _OUT,
        _schofield,
        "about 7,000 people, mostly European, from 10 years on",
        "108 to 167 kcal/d by group",
        "Schofield WN. Hum Nutr Clin Nutr 1985;39C suppl 1:5-41",
        _ADVICE,
        ages=(10, 90),
        standard_error=(("basal_metabolic_rate", 167.0),),
    ),
)
