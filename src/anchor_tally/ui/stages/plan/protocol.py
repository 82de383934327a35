"""The protocol of the study and of one instrument.

Required conditions, practice, and blind.
"""

from __future__ import annotations

from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QGridLayout,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from ....app.session import Session
from ....domain.errors import UserError
from ....domain.protocol import ANY, CYCLE, Condition, ProtocolItem
from ....study.edits.clients import PutStudy
from ....study.edits.edit import Edit
from ....study.edits.protocol import AddCondition, AskCondition, WantOfInstrument
from ...widgets import Flow, label, paired
from .tab import Tab

_STUDY = "the study"
_HOURS = ("0.5", "1", "2", "3", "4")


class Protocol(Tab):
    """A tick for each condition, with what is wanted and what a breach means.

    What is wanted is that of the study, or of one instrument where it differs; only what differs
    is kept.
    """

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.boxes: dict[str, QCheckBox] = {}
        self.wanted: dict[str, QComboBox] = {}
        self.items: tuple[ProtocolItem, ...] = ()
        self.whose = QComboBox()
        self.whose.activated.connect(lambda _k: self.refresh())
        self.lines = QWidget()
        self.lines.setObjectName("page")
        self.grid = QGridLayout(self.lines)
        self.grid.setHorizontalSpacing(18)
        self.grid.setVerticalSpacing(6)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(self.lines)
        self.question, self.breach = QLineEdit(), QLineEdit()
        self.question.setPlaceholderText("Sauna the day before")
        self.question.setAccessibleName("A condition of your own")
        self.question.setMinimumWidth(200)
        self.breach.setPlaceholderText("effect if not met: water is low")
        self.breach.setAccessibleName("Effect if not met")
        self.breach.setMinimumWidth(230)
        self.own_wanted = QComboBox()
        self.own_wanted.addItems(["yes", "no"])
        add = QPushButton("Add condition")
        add.clicked.connect(self._add)
        self.question.returnPressed.connect(self._add)
        own = Flow()
        for w in (
            paired("Own condition", self.question),
            paired("wanted", self.own_wanted),
            self.breach,
            add,
        ):
            own.addWidget(w)
        self.practice = QCheckBox("Practice study: readings of simulated devices are used")
        self.practice.clicked.connect(lambda on: self._do(self._study(practice=on)))
        self.blind = QCheckBox(
            "Blind: earlier and corrected values are hidden for two hours after a visit"
        )
        self.blind.clicked.connect(lambda on: self._do(self._study(blind=on)))
        self.balanced = QCheckBox(
            "Balanced order: the order of the devices changes from visit to visit"
        )
        self.balanced.clicked.connect(lambda on: self._do(self._study(balanced=on)))
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 6, 0, 0)
        text = (
            "Conditions for comparable readings. Record shows a switch for each. The question about"
            " the cycle is asked only for clients whose card allows it."
        )
        column.addWidget(label(text, "faint", wrap=True))
        column.addWidget(
            paired(
                "Required answers of", self.whose, "Required answers of the study or an instrument"
            )
        )
        column.addWidget(scroll, 1)
        column.addLayout(own)
        column.addWidget(self.practice)
        column.addWidget(self.blind)
        column.addWidget(self.balanced)

    def _study(
        self,
        *,
        practice: bool | None = None,
        blind: bool | None = None,
        balanced: bool | None = None,
    ) -> PutStudy:
        items = self.session.catalogue()
        return PutStudy(
            self.session.title,
            items.practice if practice is None else practice,
            items.blind if blind is None else blind,
            items.balanced if balanced is None else balanced,
        )

    def _do(self, edit: Edit) -> None:
        try:
            self.session.do(edit)
        except UserError as error:
            self.message.emit(str(error), True)
            self.refresh()

    def _add(self) -> None:
        text = self.question.text().strip()
        if text:
            self._do(AddCondition(text, self.breach.text(), self.own_wanted.currentText()))
            self.question.clear()
            self.breach.clear()

    def refresh(self) -> None:
        items = self.session.catalogue()
        self._fill_whose()
        if [i.condition.key for i in items.protocol] != list(self.boxes):
            self._build(items.protocol)
        self.items = items.protocol
        instrument = self.whose.currentData()
        for item in items.protocol:
            key = item.condition.key
            self.boxes[key].setChecked(item.asked)
            self.boxes[key].setEnabled(instrument is None)
            own = (
                items.wanted_by.get((instrument, key), "")
                if instrument is not None
                else item.condition.wanted
            )
            box = self.wanted[key]
            if box.findData(own) < 0:
                box.addItem(self._words(item.condition, own), own)
            box.setCurrentIndex(box.findData(own))
            at = box.findData("")
            if instrument is None and at >= 0:
                box.removeItem(at)
        self.practice.setChecked(items.practice)
        self.blind.setChecked(items.blind)
        self.balanced.setChecked(items.balanced)

    def _fill_whose(self) -> None:
        there = [
            (_STUDY, None),
            *((i.name, i.id) for i in self.session.catalogue().instruments.values() if i.id > 0),
        ]
        if [
            (self.whose.itemText(k), self.whose.itemData(k)) for k in range(self.whose.count())
        ] != there:
            chosen = self.whose.currentData()
            self.whose.clear()
            for text, number in there:
                self.whose.addItem(text, number)
            self.whose.setCurrentIndex(max(self.whose.findData(chosen), 0))

    @staticmethod
    def _words(c: Condition, wanted: str) -> str:
        if not wanted:
            return "same as the study"
        return "either" if wanted == ANY else f"{wanted} h or more" if c.hours else wanted

    def _build(self, protocol: tuple[ProtocolItem, ...]) -> None:
        while self.grid.count():
            place = self.grid.takeAt(0)
            widget = place.widget() if place is not None else None
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        self.boxes, self.wanted = {}, {}
        for k, head in enumerate(("Ask at each visit", "Wanted", "Otherwise")):
            self.grid.addWidget(label(head, "faint"), 0, k)
        for n, item in enumerate(protocol, start=1):
            c = item.condition
            box, wanted = QCheckBox(c.question), QComboBox()
            box.clicked.connect(lambda on, key=c.key: self._do(AskCondition(key, on)))
            for answer in (*(_HOURS if c.hours else ("yes", "no")), ANY):
                wanted.addItem(self._words(c, answer), answer)
            wanted.setAccessibleName(f"Required: {c.question}")
            wanted.activated.connect(lambda _k, key=c.key: self._want(key))
            if c.key == CYCLE:
                box.setToolTip("Asked only for clients whose card allows it")
            self.boxes[c.key], self.wanted[c.key] = box, wanted
            self.grid.addWidget(box, n, 0)
            self.grid.addWidget(wanted, n, 1)
            self.grid.addWidget(label(c.breach, "faint", wrap=True), n, 2)
        self.grid.setColumnStretch(2, 1)
        self.grid.setRowStretch(len(protocol) + 1, 1)

    def _want(self, key: str) -> None:
        answer, instrument = self.wanted[key].currentData(), self.whose.currentData()
        if instrument is None:
            asked = next(i.asked for i in self.items if i.condition.key == key)
            self._do(AskCondition(key, asked, answer))
        else:
            self._do(WantOfInstrument(instrument, key, answer))
