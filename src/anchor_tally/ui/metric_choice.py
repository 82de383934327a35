"""Choice of what an instrument measures.

A registered metric, a segment of the body, or a value with the user's own name.
"""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QCompleter

from ..domain.metrics import METRICS, own_metric_id, region_of
from ..domain.metrics import metric_named as named
from ..domain.stations import SEGMENTS
from .widgets import letters_wide, select_on_click

# what displays show of the five segments
_OF_SEGMENTS = (
    "fat_mass",
    "body_fat_percent",
    "lean_soft_tissue",
    "total_muscle_mass",
    "total_muscle_percent",
)


def segments_of(base: str) -> tuple[str, ...]:
    """The metrics of the five segments."""
    return tuple(f"{base}_{where}" for where in SEGMENTS)


class MetricChoice(QComboBox):
    """Type to find.

    A name that nothing has becomes a value of the device's own, which is never compared.
    """

    def __init__(self) -> None:
        super().__init__()
        self.setEditable(True)
        self.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        letters_wide(self, 18)
        for m in METRICS.values():
            self.addItem(f"{m.label} ({m.symbol})".removesuffix(" ()"), m.id)
        for base in _OF_SEGMENTS:
            for name in segments_of(base):
                m_ = named(name)
                if m_ is not None:
                    self.addItem(f"{m_.label} ({m_.symbol})".removesuffix(" ()"), name)
        completer = self.completer()
        if completer is not None:
            completer.setFilterMode(Qt.MatchFlag.MatchContains)
            completer.setCompletionMode(QCompleter.CompletionMode.PopupCompletion)
        select_on_click(self)
        self.setToolTip(
            "Type to search. Any other name becomes a value of this device only, which is never"
            " compared"
        )

    def chosen(self) -> str:
        """The metric's id. Raises ValueError for a name without a letter."""
        text = self.currentText().strip()
        at = self.findText(text, Qt.MatchFlag.MatchFixedString)
        return str(self.itemData(at)) if at >= 0 else own_metric_id(text)

    def segments(self) -> tuple[str, ...]:
        """The five segments of what is chosen; none where it has none."""
        base = region_of(self.chosen())[0]
        return segments_of(base) if named(f"{base}_trunk") is not None else ()
