"""Columns of a foreign table: what each one is."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from ....domain.metrics import HEIGHT, METRICS, metric_named
from ....domain.protocol import CONDITIONS
from ....domain.records import KINDS
from ....domain.units import UNITS
from ....exchange.dates import ORDERS, ambiguous, order_of
from ....exchange.guessing import named_by_sheet, offers_groups, with_groups_as_clients
from ....exchange.mapping import GAP_CHOICES, ROLES, Column, Mapping, missing
from ....exchange.tables import Table as Source
from ...widgets import Table, label


class MappingEditor(QWidget):
    """A list of the columns with examples; the chosen one is set on the right.

    ``changed`` follows every choice.
    """

    changed = pyqtSignal()
    sheets_are_clients = pyqtSignal()  # each sheet holds one client, whose code is its name
    turn_wanted = pyqtSignal()  # rows and columns are to be exchanged

    def __init__(self) -> None:
        super().__init__()
        self.table: Source | None = None
        self.mapping = Mapping(())
        self.columns = Table(
            ["Column", "Imported as", "For example"], "Columns of the table", numeric_from=99
        )
        self.columns.chosen.connect(lambda _row, _column: self._show_column())
        self.turn = QCheckBox("People or dates are in the columns")
        self.turn.setToolTip("Read the table with rows and columns exchanged")
        self.turn.clicked.connect(self.turn_wanted)
        self.dates, self.decimal, self.client = QComboBox(), QComboBox(), QLineEdit()
        self.day = QLineEdit()
        for key, words in ORDERS.items():
            self.dates.addItem(words, key)
        self.decimal.addItem("point (24.6)", ".")
        self.decimal.addItem("comma (24,6)", ",")
        self.by_sheet = QPushButton("Each sheet is one client")
        self.by_sheet.setToolTip("Use the name of each sheet as the code of its client")
        self.by_sheet.clicked.connect(self.sheets_are_clients)
        self.by_group = QPushButton("Each column group is one client")
        self.by_group.clicked.connect(self._groups_are_clients)
        self.instrument, self.metric_box, self.gaps = QLineEdit(), self._metrics(), QComboBox()
        self.open_gaps = 0  # cells such as n/a in columns of readings
        for key, words in GAP_CHOICES.items():
            self.gaps.addItem(words, key)
        self.whole = QFormLayout()
        self.whole.addRow("", self.turn)
        for text, w in (
            ("Dates are", self.dates),
            ("The one date", self.day),
            ("Decimals with", self.decimal),
            ("The one client", self.client),
            ("The one instrument", self.instrument),
            ("The one metric", self.metric_box),
            ("Cells such as n/a, -, x", self.gaps),
        ):
            self.whole.addRow(label(text, "faint"), w)
            w.setAccessibleName(text)
            if w is self.client:
                self.whole.addRow("", self.by_sheet)
                self.whole.addRow("", self.by_group)
        self.role, self.by, self.kind, self.what, self.unit = (
            QComboBox(),
            QLineEdit(),
            QComboBox(),
            self._metrics(),
            QComboBox(),
        )
        self.setting, self.repeat, self.key = QLineEdit(), QComboBox(), QComboBox()
        self.of = QLineEdit()
        for key, words in ROLES.items():
            self.role.addItem(words, key)
        self.kind.addItems(KINDS)
        self.repeat.addItems([str(n) for n in range(1, 10)])
        self.key.setEditable(True)
        self.key.addItems([c.key for c in CONDITIONS])
        self.name = label("", "title", wrap=True)
        self.one = QFormLayout()
        for text, w in (
            ("This column is", self.role),
            ("Client", self.of),
            ("Instrument", self.by),
            ("Kind", self.kind),
            ("Metric", self.what),
            ("Unit", self.unit),
            ("Setting", self.setting),
            ("Repeat", self.repeat),
            ("Condition", self.key),
        ):
            self.one.addRow(label(text, "faint"), w)
            w.setAccessibleName(text)
        for box in (self.dates, self.decimal, self.metric_box, self.gaps):
            box.activated.connect(self._whole_changed)
        for field in (self.client, self.instrument, self.day):
            field.editingFinished.connect(self._whole_changed)
        for box in (self.role, self.kind, self.unit, self.repeat, self.key):
            box.activated.connect(self._column_changed)
        self.what.activated.connect(self._metric_chosen)
        for field in (self.of, self.by, self.setting):
            field.editingFinished.connect(self._column_changed)
        self.wanting = label("", "warn", wrap=True)
        right = QVBoxLayout()
        right.addLayout(self.whole)
        right.addWidget(self.name)
        right.addLayout(self.one)
        right.addWidget(self.wanting)
        right.addStretch(1)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(16)
        layout.addWidget(self.columns, 6)
        layout.addLayout(right, 5)

    @staticmethod
    def _metrics() -> QComboBox:
        box = QComboBox()
        box.addItem("–", "")
        for m in METRICS.values():
            box.addItem(f"{m.label} ({m.symbol})".removesuffix(" ()"), m.id)
        return box

    def open(self, table: Source, mapping: Mapping, gaps: int = 0) -> None:
        """Show a table under a mapping; ``gaps`` counts its cells of readings such as n/a."""
        self.table, self.mapping, self.open_gaps = table, mapping, gaps
        self._fill()
        self.columns.choose(0)
        self._show_column()
        self.show()

    def _fill(self) -> None:
        if self.table is None:
            return
        chosen = self.columns.row
        rows = []
        for k, (head, c) in enumerate(zip(self.table.header, self.mapping.columns, strict=True)):
            examples = ", ".join(
                dict.fromkeys(row[k] for row in self.table.sample if k < len(row) and row[k])
            )
            words = ROLES[c.role]
            if c.role == "reading":
                m = metric_named(c.metric)
                repeat = f", repeat {c.replicate}" if c.replicate > 1 else ""
                whose = f"{c.client}, " if c.client else ""
                words = (
                    f"{whose}{c.instrument}: {m.name if m else '?'}"
                    f" ({'%' if c.unit == 'percent' else c.unit}){repeat}"
                )
            elif c.role == "condition":
                words = f"condition {c.key}"
            rows.append((head or f"column {k + 1}", words, examples[:40]))
        self.columns.fill(rows)
        self.columns.choose(max(chosen, 0))
        whole = self.mapping
        roles = {c.role for c in whole.columns}
        self.dates.setCurrentIndex(self.dates.findData(whole.date_order))
        self.decimal.setCurrentIndex(self.decimal.findData(whole.decimal))
        self.turn.setChecked(self.table.origin is not None)
        self.client.setText(whole.client)
        self.day.setText(whole.day)
        self.instrument.setText(whole.instrument)
        self.metric_box.setCurrentIndex(max(self.metric_box.findData(whole.metric), 0))
        of_columns = any(c.client for c in whole.columns)
        self.whole.setRowVisible(self.client, "client" not in roles and not of_columns)
        self.whole.setRowVisible(self.day, "taken_at" not in roles)
        groups = offers_groups(whole)
        self.whole.setRowVisible(self.by_group, bool(groups))
        self.by_group.setToolTip(f"Clients: {', '.join(groups[:8])}")
        offered = self.table is not None and not whole.client
        name = named_by_sheet(self.table, whole) if offered and self.table else ""
        self.whole.setRowVisible(self.by_sheet, bool(name))
        self.whole.setRowVisible(self.instrument, "value" in roles and "instrument" not in roles)
        self.whole.setRowVisible(self.metric_box, "value" in roles and "metric" not in roles)
        self.gaps.setCurrentIndex(self.gaps.findData(whole.gaps))
        self.whole.setRowVisible(self.gaps, bool(self.open_gaps))
        text = missing(whole, self.open_gaps)
        days = [
            row[k]
            for k, c in enumerate(whole.columns)
            if c.role == "taken_at"
            for row in self.table.sample
            if k < len(row)
        ]
        if not text and whole.date_order != "iso" and ambiguous(days):
            text = "All dates fit day first and month first. Check which is right."
        self.wanting.setText(text)

    def _show_column(self) -> None:
        k = self.columns.row
        if self.table is None or not 0 <= k < len(self.mapping.columns):
            return
        c = self.mapping.columns[k]
        self.name.setText(self.table.header[k] or f"column {k + 1}")
        self.role.setCurrentIndex(self.role.findData(c.role))
        self.of.setText(c.client)
        self.by.setText(c.instrument)
        self.kind.setCurrentText(c.kind)
        self.what.setCurrentIndex(max(self.what.findData(c.metric), 0))
        self._units(c)
        self.setting.setText(c.setting)
        self.repeat.setCurrentText(str(c.replicate))
        self.key.setEditText(c.key)
        for w in (self.by, self.kind, self.what, self.unit, self.setting, self.repeat):
            self.one.setRowVisible(
                w, c.role == "reading" or (w is self.unit and c.role == "height_cm")
            )
        self.one.setRowVisible(self.key, c.role == "condition")
        whole = self.mapping
        no_client = not whole.client and all(x.role != "client" for x in whole.columns)
        self.one.setRowVisible(self.of, c.role == "reading" and no_client)

    def _units(self, c: Column) -> None:
        m = HEIGHT if c.role == "height_cm" else metric_named(c.metric)
        self.unit.clear()
        if m:
            self.unit.addItems(
                [u for u, (dimension, _) in UNITS.items() if dimension == m.dimension]
            )
            self.unit.setCurrentText(c.unit or m.unit)

    def _metric_chosen(self, _index: int) -> None:
        m = metric_named(self.what.currentData())
        self.unit.clear()
        if m:
            self.unit.addItem(m.unit)
        self._column_changed()

    def _column_changed(self, *_: object) -> None:
        k = self.columns.row
        if self.table is None or not 0 <= k < len(self.mapping.columns):
            return
        role, metric = self.role.currentData(), self.what.currentData()
        old = self.mapping.columns[k]
        new = replace(
            old,
            role=role,
            instrument=self.by.text().strip() or ("Imported device" if role == "reading" else ""),
            kind=self.kind.currentText(),
            metric=(metric or "body_fat_percent") if role == "reading" else metric,
            unit=self.unit.currentText(),
            setting=self.setting.text().strip(),
            replicate=int(self.repeat.currentText() or 1),
            key=self.key.currentText().strip(),
            client=self.of.text().strip() if role == "reading" else "",
        )
        if role == "reading" and not new.unit:
            m = metric_named(new.metric)
            new = replace(new, unit=m.unit if m else "")
        if new != old:
            columns = self.mapping.columns
            mapping = replace(self.mapping, columns=(*columns[:k], new, *columns[k + 1 :]))
            if role == "taken_at" and old.role != role:
                mapping = replace(
                    mapping,
                    date_order=order_of(row[k] for row in self.table.sample if k < len(row)),
                )
            self._set(mapping)
            self._show_column()

    def _whole_changed(self, *_: object) -> None:
        new = replace(
            self.mapping,
            date_order=self.dates.currentData(),
            decimal=self.decimal.currentData(),
            client=self.client.text().strip(),
            day=self.day.text().strip(),
            instrument=self.instrument.text().strip(),
            metric=self.metric_box.currentData(),
            gaps=self.gaps.currentData(),
        )
        if new != self.mapping:
            self._set(new)

    def _groups_are_clients(self) -> None:
        self._set(with_groups_as_clients(self.mapping))
        self._show_column()

    def _set(self, mapping: Mapping) -> None:
        self.mapping = mapping
        self._fill()
        self.changed.emit()
