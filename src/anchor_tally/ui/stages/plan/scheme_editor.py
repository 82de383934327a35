"""Rules of the calendar: a scheme to begin with, the list of rules, and one rule to edit."""

from __future__ import annotations

from collections.abc import Callable

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

from ....app.session import Session
from ....domain.errors import UserError
from ....domain.scheme import PLANNED, PRESETS, Form, SchemeRule
from ....study.edits.edit import Edit
from ....study.edits.scheme import AddRules, PutRule, RemoveRule
from ....wording.plan import WEEKDAYS, rule_words
from ...widgets import Flow, Table, label, letters_wide, paired

FORMS: tuple[tuple[Form, str, str], ...] = (
    ("every", "every … days", "a number of days: 7"),
    ("last", "… days after the last visit", "a number of days: 21"),
    ("weekdays", "on weekdays", "Mon, Thu"),
    ("scan", "around each scan", "days from the scan: -1, 0, 1"),
    ("days", "on these days", "days: 2026-03-02, 2026-03-04"),
    ("back", "counted back from the last day", "a number of days: 84"),
)


def days_of(form: str, text: str) -> tuple[int, ...] | tuple[str, ...]:
    """What was typed into the field of days. Raises UserError."""
    parts = [p.strip() for p in text.replace(";", ",").split(",") if p.strip()]
    if form == "days":
        return tuple(parts)
    if form == "weekdays":
        known = {w[:3].lower(): k for k, w in enumerate(WEEKDAYS)}
        days = [known.get(p[:3].lower()) for p in parts]
        if None in days:
            raise UserError(f'"{text[:40]}" names no weekdays such as Mon, Thu')
        return tuple(d for d in days if d is not None)
    try:
        return tuple(int(p.replace("−", "-")) for p in parts)
    except ValueError as error:
        raise UserError(f'"{text[:40]}" is not a number of days') from error


def days_text(rule: SchemeRule) -> str:
    """The days of a rule as they are typed."""
    if rule.form == "weekdays":
        return ", ".join(WEEKDAYS[int(d)][:3] for d in rule.days)
    return ", ".join(str(d) for d in rule.days)


