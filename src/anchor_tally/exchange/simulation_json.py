"""The JSON object of the command ``simulate``."""

from __future__ import annotations

import dataclasses
from typing import Any

from ..analysis.plan.simulation import Simulated


def simulation_json(s: Simulated) -> dict[str, Any]:
    """What was drawn, and what the program would say of it."""
    return {
        "schema": "anchor-tally/simulate/1",
        "seed": s.seed,
        "studies": s.studies,
        "refused": s.refused,
        "truth": dataclasses.asdict(s.truth),
        "coverage": {
            name: {"share": r.share, "error": r.error if r.n > 1 else None, "n": r.n}
            for name, r in s.coverage.items()
        },
        "half_widths": dict(s.half_widths),
        "planned_half_widths": dataclasses.asdict(s.planned),
        "bias_error": s.bias_error,
        "offset_rmse": s.offset_rmse,
        "verdicts": {name: dict(found) for name, found in s.verdicts.items()},
    }
