"""Density, underwater weighing, multi-compartment models."""

from __future__ import annotations

import numpy as np

from .equation import MALE, Equation, Floats, Inputs, brozek, from_density, siri

GUT_GAS = 0.1  # litres: common practice
OSSEOUS = 1.0436  # bone mineral over the ash that a scan shows (from memory)


def water_density(celsius: Floats) -> Floats:
    """Density of pure water at normal pressure.

    Parameters
    ----------
    celsius : ndarray, shape (n,)
        Temperature in °C, 0 to 100.

    Returns
    -------
    ndarray, shape (n,)
        Density in kg/L.

    References
    ----------
    Kell 1975, J Chem Eng Data 20:97.
    """
    t = celsius
    top = (
        999.83952
        + 16.945176 * t
        - 7.9870401e-3 * t**2
        - 46.170461e-6 * t**3
        + 105.56302e-9 * t**4
        - 280.54253e-12 * t**5
    )
    return top / (1 + 16.879850e-3 * t) / 1000


def _underwater(v: Inputs) -> dict[str, Floats]:
    volume = (
        (v["body_mass"] - v["mass_in_water"]) / water_density(v["water_temperature"])
        - v["residual_volume"]
        - GUT_GAS
    )
    return from_density(
        np.where(volume > 0, v["body_mass"] / np.where(volume > 0, volume, 1), np.nan)
    )


def residual_volume(v: Inputs) -> Floats:
    """Residual lung volume predicted from sex, age and height.

    Parameters
    ----------
    v : mapping of str to ndarray, shape (n,)
        ``sex``, ``age_years`` in years and ``height`` in cm.

    Returns
    -------
    ndarray, shape (n,)
        Volume in L.

    References
    ----------
    Goldman & Becklake 1959 (coefficients from memory).
    """
    men = 0.017 * v["age_years"] + 0.027 * v["height"] - 3.447
    return np.where(v["sex"] == MALE, men, 0.009 * v["age_years"] + 0.032 * v["height"] - 3.900)


def _underwater_estimated(v: Inputs) -> dict[str, Floats]:
    return _underwater({**v, "residual_volume": residual_volume(v)})


def _fat(percent: Floats, mass: Floats) -> dict[str, Floats]:
    return {"body_fat_percent": percent, "fat_mass": percent * mass / 100}


def _three(v: Inputs) -> dict[str, Floats]:
    return _fat(
        100 * (2.118 / v["body_density"] - 0.78 * v["total_body_water"] / v["body_mass"] - 1.354),
        v["body_mass"],
    )


def _four_lohman(v: Inputs) -> dict[str, Floats]:
    water, bone = v["total_body_water"] / v["body_mass"], v["bone_mineral_content"] / v["body_mass"]
    return _fat(
        100 * (2.747 / v["body_density"] - 0.714 * water + 1.146 * bone - 2.0503), v["body_mass"]
    )


def _four_wang(v: Inputs) -> dict[str, Floats]:
    volume, mineral = v["body_mass"] / v["body_density"], OSSEOUS * v["bone_mineral_content"]
    fat = 2.748 * volume - 0.699 * v["total_body_water"] + 1.129 * mineral - 2.051 * v["body_mass"]
    return {"body_fat_percent": 100 * fat / v["body_mass"], "fat_mass": fat}


_FAT = ("body_fat_percent", "fat_mass")
_ADVICE = "Its error is that of all its measurements together."

