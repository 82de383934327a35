"""Reporting items for studies of agreement and reliability (wording from memory)."""

from __future__ import annotations

from dataclasses import dataclass

_LIMITS = "Abu-Arafeh, Jordan & Drummond 2016, Br J Anaesth 117:569 (items from memory)"
_GRRAS = "GRRAS, Kottner et al. 2011, J Clin Epidemiol 64:96 (items from memory)"


@dataclass(frozen=True, slots=True)
class Item:
    """An item, its source, the section that answers it ("" for none), and why it may not be.

    ``needs`` names what must be stated in the study.
    """

    text: str
    source: str
    section: str
    why: str = ""
    needs: str = ""


def _of(source: str, *rows: tuple[str, str, str, str]) -> tuple[Item, ...]:
    return tuple(Item(text, source, section, why, needs) for text, section, why, needs in rows)


AGREEMENT = _of(
    _LIMITS,
    ("Acceptable limits set beforehand", "question", "", "margin"),
    ("Structure of the data", "flow", "", ""),
    ("Repeatability of each method", "repeatability", "no repeats", ""),
    ("Plot of the differences, distribution and trend looked at", "agreement", "", ""),
    ("Transformation, where needed", "agreement", "", ""),
    ("Bias, plotted and as a number", "agreement", "", ""),
    ("Precision of the bias", "agreement", "", ""),
    ("Limits of agreement, plotted and as numbers", "agreement", "", ""),
    ("Precision of the limits", "agreement", "", ""),
    ("Whether the range of values is wide enough", "agreement", "", ""),
    ("Variance between and within people", "agreement", "", ""),
    ("Software", "data", "", ""),
    ("Assumptions on distributions", "methods", "", ""),
)
RELIABILITY = _of(
    _GRRAS,
    ("Title names reliability or agreement", "question", "", ""),
    ("Devices named and described", "flow", "", ""),
    ("Population", "flow", "", ""),
    ("Raters", "", "assessors are named in the study file only", ""),
    ("What is known already", "", "for the authors to write", ""),
    ("Choice of the sample size", "", "see Plan, Precision; for the authors to write", ""),
    ("Sampling", "", "for the authors to write", ""),
    ("Process of measuring, conditions", "question", "", ""),
    ("Independence of the readings", "", "for the authors to write", ""),
    ("Statistical analysis", "methods", "", ""),
    ("Numbers of people and readings", "flow", "", ""),
    ("Characteristics of the people", "flow", "", ""),
    ("Estimates with their uncertainty", "agreement", "", ""),
    ("Practical relevance", "which", "", ""),
    ("Detailed results", "agreement", "", ""),
)
