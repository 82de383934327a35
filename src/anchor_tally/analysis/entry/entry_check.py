"""Does a typed value make sense?

Far from the other repeats, the last visit or people; and the typing error that would explain it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from statistics import median

import numpy as np

from ...domain.metrics import Metric
from ...domain.snapshot import Floats
from ...domain.units import ValueRefused, parse_quantity
from ...stats.estimate import Note, note

# how far a value may lie from the other repeats and from the last visit before it is asked about,
# and the range that people have; by metric or dimension (common practice). Shares are of the
# expected value.
_REPEATS = {"percent": (2.0, 0.08), "mass": (1.5, 0.03), "length": (1.5, 0.05)}
_LAST = {"percent": (6.0, 0.3), "mass": (5.0, 0.08), "length": (4.0, 0.12)}
_PEOPLE = {
    "body_mass": (30.0, 200.0),
    "body_fat_percent": (3.0, 60.0),
    "total_body_water_percent": (35.0, 75.0),
    "girth_neck": (25.0, 55.0),
    "girth_arm_relaxed": (15.0, 60.0),
    "girth_arm_flexed": (17.0, 60.0),
    "girth_calf": (20.0, 65.0),
    "girth_thigh": (30.0, 95.0),
    "girth_waist": (45.0, 180.0),
    "girth_hip": (60.0, 180.0),
    "breadth_humerus": (4.5, 9.0),
    "breadth_femur": (6.5, 14.0),
}
_SKINFOLD_REPEATS, _SKINFOLD_LAST = (4.0, 0.3), (8.0, 0.6)
_USUAL = 8.0  # usual SDs from the other repeats


@dataclass(frozen=True, slots=True)
class Doubt:
    """A questionable value: the reason, and the text that a typing error would explain.

    The text is empty when no typing error explains the value.
    """

    note: Note
    instead: str = ""


def reach(metric: Metric, expected: Floats, *, of_repeats: bool = False) -> Floats:
    """How far a value may lie from neighbouring values before the program asks.

    Neighbours are visits nearby or the other repeats; arrays of one shape.
    """
    fold = metric.id.startswith(("skinfold_", "sum_"))
    table = _REPEATS if of_repeats else _LAST
    fixed, share = (
        (_SKINFOLD_REPEATS if of_repeats else _SKINFOLD_LAST)
        if fold
        else table.get(metric.dimension, (0.0, 0.4))
    )
    return np.maximum(fixed, share * np.abs(expected))


def _slips(text: str, metric: Metric) -> list[str]:
    """Texts that a typing error may have turned into ``text``.

    A lost decimal point, another unit, swapped digits, a wrong first digit.
    """
    bare = text.strip().replace(",", ".")
    out: list[str] = []
    digits = bare.replace(".", "", 1)
    if not digits.isdigit():
        return out
    if "." not in bare and len(bare) >= 2:
        out.append(f"{bare[:-1]}.{bare[-1]}")
    if metric.dimension == "mass":
        out.append(f"{bare} lb")
    if metric.dimension == "length" and metric.unit == "cm":
        out.append(f"{bare} in")
    if metric.dimension == "length" and metric.unit == "mm":
        out.append(f"{bare} cm")
    for k in range(len(bare) - 1):
        if bare[k] != bare[k + 1] and "." not in bare[k : k + 2]:
            out.append(bare[:k] + bare[k + 1] + bare[k] + bare[k + 2 :])
    for k, digit in enumerate(bare):  # a leading digit that is one too high or too low
        if k == 0 and digit.isdigit() and len(digits) > 2:
            out += [
                f"{d}{bare[1:]}"
                for d in (int(digit) - 1, int(digit) - 2, int(digit) + 1, int(digit) + 2)
                if 0 < d < 10
            ]
    return out


def doubt(
    text: str,
    metric: Metric,
    *,
    others: Sequence[float] = (),
    last: float | None = None,
    usual_sd: float | None = None,
    mass: float | None = None,
) -> Doubt | None:
    """Whether a typed value is to be asked about before it is kept.

    ``others`` are the other ok repeats, ``last`` the client's value at the visit before,
    ``usual_sd`` the device's within-tally SD, ``mass`` the client's body mass (kg). None when
    the value makes sense, or is not one that can be judged.
    """
    try:
        value: float | None = parse_quantity(text, metric).value
    except ValueRefused:
        value = None
    low, high = _PEOPLE.get(metric.id, (metric.low, metric.high))
    expected, of_repeats = (median(others), True) if others else (last, False)
    if expected is None:
        centre, far = (low + high) / 2, (high - low) / 2
    else:
        centre, far = expected, float(reach(metric, np.asarray(expected), of_repeats=of_repeats))
        if of_repeats and usual_sd is not None:
            far = max(far, _USUAL * usual_sd)
    if value is not None and abs(value - centre) <= far:
        return None
    instead = ""
    best = far
    for candidate in _slips(text, metric):
        try:
            slipped = parse_quantity(candidate, metric).value
        except ValueRefused:
            continue
        gap = abs(slipped - centre)
        if gap < best and (expected is not None or not instead):
            instead, best = candidate, gap if expected is not None else best
    if value is None:
        return Doubt(note("value_impossible", value=text.strip()), instead) if instead else None
    if metric.dimension == "percent" and mass is not None and abs(value - mass) <= 0.03 * mass:
        return Doubt(note("value_is_mass", value=text.strip(), mass=mass), "")
    facts = {"value": text.strip(), "unit": metric.symbol}
    if expected is None:
        return Doubt(note("value_unlikely", **facts), instead)
    code = "value_far_from_repeats" if of_repeats else "value_far_from_last"
    return Doubt(note(code, expected=expected, decimals=metric.decimals, **facts), instead)
