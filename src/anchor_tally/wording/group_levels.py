"""Sentences and rows of all clients side by side."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from ..analysis.time.group_levels import ClientLevel, GroupResult
from ..domain.metrics import metric_of
from ..stats.one_client import LIKELY, NOISE, NOT_ENOUGH, REAL
from .best_estimate import KINDS
from .numbers import MISSING, count, day_of, number, signed, span

MOST_NAMED = 6  # clients of whom readings wait
ORDERS = (("name", "by name"), ("scan", "by last scan"))


def heads(metric: str) -> tuple[str, str, str, str]:
    """Heads of the table, with units."""
    m = metric_of(metric)
    now, change = (f" ({unit})" if unit else "" for unit in (m.symbol, m.difference_unit))
    return "Client", f"Now{now}", f"Four weeks{change}", "Last scan"


def ordered(rows: Sequence[ClientLevel], by: str) -> tuple[ClientLevel, ...]:
    """Clients by name, or those first whose scan lies farthest back; never by their level."""
    if by == "scan":
        return tuple(sorted(rows, key=lambda r: (r.last_scan or 0, r.client.code)))
    return tuple(sorted(rows, key=lambda r: r.client.code))


def headline(r: GroupResult) -> str:
    """How many clients, and how many changes of each kind."""
    m = metric_of(r.metric)
    kinds = Counter(x.change.kind for x in r.rows if x.change is not None)
    text = (
        f"{count(len(r.rows), 'client')}, {m.name}. Over the last four weeks of each:"
        f" {count(kinds[REAL], KINDS[REAL])}, {count(kinds[LIKELY], KINDS[LIKELY])},"
        f" {kinds[NOISE]} with no detectable change"
    )
    return text + (f", {kinds[NOT_ENOUGH]} measured on one day only." if kinds[NOT_ENOUGH] else ".")


def under(r: GroupResult) -> str:
    """What is not shown, and how the rows stand."""
    hidden = sum(1 for x in r.rows if x.change is None)
    said = [
        "In brackets: 95 % CI. Clients can be put in order by name or by last scan only: this is no"
        " ranking."
    ]
    if hidden:
        said.append(
            f"No value is shown of {count(hidden, 'client')} (history of disordered eating, or"
            " pregnancy)."
        )
    if r.waiting:
        names = ", ".join(r.waiting[:MOST_NAMED]) + (" …" if len(r.waiting) > MOST_NAMED else "")
        said.append(f"Some readings do not count until you decide in Review ({names}).")
    return " ".join(said)


def row(x: ClientLevel, metric: str) -> tuple[str, str, str, str]:
    """A client as a line of the table."""
    m = metric_of(metric)
    k = m.decimals
    scan = MISSING if x.last_scan is None else day_of(x.last_scan)
    if x.change is None:
        return x.client.code, "not shown", "not shown", scan
    c = x.change.change
    moved = "one day only" if c is None else signed(c.value, k)
    mark = {REAL: " real", LIKELY: " probable"}.get(x.change.kind, "")
    return (
        x.client.code,
        "needs a scan"
        if x.value is None
        else f"{number(x.value.value, k)} ({span(x.value.interval, k)})",
        moved if c is None else f"{moved} ({span(c.interval, k, sign=True)}){mark}",
        scan,
    )
