"""Adopted versions: their state, comparison of two, withdrawal, and certificate data."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QApplication, QComboBox, QPushButton, QVBoxLayout, QWidget

from ....analysis.offsets.versions import Version, compare_versions
from ....domain.records import Instrument
from ....wording import versions as words
from ...widgets import Flow, Table, label, letters_wide, paired


class Versions(QWidget):
    """``withdrawn`` carries the number of a record that is to be withdrawn.

    ``said`` something for the footer.
    """

    withdrawn = pyqtSignal(int)
    said = pyqtSignal(str)

    def __init__(self, data: Callable[[Version], dict[str, Any]]) -> None:
        super().__init__()
        self.data = data
        self.versions: tuple[Version, ...] = ()
        self.item: Instrument | None = None
        self.list = Table(words.LIST_HEADS, "Adopted versions", numeric_from=99, stretch=2)
        self.list.setMaximumHeight(150)
        self.list.chosen.connect(lambda _row, _column: self._enable())
        self.first, self.second = QComboBox(), QComboBox()
        self.withdraw = QPushButton("Withdraw")
        self.withdraw.clicked.connect(self._withdraw)
        self.certificate = QPushButton("Copy certificate data (JSON)")
        self.certificate.clicked.connect(self._copy)
        row = Flow(6)
        self.choices = (
            paired("Compare versions", self.first, "First version"),
            paired("and", self.second, "Second version"),
        )
        for part in self.choices:
            row.addWidget(part)
        for button in (self.withdraw, self.certificate):
            row.addWidget(button)
        bar = QWidget()
        bar.setLayout(row)
        for box in (self.first, self.second):
            letters_wide(box, 12)
            box.activated.connect(lambda _k: self._compare())
        self.sentence = label("", wrap=True)
        self.table = Table(
            ["Client", "Difference", "First", "Second"], "Comparison of two versions"
        )
        box_ = QVBoxLayout(self)
        box_.setContentsMargins(0, 0, 0, 0)
        for w in (self.list, bar, self.sentence):
            box_.addWidget(w)
        box_.addWidget(self.table, 1)

    def show_versions(
        self, item: Instrument, found: tuple[Version, ...], metric: str, *, read_only: bool
    ) -> None:
        """Show the versions of an instrument, the newest two beside each other."""
        self.item, self.of_metric, self.versions, self.read_only = item, metric, found, read_only
        self.list.fill([words.version_row(v) for v in found])
        self.list.choose(0)
        for box, k in ((self.first, min(1, len(found) - 1)), (self.second, 0)):
            box.clear()
            box.addItems([words.version_name(v) for v in found])
            box.setCurrentIndex(k)
        for part in self.choices:  # one version is shown alone
            part.setVisible(len(found) > 1)
        self._compare()
        self._enable()

    def chosen(self) -> Version | None:
        """The selected version."""
        k = self.list.row
        return self.versions[k] if 0 <= k < len(self.versions) else None

    def _compare(self) -> None:
        a, b = self.first.currentIndex(), self.second.currentIndex()
        if a < 0 or b < 0:
            self.sentence.setText("No offset was adopted yet.")
            self.table.fill([])
            return
        rows = compare_versions(self.versions[a].record, self.versions[b].record)
        self.sentence.setText(
            words.compared_words(self.versions[a], self.versions[b], rows, self.of_metric)
        )
        first, second = (words.version_name(self.versions[k]) for k in (a, b))
        cells = [
            words.compared_row(r, self.of_metric)
            for r in sorted(rows, key=lambda r: -abs(r.difference or 0.0))
        ]
        if a == b:
            self.table.fill([(c[0], c[2]) for c in cells], ("Client", f"Offset of {first}"))
        else:
            self.table.fill(cells, ("Client", "Difference", first, second))

    def _enable(self) -> None:
        v = self.chosen()
        self.withdraw.setEnabled(
            v is not None and v.state in ("in force", "stale", "expired") and not self.read_only
        )
        self.withdraw.setText(f"Withdraw {words.version_name(v)}" if v is not None else "Withdraw")
        self.certificate.setEnabled(v is not None)

    def _withdraw(self) -> None:
        v = self.chosen()
        if v is not None:
            self.withdrawn.emit(v.record.id)

    def _copy(self) -> None:
        v, clipboard = self.chosen(), QApplication.clipboard()
        if v is not None and clipboard is not None and self.item is not None:
            clipboard.setText(json.dumps(self.data(v), indent=1, ensure_ascii=False))
            self.said.emit("Certificate data copied to the clipboard.")
