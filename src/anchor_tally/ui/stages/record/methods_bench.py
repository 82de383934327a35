"""Field methods bench.

One equation, all that fit a person side by side, and the effect of a reading error.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QComboBox,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from ....analysis.entry.entry_rows import may_be_said
from ....analysis.entry.field_method import (
    InputRefused,
    MethodLine,
    parse_input,
    rank,
    sensitivity,
    side_by_side,
    spread,
)
from ....domain.metrics import metric_named, metric_of, tells_fat
from ....figures.style import Palette
from ....methods.registry import EQUATIONS
from ....wording.bench import input_words, method_words, sensitivity_words
from ....wording.numbers import count, number
from ...widgets import Flow, Table, label, letters_wide, paired, restyle

if TYPE_CHECKING:
    from ...canvas import FigureView

_PERSON = ("sex", "age_years", "height", "body_mass")
_UNITS = {"sex": "m or f", "age_years": "years", "height": "cm"}
ALL = "Every input"
VECTOR_POSITION = "impedance_vector_position"

FIELD = 64  # pixels for a value such as 175.4 or "female"


def decimals_of(value: float, least: int) -> int:
    """Decimals that a field needs: one more where the mean of two readings ends on a half."""
    return least if abs(value - round(value, least)) < 1e-9 else least + 1


class MethodsBench(QWidget):
    """Inputs on the left, equations in the middle, one equation opened up on the right.

    Everything follows the typing.
    """

    def __init__(self, palette: Palette) -> None:
        super().__init__()
        self.colours = palette
        self.vector: FigureView | None = None
        self.fields: dict[str, QLineEdit] = {}
        self.given: dict[str, float] = {}
        self.lines: list[MethodLine] = []
        self.sums_only = False
        self.output, self.form, self.only = QComboBox(), QComboBox(), QComboBox()
        self.output.setAccessibleName("Results of the equations")
        self.output.addItem("Body fat", "body_fat_percent")
        for m in dict.fromkeys(e.outputs[0] for e in EQUATIONS.values()):
            if m != "body_fat_percent":
                self.output.addItem(metric_of(m).label, m)
        self.output.insertItem(1, "Everything", None)
        self.form.setAccessibleName("Density to fat by")
        self.form.addItem("Siri 1961", "siri_1961")
        self.form.addItem("Brozek 1963", "brozek_1963")
        self.only.setAccessibleName("Inputs shown")
        self.only.addItem(ALL, None)
        for e in EQUATIONS.values():
            self.only.addItem(e.label, e.id)
        self.output.activated.connect(self._follow)
        self.form.activated.connect(self._follow)
        self.only.activated.connect(self._choose_inputs)
        self.holder = QWidget()
        self.holder.setObjectName("page")
        self.inputs = QFormLayout(self.holder)
        self.inputs.setVerticalSpacing(4)
        self.inputs.setRowWrapPolicy(QFormLayout.RowWrapPolicy.WrapLongRows)
        self._build_fields()
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(self.holder)
        left = QVBoxLayout()
        left.addWidget(self.only)
        left.addWidget(scroll, 1)
        self.refused = label("", "warn", wrap=True)
        left.addWidget(self.refused)
        self.table = Table(["Equation", "Result"], "Equations side by side", numeric_from=1)
        self.table.chosen.connect(lambda _row, _column: self._open())
        self.spread = label("", wrap=True)
        self.fold = QPushButton("")
        self.fold.setCheckable(True)
        self.fold.setAccessibleName("Equations for other people")
        self.fold.toggled.connect(self._follow)
        top = Flow()
        top.addWidget(paired("Show", self.output))
        top.addWidget(paired("Density to fat by", self.form))
        for combo, letters in ((self.only, 12), (self.output, 20)):
            letters_wide(combo, letters)
        middle = QVBoxLayout()
        middle.addLayout(top)
        middle.addWidget(self.spread)
        middle.addWidget(self.table, 1)
        middle.addWidget(self.fold)
        self.title = label("", "title", wrap=True)
        self.about = label("", wrap=True)
        self.about.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.errors = Table(
            ["Reading error of", "changes it by"], "Effect of a reading error", wraps=True
        )
        self.right = right = QVBoxLayout()
        right.addWidget(self.title)
        right.addWidget(self.about)
        right.addWidget(self.errors, 1)
        box = QHBoxLayout(self)
        box.setContentsMargins(0, 4, 0, 0)
        box.setSpacing(12)
        for layout, share in ((left, 3), (middle, 6), (right, 4)):
            box.addLayout(layout, share)
        self._follow()

    def _build_fields(self) -> None:
        keys = dict.fromkeys((*_PERSON, *(k for e in EQUATIONS.values() for k in e.all_inputs)))
        for key in keys:
            field = QLineEdit()
            m = metric_named(key)
            unit = _UNITS.get(key) or (m.unit if m else "")
            words = input_words(key)
            field.setAccessibleName(words[0].upper() + words[1:])
            field.setPlaceholderText(unit)
            field.setMinimumWidth(FIELD)  # else a narrow window shows the end of a value only
            field.textChanged.connect(self._follow)
            field.returnPressed.connect(self._next)
            tag = label(words[0].upper() + words[1:], "faint")
            self.inputs.addRow(tag, field)
            self.fields[key] = field

    def _next(self) -> None:
        self.focusNextChild()

    def focus_first(self) -> None:
        """Go to the first empty input."""
        next(
            (f for f in self.fields.values() if not f.text() and not f.isHidden()),
            next(iter(self.fields.values())),
        ).setFocus()

    def take_from_visit(self, given: Mapping[str, float], *, sums_only: bool = False) -> None:
        """Fill in what the visit has; what was typed by hand stays where the visit has nothing.

        ``sums_only``: nothing but sums of folds and ratios of girths is shown.
        """
        self.sums_only = sums_only
        if sums_only:
            self.output.setCurrentIndex(self.output.findText("Everything"))
        for key, field in self.fields.items():
            if tells_fat(key):
                if sums_only:
                    field.clear()
                self.inputs.setRowVisible(field, not sums_only)
        for key, value in given.items():
            if key in self.fields and not (sums_only and tells_fat(key)):
                m = metric_named(key)
                text = (
                    ("male" if value == 1 else "female")
                    if key == "sex"
                    else number(value, decimals_of(value, max(m.decimals, 1) if m else 1))
                )
                self.fields[key].setText(text)
        self.table.choose(0)
        self._open()

    def _choose_inputs(self, _index: int) -> None:
        chosen = self.only.currentData()
        wanted = set(EQUATIONS[chosen].all_inputs) | set(_PERSON) if chosen else set(self.fields)
        for key, field in self.fields.items():
            self.inputs.setRowVisible(
                field, key in wanted and not (self.sums_only and tells_fat(key))
            )
        if chosen:
            self.output.setCurrentIndex(1)
        self._follow()
        if chosen:
            row = next((k for k, x in enumerate(self.lines) if x.id == chosen), None)
            if row is not None:
                self.table.choose(row)
                self._open()

    def _follow(self, *_: object) -> None:
        """Compute everything anew from what is typed."""
        self.given, bad = {}, []
        for key, field in self.fields.items():
            text = field.text().strip()
            field.setProperty("state", "")
            if text:
                try:
                    self.given[key] = parse_input(key, text)
                except InputRefused as error:
                    bad.append(str(error))
                    field.setProperty("state", "refused")
            restyle(field)
        self.refused.setText("; ".join(bad))
        wanted, form = self.output.currentData(), self.form.currentData()
        found = [
            x
            for x in side_by_side(self.given, form)
            if wanted is None or wanted in (x.metric, *EQUATIONS[x.id].outputs)
        ]
        others = [x for x in found if x.for_others]
        self.fold.setVisible(bool(others))
        self.fold.setText(
            "Hide"
            if self.fold.isChecked()
            else f"{count(len(others), 'equation')} for other people"
        )
        if not self.fold.isChecked():
            found = [x for x in found if not x.for_others or x.id == self.only.currentData()]
        if self.sums_only:
            found = [x for x in found if may_be_said(x.metric)]
        chosen = self.lines[self.table.row].id if 0 <= self.table.row < len(self.lines) else None
        self.lines = sorted(found, key=rank)
        rows = []
        for x in self.lines:
            value, said = method_words(x)
            rows.append((f"{x.label}\n{said}" if said else x.label, value))
        self.table.fill(rows)
        self.table.choose(next((k for k, x in enumerate(self.lines) if x.id == chosen), 0))
        self._say_spread(wanted)
        self._open()

    def _say_spread(self, wanted: str | None) -> None:
        found = spread(self.lines, wanted) if wanted == "body_fat_percent" else None
        if found:
            n, low, high = found
            self.spread.setText(
                f"{n} equations apply: {number(low)} to {number(high)} %. Their spread is part of"
                " the uncertainty."
            )
        else:
            there = any(x.value is not None for x in self.lines)
            self.spread.setText(
                ""
                if there
                else (
                    "Type the measurements. Results appear when the inputs of an equation are"
                    " complete."
                )
            )
        self.spread.setVisible(bool(self.spread.text()))

    def _open(self) -> None:
        k = self.table.row
        if not 0 <= k < len(self.lines):
            return
        x = self.lines[k]
        e = EQUATIONS[x.id]
        self.title.setText(x.label)
        memory = (
            " Coefficients from memory, not checked against the publication."
            if e.certainty == "from memory"
            else ""
        )
        about = (
            f"For {e.population}. {e.advice}{memory}\n\nStandard error as published:"
            f" {e.see}.\n{e.source}.\n{e.id}"
        )
        self.about.setText(about)
        changes = sensitivity(e, self.given, self.form.currentData()) if x.value is not None else ()
        self.errors.fill([sensitivity_words(s, x.metric) for s in changes])
        self._paint_vector()

    def set_palette(self, palette: Palette) -> None:
        """Follow a change of theme."""
        self.colours = palette
        self._paint_vector()

    def _paint_vector(self) -> None:
        """Show the vector and its ellipses under the equation that places it."""
        k = self.table.row
        x = self.lines[k] if 0 <= k < len(self.lines) else None
        parts = dict(x.others) if x is not None and x.metric == VECTOR_POSITION else {}
        if parts and self.vector is None:
            from ...canvas import FigureView

            self.vector = FigureView("Impedance vector and tolerance ellipses", (56, 10, 56, 8))
            self.vector.setMinimumHeight(200)
            self.right.addWidget(self.vector, 2)
        if self.vector is not None:
            self.vector.setVisible(bool(parts))
        if parts and self.vector is not None:
            from ....figures import impedance_vector as figure

            end = parts["resistance_over_height"], parts["reactance_over_height"]
            what = figure.info(self.given["sex"], end)
            self.vector.redraw(
                lambda axes, family, palette: figure.draw(axes, what, palette, family),
                self.colours,
                lambda: what,
            )
