"""Beside a station: where and how to measure the site in hand, and what the equations give so far."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from ....analysis.bench import LanePlan
from ....analysis.field_method import MethodLine, rank
from ....domain.metrics import metric_named
from ....domain.sites import SITES_OF_BODY
from ....figures.style import Palette
from ....wording.bench import method_words
from ....wording.names import short_name
from ...widgets import Table, label
from .site_figure import SiteFigure


class Guide(QWidget):
    """Figure, words and live results of one station."""

    def __init__(self, palette: Palette) -> None:
        super().__init__()
        self.setObjectName("card")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.title = label("", "title", wrap=True)
        self.figure = SiteFigure(palette)
        self.where = label("", wrap=True)
        self.how = label("", "faint", wrap=True)
        self.results = Table(["Equation", "Gives"], "Results of the equations so far")
        words = QVBoxLayout()
        for w in (self.title, self.where, self.how):
            words.addWidget(w)
        words.addStretch(1)
        top = QHBoxLayout()
        top.addWidget(self.figure)
        top.addLayout(words, 1)
        box = QVBoxLayout(self)
        box.setContentsMargins(12, 10, 12, 10)
        box.addLayout(top)
        box.addWidget(self.results, 1)
        self.set_narrow(False)

    def set_narrow(self, narrow: bool) -> None:
        """Take less room in a small window."""
        self.setFixedWidth(290 if narrow else 380)
        self.figure.setFixedSize(*((92, 190) if narrow else (140, 290)))

    def set_palette(self, palette: Palette) -> None:
        """Choose the theme of the figure."""
        self.figure.colours = palette
        self.figure.update()

    def show_site(self, lane: LanePlan | None, reminder: str) -> None:
        """Show the site of a lane, or the station's reminder when it is none of the body's sites."""
        site = SITES_OF_BODY.get(lane.metric) if lane else None
        metric = metric_named(lane.metric) if lane else None
        self.title.setText(metric.label if metric else "")
        self.figure.setVisible(site is not None)
        self.figure.show_site(lane.metric if lane else "")
        self.where.setText(site.where if site else "")
        self.where.setVisible(site is not None)
        self.how.setText(f"{site.how} {reminder}" if site else reminder)

    def show_results(self, lines: Sequence[MethodLine], errors: Mapping[str, float]) -> None:
        """Show equations: those that give a number first, then those that lack something, then those for others.

        ``errors`` is the SD that the assessor's own error gives the result, by equation.
        """
        ranked = sorted(lines, key=rank)
        rows = []
        for x in ranked:
            value, said = method_words(x, errors.get(x.id))
            rows.append((f"{short_name(x.label)}\n{said}" if said else short_name(x.label), value))
        self.results.setVisible(bool(rows))
        self.results.fill(rows, tips=[f"{x.label}. {x.source}. Standard error {x.see}." for x in ranked])
