"""Figures of the other forms of agreement.

Ratios, sloping limits, percentiles, and instrument against reference.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from ..analysis.agreement.agreement import CompareResult
from ..domain.metrics import metric_of
from ..domain.snapshot import Floats, Ints, read_only
from ..stats.estimate import Interval
from ..wording.numbers import number, signed
from .style import Mark, Palette, minus, points, prepare, ring

FORMS = (
    ("difference", "Difference"),
    ("ratio", "Ratio"),
    ("sloping", "Sloping limits"),
    ("percentiles", "Percentiles"),
    ("identity", "Device and reference"),
)
MOST = 2000
_DASHED = (0, (6, 3))


@dataclass(frozen=True, slots=True)
class Curve:
    """A line through points, with its words and how it is drawn."""

    x: tuple[float, ...]
    y: tuple[float, ...]
    words: str
    style: Any
    strong: bool = False


@dataclass(frozen=True, eq=False)
class FormInfo:
    """Points with their pairs, lines, bands, and the height of no difference.

    The height is None for a plot about the diagonal.
    """

    x: Floats
    y: Floats
    pair: Ints
    curves: tuple[Curve, ...]
    bands: tuple[Interval, ...]
    level: float | None
    x_label: str
    y_label: str
    signed: bool


def info(r: CompareResult, form: str) -> FormInfo | None:
    """What a form shows; None where the data cannot give it."""
    if r.forms is None or r.pairs.n == 0:
        return None
    return {"ratio": _ratio, "sloping": _sloping, "percentiles": _percentiles}.get(form, _identity)(
        r
    )


def _units(r: CompareResult) -> tuple[str, str]:
    m = metric_of(r.pairs.metric)
    return (m.symbol, m.difference_unit)


def _level(
    values: tuple[tuple[float, str, bool], ...], ends: tuple[float, float]
) -> tuple[Curve, ...]:
    """Level lines with their words, the first one strong."""
    return tuple(
        Curve(ends, (v, v), words, "-" if strong else _DASHED, strong)
        for v, words, strong in values
    )


def _mean(r: CompareResult) -> tuple[Floats, tuple[float, float], str]:
    p = r.pairs
    mean = (p.x + p.y) / 2
    return (
        mean,
        (float(mean.min()), float(mean.max())),
        f"mean of {p.instrument.name} and {p.compared_with} ({_units(r)[0]})",
    )


def _ratio(r: CompareResult) -> FormInfo | None:
    found, p = (r.forms.ratio if r.forms is not None else None), r.pairs
    if found is None:
        return None
    mean, ends, words = _mean(r)
    levels = (
        (found.ratio.value, "ratio", True),
        (found.upper, "upper limit", False),
        (found.lower, "lower limit", False),
    )
    curves = _level(tuple((v, f"{w} {number(v, 2)}", s) for v, w, s in levels), ends)
    bands = (found.ratio.interval, found.upper_interval, found.lower_interval)
    return _made(
        r,
        mean,
        p.y / p.x,
        curves,
        bands,
        1.0,
        (words, f"{p.instrument.name} / {p.compared_with}"),
        signed_=False,
    )


def _sloping(r: CompareResult) -> FormInfo | None:
    found = r.forms.sloping if r.forms is not None else None
    if found is None:
        return None
    mean, ends, words = _mean(r)
    grid = np.linspace(*ends, 30)
    low, bias, high = found.at(grid)
    curves = tuple(
        Curve(tuple(grid.tolist()), tuple(y.tolist()), said, "-" if strong else _DASHED, strong)
        for y, said, strong in (
            (bias, "bias", True),
            (high, "upper limit", False),
            (low, "lower limit", False),
        )
    )
    return _made(r, mean, r.pairs.d, curves, (), 0.0, (words, _difference(r)), signed_=True)


def _percentiles(r: CompareResult) -> FormInfo | None:
    found = r.forms.percentiles if r.forms is not None else None
    if found is None:
        return None
    mean, ends, words = _mean(r)
    levels = (
        (float(np.median(r.pairs.d)), "median", True),
        (found.upper, "97.5 %", False),
        (found.lower, "2.5 %", False),
    )
    curves = _level(tuple((v, f"{w} {signed(v, 1)}", s) for v, w, s in levels), ends)
    bands = (found.upper_interval, found.lower_interval)
    return _made(r, mean, r.pairs.d, curves, bands, 0.0, (words, _difference(r)), signed_=True)


def _identity(r: CompareResult) -> FormInfo | None:
    f, p, unit = r.forms, r.pairs, _units(r)[0]
    if f is None:
        return None
    span = (float(p.x.min()), float(p.x.max()))
    lines = (
        ("Passing–Bablok", f.passing_bablok.line if f.passing_bablok else None, "-", True),
        ("Deming", r.deming, _DASHED, False),
        ("least squares", f.ols, ":", False),
    )
    curves = tuple(
        Curve(
            span,
            tuple(line.intercept.value + line.slope.value * x for x in span),
            f"{said} {number(line.slope.value, 2)}",
            style,
            strong,
        )
        for said, line, style, strong in lines
        if line is not None
    )
    return _made(
        r,
        p.x,
        p.y,
        curves,
        (),
        None,
        (f"{p.compared_with} ({unit})", f"{p.instrument.name} ({unit})"),
        signed_=False,
    )


def _difference(r: CompareResult) -> str:
    return f"{r.pairs.instrument.name} − {r.pairs.compared_with} ({_units(r)[1]})"


def _made(
    r: CompareResult,
    x: Floats,
    y: Floats,
    curves: tuple[Curve, ...],
    bands: tuple[Interval | None, ...],
    level: float | None,
    labels: tuple[str, str],
    *,
    signed_: bool,
) -> FormInfo:
    shown = np.arange(0, r.pairs.n, -(-r.pairs.n // MOST) or 1)
    return FormInfo(
        read_only(x[shown], np.float64),
        read_only(y[shown], np.float64),
        read_only(shown, np.int64),
        curves,
        tuple(b for b in bands if b is not None),
        level,
        *labels,
        signed_,
    )


def draw(
    axes: Any,
    what: FormInfo | None,
    mark: Mark,
    palette: Palette,
    family: str,
    chosen: int | None = None,
) -> None:
    """Draw a form.

    Every line has its words at its right end, moved apart where they would touch.
    """
    prepare(axes, palette, family)
    if what is None:
        words = "not enough data for this form"
        axes.text(
            0.5,
            0.5,
            words,
            transform=axes.transAxes,
            ha="center",
            color=palette.faint,
            fontfamily=family,
        )
        return
    if what.level is None:
        both = [min(what.x.min(), what.y.min()), max(what.x.max(), what.y.max())]
        axes.plot(both, both, color=palette.reference, lw=1, zorder=1)
    else:
        axes.axhline(what.level, color=palette.reference, lw=1, zorder=1)
    for band in what.bands:
        axes.axhspan(band.low, band.high, color=mark.colour, alpha=0.1, lw=0, zorder=0)
    for curve in what.curves:
        axes.plot(
            curve.x,
            curve.y,
            color=mark.colour,
            lw=1.7 if curve.strong else 1.2,
            ls=curve.style,
            zorder=2,
        )
    points(axes, what.x, what.y, mark, palette)
    if chosen is not None:
        at = np.flatnonzero(what.pair == chosen)
        ring(axes, what.x[at], what.y[at], palette)
    _name_lines(axes, what, palette, family)
    if what.signed:
        axes.yaxis.set_major_formatter(minus)
    axes.set_xlabel(what.x_label, fontfamily=family, fontsize=9)
    axes.set_ylabel(what.y_label, fontfamily=family, fontsize=9)


def _name_lines(axes: Any, what: FormInfo, palette: Palette, family: str) -> None:
    low, high = axes.get_ylim()
    last = -np.inf
    for curve in sorted(what.curves, key=lambda c: c.y[-1]):
        last = max(curve.y[-1], last + 0.07 * (high - low))
        axes.annotate(
            curve.words,
            (1.0, last),
            xycoords=("axes fraction", "data"),
            xytext=(6, 0),
            textcoords="offset points",
            va="center",
            color=palette.ink,
            fontsize=9,
            fontfamily=family,
            annotation_clip=False,
        )
