"""What claims made elsewhere do not show: a correlation, a repeatability."""

from __future__ import annotations

from ..analysis.agreement.claims import ClaimResult, Measured
from ..domain.metrics import Metric, metric_of
from ..wording.names import short_name
from ..wording.numbers import MISSING, day_words, number, signed
from .document import Block, Document, Paragraph, Section, TableBlock


def claims_page(r: ClaimResult, made_on: str, paper: str = "A4") -> Document:
    """Make the document."""
    m = metric_of(r.metric)
    sections = []
    if r.claim.correlation is not None:
        sections.append(_correlation(r, r.claim.correlation, m))
    if r.claim.repeatability is not None:
        sections.append(_repeatability(r, r.claim.repeatability, m))
    return Document(
        "Claims, and what they do not show",
        (m.label, f"Made on {day_words(made_on)}"),
        tuple(sections),
        paper,
        contents=False,
    )


def _correlation(r: ClaimResult, claimed: float, m: Metric) -> Section:
    unit = m.difference_unit
    blocks: list[Block] = [
        Paragraph(
            f"A correlation of {number(claimed, 2)} is not agreement. It does not show bias: a"
            f" device that reads 10 {unit} too high in everybody has the same correlation. It does"
            " not show whether the device responds to change in one person.",
            "lead",
        ),
        TableBlock(
            f"Errors of single values at this correlation, bias and slope known ({unit})",
            ("Group", "SD of the scans", "95 % of errors"),
            tuple(
                (
                    "this study" if r.own and k == 0 else "another group",
                    number(sd, 1),
                    f"±{number(half, 1)}",
                )
                for k, (sd, half) in enumerate(r.left)
            ),
        ),
        Paragraph(
            "The same device has a higher correlation in a group with more spread, and a lower one"
            " in a group of people who are alike. Source: Bland & Altman 1986.",
            "note",
        ),
    ]
    measured = [d for d in r.devices if d.limits is not None and d.bias is not None]
    if measured:
        blocks.append(
            TableBlock(
                f"Measured in this study ({unit})",
                ("Device", "Correlation", "Bias", "95 % limits of agreement"),
                tuple(_agreement(d, m.decimals) for d in measured),
            )
        )
    return Section("correlation", f"Claimed: correlation {number(claimed, 2)}", tuple(blocks))


def _agreement(d: Measured, k: int) -> tuple[str, ...]:
    assert d.limits is not None
    assert d.bias is not None
    return (
        short_name(d.instrument.name),
        MISSING if d.correlation is None else number(d.correlation.value, 2),
        signed(d.bias.value, k),
        f"{signed(d.limits.lower, k)} to {signed(d.limits.upper, k)}",
    )


def _repeatability(r: ClaimResult, claimed: float, m: Metric) -> Section:
    unit, k = m.difference_unit, m.decimals
    blocks: list[Block] = [
        Paragraph(
            f"Repeats within {number(claimed, k + 1)} {unit} show that a device gives the same"
            " value again minutes later. They do not show that the value is right, nor how it"
            " varies from day to day. A device that stores the last value and shows it again"
            " repeats perfectly.",
            "lead",
        )
    ]
    rows = tuple(
        (
            short_name(d.instrument.name),
            number(d.minutes, k + 1),
            number(d.days, k + 1),
            MISSING if d.limits is None else number(d.limits.upper - d.limits.lower, k),
        )
        for d in r.devices
        if d.minutes is not None or d.days is not None
    )
    if rows:
        blocks.append(
            TableBlock(
                f"Measured in this study ({unit}): 95 % of the differences of two readings",
                ("Device", "Minutes apart", "Days apart", "Width of limits against the scan"),
                rows,
            )
        )
        blocks.append(Paragraph("Two readings: 1.96·√2 × SD. Source: ISO 5725-6.", "note"))
    return Section("repeatability", "Claimed: repeatability", tuple(blocks))
