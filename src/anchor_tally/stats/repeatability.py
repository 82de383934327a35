"""How repeats of one instrument differ.

SD within sets, repeatability, intraclass correlation, and SD from day to day.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from scipy import special

from .day_steps import NEAR_DAYS, DaySteps, day_steps
from .distributions import chi2_quantile, normal_quantile
from .estimate import Estimate, Floats, Interval, Ints, Note, note
from .tallies import within

LEAST_STEPS = 6  # differences of neighbouring days below which their SD is not given
LEAST_DF = 3.0  # degrees of freedom below which an interval from χ² gives nothing


@dataclass(frozen=True, slots=True)
class Icc:
    """Intraclass correlations of single readings and of the mean of ``k``.

    One-way, two-way random and two-way mixed.
    """

    one: Estimate
    random: Estimate | None
    mixed: Estimate | None
    one_mean: Estimate
    random_mean: Estimate | None
    mixed_mean: Estimate | None
    tallies: int
    k: int


@dataclass(frozen=True, slots=True)
class Apart:
    """SD between visits farther apart: real change is in it. ``weeks`` is the usual distance."""

    sd: Estimate
    weeks: float


@dataclass(frozen=True, slots=True)
class Repeatability:
    """Spread within tallies in the metric's unit; None where the data cannot give it.

    ``coefficient`` is 1.96·√2·s_w; ``largest`` the largest range of a tally; ``day`` the SD of a
    client's tally values from day to day with the part of the repeats taken out (of single
    readings where there are no repeats), ``single_day`` that of one reading on one day; ``apart``
    is the SD between visits where no neighbours are near enough; ``resolution`` is the step that
    the values are shown in, ``limited`` shows that the spread is no larger than that step makes it.
    """

    sd: Estimate | None
    coefficient: Estimate | None
    cv_percent: float | None
    tem: float | None
    tem_percent: float | None
    largest: float | None
    icc: Icc | None
    detectable: Estimate | None
    day: Estimate | None
    single_day: float | None
    resolution: float | None
    limited: bool
    tallies: int
    replicates: int
    notes: tuple[Note, ...] = ()
    df: int = 0
    apart: Apart | None = None

    @property
    def detectable_days(self) -> float | None:
        """Smallest detectable change of two single readings on two days."""
        if self.single_day is None:
            return None
        return normal_quantile(0.975) * math.sqrt(2) * self.single_day


def sd_interval(sd: float, df: float, confidence: float = 0.95) -> Interval | None:
    """Chi-square interval of an SD.

    Parameters
    ----------
    sd : float
        The SD.
    df : float
        Its degrees of freedom.
    confidence : float
        Level of the interval.

    Returns
    -------
    Interval or None
        None below one degree of freedom.
    """
    if df < 1:
        return None
    tail = (1 - confidence) / 2
    return Interval(
        sd * math.sqrt(df / chi2_quantile(1 - tail, df)),
        sd * math.sqrt(df / chi2_quantile(tail, df)),
    )


def display_step(value: Floats) -> float | None:
    """Find the step in which a display shows its values.

    Parameters
    ----------
    value : ndarray, shape (n,)
        Readings.

    Returns
    -------
    float or None
        The largest of 1, 0.5, 0.2, 0.1 … of which all values are multiples; None if there is none.
    """
    for power in range(5):
        for lead in (1.0, 0.5, 0.2):
            step = lead * 10.0**-power
            if np.all(np.abs(value / step - np.rint(value / step)) < 1e-6):
                return float(step)
    return None


def _f_quantile(p: float, df1: float, df2: float) -> float:
    return float(special.fdtri(df1, df2, p))


def intraclass(values: Floats, confidence: float = 0.95) -> Icc | None:
    """Intraclass correlations of sets of repeats of equal size.

    Parameters
    ----------
    values : (tallies, repeats) array
        One row a set, its repeats in the order in which they were taken.
    confidence : float
        Level of the intervals.

    Returns
    -------
    Intraclass or None
        ICC(1,1), ICC(2,1), ICC(3,1) and those of the mean of k repeats, with intervals from F
        (for 2,1 with Satterthwaite degrees of freedom). None for fewer than three sets or when
        nothing varies.

    References
    ----------
    McGraw & Wong 1996, Psychol Methods 1:30: ICC(1), ICC(A,1) and ICC(C,1).
    """
    n, k = values.shape
    if n < 3 or k < 2:
        return None
    grand = float(values.mean())
    rows, columns = values.mean(axis=1), values.mean(axis=0)
    ss_total = float(((values - grand) ** 2).sum())
    ss_rows, ss_columns = (
        k * float(((rows - grand) ** 2).sum()),
        n * float(((columns - grand) ** 2).sum()),
    )
    ms_rows = ss_rows / (n - 1)
    ms_within = (ss_total - ss_rows) / (n * (k - 1))
    ms_columns = ss_columns / (k - 1)
    ms_error = max(ss_total - ss_rows - ss_columns, 0.0) / ((n - 1) * (k - 1))
    tiny = 1e-14 * max(ss_total, 1e-300)
    if (
        ss_total <= 1e-20 * values.size * max(1.0, abs(grand)) ** 2
        or ms_within <= tiny
        or ms_error <= tiny
    ):
        return None
    tail = (1 + confidence) / 2

    def pair(value: float, low: float, high: float, method: str) -> tuple[Estimate, Estimate]:
        """Of single readings, and of the mean of k (Spearman–Brown)."""

        def up(r: float) -> float:
            return float(k * r / (1 + (k - 1) * r))

        return (
            Estimate(value, Interval(low, high), n, method),
            Estimate(up(value), Interval(up(low), up(high)), n, f"{method}-mean"),
        )

    def simple(ms: float, df2: float, method: str) -> tuple[Estimate, Estimate]:
        f = ms_rows / ms
        f_low, f_high = f / _f_quantile(tail, n - 1, df2), f * _f_quantile(tail, df2, n - 1)
        return pair(
            (f - 1) / (f + k - 1),
            (f_low - 1) / (f_low + k - 1),
            (f_high - 1) / (f_high + k - 1),
            method,
        )

    one, one_mean = simple(ms_within, n * (k - 1), "icc-1")
    mixed, mixed_mean = simple(ms_error, (n - 1) * (k - 1), "icc-c1")
    r = (ms_rows - ms_error) / (ms_rows + (k - 1) * ms_error + k * (ms_columns - ms_error) / n)
    a = k * r / (n * (1 - r))
    b = 1 + k * r * (n - 1) / (n * (1 - r))
    df = (a * ms_columns + b * ms_error) ** 2 / (
        (a * ms_columns) ** 2 / (k - 1) + (b * ms_error) ** 2 / ((n - 1) * (k - 1))
    )
    over, under = _f_quantile(tail, n - 1, df), _f_quantile(tail, df, n - 1)
    mean_square = k * ms_columns + (k * n - k - n) * ms_error
    low = n * (ms_rows - over * ms_error) / (over * mean_square + n * ms_rows)
    high = n * (under * ms_rows - ms_error) / (mean_square + n * under * ms_rows)
    random, random_mean = pair(r, low, high, "icc-a1")
    return Icc(one, random, mixed, one_mean, random_mean, mixed_mean, n, k)


def day_to_day_sd(
    value: Floats,
    size: Floats,
    steps: DaySteps,
    within_variance: float | None,
    confidence: float = 0.95,
) -> Estimate | None:
    """SD of a client's means between neighbouring visits, with the part of the repeats taken off.

    Parameters
    ----------
    value : (m,) array
        Means of sets of repeats, in the order of time within a series.
    size : (m,) integer array
        Readings behind each mean.
    steps : DaySteps
        The differences that count.
    within_variance : float or None
        Variance of one repeat; None where there are no repeats: the SD is then that of single
        readings.
    confidence : float
        Level of the interval.

    Returns
    -------
    Estimate or None
        The χ² interval is that of the whole; the part of the repeats is taken off both ends. None
        below six differences.

    References
    ----------
    von Neumann 1941, Ann Math Stat 12:367.
    """
    at = steps.second
    if at.size < LEAST_STEPS:
        return None
    own = 0.0
    if within_variance is not None:
        own = within_variance * float((1 / size[at] + 1 / size[at - 1]).mean()) / 2
    whole = steps.variance
    ends = sd_interval(math.sqrt(whole), steps.df, confidence)
    if ends is None:
        return None

    def less(variance: float) -> float:
        return math.sqrt(max(variance - own, 0.0))

    method = "successive-differences" if within_variance is not None else "single-readings"
    return Estimate(less(whole), Interval(less(ends.low**2), less(ends.high**2)), at.size, method)


def repeatability(
    tally: Ints,
    value: Floats,
    replicate: Ints,
    series: Ints,
    day: Ints,
    confidence: float = 0.95,
    near_days: float = NEAR_DAYS,
) -> Repeatability:
    """Describe how repeats of one instrument differ.

    Parameters
    ----------
    tally : ndarray of int, shape (n,)
        Set of repeats of each reading; numbers grow with time within a series.
    value : ndarray, shape (n,)
        Readings, in units of the metric.
    replicate : ndarray of int, shape (n,)
        Which repeat each reading is, from 1.
    series : ndarray of int, shape (n,)
        Client and setting of each reading.
    day : ndarray of int, shape (n,)
        Number of the calendar day of each reading.
    confidence : float
        Level of the intervals.
    near_days : float
        Days between visits whose differences count as variation from day to day.

    Returns
    -------
    Repeatability
        SD within sets, repeatability coefficient, technical error of measurement, smallest
        detectable change, coefficient of variation, intraclass correlations and the SD from day to
        day. Figures that cannot be computed are None, with a note.

    Notes
    -----
    Technical error: √(Σd²/2n) for two repeats, else the root of the mean square within (Perini et
    al. 2005). Smallest detectable change: 1.96·√2·SD within (Weir 2005). Intraclass correlations
    use the sets with the commonest number of repeats, at least three.

    References
    ----------
    Bland & Altman 1999, Stat Methods Med Res 8:135; Weir 2005, J Strength Cond Res 19:231; Perini
    et al. 2005, Rev Bras Med Esporte 11:81.
    """
    notes: list[Note] = []
    groups = within(tally, value)
    tallies, replicates = int((groups.size > 1).sum()), int(groups.size.max(initial=0))
    step = display_step(value) if value.size else None
    mean = float(value.mean()) if value.size else math.nan
    _, first = np.unique(groups.cell, return_index=True)
    size, of, on = groups.size.astype(float), series[first], day[first]
    steps = day_steps(groups.mean, of, on, near_days)
    daily = day_to_day_sd(groups.mean, size, steps, groups.variance, confidence)
    far = day_steps(groups.mean, of, on, np.inf, near_days + 1)
    apart = None
    if daily is None:
        notes.append(note("few_days"))
        between = day_to_day_sd(groups.mean, size, far, groups.variance, confidence)
        if between is not None:
            weeks = float(np.median(on[far.second] - on[far.second - 1])) / 7
            apart = Apart(between, weeks)
    if groups.variance is None or groups.df < 1:
        notes.insert(0, note("no_repeats"))
        return Repeatability(
            None,
            None,
            None,
            None,
            None,
            None,
            None,
            None,
            daily,
            daily.value if daily is not None else None,
            step,
            False,
            tallies,
            replicates,
            tuple(notes),
            apart=apart,
        )
    sd, df = math.sqrt(groups.variance), float(groups.df)
    ends = sd_interval(sd, df, confidence) if df >= LEAST_DF else None
    if ends is None:
        notes.append(note("few_repeats", df=df))
    limited = step is not None and sd <= step / math.sqrt(12) * 1.05
    if limited and step is not None:
        notes.append(note("resolution_limits", step=step))
    factor = normal_quantile(0.975) * math.sqrt(2)
    low, high = np.full(groups.size.size, np.inf), np.full(groups.size.size, -np.inf)
    np.minimum.at(low, groups.cell, value)
    np.maximum.at(high, groups.cell, value)
    icc = _icc(groups.cell, groups.size, value, replicate, notes, confidence)
    return Repeatability(
        sd=Estimate(sd, ends, int(groups.size[groups.size > 1].sum()), "pooled-within"),
        coefficient=Estimate(
            factor * sd, ends.scaled(factor) if ends else None, tallies, "1.96√2·s_w"
        ),
        cv_percent=100 * sd / mean if mean > 0 else None,
        tem=sd,
        tem_percent=100 * sd / mean if mean > 0 else None,
        largest=float((high - low).max()),
        icc=icc,
        detectable=Estimate(
            factor * sd, ends.scaled(factor) if ends else None, tallies, "1.96√2·SEM"
        ),
        day=daily,
        single_day=math.sqrt(daily.value**2 + groups.variance) if daily is not None else None,
        resolution=step,
        limited=limited,
        tallies=tallies,
        replicates=replicates,
        notes=tuple(notes),
        df=int(df),
        apart=apart,
    )


def _icc(
    cell: Ints, size: Ints, value: Floats, replicate: Ints, notes: list[Note], confidence: float
) -> Icc | None:
    """Intraclass correlations of the sets with the commonest number of repeats."""
    several = size[size > 1]
    if several.size == 0:
        return None
    k = int(np.bincount(several).argmax())
    rows = np.flatnonzero(size[cell] == k)
    order = rows[np.lexsort((replicate[rows], cell[rows]))]
    found = intraclass(value[order].reshape(-1, k), confidence)
    left = int((several != k).sum())
    if found is None:
        notes.append(note("no_icc"))
    elif left:
        notes.append(note("icc_balanced", k=k, left=left))
    return found
