"""The one registry of published equations."""

from __future__ import annotations

from typing import Any

from .density import DENSITY
from .energy import ENERGY
from .equation import Equation
from .impedance import IMPEDANCE
from .impedance_vector import VECTOR
from .indices import INDICES
from .segments import SEGMENTS
from .size import SIZE
from .skinfold import SKINFOLD

EQUATIONS: dict[str, Equation] = {
    e.id: e for e in (*SIZE, *SKINFOLD, *INDICES, *IMPEDANCE, *VECTOR, *SEGMENTS, *DENSITY, *ENERGY)
}


def catalogue() -> list[dict[str, Any]]:
    """List all equations.

    Returns
    -------
    list of dict
        One entry an equation: inputs, outputs, population, standard error, source, and whether the
        coefficients were checked against the publication.
    """
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
