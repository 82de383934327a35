"""Sentences on an answer to a training case."""

from __future__ import annotations

from ..analysis.plan.training import Judged
from ..scenario.cases import PROBLEMS
from ..scenario.drawn import Truth
from .numbers import number, signed

TASK = (
    "Look through Review, Compare, Drift and Calibrate. Then say what is wrong, and what you would"
    " subtract from the device's readings."
)


DRAWN = "drawn: "  # begins the key of a drawn study; what follows is its truth in words


def truth_words(t: Truth) -> str:
    """What a drawn study was made with, as far as it is not usual."""
    out = [
        f"Bias {signed(t.bias)} pp; SDs: offsets {number(t.client_sd)}, days {number(t.day_sd)},"
        f" repeats {number(t.repeat_sd)}, scan {number(t.scan_sd)} pp."
    ]
    if t.drift_per_week:
        out.append(f"Drift {signed(t.drift_per_week, 2)} pp a week.")
    if t.step:
        out.append(f"Step {signed(t.step)} pp in week {number(t.step_week, 0)}.")
    if t.slope != 1:
        out.append(f"The device shows {number(t.slope, 2)} of a change.")
    if t.change_per_week or t.change_sd:
        sd = number(t.change_sd, 2)
        out.append(f"Clients change by {signed(t.change_per_week, 2)} pp a week (SD {sd}).")
    if t.hydration:
        out.append(f"A point of water takes off {number(t.hydration)} pp.")
    for share, words in (
        (t.failures, "of the readings fail"),
        (t.mistypes, "have swapped digits"),
        (t.dropouts, "of the visits are missed"),
    ):
        if share:
            out.append(f"{number(100 * share, 0)} % {words}.")
    return " ".join(out)


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
