"""The impedance vector: resistance and reactance over height, beside a reference group.

Piccoli A, Nigrelli S, Caberlotto A et al. 1995, Am J Clin Nutr 61:269 (means, SDs and
correlations from memory).
"""

from __future__ import annotations

import numpy as np

from ..stats.tolerance_ellipse import Bivariate
from .equation import FEMALE, MALE, Equation, Floats, Inputs

# ohm per metre, at 50 kHz, hand to foot
GROUPS = {
    MALE: Bivariate((298.6, 30.8), (43.2, 7.2), 0.47),
    FEMALE: Bivariate((371.9, 34.4), (49.0, 7.7), 0.41),
}
SHARES = (0.50, 0.75, 0.95)
_RAW = ("resistance_50khz", "reactance_50khz")


def _components(v: Inputs) -> dict[str, Floats]:
    metres = v["height"] / 100
    return {
        "resistance_over_height": v["resistance_50khz"] / metres,
        "reactance_over_height": v["reactance_50khz"] / metres,
    }


def _position(v: Inputs) -> dict[str, Floats]:
    parts = _components(v)
    x, y = parts["resistance_over_height"], parts["reactance_over_height"]
    by_sex = {sex: group.share_nearer(x, y) for sex, group in GROUPS.items()}
    return {
        "impedance_vector_position": 100 * np.where(v["sex"] == MALE, by_sex[MALE], by_sex[FEMALE]),
        **parts,
    }


_ADVICE = (
    "Only for hand-to-foot electrodes at 50 kHz. A vector outside the 75 % ellipse is unusual in"
    " its group, outside the 95 % ellipse rare. It is no diagnosis; athletes often have a lower"
    " resistance."
)

VECTOR = (
    Equation(
        "impedance_vector",
        "Impedance vector",
        ("height", *_RAW),
        ("resistance_over_height", "reactance_over_height"),
        _components,
        "anyone",
        "not a prediction",
        "Piccoli A et al. Kidney Int 1994;46:534-539",
        "Compare a person only with the same device and electrode layout.",
        certainty="definition",
    ),
    Equation(
        "impedance_vector_piccoli_1995",
        "Impedance vector beside a reference group (Piccoli 1995)",
        ("sex", "height", *_RAW),
        ("impedance_vector_position", "resistance_over_height", "reactance_over_height"),
        _position,
        "healthy Italian adults, men and women apart",
        "not a prediction",
        "Piccoli A et al. Am J Clin Nutr 1995;61:269-270",
        _ADVICE,
        ages=(15, 85),
    ),
)
