"""Sentences on an answer to a training case."""

from __future__ import annotations

from ..analysis.plan.training import Judged
from ..scenario.cases import PROBLEMS
from .numbers import number, signed

TASK = (
    "Look through Review, Compare, Drift and Calibrate. Then say what is wrong, and what you would"
    " subtract from the device's readings."
)


def judged_words(j: Judged) -> str:
    """Whether the answer is right, how far off it is, and why."""
    c = j.case
    head = "Right" if j.problem_right else "Not so"
    out = [f"{head}: {PROBLEMS[c.problem].lower()}."]
    if c.subtract is None:
        out.append(
            "Nothing should be subtracted, as you said."
            if j.amount_right
            else "Nothing should be subtracted."
        )
    elif j.off is None:
        out.append(f"{number(c.subtract)} pp can be subtracted.")
    else:
        verdict = "near enough" if j.amount_right else "too far off"
        out.append(f"True bias {number(c.subtract)} pp: you are {signed(j.off)} pp off, {verdict}.")
    out.append(c.why)
    return " ".join(out)
