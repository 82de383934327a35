"""The one registry of published equations."""

from __future__ import annotations

from .density import DENSITY
from .energy import ENERGY
from .equation import Equation
from .impedance import IMPEDANCE
from .indices import INDICES
from .size import SIZE
from .skinfold import SKINFOLD

EQUATIONS: dict[str, Equation] = {e.id: e for e in (*SIZE, *SKINFOLD, *INDICES, *IMPEDANCE, *DENSITY, *ENERGY)}
