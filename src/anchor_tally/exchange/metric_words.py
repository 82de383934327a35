"""The words and units by which foreign tables name metrics."""

from __future__ import annotations

import re

from ..domain.metrics import METRICS, REGIONAL, REGIONS, metric_named
from ..domain.units import UNITS, unit_named
from .headers import unit_in

METRIC_WORDS: tuple[tuple[str, str], ...] = (
    (r"visceral", "visceral_fat_rating"),
    (r"skeletal.*(%|percent|share)", "skeletal_muscle_percent"),
    (r"skeletal|\bsmm\b", "skeletal_muscle_mass"),
    (r"fat[ -]?free|\bffm\b", "fat_free_mass"),
    (r"lean", "lean_soft_tissue"),
    (r"muscle.*(%|percent|share)", "total_muscle_percent"),
    (r"muscle", "total_muscle_mass"),
    (r"bone|\bbmc\b", "bone_mineral_content"),
    (r"water.*(kg|litre|liter|\bl\b)", "total_body_water"),
    (r"water|\btbw\b", "total_body_water_percent"),
    (r"fat.*(kg|lb|mass)", "fat_mass"),
    (r"fat|\bbf\b|bf%", "body_fat_percent"),
    (r"weight|mass|gewicht", "body_mass"),
    (r"bmr|metabolic", "basal_metabolic_rate"),
    (r"waist.*navel|navel|umbilic", "girth_waist_navel"),
    (r"waist.*narrow|narrow", "girth_waist_narrowest"),
    (r"waist", "girth_waist"),
    (r"hips?\b", "girth_hip"),
    (r"neck", "girth_neck"),
    (r"resistance", "resistance_50khz"),
    (r"reactance", "reactance_50khz"),
)
# sites that are pinched, measured round, or both: then the unit or the group above decides
_SITES: tuple[tuple[str, str, str], ...] = (
    (r"triceps", "skinfold_triceps", ""),
    (r"biceps", "skinfold_biceps", ""),
    (r"subscap", "skinfold_subscapular", ""),
    (r"supraspin", "skinfold_supraspinale", ""),
    (r"supra[- ]?iliac", "skinfold_suprailiac", ""),
    (r"iliac", "skinfold_iliac_crest", ""),
    (r"axill", "skinfold_midaxillary", ""),
    (r"abdom", "skinfold_abdominal", ""),
    (r"chest|pectoral", "skinfold_chest", "girth_chest"),
    (r"thigh", "skinfold_thigh", "girth_thigh"),
    (r"calf", "skinfold_medial_calf", "girth_calf"),
    (r"arm.*flex|flex.*arm", "", "girth_arm_flexed"),
    (r"upper arm|arm.*relax|\barm girth", "", "girth_arm_relaxed"),
)
# a unit of another dimension than the metric's names the metric in that unit, or none
_IN_OTHER_UNIT = {
    ("body_fat_percent", "mass"): "fat_mass",
    ("fat_mass", "percent"): "body_fat_percent",
    ("total_body_water_percent", "mass"): "total_body_water",
    ("total_body_water_percent", "volume"): "total_body_water",
    ("total_body_water", "percent"): "total_body_water_percent",
    ("skeletal_muscle_mass", "percent"): "skeletal_muscle_percent",
    ("skeletal_muscle_percent", "mass"): "skeletal_muscle_mass",
    ("total_muscle_mass", "percent"): "total_muscle_percent",
    ("total_muscle_percent", "mass"): "total_muscle_mass",
}
UNIT_IN_WORDS = re.compile(r"[\(\[]\s*([^\)\]]+?)\s*[\)\]]|(%)")


def unit_of(parts: tuple[str, ...]) -> str | None:
    """The unit named in any row of the header: alone, in brackets, or as a last word."""
    for p in reversed(parts):
        unit = unit_in(p)
        if unit is not None:
            return unit
        found = UNIT_IN_WORDS.search(p)
        said = unit_named(found[1] or found[2]) if found else None
        last = p.split()[-1].strip(".,") if len(p.split()) > 1 else ""
        bare = (
            last.lower()
            if last.lower() in ("kg", "lb", "lbs", "mm", "cm", "ohm", "kcal", "percent")
            else ""
        )
        said = said or (unit_named(bare) if bare else None)
        if said is not None:
            return said
    return None


def metric_of(low: str, unit: str | None) -> str:
    """The metric that words name; "" for none, or for one that the unit does not fit."""
    dimension = UNITS[unit][0] if unit else ""
    for pattern, fold, girth in _SITES:
        if re.search(pattern, low):
            pinched = unit == "mm" or "skinfold" in low or "fold" in low
            round_ = unit in ("cm", "in") or "girth" in low or "circumf" in low
            if pinched or round_ or not (fold and girth):
                return (
                    fold
                    if pinched and fold
                    else girth
                    if round_ and girth
                    else ""
                    if pinched or round_
                    else fold or girth
                )
            return ""
    for pattern, metric in METRIC_WORDS:
        if re.search(pattern, low):
            m = metric_named(metric)
            if m is not None and dimension and dimension != m.dimension:
                metric = _IN_OTHER_UNIT.get((metric, dimension), "")
            return _in_region(low, metric)
    return ""


def metric_of_words(low: str) -> str:
    """A metric by id, by label, or by the words that name it; "" for none."""
    if metric_named(low) is not None:
        return low
    return next((m.id for m in METRICS.values() if m.label.lower() == low), "") or (
        metric_of(low, None) if low else ""
    )


def _in_region(low: str, metric: str) -> str:
    """The metric of the segment that the words name, of the whole body without one."""
    if metric not in REGIONAL:
        return metric
    for region in REGIONS:
        where = region.split("_")
        side = where[1] if len(where) > 1 else ""
        if re.search(rf"\b{where[0]}\b", low) and (not side or re.search(rf"\b{side}\b", low)):
            return f"{metric}_{region}"
    return f"{metric}_subtotal" if "without head" in low else metric
