"""What an answer to a training case is worth."""

from __future__ import annotations

from dataclasses import dataclass

from ...scenario.cases import CASE, PROBLEMS, Case


@dataclass(frozen=True, slots=True)
class Judged:
    """An answer to a case: whether the problem and the amount are right, and how far off it is.

    ``off`` is the answer less what is true, in pp; None where nothing should be subtracted, or
    nothing was answered.
    """

    case: Case
    problem_right: bool
    amount_right: bool
    off: float | None


def judge(key: str, problem: str, subtract: float | None) -> Judged:
    """What an answer is worth.

    Parameters
    ----------
    key : str
        The case.
    problem : str
        A key of ``PROBLEMS``.
    subtract : float or None
        What would be subtracted, in pp; None for nothing.
    """
    case = CASE[key]
    assert problem in PROBLEMS
    if case.subtract is None or subtract is None:
        return Judged(case, problem == case.problem, case.subtract == subtract, None)
    off = subtract - case.subtract
    return Judged(case, problem == case.problem, abs(off) <= case.tolerance, off)
