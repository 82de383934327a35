"""Methods side by side: what each one shows for one client about one day, never averaged."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from functools import partial
from typing import Any

from ..analysis.time.client_series import TrackSeries
from ..analysis.time.track import TrackResult
from ..domain.catalogue import Catalogue
from ..domain.metrics import metric_of
from ..figures import side_by_side as figure
from ..figures.paper import PAPER, PaperFigure
from ..figures.style import Mark, marks_of
from ..methods.registry import EQUATIONS
from ..wording.names import axis_name
from ..wording.numbers import MISSING, day_words, number, signed
from .document import Block, Document, FigureBlock, Paragraph, Section, TableBlock

NEAR = 7  # days between the values and the day that is asked about
NORMAL_95 = 1.96


@dataclass(frozen=True, slots=True)
class _Value:
    """What one method shows."""

    name: str
    day: int
    value: float
    low: float | None
    high: float | None
    how: str
    filled: bool
    mark: Mark


def side_by_side(r: TrackResult, catalogue: Catalogue, made_on: str, paper: str = "A4") -> Document:
    """Make the document about the day of the last scan, or of the last reading without a scan."""
    m = metric_of(r.metric)
    mark_of = marks_of(catalogue.instruments.values(), PAPER)
    days = [int(r.anchor_day[-1])] if r.anchor_day.size else [int(s.day[-1]) for s in r.series]
    at = max(days)
    found: list[_Value] = []
    if r.anchor_day.size:
        scan = next(i for i in catalogue.instruments.values() if i.kind == "reference")
        sd = catalogue.stated.get((r.metric, "reference_sd"))
        value = float(r.anchor_value[-1])
        half = None if sd is None else NORMAL_95 * sd
        found.append(
            _Value(
                "Scan",
                at,
                value,
                None if half is None else value - half,
                None if half is None else value + half,
                "error not stated" if half is None else f"stated SD {number(sd, 1)}",
                True,
                mark_of(scan),
            )
        )
    for s in r.series:
        near = [k for k, d in enumerate(s.day.tolist()) if abs(d - at) <= NEAR]
        if near:
            k = min(near, key=lambda k: (abs(int(s.day[k]) - at), -int(s.day[k])))
            found.append(_value(s, k, r.metric, mark_of(s.instrument)))
    what = figure.SideBySideInfo(
        tuple(figure.MethodDot(axis_name(v.name), v.value, v.low, v.high, v.filled) for v in found),
        f"{m.label} ({m.symbol})" if m.symbol else m.label,
    )
    marks = tuple(v.mark for v in found)
    day = date.fromordinal(at).isoformat()
    blocks: list[Block] = [
        Paragraph(
            f"{m.label} of {r.client.code} within {NEAR} days of {day_words(day)}, by each method"
            " alone. The values are not averaged: methods that share a measurement would count"
            " twice.",
            "lead",
        ),
        FigureBlock(
            "Line: 95 % of its error for one person. Filled: corrected, or the scan; open:"
            " as read, with no correction.",
            "; ".join(f"{v.name}: {number(v.value, m.decimals)} {m.symbol}" for v in found),
            PaperFigure(
                partial(_draw, what, marks),
                "methods side by side",
                what,
                height=20 + 8.0 * len(found),
                margins=(56.0, 6.0, 14.0, 3.0),
            ),
        ),
        TableBlock(
            f"Values ({m.symbol or m.unit})",
            ("Method", "Day", "Value", "95 % of its error", "Error from"),
            tuple(
                (
                    v.name,
                    day_words(date.fromordinal(v.day).isoformat()),
                    number(v.value, m.decimals),
                    MISSING
                    if v.low is None or v.high is None
                    else f"{number(v.low, m.decimals)} to {number(v.high, m.decimals)}",
                    v.how,
                )
                for v in found
            ),
            numeric_from=9,
        ),
    ]
    values = [v.value for v in found]
    if len(values) > 1:
        spread = f"{signed(max(values) - min(values), m.decimals)} {m.difference_unit}"
        blocks.append(
            Paragraph(f"The highest and the lowest value differ by {spread.lstrip('+')}.")
        )
    blocks.append(
        Paragraph(
            "A published error is that of the group in which the equation was made; for other"
            " people it can be larger. Not a diagnosis."
        )
    )
    return Document(
        "Methods side by side",
        (f"Client {r.client.code}", f"Made on {day_words(made_on)}"),
        (Section("methods", m.label, tuple(blocks)),),
        paper,
        contents=False,
    )


def _value(s: TrackSeries, k: int, metric: str, mark: Mark) -> _Value:
    item, value, day = s.instrument, float(s.value[k]), int(s.day[k])
    if s.corrected[k]:
        ends = float(s.low[k]), float(s.high[k])
        return _Value(item.name, day, value, *ends, "corrected, adopted offset", True, mark)
    equation = EQUATIONS.get(item.equation)
    see = None if equation is None else equation.error_in(metric)
    if see is not None:
        half = NORMAL_95 * see
        how = f"published standard error {number(see, 1)}"
        return _Value(item.name, day, value, value - half, value + half, how, False, mark)
    why = "no standard error is known" if item.equation else "not known: no offset is adopted"
    return _Value(item.name, day, value, None, None, why, False, mark)


def _draw(what: figure.SideBySideInfo, marks: tuple[Mark, ...], axes: Any, family: str) -> None:
    figure.draw(axes, what, marks, PAPER, family)
