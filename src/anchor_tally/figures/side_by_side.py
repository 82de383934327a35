"""Figure of methods side by side: each value of one client as a dot with its own error."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from .style import Mark, Palette, prepare, rows


@dataclass(frozen=True, slots=True)
class MethodDot:
    """One value: method, value, ends of its error where it is known, and whether corrected."""

    name: str
    value: float
    low: float | None
    high: float | None
    filled: bool


@dataclass(frozen=True, slots=True)
class SideBySideInfo:
    """Content of the figure."""

    dots: tuple[MethodDot, ...]
    label: str


def draw(
    axes: Any, what: SideBySideInfo, marks: tuple[Mark, ...], palette: Palette, family: str
) -> None:
    """Draw a row for each method; open marks are uncorrected."""
    prepare(axes, palette, family)
    for k, (dot, mark) in enumerate(zip(what.dots, marks, strict=True)):
        if dot.low is not None and dot.high is not None:
            axes.plot([dot.low, dot.high], [-k, -k], color=mark.colour, lw=1.6, zorder=2)
        axes.scatter(
            [dot.value],
            [-k],
            s=44,
            marker=mark.shape,
            facecolors=mark.colour if dot.filled else palette.surface,
            edgecolors=mark.colour,
            linewidths=1.4,
            zorder=3,
        )
    rows(axes, [d.name for d in what.dots], palette, family, size=9)
    axes.grid(axis="x", color=palette.line, lw=0.6)
    axes.set_axisbelow(True)
    axes.set_xlabel(what.label, fontfamily=family, fontsize=9)
