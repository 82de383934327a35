"""What is usual of a metric before any reading: how it changes, and how devices err in it."""

from __future__ import annotations

from dataclasses import dataclass, replace

from .metrics import metric_named, region_of


@dataclass(frozen=True, slots=True)
class CoursePrior:
    """Usual SDs of a metric, in its unit; common practice where no source is named.

    Attributes
    ----------
    trend : float
        SD of a person's change per week.
    wander : tuple of float
        SDs that a level may gain in a week beside its trend, one of them for each person.
    day : float
        SD of one device from day to day.
    offset : float
        SD between people of what a device differs by.
    drift : float
        SD of a device's drift per week where no scan tells.
    response : float
        SD between devices of what they show of a change of 1.
    start : float
        SD of the level between people.
    carries : bool
        Whether the level that a device shows serves a person who was never scanned.
    """

    trend: float
    wander: tuple[float, ...]
    day: float
    offset: float
    drift: float
    response: float
    start: float
    carries: bool = False

    def scaled(self, by: float) -> CoursePrior:
        """The same in another unit."""
        return replace(
            self,
            trend=by * self.trend,
            wander=tuple(by * x for x in self.wander),
            day=by * self.day,
            offset=by * self.offset,
            drift=by * self.drift,
            start=by * self.start,
        )


_FAT = CoursePrior(0.15, (0.06, 0.14, 0.28, 0.5), 1.0, 2.5, 0.02, 0.25, 8.0)
_WATER = _FAT.scaled(0.7)
_MASS = CoursePrior(0.4, (0.05, 0.15, 0.3, 0.6), 0.5, 0.25, 0.01, 0.01, 20.0, True)
_GIRTH = CoursePrior(0.3, (0.05, 0.15, 0.3, 0.6), 0.8, 1.0, 0.01, 0.05, 15.0, True)
_FAT_MASS = CoursePrior(0.15, (0.05, 0.12, 0.25, 0.45), 0.8, 2.0, 0.015, 0.25, 8.0)
_LEAN = CoursePrior(0.12, (0.05, 0.12, 0.25, 0.45), 0.8, 2.5, 0.015, 0.25, 10.0)
_BONE = CoursePrior(0.004, (0.001, 0.004, 0.01, 0.02), 0.05, 0.3, 0.002, 0.25, 0.6)
# shares of the level
_FOLD = CoursePrior(0.015, (0.004, 0.01, 0.02, 0.035), 0.05, 0.08, 0.001, 0.05, 0.4, True)
_OTHER = CoursePrior(0.006, (0.002, 0.006, 0.013, 0.025), 0.03, 0.06, 0.001, 0.25, 0.25)


def course_prior(metric: str, level: float) -> CoursePrior:
    """What is usual of a metric.

    Parameters
    ----------
    metric : str
        Id of the metric.
    level : float
        Mean of the readings, in the metric's unit; folds, and what has no row of its own, vary in
        proportion to it.

    Notes
    -----
    All rows are common practice. Body mass: 0.5 % a week is a usual rate of planned loss, 0.5 kg
    the scatter of mornings, 0.25 kg what good scales differ by. Girths: a technical error of about
    0.8 cm. Skinfolds: 5 % of the fold. Body fat: 0.15 pp a week, a day-to-day SD of 1 pp and
    offsets of 2.5 pp between people; what impedance devices show of a change lies between about
    half and one and a half of it.
    """
    m, (base, _) = metric_named(metric), region_of(metric)
    size = max(abs(level), 1e-6)
    if base.startswith(("skinfold_", "sum_skinfolds")):
        return _FOLD.scaled(size)
    if m is not None and m.unit == "percent":
        return _FAT if "fat" in base else _WATER
    if base == "body_mass":
        return _MASS
    if base.startswith("girth_"):
        return _GIRTH
    whole = base == metric  # a segment changes in proportion to what it holds
    if base == "bone_mineral_content" and whole:
        return _BONE
    if m is not None and m.unit == "kg" and whole:
        return _FAT_MASS if "fat_mass" in base else _LEAN
    return _OTHER.scaled(size)
