"""Report: choose a document, see its pages, and write, print or copy them."""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import dataclass, replace

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeySequence, QShortcut
from PyQt6.QtPrintSupport import QPrintDialog, QPrinter
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from ....analysis.agreement.claims import Claim
from ....analysis.people.withheld import withheld
from ....app.documents import KIND, KINDS, Choice, Kind, Make
from ....app.jobs import Job
from ....domain.errors import UserError
from ....domain.lens import Lens
from ....domain.text import as_sentence
from ....exchange.result_table import ResultTable
from ....exchange.writing import replacing
from ....figures.style import Palette
from ....reports.document import Document, FigureBlock, Section, TableBlock
from ....reports.render import as_html, as_pdf
from ....reports.study_report import CHECKLIST, CHECKLIST_TITLE, PARTS
from ....wording.numbers import count
from ...file_names import target_of
from ...pages import Page, Surroundings
from ...saving import copy_table, save_figure, save_table
from ...widgets import Flow, label, letters_wide, paired, tip
from .preview import PagesView

WHOLE = ""  # the section key of the whole document
PAPERS = ("A4", "Letter")
_FORMS = {"PDF (*.pdf)": ".pdf", "HTML in one file (*.html)": ".html"}
KEY, BLOCK = Qt.ItemDataRole.UserRole, Qt.ItemDataRole.UserRole + 1
WAITING = "Making the pages…"


@dataclass(frozen=True, eq=False, slots=True)
class Made:
    """A document that was made: its data, its pages, and what makes its other sections."""

    document: Document
    content: bytes
    make: Make


