"""Sentences about assessors and practice."""

from __future__ import annotations

from ..analysis.entry.assessor import AssessorResult
from ..analysis.entry.practice import PracticeScore
from ..domain.metrics import metric_of
from .notes import sentence
from .numbers import MISSING, number, p_value, signed, span

_VERDICT = {
    "skilled": (
        "{who} meets the limit for a skilled assessor: technical error {share} % of the mean (limit"
        " {skilled} %)."
    ),
    "beginner": (
        "{who} meets the limit for a beginner ({beginner} %) but not for a skilled assessor"
        " ({skilled} %): technical error {share} % of the mean."
    ),
    "not_yet": (
        "{who} does not meet the limit for a beginner ({beginner} %): technical error {share} % of"
        " the mean. Do not use these readings for decisions."
    ),
    "too_few": "{who}: not enough people measured twice.",
}


def verdict(r: AssessorResult) -> str:
    """The verdict in a sentence."""
    share = number(r.error.percent.value if r.error.percent else None)
    skilled, beginner = (f"{x:g}" for x in r.limits)
    return _VERDICT[r.verdict].format(
        who=r.assessor, share=share, skilled=skilled, beginner=beginner
    )


def assessor_rows(r: AssessorResult) -> list[tuple[str, str, str]]:
    """Statistic, value, interval."""
    m, e = metric_of(r.metric), r.error
    k = m.decimals + 1
    least = None if e.tem is None else 1.96 * 2**0.5 * e.tem.value
    return [
        (
            f"Technical error ({m.unit})",
            number(e.tem.value if e.tem else None, k),
            span(e.tem.interval if e.tem else None, k),
        ),
        (
            "Technical error (% of mean)",
            number(e.percent.value if e.percent else None),
            span(e.percent.interval if e.percent else None),
        ),
        ("Reliability", number(e.reliability, 3), ""),
        (f"Smallest detectable change ({m.unit})", number(least, k), ""),
        ("People measured", str(e.persons), ""),
    ]


def assessor_notes(r: AssessorResult) -> str:
    """What is to be kept in mind."""
    return " ".join(sentence(n) for n in r.notes)


def practice_words(s: PracticeScore, unit: str) -> str:
    """What the trainee's readings were worth."""
    if s.n == 0:
        return "Read the value and press Enter."
    text = f"{s.n} read: {signed(s.bias, 2)} {unit} on average, spread {number(s.sd, 2)} {unit}"
    text += f", {number(100 * s.close, 0) if s.close is not None else MISSING} % within 0.1 {unit}."
    if s.digits.p is None:
        return text + " Digit preference needs at least 50 readings."
    if s.digits.p < 0.05:
        most = max(range(10), key=lambda d: s.digits.counts[d])
        return (
            text
            + f" Last digits are not used evenly (p {p_value(s.digits.p)}); the most frequent is"
            f" {most}."
        )
    return text + f" Last digits are used evenly (p {p_value(s.digits.p)})."
