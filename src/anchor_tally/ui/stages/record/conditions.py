"""The conditions of a visit as switches, with what a breach means."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QLineEdit, QPushButton, QVBoxLayout, QWidget

from ....domain.protocol import ANY, Condition, breaches
from ....wording.bench import condition_words
from ...widgets import Flow, label, restyle, tip


class Switch(QPushButton):
    """One condition: not noted, as planned, or broken. Space or a click goes on to the next."""

    def __init__(self, condition: Condition) -> None:
        super().__init__()
        self.condition = condition
        self.answer: str | None = None
        tip(
            self,
            f"{condition.question} Required: {condition.wanted}. If not met: {condition.breach}.",
        )

    def show_answer(self, answer: str | None) -> None:
        """Show an answer; None is not noted."""
        self.answer = answer
        c = self.condition
        state = "open" if answer is None else "broken" if c.broken_by(answer) else "kept"
        mark = {"open": "?", "kept": "✓", "broken": "✗"}[state]
        self.setText(f"{mark} {c.label}" + (f": {answer}" if c.wanted == ANY and answer else ""))
        said = {
            "open": "not noted",
            "kept": f"{answer}, as planned",
            "broken": f"{answer}, not as planned",
        }[state]
        self.setAccessibleName(f"{c.question} {said}")
        self.setProperty("condition", state)
        restyle(self)

    @property
    def following(self) -> str | None:
        """The answer after the next click."""
        c = self.condition
        return c.first if self.answer is None else c.other if self.answer == c.first else None


class Hours(QLineEdit):
    """A condition that is answered by a number of hours."""

    def __init__(self, condition: Condition) -> None:
        super().__init__()
        self.condition = condition
        self.answer: str | None = None
        self.setFixedWidth(96)
        self.setPlaceholderText(condition.label.lower())
        self.setAccessibleName(condition.question)
        tip(
            self,
            f"{condition.question} Required: {condition.wanted} or more. If not met:"
            f" {condition.breach}.",
        )

    def show_answer(self, answer: str | None) -> None:
        """Show an answer; None is not noted."""
        self.answer = answer
        if not self.hasFocus():
            self.setText("" if answer is None else f"{answer} h")
        broken = answer is not None and self.condition.broken_by(answer)
        self.setProperty("condition", "open" if answer is None else "broken" if broken else "kept")
        restyle(self)


class ConditionsBar(QWidget):
    """Switches for the conditions that the study asks for."""

    noted = pyqtSignal(tuple)

    def __init__(self) -> None:
        super().__init__()
        self.switches: list[Switch] = []
        self.hours: list[Hours] = []
        self.conditions: tuple[Condition, ...] = ()
        self.row = Flow()
        self.all = QPushButton("All as planned (F7)")
        self.all.setToolTip("Note every condition as planned; then change those that differ")
        self.all.clicked.connect(self.note_all)
        self.breach = label("", "warn", wrap=True)
        self.breach.hide()
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(3)
        box.addLayout(self.row)
        box.addWidget(self.breach)

    def build(self, conditions: Sequence[Condition]) -> None:
        """Make a switch, or a field for hours, for each of these conditions."""
        if self.conditions == tuple(conditions) and self.row.count():
            return
        while self.row.count():
            item = self.row.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None and widget is not self.all:
                widget.hide()
                widget.deleteLater()
        self.switches, self.hours, self.conditions = [], [], tuple(conditions)
        tag = label("Conditions", "faint")
        tag.setMinimumHeight(self.all.sizeHint().height())
        self.row.addWidget(tag)
        for condition in conditions:
            self.row.addWidget(
                self._hours(condition) if condition.hours else self._switch(condition)
            )
        self.row.addWidget(self.all)

    def _switch(self, condition: Condition) -> Switch:
        switch = Switch(condition)
        switch.clicked.connect(
            lambda _=False, s=switch: self.noted.emit(((s.condition.key, s.following),))
        )
        self.switches.append(switch)
        return switch

    def _hours(self, condition: Condition) -> Hours:
        field = Hours(condition)
        field.editingFinished.connect(lambda f=field: self._hours_typed(f))
        self.hours.append(field)
        return field

    def _hours_typed(self, field: Hours) -> None:
        text = field.text().strip().lower().removesuffix("h").strip().replace(",", ".")
        if text == (field.answer or ""):
            return
        try:
            known = not text or 0 <= float(text) <= 24
        except ValueError:
            known = False
        if known:
            self.noted.emit(((field.condition.key, text or None),))
        else:
            field.setProperty("condition", "broken")
            restyle(field)

    def show_answers(self, answers: dict[str, str]) -> None:
        """Show what was noted."""
        for switch in self.switches:
            switch.show_answer(answers.get(switch.condition.key))
        for field in self.hours:
            field.show_answer(answers.get(field.condition.key))
        broken = breaches(answers, self.conditions)
        self.breach.setText(" · ".join(condition_words(c) for c in broken))
        self.breach.setVisible(bool(broken))
        self.all.setVisible(any(s.answer is None for s in self.switches))

    def note_all(self) -> None:
        """Note what is not noted yet as the protocol wants it."""
        open_ = tuple(
            (s.condition.key, s.condition.first) for s in self.switches if s.answer is None
        )
        if open_:
            self.noted.emit(open_)
