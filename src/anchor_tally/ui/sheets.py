"""The menu, the key sheet and the page about the program, all from the one table of actions."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from importlib import metadata

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QMenu, QTabWidget, QVBoxLayout, QWidget

from ..app.actions import ACTIONS
from ..wording.glossary import GLOSSARY
from .widgets import Table, label

BENCH_KEYS = (
    ("Next empty cell", "Enter"),
    ("Failed reading", "F"),
    ("Exclude or remark on this reading", "F4"),
    ("Add a reading with another setting", "F8"),
    ("All conditions as planned, then the first cell", "F7"),
    ("Accept the suggestion / keep as read", "C / K"),
    ("Next, previous station", "Ctrl+Page down, Ctrl+Page up"),
    ("Client, visit, time, assessor", "Alt+L, Alt+V, Alt+T, Alt+A"),
)


def menu(
    parent: QWidget,
    can: Mapping[str, bool],
    act: Callable[[str], None],
    recent: Sequence[tuple[str, Callable[[], None]]],
) -> QMenu:
    """Every action under its heading with its key, and the studies opened last."""
    out = QMenu(parent)
    for heading in dict.fromkeys(a.menu for a in ACTIONS):
        part = out.addMenu(heading)
        if part is None:
            continue
        for a in (a for a in ACTIONS if a.menu == heading):
            entry = part.addAction(
                f"{a.words}\t{a.keys}" if a.keys else a.words, lambda key=a.id: act(key)
            )
            if entry is not None:
                entry.setEnabled(can.get(a.id, False))
        if heading == "Study" and recent:
            part.addSeparator()
            for words, open_it in recent:
                part.addAction(words, open_it)
    return out


class KeySheet(QDialog):
    """Keys and terms, each on a sheet of its own."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Keys and terms")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.table = Table(["Action", "Key", "Place"], "Keys", numeric_from=3)
        lines = [(a.words, a.keys or "–", a.menu) for a in ACTIONS]
        bench = [(words, keys, "Bench") for words, keys in BENCH_KEYS]
        self.table.fill(
            [
                *lines,
                *bench,
                ("Explain a statistic and show its readings", "Enter on its row", "Compare"),
            ]
        )
        self.terms = Table(["Term", "Meaning"], "Terms", numeric_from=2, stretch=1)
        self.terms.setWordWrap(True)
        self.terms.fill([(t.name, t.meaning) for t in GLOSSARY])
        self.sheets = QTabWidget()
        self.sheets.addTab(self.table, "Keys")
        self.sheets.addTab(self.terms, "Terms")
        column = QVBoxLayout(self)
        column.addWidget(self.sheets)
        self.resize(860, 600)


class About(QDialog):
    """What this is: version, licence, sources, and what it is not."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("About Anchor Tally")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        try:
            version = metadata.version("anchor-tally")
        except metadata.PackageNotFoundError:
            version = "not installed"
        lines = (
            f"Anchor Tally {version}",
            (
                "Compares body-composition devices and field methods with a reference, and derives"
                " calibrations with their uncertainty."
            ),
            (
                "Nothing here is a diagnosis. Scans are ordered and run by licensed staff under"
                " local rules."
            ),
            (
                "Licence: GPL-3.0-or-later. Fonts: SIL Open Font License. Built with Python, PyQt6,"
                " NumPy, SciPy, matplotlib, openpyxl and XlsxWriter."
            ),
            (
                "Every equation and statistic names its source where it is shown; those from memory"
                " say so."
            ),
        )
        column = QVBoxLayout(self)
        for k, line in enumerate(lines):
            column.addWidget(label(line, "headline" if k == 0 else "", wrap=True))
        self.resize(460, 260)