class SchemeEditor(QWidget):
    """Rules of the calendar. ``edited`` carries an edit to make and what to say of it."""

    edited = pyqtSignal(object, str)
    trouble = pyqtSignal(str)
    closed = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.rules: tuple[SchemeRule, ...] = ()
        self._build_presets()
        self._build_rules()
        self._build_form()
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 4, 0, 0)
        box.addLayout(self.presets)
        box.addWidget(self.purpose)
        sides = QHBoxLayout()
        sides.setSpacing(16)
        sides.addLayout(self.left, 3)
        sides.addLayout(self.right, 2)
        box.addLayout(sides, 1)

    def _build_presets(self) -> None:
        self.preset, self.first = QComboBox(), QLineEdit()
        for p in PRESETS:
            self.preset.addItem(p.label, p.key)
        letters_wide(self.preset, 34)
        self.preset.setAccessibleName("Scheme to begin with")
        self.preset.currentIndexChanged.connect(lambda _k: self._say_purpose())
        self.first.setMaximumWidth(110)
        self.use, self.more = QPushButton("Use this scheme"), QPushButton("Add it to the rules")
        self.use.clicked.connect(lambda: self._use(replacing=True))
        self.more.clicked.connect(lambda: self._use(replacing=False))
        self.presets = Flow()
        self.presets.addWidget(paired("Scheme", self.preset))
        self.presets.addWidget(paired("First day", self.first, "First day of the scheme"))
        self.presets.addWidget(self.use)
        self.presets.addWidget(self.more)
        self.purpose = label("", "faint", wrap=True)

    def _build_rules(self) -> None:
        self.table = Table(["Rules of the calendar"], "Rules of the calendar", numeric_from=9)
        self.table.chosen.connect(lambda row, _c: self._show(row))
        self.remove, self.new = QPushButton("Delete"), QPushButton("New rule")
        self.remove.clicked.connect(self._remove)
        self.new.clicked.connect(self._fresh)
        self.close_button = QPushButton("Back to the calendar")
        self.close_button.clicked.connect(self.closed)
        row = Flow()
        for w in (self.new, self.remove, self.close_button):
            row.addWidget(w)
        self.left = QVBoxLayout()
        self.left.addWidget(self.table, 1)
        self.left.addLayout(row)

    def _build_form(self) -> None:
        self.title = label("New rule", "title")
        self.station, self.form, self.client = QComboBox(), QComboBox(), QComboBox()
        for key, words in PLANNED.items():
            self.station.addItem(words, key)
        for key, words, _ in FORMS:
            self.form.addItem(words, key)
        self.form.currentIndexChanged.connect(lambda _k: self._hint())
        self.days, self.starts, self.ends = QLineEdit(), QLineEdit(), QLineEdit()
        self.most, self.series, self.reason = QLineEdit(), QLineEdit(), QLineEdit()
        self.spread = QCheckBox("Clients one after the other, evenly")
        self.most.setPlaceholderText("no limit")
        self.series.setPlaceholderText("such as morning")
        self.reason.setPlaceholderText("only for scans nearer than 8 weeks")
        for field in (self.starts, self.ends):
            field.setPlaceholderText("2026-03-02")
        form = QFormLayout()
        form.setVerticalSpacing(5)
        form.setRowWrapPolicy(QFormLayout.RowWrapPolicy.WrapLongRows)
        self.fields: dict[str, QWidget] = {
            "Station": self.station,
            "When": self.form,
            "Days": self.days,
            "First day": self.starts,
            "Last day": self.ends,
            "Most visits or scans": self.most,
            "Series": self.series,
            "Client": self.client,
            "Reason": self.reason,
        }
        for words, widget in self.fields.items():
            widget.setAccessibleName(f"{words} of the rule")
            form.addRow(label(words, "faint"), widget)
        form.addRow("", self.spread)
        self.save = QPushButton("Add the rule")
        self.save.clicked.connect(self._save)
        self.right = QVBoxLayout()
        self.right.addWidget(self.title)
        self.right.addLayout(form)
        self.right.addWidget(self.save)
        self.right.addStretch(1)

    # showing
    def refresh(self) -> None:
        """Show the rules as they are now."""
        items = self.session.catalogue()
        self.rules = self.session.scheme().rules
        self.table.fill([(rule_words(r, items),) for r in self.rules])
        codes = ["all clients", *sorted(c.code for c in items.clients.values())]
        if [self.client.itemText(k) for k in range(self.client.count())] != codes:
            self.client.clear()
            for code in codes:
                found = items.client_coded(code)
                self.client.addItem(code, found.id if found is not None else None)
        if not self.first.text():
            self.first.setText(self.session.today())
        self.use.setText("Use this scheme" if not self.rules else "Replace all rules by it")
        self.more.setVisible(bool(self.rules))
        self.remove.setEnabled(bool(self.rules))
        for w in (self.use, self.more, self.remove, self.save):
            w.setEnabled(not self.session.read_only)
        self._say_purpose()
        if not self.rules or not 0 <= self.table.row < len(self.rules):
            self._fresh()

    def _say_purpose(self) -> None:
        preset = PRESETS[max(self.preset.currentIndex(), 0)]
        self.purpose.setText(preset.purpose)

    def _hint(self) -> None:
        self.days.setPlaceholderText(FORMS[max(self.form.currentIndex(), 0)][2])

    def _fresh(self) -> None:
        """An empty form."""
        self.number = 0
        self.title.setText("New rule")
        self.save.setText("Add the rule")
        for field in (self.days, self.ends, self.most, self.series, self.reason):
            field.clear()
        self.starts.setText(self.session.today())
        self.client.setCurrentIndex(0)
        self.spread.setChecked(False)
        self._hint()

    def _show(self, row: int) -> None:
        if not 0 <= row < len(self.rules):
            return
        r = self.rules[row]
        self.number = r.id
        self.title.setText("Change the rule")
        self.save.setText("Save the rule")
        self.station.setCurrentIndex(self.station.findData(r.station))
        self.form.setCurrentIndex(self.form.findData(r.form))
        self.days.setText(days_text(r))
        self.starts.setText(r.starts)
        self.ends.setText(r.ends)
        self.most.setText("" if r.most is None else str(r.most))
        self.series.setText(r.label)
        self.reason.setText(r.reason)
        self.client.setCurrentIndex(max(self.client.findData(r.client), 0))
        self.spread.setChecked(r.spread)

    # writing
    def _try(self, make: Callable[[], Edit], said: str) -> None:
        try:
            self.edited.emit(make(), said)
        except (UserError, ValueError) as error:
            self.trouble.emit(f"{error}; nothing was changed.")

    def _use(self, *, replacing: bool) -> None:
        preset = PRESETS[max(self.preset.currentIndex(), 0)]

        def make() -> Edit:
            try:
                rules = preset.rules(self.first.text().strip())
            except ValueError as error:
                raise UserError(
                    f'"{self.first.text()[:40]}" is not a day such as 2026-03-02'
                ) from error
            return AddRules(rules, replacing)

        self._try(make, f"{preset.label}: in the calendar. Undo takes it back.")

    def _rule(self) -> SchemeRule:
        form = self.form.currentData()
        most = self.most.text().strip()
        if most and not most.isdecimal():
            raise UserError(f'"{most[:40]}" is not a whole number of visits')
        return SchemeRule(
            self.number,
            self.client.currentData(),
            self.station.currentData(),
            form,
            days_of(form, self.days.text()),
            self.starts.text().strip(),
            self.ends.text().strip(),
            int(most) if most else None,
            self.series.text(),
            self.spread.isChecked(),
            self.reason.text(),
        )

    def _save(self) -> None:
        new = self.number == 0
        self._try(
            lambda: AddRules((self._rule(),)) if new else PutRule(self._rule()),
            "The rule is in the calendar." if new else "The rule is changed.",
        )

    def _remove(self) -> None:
        if 0 <= self.table.row < len(self.rules):
            rule = self.rules[self.table.row]
            self._try(lambda: RemoveRule(rule.id), "The rule is deleted. Undo takes it back.")