DENSITY = (
    Equation(
        "siri_1961",
        "Density to fat (Siri 1961)",
        ("body_density",),
        ("body_fat_percent",),
        lambda v: {"body_fat_percent": siri(v["body_density"])},
        "adults with a fat-free density of 1.100",
        "about 4 percent body fat from the variation of fat-free density",
        "Siri WE. In: Techniques for measuring body composition. Washington 1961:223-244",
        "Two compartments: water and bone are assumed.",
        certainty="published",
        standard_error=(("body_fat_percent", 4.0),),
    ),
    Equation(
        "brozek_1963",
        "Density to fat (Brozek 1963)",
        ("body_density",),
        ("body_fat_percent",),
        lambda v: {"body_fat_percent": brozek(v["body_density"])},
        "adults",
        "not published",
        "Brozek J et al. Ann N Y Acad Sci 1963;110:113-140",
        "Two compartments: water and bone are assumed.",
        certainty="published",
    ),
    Equation(
        "underwater_weighing",
        "Underwater weighing",
        ("body_mass", "mass_in_water", "water_temperature", "residual_volume"),
        ("body_fat_percent", "body_density"),
        _underwater,
        "anyone who can breathe out fully under water",
        "about 0.0015 to 0.002 g/cm³ (common practice)",
        "Goldman RF, Buskirk ER. In: Techniques for measuring body composition. Washington"
        " 1961:78-89",
        "Residual volume is the largest source of error; 0.1 L of gut gas is assumed.",
        standard_error=(("body_density", 0.002),),
    ),
    Equation(
        "residual_volume_goldman_becklake_1959",
        "Residual volume (Goldman & Becklake 1959)",
        ("sex", "age_years", "height"),
        ("residual_volume",),
        lambda v: {"residual_volume": residual_volume(v)},
        "healthy adults",
        "about 0.3 to 0.4 L",
        "Goldman HI, Becklake MR. Am Rev Tuberc Pulm Dis 1959;79:457-467",
        "An error of 0.3 L here is about 2 percent body fat in underwater weighing: measure it when"
        " you can.",
        ages=(18, 80),
        standard_error=(("residual_volume", 0.4),),
    ),
    Equation(
        "underwater_weighing_estimated_residual",
        "Underwater weighing, residual volume estimated",
        ("sex", "age_years", "height", "body_mass", "mass_in_water", "water_temperature"),
        ("body_fat_percent", "body_density"),
        _underwater_estimated,
        "healthy adults who can breathe out fully under water",
        "about 2 percent body fat from the residual volume alone (common practice)",
        "Goldman RF, Buskirk ER 1961 with the residual volume of Goldman HI, Becklake MR 1959",
        "The residual volume is estimated from height, age and sex (Goldman & Becklake 1959):"
        " measure it when you can.",
        ages=(18, 80),
        standard_error=(("body_fat_percent", 2.0),),
    ),
    Equation(
        "three_compartment_siri_1961",
        "Three compartments (Siri 1961)",
        ("body_mass", "body_density", "total_body_water"),
        _FAT,
        _three,
        "adults",
        "about 2 percent body fat",
        "Siri WE. In: Techniques for measuring body composition. Washington 1961:223-244",
        _ADVICE,
        standard_error=(("body_fat_percent", 2.0),),
    ),
    Equation(
        "four_compartment_lohman_1986",
        "Four compartments (Lohman 1986)",
        ("body_mass", "body_density", "total_body_water", "bone_mineral_content"),
        _FAT,
        _four_lohman,
        "children and adults",
        "about 1.5 percent body fat",
        "Lohman TG. Exerc Sport Sci Rev 1986;14:325-357",
        _ADVICE
        + " The bone mineral content is taken as the scan shows it; which mineral the source means"
        " is not known here, and its coefficients are also ascribed to Selinger 1977.",
        standard_error=(("body_fat_percent", 1.5),),
    ),
    Equation(
        "four_compartment_wang_2002",
        "Four compartments (Wang 2002)",
        ("body_mass", "body_density", "total_body_water", "bone_mineral_content"),
        _FAT,
        _four_wang,
        "adults",
        "about 1.2 kg fat",
        "Wang Z et al. Am J Clin Nutr 2002;76:968-974",
        _ADVICE + " Bone mineral is taken as 1.0436 times the bone mineral content of the scan.",
        standard_error=(("fat_mass", 1.2),),
    ),
)
