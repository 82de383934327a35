"""Which sources count when several judge one change: one source, one vote."""

from __future__ import annotations

from collections.abc import Sequence

from ...domain.records import Instrument
from ...methods.registry import EQUATIONS
from ...stats.one_client import Verdict

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
    groups: list[tuple[frozenset[str], list[tuple[float, int]]]] = []
    for item, v in sources:
        inputs = measured_inputs(item)
        if inputs is not None and not inputs:
            out[item.id] = FORMULA
        elif not v.change.se:
            out[item.id] = NO_SCATTER
        elif inputs is not None:
            joined, members = inputs, [(v.change.se, item.id)]
            apart = []
            for other, own in groups:
                if other & joined:
                    joined, members = joined | other, members + own
                else:
                    apart.append((other, own))
            groups = [*apart, (joined, members)]
    for _, members in groups:
        for _, number in sorted(members)[1:]:
            out[number] = SAME_INPUTS
    return out
