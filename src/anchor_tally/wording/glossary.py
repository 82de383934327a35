"""Terms of the field, each explained in at most two sentences.

The tooltips of tables, the sheet of F1, the user guide and screen readers all read this table.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Term:
    """A term, its meaning, and other words by which a label may name it (lower case)."""

    name: str
    meaning: str
    words: tuple[str, ...] = ()


GLOSSARY = (
    Term("Anchor", "A scan visit of a client: the point to which readings are compared. The word stands in the program's name and its file formats."),
    Term("Bias", "The mean difference device − scan over all clients. A small bias can hide large errors of single people.", ("bias",)),
    Term("Concordance", "Lin's coefficient: 1 only when all pairs are equal. It increases with the range of the sample.", ("concordance",)),
    Term("Confidence interval, 95 % CI", "A range made by a method that contains the true value in 95 of 100 studies. It describes the uncertainty of an estimate, not the spread of people.", ("95 % ci", "confidence interval")),
    Term("Control chart", "Standardised errors in order of time with limits. A point beyond the limits shows that the device changed.", ("control chart",)),
    Term("Correction", "Subtracting a device's offset from its reading. The corrected value has its own interval.", ("correct",)),
    Term("Correlation", "How closely two series vary together, from −1 to +1. A high correlation is not agreement.", ("correlation",)),
    Term("Coverage", "The share of cases in which an interval contains the true value. A 95 % interval should have a coverage of 95 %.", ("coverage",)),
    Term("Cross-validation", "The error on scans that had no part in the correction. It shows what to expect of new readings.", ("left-out", "cross-validation")),
    Term("Day-to-day SD", "The standard deviation of a client's morning values from day to day, without the variation of repeats.", ("day-to-day", "between days")),
    Term("Drift", "A slow change of a device's error through time. It makes an adopted offset wrong.", ("drift", "a week")),
    Term("Equivalence", "A test that the bias is smaller than the margin. It is the reverse of a test for a difference.", ("equivalence",)),
    Term("Intraclass correlation, ICC", "The share of variation that lies between people. It increases with the range of the sample.", ("icc",)),
    Term("Limits of agreement", "The range that is expected to contain 95 % of the errors of single readings of new clients.", ("limit",)),
    Term("Margin", "The smallest difference that matters in practice. You state it in Plan.", ("margin",)),
    Term("Offset", "What a device reads too high (+) or too low (−), for all clients or for one. It is subtracted from a reading.", ("offset",)),
    Term("Outlier", "A value that differs from the other repeats or from the client's history more than chance explains.", ("outlier",)),
    Term("pp, percentage points", "The unit of a difference between two percentages: from 20 % to 22 % is 2 pp.", ("(pp",)),
    Term("Prediction interval", "The range that is expected to contain one new value. It is wider than a confidence interval.", ("prediction",)),
    Term("Reference", "The method that is taken as correct, usually a scan. Its own error still counts.", ("reference",)),
    Term("Reliability", "One minus the share of measurement error in the variation between people.", ("reliability",)),
    Term("Repeatability coefficient", "Two repeats minutes apart differ by less than this in 95 % of pairs.", ("repeatability",)),
    Term("Repeats", "Readings of the same client with the same device minutes apart.", ("repeats", "sets of")),
    Term("Response to change", "How much a device shows for each unit of change on the scan: 1 is a full response, 0 is none.", ("response", "slope on", "slope of change")),
    Term("RMSE", "Root mean square error: the typical size of one error, bias included.", ("rmse",)),
    Term("SD, standard deviation", "The typical distance of single values from their mean.", ("sd of", "sd (", "  between")),
    Term("Shrinkage", "A client's own offset is pulled towards the group mean, more so with fewer scans. This makes it more accurate on average.", ("shrunk",)),
    Term("Smallest detectable change", "The smallest change of one client that is larger than measurement noise (95 %).", ("detectable",)),
    Term("Step change", "A sudden change of a device's error, for example after a change of setting or battery.", ("step",)),
    Term("Tally", "A set of repeats of one device at one visit. The word stands in the program's name and its file formats."),
    Term("Technical error of measurement, TEM", "The typical error of an assessor or device, from repeated measurements.", ("technical error",)),
    Term("Theil–Sen slope", "The median of the slopes between all pairs of points. Single outliers do not change it.", ("theil",)),
)  # fmt: skip


def meaning_of(label: str) -> str:
    """The meaning of the first term that a label names; "" for none."""
    said = label.lower()
    return next((t.meaning for t in GLOSSARY if any(w in said for w in t.words)), "")
