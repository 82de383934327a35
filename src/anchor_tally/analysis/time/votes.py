"""Which sources count when several judge one change: one source, one vote."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TypeVar

from ...domain.records import Instrument
from ...methods.registry import EQUATIONS
from ...stats.one_client import Verdict

M = TypeVar("M")
# what an equation takes that is no measurement of body composition
_GIVEN = frozenset({"height", "body_mass", "age_years", "sex"})
FORMULA, SAME_INPUTS, NO_SCATTER = "formula", "same_inputs", "no_scatter"


def measured_inputs(item: Instrument) -> frozenset[str] | None:
    """Metrics that an equation takes beside height, body mass, age and sex.

    None for an instrument that is read and not computed.
    """
    equation = EQUATIONS.get(item.equation)
    if equation is None:
        return None
    return frozenset((*equation.all_inputs, *equation.substitutes)) - _GIVEN


def sharing(members: Iterable[tuple[frozenset[str], M]]) -> list[list[M]]:
    """Groups of members whose inputs overlap, directly or through others of the group."""
    groups: list[tuple[frozenset[str], list[M]]] = []
    for inputs, member in members:
        joined, own = inputs, [member]
        apart = []
        for other, found in groups:
            if other & joined:
                joined, own = joined | other, own + found
            else:
                apart.append((other, found))
        groups = [*apart, (joined, own)]
    return [own for _, own in groups]


def without_vote(sources: Sequence[tuple[Instrument, Verdict]]) -> dict[int, str]:
    """Number of each instrument that does not count on a change, with the reason.

    Parameters
    ----------
    sources : sequence of (Instrument, Verdict)
        Sources with a change of their own.

    Returns
    -------
    dict of int to str
        FORMULA: computed from height, mass, age and sex alone, so it repeats the change of body
        mass. SAME_INPUTS: computed from measurements of which another source makes more; the one
        with the smallest standard error counts. NO_SCATTER: it shows one value every day, so its
        error is not known.
    """
    out: dict[int, str] = {}
    measured: list[tuple[frozenset[str], tuple[float, int]]] = []
    for item, v in sources:
        inputs = measured_inputs(item)
        if inputs is not None and not inputs:
            out[item.id] = FORMULA
        elif not v.change.se:
            out[item.id] = NO_SCATTER
        elif inputs is not None:
            measured.append((inputs, (v.change.se, item.id)))
    for members in sharing(measured):
        for _, number in sorted(members)[1:]:
            out[number] = SAME_INPUTS
    return out
