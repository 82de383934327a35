"""Import: read a table, map its columns, review what is added and refused, then import."""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QProgressBar,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from ....analysis.review import Material, ReviewRequest, ReviewResult
from ....app.importing import (
    Foreign,
    ForeignTable,
    TidyFile,
    look_at,
    of_sole_device,
    out_of_range_as_failed,
    paste,
    place_of,
    rows_of,
    turn,
    wanting,
)
from ....app.jobs import Job
from ....app.mappings import remember, write_mappings
from ....domain.errors import UserError
from ....domain.metrics import metric_named
from ....exchange.guessing import comments_left, gaps_in, not_taken, with_sheet_as_client
from ....exchange.mapping import Mapping, Row
from ....exchange.remedies import RefusedGroup, grouped
from ....exchange.tables import Table as Source
from ....study.import_preview import FRESH, LINE
from ....study.staging import Staged
from ....wording import importing as words
from ....wording.numbers import day_words
from ...pages import Page, Surroundings
from ...widgets import Flow, Table, label, tip
from .mapping_editor import MappingEditor

OWNER, LOOK = "import", "import-review"
MOST_LOOKED_THROUGH = 100_000  # larger tables are looked through when they are in


class ImportPage(Page):
    """Nothing is written before the button is pressed; then all of it, or none."""

    previewed = pyqtSignal()
    looked = pyqtSignal()

    def __init__(self, around: Surroundings) -> None:
        super().__init__(around)
        self.name = ""
        self.path: Path | None = None
        self.failed_out_of_range = False  # values outside the possible range count as failed
        self.foreign: tuple[ForeignTable, ...] = ()  # the tables of the file, none for a tidy one
        self.mappings: list[Mapping] = []
        self.wanted_sheets: list[bool] = []
        self.at = 0  # the table whose columns are shown
        self.found: Staged | None = None
        self.groups: tuple[RefusedGroup, ...] = ()
        self.share: Callable[[], float] | None = None
        self.left_out: tuple[str, ...] = ()
        self.headline = label("", "headline", wrap=True)
        self.under = label("", "faint", wrap=True)
        self.sheet = QComboBox()
        self.sheet.setAccessibleName("Sheet of the workbook")
        self.sheet.activated.connect(self._sheet_chosen)
        self.to_open = QPushButton("")  # the sheet shown is never changed unasked
        self.to_open.setAccessibleName("Show the sheet with an open question")
        self.to_open.clicked.connect(self._show_open)
        self.take_sheet = QCheckBox("Import this sheet")
        self.take_sheet.clicked.connect(self._sheet_wanted)
        self.editor = MappingEditor()
        self.editor.changed.connect(self._mapped)
        self.editor.sheets_are_clients.connect(self._sheets_are_clients)
        self.editor.turn_wanted.connect(self._turn)
        self.untaken = label("", "warn", wrap=True)
        self.untaken.setAccessibleName("Columns not imported")
        self.doubts = label("", "warn", wrap=True)
        self.doubts.setAccessibleName("Findings to check")
        self.refused_title = label("Rows that cannot be imported", "title")
        self.refused = Table(
            ["Reason", "Rows", "Column", "For example", "First"], "Refused rows", numeric_from=99
        )
        self.refused.chosen.connect(lambda _row, _column: self._offer_remedy())
        self.remedy = QPushButton("")
        self.remedy.setAccessibleName("Remedies for these rows")
        self.remedy.clicked.connect(self._apply_remedy)
        heads = ["Client", "Time", "Instrument", "Metric", "Value", "Unit"]
        self.preview = Table(heads, "Readings to import", numeric_from=4)
        self.take, self.cancel = QPushButton("Import"), QPushButton("Do not import")
        self.take.setObjectName("primary")
        self.take.clicked.connect(self._take)
        self.cancel.clicked.connect(self._stop)
        self.bar = QProgressBar()
        self.bar.setAccessibleName("Progress")
        self.bar.setMaximum(1000)
        self.bar.setTextVisible(False)
        self.bar.setFixedWidth(260)
        self._lay_out()

    def _lay_out(self) -> None:
        row = QHBoxLayout()
        self.keep = QPushButton("Save the mapping…")
        tip(self.keep, "A file that import --mapping reads on the command line")
        self.keep.clicked.connect(self._save_mapping)
        for w in (self.take, self.cancel, self.keep, self.bar):
            row.addWidget(w)
        row.addStretch(1)
        self.sheets = QWidget()
        which = Flow()
        for box_ in (label("Sheet", "faint"), self.sheet, self.take_sheet, self.to_open):
            which.addWidget(box_)
        self.sheets.setLayout(which)
        refused = QHBoxLayout()
        refused.addWidget(self.refused_title)
        refused.addWidget(self.remedy)
        refused.addStretch(1)
        box = QVBoxLayout(self)
        box.setContentsMargins(16, 12, 16, 10)
        for part in (self.headline, self.under, self.sheets):
            box.addWidget(part)
        box.addWidget(self.editor, 5)
        box.addWidget(self.untaken)
        box.addWidget(self.doubts)
        box.addLayout(refused)
        box.addWidget(self.refused, 2)
        box.addWidget(label("First readings to import", "title"))
        box.addWidget(self.preview, 3)
        box.addLayout(row)

    def refresh(self) -> None:
        """The table stays as it was read; the study behind it may have got another writer."""
        self.take.setEnabled(
            bool(self.found and self.found.adds)
            and not self.session.read_only
            and not self.jobs.busy(OWNER)
        )

    # reading
    @property
    def table(self) -> Source | None:
        """The table whose columns are shown."""
        return self.foreign[self.at].table if self.foreign else None

    def look(self, path: Path) -> None:
        """Read a file and show what it would do; raise UserError when it cannot be read at all."""
        found = look_at(path)
        self._give_up()
        self.name, self.path, self.failed_out_of_range = path.name, path, False
        self._open(found)

    def _open(self, found: TidyFile | Foreign) -> None:
        if isinstance(found, TidyFile):
            self.foreign, self.mappings, self.wanted_sheets, self.left_out = (
                (),
                [],
                [],
                found.left_out,
            )
            for w in (self.editor, self.sheets):
                w.hide()
            self._stage(found.rows, found.progress)
        else:
            self._begin(found)

    def paste(self, text: str) -> None:
        """The same for a table pasted from the clipboard."""
        found = paste(text)
        self._give_up()
        self.name, self.path, self.failed_out_of_range = "the clipboard", None, False
        self._begin(found)

    def _begin(self, foreign: Foreign) -> None:
        self.foreign = foreign.tables
        self.left_out = tuple(f"sheet {name} (no table)" for name in foreign.empty)
        self.mappings = [t.mapping for t in foreign.tables]
        self.wanted_sheets = [True] * len(foreign.tables)
        self.sheet.clear()
        self.sheet.addItems([t.table.sheet for t in foreign.tables])
        self.sheets.setVisible(len(foreign.tables) > 1)
        self._show_table(self._first_open() or 0)
        self._preview()

    def _show_table(self, k: int) -> None:
        self.at = k
        self.sheet.setCurrentIndex(k)
        self.take_sheet.setChecked(self.wanted_sheets[k])
        self.editor.open(
            self.foreign[k].table,
            self.mappings[k],
            gaps_in(self.foreign[k].table, self.mappings[k]),
        )

    def _sheet_chosen(self, k: int) -> None:
        self._show_table(k)
        self.to_open.setVisible(self._first_open() not in (None, k))

    def _sheet_wanted(self, wanted: bool) -> None:
        self.wanted_sheets[self.at] = wanted
        self._preview()

    def _mapped(self) -> None:
        gaps = self.editor.mapping.gaps
        if gaps != self.mappings[self.at].gaps:  # asked once, for all sheets
            self.mappings = [m if m.gaps else replace(m, gaps=gaps) for m in self.mappings]
        self.mappings[self.at] = self.editor.mapping
        self._preview()

    def _sheets_are_clients(self) -> None:
        there = zip(self.foreign, self.mappings, strict=True)
        self.mappings = [with_sheet_as_client(f.table, m) for f, m in there]
        self._show_table(self.at)
        self._preview()

    def _turn(self) -> None:
        """Exchange rows and columns of the table shown."""
        try:
            other = turn(self.foreign[self.at])
        except UserError as error:
            self.message.emit(f"{error}.", True)
        else:
            k = self.at
            self.foreign = (*self.foreign[:k], other, *self.foreign[k + 1 :])
            self.mappings[k] = other.mapping
            self._preview()
        self._show_table(self.at)

    def _say_untaken(self) -> None:
        """Name what nothing is taken of, on every sheet, and what must not have been measured."""
        columns = []
        for table, mapping in self._chosen():
            sheet = f"{table.sheet}: " if len(self.foreign) > 1 else ""
            columns += [
                (sheet + name, filled, examples)
                for name, filled, examples in not_taken(table, mapping)
            ]
        left = [text for t, m in self._chosen() for text in comments_left(t, m)]
        said = [words.not_taken_words(columns), words.comments_words(left)]
        if self.found is not None:
            said += words.caution_warnings(self.session.catalogue(), self.found)
        self.untaken.setText("\n".join(s for s in said if s))
        self.untaken.setVisible(bool(self.untaken.text()))

    def _chosen(self) -> list[tuple[Source, Mapping]]:
        there = zip(self.foreign, self.mappings, self.wanted_sheets, strict=True)
        return [(f.table, m) for f, m, wanted in there if wanted]

    def _first_open(self) -> int | None:
        """The first table of which something is still to be chosen."""
        for k, (f, m) in enumerate(zip(self.foreign, self.mappings, strict=True)):
            if self.wanted_sheets[k] and wanting(f.table, m):
                return k
        return None

    def _show_open(self) -> None:
        at = self._first_open()
        if at is not None:
            self._show_table(at)
            self.to_open.hide()

    def _preview(self) -> None:
        self.to_open.hide()
        chosen = self._chosen()
        read = rows_of(chosen)
        rows = None if read is None else of_sole_device(read, self.session.catalogue())
        if rows is None:
            self._give_up()
            at = self._first_open()
            several = at is not None and len(self.foreign) > 1
            sheet = self.foreign[at].table.sheet if several and at is not None else ""
            self.headline.setText(words.open_words(self.name, sheet))
            self.to_open.setText(f"Show sheet {sheet}")
            self.to_open.setVisible(several and at != self.at)
            self._show_counts()
            self.previewed.emit()
            return
        self._stage(rows, None)

    def _stage(self, rows: Iterator[Row], share: Callable[[], float] | None) -> None:
        self._give_up()
        self.share = share
        if self.failed_out_of_range:
            rows = out_of_range_as_failed(rows)
        tables = [t for t, _ in self._chosen()]
        self.headline.setText(f"Reading {self.name}…")
        self.take.setEnabled(False)
        self.cancel.setText("Stop reading")
        self.bar.setRange(0, 1000 if share else 0)
        self.bar.show()
        job = Job(
            f"Reading {self.name}",
            lambda: self.session.stage(rows, lambda line: place_of(tables, line)[1]),
        )
        self.jobs.start(OWNER, job, self._staged, self._failed, self._progress)

    # the job
    def _progress(self, said: Any) -> None:
        if isinstance(said, float):
            self.bar.setRange(0, 1000)
            self.bar.setValue(int(1000 * said))
        else:
            self.headline.setText(f"Reading {self.name}: {said:,} rows…")
            if self.share:
                self.bar.setValue(int(1000 * self.share()))

    def _rest(self) -> None:
        self.bar.hide()
        self.cancel.setText("Do not import")

    def _staged(self, staged: Staged) -> None:
        self._rest()
        self.found = staged
        self._show_counts()
        self.headline.setText(
            words.verdict(
                self.name, staged.new, staged.already_there, len(staged.refused), len(staged.cards)
            )
        )
        self.take.setText("&" + words.button(staged.new, len(staged.refused), len(staged.cards)))
        self.previewed.emit()
        if 0 < staged.new <= MOST_LOOKED_THROUGH:
            job = Job(
                f"Checking {self.name}",
                lambda: self.session.import_preview_steps(staged),
                self._look_through,
            )
            self.jobs.start(LOOK, job, self._doubted, lambda _text: self._doubted(None))

    @staticmethod
    def _look_through(material: Material) -> Generator[float, None, ReviewResult]:
        return ReviewRequest(material).run()

    def _doubted(self, result: ReviewResult | None) -> None:
        """Say what the review finds in the table; a fault there takes nothing from the import."""
        if result is not None:
            tables = [t for t, _ in self._chosen()]
            found = result.about(LINE, FRESH)
            self.doubts.setText(
                words.doubt_words(
                    found, result.material, lambda number: place_of(tables, number - LINE)[1]
                )
            )
        self.doubts.setVisible(bool(self.doubts.text()))
        self.looked.emit()

    def _failed(self, text: str) -> None:
        self._rest()
        if self.found is not None:  # the rows stay staged: nothing was written
            self.take.setEnabled(True)
        self.headline.setText(f"{self.name}: nothing was imported.")
        self.message.emit(text, True)
        self.previewed.emit()

    def _give_up(self) -> None:
        self.jobs.cancel(OWNER)
        self.jobs.cancel(LOOK)
        self.doubts.clear()
        self.doubts.hide()
        self.bar.hide()
        if self.found is not None:
            self.session.drop(self.found)
            self.found = None

    def _stop(self) -> None:
        busy, writing = self.jobs.busy(OWNER), self.found is not None
        self._give_up()
        if busy:
            self.message.emit(f"Stopped: nothing was imported from {self.name}.", False)
        if not busy or writing:
            self._leave_page()
        else:
            self.headline.setText(f"{self.name}: reading was stopped; nothing was imported.")
            self.cancel.setText("Do not import")

    def _leave_page(self) -> None:
        self.wanted.emit("compare" if self.session.metrics() else "record")

    # showing
    def _show_counts(self) -> None:
        found = self.found
        refused = found.refused if found else ()
        self.groups = self._grouped(found)
        rows = []
        tables = [t for t, _ in self._chosen()]
        for g in self.groups:
            rows.append(
                (
                    g.reason,
                    str(g.count),
                    g.column,
                    ", ".join(g.examples),
                    place_of(tables, g.line)[1],
                )
            )
        self.refused.fill(rows)
        for w in (self.refused, self.refused_title, self.remedy):
            w.setVisible(bool(refused))
        self.refused.choose(0)
        self._offer_remedy()
        lines = []
        for r in found.sample if found else ():
            m = metric_named(r.metric)
            lines.append(
                (
                    r.client,
                    day_words(r.taken_at),
                    r.instrument,
                    m.label if m else r.metric,
                    r.entered or "failed",
                    "%" if r.unit == "percent" else r.unit,
                )
            )
        self.preview.fill(lines)
        self.refresh()
        self._say_untaken()
        said: list[str] = []
        if found:
            said.append(
                words.counts(found.new, found.already_there, len(refused), len(found.cards))
            )
        if self.table is not None:
            said.append(
                f"Read as {self.table.form}."
                if len(self.foreign) == 1
                else f"{len(self.foreign)} sheets."
            )
        if any(f.again for f in self.foreign):
            said.append("These columns were mapped before. The same mapping is used.")
        if self.left_out:
            said.append(f"Left out: {', '.join(self.left_out)}.")
        self.under.setText(" ".join(w for w in said if w))

    def _grouped(self, found: Staged | None) -> tuple[RefusedGroup, ...]:
        """Refused rows in groups, sheet by sheet: a remedy belongs to the columns of one sheet."""
        if found is None or not found.refused:
            return ()
        chosen = self._chosen()
        if not chosen:
            return grouped(found.refused)
        out: list[RefusedGroup] = []
        for k, (table, mapping) in enumerate(chosen):
            own = [
                r
                for r in found.refused
                if place_of([t for t, _ in chosen], r.line)[0] is chosen[k][0]
            ]
            out += grouped(own, table, mapping)
        return tuple(sorted(out, key=lambda g: -g.count))

    def _offer_remedy(self) -> None:
        k = self.refused.row
        words_ = self.groups[k].remedy if 0 <= k < len(self.groups) else ""
        self.remedy.setText(words_)
        self.remedy.setVisible(bool(words_))

    def _apply_remedy(self) -> None:
        k = self.refused.row
        if 0 <= k < len(self.groups) and self.groups[k].as_failed:
            self.failed_out_of_range = True
            if self.foreign:
                self._preview()
            elif self.path is not None:  # a tidy file is read again
                self._open(look_at(self.path))
            return
        if not 0 <= k < len(self.groups) or self.groups[k].mapping is None:
            return
        table, _ = place_of([t for t, _ in self._chosen()], self.groups[k].line)
        at = next((n for n, f in enumerate(self.foreign) if f.table is table), None)
        better = self.groups[k].mapping
        if at is not None and better is not None:
            self.mappings[at] = better
            self._show_table(at)
            self._preview()

    # taking
    def _save_mapping(self) -> None:
        """Write how the tables are read, for the command line."""
        if not self._chosen():
            self.message.emit("A table in the tidy format needs no mapping.", True)
            return
        path, _ = QFileDialog.getSaveFileName(
            self, "Save the mapping", "mapping.json", "Mapping (*.json)"
        )
        if not path:
            return
        try:
            written = write_mappings(Path(path), self._chosen())
        except UserError as error:
            self.message.emit(f"{error}.", True)
            return
        self.message.emit(f"Mapping written to {written}, for import --mapping.", False)

    def _take(self) -> None:
        staged = self.found
        if staged is None:
            return
        self.jobs.cancel(LOOK)
        self.take.setEnabled(False)
        self.cancel.setText("Stop and undo")
        self.headline.setText(f"Importing {self.name}…")
        self.bar.show()
        for table, mapping in self._chosen():
            remember(table.header, mapping, table.sheet)
        job = Job(f"Importing {self.name}", lambda: self.session.take(staged, self.name))
        self.jobs.start(OWNER, job, lambda _none: self._taken(), self._failed, self._progress)

    def _taken(self) -> None:
        self._rest()
        new, cards = (self.found.new, len(self.found.cards)) if self.found else (0, 0)
        self.found = None
        self.message.emit(
            f"{words.amount(new, cards)} imported from {self.name}. Undo removes them.", False
        )
        self._leave_page()

    def leave(self) -> None:
        self._give_up()
