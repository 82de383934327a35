"""Clients: code, equation sex, birth, heights, cautions."""

from __future__ import annotations

from datetime import date

from PyQt6.QtWidgets import QCheckBox, QHBoxLayout, QLineEdit, QPushButton

from ....analysis.cautions import cautions_of
from ....domain.errors import UserError
from ....domain.metrics import Metric
from ....domain.units import parse_quantity
from ....study.cards import AddRow
from ....wording.bench import caution_words
from ....wording.numbers import number
from ...widgets import Table, label
from .card import Card

_HEIGHT = Metric("height", "Height", "cm", "length", 40, 260, 1, "height", "Stature.")
CAUTIONS = (
    ("implant", "Implanted electronics (pacemaker, pump, stimulator)"),
    ("implant_cleared", "The person's clinician has agreed to impedance"),
    ("pregnant", "Pregnant, or may be"),
)


def _count(text):
    return int(text) if text else None


class Clients(Card):
    """People measured, known by a code."""

    table_name, what = "client", "client"
    heads = ("Code", "Sex", "Born", "Height (cm)", "Cautions")

    def rows(self):
        out, visits = [], self.session.snapshot().visits
        stated = dict(zip(visits.client.tolist(), visits.height_cm.tolist(), strict=True))  # the newest visit's
        for c in self.session.snapshot().clients.values():
            heights = self.session.heights(c.id)
            last = heights[-1][2] if heights else stated.get(c.id)
            shown = "–" if last is None or last != last else number(last)
            out.append((c.id, (c.code, c.sex or "–", c.birth or "–", shown, "⚠" if c.cautions else "")))
        return out

    def build_form(self):
        self.line("code", "Code", "a short code, not the name")
        self.line("name", "Name (stays in this file)", "optional, never exported")
        self.choice("sex", "Equation sex", (("not known", ""), ("female", "female"), ("male", "male")))
        self.line("birth", "Born", "1994 or 1994-05-17")
        self.line("usual_activity", "Usual activity", "rows 5 days a week")
        self.line("scans_before", "Scans before this study", "how many", parse=_count)
        self.line("last_scan", "Last scan before", "2025-11-03")
        self.line("notes", "Notes")
        self.boxes = {}
        for key, text in CAUTIONS:
            box = QCheckBox(text)
            box.clicked.connect(self._cautions)
            self.boxes[key] = box
            self.form.addRow(label("Cautions" if key == "implant" else "", "faint"), box)
        self.warning = label("", "warn", wrap=True)
        self.right.addWidget(self.warning)
        self.right.addWidget(label("Height history", "title"))
        self.heights = Table(["Day", "Height (cm)", "As entered"], "Height history")
        self.heights.setMaximumHeight(110)
        self.right.addWidget(self.heights)
        self.day, self.height = QLineEdit(), QLineEdit()
        self.day.setPlaceholderText("day")
        self.day.setAccessibleName("Day of the height")
        self.height.setPlaceholderText("181.5 cm, 5ft 11")
        self.height.setAccessibleName("Height")
        keep = QPushButton("Keep height")
        keep.clicked.connect(self._keep_height)
        self.height.returnPressed.connect(self._keep_height)
        row = QHBoxLayout()
        for w in (self.day, self.height, keep):
            row.addWidget(w)
        self.right.addLayout(row)

    def show_row(self, number_):
        c = self.session.snapshot().clients[number_]
        self.title.setText(c.code)
        for column in ("code", "name", "sex", "birth", "usual_activity", "scans_before", "last_scan", "notes"):
            self.put(column, getattr(c, column))
        for key, box in self.boxes.items():
            box.setChecked(key in c.cautions)
        self.boxes["implant_cleared"].setEnabled("implant" in c.cautions)
        self.warning.setText(" ".join(caution_words(x) for x in cautions_of(c)))
        rows = self.session.heights(number_)
        self.heights.fill([(day, number(cm), f"{entered} {unit}") for _, day, cm, entered, unit in reversed(rows)])
        if not self.day.text():
            self.day.setText(date.today().isoformat())

    def values_of_new(self, text):
        return (("code", text),)

    def _cautions(self):
        chosen = {k for k, box in self.boxes.items() if box.isChecked()}
        if "implant" not in chosen:
            chosen.discard("implant_cleared")
        self.change("cautions", " ".join(sorted(chosen)))

    def _keep_height(self):
        if self.row is None:
            return
        try:
            q = parse_quantity(self.height.text(), _HEIGHT)
        except UserError as error:
            self.say(f"{error}; nothing was written.")
            return
        values = {"client": self.row, "day": self.day.text().strip(), "height_cm": q.value, "entered": q.entered, "unit": q.unit}
        if self.do(AddRow("client_height", tuple(values.items()))):
            self.height.clear()
