"""The evidence drawer: what a number or a point is made of."""

from __future__ import annotations

import json

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from ..domain.errors import UserError
from ..wording.numbers import number, signed
from ..wording.sentences import STATISTICS
from .widgets import Table, label


class Drawer(QWidget):
    """Shows an Evidence; a reading can be excluded with a reason or put back from here."""

    message = pyqtSignal(str, bool)
    toggled = pyqtSignal(bool)

    def __init__(self, session):
        super().__init__()
        self.session = session
        self.setObjectName("drawer")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(372)
        self.evidence = None
        self.readings = []
        self.title = label("", "title", wrap=True)
        self.close_button = QPushButton("Close")
        self.close_button.setAccessibleName("Close the evidence drawer")
        self.close_button.clicked.connect(self.hide)
        self.values = label("", wrap=True)
        self.formula = label("", wrap=True)
        self.source = label("", "faint", wrap=True)
        self.table = Table(["Reading", "When", "Value", "Kept"], "Readings behind this", numeric_from=2)
        self.table.itemSelectionChanged.connect(self._chosen)
        self.left_out = label("", "faint", wrap=True)
        self.history = label("", "faint", wrap=True)
        self.reason = QLineEdit()
        self.reason.setPlaceholderText("Why exclude it? (kept with the reading)")
        self.reason.setAccessibleName("Reason for excluding")
        self.reason.returnPressed.connect(self._exclude)
        self.exclude = QPushButton("Exclude")
        self.exclude.clicked.connect(self._exclude)
        self.back = QPushButton("Put back")
        self.back.clicked.connect(self._put_back)
        top = QHBoxLayout()
        top.addWidget(self.title, 1)
        top.addWidget(self.close_button, 0, Qt.AlignmentFlag.AlignTop)
        row = QHBoxLayout()
        row.addWidget(self.reason, 1)
        row.addWidget(self.exclude)
        row.addWidget(self.back)
        box = QVBoxLayout(self)
        box.addLayout(top)
        for w in (self.values, self.formula, self.source):
            box.addWidget(w)
        box.addWidget(self.table, 1)
        box.addWidget(self.history)
        box.addLayout(row)
        box.addWidget(self.left_out)
        self.hide()

    def show_evidence(self, evidence, name):
        """Open on an Evidence of instrument ``name``."""
        self.evidence = evidence
        s = STATISTICS[evidence.statistic]
        self.title.setText(f"{s.name} · {name}")
        self.formula.setText(s.formula)
        self.source.setText(f"Source: {s.source}")
        v = dict(evidence.values)
        self.values.setVisible(bool(v))
        if v:
            self.values.setText(
                f"{name} {number(v['instrument'])}, scan {number(v['reference'])}: difference <b>{signed(v['difference'])}</b>"
            )
        counts = {}
        for d in evidence.dropped:
            counts[d.why] = counts.get(d.why, 0) + 1
        self.left_out.setText("Left out: " + "; ".join(f"{n} × {why}" for why, n in sorted(counts.items())) if counts else "")
        self.left_out.setVisible(bool(counts))
        self.refresh()
        self.show()
        if self.table.rowCount() and v:
            self.table.selectRow(0)

    def show_readings(self, ids, title):
        """Open on single readings (from the bench)."""
        from ..analysis.evidence import Evidence

        self.evidence = Evidence("readings", "pair", tuple(ids), (), ())
        self.title.setText(title)
        self.formula.setText("These are the readings as they were entered.")
        self.source.setText("")
        self.values.hide()
        self.left_out.hide()
        self.refresh()
        self.show()
        if self.table.rowCount():
            self.table.selectRow(0)

    def refresh(self):
        """Read the readings again."""
        if self.evidence is None:
            return
        ids = [*self.evidence.instrument_readings, *self.evidence.reference_readings][:5000]
        order = {i: k for k, i in enumerate(ids)}
        kept = self.table.currentRow()
        found = []
        for start in range(0, len(ids), 500):
            found += self.session.readings(ids[start : start + 500])
        self.readings = sorted(found, key=lambda r: order[r.id])
        self.table.fill(
            [
                (
                    f"{r.client} {r.instrument} {r.replicate}",
                    r.taken_at[:16].replace("T", " "),
                    f"{r.entered} {r.unit}" if r.entered else "–",
                    {"ok": "yes", "failed": "failed", "excluded": "no"}[r.status],
                )
                for r in self.readings
            ]
        )
        if 0 <= kept < len(self.readings):
            self.table.selectRow(kept)
        self._chosen()

    def showEvent(self, event):
        super().showEvent(event)
        self.toggled.emit(True)

    def hideEvent(self, event):
        super().hideEvent(event)
        self.toggled.emit(False)

    def _current(self):
        k = self.table.currentRow()
        return self.readings[k] if 0 <= k < len(self.readings) and self.table.selectedItems() else None

    def _chosen(self):
        r = self._current()
        writable = not self.session.read_only
        self.exclude.setVisible(r is None or r.status != "excluded")
        self.reason.setVisible(r is None or r.status != "excluded")
        self.exclude.setEnabled(writable and r is not None and r.status == "ok")
        self.reason.setEnabled(writable and r is not None and r.status == "ok")
        self.back.setVisible(writable and r is not None and r.status == "excluded")
        lines = [r.note] if r is not None and r.note else []
        if r is not None:
            for at, old, new, why in self.session.history(r.id):
                a, b = json.loads(old), json.loads(new)
                lines.append(
                    f"{at[:16].replace('T', ' ')}: {a['entered'] or '–'} {a['status']} → {b['entered'] or '–'} {b['status']} ({why})"
                )
        self.history.setText("\n".join(lines))
        self.history.setVisible(bool(lines))

    def _exclude(self):
        self._edit(lambda r: self.session.exclude(r.id, self.reason.text()), "Excluded; Undo brings it back.")

    def _put_back(self):
        self._edit(lambda r: self.session.put_back(r.id), "Put back.")

    def _edit(self, change, said):
        r = self._current()
        if r is None:
            return
        try:
            change(r)
        except UserError as error:
            self.message.emit(str(error), True)
            return
        self.reason.clear()
        self.refresh()
        self.message.emit(said, False)
