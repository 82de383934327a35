"""Results as sentences: the only place with prose about results."""

from __future__ import annotations

from ..analysis.agreement.agreement import CompareResult
from ..analysis.pairs.pairing import PairSet
from ..domain.metrics import metric_of
from ..stats.estimate import Interval
from .names import short_name
from .numbers import ci, count, number, signed

LEAST_FOR_ONE_PERSON = 5  # clients below which limits for one person are not given


def scan_word(pairs: PairSet) -> str:
    """The comparator in the middle of a sentence: "the scan", or the name of a device."""
    return "the scan" if pairs.reference.kind == "reference" else pairs.reference.name


def scan_noun(pairs: PairSet) -> str:
    """What the comparator was measured at: a scan, or an occasion of another device."""
    return "scan" if pairs.reference.kind == "reference" else "occasion"


def between(low: float, high: float, decimals: int, unit: str) -> str:
    """A range of differences: "from −2.9 to +8.6 pp"."""
    return f"from {signed(low, decimals)} to {signed(high, decimals)} {unit}"


def headline(result: CompareResult) -> str:
    """Bias and the error for one person, from the intervals."""
    p = result.pairs
    name, m = p.instrument.name, metric_of(p.metric)
    if result.bias is None:
        return f"{name}: no pairs with {p.compared_with} yet."
    bias, unit, k = result.bias, m.difference_unit, m.decimals
    scan = p.reference.kind == "reference"
    up = bias.value > 0
    way = f"too {'high' if up else 'low'}"
    if not scan:
        way = f"{'higher' if up else 'lower'} than {short_name(p.reference.name)}"
    size, against = f"{number(abs(bias.value), k)} {unit} {way}", ""
    if not scan:
        against = f" against {short_name(p.reference.name)}"
    i = bias.interval
    if i is None:
        first = f"{name} reads {size} here, from {count(p.occasions, scan_noun(p))}"
    elif i.low > 0 or i.high < 0:
        ends = i if up else Interval(-i.high, -i.low)
        first = f"{name} reads {size} on average{ci(ends, k)}"
    elif result.margin is not None and max(-i.low, i.high) <= result.margin:
        first = f"{name}{against}: no meaningful bias{ci(i, k, sign=True)[:-1]} {unit})"
    else:
        first = (
            f"{name}{against}: bias unclear, could be anywhere"
            f" {between(i.low, i.high, k, unit)} (95 % CI)"
        )
    lim = result.limits
    if p.clients < LEAST_FOR_ONE_PERSON:
        return (
            f"{first}. Not enough data for the error of one person: needs at least"
            f" {LEAST_FOR_ONE_PERSON} clients (now {p.clients})."
        )
    if lim is None:  # offsets leave the limits out
        return f"{first}."
    if lim.lower_interval is None:
        return f"{first}. The error of one person could not be computed."
    error = "error" if scan else "difference"
    if len(result.by_level) > 1:
        levels = ", ".join(
            f"{signed(x.lower, k)} to {signed(x.upper, k)} {unit} at {number(x.level, 0)}"
            f" {m.symbol}"
            for x in result.by_level
        )
        return f"{first}. The {error} depends on the level. For one person: {levels}."
    return (
        f"{first}. For one person the {error} can range {between(lim.lower, lim.upper, k, unit)}."
    )


def pairs_sentence(result: CompareResult) -> str:
    """How many pairs, and what was left out."""
    p = result.pairs
    n = p.left_out.n
    left = (
        f"; {n} {'reading or scan has' if n == 1 else 'readings or scans have'} no pair"
        if n
        else ""
    )
    return (
        f"{count(p.n, 'pair')}, {count(p.clients, 'client')},"
        f" {count(p.occasions, scan_noun(p))}{left}."
    )
