"""One tally: the value that repeats give, and whether a further repeat is asked for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ...domain.metrics import Metric
from ...domain.repeats import Rule
from ...stats.estimate import Note, note

# Largest difference of the first two repeats, by kind of measurement (common practice). A skinfold
# may differ by 5 % or
# by 1 mm, whichever is more: 5 % of a thin fold is less than a calliper can show.
SKINFOLD_SHARE, SKINFOLD_MM = 0.05, 1.0
TAPE_SHARE = 0.01
_REPEATABILITY = (
    2.77  # 1.96·√2: 95 % of differences of two repeats lie within this many within-tally SDs
)


@dataclass(frozen=True, slots=True)
class Tally:
    """Repeats of one instrument in one visit, in the metric's unit.

    ``how`` is single, mean, median or last; ``tolerance`` is what the first two may differ by
    (None when not known); ``ask`` is True when the protocol wants one more repeat; ``agree``
    tells whether the first two lie within the tolerance.
    """

    value: float | None
    how: str
    n: int
    difference: float | None
    tolerance: float | None
    agree: bool | None
    ask: bool
    notes: tuple[Note, ...] = ()


def tolerance(metric: Metric, level: float, usual_sd: float | None) -> float | None:
    """Largest acceptable difference of two repeats at ``level``; None when nothing is known.

    Skinfolds 5 % or 1 mm, girths and breadths 1 % (common practice); anything else by the
    instrument's own repeatability, 2.77 times its usual within-tally SD (Bland & Altman 1999).
    """
    if metric.id.startswith("skinfold_"):
        return max(SKINFOLD_SHARE * level, SKINFOLD_MM)
    if metric.id.startswith(("girth_", "breadth_")):
        return TAPE_SHARE * level
    return None if not usual_sd else _REPEATABILITY * usual_sd


def judge(
    metric: Metric, values: Sequence[float], rule: Rule, usual_sd: float | None = None
) -> Tally:
    """Judge the ok repeats in the order in which they were taken.

    Two repeats give their mean. Where agreement counts, three or more give the mean when the
    first two agree (not of skinfolds and girths), else the median, and one more is asked for
    when two planned ones differ; otherwise the rule says what counts.
    """
    repeats = rule.repeats
    n = len(values)
    if n == 0:
        return Tally(None, "", 0, None, None, None, False)
    if n == 1:
        return Tally(values[0], "single", 1, None, None, None, repeats > 1)
    difference = abs(values[0] - values[1])
    allowed = tolerance(metric, (values[0] + values[1]) / 2, usual_sd)
    # readings carry at most two decimals: a difference printed as the tolerance is within it
    agree = None if allowed is None else difference <= allowed + 1e-9
    ordered = sorted(values)
    middle = (ordered[(n - 1) // 2] + ordered[n // 2]) / 2
    agreeing = rule.counts == "agree"
    sites = metric.id.startswith(("skinfold_", "girth_", "breadth_"))
    by_median = n > 2 and (rule.counts == "median" or (agreeing and (agree is False or sites)))
    ask = n < repeats or (agreeing and n < 3 and agree is False)
    notes: tuple[Note, ...] = ()
    if ask and agree is False and n >= repeats:
        notes = (
            note(
                "third_repeat",
                difference=difference,
                tolerance=allowed,
                unit=metric.difference_unit,
            ),
        )
    value, how = (middle, "median") if by_median else (sum(values) / n, "mean")
    if rule.counts == "last":
        value, how = values[-1], "last"
    return Tally(value, how, n, difference, allowed, agree, ask, notes)
