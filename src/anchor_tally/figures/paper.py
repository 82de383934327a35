"""Figures for paper: the drawing of the screen on white, at the widths of journals' columns."""

from __future__ import annotations

import base64
import io
import re
from collections.abc import Callable
from dataclasses import dataclass, replace
from importlib import resources
from typing import Any, Literal

from .style import LIGHT, use_fonts

PAPER = replace(LIGHT, paper="#ffffff", surface="#ffffff", band="#e6eeee")
SINGLE_MM, DOUBLE_MM = 85.0, 174.0
DPI = 300
FONTS = (("IBMPlexSans_400Regular.ttf", 400), ("IBMPlexSans_600SemiBold.ttf", 600))
Form = Literal["svg", "pdf", "png"]
_MM = 1 / 25.4
_WIDE = re.compile(r"[^a-z0-9]+")


def font_faces() -> str:
    """The shipped fonts as rules of a style sheet, data inside."""
    folder = resources.files("anchor_tally") / "assets" / "fonts"
    faces = []
    for name, weight in FONTS:
        data = base64.b64encode((folder / name).read_bytes()).decode()
        faces.append(
            f"@font-face {{ font-family: 'IBM Plex Sans'; font-weight: {weight};"
            f" src: url(data:font/ttf;base64,{data}) format('truetype'); }}"
        )
    return "\n".join(faces)


@dataclass(frozen=True, eq=False, slots=True)
class PaperFigure:
    """A figure with its size on paper, and what it shows.

    Parameters
    ----------
    paint : callable
        Fills axes; it is given the axes and the name of the font.
    key : str
        Begins the names of all parts, so that several figures can stand on one page.
    shown : object
        The content of the figure as a dataclass: the numbers behind it.
    width, height : float
        Size in mm.
    margins : (float, float, float, float)
        Left, right, bottom and top, in mm.
    """

    paint: Callable[[Any, str], None]
    key: str
    shown: object = None
    width: float = DOUBLE_MM
    height: float = 80.0
    margins: tuple[float, float, float, float] = (34.0, 4.0, 14.0, 3.0)

    def at(self, width: float) -> PaperFigure:
        """The figure at another width in mm; no margin at a side takes more than 0.4 of it."""
        left, right, bottom, top = self.margins
        most = 0.4 * width
        return replace(self, width=width, margins=(min(left, most), min(right, most), bottom, top))

    def content(self, form: Form) -> bytes:
        """The figure as a file: SVG and PDF with their fonts, PNG at 300 dots an inch."""
        if form != "svg":
            return self._drawn(form)
        head, rest = self.svg().split(">", 1)
        return f"{head}><style>{font_faces()}</style>{rest}".encode()

    def svg(self) -> str:
        """An ``svg`` element without a declaration; its text is text."""
        text = self._drawn("svg").decode()
        text = text[text.index("<svg") :]
        text = re.sub(r"<metadata>.*?</metadata>", "", text, flags=re.S)
        name = _WIDE.sub("-", self.key.lower()).strip("-")
        text = re.sub(r'\bid="([^"]+)"', rf'id="{name}-\1"', text)
        text = re.sub(r"url\(#([^)]+)\)", rf"url(#{name}-\1)", text)
        return re.sub(r'href="#([^"]+)"', rf'href="#{name}-\1"', text)

    def _drawn(self, form: Form) -> bytes:
        import matplotlib as mpl
        from matplotlib.backends.backend_agg import FigureCanvasAgg
        from matplotlib.figure import Figure

        family = use_fonts()
        left, right, bottom, top = self.margins
        figure = Figure(figsize=(self.width * _MM, self.height * _MM))
        FigureCanvasAgg(figure)
        inner = (self.width - left - right) / self.width, (self.height - bottom - top) / self.height
        axes = figure.add_axes((left / self.width, bottom / self.height, *inner))
        self.paint(axes, family)
        out = io.BytesIO()
        no_date = {"svg": "Date", "pdf": "CreationDate"}.get(form)
        text_stays = {"svg.fonttype": "none", "pdf.fonttype": 42, "svg.hashsalt": self.key}
        with mpl.rc_context(text_stays):  # type: ignore[arg-type]
            figure.savefig(out, format=form, dpi=DPI, metadata={no_date: None} if no_date else None)
        return out.getvalue()
