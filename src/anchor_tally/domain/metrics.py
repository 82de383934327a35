"""The metric registry: what can be measured, in which unit, within which bounds."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace


@dataclass(frozen=True, slots=True)
class Metric:
    """One measurable quantity.

    ``low``/``high`` are the bounds of the physically possible in the canonical unit; a value
    outside is refused at entry and at import. Metrics compare only within their ``group``.
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
    def name(self) -> str:
        """The label within a sentence: "reactance 50 kHz"."""
        return self.label[:1].lower() + self.label[1:]

    @property
    def margin(self) -> float | None:
        """The difference that matters where the study states none (common practice).

        Only body fat has one.
        """
        return 2.0 if self.group == "body_fat_percent" else None

    @property
    def device_only(self) -> bool:
        """Whether the metric is a device's own scale, which is never compared."""
        return self.dimension == "rating" and self.id.startswith(("own_", "visceral_fat_rating"))

    @property
    def symbol(self) -> str:
        """Unit of a value as people write it: "%", never "percent"; nothing for pure numbers."""
        return SYMBOLS.get(self.unit, self.unit)

    @property
    def difference_unit(self) -> str:
        """Unit of a difference: percentage points are 'pp', never '%'."""
        return {"percent": "pp", "1": "1"}.get(self.unit, self.symbol)


