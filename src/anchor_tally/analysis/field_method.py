"""One equation on its own: typed inputs in, outputs with their limits of use out."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from ..domain.errors import UserError
from ..domain.metrics import METRICS, Metric
from ..domain.units import ValueRefused, parse_quantity
from ..methods.equation import brozek
from ..methods.registry import EQUATIONS
from ..methods.skinfold import SITES

_HEIGHT = Metric("height", "Height", "cm", "length", 40, 260, 1, "height", "Stature.")
_SEXES = {"male": 1.0, "m": 1.0, "female": 0.0, "f": 0.0}


class InputRefused(UserError):
    """An input of an equation that is missing or cannot be taken."""


@dataclass(frozen=True, slots=True)
class MethodResult:
    """Outputs of one equation; ``applies`` is False outside its population, with the reasons in ``notes``."""

    id: str
    outputs: dict[str, float]
    applies: bool
    notes: tuple[str, ...]
    source: str


def _number(key: str, text: str) -> float:
    if key == "sex":
        if text.lower() not in _SEXES:
            raise InputRefused("sex must be male or female")
        return _SEXES[text.lower()]
    try:
        if key == "age_years":
            age = float(text.replace(",", "."))
            if not 0 <= age <= 130:
                raise InputRefused(f"age_years of {text} is not possible")
            return age
        return parse_quantity(text, _HEIGHT if key == "height" else METRICS[key]).value
    except ValueRefused as error:
        raise InputRefused(f"{key}: {error}") from error
    except ValueError as error:
        raise InputRefused(f'{key}: "{text}" is not a number') from error


def evaluate(equation_id: str, typed: dict[str, str]) -> MethodResult:
    """Compute one equation from ``key: text`` inputs with units.

    ``sum_skinfolds`` may stand in for the sites of a skinfold equation, ``body_volume`` with ``body_mass`` for density, and
    ``density_equation=brozek_1963`` changes density to fat. Raises InputRefused in one sentence.
    """
    equation = EQUATIONS.get(equation_id)
    if equation is None:
        raise InputRefused(f'no equation has the id "{equation_id}"; see anchor-tally methods')
    typed = dict(typed)
    form = typed.pop("density_equation", "siri_1961")
    if form not in ("siri_1961", "brozek_1963"):
        raise InputRefused("density_equation must be siri_1961 or brozek_1963")
    extra = {"body_volume"} if "body_density" in equation.inputs else set()
    extra |= {"sum_skinfolds"} if equation_id in SITES else set()
    known = {*equation.all_inputs, "sex", "age_years", "height", "body_mass"} | extra
    unknown = sorted(set(typed) - known)
    if unknown:
        raise InputRefused(f"{equation_id} has no input {', '.join(unknown)} (it has {', '.join(equation.all_inputs)})")
    given = {k: _number(k, v) for k, v in typed.items()}
    notes: list[str] = []
    if "sum_skinfolds" in given and equation_id in SITES:
        # the equations use the sum only, so equal parts give the same result
        share = given["sum_skinfolds"] / len(SITES[equation_id])
        given |= dict.fromkeys(SITES[equation_id], share)
    if "body_volume" in given and "body_density" not in given:
        if "body_mass" not in given:
            raise InputRefused("body_volume needs body_mass")
        given["body_density"] = given["body_mass"] / given["body_volume"]
    keys = {*equation.all_inputs, "sex", "age_years", "height", "body_mass"}
    v = {k: np.array([given.get(k, np.nan)]) for k in keys}
    missing = [k for k, gone in equation.missing(v).items() if gone[0]]
    if (equation.men or equation.women) and "sex" not in given:
        missing.append("sex")
    if missing:
        raise InputRefused(f"{equation_id} needs {', '.join(dict.fromkeys(missing))}")
    notes += [reason for reason, out in equation.reasons(v).items() if out[0]]
    if given.get("sex", equation.sexes[0]) not in equation.sexes:
        return MethodResult(equation_id, {}, False, tuple(notes), equation.source)
    applies = not notes
    raw = equation.function(v)
    if form == "brozek_1963" and "body_density" in raw:
        raw["body_fat_percent"] = brozek(raw["body_density"])
        notes.append("density to fat by Brozek 1963")
    outputs = {k: float(x[0]) for k, x in raw.items() if np.isfinite(x[0])}
    if len(outputs) < len(raw):
        applies = False
        notes.append("these inputs cannot be of one body: no value")
    for k, x in outputs.items():
        m = METRICS[k]
        if not m.low <= x <= m.high:
            applies = False
            notes.append(f"{m.label.lower()} of {x:.4g} {m.unit} is not possible: check the inputs")
    if equation.certainty == "from memory":
        notes.append("coefficients from memory, not yet checked against the publication")
    notes.append(equation.advice)
    return MethodResult(equation_id, outputs, applies, tuple(notes), equation.source)


def catalogue() -> list[dict[str, Any]]:
    """All equations with inputs, outputs, population, standard error, source and certainty."""
    return [
        {
            "id": e.id,
            "label": e.label,
            "inputs": list(e.all_inputs),
            "outputs": list(e.outputs),
            "population": e.population,
            "standard_error": e.see,
            "source": e.source,
            "certainty": e.certainty,
            "advice": e.advice,
        }
        for e in EQUATIONS.values()
    ]
