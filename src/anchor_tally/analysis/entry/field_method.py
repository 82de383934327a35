"""One equation on its own: typed inputs in, outputs with their limits of use out."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from ...domain.errors import UserError
from ...domain.events import AssessorValue
from ...domain.metrics import HEIGHT, metric_of
from ...domain.stations import Station
from ...domain.units import ValueRefused, parse_quantity
from ...methods.density import residual_volume
from ...methods.equation import MALE, Equation, Floats, brozek
from ...methods.registry import EQUATIONS
from ...methods.skinfold import SITES
from ...stats.estimate import Note
from ..people.cautions import essential_fat
from .assessor import errors_of

_PERSON = ("sex", "age_years", "height", "body_mass")
ESTIMATED_RESIDUAL = "residual_volume_goldman_becklake_1959"
_SEXES = {"male": 1.0, "m": 1.0, "female": 0.0, "f": 0.0}


class InputRefused(UserError):
    """An input of an equation that is missing or cannot be taken."""


@dataclass(frozen=True, slots=True)
class MethodResult:
    """Outputs of one equation.

    ``applies`` is False outside its population, with the reasons in ``notes``.
    """

    id: str
    outputs: dict[str, float]
    applies: bool
    notes: tuple[str, ...]
    source: str


def parse_input(key: str, text: str) -> float:
    """One typed input as a number in the canonical unit (sex: 1 male, 0 female).

    Raises InputRefused.
    """
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
        return parse_quantity(text, HEIGHT if key == "height" else metric_of(key)).value
    except ValueRefused as error:
        raise InputRefused(f"{key}: {error}") from error
    except ValueError as error:
        raise InputRefused(f'{key}: "{text}" is not a number') from error


@dataclass(frozen=True, slots=True)
class MethodLine:
    """One equation for one person: the number with its limits, or the reason why there is none.

    ``state`` is applies, outside (a number, but the person is outside the population), unfit (no
    number for this person) or missing (``missing`` names the inputs). ``value`` is the main
    output, in ``metric``; ``others`` are the further outputs.
    """

    id: str
    label: str
    metric: str
    state: str
    value: float | None
    others: tuple[tuple[str, float], ...]
    reasons: tuple[str, ...]
    missing: tuple[str, ...]
    see: str
    certainty: str
    source: str
    caution: Note | None = None

    @property
    def for_others(self) -> bool:
        """Whether the equation is for people of another sex, age or build."""
        return self.state in ("unfit", "outside") and any(
            r.startswith("the equation is") for r in self.reasons
        )


@dataclass(frozen=True, slots=True)
class Sensitivity:
    """Effect of a reading error of ``step`` (in ``unit``) in one input on the main output."""

    input: str
    step: float
    unit: str
    change: float


# one step of a reading, by kind of input: one millimetre, one centimetre, what a tired hand misses
# by
STEPS: tuple[tuple[str, float, str], ...] = (
    ("skinfold_", 1.0, "mm"),
    ("sum_skinfolds", 1.0, "mm"),
    ("girth_", 1.0, "cm"),
    ("breadth_", 0.1, "cm"),
    ("height", 1.0, "cm"),
    ("body_mass", 1.0, "kg"),
    ("resistance_", 10.0, "ohm"),
    ("reactance_", 1.0, "ohm"),
    ("age_years", 1.0, "year"),
    ("body_density", 0.001, "g/cm3"),
    ("residual_volume", 0.1, "L"),
    ("mass_in_water", 0.1, "kg"),
    ("water_temperature", 1.0, "degC"),
    ("total_body_water", 1.0, "kg"),
    ("appendicular_lean_mass", 1.0, "kg"),
    ("bone_mineral_content", 0.1, "kg"),
    ("fat_mass_", 0.1, "kg"),
    ("lean_soft_tissue", 0.1, "kg"),
    ("fat", 1.0, "kg"),
    ("body_fat", 1.0, "percent"),
)


def _with_substitutes(
    equation: Equation, given: dict[str, float], form: str
) -> tuple[dict[str, float], list[str]]:
    """Fill in substitutes for missing inputs.

    A sum for its sites, a volume for density, an estimated residual volume.
    """
    out, notes = dict(given), []
    sites = SITES.get(equation.id, ())
    if "sum_skinfolds" in given and sites:
        # the equations use the sum only, so equal parts give the same result
        out |= dict.fromkeys(sites, given["sum_skinfolds"] / len(sites))
    if "body_volume" in given and "body_density" not in given and "body_density" in equation.inputs:
        if "body_mass" not in given:
            raise InputRefused("body_volume needs body_mass")
        out["body_density"] = given["body_mass"] / given["body_volume"]
    for key, others in equation.instead:
        other = next((o for o in others if o in given), None)
        if key not in given and other is not None:
            out[key] = given[other]
            notes.append(f"from the {metric_of(other).name}")
    person = {"sex", "age_years", "height"}
    if (
        "residual_volume" in equation.inputs
        and "residual_volume" not in given
        and person <= given.keys()
    ):
        estimate = float(residual_volume({k: np.array([given[k]]) for k in person})[0])
        out["residual_volume"] = estimate
        notes.append(
            f"residual volume estimated as {estimate:.2f} L (Goldman & Becklake 1959, coefficients"
            " from memory)"
        )
    if form == "brozek_1963" and "body_density" in equation.outputs:
        notes.append("density to fat by Brozek 1963")
    return out, notes


def _vector(equation: Equation, given: dict[str, float]) -> dict[str, Floats]:
    keys = {*equation.all_inputs, *_PERSON}
    return {k: np.array([given.get(k, np.nan)]) for k in keys}


def _missing(equation: Equation, v: dict[str, Floats]) -> tuple[str, ...]:
    gone = [k for k, mask in equation.missing(v).items() if mask[0]]
    if (equation.men or equation.women) and np.isnan(v["sex"][0]):
        gone.append("sex")
    return tuple(dict.fromkeys(gone))


def _outputs(
    equation: Equation, v: dict[str, Floats], form: str
) -> tuple[dict[str, float], list[str]]:
    """Finite outputs, and the reasons why they cannot be of one body."""
    raw = equation.function(v)
    if form == "brozek_1963" and "body_density" in raw:
        raw["body_fat_percent"] = brozek(raw["body_density"])
    outputs = {k: float(x[0]) for k, x in raw.items() if np.isfinite(x[0])}
    odd = [] if len(outputs) == len(raw) else ["these inputs do not belong to one body: no value"]
    for k, x in outputs.items():
        m = metric_of(k)
        if not m.low <= x <= m.high:
            odd.append(f"{m.name} of {x:.4g} {m.unit} is not possible: check the inputs")
    return outputs, odd


def evaluate(equation_id: str, typed: dict[str, str]) -> MethodResult:
    """Compute one equation from ``key: text`` inputs with units.

    ``sum_skinfolds`` may replace the sites of a skinfold equation, ``body_volume`` with
    ``body_mass`` for density; a missing ``residual_volume`` is estimated and stated;
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
    extra |= set(equation.substitutes)
    unknown = sorted(set(typed) - {*equation.all_inputs, *_PERSON, *extra})
    if unknown:
        raise InputRefused(
            f"{equation_id} has no input {', '.join(unknown)} (it has"
            f" {', '.join(equation.all_inputs)})"
        )
    if typed.get("residual_volume") == ESTIMATED_RESIDUAL:
        del typed["residual_volume"]
    given, substituted = _with_substitutes(
        equation, {k: parse_input(k, v) for k, v in typed.items()}, form
    )
    v = _vector(equation, given)
    missing = _missing(equation, v)
    if missing:
        raise InputRefused(f"{equation_id} needs {', '.join(missing)}")
    notes = [reason for reason, out in equation.reasons(v).items() if out[0]]
    if given.get("sex", equation.sexes[0]) not in equation.sexes:
        return MethodResult(equation_id, {}, False, tuple(notes), equation.source)
    outputs, odd = _outputs(equation, v, form)
    notes += odd
    applies = not notes
    notes += substituted
    if equation.certainty == "from memory":
        notes.append("coefficients from memory, not checked against the publication")
    if (
        essential_fat(
            "body_fat_percent", typed.get("sex", ""), outputs.get("body_fat_percent", math.inf)
        )
        is not None
    ):
        notes.append("at or below essential fat: check the value; if it is true, stop and refer")
    notes.append(equation.advice)
    return MethodResult(equation_id, outputs, applies, tuple(notes), equation.source)


