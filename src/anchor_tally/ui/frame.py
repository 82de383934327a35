"""The frame of the window, from QtWidgets alone.

Stage rail, places for lens bar, page and drawer, footer.
"""

from __future__ import annotations

from collections.abc import Mapping

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import (
    QButtonGroup,
    QHBoxLayout,
    QLabel,
    QProgressBar,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from ..app.actions import ACTION, STAGES
from ..domain.text import as_sentence
from .widgets import label, restyle, tip

OLD_MS = 20_000  # after which a message is about the past
TOOLS = ("find", "import", "export", "open", "dark", "menu")


def action_button(action: str) -> QPushButton:
    """A button of an action of the table, with its words and key."""
    a = ACTION[action]
    out = QPushButton(a.words)
    tip(out, f"{a.words} ({a.keys})" if a.keys else a.words)
    return out


class Rail(QWidget):
    """The stages in the order of the work, and the tools of the study below them."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("rail")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(148)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 12, 0, 12)
        column.setSpacing(2)
        column.addWidget(label("  Anchor Tally", "title"))
        column.addSpacing(10)
        self.stages: dict[str, QPushButton] = {}
        self._group = QButtonGroup(self)
        for k, stage in enumerate(STAGES, start=1):
            button = QPushButton(f"{k}  {stage.label}")
            button.setCheckable(True)
            button.setEnabled(False)
            tip(
                button,
                (
                    f"{stage.purpose} (Ctrl+{k})"
                    if stage.built
                    else f"{stage.purpose}: not in this version"
                ),
            )
            button.setAccessibleName(stage.label)
            self._group.addButton(button)
            column.addWidget(button)
            self.stages[stage.id] = button
        column.addStretch(1)
        self.tools = {key: action_button(key) for key in TOOLS}
        for button in self.tools.values():
            column.addWidget(button)

    def show_marks(self, marks: Mapping[str, tuple[int, str]]) -> None:
        """Show the number of findings beside each stage."""
        for k, stage in enumerate(STAGES, start=1):
            n, why = marks.get(stage.id, (0, ""))
            button = self.stages[stage.id]
            button.setText(f"{k}  {stage.label}" + (f" · {n}" if n else ""))
            if stage.built:
                tip(button, f"{stage.purpose} (Ctrl+{k})" + (f". {why}" if why else ""))
                button.setAccessibleName(stage.label)
                button.setAccessibleDescription(why)

    def mark(self, stage: str) -> None:
        """Mark the stage that is shown; none when a page outside the stages is."""
        self._group.setExclusive(False)
        for key, button in self.stages.items():
            button.setChecked(key == stage)
        self._group.setExclusive(True)


class Footer(QWidget):
    """Where the file is, the last message, what runs, undo and redo."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("footer")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        row = QHBoxLayout(self)
        row.setContentsMargins(16, 5, 16, 5)
        self.place = label("", "faint")
        self.said = label("")
        self.said.setAccessibleName("Message")
        self.said.setMinimumWidth(60)
        self.runs = label("", "faint")
        self.runs.setAccessibleName("Running work")
        self.bar = QProgressBar()
        self.bar.setAccessibleName("Progress")
        self.bar.setTextVisible(False)
        self.bar.setFixedWidth(110)
        self.cancel = QPushButton("Cancel")
        self.cancel.setAccessibleName("Cancel the running work")
        self.take_over, self.copy = action_button("take_over"), action_button("copy")
        self.take_over.setText("Write here")
        self.undo, self.redo = action_button("undo"), action_button("redo")
        self.next, self._due = action_button("next"), ""
        row.addWidget(self.place)
        row.addSpacing(12)
        row.addWidget(self.said, 1)
        for w in (
            self.runs,
            self.bar,
            self.cancel,
            self.copy,
            self.take_over,
            self.next,
            self.undo,
            self.redo,
        ):
            row.addWidget(w)
        for w in (self.copy, self.take_over, self.next):
            w.hide()
        self._old = QTimer(self)
        self._old.setSingleShot(True)
        self._old.setInterval(OLD_MS)
        self._old.timeout.connect(self.forget)
        self.rest()

    def say(self, text: str, *, trouble: bool) -> None:
        """Show a message in place.

        Trouble stays until something else is said, the rest goes when it is old.
        """
        if trouble:
            text = as_sentence(text)
        if text and not trouble:
            self._old.start()
        else:
            self._old.stop()
        self.said.setObjectName("warn" if trouble else "")
        self.said.setText(text)
        tip(self.said, text)
        restyle(self.said)
        self._make_room()

    def show_next(self, words: str) -> None:
        """Show what is due next; nothing where nothing is planned."""
        self._due = words
        self.next.setText(words)
        self._make_room()

    def _make_room(self) -> None:
        """Let a message be read to its end: the file's name gives way to it, then what is next.

        One that is longer than the footer takes a second line.
        """
        row = self.layout()
        if row is None:
            return
        gap, ends = row.spacing(), row.contentsMargins()
        others = (self.runs, self.bar, self.cancel, self.copy, self.take_over, self.undo, self.redo)
        rest = self.width() - ends.left() - ends.right() - 12 - 2 * gap
        rest -= sum(w.sizeHint().width() + gap for w in others if not w.isHidden())
        wanted = self.said.fontMetrics().horizontalAdvance(self.said.text()) + 4
        self.said.setWordWrap(wanted > rest)
        following = self.next.sizeHint().width() + gap if self._due else 0
        self.place.setVisible(wanted + following + self.place.sizeHint().width() <= rest)
        self.next.setVisible(0 < following <= rest - wanted)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._make_room()

    def forget(self) -> None:
        """Clear the last message."""
        self.say("", trouble=False)

    def run(self, words: str, share: object) -> None:
        """Show what runs."""
        self.runs.setText(words)
        known = isinstance(share, float)
        self.bar.setRange(0, 1000 if known else 0)
        if isinstance(share, float):
            self.bar.setValue(int(1000 * share))
        for w in (self.runs, self.bar, self.cancel):
            w.show()
        self._make_room()

    def rest(self) -> None:
        """Nothing runs."""
        for w in (self.runs, self.bar, self.cancel):
            w.hide()
        self._make_room()


class Waiting(QWidget):
    """Shown instead of a page while a study is opened, or when none could be: why, and remedy."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("page")
        self.words = label("Opening the study…", "headline", wrap=True)
        self.words.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.offers = {key: action_button(key) for key in ("open", "new", "demo")}
        row = QHBoxLayout()
        row.addStretch(1)
        for button in self.offers.values():
            row.addWidget(button)
            button.hide()
        row.addStretch(1)
        box = QVBoxLayout(self)
        box.setContentsMargins(60, 40, 60, 40)
        box.addStretch(2)
        box.addWidget(self.words)
        box.addSpacing(16)
        box.addLayout(row)
        box.addStretch(3)

    def tell(self, text: str, *, offers: bool) -> None:
        """Say something, with or without offers."""
        self.words.setText(text)
        for button in self.offers.values():
            button.setVisible(offers)


class Frame(QWidget):
    """Rail, lens bar, page, drawer and footer, each in its place."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("work")
        self.rail, self.footer, self.waiting = Rail(), Footer(), Waiting()
        self.stack = QStackedWidget()
        self.stack.addWidget(self.waiting)
        self._lens_place: QLabel | QWidget = label("  ")
        self._lens_place.setObjectName("lens")
        self._lens_place.setFixedHeight(44)
        self._case: QWidget | None = None
        self._middle = QHBoxLayout()
        self._middle.setSpacing(0)
        self._middle.addWidget(self.stack, 1)
        self._right = QVBoxLayout()
        self._right.setSpacing(0)
        self._right.addWidget(self._lens_place)
        self._right.addLayout(self._middle, 1)
        self._right.addWidget(self.footer)
        whole = QHBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addWidget(self.rail)
        whole.addLayout(self._right, 1)

    def put_lens(self, bar: QWidget) -> None:
        """Put a lens bar in its place."""
        self._right.replaceWidget(self._lens_place, bar)
        self._lens_place.hide()
        self._lens_place.deleteLater()
        self._lens_place = bar

    def put_case(self, bar: QWidget | None) -> None:
        """Put the strip of a training case above the footer, in the place of one before."""
        if self._case is not None:
            self._case.hide()
            self._case.deleteLater()
        self._case = bar
        if bar is not None:
            self._right.insertWidget(self._right.count() - 1, bar)

    def put_drawer(self, drawer: QWidget) -> None:
        """Put the drawer beside the page."""
        self._middle.addWidget(drawer)