# units that people write in another way than files do
SYMBOLS = {
    "percent": "%",
    "1": "",
    "kg/m2": "kg/m²",
    "cm2/ohm": "cm²/ohm",
    "g/cm3": "g/cm³",
    "degC": "°C",
}

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
    ("total_muscle_percent", "Total muscle share", "percent", "percent", 10, 95, 1, "total_muscle_percent", "Device term: muscle of all kinds as a share of body mass."),
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
    ("girth_waist_narrowest", "Narrowest waist girth", "cm", "length", 30, 250, 1, "girth_waist_narrowest", "Waist at its narrowest."),
    ("girth_hip", "Hip girth", "cm", "length", 40, 250, 1, "girth_hip", "Largest girth over the buttocks."),
    ("girth_neck", "Neck girth", "cm", "length", 15, 80, 1, "girth_neck", "Below the larynx."),
    ("skinfold_subscapular", "Subscapular skinfold", "mm", "length", 1, 120, 1, "skinfold_subscapular", "Diagonal fold below the shoulder blade."),
    ("skinfold_biceps", "Biceps skinfold", "mm", "length", 1, 100, 1, "skinfold_biceps", "Vertical fold on the front of the upper arm."),
    ("skinfold_midaxillary", "Midaxillary skinfold", "mm", "length", 1, 120, 1, "skinfold_midaxillary", "Fold on the midaxillary line at the level of the lower breastbone."),
    ("skinfold_supraspinale", "Supraspinale skinfold", "mm", "length", 1, 120, 1, "skinfold_supraspinale", "Diagonal fold above the front hip spine."),
    ("skinfold_medial_calf", "Medial calf skinfold", "mm", "length", 1, 100, 1, "skinfold_medial_calf", "Vertical fold on the inside of the calf at its largest girth."),
    ("skinfold_iliac_crest", "Iliac crest skinfold", "mm", "length", 1, 120, 1, "skinfold_iliac_crest", "Fold directly above the hip bone on the side of the body."),
    ("sum_skinfolds", "Sum of skinfolds", "mm", "length", 3, 700, 1, "sum_skinfolds", "Sum of the sites of an equation."),
    ("sum_skinfolds_3", "Sum of 3 skinfolds", "mm", "length", 3, 360, 1, "sum_skinfolds_3", "Men: chest, abdominal, thigh; women: triceps, suprailiac, thigh."),
    ("sum_skinfolds_4", "Sum of 4 skinfolds", "mm", "length", 4, 440, 1, "sum_skinfolds_4", "Biceps, triceps, subscapular, suprailiac."),
    ("sum_skinfolds_6", "Sum of 6 skinfolds", "mm", "length", 6, 680, 1, "sum_skinfolds_6", "Triceps, subscapular, supraspinale, abdominal, thigh, medial calf."),
    ("sum_skinfolds_7", "Sum of 7 skinfolds", "mm", "length", 7, 800, 1, "sum_skinfolds_7", "Chest, midaxillary, triceps, subscapular, abdominal, suprailiac, thigh."),
    ("sum_skinfolds_8", "Sum of 8 skinfolds", "mm", "length", 8, 900, 1, "sum_skinfolds_8", "Triceps, subscapular, biceps, iliac crest, supraspinale, abdominal, thigh, medial calf."),
    ("girth_chest", "Chest girth", "cm", "length", 40, 220, 1, "girth_chest", "At the level of the middle of the breastbone, after a normal breath out."),
    ("girth_arm_relaxed", "Relaxed arm girth", "cm", "length", 10, 80, 1, "girth_arm_relaxed", "Upper arm hanging, halfway between shoulder and elbow."),
    ("girth_thigh", "Thigh girth", "cm", "length", 25, 120, 1, "girth_thigh", "Halfway between the groin fold and the top of the kneecap."),
    ("girth_arm_flexed", "Flexed arm girth", "cm", "length", 12, 80, 1, "girth_arm_flexed", "Upper arm, flexed and tensed."),
    ("girth_calf", "Calf girth", "cm", "length", 15, 80, 1, "girth_calf", "Largest girth of the calf."),
    ("breadth_humerus", "Humerus breadth", "cm", "length", 3, 12, 1, "breadth_humerus", "Between the epicondyles of the humerus."),
    ("breadth_femur", "Femur breadth", "cm", "length", 4, 16, 1, "breadth_femur", "Between the epicondyles of the femur."),
    ("body_density", "Body density", "g/cm3", "density", 0.9, 1.12, 4, "body_density", "Mass over volume of the whole body."),
    ("body_volume", "Body volume", "L", "volume", 2, 700, 2, "body_volume", "Volume of the body without lung and gut gas."),
    ("residual_volume", "Residual volume", "L", "volume", 0.3, 5, 2, "residual_volume", "Gas left in the lungs after a full breath out."),
    ("mass_in_water", "Mass in water", "kg", "mass", 0, 30, 2, "mass_in_water", "Scale value of the submerged body, tare taken off."),
    ("water_temperature", "Water temperature", "degC", "temperature", 10, 45, 1, "water_temperature", "Temperature of the weighing tank."),
    ("impedance_index", "Impedance index", "cm2/ohm", "index", 5, 250, 1, "impedance_index", "Height squared over resistance."),
    ("phase_angle", "Phase angle", "deg", "angle", 1, 20, 1, "phase_angle", "Arc tangent of reactance over resistance."),
    ("resistance_over_height", "Resistance over height", "ohm/m", "impedance", 20, 1500, 1, "resistance_over_height", "Resistance at 50 kHz over height: first part of the impedance vector."),
    ("reactance_over_height", "Reactance over height", "ohm/m", "impedance", 2, 250, 1, "reactance_over_height", "Reactance at 50 kHz over height: second part of the impedance vector."),
    ("impedance_vector_position", "Ellipse of the impedance vector", "percent", "percent", 0, 100, 0, "impedance_vector_position", "Share of a reference group inside the tolerance ellipse through the vector."),
    ("lean_soft_tissue_arms_difference", "Lean of arms, left minus right", "kg", "mass", -20, 20, 2, "lean_soft_tissue_arms_difference", "Lean soft tissue of the left arm less that of the right."),
    ("lean_soft_tissue_legs_difference", "Lean of legs, left minus right", "kg", "mass", -30, 30, 2, "lean_soft_tissue_legs_difference", "Lean soft tissue of the left leg less that of the right."),
    ("fat_mass_arms_difference", "Fat of arms, left minus right", "kg", "mass", -20, 20, 2, "fat_mass_arms_difference", "Fat of the left arm less that of the right."),
    ("fat_mass_legs_difference", "Fat of legs, left minus right", "kg", "mass", -40, 40, 2, "fat_mass_legs_difference", "Fat of the left leg less that of the right."),
    ("body_mass_index", "Body mass index", "kg/m2", "index2", 5, 150, 1, "body_mass_index", "Body mass over height squared."),
    ("waist_hip_ratio", "Waist to hip", "1", "rating", 0.3, 2.5, 2, "waist_hip_ratio", "Waist girth over hip girth."),
    ("waist_height_ratio", "Waist to height", "1", "rating", 0.15, 1.8, 2, "waist_height_ratio", "Waist girth over height."),
    ("fat_free_mass_index", "Fat-free mass index", "kg/m2", "index2", 3, 60, 1, "fat_free_mass_index", "Fat-free mass over height squared."),
    ("fat_free_mass_index_adjusted", "Fat-free mass index, height-adjusted", "kg/m2", "index2", 3, 60, 1, "fat_free_mass_index_adjusted", "Fat-free mass index as at a height of 1.80 m."),
    ("appendicular_lean_index", "Appendicular lean index", "kg/m2", "index2", 1, 30, 1, "appendicular_lean_index", "Lean soft tissue of both arms and both legs over height squared."),
    ("fat_mass_index", "Fat mass index", "kg/m2", "index2", 0.1, 100, 1, "fat_mass_index", "Fat mass over height squared."),
    ("body_fat_percent_low", "Body fat, low end", "percent", "percent", 1, 75, 0, "body_fat_percent_low", "Lower end of a visual estimate."),
    ("body_fat_percent_high", "Body fat, high end", "percent", "percent", 1, 75, 0, "body_fat_percent_high", "Upper end of a visual estimate."),
    ("endomorphy", "Endomorphy", "1", "rating", 0, 20, 1, "endomorphy", "First component of the somatotype."),
    ("mesomorphy", "Mesomorphy", "1", "rating", -5, 20, 1, "mesomorphy", "Second component of the somatotype."),
    ("ectomorphy", "Ectomorphy", "1", "rating", 0, 15, 1, "ectomorphy", "Third component of the somatotype."),
    ("peak_expiratory_flow", "Peak expiratory flow", "L/min", "flow", 30, 1000, 0, "peak_expiratory_flow", "Largest flow in one forced breath out; used to check agreement statistics."),
)

