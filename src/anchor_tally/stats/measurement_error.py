"""Error of an observer: technical error of measurement, reliability, digit preference."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from .distributions import chi2_quantile
from .estimate import Estimate, Interval
from .tallies import within

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class TechnicalError:
    """TEM in the unit of the values, in percent of the mean, and reliability.

    None where the data cannot give them.

    ``df`` are the degrees of freedom within persons; ``reliability`` is the share of the spread
    that is not error.
    """

    tem: Estimate | None
    percent: Estimate | None
    reliability: float | None
    mean: float | None
    persons: int
    df: int


def technical_error(person: Ints, value: Floats, level: float = 0.95) -> TechnicalError:
    """Technical error of measurement (TEM) from repeats of the same persons.

    Parameters
    ----------
    person : (n,) integer array
        Who was measured; persons measured once add to the spread between persons only.
    value : (n,) array
        Values, in the metric's unit.
    level : float
        Level of the interval.

    Returns
    -------
    TechnicalError
        With two repeats TEM = √(Σd²/2n), with more its form by the variance within persons;
        interval from χ². Reliability R = 1 − TEM²/SD², SD that of all values.

    References
    ----------
    Perini et al. 2005, Rev Bras Med Esporte 11:81; Norton & Olds 1996, Anthropometrica; Ulijaszek &
    Kerr 1999, Br J Nutr 82:165.
    """
    tallies = within(person, value)
    persons, df, variance = int(tallies.size.size), tallies.df, tallies.variance
    mean = float(value.mean()) if value.size else None
    if variance is None or mean is None:
        return TechnicalError(None, None, None, mean, persons, df)
    tem = float(np.sqrt(variance))
    tail = (1 - level) / 2
    # a χ² interval of the variance, as a factor on TEM
    low, high = (float(np.sqrt(df / chi2_quantile(p, df))) for p in (1 - tail, tail))
    estimate = Estimate(tem, Interval(tem * low, tem * high), persons, "tem_chi_square")
    percent = None
    if mean > 0:
        share = 100 / mean
        percent = Estimate(
            tem * share, Interval(tem * low * share, tem * high * share), persons, "tem_chi_square"
        )
    spread = float(value.var(ddof=1))
    reliability = 1 - variance / spread if spread > 0 and persons > 1 else None
    return TechnicalError(estimate, percent, reliability, mean, persons, df)


@dataclass(frozen=True, slots=True)
class DigitPreference:
    """Counts of the last digit 0 to 9, and the χ² test of equal use.

    ``p`` is None with too few digits for it.
    """

    counts: tuple[int, ...]
    chi_square: float | None
    p: float | None


def digit_preference(last_digits: Ints) -> DigitPreference:
    """Test whether an observer reads some last digits more often than others.

    Parameters
    ----------
    last_digits : ndarray of int, shape (n,)
        Last digits, 0 to 9.

    Returns
    -------
    DigitPreference
        Counts, χ² goodness of fit with 9 degrees of freedom and its p-value. Below 50 readings
        (five expected for each digit) there is no p-value.

    References
    ----------
    Pearson 1900, Philos Mag 50:157.
    """
    counts = np.bincount(last_digits, minlength=10)
    n = int(counts.sum())
    if n < 50:
        return DigitPreference(tuple(counts.tolist()), None, None)
    chi = float(((counts - n / 10) ** 2).sum() / (n / 10))
    from scipy import special  # only here: the list of equations needs none of it

    return DigitPreference(tuple(counts.tolist()), chi, float(special.chdtrc(9, chi)))
