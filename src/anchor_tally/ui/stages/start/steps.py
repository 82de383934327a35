"""The steps of the guided set-up: purpose, devices, scan, clients, conditions."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QObject, Qt, pyqtSignal
from PyQt6.QtGui import QGuiApplication, QKeyEvent, QKeySequence
from PyQt6.QtWidgets import (
    QAbstractButton,
    QButtonGroup,
    QCheckBox,
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QRadioButton,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from ....app import set_up
from ....app.set_up import SET, SETS, Answers, ClientRow, DeviceRow, Purpose
from ....domain.metrics import metric_of
from ....domain.protocol import ASKED_AT_FIRST, CONDITIONS, CYCLE
from ....domain.scheme import PRESETS
from ...widgets import Flow, label, paired, select_on_click, tip

DEVICE_ROWS, CLIENT_ROWS = 6, 8
HEADS = ("Code", "Sex (f, m)", "Birth year", "Height (181 or 5ft 11)")


class Step(QWidget):
    """One step: a question, its fields, and what they say."""

    question, hint = "", ""
    done = pyqtSignal()  # Enter in the last field

    def __init__(self) -> None:
        super().__init__()
        self.box = QVBoxLayout(self)
        self.box.setContentsMargins(0, 0, 0, 0)

    def go_on_from(self, mark: QAbstractButton) -> None:
        """Let Enter on a mark or a tick go on, as it does in a field."""
        mark.installEventFilter(self)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if (
            isinstance(watched, QAbstractButton)
            and isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.KeyPress
            and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)
        ):
            self.done.emit()
            return True
        return False

    def read(self, answers: Answers) -> None:
        """Write what was answered here into the answers."""

    def first_field(self) -> QWidget:
        """The field that takes the keys when the step is shown."""
        raise NotImplementedError


class PurposeStep(Step):
    """What is the study for?"""

    question = "What do you want to know?"
    hint = "The answer fills in the next steps. Everything can be changed later in Plan."
    chosen = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.group = QButtonGroup(self)
        self.choices: dict[str, QRadioButton] = {}
        for p in set_up.PURPOSES:
            button = QRadioButton(p.label)
            button.clicked.connect(lambda _=False, p=p: self.chosen.emit(p))
            self.choices[p.key] = button
            self.group.addButton(button)
            self.go_on_from(button)
            self.box.addWidget(button)
        self.choices["one"].setChecked(True)
        self.box.addStretch(1)

    def purpose(self) -> Purpose:
        """The purpose that is marked."""
        return next(p for p in set_up.PURPOSES if self.choices[p.key].isChecked())

    def first_field(self) -> QWidget:
        return next(b for b in self.choices.values() if b.isChecked())


class DeviceLine(QWidget):
    """One device: its kind, name and repeats."""

    entered, went = pyqtSignal(), pyqtSignal()

    def __init__(self, k: int) -> None:
        super().__init__()
        self.kind, self.name, self.repeats = QComboBox(), QLineEdit(), QSpinBox()
        select_on_click(self.repeats)
        for s in SETS:
            self.kind.addItem(s.label, s.key)
        self.kind.setAccessibleName(f"Kind of device {k}")
        self.name.setAccessibleName(f"Name of device {k}")
        self.name.setPlaceholderText("own name of the device")
        self.repeats.setRange(1, 9)
        self.repeats.setAccessibleName(f"Repeats of device {k} at a visit")
        tip(self.repeats, "Repeats at a visit")
        self.metrics: tuple[str, ...] = ()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.name, 2)
        row.addWidget(self.kind, 1)
        row.addWidget(label("repeats", "faint"))
        row.addWidget(self.repeats)
        self.kind.currentIndexChanged.connect(self._kind_changed)
        self.name.returnPressed.connect(self.entered)
        self.name.textEdited.connect(lambda _text: self.went.emit())
        fields: tuple[QWidget, ...] = (self.kind, self.name, self.repeats)
        for w in fields:
            w.installEventFilter(self)
        self._kind_changed()

    def choose(self, kind: str, repeats: int) -> None:
        """Preset the kind and the repeats."""
        self.kind.setCurrentIndex(self.kind.findData(kind))
        self.repeats.setValue(repeats)

    def _kind_changed(self) -> None:
        kind = SET[self.kind.currentData()]
        self.metrics = kind.ticked
        if kind.name or self.name.text() in {s.name for s in SETS if s.name}:
            self.name.setText(kind.name)
        self.went.emit()

    def eventFilter(self, _watched: QObject | None, event: QEvent | None) -> bool:
        if event is not None and event.type() == QEvent.Type.FocusIn:
            self.went.emit()
        return False


class DevicesStep(Step):
    """Which devices and methods, and what their displays show."""

    question = "Which devices and methods do you use?"
    hint = "Name each device. Enter goes to the next one. The ticks belong to the marked device."

    def __init__(self) -> None:
        super().__init__()
        self.lines = [DeviceLine(k + 1) for k in range(DEVICE_ROWS)]
        self.current = self.lines[0]
        for k, line in enumerate(self.lines):
            line.entered.connect(lambda k=k: self._next(k))
            line.went.connect(lambda line=line: self._show(line))
            self.box.addWidget(line)
        self.title = label("", "strong")
        self.copy = QPushButton("Copy ticks from the device above")
        self.copy.clicked.connect(self._copy)
        head = QHBoxLayout()
        head.addWidget(self.title)
        head.addWidget(self.copy)
        head.addStretch(1)
        self.box.addLayout(head)
        self.ticks = QWidget()
        self.box.addWidget(self.ticks)
        self.box.addStretch(1)
        self.boxes: dict[str, QCheckBox] = {}
        self._show(self.lines[0])

    def preset(self, purpose: Purpose) -> None:
        """Offer the devices of a purpose."""
        for k, line in enumerate(self.lines):
            kind = purpose.devices[min(k, len(purpose.devices) - 1)]
            line.choose(kind, purpose.repeats)
            if k >= len(purpose.devices):
                line.choose("foot", purpose.repeats)
        self._show(self.lines[0])

    def _show(self, line: DeviceLine) -> None:
        self.current = line
        kind = SET[line.kind.currentData()]
        name = line.name.text().strip() or kind.label.lower()
        self.title.setText(f"{name[:1].upper()}{name[1:]} shows:")
        self.copy.setVisible(self.lines.index(line) > 0)
        old = self.ticks
        self.ticks, self.boxes = QWidget(), {}
        row = Flow(8)
        for m in dict.fromkeys((*kind.metrics, *line.metrics)):
            tick = QCheckBox(metric_of(m).label)
            tick.setChecked(m in line.metrics)
            tick.clicked.connect(self._ticked)
            self.go_on_from(tick)
            row.addWidget(tick)
            self.boxes[m] = tick
        self.ticks.setLayout(row)
        self.box.replaceWidget(old, self.ticks)
        old.hide()
        old.setParent(None)
        old.deleteLater()

    def _ticked(self) -> None:
        self.current.metrics = tuple(m for m, t in self.boxes.items() if t.isChecked())

    def _copy(self) -> None:
        k = self.lines.index(self.current)
        above = self.lines[k - 1]
        self.current.choose(above.kind.currentData(), above.repeats.value())
        self.current.metrics = above.metrics
        self._show(self.current)

    def _next(self, k: int) -> None:
        following = self.lines[k + 1] if k + 1 < len(self.lines) else None
        if following is None or not self.lines[k].name.text().strip():
            self.done.emit()
        else:
            following.name.setFocus()

    def read(self, answers: Answers) -> None:
        answers.devices = [
            DeviceRow(x.kind.currentData(), x.name.text(), x.repeats.value(), x.metrics)
            for x in self.lines
        ]

    def first_field(self) -> QWidget:
        return self.lines[0].name


class ScanStep(Step):
    """The reference scan, or none."""

    question = "Which scan do you compare with?"
    hint = "Leave the name empty if there is no scan."

    def __init__(self) -> None:
        super().__init__()
        self.name, self.precision = QLineEdit(), QLineEdit()
        select_on_click(self.precision)
        self.name.setAccessibleName("Name of the scan")
        self.name.setPlaceholderText("own name, for example Lab scan")
        self.precision.setAccessibleName("Precision of the scan")
        self.precision.setPlaceholderText("not known")
        self.precision.setMaximumWidth(120)
        self.name.returnPressed.connect(self.done)
        self.precision.returnPressed.connect(self.done)
        self.boxes = {m: QCheckBox(metric_of(m).label) for m in set_up.SCAN_METRICS}
        for m, tick in self.boxes.items():
            tick.setChecked(m in set_up.SCAN_TICKED)
            self.go_on_from(tick)
        row = Flow(8)
        for tick in self.boxes.values():
            row.addWidget(tick)
        shown = QWidget()
        shown.setLayout(row)
        grid = QGridLayout()
        for k, (text, w) in enumerate(
            (("Name", self.name), ("Reports", shown), ("SD of one scan", self.precision))
        ):
            grid.addWidget(label(text, "faint"), k, 0)
            grid.addWidget(w, k, 1)
        self.box.addLayout(grid)
        self.box.addWidget(
            label(
                "The SD of one scan comes from the laboratory, in the unit of the first value."
                " Leave it empty if you do not know it.",
                "faint",
                wrap=True,
            )
        )
        self.box.addStretch(1)

    def preset(self, purpose: Purpose) -> None:
        """Name a scan where the purpose needs one."""
        self.name.setText("Lab scan" if purpose.scan else "")

    def read(self, answers: Answers) -> None:
        answers.scan, answers.precision = self.name.text(), self.precision.text()
        answers.scan_metrics = tuple(m for m, t in self.boxes.items() if t.isChecked())

    def first_field(self) -> QWidget:
        return self.name


class ClientsStep(Step):
    """Clients in one grid: code, sex, birth year, height."""

    question = "Who is measured?"
    hint = (
        "Use codes, not names. Enter goes to the next field. Ctrl+V pastes rows of a spreadsheet."
    )

    def __init__(self) -> None:
        super().__init__()
        self.grid = QGridLayout()
        self.cells: list[list[QLineEdit]] = []
        for c, head in enumerate(HEADS):
            self.grid.addWidget(label(head, "faint"), 0, c)
        for _ in range(CLIENT_ROWS):
            self._add()
        self.box.addLayout(self.grid)
        self.box.addStretch(1)

    def _add(self) -> None:
        r = len(self.cells)
        row = []
        for c, head in enumerate(HEADS):
            cell = QLineEdit()
            cell.setAccessibleName(f"{head} of client {r + 1}")
            cell.returnPressed.connect(lambda r=r, c=c: self._next(r, c))
            cell.installEventFilter(self)
            self.grid.addWidget(cell, r + 1, c)
            row.append(cell)
        self.cells.append(row)

    def _next(self, r: int, c: int) -> None:
        if c == 0 and not self.cells[r][0].text().strip():
            self.done.emit()
            return
        if c + 1 < len(HEADS):
            self.cells[r][c + 1].setFocus()
            return
        if r + 1 == len(self.cells):
            self._add()
        self.cells[r + 1][0].setFocus()

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            clipboard = QGuiApplication.clipboard()
            text = clipboard.text() if clipboard is not None else ""
            if event.matches(QKeySequence.StandardKey.Paste) and ("\t" in text or "\n" in text):
                self.paste(text)
                return True
        return super().eventFilter(watched, event)

    def paste(self, text: str) -> None:
        """Fill the grid from lines of a spreadsheet."""
        used = sum(bool(row[0].text().strip()) for row in self.cells)
        for k, person in enumerate(set_up.pasted(text)):
            while used + k >= len(self.cells):
                self._add()
            said = (person.code, person.sex, person.birth, person.height)
            for cell, value in zip(self.cells[used + k], said, strict=True):
                cell.setText(value)

    def read(self, answers: Answers) -> None:
        answers.clients = [ClientRow(*(cell.text() for cell in row)) for row in self.cells]

    def first_field(self) -> QWidget:
        return self.cells[0][0]


class ConditionsStep(Step):
    """Which conditions are noted at each visit."""

    question = "Which conditions do you note at each visit, and when do you measure?"
    hint = "One key notes all of them as planned. They decide whether visits are comparable."

    def __init__(self) -> None:
        super().__init__()
        self.boxes = {c.key: QCheckBox(c.question) for c in CONDITIONS if c.key != CYCLE}
        grid = QGridLayout()
        for k, (key, tick) in enumerate(self.boxes.items()):
            tick.setChecked(key in ASKED_AT_FIRST)
            self.go_on_from(tick)
            grid.addWidget(tick, k // 2, k % 2)
        self.rhythm = QComboBox()
        self.rhythm.addItem("no calendar yet", "")
        for preset in PRESETS:
            self.rhythm.addItem(preset.label, preset.key)
        self.purpose = label("", "faint", wrap=True)
        self.rhythm.currentIndexChanged.connect(
            lambda k: self.purpose.setText(PRESETS[k - 1].purpose if k > 0 else "")
        )
        self.box.addLayout(grid)
        self.box.addSpacing(10)
        row = Flow()
        row.addWidget(paired("Measured", self.rhythm, "When you measure"))
        self.box.addLayout(row)
        self.box.addWidget(self.purpose)
        self.box.addStretch(1)

    def read(self, answers: Answers) -> None:
        answers.rhythm = str(self.rhythm.currentData())
        answers.asked = frozenset(k for k, t in self.boxes.items() if t.isChecked()) | (
            frozenset({CYCLE}) & frozenset(ASKED_AT_FIRST)
        )

    def first_field(self) -> QWidget:
        return next(iter(self.boxes.values()))
