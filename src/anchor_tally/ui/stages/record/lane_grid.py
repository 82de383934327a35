"""The lanes of a station: cells for repeats, written as they are left, walked by Enter."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QWidget

from ....analysis.calibrate import correct
from ....analysis.cautions import essential_fat
from ....analysis.consistency import usual_spread
from ....analysis.tally import judge
from ....domain.errors import UserError
from ....domain.metrics import metric_named
from ....study.commands import add_reading
from ....wording.bench import tally_words
from ....wording.sentences import corrected_sentence, sentence
from ...widgets import label
from .cells import Cell, Lane, TallyStrip

COLUMNS = 3


class LaneGrid(QWidget):
    """Lanes of one station in one visit.

    ``bench`` gives the visit: ``who()``, ``moment()``, ``visit`` and ``refuse(text)``. ``by_round`` walks all lanes for the
    first repeat, then all for the second; otherwise the repeats of one lane after each other.
    """

    evidence = pyqtSignal(object, str)
    entered = pyqtSignal(object)
    typing = pyqtSignal(object, str)
    finished = pyqtSignal()

    def __init__(self, session, palette, bench):
        super().__init__()
        self.setObjectName("page")
        self.session, self.palette_, self.bench = session, palette, bench
        self.lanes, self.by_round, self.setting, self.one, self.narrow = [], False, None, None, False
        self.grid = QGridLayout(self)
        self.grid.setContentsMargins(0, 0, 6, 0)
        self.grid.setVerticalSpacing(5)
        self.grid.setHorizontalSpacing(8)

    @property
    def meanings(self):
        return [lane.meaning for lane in self.lanes]

    def build(self, wanted, by_round, one_instrument):
        """Make lanes for (instrument, kind, metric, repeats); nothing happens when they stand already."""
        self.by_round = by_round
        if [lane.key for lane in self.lanes] == wanted and self.one == one_instrument:
            return
        self.one = one_instrument
        while self.grid.count():
            item = self.grid.takeAt(0)
            if item.widget():
                item.widget().hide()
                item.widget().deleteLater()
        for row in range(self.grid.rowCount()):
            self.grid.setRowStretch(row, 0)
        self.lanes = []
        heads = ["Site or value" if one_instrument else "Instrument", "" if one_instrument else "Measures"]
        heads += [f"Repeat {n + 1}" for n in range(COLUMNS)] + ["Tally", "What it gives"]
        for k, head in enumerate(heads if wanted else ()):
            self.grid.addWidget(label(head, "faint"), 0, k)
        for k, (instrument, kind, metric, repeats) in enumerate(wanted, start=1):
            m = metric_named(metric)
            lane = Lane(instrument, kind, metric, m.label, repeats)
            self.grid.addWidget(label(f"<b>{m.label if one_instrument else instrument}</b>"), k, 0)
            lane.tag = label("", "faint")
            self.grid.addWidget(lane.tag, k, 1)
            for n in range(COLUMNS):
                cell = Cell(lane, n + 1)
                cell.committed.connect(self._commit)
                cell.failed.connect(self._mark_failed)
                cell.walk.connect(self.focus_next)
                cell.evidence.connect(self._open)
                cell.vertical.connect(self._vertical)
                cell.entered.connect(self.entered)
                cell.textEdited.connect(lambda text, c=cell: self.typing.emit(c, text))
                lane.cells.append(cell)
                self.grid.addWidget(cell, k, 2 + n)
                cell.show()  # at once, so that it can take the focus before the layout has run
            lane.strip = TallyStrip(self.palette_, 90 if one_instrument else 150)
            lane.meaning = label("", wrap=True)
            self.grid.addWidget(lane.strip, k, 5)
            lane.strip.setVisible(not (self.narrow and one_instrument))
            self.grid.addWidget(lane.meaning, k, 6)
            self.lanes.append(lane)
        self.grid.setColumnStretch(6, 1)
        self.grid.setRowStretch(len(self.lanes) + 1, 1)

    def set_narrow(self, narrow):
        """Leave out the strips of a station where there is no room for them."""
        self.narrow = narrow
        for lane in self.lanes:
            lane.strip.setVisible(not (narrow and self.one))

    def set_palette(self, palette):
        """Choose the theme of what is painted."""
        self.palette_ = palette
        for lane in self.lanes:
            lane.strip.palette_ = palette
            lane.strip.update()

    # showing
    def load(self, readings, locks):
        """Show the readings of the visit; ``locks`` maps an instrument to the reason why it must not be used."""
        at = {(r.instrument, r.metric, r.replicate): r for r in readings if self.setting in (None, r.setting)}
        day, who = self.bench.moment(quiet=True) or "", self.bench.who()
        records = {}
        for record in self.session.calibrations():
            records.setdefault((record.instrument, record.metric), []).append(record)
        spreads = {}
        for lane in self.lanes:
            m = metric_named(lane.metric)
            lane.locked = locks.get(lane.instrument, "")
            for cell in lane.cells:
                if not (cell.property("state") == "refused" and cell.hasFocus()):
                    cell.load(at.get((lane.instrument, lane.metric, cell.replicate)))
                cell.setEnabled(not lane.locked or cell.reading is not None)
            own = [cell.reading for cell in lane.cells if cell.reading is not None]
            setting = own[-1].setting if own else self.setting_of(lane, day)
            shown = setting if self.one is None or not self.one else ""
            what = m.unit if self.one else f"{m.label}, {m.unit}"
            lane.tag.setText(what + (f" · {shown}" if shown else ""))
            if lane.metric not in spreads:
                spreads[lane.metric] = usual_spread(self.session.snapshot(lane.metric), lane.metric)
            usual = spreads[lane.metric].get(lane.instrument)
            values = [r.value for r in own if r.status == "ok"]
            lane.tally = judge(m, values, lane.repeats, usual)
            lane.strip.show_values(values, usual)
            if lane.locked and not own:
                lane.meaning.setText(lane.locked)
                lane.meaning.setObjectName("warn")
            else:
                lane.meaning.setText(self._meaning(lane, m, who, day, setting, records.get((lane.instrument, lane.metric), [])))
                lane.meaning.setObjectName("warn" if lane.tally.notes else "")
            lane.meaning.style().polish(lane.meaning)
        self.mark_next()

    def setting_of(self, lane, day):
        """The setting that a reading typed now gets: the station's own, or the one in force."""
        return self.setting if self.setting is not None else self.session.settings_at(lane.instrument, day, self.bench.who())

    def _meaning(self, lane, m, who, day, setting, records):
        value = lane.tally.value
        if value is None:
            return ""
        text = tally_words(lane.tally, m)
        if lane.kind == "reference" or self.one:
            return text
        sex = next((c.sex for c in self.session.snapshot().clients.values() if c.code == who), "")
        if not records:
            mark = " · uncorrected" if lane.metric == self.session.lens.metric else ""
            return text + mark + self._caution(lane.metric, sex, value)
        record = next((r for r in records if r.setting == setting), records[-1])
        c = correct(record, who, value, day, setting, self.session.snapshot(lane.metric))
        return f"{text} → corrected <b>{corrected_sentence(c, lane.metric)}</b>" + self._caution(lane.metric, sex, c.value)

    @staticmethod
    def _caution(metric, sex, value):
        found = essential_fat(metric, sex, value)
        return f" · {sentence(found)}" if found else ""

    # walking
    def ordered(self):
        """Cells in the order in which Enter walks them."""
        cells = [(lane, cell) for lane in self.lanes for cell in lane.cells]
        if self.by_round:
            cells.sort(key=lambda x: x[1].replicate)  # stable: the lanes keep their order
        return [cell for _, cell in cells]

    def _open_cells(self):
        return [c for c in self.ordered() if not c.text() and c.lane.wants(c)]

    def mark_next(self):
        """Show which cell comes next."""
        following = next(iter(self._open_cells()), None)
        for c in self.ordered():
            if c.property("state") in ("", "next"):
                c.state("next" if c is following else "")

    def focus_next(self, after):
        """Walk to the next empty cell that the protocol asks for."""
        cells = self.ordered()
        start = cells.index(after) + 1 if after in cells else 0
        for c in cells[start:] + cells[:start]:
            if not c.text() and c.lane.wants(c):
                c.setFocus()
                return
        if after is not None:
            self.finished.emit()

    def _vertical(self, cell, step):
        k = self.lanes.index(cell.lane) + step
        if 0 <= k < len(self.lanes):
            self.lanes[k].cells[cell.replicate - 1].setFocus()

    # writing
    def _commit(self, cell):
        text = cell.text().strip()
        if text.lower() in ("f", "failed"):
            self._mark_failed(cell)
            return
        if not text:
            cell.load(cell.reading)
            if cell.reading is not None:
                self.bench.refuse("A reading is not deleted: exclude it with a reason (F4).")
            return
        self._write(cell, text)

    def _mark_failed(self, cell):
        if cell.reading is None or cell.reading.status != "failed":
            self._write(cell, None)
            if cell.property("state") != "refused":
                self.focus_next(cell)

    def _write(self, cell, typed):
        lane, who, at = cell.lane, self.bench.who(), self.bench.moment()
        if at is None:
            return
        if not who:
            self.bench.refuse("Choose or type a client's code first; nothing was written.")
            return
        cell.state("")
        try:
            if cell.reading is not None:
                self.session.correct_reading(cell.reading.id, typed, "corrected at the bench")
            else:
                self.session.do(
                    add_reading(
                        client=who,
                        taken_at=at,
                        instrument=lane.instrument,
                        kind=lane.kind,
                        metric=lane.metric,
                        typed=typed,
                        replicate=cell.replicate,
                        setting=self.setting_of(lane, at),
                    )
                )
        except UserError as error:
            cell.state("refused")
            said = str(error)
            self.bench.refuse(f"{said[0].upper()}{said[1:]}; what you typed stays in the cell, nothing was written.")
            return
        self.bench.refuse("")

    def _open(self, cell):
        if cell.reading is not None:
            self.evidence.emit([cell.reading.id], f"{cell.lane.instrument}, {cell.lane.label}, repeat {cell.replicate}")
