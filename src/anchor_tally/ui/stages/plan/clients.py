"""Clients: code, equation sex, birth, heights, cautions."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QCheckBox,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from ....analysis.people.cautions import NONE, cautions_of
from ....domain.errors import UserError
from ....domain.metrics import HEIGHT
from ....domain.records import Client
from ....domain.units import parse_quantity
from ....study.edits.clients import AddClient, AddHeight, PutClient
from ....study.edits.edit import Edit
from ....wording.bench import caution_words
from ....wording.numbers import height_words, number
from ...widgets import Table, label, select_on_click
from .card import Card

CAUTIONS = (
    ("implant", "Implanted electronics (pacemaker …)"),
    ("implant_cleared", "Clinician agreed to impedance"),
    ("pregnant", "Pregnant, or may be"),
    ("eating_disorder", "History of disordered eating"),
    ("fat_shown", "Show me this client's fat numbers (noted in the history)"),
    ("low_energy", "Signs of low energy (missed periods, stress injuries)"),
    ("cutting_weight", "Cutting weight, or taking diuretics"),
    ("ill", "Ill at present"),
)


def _count(text: str) -> int | None:
    return int(text) if text else None


class Clients(Card[Client]):
    """People measured, known by a code."""

    what = "client"
    heads = ("Code", "Sex", "Born", "Height (cm)", "Safety")

    def records(self) -> Mapping[int, Client]:
        return self.session.catalogue().clients

    def rows(self) -> list[tuple[int, Sequence[str]]]:
        items, stated = self.session.catalogue(), self.session.stated_heights()
        out: list[tuple[int, Sequence[str]]] = []
        for c in items.clients.values():
            history = items.heights.get(c.id)
            last = history[-1].height_cm if history else stated.get(c.id)
            out.append(
                (
                    c.id,
                    (
                        c.code,
                        c.sex or "–",
                        c.birth or "–",
                        number(last),
                        "⚠" if c.cautions - {NONE} else "",
                    ),
                )
            )
        return out

    def build_form(self) -> None:
        self.line("code", "Code", "a short code, not the name")
        self.choice(
            "sex", "Equation sex", (("not known", ""), ("female", "female"), ("male", "male"))
        )
        self.line("birth", "Born", "1994 or 1994-05-17")
        self.height_field = QLineEdit()
        select_on_click(self.height_field)
        self.height_field.setPlaceholderText("181.5 cm, 5ft 11")
        self.height_field.setAccessibleName("Height")
        self.height_field.returnPressed.connect(self._keep_height)
        keep = QPushButton("Save height")
        keep.clicked.connect(self._keep_height)
        tall = QHBoxLayout()
        tall.addWidget(self.height_field)
        tall.addWidget(keep)
        self.form.addRow(label("Height", "faint"), tall)
        self.boxes: dict[str, QCheckBox] = {}
        for key, text in CAUTIONS:
            box = QCheckBox(text)
            box.clicked.connect(self._cautions)
            self.boxes[key] = box
            self.form.addRow(label("Safety notes" if key == "implant" else "", "faint"), box)
        self.warning = label("", "warn", wrap=True)
        self.right.addWidget(self.warning)
        self.more = QPushButton("More")
        self.more.setCheckable(True)
        self.right.addWidget(self.more, 0, Qt.AlignmentFlag.AlignLeft)
        self.rest = QWidget()
        self.rest.hide()
        self.more.toggled.connect(self.rest.setVisible)
        self.right.addWidget(self.rest)
        self.form = QFormLayout()
        self.form.setVerticalSpacing(5)
        self.form.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.AllNonFixedFieldsGrow)
        self.line("name", "Name (only in this file)", "optional, never exported")
        self.line("usual_activity", "Usual activity", "rows 5 days a week")
        self.line("scans_before", "Scans before this study", "how many", parse=_count)
        self.line("last_scan", "Last scan before", "2025-11-03")
        self.line("notes", "Notes")
        self.cycle = QCheckBox("Ask about the menstrual cycle at each visit")
        self.cycle.clicked.connect(lambda on: self.change("cycle", on))
        self.form.addRow(label("", "faint"), self.cycle)
        self.day = QLineEdit()
        self.day.setPlaceholderText("day")
        self.day.setAccessibleName("Date of the height")
        self.form.addRow(label("Height measured on", "faint"), self.day)
        below = QVBoxLayout(self.rest)
        below.setContentsMargins(0, 0, 0, 0)
        below.addLayout(self.form)
        below.addWidget(label("Height history", "title"))
        self.heights = Table(["Day", "Height (cm)", "As entered"], "Height history")
        self.heights.setMaximumHeight(110)
        below.addWidget(self.heights)

    def show_record(self, record: Client) -> None:
        self.title.setText(record.code)
        for name in (
            "code",
            "name",
            "sex",
            "birth",
            "usual_activity",
            "scans_before",
            "last_scan",
            "notes",
        ):
            self.put(name, getattr(record, name))
        for key, box in self.boxes.items():
            box.setChecked(key in record.cautions)
        self.cycle.setChecked(record.cycle)
        self.boxes["implant_cleared"].setEnabled("implant" in record.cautions)
        self.boxes["fat_shown"].setEnabled("eating_disorder" in record.cautions)
        self.warning.setText(
            " ".join(caution_words(x) for x in cautions_of(record, self.session.today()))
        )
        history = self.session.catalogue().heights.get(record.id, ())
        self.heights.fill(
            [
                (h.day, number(h.height_cm), height_words(h.entered, h.unit))
                for h in reversed(history)
            ]
        )
        if not self.day.text():
            self.day.setText(self.session.today())

    def adding(self, text: str) -> Edit:
        return AddClient(Client(0, text))

    def putting(self, record: Client) -> Edit:
        return PutClient(record)

    def _cautions(self) -> None:
        chosen = {k for k, box in self.boxes.items() if box.isChecked()}
        was = self.session.catalogue().clients.get(self.row) if self.row is not None else None
        if was is not None and not chosen & {"implant", "pregnant"}:
            chosen |= was.cautions & {NONE}
        if "implant" not in chosen:
            chosen.discard("implant_cleared")
        if "eating_disorder" not in chosen:
            chosen.discard("fat_shown")
        self.change("cautions", frozenset(chosen))

    def _keep_height(self) -> None:
        if self.row is None:
            return
        try:
            q = parse_quantity(self.height_field.text(), HEIGHT)
        except UserError as error:
            self.say(f"{error}; nothing was saved.")
            return
        if self.do(AddHeight(self.row, self.day.text(), q)):
            self.height_field.clear()
