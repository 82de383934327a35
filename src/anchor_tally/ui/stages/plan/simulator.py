"""Simulator: studies drawn with a chosen truth, and what the program would say of them."""

from __future__ import annotations

import json
from collections.abc import Generator
from dataclasses import replace
from typing import Any

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import (
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from ....analysis.plan.simulation import MOST_STUDIES, Simulated, SimulationRequest
from ....app.jobs import Job
from ....app.plan import write_text
from ....app.session import Session
from ....domain.errors import UserError
from ....exchange.simulation_json import simulation_json
from ....scenario.drawn import Truth
from ....wording.simulation import coverage_rows, error_words, simulation_headline, verdict_rows
from ...widgets import Flow, Table, label
from .tab import Tab

# field, words, smallest and largest value
FIELDS: tuple[tuple[str, str, float, float], ...] = (
    ("clients", "Clients", 1, 500),
    ("scans", "Scans of each", 1, 20),
    ("repeats", "Repeats", 1, 10),
    ("weeks", "Weeks between scans", 0.1, 200),
    ("bias", "Bias (pp)", -30, 30),
    ("client_sd", "SD of offsets between clients", 0, 20),
    ("day_sd", "SD day to day", 0, 20),
    ("repeat_sd", "SD of repeats", 0, 20),
    ("scan_sd", "SD of one scan", 0, 20),
    ("level", "Body fat at the start (%)", 5, 60),
    ("level_sd", "SD between clients (%)", 0, 20),
    ("change_per_week", "Change of clients (pp a week)", -2, 2),
    ("change_sd", "SD of that change", 0, 2),
    ("slope", "Share of a change shown", -1, 3),
    ("drift_per_week", "Drift (pp a week)", -2, 2),
    ("step", "Step with a new setting (pp)", -20, 20),
    ("step_week", "Week of the step", 0, 500),
    ("water_sd", "SD of body water (points)", 0, 10),
    ("hydration", "Fat taken off by a point of water", -3, 3),
    ("failures", "Share of failed readings", 0, 0.99),
    ("mistypes", "Share of swapped digits", 0, 0.99),
    ("dropouts", "Share of missed visits", 0, 0.99),
)
_WHOLE = ("clients", "scans", "repeats")


class Simulator(Tab):
    """The simulator. ``told`` carries its first sentence, ``ready`` comes with the tables."""

    told = pyqtSignal(str)
    ready = pyqtSignal()
    drawn_wanted = pyqtSignal(object, int)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.found: Simulated | None = None
        self.fields: dict[str, QLineEdit] = {}
        holder = QWidget()
        holder.setObjectName("page")
        grid = QGridLayout(holder)
        grid.setVerticalSpacing(4)
        truth = Truth()
        for k, (name, words, _, _) in enumerate(FIELDS):
            field = QLineEdit(f"{getattr(truth, name):g}")
            field.setMaximumWidth(70)
            field.setAccessibleName(words)
            field.returnPressed.connect(self.run)
            self.fields[name] = field
            grid.addWidget(label(words, "faint"), k, 0)
            grid.addWidget(field, k, 1)
        grid.setRowStretch(len(FIELDS), 1)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(holder)
        scroll.setMinimumWidth(340)
        self.studies, self.seed = QLineEdit("100"), QLineEdit("1")
        self.start, self.export = QPushButton("Draw and analyse"), QPushButton("Export…")
        self.start.setObjectName("primary")
        self.start.clicked.connect(self.run)
        self.export.clicked.connect(self._export)
        self.export.setEnabled(False)
        row = Flow()
        for words, field in (("Studies", self.studies), ("Seed", self.seed)):
            field.setMaximumWidth(80)
            field.setAccessibleName(words)
            field.returnPressed.connect(self.run)
            row.addWidget(label(words, "faint"))
            row.addWidget(field)
        row.addWidget(self.start)
        row.addWidget(self.export)
        self.open = QPushButton("Open one to practise")
        self.open.clicked.connect(self._open)
        row.addWidget(self.open)
        self.refused = label("", "warn", wrap=True)
        self.coverage = Table(
            ["95 % interval of", "Holds the truth", "Half-width (pp)", "Planned (pp)"],
            "Coverage in the drawn studies",
        )
        self.verdicts = Table(
            ["Question", "Answer", "Share"], "Verdicts in the drawn studies", numeric_from=2
        )
        self.errors = label("", "faint", wrap=True)
        right = QVBoxLayout()
        right.addLayout(row)
        right.addWidget(self.refused)
        right.addWidget(self.coverage, 2)
        right.addWidget(self.verdicts, 3)
        right.addWidget(self.errors)
        box = QHBoxLayout(self)
        box.setContentsMargins(0, 6, 0, 0)
        box.setSpacing(14)
        box.addWidget(scroll, 2)
        box.addLayout(right, 3)

    def refresh(self) -> None:
        """Show the last answer; nothing is drawn unasked."""
        self._tell()

    def _tell(self) -> None:
        said = (
            simulation_headline(self.found)
            if self.found is not None
            else "Choose what is true, and see what the program would say."
        )
        self.told.emit(said)

    def _number(self, field: QLineEdit, words: str, low: float, high: float) -> float:
        text = field.text().strip().replace(",", ".").replace("−", "-")
        try:
            value = float(text)
        except ValueError:
            value = float("nan")
        if not low <= value <= high:
            ends = f"{low:g} and {high:g}".replace("-", "−")
            raise UserError(f"{words}: “{field.text()[:20]}” is not between {ends}")
        return value

    def truth(self) -> Truth:
        """What is typed. Raises UserError."""
        found = {
            name: self._number(self.fields[name], words, low, high)
            for name, words, low, high in FIELDS
        }
        values: dict[str, Any] = {k: int(v) if k in _WHOLE else v for k, v in found.items()}
        return replace(Truth(), **values)

    def _open(self) -> None:
        """Open one study drawn with what is typed."""
        self.refused.setText("")
        try:
            truth = self.truth()
            seed = int(self._number(self.seed, "Seed", 0, 2**31))
        except UserError as error:
            self.refused.setText(f"{error}.")
            return
        self.drawn_wanted.emit(truth, seed)

    def run(self) -> None:
        """Draw the studies and analyse each, in the background."""
        self.refused.setText("")
        try:
            truth = self.truth()
            studies = int(self._number(self.studies, "Studies", 1, MOST_STUDIES))
            seed = int(self._number(self.seed, "Seed", 0, 2**31))
        except UserError as error:
            self.refused.setText(f"{error}.")
            return
        request = SimulationRequest(truth, studies, seed)
        job = Job("Analysing drawn studies", _nothing, lambda _x: request.run())
        assert self.jobs is not None
        self.jobs.start("simulation", job, self._answer, self.refused.setText)

    def _answer(self, found: Simulated) -> None:
        self.found = found
        self.coverage.fill(coverage_rows(found))
        self.verdicts.fill(verdict_rows(found))
        self.errors.setText(f"{error_words(found)} Seed {found.seed}.")
        self.export.setEnabled(True)
        self._tell()
        self.ready.emit()

    def _export(self) -> None:
        path, _ = QFileDialog.getSaveFileName(
            self, "Export the simulation", "simulation.json", "JSON (*.json)"
        )
        if path and self.found is not None:
            text = json.dumps(simulation_json(self.found), indent=1, ensure_ascii=False)
            try:
                self.message.emit(f"Written: {write_text(text, path, '.json')}.", False)
            except UserError as error:
                self.message.emit(f"{error}.", True)


def _nothing() -> Generator[float, None, None]:
    """Nothing of the study is read."""
    yield 0.0
