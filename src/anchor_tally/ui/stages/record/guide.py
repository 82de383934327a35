"""Beside a station: where and how to measure the site, and results of equations so far."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ....analysis.entry.entry_rows import EntryRow
from ....analysis.entry.field_method import MethodLine, rank
from ....domain.metrics import metric_named
from ....domain.sites import SITES_OF_BODY
from ....figures.style import Palette
from ....wording.bench import method_words
from ....wording.names import short_name
from ....wording.numbers import count
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
        self.results = Table(["Equation", "Result"], "Results of the equations so far")
        self.fold = QPushButton("")
        self.fold.setCheckable(True)
        self.fold.setAccessibleName("Equations for other people")
        self.fold.toggled.connect(lambda _on: self._fill())
        self._lines: list[MethodLine] = []
        self._errors: Mapping[str, float] = {}
        self.words = QVBoxLayout()
        for w in (self.title, self.where, self.how):
            self.words.addWidget(w)
        self.words.addStretch(1)
        top = QHBoxLayout()
        top.addWidget(self.figure)
        top.addLayout(self.words, 1)
        self.under = QVBoxLayout()
        box = QVBoxLayout(self)
        box.setContentsMargins(12, 10, 12, 10)
        box.addLayout(top)
        box.addLayout(self.under)
        box.addWidget(self.results, 1)
        box.addWidget(self.fold)
        self.set_narrow(False)

    def set_narrow(self, narrow: bool) -> None:
        """Take less room in a small window: how to measure stands under the figure there."""
        self.setFixedWidth(290 if narrow else 380)
        self.figure.setFixedSize(*((68, 140) if narrow else (140, 290)))
        if narrow:
            self.under.addWidget(self.how)
        else:
            self.words.insertWidget(self.words.count() - 1, self.how)

    def set_palette(self, palette: Palette) -> None:
        """Choose the theme of the figure."""
        self.figure.colours = palette
        self.figure.update()

    def show_site(
        self, entry_row: EntryRow | None, reminder: str, error: str = "", landmark: str = ""
    ) -> None:
        """Show the site of a row, or the station's reminder when it is none of the body's sites.

        ``error`` is about the assessor's own error there; the study's ``landmark`` goes before
        the usual words.
        """
        site = SITES_OF_BODY.get(entry_row.metric) if entry_row else None
        metric = metric_named(entry_row.metric) if entry_row else None
        self.title.setText(metric.label if metric else "")
        self.figure.setVisible(site is not None)
        self.figure.show_site(entry_row.metric if entry_row else "")
        self.where.setText(
            f"This study: {landmark}. Usually: {site.where}"
            if site and landmark
            else site.where
            if site
            else ""
        )
        self.where.setVisible(site is not None)
        self.how.setText(" ".join(x for x in (site.how if site else "", reminder, error) if x))

    def show_results(self, lines: Sequence[MethodLine], errors: Mapping[str, float]) -> None:
        """Show equations: those that give a number first, then those that lack something.

        Those for others are folded away.

        ``errors`` is the SD that the assessor's own error gives the result, by equation.
        """
        self._lines, self._errors = sorted(lines, key=rank), errors
        self._fill()

    def _fill(self) -> None:
        shown = [x for x in self._lines if not x.for_others]
        folded = len(self._lines) - len(shown)
        if self.fold.isChecked():
            shown = self._lines
        rows = []
        for x in shown:
            value, said = method_words(x, self._errors.get(x.id))
            rows.append((f"{short_name(x.label)}\n{said}" if said else short_name(x.label), value))
        self.results.setVisible(bool(rows))
        self.results.fill(
            rows,
            tips=[f"{x.label}. {x.source} ({x.certainty}). Standard error {x.see}." for x in shown],
        )
        self.fold.setVisible(bool(folded))
        self.fold.setText(
            "Hide" if self.fold.isChecked() else f"{count(folded, 'equation')} for other people"
        )
