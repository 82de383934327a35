"""Adopted calibrations as they are kept in the study: never edited, only superseded."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TypeVar

import numpy as np
import numpy.typing as npt

X = TypeVar("X", float, npt.NDArray[np.float64])

REASON_KEPT = (  # in the place of a reason where no free text leaves the file
    "a reason is kept in the study"
)

# the order of the registry when the first calibrations were adopted: computed readings were
# numbered by it (form 0)
FORM_0_EQUATIONS = (
    "bmi_deurenberg_1991",
    "bmi_gallagher_2000",
    "rfm_woolcott_bergman_2018",
    "tape_hodgdon_beckett_1984_inch",
    "tape_hodgdon_beckett_1984_metric",
    "jackson_pollock_1978_3",
    "jackson_pollock_1978_7",
    "jackson_pollock_ward_1980_3",
    "jackson_pollock_ward_1980_7",
    "durnin_womersley_1974",
    "six_skinfold_carter_1982",
    "somatotype_carter_heath_1990",
    "sum_skinfolds_3",
    "sum_skinfolds_4",
    "sum_skinfolds_6",
    "sum_skinfolds_7",
    "sum_skinfolds_8",
    "body_mass_index",
    "waist_hip_ratio",
    "waist_height_ratio",
    "fat_free_mass_index",
    "fat_mass_index",
    "visual_estimate_midpoint",
    "impedance_index",
    "phase_angle",
    "impedance_lukaski_1986",
    "impedance_kushner_schoeller_1986",
    "impedance_kushner_schoeller_1986_by_sex",
    "impedance_kyle_2001",
    "impedance_sun_2003",
    "impedance_janssen_2000",
    "siri_1961",
    "brozek_1963",
    "underwater_weighing",
    "residual_volume_goldman_becklake_1959",
    "underwater_weighing_estimated_residual",
    "three_compartment_siri_1961",
    "four_compartment_lohman_1986",
    "four_compartment_wang_2002",
    "rmr_harris_benedict_1919",
    "rmr_mifflin_st_jeor_1990",
    "rmr_katch_mcardle",
)


@dataclass(frozen=True, slots=True)
class Proof:
    """Cross-validation of the adopted model: RMSE of left-out scans in the metric's unit.

    ``before`` is without correction, ``after`` with it; ``scheme`` tells what was left out.
    """

    before: float
    after: float
    scans: int
    clients: int
    scheme: str


@dataclass(frozen=True, slots=True)
class MadeOf:
    """What an adopted calibration was made of, and whom it serves.

    ``clients`` had pairs; ``settings`` are the labels of their readings; ``last_anchor`` is the
    day of the last scan used; ``lens_clients`` the clients that the lens showed (None: all).
    ``client_sd`` is a spread between clients that was stated, not estimated. ``comparator`` is
    what kind it was set against. ``drift`` holds the ends of the slope per week, and
    ``drift_from`` the day from which the interval grows: that at which the offset holds under a
    shown drift, else the end of its validity. ``advice`` was given when it was adopted, ``reason``
    is why it was adopted against it. ``provisional`` offsets rest on one scan.
    ``offset_interval`` is the 95 % confidence interval of the pooled offset, ``proof`` how it did
    on scans that were left out; both None in calibrations that were adopted without.
    """

    clients: tuple[str, ...] = ()
    settings: tuple[str, ...] = ()
    anchors: int = 0
    last_anchor: str = ""
    window_hours: float = 24.0
    around: bool = False
    lens_clients: tuple[str, ...] | None = None
    client_sd: float | None = None
    advice: str = ""
    reason: str = ""
    provisional: bool = False
    comparator: str = "reference"
    drift: tuple[float, float] | None = None
    drift_from: str = ""
    offset_interval: tuple[float, float] | None = None
    proof: Proof | None = None

    @property
    def drifts(self) -> bool:
        """Whether a drift was shown, not only not ruled out."""
        return (
            self.drift is not None and bool(self.drift_from) and self.drift[0] * self.drift[1] > 0
        )


@dataclass(frozen=True, slots=True)
class LineRecord:
    """An adopted line: the reference is centre + (reading − centre − level)/slope.

    Its 95 % interval is ± t·√(new + level variance + (reference − centre)²·slope variance)/slope.
    """

    centre: float
    level: float
    slope: float
    new: float
    level_variance: float
    slope_variance: float
    t: float

    def reference(self, reading: X) -> X:
        """Return the reference that a reading, or an array of readings, stands for."""
        return self.centre + (reading - self.centre - self.level) / self.slope

    def half(self, reading: X) -> X:
        """Return half of its 95 % interval, for a client who has no part of their own."""
        x = self.reference(reading)
        variance: X = self.new + self.level_variance + (x - self.centre) ** 2 * self.slope_variance
        half: X = self.t * variance**0.5 / self.slope
        return half


@dataclass(frozen=True, slots=True)
class CalibrationRecord:
    """An adopted calibration; never edited.

    ``clients`` maps a code to (offset, low, high, anchors): what is subtracted, and the 95 %
    interval of one new difference. ``pooled`` is the same for anybody else; None: it serves its
    clients only. With a ``line`` both are what is subtracted after it.

    ``sources`` names what it was made from: the number of a stored reading, or
    ``equation@visit`` of a computed one. ``form`` tells how its digest was made.
    """

    id: int
    instrument: str
    metric: str
    setting: str
    reference: str
    model: str
    pooled: tuple[float, float, float] | None
    clients: dict[str, tuple[float, float, float, int]]
    sources: tuple[str, ...]
    range_low: float
    range_high: float
    pairs: int
    client_count: int
    fitted_at: str
    valid_until: str
    version: int
    digest: str
    form: int = 2
    made_of: MadeOf = MadeOf()
    line: LineRecord | None = None

    @property
    def left_over(self) -> tuple[float, float] | None:
        """95 % of the differences that are left in one reading of anybody else once corrected.

        None where the record serves its clients only.
        """
        if self.line is not None and self.pooled is not None:
            half = self.line.half((self.range_low + self.range_high) / 2)
            return -half, half
        return (
            None
            if self.pooled is None
            else (self.pooled[1] - self.pooled[0], self.pooled[2] - self.pooled[0])
        )
