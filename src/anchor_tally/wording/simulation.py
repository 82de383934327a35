"""Sentences and tables of drawn studies."""

from __future__ import annotations

from ..analysis.plan.simulation import Rate, Simulated
from .numbers import MISSING, number, signed

INTERVALS = {
    "bias": "Bias",
    "limits": "Limits of agreement",
    "offset": "A client's offset",
    "reading": "A new reading",
}
# what the verdicts are called here
VERDICTS = {
    "drift": "Drift",
    "change": "Responds to change",
    "advice": "Does correcting help",
    "equivalent": "Equivalent to the scan",
}
ANSWERS = {
    "steady": "stable",
    "drifting": "drifts",
    "stepped": "step",
    "not enough anchors": "cannot be told",
    "responds": "responds",
    "responds_size_uncertain": "responds, size uncertain",
    "too_little": "too little, or not at all",
    "unknown": "cannot be told yet",
    "none": "do not correct",
    "level_only": "level only",
    "level_change_unknown": "level; change cannot be told yet",
    "level_and_change": "level and change",
    "not_enough": "not enough data",
    "yes": "shown",
    "no": "not shown",
}


def answer_words(word: str) -> str:
    """A verdict in words."""
    return ANSWERS.get(word, word.replace("_", " "))


def simulation_headline(s: Simulated) -> str:
    """How often the intervals of the drawn studies hold what is true."""
    if not s.coverage:
        return f"Of {s.studies} drawn studies nothing could be said."
    parts = ", ".join(f"{INTERVALS[k].lower()} {_share(r)}" for k, r in s.coverage.items())
    studies = "1 study" if s.studies == 1 else f"{s.studies} studies"
    return f"In {studies}, 95 % intervals held the truth: {parts}."


def _share(r: Rate) -> str:
    error = f" ± {number(100 * r.error, 1)}" if r.n > 1 and r.error == r.error else ""
    return f"{number(100 * r.share, 1)}{error} %"


def coverage_rows(s: Simulated) -> list[tuple[str, ...]]:
    """Interval, coverage with its Monte-Carlo error, half-width found, and as planned."""
    planned = {
        "bias": s.planned.bias,
        "limits": s.planned.limits,
        "offset": s.planned.offset,
        "reading": s.planned.reading,
    }
    return [
        (
            INTERVALS[k],
            _share(r),
            f"±{number(s.half_widths[k], 2)}",
            MISSING if planned[k] is None else f"±{number(planned[k], 2)}",
        )
        for k, r in s.coverage.items()
    ]


def verdict_rows(s: Simulated) -> list[tuple[str, ...]]:
    """Question, verdict, and its share of the drawn studies."""
    return [
        (VERDICTS[name], answer_words(word), f"{number(100 * share, 0)} %")
        for name, found in s.verdicts.items()
        for word, share in sorted(found.items(), key=lambda x: -x[1])
    ]


def error_words(s: Simulated) -> str:
    """Errors of the bias and of the clients' offsets."""
    out = []
    if s.bias_error is not None:
        out.append(f"Mean error of the bias: {signed(s.bias_error, 2)} pp.")
    if s.offset_rmse is not None:
        out.append(f"Root mean square error of a client's offset: {number(s.offset_rmse, 2)} pp.")
    if s.refused:
        out.append(f"Of {s.refused} nothing could be said.")
    return " ".join(out)