# fmt: on
METRICS: dict[str, Metric] = {row[0]: Metric(*row) for row in _ROWS}
# stature belongs to a person, never read by an instrument, so it is no metric of the registry
HEIGHT = Metric("height", "Height", "cm", "length", 40, 260, 1, "height", "Stature.")
_FREQUENCY = re.compile(
    r"(resistance|reactance)_(?:(arm_left|arm_right|leg_left|leg_right|trunk)_)?(\d{1,4})khz"
)
_OWN = re.compile(r"own_[a-z0-9][a-z0-9_]{0,39}")
REGIONS = {
    "subtotal": "without head",
    "arm_left": "left arm",
    "arm_right": "right arm",
    "leg_left": "left leg",
    "leg_right": "right leg",
    "trunk": "trunk",
    "head": "head",
}
REGIONAL = (
    "fat_mass",
    "lean_soft_tissue",
    "bone_mineral_content",
    "body_fat_percent",
    "total_muscle_mass",
    "skeletal_muscle_mass",
    "total_muscle_percent",
    "skeletal_muscle_percent",
)


def own_metric_id(name: str) -> str:
    """The id of a value without a standard meaning, by the user's own name for it.

    Raises ValueError for a name without a letter.
    """
    slug = re.sub(r"[^a-z0-9]+", "_", name.strip().lower()).strip("_")[:40].strip("_")
    if not slug:
        raise ValueError("a value of your own needs a name of letters")
    return f"own_{slug}"


def is_fat(name: str) -> bool:
    """Whether a metric shows a person's fat.

    Share, mass, index or rating, of the whole body or of a segment.
    """
    base = region_of(name)[0]
    return base.startswith(("body_fat_percent", "fat_mass", "visceral_fat")) or base in (
        "body_density",
        "endomorphy",
    )


def tells_fat(name: str) -> bool:
    """Whether a metric shows a person's fat, or its complement.

    Whoever knows the body mass reads fat from the rest of the body, or from its water.
    """
    base = region_of(name)[0]
    rest = ("fat_free_mass", "lean_soft_tissue", "total_muscle", "total_body_water")
    return is_fat(name) or base.startswith(rest)


def is_measured(name: str) -> bool:
    """Whether a metric is read from scale, tape or calliper: no scan, impedance or equation."""
    sizes = ("girth_", "skinfold_", "sum_skinfolds", "breadth_")
    return name.startswith(sizes) or name in ("body_mass", "peak_expiratory_flow")


def region_of(name: str) -> tuple[str, str]:
    """Split a metric id into what is measured and the region ("total" when none is named)."""
    for base in REGIONAL:
        region = name.removeprefix(f"{base}_")
        if region in REGIONS:
            return base, region
    return name, "total"


def metric_of(name: str) -> Metric:
    """Return the metric with id ``name``, which the study or a result is known to have.

    Raises KeyError for any other name.
    """
    found = metric_named(name)
    if found is None:
        raise KeyError(name)
    return found


def metric_named(name: str) -> Metric | None:
    """Return the metric with id ``name``.

    Resistance and reactance are known at any frequency in kHz; fat, lean, bone and body fat
    share also for a region of the body, as in ``fat_mass_arm_left`` or
    ``body_fat_percent_subtotal`` (without the head). A region is a group of its own: it never
    compares with the whole body. ``own_body_age`` is a device's value by the user's own name for
    it.
    """
    key = name.strip().lower()
    if key in METRICS:
        return METRICS[key]
    base, region = region_of(key)
    if region != "total":
        m = METRICS[base]
        where = REGIONS[region]
        low = m.low if m.dimension == "percent" else 0.0
        return replace(
            m,
            id=key,
            group=key,
            label=f"{m.label}, {where}",
            low=low,
            definition=f"{m.definition} Region: {where}.",
        )
    if _OWN.fullmatch(key):
        label = key.removeprefix("own_").replace("_", " ")
        return Metric(
            key,
            label[:1].upper() + label[1:],
            "1",
            "rating",
            -1e6,
            1e6,
            1,
            key,
            "A device's own value; never compared.",
        )
    match = _FREQUENCY.fullmatch(key)
    if match is None:
        return None
    m = METRICS[f"{match[1]}_50khz"]
    where = f", {REGIONS[match[2]]}" if match[2] else ""
    low = m.low if not match[2] else 1.0  # a segment resists less than the whole path
    definition = m.definition.replace("50", match[3]).replace(
        "Whole-body", "Segmental" if match[2] else "Whole-body"
    )
    return replace(
        m,
        id=key,
        group=key,
        label=m.label.replace("50", match[3]) + where,
        definition=definition,
        low=low,
    )
