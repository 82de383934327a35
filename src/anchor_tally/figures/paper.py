"""Figures for paper: the drawing of the screen as SVG, text as text, on white."""

from __future__ import annotations

import io
import re
from collections.abc import Callable
from dataclasses import replace
from typing import Any

from .style import LIGHT, use_fonts

PAPER = replace(LIGHT, paper="#ffffff", surface="#ffffff", band="#e6eeee")
SINGLE_MM, DOUBLE_MM = 85.0, 174.0
_MM = 1 / 25.4
_WIDE = re.compile(r"[^a-z0-9]+")


def svg(
    draw: Callable[[Any, str], None],
    key: str,
    *,
    width: float = DOUBLE_MM,
    height: float = 80.0,
    margins: tuple[float, float, float, float] = (34.0, 4.0, 14.0, 3.0),
) -> str:
    """Draw on one pair of axes of a size in millimetres.

    Parameters
    ----------
    draw : callable
        Fills axes; it is given the axes and the name of the font.
    key : str
        Begins the names of all parts, so that several figures can stand on one page.
    width, height : float
        Size in mm.
    margins : (float, float, float, float)
        Left, right, bottom and top, in mm.

    Returns
    -------
    str
        An ``svg`` element without a declaration; its text is text.
    """
    import matplotlib as mpl
    from matplotlib.backends.backend_svg import FigureCanvasSVG
    from matplotlib.figure import Figure

    family = use_fonts()
    left, right, bottom, top = margins
    figure = Figure(figsize=(width * _MM, height * _MM))
    FigureCanvasSVG(figure)
    inner = (width - left - right) / width, (height - bottom - top) / height
    axes = figure.add_axes((left / width, bottom / height, *inner))
    draw(axes, family)
    out = io.StringIO()
    with mpl.rc_context({"svg.fonttype": "none", "svg.hashsalt": key}):
        figure.savefig(out, format="svg", metadata={"Date": None, "Creator": None})
    text = out.getvalue()
    text = text[text.index("<svg") :]
    text = re.sub(r"<metadata>.*?</metadata>", "", text, flags=re.S)
    name = _WIDE.sub("-", key.lower()).strip("-")
    text = re.sub(r'\bid="([^"]+)"', rf'id="{name}-\1"', text)
    text = re.sub(r"url\(#([^)]+)\)", rf"url(#{name}-\1)", text)
    return re.sub(r'href="#([^"]+)"', rf'href="#{name}-\1"', text)
