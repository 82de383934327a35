"""Record: the bench, in its first form."""

from __future__ import annotations

from datetime import datetime

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QComboBox,
    QCompleter,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from ...analysis.calibrate import correct
from ...analysis.cautions import essential_fat
from ...analysis.consistency import usual_spread
from ...domain.errors import UserError
from ...domain.metrics import METRICS, metric_named
from ...domain.records import KINDS
from ...study.commands import add_reading
from ...study.read import wall_clock
from ...wording.numbers import count, number
from ...wording.sentences import corrected_sentence, sentence
from ..widgets import label
from .bench import Cell, Lane, TallyStrip

NEW = "New visit"
REPEATS = 3


class RecordStage(QWidget):
    """Type repeats, see at once what is kept and what it means."""

    message = pyqtSignal(str, bool)
    evidence = pyqtSignal(object, str)

    def __init__(self, session, palette):
        super().__init__()
        self.setObjectName("page")
        self.session, self.palette_ = session, palette
        self.lanes, self.added, self.visit = [], [], None
        self.tags, self.strips, self.meanings = [], [], []
        self.client = QComboBox()
        self.client.setEditable(True)
        self.client.setAccessibleName("Client")
        self.client.setMinimumWidth(170)
        self.client.completer().setFilterMode(Qt.MatchFlag.MatchContains)
        self.client.completer().setCompletionMode(QCompleter.CompletionMode.PopupCompletion)
        self.client.textActivated.connect(self._client_chosen)
        self.client.lineEdit().returnPressed.connect(lambda: self._client_chosen(self.client.currentText()))
        self.visits = QComboBox()
        self.visits.setAccessibleName("Visit")
        self.visits.setMinimumWidth(180)
        self.visits.activated.connect(self._visit_chosen)
        self.when = QLineEdit()
        self.when.setAccessibleName("Date and time")
        self.when.setFixedWidth(150)
        top = QHBoxLayout()
        for text, w in (("C&lient", self.client), ("&Visit", self.visits), ("&Taken at", self.when)):
            tag = label(text, "faint")
            tag.setBuddy(w)
            top.addWidget(tag)
            top.addWidget(w)
            top.addSpacing(10)
        top.addStretch(1)
        self.headline = label("", "headline", wrap=True)
        self.hint = label("Enter: next empty cell · F: failed reading · F4: what is kept of this reading · Ctrl+Z: undo", "faint")
        self.trouble = label("", "warn", wrap=True)
        self.trouble.hide()
        self.holder = QWidget()
        self.grid = QGridLayout(self.holder)
        self.grid.setVerticalSpacing(6)
        self.grid.setHorizontalSpacing(8)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(self.holder)
        self.holder.setObjectName("page")
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 12, 16, 10)
        box.addWidget(self.headline)
        box.addLayout(top)
        box.addWidget(self.trouble)
        box.addWidget(scroll, 1)
        box.addLayout(self._adder())
        box.addWidget(self.hint)

    def _adder(self):
        row = QHBoxLayout()
        self.new_instrument = QLineEdit()
        self.new_instrument.setPlaceholderText("Another instrument")
        self.new_instrument.setAccessibleName("Name of another instrument")
        self.new_instrument.setFixedWidth(170)
        self.new_kind, self.new_metric = QComboBox(), QComboBox()
        self.new_kind.addItems(["device", "method", "reference"])
        self.new_kind.setAccessibleName("Kind of instrument")
        for m in METRICS.values():
            self.new_metric.addItem(f"{m.label} ({m.unit})", m.id)
        self.new_metric.setAccessibleName("What it measures")
        add = QPushButton("Add lane")
        add.clicked.connect(self._add_lane)
        self.new_instrument.returnPressed.connect(self._add_lane)
        for w in (self.new_instrument, self.new_kind, self.new_metric, add):
            row.addWidget(w)
        row.addStretch(1)
        return row

    def _add_lane(self):
        name = self.new_instrument.text().strip()
        if name and self.new_kind.currentText() in KINDS:
            self.added.append((name, self.new_kind.currentText(), self.new_metric.currentData()))
            self.new_instrument.clear()
            self._build()
            self._load()
            cells = [lane.cells[0] for lane in self.lanes if lane.instrument == name]
            if cells:
                cells[-1].setFocus()

    # what is shown
    def refresh(self):
        """Show the study as it is now."""
        codes = [c.code for c in self.session.snapshot().clients.values()]
        if [self.client.itemText(k) for k in range(self.client.count())] != codes:
            current = self.client.currentText()
            self.client.clear()
            self.client.addItems(codes)
            self.client.setEditText(current if current or not codes else codes[0])
        if not self.when.text():
            self.when.setText(datetime.now().strftime("%Y-%m-%d %H:%M"))
        self._list_visits()
        if [(x.instrument, x.kind, x.metric) for x in self.lanes] != self._wanted():
            self._build()
        self._load()

    def set_palette(self, palette):
        """Choose the theme of what is painted."""
        self.palette_ = palette
        for strip in self.strips:
            strip.palette_ = palette
            strip.update()

    def _wanted(self):
        there = self.session.instrument_lanes()
        return there + [a for a in self.added if a not in there]

    def _list_visits(self):
        self.visits.clear()
        self.visits.addItem(NEW, None)
        known = self.session.visits_of(self.client.currentText().strip())
        for number_, start in known:
            self.visits.addItem(start[:16].replace("T", " "), (number_, start))
        if self.visit is None:  # what has just been typed belongs to a visit by now
            at = self._moment(quiet=True)
            for k, (number_, start) in enumerate(known):
                if at and start == at:
                    self.visit = (number_, start)
                    self.visits.setCurrentIndex(k + 1)
        index = next((k for k in range(self.visits.count()) if self.visits.itemData(k) == self.visit), 0)
        self.visits.setCurrentIndex(index)
        self.visit = self.visits.currentData()

    def _client_chosen(self, _text):
        self.client.completer().popup().hide()
        self.visit = None
        self.when.setText(datetime.now().strftime("%Y-%m-%d %H:%M"))
        self.refresh()
        self._focus_next(None)

    def _visit_chosen(self, _index):
        self.visit = self.visits.currentData()
        if self.visit is not None:
            self.when.setText(self.visit[1][:16].replace("T", " "))
        else:
            self.when.setText(datetime.now().strftime("%Y-%m-%d %H:%M"))
        self._load()
        self._focus_next(None)

    def _build(self):
        while self.grid.count():
            item = self.grid.takeAt(0)
            if item.widget():
                item.widget().deleteLater()
        self.lanes, self.tags, self.strips, self.meanings = [], [], [], []
        for k, head in enumerate(
            [
                "Instrument",
                "Measures",
                *(f"Repeat {n + 1}" for n in range(REPEATS)),
                "Tally",
                "What it means (in brackets: 95 % for one reading)",
            ]
        ):
            self.grid.addWidget(label(head, "faint"), 0, k)
        for k, (instrument, kind, metric) in enumerate(self._wanted(), start=1):
            m = metric_named(metric)
            lane = Lane(instrument, kind, metric, m.label, self._vertical)
            self.grid.addWidget(label(f"<b>{instrument}</b>"), k, 0)
            tag = label("", "faint")
            self.grid.addWidget(tag, k, 1)
            self.tags.append(tag)
            for n in range(REPEATS):
                cell = Cell(lane, n + 1)
                cell.committed.connect(self._commit)
                cell.failed.connect(self._mark_failed)
                cell.walk.connect(self._focus_next)
                cell.evidence.connect(self._open)
                lane.cells.append(cell)
                self.grid.addWidget(cell, k, 2 + n)
                cell.show()  # at once, so that it can take the focus before the layout has run
            strip = TallyStrip(self.palette_)
            meaning = label("", wrap=True)
            self.grid.addWidget(strip, k, 5)
            self.grid.addWidget(meaning, k, 6)
            self.strips.append(strip)
            self.meanings.append(meaning)
            self.lanes.append(lane)
        self.grid.setColumnStretch(6, 1)
        self.grid.setRowStretch(len(self.lanes) + 1, 1)

    def _load(self):
        readings = self.session.readings(visit=self.visit[0]) if self.visit else []
        at = {(r.instrument, r.metric, r.replicate): r for r in readings}
        day = self._moment(quiet=True) or datetime.now().isoformat()
        who = self.client.currentText().strip()
        self.headline.setText(
            f"{who}: {count(len(readings), 'reading')} kept in this visit."
            if readings
            else f"{who or 'Choose a client'}: type the first reading."
            if self.lanes
            else "Add an instrument below, or import readings (Ctrl+I)."
        )
        records = {}
        for record in self.session.calibrations():
            records.setdefault((record.instrument, record.metric), []).append(record)
        spreads = {}
        for lane, tag, strip, meaning in zip(self.lanes, self.tags, self.strips, self.meanings, strict=True):
            for cell in lane.cells:
                if not (cell.property("state") == "refused" and cell.hasFocus()):
                    cell.load(at.get((lane.instrument, lane.metric, cell.replicate)))
            own = [cell.reading for cell in lane.cells if cell.reading is not None]
            m = metric_named(lane.metric)
            setting = own[-1].setting if own else self.session.settings_at(lane.instrument, day)
            tag.setText(f"{m.label}, {m.unit}" + (f" · {setting}" if setting else ""))
            if lane.metric not in spreads:
                spreads[lane.metric] = usual_spread(self.session.snapshot(lane.metric), lane.metric)
            values = [r.value for r in own if r.status == "ok"]
            strip.show_values(values, spreads[lane.metric].get(lane.instrument))
            meaning.setText(self._meaning(lane, values, who, day, setting, records.get((lane.instrument, lane.metric), [])))
        self._mark_next()

    def _meaning(self, lane, values, who, day, setting, records):
        if not values:
            return ""
        mean = sum(values) / len(values)
        m = metric_named(lane.metric)
        text = f"mean {number(mean, m.decimals)}"
        sex = next((c.sex for c in self.session.snapshot().clients.values() if c.code == who), "")
        if lane.kind == "reference":
            return text
        if not records:
            return (
                text
                + (" · uncorrected" if lane.metric == self.session.lens.metric else "")
                + self._caution(lane.metric, sex, mean)
            )
        record = next((r for r in records if r.setting == setting), records[-1])
        c = correct(record, who, mean, day, setting, self.session.snapshot(lane.metric))
        return f"{text} → corrected <b>{corrected_sentence(c, lane.metric)}</b>" + self._caution(lane.metric, sex, c.value)

    @staticmethod
    def _caution(metric, sex, value):
        found = essential_fat(metric, sex, value)
        return f" · {sentence(found)}" if found else ""

    # walking
    def _cells(self):
        return [cell for lane in self.lanes for cell in lane.cells]

    def _mark_next(self):
        cells = self._cells()
        empty = [c for c in cells if not c.text()]
        for c in cells:
            if c.property("state") in ("", "next"):
                c.state("next" if empty and c is empty[0] else "")

    def _focus_next(self, after):
        cells = self._cells()
        start = cells.index(after) + 1 if after in cells else 0
        for c in cells[start:] + cells[:start]:
            if not c.text():
                c.setFocus()
                return

    def _vertical(self, cell, step):
        k = self.lanes.index(cell.lane) + step
        if 0 <= k < len(self.lanes):
            self.lanes[k].cells[cell.replicate - 1].setFocus()

    # writing
    def _moment(self, *, quiet=False):
        text = self.when.text().strip().replace(" ", "T")
        try:
            wall_clock(text)
        except ValueError:
            if not quiet:
                self._refuse(f'"{self.when.text()}" is not a date and time such as 2026-03-02 06:40; nothing was written.')
            return None
        return text

    def _refuse(self, text):
        self.trouble.setText(text)
        self.trouble.setVisible(bool(text))

    def _commit(self, cell):
        text = cell.text().strip()
        if text.lower() in ("f", "failed"):
            self._mark_failed(cell)
            return
        if not text:
            cell.load(cell.reading)
            if cell.reading is not None:
                self._refuse("A reading is not deleted: exclude it with a reason (F4).")
            return
        self._write(cell, text)

    def _mark_failed(self, cell):
        if cell.reading is None or cell.reading.status != "failed":
            self._write(cell, None)
            if cell.property("state") != "refused":
                self._focus_next(cell)

    def _write(self, cell, typed):
        lane, who, at = cell.lane, self.client.currentText().strip(), self._moment()
        if at is None:
            return
        if not who:
            self._refuse("Choose or type a client's code first; nothing was written.")
            return
        cell.state("")
        try:
            if cell.reading is not None:
                self.session.correct_reading(cell.reading.id, typed, "corrected at the bench")
            else:
                setting = self.session.settings_at(lane.instrument, at)
                self.session.do(
                    add_reading(
                        client=who,
                        taken_at=self.visit[1] if self.visit else at,
                        instrument=lane.instrument,
                        kind=lane.kind,
                        metric=lane.metric,
                        typed=typed,
                        replicate=cell.replicate,
                        setting=setting,
                    )
                )
        except UserError as error:
            cell.state("refused")
            said = str(error)
            self._refuse(f"{said[0].upper()}{said[1:]}; what you typed stays in the cell, nothing was written.")
            return
        self._refuse("")

    def _open(self, cell):
        if cell.reading is not None:
            self.evidence.emit([cell.reading.id], f"{cell.lane.instrument}, {cell.lane.label}, repeat {cell.replicate}")
