"""Stations of the bench: what is measured together, with what, how often and how closely."""

from __future__ import annotations

from dataclasses import dataclass

from .metrics import REGIONS
from .sites import SITES_OF_BODY


@dataclass(frozen=True, slots=True)
class Station:
    """One station.

    ``repeats`` are always taken; one more is asked for when the first two differ too much.

    ``setting_label`` and ``setting_choices`` name what makes readings comparable (side and
    calliper, machine and software); it is kept as the instrument's setting. ``reminder`` is
    shown while measuring. Metrics in ``once`` are read a single time.
    """

    id: str
    label: str
    instrument: str
    kind: str
    metrics: tuple[str, ...]
    repeats: int
    reminder: str
    setting_label: str = ""
    setting_choices: tuple[str, ...] = ()
    once: tuple[str, ...] = ()


_SCAN = (
    "body_fat_percent",
    "fat_mass",
    "lean_soft_tissue",
    "bone_mineral_content",
    "body_mass",
    "body_fat_percent_subtotal",
)
_SEGMENTS = tuple(
    f"{base}_{r}"
    for r in REGIONS
    if r not in ("subtotal", "head")
    for base in ("fat_mass", "lean_soft_tissue")
)
_CALLIPERS = ("spring calliper", "plastic calliper", "digital calliper", "click calliper")
CLICK_ADVICE = (
    "Click calliper: press evenly until it clicks, then read; pressing on squeezes the fold. Three"
    " readings, the median."
)

STATIONS = (
    Station(
        "skinfolds",
        "Skinfolds",
        "Skinfolds",
        "method",
        tuple(k for k in SITES_OF_BODY if k.startswith("skinfold_")),
        2,
        "Ask for consent, keep privacy. Wipe the calliper. Mark the site first; go round all sites,"
        " then round again.",
        "Side and calliper",
        tuple(f"{side} side, {kind}" for side in ("right", "left") for kind in _CALLIPERS),
    ),
    Station(
        "girths",
        "Girths",
        "Tape",
        "method",
        tuple(k for k in SITES_OF_BODY if k.startswith("girth_")),
        2,
        "Even tension on the tape each time; it must not dent the skin.",
        "Side",
        ("right side", "left side"),
    ),
    Station(
        "breadths",
        "Breadths",
        "Bone calliper",
        "method",
        tuple(k for k in SITES_OF_BODY if k.startswith("breadth_")),
        2,
        "Find the bony points with the fingers first.",
        "Side",
        ("right side", "left side"),
    ),
    Station(
        "impedance",
        "Impedance",
        "Impedance meter",
        "method",
        ("resistance_50khz", "reactance_50khz"),
        2,
        "Lying for 5 minutes, limbs apart, skin under the electrodes cleaned, contacts wiped; note"
        " the layout.",
        "Layout",
        ("right hand to foot", "left hand to foot", "foot to foot", "hand to hand"),
    ),
    Station(
        "underwater",
        "Underwater",
        "Weighing tank",
        "method",
        ("mass_in_water", "water_temperature", "residual_volume"),
        3,
        "Breathe out fully before each reading; without a measured residual volume it is estimated"
        " and said so.",
        "Residual volume",
        ("measured in the water", "measured on land"),
        ("water_temperature", "residual_volume"),
    ),
    Station(
        "scan",
        "Scan",
        "Lab scan",
        "reference",
        _SCAN + _SEGMENTS,
        1,
        "Copy what the laboratory printed; a second scan of the same day is repeat 2.",
        "Machine and software",
        (),
    ),
    Station(
        "visual",
        "By eye",
        "Visual estimate",
        "method",
        ("body_fat_percent_low", "body_fat_percent_high"),
        1,
        "A range: enter the lowest and the highest share you think possible.",
    ),
)
STATION = {s.id: s for s in STATIONS}
# other frequencies that raw impedance is read at, and the segments, offered as further rows
FREQUENCIES = (5, 20, 100, 250, 500, 1000)
SEGMENTS = ("arm_right", "arm_left", "trunk", "leg_right", "leg_left")
_BY_METRIC = {m: s.id for s in STATIONS if s.kind == "method" for m in s.metrics}
# taken round the trunk or the neck: they have no side
_MIDDLE = (
    "girth_neck",
    "girth_chest",
    "girth_waist",
    "girth_waist_navel",
    "girth_waist_narrowest",
    "girth_hip",
)
LANDMARK, NO_SIDE = (
    "; ",
    "no side",
)  # between a setting and the landmark of a site; in place of a side


def station_of(metric: str, kind: str = "method") -> str | None:
    """The station that measures a metric by this kind of instrument; None for what has none."""
    if kind == "reference":
        return "scan"
    if kind == "method" and metric.startswith(("resistance_", "reactance_")):
        return "impedance"
    return _BY_METRIC.get(metric) if kind == "method" else None


def setting_for(metric: str, chosen: str, landmark: str) -> str:
    """The setting of a reading at a site: side and calliper, then landmark.

    Sites in the middle of the body have no side.
    """
    base = chosen if has_side(metric) else ""
    return f"{base or NO_SIDE}{LANDMARK}{landmark}" if landmark else base


def has_side(metric: str) -> bool:
    """Whether a site has a side; what is taken round the trunk or the neck has none."""
    return metric not in _MIDDLE


def landmark_of(setting: str) -> str:
    """The landmark that a site's setting ends with; "" for none."""
    _, mark, words = setting.partition(LANDMARK)
    return words if mark else ""


def base_of(setting: str) -> str:
    """A kept setting without its landmark."""
    base = setting.partition(LANDMARK)[0]
    return "" if base == NO_SIDE else base
