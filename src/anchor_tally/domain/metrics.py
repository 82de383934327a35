"""The metric registry: what can be measured, in which unit, within which bounds."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace


@dataclass(frozen=True, slots=True)
class Metric:
    """One measurable quantity.

    ``low``/``high`` are the bounds of the physically possible in the canonical unit; a value outside is
    refused at entry and at import. Metrics compare only within their ``group``.
    """

    id: str
    label: str
    unit: str
    dimension: str
    low: float
    high: float
    decimals: int
    group: str
    definition: str

    @property
    def difference_unit(self) -> str:
        """Unit of a difference: percentage points are 'pp', never '%'."""
        return "pp" if self.unit == "percent" else self.unit


# fmt: off
_ROWS: tuple[tuple[str, str, str, str, float, float, int, str, str], ...] = (
    ("body_fat_percent", "Body fat", "percent", "percent", 1, 75, 1, "body_fat_percent", "Fat mass as a share of body mass."),
    ("body_mass", "Body mass", "kg", "mass", 2, 700, 1, "body_mass", "Whole body mass."),
    ("fat_mass", "Fat mass", "kg", "mass", 0.2, 300, 1, "fat_mass", "Mass of fat in the whole body."),
    ("fat_free_mass", "Fat-free mass", "kg", "mass", 1, 200, 1, "fat_free_mass", "Body mass less fat, bone mineral included."),
    ("lean_soft_tissue", "Lean soft tissue", "kg", "mass", 1, 200, 1, "lean_soft_tissue", "Fat-free mass without bone mineral."),
    ("total_muscle_mass", "Total muscle", "kg", "mass", 1, 200, 1, "total_muscle_mass", "Device term: muscle of all kinds with its water."),
    ("skeletal_muscle_mass", "Skeletal muscle", "kg", "mass", 1, 120, 1, "skeletal_muscle_mass", "Striated skeletal muscle only."),
    ("skeletal_muscle_percent", "Skeletal muscle share", "percent", "percent", 5, 75, 1, "skeletal_muscle_percent", "Skeletal muscle as a share of body mass."),
    ("appendicular_lean_mass", "Appendicular lean", "kg", "mass", 1, 80, 1, "appendicular_lean_mass", "Lean soft tissue of arms and legs."),
    ("bone_mineral_content", "Bone mineral", "kg", "mass", 0.2, 8, 2, "bone_mineral_content", "Mass of bone mineral, not its density."),
    ("total_body_water_percent", "Body water share", "percent", "percent", 15, 85, 1, "total_body_water_percent", "Body water as a share of body mass."),
    ("total_body_water", "Body water", "kg", "mass", 1, 150, 1, "total_body_water", "Mass of body water."),
    ("visceral_fat_rating", "Visceral fat rating", "1", "rating", 0, 60, 1, "visceral_fat_rating", "A device's own scale; never compared between devices."),
    ("basal_metabolic_rate", "Basal metabolic rate", "kcal/d", "energy", 100, 8000, 0, "basal_metabolic_rate", "Resting energy as displayed by a device."),
    ("resistance_50khz", "Resistance 50 kHz", "ohm", "resistance", 50, 2000, 0, "resistance_50khz", "Whole-body resistance at 50 kHz."),
    ("reactance_50khz", "Reactance 50 kHz", "ohm", "resistance", 5, 300, 1, "reactance_50khz", "Whole-body reactance at 50 kHz."),
    ("skinfold_chest", "Chest skinfold", "mm", "length", 1, 100, 1, "skinfold_chest", "Diagonal fold between nipple and front armpit line."),
    ("skinfold_abdominal", "Abdominal skinfold", "mm", "length", 1, 120, 1, "skinfold_abdominal", "Vertical fold beside the navel."),
    ("skinfold_thigh", "Thigh skinfold", "mm", "length", 1, 120, 1, "skinfold_thigh", "Vertical fold on the front of the thigh, halfway."),
    ("skinfold_triceps", "Triceps skinfold", "mm", "length", 1, 100, 1, "skinfold_triceps", "Vertical fold on the back of the upper arm."),
    ("skinfold_suprailiac", "Suprailiac skinfold", "mm", "length", 1, 120, 1, "skinfold_suprailiac", "Diagonal fold above the hip bone."),
    ("girth_waist", "Waist girth", "cm", "length", 30, 250, 1, "girth_waist", "Waist at the protocol's site (upper edge of the hip bone in the survey data)."),
    ("girth_waist_navel", "Waist girth at navel", "cm", "length", 30, 250, 1, "girth_waist_navel", "Waist at the level of the navel."),
    ("girth_waist_narrowest", "Waist girth, narrowest", "cm", "length", 30, 250, 1, "girth_waist_narrowest", "Waist at its narrowest."),
    ("girth_hip", "Hip girth", "cm", "length", 40, 250, 1, "girth_hip", "Largest girth over the buttocks."),
    ("girth_neck", "Neck girth", "cm", "length", 15, 80, 1, "girth_neck", "Below the larynx."),
    ("peak_expiratory_flow", "Peak expiratory flow", "L/min", "flow", 30, 1000, 0, "peak_expiratory_flow", "Largest flow in one forced breath out; used to check agreement statistics."),
)

# fmt: on
METRICS: dict[str, Metric] = {row[0]: Metric(*row) for row in _ROWS}
_FREQUENCY = re.compile(r"(resistance|reactance)_(\d{1,4})khz")


def metric_named(name: str) -> Metric | None:
    """Return the metric with id ``name``; any frequency in kHz is known for resistance and reactance."""
    key = name.strip().lower()
    if key in METRICS:
        return METRICS[key]
    match = _FREQUENCY.fullmatch(key)
    if match is None:
        return None
    base = METRICS[f"{match[1]}_50khz"]
    return replace(
        base, id=key, group=key, label=base.label.replace("50", match[2]), definition=base.definition.replace("50", match[2])
    )
