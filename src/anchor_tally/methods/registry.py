"""The registry of published equations and what each needs, yields and is good for."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
Inputs = Mapping[str, Floats]


@dataclass(frozen=True, slots=True)
class Equation:
    """A published equation.

    ``inputs`` are metric ids plus sex (1 male, 0 female), age_years, height (cm), body_mass (kg); ``function``
    maps arrays of one shape to the ``output`` metric. ``applies`` gives True where the person lies in the population.
    ``see`` is the standard error of estimate as published, in the output's unit, with its wording.
    """

    id: str
    label: str
    inputs: tuple[str, ...]
    output: str
    function: Callable[[Inputs], Floats]
    applies: Callable[[Inputs], npt.NDArray[np.bool_]]
    population: str
    see: str
    source: str
    certainty: str
    advice: str


def _deurenberg(v: Inputs) -> Floats:
    bmi = v["body_mass"] / (v["height"] / 100) ** 2
    adult = 1.20 * bmi + 0.23 * v["age_years"] - 10.8 * v["sex"] - 5.4
    child = 1.51 * bmi - 0.70 * v["age_years"] - 3.6 * v["sex"] + 1.4
    return np.where(v["age_years"] <= 15, child, adult)


def _relative_fat_mass(v: Inputs) -> Floats:
    return 64 - 20 * v["height"] / v["girth_waist"] + 12 * (1 - v["sex"])


EQUATIONS: dict[str, Equation] = {
    e.id: e
    for e in (
        Equation(
            "bmi_deurenberg_1991",
            "BMI equation (Deurenberg 1991)",
            ("sex", "age_years", "height", "body_mass"),
            "body_fat_percent",
            _deurenberg,
            lambda v: (v["age_years"] >= 7) & (v["age_years"] <= 83),
            "1,229 people aged 7 to 83, BMI 13.9 to 40.9",
            "4.1 percent body fat (adults)",
            "Deurenberg P, Weststrate JA, Seidell JC. Br J Nutr 1991;65:105-114",
            "published",
            "Reads muscular people high: it sees only height, mass, age and sex.",
        ),
        Equation(
            "rfm_woolcott_bergman_2018",
            "Relative fat mass (Woolcott & Bergman 2018)",
            ("sex", "height", "girth_waist"),
            "body_fat_percent",
            _relative_fat_mass,
            lambda v: ~(v["age_years"] < 18),
            "12,581 adults aged 20 and over, US national survey 1999-2006",
            "not published as a standard error",
            "Woolcott OO, Bergman RN. Sci Rep 2018;8:10980",
            "published",
            "For adults; the waist is taken at the upper edge of the hip bone.",
        ),
    )
}