_ORDER = {"applies": 0, "outside": 1, "missing": 2, "unfit": 3}


def rank(x: MethodLine) -> tuple[int, int]:
    """Sort key: equations with a result, then those with a missing input, then those for others."""
    return _ORDER[x.state], len(x.missing)


def side_by_side(given: dict[str, float], form: str = "siri_1961") -> tuple[MethodLine, ...]:
    """Evaluate every equation for one person.

    ``given`` holds canonical values by input key (sex 1 male, 0 female).
    """
    return tuple(line(equation, given, form) for equation in EQUATIONS.values())


def spread(lines: Iterable[MethodLine], metric: str) -> tuple[int, float, float] | None:
    """Number of equations that apply and give ``metric``, with the lowest and the highest value.

    None with fewer than two.
    """
    values = [
        x.value
        for x in lines
        if x.state == "applies" and x.metric == metric and x.value is not None
    ]
    return (len(values), min(values), max(values)) if len(values) > 1 else None


def line(equation: Equation, given: dict[str, float], form: str = "siri_1961") -> MethodLine:
    """One equation for one person."""

    def made(
        state: str, outputs: dict[str, float], reasons: list[str], missing: tuple[str, ...] = ()
    ) -> MethodLine:
        main = equation.outputs[0]
        return MethodLine(
            equation.id,
            equation.label,
            main,
            state,
            outputs.get(main),
            tuple((k, x) for k, x in outputs.items() if k != main),
            tuple(reasons),
            missing,
            equation.see,
            equation.certainty,
            equation.source,
            essential_fat(main, _sex_words(given), outputs[main]) if main in outputs else None,
        )

    usable = {k: x for k, x in given.items() if k != "body_volume" or "body_mass" in given}
    full, substituted = _with_substitutes(equation, usable, form)
    v = _vector(equation, full)
    if not np.isnan(v["sex"][0]) and v["sex"][0] not in equation.sexes:
        return made(
            "unfit", {}, [f"the equation is for {'men' if MALE in equation.sexes else 'women'}"]
        )
    missing = _missing(equation, v)
    if missing:
        return made("missing", {}, [], missing)
    outside = [reason for reason, out in equation.reasons(v).items() if out[0]]
    outputs, odd = _outputs(equation, v, form)
    if odd:
        return made("unfit", {}, odd + outside)
    return made("outside" if outside else "applies", outputs, outside + substituted)


