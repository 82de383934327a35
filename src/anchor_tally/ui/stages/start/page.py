"""Start page: what to do with a study that has no data yet, and the guided set-up."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QStackedWidget, QVBoxLayout, QWidget

from ....app import set_up
from ....app.actions import ACTION
from ....app.set_up import Answers
from ....domain.errors import UserError
from ....domain.text import as_sentence
from ...pages import Page, Surroundings
from ...widgets import label, tip
from .steps import ClientsStep, ConditionsStep, DevicesStep, PurposeStep, ScanStep, Step

WELCOME = (
    "Anchor Tally compares scales and field methods with scans, and says what to add or subtract."
)


class StartPage(Page):
    """Offers while a study is empty; *Set up this study* leads through at most five steps."""

    recent_wanted = pyqtSignal(object)

    def __init__(self, around: Surroundings) -> None:
        super().__init__(around)
        self.stack = QStackedWidget()
        self.offers = QWidget()
        self.recent = QVBoxLayout()
        self.set_up = QPushButton("&Set up this study")
        self.set_up.setObjectName("primary")
        self.set_up.clicked.connect(self.begin)
        tip(self.set_up, "Devices, scan, clients and conditions in five short steps")
        self.others = {
            key: QPushButton(words)
            for key, words in (
                ("import", "Import a spreadsheet…"),
                ("new", "New study…"),
                ("open", "Open a study…"),
                ("demo", "Open the demo study"),
            )
        }
        for key, button in self.others.items():
            tip(button, " · ".join(x for x in (ACTION[key].words, ACTION[key].keys) if x))
            button.clicked.connect(lambda _=False, k=key: self.acted.emit(k))
        box = QVBoxLayout(self.offers)
        box.setContentsMargins(0, 40, 0, 0)
        box.addWidget(label("This study has no data yet.", "headline"))
        box.addWidget(label(WELCOME, "faint", wrap=True))
        box.addSpacing(14)
        for w in (self.set_up, *self.others.values()):
            w.setMinimumWidth(260)
            box.addWidget(w, 0, Qt.AlignmentFlag.AlignLeft)
        box.addSpacing(14)
        self.recent_title = label("Recent studies", "strong")
        box.addWidget(self.recent_title)
        box.addLayout(self.recent)
        box.addStretch(1)
        self.steps: tuple[Step, ...] = ()
        self.guide = QWidget()
        self.stack.addWidget(self.offers)
        self.stack.addWidget(self.guide)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(24, 16, 24, 12)
        whole.addWidget(self.stack)

    def show_recent(self, paths: list[Path]) -> None:
        """List the studies that were opened last."""
        while (item := self.recent.takeAt(0)) is not None:
            old = item.widget()
            if old is not None:
                old.deleteLater()
        self.recent_title.setVisible(bool(paths))
        for path in paths[:5]:
            button = QPushButton(path.stem)
            button.setObjectName("tab")
            tip(button, str(path))
            button.clicked.connect(lambda _=False, p=path: self.recent_wanted.emit(p))
            self.recent.addWidget(button, 0, Qt.AlignmentFlag.AlignLeft)

    def refresh(self) -> None:
        if self.stack.currentWidget() is self.offers:
            self.set_up.setFocus()
        self.set_up.setEnabled(not self.session.read_only)
        self.others["import"].setEnabled(not self.session.read_only)

    # the guided set-up
    def begin(self) -> None:
        """Begin the guided set-up."""
        if not self.steps:
            self._build()
        self.go_step(0)
        self.stack.setCurrentWidget(self.guide)
        self.steps[0].first_field().setFocus()

    def _build(self) -> None:
        self.purpose, self.devices, self.scan = PurposeStep(), DevicesStep(), ScanStep()
        self.clients, self.conditions = ClientsStep(), ConditionsStep()
        self.steps = (self.purpose, self.devices, self.scan, self.clients, self.conditions)
        self.progress, self.question = label("", "faint"), label("", "headline", wrap=True)
        self.hint, self.trouble = label("", "faint", wrap=True), label("", "warn", wrap=True)
        self.pages = QStackedWidget()
        for step in self.steps:
            self.pages.addWidget(step)
            step.done.connect(self.forward)
        self.purpose.chosen.connect(self._preset)
        self._preset(self.purpose.purpose())
        self.back, self.next = QPushButton("Back"), QPushButton("Next")
        self.skip, self.stop = QPushButton("Skip this step"), QPushButton("Cancel")
        self.next.setObjectName("primary")
        self.next.setDefault(True)
        self.next.setShortcut("Ctrl+Return")
        tip(self.next, "Next step (Ctrl+Enter)")
        for button, do in (
            (self.back, lambda: self.go_step(self.at - 1)),
            (self.next, self.forward),
            (self.skip, self._skip),
            (self.stop, lambda: self.stack.setCurrentWidget(self.offers)),
        ):
            button.clicked.connect(lambda _=False, do=do: do())
        row = QHBoxLayout()
        for button in (self.back, self.next, self.skip):
            row.addWidget(button)
        row.addStretch(1)
        row.addWidget(self.stop)
        box = QVBoxLayout(self.guide)
        box.setContentsMargins(0, 0, 0, 0)
        for w in (self.progress, self.question, self.hint):
            box.addWidget(w)
        box.addSpacing(8)
        box.addWidget(self.pages, 1)
        box.addWidget(self.trouble)
        box.addLayout(row)
        self.skipped: set[int] = set()

    def _preset(self, purpose: set_up.Purpose) -> None:
        self.devices.preset(purpose)
        self.scan.preset(purpose)

    def go_step(self, k: int) -> None:
        """Show a step."""
        self.at = max(0, min(k, len(self.steps) - 1))
        step = self.steps[self.at]
        self.pages.setCurrentWidget(step)
        self.progress.setText(f"Step {self.at + 1} of {len(self.steps)}")
        self.question.setText(step.question)
        self.hint.setText(step.hint)
        self.trouble.setText("")
        self.back.setEnabled(self.at > 0)
        last = self.at == len(self.steps) - 1
        self.next.setText("Finish and start measuring" if last else "Next")
        self.skip.setVisible(self.at > 0)
        step.first_field().setFocus()

    def forward(self) -> None:
        """Take the step and go on; after the last one write everything."""
        self.skipped.discard(self.at)
        self._on()

    def _skip(self) -> None:
        self.skipped.add(self.at)
        self._on()

    def _on(self) -> None:
        if self.at < len(self.steps) - 1:
            self.go_step(self.at + 1)
        else:
            self.finish()

    def answers(self) -> Answers:
        """What was answered in the steps that were not skipped."""
        found = Answers()
        for k, step in enumerate(self.steps):
            if k not in self.skipped:
                step.read(found)
        return found

    def finish(self) -> None:
        """Write the answers as one edit, and go to the bench with the first client."""
        try:
            found = self.answers()
            edit = set_up.edit_of(found, self.session.today())
            self.session.do(edit)
        except UserError as error:
            text = str(error)
            self.trouble.setText(as_sentence(text))
            return
        self.message.emit("The study is set up. Plan changes every answer.", False)
        self.measured.emit(edit.clients[0].client.code if edit.clients else "", "")
