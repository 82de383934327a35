"""Reporting items for studies of agreement and reliability (wording from memory)."""

from __future__ import annotations

from dataclasses import dataclass

_LIMITS = "Abu-Arafeh, Jordan & Drummond 2016, Br J Anaesth 117:569 (items from memory)"
_GRRAS = "GRRAS, Kottner et al. 2011, J Clin Epidemiol 64:96 (items from memory)"


@dataclass(frozen=True, slots=True)
class Item:
    """An item, its source, the section that answers it ("" for none), and why it may not be.

    ``holds`` is what stands in the section where it does answer.
    """

    text: str
    source: str
    section: str
    holds: str = ""
    why: str = ""


def _of(source: str, *rows: tuple[str, str, str, str]) -> tuple[Item, ...]:
    return tuple(Item(text, source, section, holds, why) for text, section, holds, why in rows)


TITLE = "title"  # stands for the title of the document
_AUTHORS = "for the authors to write"

AGREEMENT = _of(
    _LIMITS,
    (
        "Acceptable limits set beforehand",
        "",
        "",
        "the day on which a margin was set is not kept; for the authors to state",
    ),
    ("Structure of the data", "flow", "From readings to pairs", ""),
    ("Repeatability of each method", "repeatability", ": repeatability", "no repeats"),
    ("Plot of the differences", "agreement", "difference against the mean", ""),
    ("Trend looked at", "agreement", "Slope on", ""),
    ("Transformation, where needed", "methods", "transformed", ""),
    ("Bias, plotted and as a number", "agreement", "Bias and limits of agreement", ""),
    ("Precision of the bias", "agreement", "95 % CI", ""),
    ("Limits of agreement, plotted and as numbers", "agreement", "Upper limit", ""),
    ("Precision of the limits", "agreement", "95 % CI", ""),
    ("Range of values", "agreement", "Reference values from", ""),
    ("Variance between and within people", "agreement", "between clients", ""),
    ("Software", "data", "Software:", ""),
    ("Assumptions on distributions", "methods", "Assumptions:", ""),
)
RELIABILITY = _of(
    _GRRAS,
    ("Title names reliability or agreement", TITLE, "agreement", ""),
    ("Devices named and described", "flow", "Devices and methods", ""),
    ("Population", "", "", _AUTHORS),
    ("Raters", "", "", "assessors are named in the study file only"),
    ("What is known already", "", "", _AUTHORS),
    ("Choice of the sample size", "", "", "see Plan, Precision; for the authors to write"),
    ("Sampling", "", "", _AUTHORS),
    (
        "Process of measuring, conditions",
        "question",
        "Conditions asked at each visit",
        "no conditions are asked",
    ),
    ("Independence of the readings", "", "", _AUTHORS),
    ("Statistical analysis", "methods", "Statistics and their sources", ""),
    ("Numbers of people and readings", "flow", "From readings to pairs", ""),
    ("Characteristics of the people", "flow", "Age ", "no ages are recorded"),
    ("Estimates with their uncertainty", "agreement", "95 % CI", ""),
    ("Practical relevance", "which", "Level error", ""),
    ("Detailed results", "agreement", ": all statistics", ""),
)