def _sex_words(given: dict[str, float]) -> str:
    """The equation sex as written on a client's card."""
    return {MALE: "male", 0.0: "female"}.get(given.get("sex", math.nan), "")


def sensitivity(
    equation: Equation, given: dict[str, float], form: str = "siri_1961"
) -> tuple[Sensitivity, ...]:
    """Effect of one step of reading error in each input on the main output.

    Empty when an input is missing. The change is f(x + step) − f(x); errors of the other sign
    change it the other way.
    """
    full, _ = _with_substitutes(equation, given, form)
    if _missing(equation, _vector(equation, full)):
        return ()
    keys = [k for k in dict.fromkeys(equation.all_inputs) if k in full and k != "sex"]
    if equation.men or equation.women:
        other = equation.women if full.get("sex") == MALE else equation.men
        own = equation.men if full.get("sex") == MALE else equation.women
        keys = [k for k in keys if k not in other or k in own]
    steps = [next((size, unit) for start, size, unit in STEPS if k.startswith(start)) for k in keys]
    base = np.array([full.get(k, np.nan) for k in keys])
    shifted = (
        np.vstack([base, base + np.diag([size for size, _ in steps])]) if keys else np.empty((1, 0))
    )
    fixed = {
        k: np.full(len(keys) + 1, full.get(k, np.nan)) for k in {*equation.all_inputs, *_PERSON}
    }
    raw = equation.function({**fixed, **{k: shifted[:, n] for n, k in enumerate(keys)}})
    if form == "brozek_1963" and "body_density" in raw:
        raw["body_fat_percent"] = brozek(raw["body_density"])
    main = raw[equation.outputs[0]]
    found = zip(keys, steps, main[1:] - main[0], strict=True)
    return tuple(
        Sensitivity(k, size, unit, float(change))
        for k, (size, unit), change in found
        if np.isfinite(change)
    )


def station_results(
    station: Station,
    given: dict[str, float],
    sex: str,
    checks: Iterable[AssessorValue],
    assessor: str,
) -> tuple[list[MethodLine], dict[str, float]]:
    """Equations that use what a station measures.

    With the SD that the assessor's own error gives each result, by equation.

    A reference is no input of an equation; without a check of the assessor there are no errors.
    """
    known = dict(given)
    if sex:
        known.setdefault("sex", _SEXES[sex])
    metrics = set(station.metrics) if station.kind == "method" else set()
    lines = [
        x
        for x in side_by_side(known)
        if metrics & {*EQUATIONS[x.id].all_inputs, *EQUATIONS[x.id].substitutes}
    ]
    tem = errors_of(checks, assessor) if assessor else {}
    errors = {}
    for x in lines if tem else ():
        sd = (
            reading_error(sensitivity(EQUATIONS[x.id], known), tem, station.repeats)
            if x.value is not None
            else None
        )
        if sd is not None:
            errors[x.id] = sd
    return lines, errors


def reading_error(
    changes: Iterable[Sensitivity], tem: dict[str, float], repeats: int
) -> float | None:
    """SD of an equation's result from the assessor's error alone.

    Each input is the mean of ``repeats`` readings.

    First-order propagation of independent errors, √Σ(∂f/∂x · TEM)²/√repeats, in the unit of the
    result; None when no input has a known error (common practice). Inputs without a known error
    count as free of it.
    """
    parts = [s.change / s.step * tem[s.input] for s in changes if s.input in tem]
    return float(np.sqrt(np.sum(np.square(parts)) / repeats)) if parts else None
