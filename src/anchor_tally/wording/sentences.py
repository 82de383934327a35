"""Results as sentences: the only place with prose about results."""

from __future__ import annotations

from ..analysis.agreement.agreement import CompareResult
from ..domain.metrics import metric_of
from .numbers import count, number

LEAST_FOR_ONE_PERSON = 5  # clients below which nothing is said of how far single readings stray


def side(value: float, decimals: int) -> str:
    """A difference as people say it: "2.9 low", "8.6 high", "0.0"."""
    text = number(abs(value), decimals)
    return text if float(text) == 0 else f"{text} {'high' if value > 0 else 'low'}"


def headline(result: CompareResult) -> str:
    """One sentence a tired coach understands, made from the intervals."""
    name, m = result.pairs.instrument.name, metric_of(result.pairs.metric)
    if result.bias is None:
        return f"{name}: no pairs with {result.pairs.compared_with} yet."
    bias, unit, k = result.bias, m.difference_unit, m.decimals
    if result.pairs.reference.kind != "reference":
        name = f"Compared with {result.pairs.compared_with}: {name}"
    if bias.interval is None:
        head = f"{name} read {side(bias.value, k)} ({unit}) here; one scan cannot say more"
    elif bias.interval.low > 0 or bias.interval.high < 0:
        head = (
            f"{name} reads {number(abs(bias.value), k)} {unit}"
            f" {'high' if bias.value > 0 else 'low'} on average"
        )
    else:
        head = (
            f"{name}: no bias shown; on average anywhere from {side(bias.interval.low, k)} to"
            f" {side(bias.interval.high, k)} ({unit})"
        )
    lim, clients = result.limits, result.pairs.clients
    if (
        lim is None
        or lim.lower_interval is None
        or lim.upper_interval is None
        or clients < LEAST_FOR_ONE_PERSON
    ):
        return (
            f"{head}; how far it strays for one person cannot be said from"
            f" {count(clients, 'client')}."
        )
    inner = f"from {side(lim.lower, k)} to {side(lim.upper, k)}"
    outer = f"{side(lim.lower_interval.low, k)} to {side(lim.upper_interval.high, k)}"
    return f"{head}; for one person {inner} (after {count(clients, 'client')} it may be {outer})."


def pairs_sentence(result: CompareResult) -> str:
    """How many pairs, and what was left out."""
    p = result.pairs
    n = p.left_out.n
    left = (
        ""
        if n == 0
        else (
            "; 1 reading or scan made no pair"
            if n == 1
            else f"; {n} readings or scans made no pair"
        )
    )
    return (
        f"{count(p.n, 'pair')}, {count(p.clients, 'client')}, {count(p.occasions, 'anchor')}{left}."
    )
