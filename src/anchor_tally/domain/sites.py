"""Where and how each site is measured, and its place on the figure of a body (common practice)."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Site:
    """One site: where it lies, how it is taken, and its mark.

    ``x``, ``y`` are on a figure 100 wide and 220 high, the right side of the body measured;
    ``view`` is front or back; ``mark`` is fold, girth or breadth; ``angle`` is that of the
    fold's crest in degrees from upright; ``width`` of a girth.
    """

    metric: str
    where: str
    how: str
    x: float
    y: float
    view: str = "front"
    mark: str = "fold"
    angle: float = 0.0
    width: float = 0.0


_PINCH = (
    "Thumb and finger lift skin and fat 1 cm above the mark; calliper jaws at right angles, read"
    " after 2 seconds."
)
_TAPE = "Tape level, flat on bare skin, snug without denting it; read after a normal breath out."
_BONE = "Blades firmly on the bone at an upward angle, pressing the soft tissue away."

# fmt: off
_SITES = (
    Site("skinfold_triceps", "Back of the upper arm, halfway between shoulder tip and elbow, arm hanging.", f"Upright fold. {_PINCH}", 78, 64, "back"),
    Site("skinfold_subscapular", "2 cm below the lower tip of the shoulder blade, sloping down and out at 45°.", f"Oblique fold. {_PINCH}", 62, 59, "back", "fold", -45),
    Site("skinfold_biceps", "Front of the upper arm at the level of the triceps mark, palm forward.", f"Upright fold. {_PINCH}", 22, 64),
    Site("skinfold_chest", "Men: halfway between armpit fold and nipple. Women: one third of the way from the armpit.", f"Oblique fold. {_PINCH}", 37, 51, "front", "fold", 40),
    Site("skinfold_midaxillary", "On the middle line of the armpit, level with the lower end of the breastbone.", f"Upright fold. {_PINCH}", 32, 63),
    Site("skinfold_iliac_crest", "Directly above the hip bone, on the middle line of the armpit, arm across the chest.", f"Nearly level fold. {_PINCH}", 33, 95, "front", "fold", 75),
    Site("skinfold_suprailiac", "Above the hip bone on the front line of the armpit, sloping down and forward.", f"Oblique fold. {_PINCH}", 36, 98, "front", "fold", -50),
    Site("skinfold_supraspinale", "Where the line from the front hip spine to the armpit meets the level of the hip bone's top.", f"Oblique fold. {_PINCH}", 40, 101, "front", "fold", -45),
    Site("skinfold_abdominal", "Beside the navel: 2 cm (three-site equations) or 5 cm (six- and eight-site profiles). Keep to one.", f"Upright fold. {_PINCH}", 45, 95),
    Site("skinfold_thigh", "Front of the thigh, halfway between groin fold and kneecap, leg relaxed.", f"Upright fold. {_PINCH}", 41, 136),
    Site("skinfold_medial_calf", "Inside of the calf at its largest girth, foot on a box, knee bent.", f"Upright fold. {_PINCH}", 47, 181),
    Site("girth_neck", "Just below the larynx, at right angles to the neck.", _TAPE, 50, 30, "front", "girth", 0, 14),
    Site("girth_chest", "At the middle of the breastbone, arms hanging.", _TAPE, 50, 55, "front", "girth", 0, 40),
    Site("girth_arm_relaxed", "Halfway between shoulder tip and elbow, arm hanging.", _TAPE, 22, 64, "front", "girth", 0, 12),
    Site("girth_arm_flexed", "Largest girth of the tensed upper arm, elbow at a right angle.", _TAPE, 22, 60, "front", "girth", 0, 13),
    Site("girth_waist_narrowest", "The narrowest level between lowest rib and hip bone.", _TAPE, 50, 83, "front", "girth", 0, 30),
    Site("girth_waist_navel", "At the level of the navel.", _TAPE, 50, 93, "front", "girth", 0, 32),
    Site("girth_waist", "At the upper edge of the hip bone.", _TAPE, 50, 97, "front", "girth", 0, 34),
    Site("girth_hip", "The largest girth over the buttocks, feet together.", _TAPE, 50, 110, "front", "girth", 0, 38),
    Site("girth_thigh", "Halfway between groin fold and the top of the kneecap.", _TAPE, 41, 136, "front", "girth", 0, 17),
    Site("girth_calf", "The largest girth of the calf, weight on both feet.", _TAPE, 42, 180, "front", "girth", 0, 12),
    Site("breadth_humerus", "Between the bony points at the elbow, arm forward, elbow at a right angle.", _BONE, 19, 82, "front", "breadth", 0, 11),
    Site("breadth_femur", "Between the bony points at the knee, seated, knee at a right angle.", _BONE, 42, 160, "front", "breadth", 0, 13),
)
# fmt: on
SITES_OF_BODY = {s.metric: s for s in _SITES}
