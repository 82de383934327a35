"""What a published equation is: inputs, outputs, function, population, limits and source."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
Inputs = Mapping[str, Floats]
MALE, FEMALE = 1.0, 0.0


@dataclass(frozen=True, slots=True)
class Equation:
    """A published equation.

    ``inputs`` are metric ids plus sex (1 male, 0 female), age_years, height (cm), body_mass
    (kg), all arrays of one shape; ``function`` returns one array for each of ``outputs``, the
    main one first. ``men`` and ``women`` are inputs of one sex only. ``sexes`` and ``ages``
    bound the population (``ages_women`` where women's ages are others); ``turns_at`` names
    inputs and the sum in mm above which the curve turns back; ``folds`` names sites and the
    range of their sum in the sample (mm): within it a high body mass index does not matter;
    ``instead`` names what may replace an input; ``see`` is the standard error of estimate
    as published, in words, and ``standard_error`` the same as numbers by metric, of several
    groups the largest; ``certainty`` says how the coefficients were checked.
    """

    id: str
    label: str
    inputs: tuple[str, ...]
    outputs: tuple[str, ...]
    function: Callable[[Inputs], dict[str, Floats]]
    population: str
    see: str
    source: str
    advice: str
    sexes: tuple[float, ...] = (MALE, FEMALE)
    ages: tuple[float, float] = (0, 120)
    ages_women: tuple[float, float] | None = None
    bmi_high: float = np.inf
    men: tuple[str, ...] = ()
    women: tuple[str, ...] = ()
    certainty: str = "from memory"
    turns_at: tuple[tuple[str, ...], float] | None = None
    folds: tuple[tuple[str, ...], float, float] | None = None
    instead: tuple[tuple[str, tuple[str, ...]], ...] = ()
    standard_error: tuple[tuple[str, float], ...] = ()

    def filled(self, v: Inputs) -> dict[str, Floats]:
        """Inputs with what may replace one that was not taken, the first that was."""
        out = dict(v)
        for key, others in self.instead:
            for other in others:
                out[key] = np.where(np.isnan(out[key]), out[other], out[key])
        return out

    def error_in(self, metric: str) -> float | None:
        """Return the published standard error of estimate in a metric, in its unit.

        None where none was published.
        """
        return dict(self.standard_error).get(metric)

    @property
    def substitutes(self) -> tuple[str, ...]:
        """Inputs that may be used in place of another one."""
        return tuple(other for _, others in self.instead for other in others)

    @property
    def all_inputs(self) -> tuple[str, ...]:
        """Inputs of both sexes."""
        return self.inputs + self.men + self.women

    def missing(self, v: Inputs) -> dict[str, npt.NDArray[np.bool_]]:
        """Where an input that the equation needs is not there (NaN): input to a mask."""
        out = {k: np.isnan(v[k]) for k in self.inputs}
        out |= {k: np.isnan(v[k]) & (v["sex"] == MALE) for k in self.men}
        return out | {k: np.isnan(v[k]) & (v["sex"] == FEMALE) for k in self.women}

    def reasons(self, v: Inputs) -> dict[str, npt.NDArray[np.bool_]]:
        """Reasons why a person lies outside the population, each with a mask.

        Unknown age, height or mass never counts as outside.
        """
        age = v["age_years"]
        if self.ages_women is None:
            out = {
                f"the equation is for ages {self.ages[0]:g} to {self.ages[1]:g}": (
                    (age < self.ages[0]) | (age > self.ages[1])
                )
            }
        else:
            out = {
                f"the equation is for {who} aged {low:g} to {high:g}": (
                    (v["sex"] == sex) & ((age < low) | (age > high))
                )
                for who, sex, (low, high) in (
                    ("men", MALE, self.ages),
                    ("women", FEMALE, self.ages_women),
                )
            }
        if self.turns_at is not None:
            total = np.sum([v[k] for k in self.turns_at[0]], axis=0)
            out[f"above a sum of {self.turns_at[1]:.0f} mm its curve turns back"] = (
                total > self.turns_at[1]
            )
        lean = np.zeros(np.shape(age), dtype=bool)
        if self.folds is not None:
            sites, low, high = self.folds
            total = np.sum([v[k] for k in sites], axis=0)
            lean = (total >= low) & (total <= high)
            out[f"the sum of folds is outside the sample ({low:g} to {high:g} mm)"] = (
                total < low
            ) | (total > high)
        if np.isfinite(self.bmi_high):
            out[f"the equation is not for a BMI above {self.bmi_high:g}"] = ~lean & (
                v["body_mass"] / (v["height"] / 100) ** 2 > self.bmi_high
            )
        if self.sexes != (MALE, FEMALE):
            wanted = "men" if MALE in self.sexes else "women"
            out[f"the equation is for {wanted}"] = ~np.isin(v["sex"], self.sexes)
        return out


def siri(density: Floats) -> Floats:
    """Body fat from body density by the two-compartment model of Siri.

    Parameters
    ----------
    density : ndarray, shape (n,)
        Body density in g/cm³.

    Returns
    -------
    ndarray, shape (n,)
        Body fat in percent of body mass.

    References
    ----------
    Siri 1961.

    Examples
    --------
    >>> import numpy as np
    >>> siri(np.array([1.05, 1.1]))
    array([21.42857143,  0.        ])
    """
    return 495 / density - 450


def brozek(density: Floats) -> Floats:
    """Body fat from body density by the two-compartment model of Brozek.

    Parameters
    ----------
    density : ndarray, shape (n,)
        Body density in g/cm³.

    Returns
    -------
    ndarray, shape (n,)
        Body fat in percent of body mass.

    References
    ----------
    Brozek et al. 1963.
    """
    return 457 / density - 414.2


def from_density(density: Floats) -> dict[str, Floats]:
    """Make the outputs of an equation that predicts body density.

    Parameters
    ----------
    density : ndarray, shape (n,)
        Body density in g/cm³.

    Returns
    -------
    dict of str to ndarray, shape (n,)
        ``body_density`` in g/cm³, and ``body_fat_percent`` by Siri.
    """
    return {"body_fat_percent": siri(density), "body_density": density}


def from_fat_free_mass(ffm: Floats, mass: Floats) -> dict[str, Floats]:
    """Make the outputs of an equation that predicts fat-free mass.

    Parameters
    ----------
    ffm, mass : ndarray, shape (n,)
        Fat-free mass and body mass in kg.

    Returns
    -------
    dict of str to ndarray, shape (n,)
        ``fat_free_mass`` in kg and ``body_fat_percent``.
    """
    return {"fat_free_mass": ffm, "body_fat_percent": 100 * (1 - ffm / mass)}
