"""Figure of an impedance vector beside the tolerance ellipses of its reference group."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from ..methods.equation import Floats
from ..methods.impedance_vector import GROUPS, SHARES
from .style import Palette, prepare


@dataclass(frozen=True, slots=True)
class VectorInfo:
    """Ellipses of the group by share (first row R/H, second Xc/H, ohm/m), and the vector."""

    ellipses: tuple[tuple[float, Floats], ...]
    mean: tuple[float, float]
    vector: tuple[float, float]


def info(sex: float, vector: tuple[float, float]) -> VectorInfo:
    """What the figure shows for a person's vector in ohm/m (sex 1 male, 0 female)."""
    group = GROUPS[sex]
    return VectorInfo(tuple((s, group.ellipse(s)) for s in SHARES), group.mean, vector)


def draw(axes: Any, what: VectorInfo, palette: Palette, family: str) -> None:
    """Draw the ellipses, the group's mean as a cross and the vector as a point."""
    prepare(axes, palette, family)
    for share, points in what.ellipses:
        axes.plot(points[0], points[1], color=palette.faint, lw=1.0, zorder=1)
        top = points[:, points[1].argmax()]
        axes.annotate(
            f"{share:.0%}".replace("%", " %"),
            top,
            ha="center",
            va="center",
            color=palette.faint,
            fontsize=8,
            fontfamily=family,
            bbox={"facecolor": palette.surface, "edgecolor": "none", "pad": 1.0},
        )
    axes.plot(*what.mean, marker="+", ms=9, mew=1.4, color=palette.faint, zorder=2)
    axes.plot(*what.vector, marker="o", ms=8, color=palette.accent, mec=palette.surface, zorder=3)
    axes.margins(0.08, 0.14)
    axes.set_xlabel("resistance / height (ohm/m)", fontfamily=family, fontsize=9)
    axes.set_ylabel("reactance / height (ohm/m)", fontfamily=family, fontsize=9)
