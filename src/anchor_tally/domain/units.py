"""Units: conversion to the canonical unit and the parsing of typed values."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass, replace

from .errors import UserError
from .metrics import Metric

# unit -> (dimension, factor to that dimension's base unit: kg, m, 1 %, ohm, …)
UNITS: dict[str, tuple[str, float]] = {
    "kg": ("mass", 1.0),
    "g": ("mass", 0.001),
    "lb": ("mass", 0.45359237),  # exact: international avoirdupois pound
    "st": ("mass", 6.35029318),  # 14 lb
    "mm": ("length", 0.001),
    "cm": ("length", 0.01),
    "m": ("length", 1.0),
    "in": ("length", 0.0254),
    "ft": ("length", 0.3048),
    "percent": ("percent", 1.0),
    "share": ("percent", 100.0),  # 0.184 of 1
    "ohm": ("resistance", 1.0),
    "kcal/d": ("energy", 1.0),
    "L/min": ("flow", 1.0),
    "1": ("rating", 1.0),
    "g/cm3": ("density", 1.0),
    "kg/L": ("density", 1.0),
    "L": ("volume", 1.0),
    "mL": ("volume", 0.001),
    "degC": ("temperature", 1.0),
    "cm2/ohm": ("index", 1.0),
    "deg": ("angle", 1.0),
    "kg/m2": ("index2", 1.0),
}
ALIASES = {
    "%": "percent",
    "pct": "percent",
    "fraction": "share",
    "kgs": "kg",
    "lbs": "lb",
    "stone": "st",
    '"': "in",
    "inch": "in",
    "inches": "in",
    "'": "ft",
    "foot": "ft",
    "feet": "ft",
    "ω": "ohm",
    "ohms": "ohm",
    "l/min": "L/min",
    "l": "L",
    "ml": "mL",
    "g/cm³": "g/cm3",
    "kg/l": "kg/L",
    "°c": "degC",
    "c": "degC",
    "°": "deg",
    "kcal": "kcal/d",
    "kg/m²": "kg/m2",
    "cm²/ohm": "cm2/ohm",
}
_VULGAR = {
    "¼": " 1/4",
    "½": " 1/2",
    "¾": " 3/4",
    "⅛": " 1/8",
    "⅜": " 3/8",
    "⅝": " 5/8",
    "⅞": " 7/8",
}
_FRACTION = re.compile(r"^\s*(?:(\d+)[\s-]+)?(\d{1,2})\s*/\s*(\d{1,2})\s*([^\d\s.,/+-].*)?$")
LONGEST = 40  # characters of a typed value with its unit
_NUMBER = r"[+-]?(?:[0-9]+(?:[.,][0-9]*)?|[.,][0-9]+)(?:[eE][+-]?[0-9]+)?"
_SIMPLE = re.compile(rf"^\s*({_NUMBER})\s*([^\d\s.,+-].*?)?\s*$")
_COMPOUND = re.compile(
    r"^\s*([0-9]+)\s*(st|stone|ft|foot|feet|')\s*([0-9]+(?:[.,][0-9]*)?)\s*(lb|lbs|in|inch|inches|\")?\s*$",
    re.I,
)


class ValueRefused(UserError):
    """A typed or imported value that cannot be taken; the message states why."""


class OutOfRange(ValueRefused):
    """A value that no person has, such as body fat of 79 %."""


@dataclass(frozen=True, slots=True)
class Quantity:
    """A value in the canonical unit together with the number and unit as entered."""

    value: float
    entered: str
    unit: str


def unit_named(text: str) -> str | None:
    """Return the known unit for ``text`` (aliases allowed), or None."""
    cleaned = text.strip()
    if cleaned in UNITS:
        return cleaned
    low = cleaned.lower()
    return low if low in UNITS else ALIASES.get(low)


def convert(value: float, unit: str, target: str) -> float:
    """Convert between two units of one dimension; same unit returns the number untouched."""
    if unit == target:
        return value
    (dim, factor), (dim_t, factor_t) = UNITS[unit], UNITS[target]
    if dim != dim_t:
        raise ValueRefused(f"{unit} cannot be turned into {target}")
    return value * factor / factor_t


def parse_quantity(text: str, metric: Metric, default_unit: str | None = None) -> Quantity:
    """Read "24,6", "154 lb", "11 st 4", "5ft 10", "34in" or "34 1/2 in" as a value of ``metric``.

    Raises ValueRefused with one sentence for text that is no number, for a unit of another
    dimension and for a value outside the metric's possible range.
    """
    text = text.strip()
    if len(text) > LONGEST:
        raise ValueRefused(f'"{text[:20]}…" is too long for a number')
    text = _decimal(text)
    compound = _COMPOUND.match(text)
    if compound:
        big, small = int(compound[1]), float(compound[3].replace(",", "."))
        stone = compound[2].lower().startswith("st")
        number, unit = (big * 14 + small, "lb") if stone else (big * 12 + small, "in")
        entered = f"{number:g}"
    else:
        simple = _SIMPLE.match(text)
        if simple is None:
            said = f'"{text.strip()}" is not a number' if text else "a number is missing"
            raise ValueRefused(said)
        entered = simple[1].replace(",", ".")
        number = float(entered)
        named = unit_named(simple[2]) if simple[2] else (default_unit or metric.unit)
        if named is None:
            raise ValueRefused(f'unit "{simple[2]}" is not known')
        unit = named
    if UNITS[unit][0] != metric.dimension:
        said = "inches" if unit == "in" else unit
        raise ValueRefused(f"{metric.name} is measured in {metric.unit}, not in {said}")
    value = convert(number, unit, metric.unit)
    if not metric.low <= value <= metric.high:
        raise OutOfRange(
            f"{metric.name} of {value:,.6g} {metric.unit} is not possible (allowed"
            f" {metric.low:g} to {metric.high:g})"
        )
    return Quantity(value, entered, unit)


def _decimal(text: str) -> str:
    """A number with a fraction, as on a tape in inches, as a decimal number.

    Any other text as it is.
    """
    for mark, plain in _VULGAR.items():
        text = text.replace(mark, plain)
    found = _FRACTION.match(text)
    if found is None or int(found[3]) == 0:
        return text.strip()
    return f"{int(found[1] or 0) + int(found[2]) / int(found[3]):.10g} {found[4] or ''}".strip()


def bare_number(text: str) -> bool:
    """Whether a typed text is a number without a unit."""
    found = _SIMPLE.match(_decimal(text))
    return found is not None and not found[2]


def parse_difference(text: str, metric: Metric) -> float:
    """Read a difference or an SD of a metric, in its unit or with one.

    It lies above 0 and is no larger than the largest value of the metric. "pp" is the unit of
    differences of percentages.
    """
    bare = text.strip().removesuffix("pp")
    value = parse_quantity(bare, replace(metric, low=-math.inf, high=math.inf)).value
    if not 0 < value <= metric.high:
        raise ValueRefused(f"it must be above 0 and at most {metric.high:g} {metric.unit}")
    return value
