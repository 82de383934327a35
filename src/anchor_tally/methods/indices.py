"""Sums, ratios and indices: nothing is predicted, so nothing is assumed of a population."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from .equation import MALE, Equation, Floats, Inputs
from .skinfold import EIGHT, FOUR, MEN_THREE, SEVEN, SIX, WOMEN_THREE


def _sum_of(name: str, sites: tuple[str, ...]) -> Callable[[Inputs], dict[str, Floats]]:
    def total(v: Inputs) -> dict[str, Floats]:
        return {name: np.asarray(np.sum([v[k] for k in sites], axis=0), dtype=float)}

    return total


def _three(v: Inputs) -> dict[str, Floats]:
    men, women = (np.sum([v[k] for k in sites], axis=0) for sites in (MEN_THREE, WOMEN_THREE))
    return {"sum_skinfolds_3": np.where(v["sex"] == MALE, men, women)}


def _midpoint(v: Inputs) -> dict[str, Floats]:
    low, high = v["body_fat_percent_low"], v["body_fat_percent_high"]
    return {"body_fat_percent": np.where(low <= high, (low + high) / 2, np.nan)}


def _over_height_squared(name: str, top: str) -> Callable[[Inputs], dict[str, Floats]]:
    return lambda v: {name: v[top] / (v["height"] / 100) ** 2}


def _index(
    name: str,
    label: str,
    inputs: tuple[str, ...],
    function: Callable[[Inputs], dict[str, Floats]],
    source: str,
    advice: str,
    instead: tuple[tuple[str, tuple[str, ...]], ...] = (),
) -> Equation:
    known = "anyone", "not a prediction", source, advice
    return Equation(
        name, label, inputs, (name,), function, *known, certainty="definition", instead=instead
    )


def _adjusted(v: Inputs) -> dict[str, Floats]:
    metres = v["height"] / 100
    return {"fat_free_mass_index_adjusted": v["fat_free_mass"] / metres**2 + 6.1 * (1.80 - metres)}


_ANY_WAIST = (("girth_waist", ("girth_waist_narrowest", "girth_waist_navel")),)


_SUM_SOURCE = "Norton K, Olds T. Anthropometrica. Sydney 1996 (sums of sites as such)"
_SUM_ADVICE = (
    "Follow the sum itself through time: it carries no equation's error. Sums of other sites do not"
    " compare."
)
_FOR_SHAPE = "A size ratio, not a measure of fat; muscular people read high."

INDICES = (
    Equation(
        "sum_skinfolds_3",
        "Sum of three skinfolds",
        ("sex",),
        ("sum_skinfolds_3",),
        _three,
        "anyone",
        "not a prediction",
        "Jackson AS, Pollock ML. Br J Nutr 1978;40:497-504 (men); Jackson AS, Pollock ML, Ward A."
        " Med Sci Sports Exerc 1980;12:175-181 (women); sites from memory",
        _SUM_ADVICE + " A later form of the authors (1985) uses other sites.",
        men=MEN_THREE,
        women=WOMEN_THREE,
        certainty="definition",
    ),
    *(
        _index(
            f"sum_skinfolds_{len(sites)}",
            f"Sum of {word} skinfolds",
            sites,
            _sum_of(f"sum_skinfolds_{len(sites)}", sites),
            _SUM_SOURCE,
            _SUM_ADVICE,
        )
        for word, sites in (("four", FOUR), ("six", SIX), ("seven", SEVEN), ("eight", EIGHT))
    ),
    _index(
        "body_mass_index",
        "Body mass index",
        ("height", "body_mass"),
        _over_height_squared("body_mass_index", "body_mass"),
        "Keys A et al. J Chronic Dis 1972;25:329-343",
        _FOR_SHAPE,
    ),
    _index(
        "waist_hip_ratio",
        "Waist to hip ratio",
        ("girth_waist", "girth_hip"),
        lambda v: {"waist_hip_ratio": v["girth_waist"] / v["girth_hip"]},
        "World Health Organization. Waist circumference and waist-hip ratio: report of an expert"
        " consultation. Geneva 2008",
        "Depends on where the waist is taken: keep to one site.",
        _ANY_WAIST,
    ),
    _index(
        "waist_height_ratio",
        "Waist to height ratio",
        ("height", "girth_waist"),
        lambda v: {"waist_height_ratio": v["girth_waist"] / v["height"]},
        "Ashwell M, Hsieh SD. Int J Food Sci Nutr 2005;56:303-307",
        "Depends on where the waist is taken: keep to one site.",
        _ANY_WAIST,
    ),
    _index(
        "fat_free_mass_index",
        "Fat-free mass index",
        ("height", "fat_free_mass"),
        _over_height_squared("fat_free_mass_index", "fat_free_mass"),
        "VanItallie TB et al. Am J Clin Nutr 1990;52:953-959",
        "As good as the fat-free mass that goes in.",
    ),
    _index(
        "fat_mass_index",
        "Fat mass index",
        ("height", "fat_mass"),
        _over_height_squared("fat_mass_index", "fat_mass"),
        "VanItallie TB et al. Am J Clin Nutr 1990;52:953-959",
        "As good as the fat mass that goes in.",
    ),
    Equation(
        "visual_estimate_midpoint",
        "Visual estimate, middle of the range",
        ("body_fat_percent_low", "body_fat_percent_high"),
        ("body_fat_percent",),
        _midpoint,
        "anyone, looked at by a person with practice",
        "not published; at best half the width of the range",
        "common practice",
        "A look, not a measurement: it shows how much a number adds to it.",
        certainty="definition",
    ),
    _index(
        "appendicular_lean_index",
        "Appendicular lean index",
        ("height", "appendicular_lean_mass"),
        _over_height_squared("appendicular_lean_index", "appendicular_lean_mass"),
        "Baumgartner RN et al. Am J Epidemiol 1998;147:755-763",
        "Cut-offs depend on the scanner and the population: use those of your own reference.",
    ),
    Equation(
        "ffmi_height_adjusted_kouri_1995",
        "Fat-free mass index, height-adjusted (Kouri et al. 1995)",
        ("height", "fat_free_mass"),
        ("fat_free_mass_index_adjusted",),
        _adjusted,
        "157 male athletes",
        "not a prediction",
        "Kouri EM et al. Clin J Sport Med 1995;5:223-228",
        "For comparing men of different heights. It is no test of anything a person took.",
    ),
)
