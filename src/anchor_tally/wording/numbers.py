"""Numbers as text: real minus, fixed decimals, signs on differences."""

from __future__ import annotations

from datetime import date
from decimal import ROUND_HALF_UP, Decimal

from ..stats.estimate import Interval

MISSING = "–"


def number(value: float | None, decimals: int = 1) -> str:
    """A value with fixed decimals and a real minus sign; an en dash when there is none.

    A half is rounded away from zero, as a spreadsheet does. The mean of readings shown to 0.1 often
    ends on a half, and the last bits of its sum must not decide.

    Examples
    --------
    >>> number(1.25 - 1e-15), number(-0.15 + 1e-15), number(-0.04), number(None)
    ('1.3', '−0.2', '0.0', '–')
    """
    if value is None:
        return MISSING
    if not abs(value) < 1e12:  # no measurement; such a number has no digits to spare
        return f"{value:.{decimals}f}".replace("-", "−")
    whole = Decimal(repr(round(float(value), decimals + 8)))
    text = f"{whole.quantize(Decimal(1).scaleb(-decimals), ROUND_HALF_UP):f}"
    if float(text) == 0:
        text = text.lstrip("-")
    return text.replace("-", "−")


def signed(value: float | None, decimals: int = 1) -> str:
    """A difference: the sign always shown, none on zero."""
    text = number(value, decimals)
    return text if value is None or text.startswith("−") or float(text) == 0 else f"+{text}"


def span(interval: Interval | None, decimals: int = 1, *, sign: bool = False) -> str:
    """An interval as "low to high".

    With signs it has more decimals where 0 lies outside it and an end would be rounded to 0.

    Examples
    --------
    >>> span(Interval(-0.56, -0.04), sign=True), span(Interval(-0.56, 0.04), sign=True)
    ('−0.56 to −0.04', '−0.6 to 0.0')
    """
    if interval is None:
        return MISSING
    f = signed if sign else number
    nearest = min(abs(interval.low), abs(interval.high))
    if sign and interval.low * interval.high > 0 and f(nearest, decimals) == f(0.0, decimals):
        decimals += 1
    return f"{f(interval.low, decimals)} to {f(interval.high, decimals)}"


def count(n: int, noun: str) -> str:
    """A number with its noun, in the plural but for one."""
    return f"{n} {noun}" if n == 1 else f"{n} {noun}s"


def height_words(entered: str, unit: str) -> str:
    """A height with its unit; inches also as feet and inches, as they are read from a wall.

    Examples
    --------
    >>> height_words("72.5", "in")
    '72.5 in (6 ft 0.5 in)'
    >>> height_words("184.2", "cm")
    '184.2 cm'
    """
    words = f"{entered} {unit}"
    if unit != "in":
        return words
    feet, inches = divmod(float(entered), 12)
    return f"{words} ({feet:.0f} ft {round(inches, 2):g} in)"


def day_words(moment: str) -> str:
    """An ISO day or moment as people write it: 25 May 2026, 25 May 2026 06:30."""
    at = date.fromisoformat(moment[:10])
    return f"{at.day} {at:%b %Y} {moment[11:16]}".rstrip()


def day_of(ordinal: int) -> str:
    """A day as people write it, from its ordinal."""
    return day_words(date.fromordinal(ordinal).isoformat())


def ci(interval: Interval | None, decimals: int = 1, *, sign: bool = False) -> str:
    """A 95 % confidence interval in brackets, with a space before; "" where there is none."""
    return "" if interval is None else f" (95 % CI {span(interval, decimals, sign=sign)})"


def p_value(p: float | None) -> str:
    """A p-value."""
    if p is None:
        return MISSING
    return "< 0.001" if p < 0.001 else f"{p:.3f}"
