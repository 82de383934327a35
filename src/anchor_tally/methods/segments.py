"""Segments of a body: their sums, and left minus right."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from .equation import Equation, Floats, Inputs

LIMBS = ("arm_left", "arm_right", "leg_left", "leg_right")
BODY = (*LIMBS, "trunk")


def _sum(name: str, parts: tuple[str, ...]) -> Callable[[Inputs], dict[str, Floats]]:
    return lambda v: {name: np.asarray(np.sum([v[k] for k in parts], axis=0), dtype=float)}


def _less(name: str, left: str, right: str) -> Callable[[Inputs], dict[str, Floats]]:
    return lambda v: {name: np.asarray(v[left] - v[right], dtype=float)}


def _equation(
    name: str,
    label: str,
    inputs: tuple[str, ...],
    function: Callable[[Inputs], dict[str, Floats]],
    output: str,
    advice: str,
) -> Equation:
    return Equation(
        name,
        label,
        inputs,
        (output,),
        function,
        "anyone",
        "not a prediction",
        "common practice",
        advice,
        certainty="definition",
    )


_WITHOUT_HEAD = "The head is not in it: compare only with a value without the head."
_SIDES = (
    "Left and right of one device share its errors, but a cut between regions that is placed"
    " differently moves the difference. Compare it with its own repeats before you call it real."
)
_WORDS = {"lean_soft_tissue": "Lean", "fat_mass": "Fat"}

SEGMENTS = (
    *(
        _equation(
            f"{kind}_sum_of_segments",
            f"{word} without head, sum of segments",
            tuple(f"{kind}_{part}" for part in BODY),
            _sum(f"{kind}_subtotal", tuple(f"{kind}_{part}" for part in BODY)),
            f"{kind}_subtotal",
            _WITHOUT_HEAD,
        )
        for kind, word in _WORDS.items()
    ),
    _equation(
        "appendicular_lean_sum_of_limbs",
        "Appendicular lean, sum of limbs",
        tuple(f"lean_soft_tissue_{part}" for part in LIMBS),
        _sum("appendicular_lean_mass", tuple(f"lean_soft_tissue_{part}" for part in LIMBS)),
        "appendicular_lean_mass",
        "As good as the four values that go in.",
    ),
    *(
        _equation(
            f"{kind}_{limb}s_left_minus_right",
            f"{word} of {limb}s, left minus right",
            (f"{kind}_{limb}_left", f"{kind}_{limb}_right"),
            _less(f"{kind}_{limb}s_difference", f"{kind}_{limb}_left", f"{kind}_{limb}_right"),
            f"{kind}_{limb}s_difference",
            _SIDES,
        )
        for kind, word in _WORDS.items()
        for limb in ("arm", "leg")
    ),
)
