"""Results as a paper needs them: a methods paragraph, one table of all devices, the fits."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ..analysis.agreement.agreement import CompareResult
from ..domain.catalogue import Catalogue
from ..domain.lens import Lens
from ..domain.metrics import Metric, metric_of
from ..stats.estimate import Estimate
from ..wording.names import short_name
from ..wording.numbers import MISSING, count, number, signed, span
from .document import Block, Document, Paragraph, Section, TableBlock

HEADS = (
    "Device",
    "Clients",
    "Pairs",
    "Bias (95 % CI)",
    "Lower limit (95 % CI)",
    "Upper limit (95 % CI)",
    "MAPE (%)",
    "ICC(A,1) (95 % CI)",
)
FITS = ("Passing–Bablok", "Deming", "Least squares", "Theil–Sen")


@dataclass(frozen=True, slots=True)
class Subgroup:
    """A part of the clients, and the results of it."""

    name: str
    results: tuple[CompareResult, ...]


def paper_results(
    compared: Sequence[CompareResult],
    subgroups: Sequence[Subgroup],
    catalogue: Catalogue,
    lens: Lens,
    version: str,
    commands: Sequence[str],
    paper: str = "A4",
) -> Document:
    """Make the document.

    Parameters
    ----------
    compared : sequence of CompareResult
        Results of every device, with their other forms.
    subgroups : sequence of Subgroup
        Results of parts of the clients.
    catalogue : Catalogue
        Margin and stated values.
    lens : Lens
        The filters in force.
    version : str
        Version of the program.
    commands : sequence of str
        Commands that give the same numbers.
    paper : str
        A4 or Letter.
    """
    m = metric_of(lens.metric)
    unit = m.difference_unit
    sections = [
        Section(
            "methods",
            "Methods paragraph",
            (Paragraph(_methods(compared, catalogue, lens, m, version)),),
        ),
        Section(
            "agreement",
            "Agreement of all devices",
            (
                TableBlock(
                    f"Agreement with {_reference(compared)} in {m.name} ({unit})",
                    HEADS,
                    tuple(_row(r, m.decimals) for r in compared),
                ),
                Paragraph(
                    "Bias is device − reference. Limits hold 95 % of the differences of single"
                    " readings. MAPE: mean absolute percentage error. ICC(A,1): two-way random"
                    " effects, absolute agreement, single values.",
                    "note",
                ),
            ),
        ),
        Section("fits", "Lines", (_fits(compared, m),)),
    ]
    there = [g for g in subgroups if g.results]
    if there:
        sections.append(Section("subgroups", "Subgroups", tuple(_subgroups(there, m))))
    sections.append(
        Section("commands", "Reproduction", tuple(Paragraph(c, "code") for c in commands))
    )
    return Document(
        "Results for a paper", (f"{m.label}",), tuple(sections), paper, contents=False, dense=True
    )


def _reference(compared: Sequence[CompareResult]) -> str:
    return compared[0].pairs.compared_with if compared else MISSING


def _methods(
    compared: Sequence[CompareResult], catalogue: Catalogue, lens: Lens, m: Metric, version: str
) -> str:
    clients = max((r.pairs.clients for r in compared), default=0)
    scans = max((r.pairs.occasions for r in compared), default=0)
    margin = catalogue.margin(m)
    repeated = any(r.design != "single" for r in compared)
    chosen = "the mean of all readings" if lens.around else "the readings of the nearest visit"
    parts = [
        f"{m.label} was measured with {len(compared)} devices and methods and compared with"
        f" {_reference(compared)} in {count(clients, 'participant')}"
        f" ({count(scans, 'reference occasion')}); {chosen} within {lens.window_hours:g} h of a"
        " scan formed pairs.",
        "Agreement was expressed as bias (device − reference) and 95 % limits of agreement (Bland &"
        " Altman 1986)"
        + (
            ", with variance components for repeated measurements of participants (Bland & Altman"
            " 2007; Carstensen et al. 2008) and"
            if repeated
            else " with"
        )
        + " 95 % confidence intervals of bias and of both limits.",
        "The error was regressed on the reference between and within participants. Lines were"
        " fitted to one point a participant by Passing–Bablok, Deming, least squares and"
        " Theil–Sen.",
    ]
    if margin is not None:
        said = f"±{number(margin, m.decimals)} {m.difference_unit}"
        parts.append(f"The margin was {said}.")
    if lens.setting:
        parts.append("One setting of each device was analysed.")
    parts.append(f"Analyses used Anchor Tally {version}; resampling used fixed seeds.")
    return " ".join(parts)


def _with_interval(e: Estimate | None, k: int, *, sign: bool) -> str:
    if e is None:
        return MISSING
    value = signed(e.value, k) if sign else number(e.value, k)
    return value if e.interval is None else f"{value} ({span(e.interval, k, sign=sign)})"


def _row(r: CompareResult, k: int) -> tuple[str, ...]:
    limits, forms = r.limits, r.forms
    ends = (MISSING, MISSING)
    if limits is not None:
        ends = (
            f"{signed(limits.lower, k)} ({span(limits.lower_interval, k, sign=True)})",
            f"{signed(limits.upper, k)} ({span(limits.upper_interval, k, sign=True)})",
        )
    return (
        short_name(r.pairs.instrument.name),
        f"{r.pairs.clients}",
        f"{r.pairs.n}",
        _with_interval(r.bias, k, sign=True),
        *ends,
        MISSING if forms is None else number(forms.percentage_error, 1),
        MISSING if forms is None else _with_interval(forms.icc, 2, sign=False),
    )


def _fits(compared: Sequence[CompareResult], m: Metric) -> Block:
    rows = []
    for r in compared:
        f = r.forms
        if f is None:
            continue
        lines = (None if f.passing_bablok is None else f.passing_bablok.line, r.deming, f.ols)
        slopes = [
            *((None, None) if x is None else (x.slope, x.intercept) for x in lines),
            (f.theil_sen, None),
        ]
        for name, (slope, intercept) in zip(FITS, slopes, strict=True):
            if slope is not None:
                rows.append(
                    (
                        short_name(r.pairs.instrument.name),
                        name,
                        _with_interval(slope, 2, sign=False),
                        _with_interval(intercept, m.decimals, sign=True),
                    )
                )
    return TableBlock(
        f"Lines of device on reference, one point a client (intercept in {m.symbol or m.unit})",
        ("Device", "Line", "Slope (95 % CI)", "Intercept (95 % CI)"),
        tuple(rows),
        numeric_from=2,
    )


def _subgroups(groups: Sequence[Subgroup], m: Metric) -> list[Block]:
    rows = [
        (
            g.name,
            short_name(r.pairs.instrument.name),
            f"{r.pairs.clients}",
            f"{r.pairs.n}",
            _with_interval(r.bias, m.decimals, sign=True),
            MISSING
            if r.limits is None
            else f"{signed(r.limits.lower, m.decimals)} to {signed(r.limits.upper, m.decimals)}",
        )
        for g in groups
        for r in g.results
    ]
    return [
        TableBlock(
            f"Subgroups ({m.difference_unit})",
            ("Group", "Device", "Clients", "Pairs", "Bias (95 % CI)", "Limits"),
            tuple(rows),
            numeric_from=2,
        ),
        Paragraph(
            "Subgroups are described, not compared: no test of a difference between them was made.",
            "note",
        ),
    ]