class ReportStage(Page):
    """The documents of a study, as pages; ``written`` is sent when a file is there."""

    written = pyqtSignal()

    def __init__(self, around: Surroundings) -> None:
        super().__init__(around)
        self.now: tuple[Lens, int] | None = None
        self.makers: dict[object, Make] = {}
        self.kept: dict[object, Made] = {}  # by document and section, of the study as it is now
        self.made: Made | None = None
        self.off: set[str] = set()  # sections of the report that are switched off
        self.kind = QComboBox()
        for k in KINDS:
            self.kind.addItem(k.label, k.key)
        self.subject = QComboBox()
        letters_wide(self.subject, 16)
        letters_wide(self.kind, 24)
        self.paper = QComboBox()
        self.paper.addItems(PAPERS)
        self.fat = QCheckBox("Body fat and body mass")
        self.fat.setChecked(True)
        self.name = QCheckBox("Name of the client")
        self.ranges = QCheckBox("Ranges of a published table")
        self.correlation, self.repeatability = QLineEdit("0.95"), QLineEdit()
        self.correlation.setMaximumWidth(70)
        self.repeatability.setMaximumWidth(70)
        self.sections = QTreeWidget()
        self.sections.setHeaderHidden(True)
        self.sections.setAccessibleName("Sections, figures and tables")
        self.sections.setUniformRowHeights(True)
        self.copy_, self.save_ = QPushButton("&Copy table"), QPushButton("Sa&ve…")
        tip(self.copy_, "Copy the selected table for a spreadsheet or a word processor")
        tip(self.save_, "Save the selected figure or table as a file")
        self.export = QPushButton("&Export document…")
        self.export.setObjectName("primary")
        self.print = QPushButton("&Print…")
        self.headline = label(WAITING, "headline", wrap=True)
        self.under = label("", "warn", wrap=True)
        self.view = PagesView()
        self.view.set_palette(self.colours)
        self.zooms = tuple(QPushButton(t) for t in ("Fit &width", "−", "+"))
        for button, name in zip(self.zooms, ("Fit width", "Smaller", "Larger"), strict=True):
            button.setAccessibleName(name)
        self._lay_out()
        self._connect()

    def _lay_out(self) -> None:
        left = QWidget()
        left.setFixedWidth(312)
        column = QVBoxLayout(left)
        column.setContentsMargins(0, 0, 8, 0)
        self.of_subject = paired("&Client", self.subject)
        self.claims = QWidget()
        claims = QVBoxLayout(self.claims)
        claims.setContentsMargins(0, 0, 0, 0)
        for text, field in (
            ("Claimed co&rrelation", self.correlation),
            ("Claimed repeata&bility", self.repeatability),
        ):
            claims.addWidget(paired(text, field))
        tip(self.repeatability, "Largest difference of two readings minutes apart")
        for w in (
            paired("D&ocument", self.kind),
            self.of_subject,
            self.claims,
            self.fat,
            self.name,
            self.ranges,
            paired("Pa&per size", self.paper),
        ):
            column.addWidget(w)
        column.addWidget(self.sections, 1)
        chosen = Flow(6)
        for button in (self.copy_, self.save_):
            chosen.addWidget(button)
        column.addLayout(chosen)
        whole = Flow(6)
        for button in (self.export, self.print):
            whole.addWidget(button)
        column.addLayout(whole)
        top = QHBoxLayout()
        top.addWidget(self.headline, 1)
        for button in self.zooms:
            top.addWidget(button)
        right = QVBoxLayout()
        right.addLayout(top)
        right.addWidget(self.under)
        right.addWidget(self.view, 1)
        self.spare = QWidget()
        right.addWidget(self.spare, 1)
        self.spare.hide()
        box = QHBoxLayout(self)
        box.setContentsMargins(16, 10, 16, 10)
        box.addWidget(left)
        box.addLayout(right, 1)

    def _connect(self) -> None:
        self.kind.activated.connect(self._kind_chosen)
        for box in (self.subject, self.paper):
            box.activated.connect(self.ask)
        for check in (self.fat, self.name, self.ranges):
            check.toggled.connect(self.ask)
        for field in (self.correlation, self.repeatability):
            field.editingFinished.connect(self._claim_typed)
        self.sections.currentItemChanged.connect(self._item_chosen)
        self.sections.itemChanged.connect(self._checked)
        self.copy_.clicked.connect(self.copy_table)
        self.save_.clicked.connect(self.save_block)
        self.export.clicked.connect(self.ask_export)
        self.print.clicked.connect(self.ask_print)
        fit, smaller, larger = self.zooms
        fit.clicked.connect(self.view.fit_width)
        smaller.clicked.connect(lambda: self.view.zoom(larger=False))
        larger.clicked.connect(lambda: self.view.zoom(larger=True))
        for keys, bigger in (("Ctrl++", True), ("Ctrl+=", True), ("Ctrl+-", False)):
            short = QShortcut(QKeySequence(keys), self)
            short.activated.connect(lambda bigger=bigger: self.view.zoom(larger=bigger))

    # what is asked
    def chosen_kind(self) -> Kind:
        """The kind of document."""
        return KIND[str(self.kind.currentData())]

    def refresh(self) -> None:
        now = (self.session.lens, self.session.edits)
        if now == self.now and self.made is not None:
            return
        first, self.now = self.now is None, now
        self.makers, self.kept = {}, {}
        self._fill_subjects()
        if first:
            self._fill_sections()
        else:
            self.ask()

    def take_client(self, code: str) -> None:
        k = self.subject.findText(code)
        if self.chosen_kind().about == "client" and k >= 0 and k != self.subject.currentIndex():
            self.subject.setCurrentIndex(k)
            self.ask()

    def _fill_subjects(self) -> None:
        about, before = self.chosen_kind().about, self.subject.currentText()
        items = self.session.catalogue()
        if about == "client":
            names = sorted(c.code for c in items.clients.values())
        else:
            names = [i.name for i in items.instruments.values() if i.kind == "device"]
            adopted = {r.instrument for r in self.session.calibrations()}
            names.sort(key=lambda n: n not in adopted)  # those that have a certificate first
        self.subject.clear()
        self.subject.addItems(names)
        self.subject.setCurrentIndex(max(self.subject.findText(before), 0))

    def _kind_chosen(self) -> None:
        self._fill_subjects()
        self._fill_sections()

    def _fill_sections(self) -> None:
        kind = self.chosen_kind()
        self.of_subject.setVisible(kind.about != "study")
        tag = self.of_subject.findChild(type(self.under))
        if tag is not None:
            tag.setText("&Client" if kind.about == "client" else "&Device")
        self.claims.setVisible(kind.key == "claims")
        for check in (self.fat, self.name, self.ranges):
            check.setVisible(kind.key == "client")
        self.sections.blockSignals(True)
        self.sections.clear()
        whole = QTreeWidgetItem([f"Whole {kind.label.lower()}" if kind.parts else "All pages"])
        whole.setData(0, KEY, WHOLE)
        self.sections.addTopLevelItem(whole)
        if kind.parts:
            for key, title in (*((p.key, p.title) for p in PARTS), (CHECKLIST, CHECKLIST_TITLE)):
                item = QTreeWidgetItem([title])
                item.setData(0, KEY, key)
                item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
                state = Qt.CheckState.Unchecked if key in self.off else Qt.CheckState.Checked
                item.setCheckState(0, state)
                self.sections.addTopLevelItem(item)
        self.sections.setCurrentItem(self.sections.topLevelItem(int(kind.parts)))
        self.sections.blockSignals(False)
        self.ask()

    def section(self) -> str:
        """The key of the section that is shown; WHOLE for all pages."""
        item = self.sections.currentItem()
        while item is not None and item.parent() is not None:
            item = item.parent()
        return WHOLE if item is None else str(item.data(0, KEY) or "")

    def _number(self, field: QLineEdit) -> float | None:
        text = field.text().strip().replace(",", ".").replace("−", "-")
        try:
            return float(text) if text else None
        except ValueError:
            raise UserError(f'"{text[:20]}" is not a number') from None

    def choice(self) -> Choice:
        """What is chosen. Raises UserError where a claim is no number."""
        claims = self.chosen_kind().key == "claims"
        return Choice(
            self.session.lens,
            "" if self.chosen_kind().about == "study" else self.subject.currentText(),
            self.paper.currentText(),
            self.fat.isChecked(),
            self.name.isChecked(),
            self.ranges.isChecked(),
            Claim(self._number(self.correlation), self._number(self.repeatability))
            if claims
            else None,
        )

    def _claim_typed(self) -> None:
        if self.correlation.isModified() or self.repeatability.isModified():
            self.correlation.setModified(False)
            self.repeatability.setModified(False)
            self.ask()

    def keys_of(self, section: str) -> frozenset[str] | None:
        """The sections of the pages: one alone, or all that are switched on."""
        if not self.chosen_kind().parts:
            return None
        if section != WHOLE:
            return frozenset({section})
        return frozenset({p.key for p in PARTS} | {CHECKLIST}) - self.off

    def ask(self) -> None:
        """Make the pages of what is chosen, or show them where they are made already."""
        kind = self.chosen_kind()
        try:
            choice = self.choice()
        except UserError as error:
            self._failed(str(error))
            return
        section = self.section()
        wanted = self.keys_of(section)
        key = (kind.key, choice, wanted)
        if key in self.kept:
            self.jobs.cancel("report")
            self._show(self.kept[key])
            return
        whole = (kind.key, choice)
        ready, session = self.makers.get(whole), self.session

        def here() -> Generator[float, None, Make]:
            if ready is not None:
                return ready
            return (yield from kind.collect(session, choice))

        def away(make: Make) -> Generator[float, None, Made]:
            document = yield from make(wanted)
            if kind.parts and section != WHOLE:
                document = replace(document, contents=False)
            yield 0.6
            return Made(document, as_pdf(document), make)

        def done(made: Made) -> None:
            self.makers[whole] = made.make
            self.kept[key] = made
            self._show(made)

        self.headline.setText(WAITING)
        for button in (self.export, self.print, self.copy_, self.save_):
            button.setEnabled(False)
        self.jobs.start(
            "report", Job(f"Making the {kind.label.lower()}", here, away), done, self._failed
        )

    # what is shown
    def _failed(self, text: str) -> None:
        self.made = None
        text = text.removesuffix("; nothing was written")
        self.headline.setText(as_sentence(text))
        self.under.setText(self._remedy())
        self.under.setVisible(bool(self.under.text()))
        self.view.hide()
        self.spare.show()
        for button in (self.export, self.print, self.copy_, self.save_):
            button.setEnabled(False)
        self.shown.emit()

    def _remedy(self) -> str:
        if self.chosen_kind().key in ("certificate", "card"):
            return "Adopt an offset in Calibrate first, or choose another device."
        return ""

    def _show(self, made: Made) -> None:
        self.made = made
        self.spare.hide()
        self.view.show()
        pages = self.view.show_pages(made.content)
        kind = self.chosen_kind()
        part = next((p.title for p in PARTS if p.key == self.section()), "")
        part = CHECKLIST_TITLE if self.section() == CHECKLIST else part
        what = f"{kind.label}, {part}" if kind.parts and part else kind.label
        self.headline.setText(f"{what}: {count(pages, 'page')}")
        told = [*made.document.told]
        client = self.session.catalogue().client_coded(self.subject.currentText())
        if kind.about == "client" and withheld(client, "body_fat_percent", on_page=True):
            told.append("Body fat is left out of this client's page.")
        if kind.parts and not made.document.sections:
            told.append("The study cannot answer this question with the present filters.")
        self.under.setText(" ".join(told))
        self.under.setVisible(bool(told))
        self._fill_blocks(made.document)
        self.export.setEnabled(True)
        self.print.setEnabled(True)
        self._enable()
        self.shown.emit()

    def _fill_blocks(self, document: Document) -> None:
        """Figures and tables of the sections that were made, under each of them."""
        made = {s.key: s for s in document.sections}
        self.sections.blockSignals(True)
        tops = [self.sections.topLevelItem(k) for k in range(self.sections.topLevelItemCount())]
        for item in tops:
            if item is None:
                continue
            key = str(item.data(0, KEY))
            if self.chosen_kind().parts:
                if key in made:
                    self._put(item, made[key])
            else:
                item.takeChildren()
                for s in document.sections:
                    self._put(item, s, add=True)
                item.setExpanded(True)
        for item in tops:  # those of the section that is shown
            if item is not None and self.chosen_kind().parts:
                item.setExpanded(str(item.data(0, KEY)) == self.section() != WHOLE)
        self.sections.blockSignals(False)

    def _put(self, item: QTreeWidgetItem, section: Section, *, add: bool = False) -> None:
        blocks = [b for b in section.blocks if isinstance(b, FigureBlock | TableBlock)]
        if not add and item.childCount() == len(blocks):
            for k, b in enumerate(blocks):  # the selected one stays selected
                child = item.child(k)
                if child is not None:
                    child.setData(0, BLOCK, b)
            return
        if not add:
            item.takeChildren()
        for b in blocks:
            kind = "Figure" if isinstance(b, FigureBlock) else "Table"
            child = QTreeWidgetItem([f"{kind}: {b.caption}"])
            child.setToolTip(0, b.caption)
            child.setData(0, BLOCK, b)
            item.addChild(child)

    def block(self) -> FigureBlock | TableBlock | None:
        """The selected figure or table."""
        item = self.sections.currentItem()
        found = None if item is None else item.data(0, BLOCK)
        return found if isinstance(found, FigureBlock | TableBlock) else None

    def _enable(self) -> None:
        found = self.block()
        self.copy_.setEnabled(isinstance(found, TableBlock))
        self.save_.setEnabled(found is not None)
        self.save_.setText("Sa&ve figure…" if isinstance(found, FigureBlock) else "Sa&ve table…")

    def _item_chosen(self) -> None:
        if self.block() is None or (
            self.made is not None and self.section() not in ("", *self._shown_keys())
        ):
            self.ask()
        else:
            self._enable()

    def _shown_keys(self) -> tuple[str, ...]:
        return () if self.made is None else tuple(s.key for s in self.made.document.sections)

    def _checked(self, item: QTreeWidgetItem) -> None:
        key = str(item.data(0, KEY) or "")
        if item.parent() is None and key:
            if item.checkState(0) == Qt.CheckState.Checked:
                self.off.discard(key)
            else:
                self.off.add(key)
            if self.section() == WHOLE:
                self.ask()

    # what is done with it
    def copy_table(self) -> None:
        """Copy the selected table."""
        found = self.block()
        if isinstance(found, TableBlock):
            copy_table(ResultTable(found.caption, found.heads, found.rows))
            self.message.emit("Table copied.", False)

    def save_block(self) -> None:
        """Ask for a file and write the selected figure or table."""
        found = self.block()
        if isinstance(found, FigureBlock):
            save_figure(self, found.figure.key, found.figure.at)
        elif isinstance(found, TableBlock):
            save_table(self, ResultTable(found.caption, found.heads, found.rows))

    def ask_export(self) -> None:
        """Ask for a file and write the document that is chosen, with the sections switched on."""
        if self.made is None:
            return
        name = "-".join(self.chosen_kind().label.lower().replace(",", "").split())
        path, form = QFileDialog.getSaveFileName(
            self, "Export document", f"{name}.pdf", ";;".join(_FORMS)
        )
        if not path:
            return
        target, refused = target_of(path, _FORMS[form], _FORMS.values())
        if refused:
            self.message.emit(refused, True)
            return
        made, html = self.made, target.suffix.lower() == ".html"
        wanted = self.keys_of(WHOLE)
        shown = self.section() == WHOLE or not self.chosen_kind().parts

        def away(_: object) -> Generator[float, None, None]:
            yield 0.1
            document = made.document if shown else (yield from made.make(wanted))
            if html:
                content = as_html(document).encode()
            else:
                content = made.content if shown else as_pdf(document)
            with replacing(target) as part:
                part.write_bytes(content)

        def here() -> Generator[float, None, None]:
            yield 0.0

        def written(_: object) -> None:
            self.message.emit(f"Written to {target}.", False)
            self.written.emit()

        self.jobs.start(
            "export",
            Job(f"Writing {target.name}", here, away),
            written,
            lambda text: self.message.emit(f"{text}.", True),
        )

    def ask_print(self) -> None:
        """Print the pages that are shown."""
        printer = QPrinter(QPrinter.PrinterMode.HighResolution)
        printer.setFullPage(True)
        if QPrintDialog(printer, self).exec():
            self.message.emit(f"{count(self.view.print_on(printer), 'page')} printed.", False)

    def set_palette(self, palette: Palette) -> None:
        super().set_palette(palette)
        self.view.set_palette(palette)
