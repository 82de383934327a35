"""Which equations share a measurement, so that each measurement counts once."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TypeVar

from ...domain.records import Instrument
from ...methods.registry import EQUATIONS

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
