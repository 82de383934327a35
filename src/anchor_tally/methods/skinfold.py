"""Skinfold equations and the somatotype."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from .equation import FEMALE, MALE, Equation, Floats, Inputs, from_density

SEVEN = tuple(
    f"skinfold_{k}"
    for k in ("chest", "midaxillary", "triceps", "subscapular", "abdominal", "suprailiac", "thigh")
)
MEN_THREE = tuple(f"skinfold_{k}" for k in ("chest", "abdominal", "thigh"))
WOMEN_THREE = tuple(f"skinfold_{k}" for k in ("triceps", "suprailiac", "thigh"))
FOUR = tuple(f"skinfold_{k}" for k in ("biceps", "triceps", "subscapular", "suprailiac"))
SIX = tuple(
    f"skinfold_{k}"
    for k in ("triceps", "subscapular", "supraspinale", "abdominal", "thigh", "medial_calf")
)
EIGHT = tuple(
    f"skinfold_{k}"
    for k in (
        "triceps",
        "subscapular",
        "biceps",
        "iliac_crest",
        "supraspinale",
        "abdominal",
        "thigh",
        "medial_calf",
    )
)
SITES: dict[str, tuple[str, ...]] = {
    "jackson_pollock_1978_3": MEN_THREE,
    "jackson_pollock_ward_1980_3": WOMEN_THREE,
    "jackson_pollock_1978_7": SEVEN,
    "jackson_pollock_ward_1980_7": SEVEN,
    "durnin_womersley_1974": FOUR,
    "six_skinfold_carter_1982": SIX,
}


def _sum(v: Inputs, sites: tuple[str, ...]) -> Floats:
    """Sum of the sites (mm)."""
    return np.asarray(np.sum([v[k] for k in sites], axis=0), dtype=float)


def _quadratic(
    sites: tuple[str, ...], a: float, b: float, c: float, age: float
) -> Callable[[Inputs], dict[str, Floats]]:
    """Density = a − b·S + c·S² − age·years."""

    def density(v: Inputs) -> dict[str, Floats]:
        s = _sum(v, sites)
        return from_density(a - b * s + c * s * s - age * v["age_years"])

    return density


# Durnin & Womersley 1974, table 5: density = c − m·log10(sum of four); lower age bound, men c, m,
# women c, m
_DW = np.array(
    [
        [0, 1.1620, 0.0630, 1.1549, 0.0678],
        [20, 1.1631, 0.0632, 1.1599, 0.0717],
        [30, 1.1422, 0.0544, 1.1423, 0.0632],
        [40, 1.1620, 0.0700, 1.1333, 0.0612],
        [50, 1.1715, 0.0779, 1.1339, 0.0645],
    ]
)


def _durnin_womersley(v: Inputs) -> dict[str, Floats]:
    band = np.clip(np.searchsorted(_DW[:, 0], v["age_years"], side="right") - 1, 0, len(_DW) - 1)
    men = v["sex"] == MALE
    c, m = np.where(men, _DW[band, 1], _DW[band, 3]), np.where(men, _DW[band, 2], _DW[band, 4])
    return from_density(c - m * np.log10(_sum(v, FOUR)))


def _six(v: Inputs) -> dict[str, Floats]:
    s = _sum(v, SIX)
    return {"body_fat_percent": np.where(v["sex"] == MALE, 0.1051 * s + 2.585, 0.1548 * s + 3.580)}


def _somatotype(v: Inputs) -> dict[str, Floats]:
    h, mass = v["height"], v["body_mass"]
    x = (
        (v["skinfold_triceps"] + v["skinfold_subscapular"] + v["skinfold_supraspinale"])
        * 170.18
        / h
    )
    endo = -0.7182 + 0.1451 * x - 0.00068 * x**2 + 0.0000014 * x**3
    arm = v["girth_arm_flexed"] - v["skinfold_triceps"] / 10
    calf = v["girth_calf"] - v["skinfold_medial_calf"] / 10
    meso = (
        0.858 * v["breadth_humerus"]
        + 0.601 * v["breadth_femur"]
        + 0.188 * arm
        + 0.161 * calf
        - 0.131 * h
        + 4.5
    )
    ratio = h / np.cbrt(mass)
    ecto = np.where(
        ratio >= 40.75, 0.732 * ratio - 28.58, np.where(ratio > 38.25, 0.463 * ratio - 17.63, 0.1)
    )
    return {"endomorphy": endo, "mesomorphy": meso, "ectomorphy": ecto}


TRICEPS_CALF = ("skinfold_triceps", "skinfold_medial_calf")
ATHLETE_THREE = tuple(f"skinfold_{k}" for k in ("abdominal", "thigh", "triceps"))
PLAYER_FOUR = tuple(f"skinfold_{k}" for k in ("thigh", "abdominal", "triceps", "medial_calf"))
SWIMMER_FOUR = tuple(f"skinfold_{k}" for k in ("triceps", "subscapular", "suprailiac", "abdominal"))
SPORT_SEVEN = tuple(
    f"skinfold_{k}"
    for k in (
        "triceps",
        "subscapular",
        "biceps",
        "supraspinale",
        "abdominal",
        "thigh",
        "medial_calf",
    )
)
SPORT_FOUR = tuple(
    f"skinfold_{k}" for k in ("triceps", "subscapular", "supraspinale", "medial_calf")
)
PETERSON_FOUR = tuple(f"skinfold_{k}" for k in ("triceps", "subscapular", "suprailiac", "thigh"))


def _slaughter(v: Inputs) -> dict[str, Floats]:
    s = _sum(v, TRICEPS_CALF)
    return {"body_fat_percent": np.where(v["sex"] == MALE, 0.735 * s + 1.0, 0.610 * s + 5.1)}


def _evans(v: Inputs) -> dict[str, Floats]:
    return {"body_fat_percent": 8.997 + 0.24658 * _sum(v, ATHLETE_THREE) - 6.343 * v["sex"]}


def _reilly(v: Inputs) -> dict[str, Floats]:
    return {
        "body_fat_percent": (
            5.174
            + 0.124 * v["skinfold_thigh"]
            + 0.147 * v["skinfold_abdominal"]
            + 0.196 * v["skinfold_triceps"]
            + 0.130 * v["skinfold_medial_calf"]
        )
    }


def _faulkner(v: Inputs) -> dict[str, Floats]:
    return {"body_fat_percent": 0.153 * _sum(v, SWIMMER_FOUR) + 5.783}


def _withers_men(v: Inputs) -> dict[str, Floats]:
    return from_density(1.0988 - 0.0004 * _sum(v, SPORT_SEVEN))


def _withers_women(v: Inputs) -> dict[str, Floats]:
    return from_density(1.17484 - 0.07229 * np.log10(_sum(v, SPORT_FOUR)))


def _peterson(v: Inputs) -> dict[str, Floats]:
    s, h, a = _sum(v, PETERSON_FOUR), v["height"], v["age_years"]
    bmi = v["body_mass"] / (h / 100) ** 2
    men = 20.94878 + 0.1166 * a - 0.11666 * h + 0.42696 * s - 0.00159 * s**2
    women = 22.18945 + 0.06368 * a + 0.60404 * bmi - 0.14520 * h + 0.30919 * s - 0.00099562 * s**2
    return {"body_fat_percent": np.where(v["sex"] == MALE, men, women)}


_LIMITS = (
    "Above a BMI of 30 only for folds within the sample; take each site twice, a third time when"
    " they differ by more than 5 % or 1 mm."
)
_JP = "Jackson AS, Pollock ML. Br J Nutr 1978;40:497-504"
_JPW = "Jackson AS, Pollock ML, Ward A. Med Sci Sports Exerc 1980;12:175-182"
_DENSITY = ("body_fat_percent", "body_density")


def _generalised(
    name: str,
    label: str,
    sex: float,
    coefficients: tuple[float, float, float, float],
    sample: tuple[float, float],
) -> Equation:
    men = sex == MALE
    return Equation(
        name,
        label,
        ("sex", "age_years", *SITES[name]),
        _DENSITY,
        _quadratic(SITES[name], *coefficients),
        "308 men aged 18 to 61" if men else "249 women aged 18 to 55",
        (
            "0.008 g/cm³, about 3.5 percent body fat (men)"
            if men
            else "about 3.8 to 3.9 percent body fat"
        ),
        _JP if men else _JPW,
        _LIMITS,
        sexes=(sex,),
        ages=(18, 61) if men else (18, 55),
        bmi_high=30,
        turns_at=(SITES[name], coefficients[1] / (2 * coefficients[2])),
        folds=(SITES[name], *sample),
        standard_error=(("body_fat_percent", 3.5 if men else 3.9),),
    )


# the last pair of each is the range of the sum of folds in the sample, in mm (from memory)
SKINFOLD = (
    _generalised(
        "jackson_pollock_1978_3",
        "Three skinfolds, men (Jackson & Pollock 1978)",
        MALE,
        (1.10938, 0.0008267, 0.0000016, 0.0002574),
        (14, 118),
    ),
    _generalised(
        "jackson_pollock_1978_7",
        "Seven skinfolds, men (Jackson & Pollock 1978)",
        MALE,
        (1.112, 0.00043499, 0.00000055, 0.00028826),
        (32, 272),
    ),
    _generalised(
        "jackson_pollock_ward_1980_3",
        "Three skinfolds, women (Jackson et al. 1980)",
        FEMALE,
        (1.0994921, 0.0009929, 0.0000023, 0.0001392),
        (16, 126),
    ),
    _generalised(
        "jackson_pollock_ward_1980_7",
        "Seven skinfolds, women (Jackson et al. 1980)",
        FEMALE,
        (1.097, 0.00046971, 0.00000056, 0.00012828),
        (35, 266),
    ),
    Equation(
        "durnin_womersley_1974",
        "Four skinfolds (Durnin & Womersley 1974)",
        ("sex", "age_years", *FOUR),
        _DENSITY,
        _durnin_womersley,
        "209 men aged 17 to 72 and 272 women aged 16 to 68",
        "about 0.007 to 0.011 g/cm³ by group",
        "Durnin JV, Womersley J. Br J Nutr 1974;32:77-97",
        _LIMITS,
        ages=(17, 72),
        ages_women=(16, 68),
        bmi_high=30,
        standard_error=(("body_density", 0.011),),
    ),
    Equation(
        "six_skinfold_carter_1982",
        "Six skinfolds (Yuhasz, modified by Carter 1982)",
        ("sex", *SIX),
        ("body_fat_percent",),
        _six,
        "Olympic athletes",
        "not published",
        "Carter JEL. Body composition of Montreal athletes. Med Sport Sci 1982;16:107-116",
        "For lean athletes. " + _LIMITS,
        bmi_high=30,
        certainty="checked against a value from practice (men)",
    ),
    Equation(
        "slaughter_1988",
        "Triceps and calf, youth (Slaughter et al. 1988)",
        ("sex", *TRICEPS_CALF),
        ("body_fat_percent",),
        _slaughter,
        "310 people aged 8 to 29; for children and adolescents",
        "about 3.8 percent body fat",
        "Slaughter MH et al. Hum Biol 1988;60:709-723",
        _LIMITS,
        ages=(8, 18),
        standard_error=(("body_fat_percent", 3.8),),
    ),
    Equation(
        "evans_2005_3",
        "Three skinfolds, athletes (Evans et al. 2005)",
        ("sex", *ATHLETE_THREE),
        ("body_fat_percent",),
        _evans,
        "132 college athletes; the published term for Black athletes (−2.0) is left out",
        "about 3.7 percent body fat",
        "Evans EM et al. Med Sci Sports Exerc 2005;37:2006-2011",
        _LIMITS,
        ages=(18, 27),
        standard_error=(("body_fat_percent", 3.7),),
    ),
    Equation(
        "withers_1987_men_7",
        "Seven skinfolds, male athletes (Withers et al. 1987)",
        ("sex", *SPORT_SEVEN),
        _DENSITY,
        _withers_men,
        "207 male athletes of 18 sports",
        "about 0.006 g/cm³",
        "Withers RT et al. Eur J Appl Physiol 1987;56:191-200",
        _LIMITS,
        sexes=(MALE,),
        ages=(15, 40),
        standard_error=(("body_density", 0.006),),
    ),
    Equation(
        "withers_1987_women_4",
        "Four skinfolds, female athletes (Withers et al. 1987)",
        ("sex", *SPORT_FOUR),
        _DENSITY,
        _withers_women,
        "182 active women",
        "about 0.007 g/cm³",
        "Withers RT et al. Eur J Appl Physiol 1987;56:169-180",
        _LIMITS,
        sexes=(FEMALE,),
        ages=(17, 43),
        standard_error=(("body_density", 0.007),),
    ),
    Equation(
        "peterson_2003",
        "Four skinfolds (Peterson et al. 2003)",
        ("sex", "age_years", "height", "body_mass", *PETERSON_FOUR),
        ("body_fat_percent",),
        _peterson,
        "681 adults aged 18 to 55, against a four-compartment model",
        "about 4 percent body fat",
        "Peterson MJ et al. Am J Clin Nutr 2003;77:1186-1191",
        _LIMITS,
        ages=(18, 55),
        standard_error=(("body_fat_percent", 4.0),),
    ),
    Equation(
        "reilly_2009",
        "Four skinfolds, footballers (Reilly et al. 2009)",
        ("sex", *PLAYER_FOUR),
        ("body_fat_percent",),
        _reilly,
        "45 professional male footballers",
        "not published",
        "Reilly T et al. J Sports Sci 2009;27:607-613",
        _LIMITS,
        sexes=(MALE,),
        ages=(18, 40),
    ),
    Equation(
        "faulkner_1968",
        "Four skinfolds (Faulkner 1968)",
        ("sex", *SWIMMER_FOUR),
        ("body_fat_percent",),
        _faulkner,
        "swimmers; sample not described",
        "not published",
        "Faulkner JA. Physiology of swimming and diving. In: Falls H, ed. Exercise physiology 1968",
        "For athletes of one group through time only. " + _LIMITS,
        ages=(18, 40),
    ),
    Equation(
        "somatotype_carter_heath_1990",
        "Somatotype (Carter & Heath 1990)",
        (
            "height",
            "body_mass",
            "skinfold_triceps",
            "skinfold_subscapular",
            "skinfold_supraspinale",
            "skinfold_medial_calf",
            "breadth_humerus",
            "breadth_femur",
            "girth_arm_flexed",
            "girth_calf",
        ),
        ("endomorphy", "mesomorphy", "ectomorphy"),
        _somatotype,
        "children and adults of both sexes",
        "not a prediction",
        "Carter JEL, Heath BH. Somatotyping: development and applications. Cambridge 1990",
        "A description of shape, not of fat.",
        certainty="checked against a value from practice",
    ),
)
