"""How repeats of one instrument differ.

SD within sets, repeatability, intraclass correlation, and SD from day to day.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from .day_steps import DaySteps, day_steps
from .distributions import chi2_quantile, normal_quantile
from .estimate import Estimate, Floats, Interval, Ints, Note, note
from .intraclass import Icc, intraclass_of_clients
from .jackknife import of_positive
from .near_days import NEAR_DAYS
from .tails import HEAVY, kurtosis_p
from .tallies import Within, far_off, within

LEAST_SETS = 10  # sets of repeats from which on a jackknife of sets is used as well
LEAST_STEPS = 6  # differences of neighbouring days below which their SD is not given
LEAST_DF = 3.0  # degrees of freedom below which an interval from χ² gives nothing


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


def _within_interval(groups: Within, value: Floats, confidence: float) -> Interval | None:
    """Interval of the SD within sets: χ², or a jackknife of sets where that is wider.

    χ² holds for normal errors; where errors have heavy tails it is much too short.
    """
    df = groups.df
    sd = math.sqrt(groups.ss / df)
    ends = sd_interval(sd, df, confidence)
    several = groups.size > 1
    if ends is None or int(several.sum()) < LEAST_SETS:
        return ends
    ss = np.bincount(groups.cell, (value - groups.mean[groups.cell]) ** 2)[several]
    rest = (groups.ss - ss) / (df - (groups.size[several] - 1))
    own = of_positive(sd, np.sqrt(np.maximum(rest, 0.0)), confidence)
    if own is None:
        return ends
    return Interval(min(ends.low, own.low), max(ends.high, own.high))


def repeatability(
    tally: Ints,
    value: Floats,
    replicate: Ints,
    series: Ints,
    day: Ints,
    confidence: float = 0.95,
    near_days: float = NEAR_DAYS,
    client: Ints | None = None,
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
    client : ndarray of int, shape (n,), optional
        Client of each reading, where a client has several series.

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
    outliers = far_off(tally, value).size > 0  # named, to be checked: they are no tails
    ends = _within_interval(groups, value, confidence) if df >= LEAST_DF else None
    if ends is None:
        notes.append(note("few_repeats", df=df))
    limited = step is not None and sd <= step / math.sqrt(12) * 1.05
    if limited and step is not None:
        notes.append(note("resolution_limits", step=step))
    factor = normal_quantile(0.975) * math.sqrt(2)
    low, high = np.full(groups.size.size, np.inf), np.full(groups.size.size, -np.inf)
    np.minimum.at(low, groups.cell, value)
    np.maximum.at(high, groups.cell, value)
    who = series if client is None else client
    icc = _icc(groups.cell, groups.size, value, replicate, who, notes, confidence)
    # of k repeats each differs from their mean by √(1 − 1/k) of its own error
    several = groups.size[groups.cell] > 1
    scale = np.sqrt(1 - 1 / np.maximum(groups.size[groups.cell], 2))
    tails = kurtosis_p(((value - groups.mean[groups.cell]) / scale)[several])
    if tails is not None and tails < HEAVY and not outliers:
        notes.append(note("heavy_tails_of_repeats", p=tails))
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
    cell: Ints,
    size: Ints,
    value: Floats,
    replicate: Ints,
    client: Ints,
    notes: list[Note],
    confidence: float,
) -> Icc | None:
    """Intraclass correlations of the sets with the commonest number of repeats."""
    several = size[size > 1]
    if several.size == 0:
        return None
    k = int(np.bincount(several).argmax())
    rows = np.flatnonzero(size[cell] == k)
    order = rows[np.lexsort((replicate[rows], cell[rows]))]
    found = intraclass_of_clients(
        value[order].reshape(-1, k), client[order].reshape(-1, k)[:, 0], confidence
    )
    left = int((several != k).sum())
    if found is None:
        notes.append(note("no_icc"))
    elif left:
        notes.append(note("icc_balanced", k=k, left=left))
    if found is not None and found.one.interval is None:
        notes.append(note("icc_interval_needs_clients"))
    return found
