"""The conditions of a visit as switches, with what a breach means."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from ....domain.protocol import BY_KEY, Condition, breaches
from ....wording.bench import condition_words
from ...widgets import Flow, label, restyle, tip


class Switch(QPushButton):
    """One condition: not noted, as wanted, or broken. Space or a click goes on to the next."""

    def __init__(self, condition: Condition) -> None:
        super().__init__()
        self.condition = condition
        self.answer: str | None = None
        tip(self, f"{condition.question} The protocol wants: {condition.wanted}. Otherwise {condition.breach}.")

    def show_answer(self, answer: str | None) -> None:
        """Show an answer; None is not noted."""
        self.answer = answer
        c = self.condition
        state = "open" if answer is None else "kept" if answer == c.wanted else "broken"
        mark = {"open": "?", "kept": "✓", "broken": "✗"}[state]
        self.setText(f"{mark} {c.label}")
        said = {"open": "not noted", "kept": f"{answer}, as wanted", "broken": f"{answer}, against the protocol"}[state]
        self.setAccessibleName(f"{c.question} {said}")
        self.setProperty("condition", state)
        restyle(self)

    @property
    def following(self) -> str | None:
        """The answer after the next click."""
        return (
            self.condition.wanted
            if self.answer is None
            else self.condition.other
            if self.answer == self.condition.wanted
            else None
        )


class ConditionsBar(QWidget):
    """Switches for the conditions that the study asks for."""

    noted = pyqtSignal(tuple)

    def __init__(self) -> None:
        super().__init__()
        self.switches: list[Switch] = []
        self.row = Flow()
        self.all = QPushButton("All as wanted (F7)")
        self.all.setToolTip("Note every condition as the protocol wants it; then change those that are not so")
        self.all.clicked.connect(self.note_all)
        self.breach = label("", "warn", wrap=True)
        self.breach.hide()
        box = QVBoxLayout(self)
        box.setContentsMargins(0, 0, 0, 0)
        box.setSpacing(3)
        box.addLayout(self.row)
        box.addWidget(self.breach)

    def build(self, keys: Sequence[str]) -> None:
        """Make switches for these conditions."""
        if [s.condition.key for s in self.switches] == list(keys):
            return
        while self.row.count():
            item = self.row.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None and widget is not self.all:
                widget.hide()
                widget.deleteLater()
        self.switches = []
        tag = label("Conditions", "faint")
        tag.setMinimumHeight(self.all.sizeHint().height())
        self.row.addWidget(tag)
        for key in keys:
            switch = Switch(BY_KEY[key])
            switch.clicked.connect(lambda _=False, s=switch: self.noted.emit(((s.condition.key, s.following),)))
            self.switches.append(switch)
            self.row.addWidget(switch)
        self.row.addWidget(self.all)

    def show_answers(self, answers: dict[str, str]) -> None:
        """Show what was noted."""
        for switch in self.switches:
            switch.show_answer(answers.get(switch.condition.key))
        broken = breaches(answers)
        self.breach.setText(" · ".join(condition_words(c) for c in broken))
        self.breach.setVisible(bool(broken))
        self.all.setVisible(any(s.answer is None for s in self.switches))

    def note_all(self) -> None:
        """Note what is not noted yet as the protocol wants it."""
        open_ = tuple((s.condition.key, s.condition.wanted) for s in self.switches if s.answer is None)
        if open_:
            self.noted.emit(open_)
