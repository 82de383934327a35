"""Draws texts from cached images.

Setting a text glyph by glyph takes most of the time of a drawing.
"""

from __future__ import annotations

from functools import lru_cache
from math import ceil
from typing import Any

import numpy as np
from matplotlib.backends.backend_agg import RendererAgg
from matplotlib.font_manager import FontProperties
from numpy.typing import NDArray

MARGIN = 3  # pixels round a text, for strokes that reach over its box
KEPT = 1000  # texts of some 2 to 20 kB each


class TextRenderer(RendererAgg):
    """An Agg renderer that sets each level text once, at whole pixels."""

    def draw_text(
        self,
        gc: Any,
        x: float,
        y: float,
        s: str,
        prop: FontProperties,
        angle: float,
        ismath: Any = False,
        mtext: Any = None,
    ) -> None:
        """Draw ``s`` with its baseline's left end at ``x``, ``y`` from the top."""
        if angle or ismath:
            super().draw_text(gc, x, y, s, prop, angle, ismath, mtext)  # type: ignore[no-untyped-call]
            return
        alpha = gc.get_alpha() if gc.get_forced_alpha() else None
        picture, descent = _picture(s, prop.copy(), self.dpi, tuple(gc.get_rgb()), alpha)
        self.draw_image(gc, round(x) - MARGIN, round(self.height - y) - descent - MARGIN, picture)


@lru_cache(maxsize=KEPT)
def _picture(
    s: str, prop: FontProperties, dpi: float, rgb: tuple[float, ...], alpha: float | None
) -> tuple[NDArray[np.uint8], int]:
    """The text as an RGBA array (rows from the bottom), and the pixels below its baseline."""
    width, height, descent = RendererAgg(1, 1, dpi).get_text_width_height_descent(s, prop, False)  # type: ignore[no-untyped-call]
    below, rows = ceil(descent), ceil(descent) + ceil(height - descent) + 2 * MARGIN
    page: Any = RendererAgg(ceil(width) + 2 * MARGIN, rows, dpi)  # type: ignore[no-untyped-call]
    gc = page.new_gc()
    gc.set_foreground(rgb, isRGBA=True)
    gc.set_alpha(alpha)
    page.draw_text(gc, MARGIN, rows - MARGIN - below, s, prop, 0.0)
    return np.array(page.buffer_rgba())[::-1].copy(), below
