"""File dialogs that are answered: a place in a folder, in one of the kinds offered."""

import re
from contextlib import contextmanager
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QMenu

DIALOGS = ("getSaveFileName", "getOpenFileName", "getExistingDirectory")


class Answers:
    """How the next dialogs are answered.

    Attributes
    ----------
    kind : int
        Which of the kinds offered, counted round; the ending is its own unless one is given.
    ending : str
        Ending of the file name in the place of that of the kind.
    cancelled : bool
        Whether the dialog is closed without an answer.
    open : str
        File name given to a dialog that opens.
    choose : int
        Which item of a menu of what can be done.
    written : list of Path
        Every file that was asked for.
    """

    def __init__(self):
        self.reset()

    def reset(self):
        """As at first: the first kind, its own ending."""
        self.kind, self.ending, self.cancelled, self.open, self.choose = 0, "", False, "", 0
        self.written = []


ANSWERS = Answers()


@contextmanager
def answered(folder):
    """Answer all dialogs and menus within."""
    methods = [(QFileDialog, x, getattr(QFileDialog, x)) for x in DIALOGS]
    methods.append((QMenu, "exec", QMenu.exec))
    ANSWERS.reset()

    def save(_parent, _title="", name="", kinds="", *_more):
        if ANSWERS.cancelled:
            return "", ""
        kind = kinds.split(";;")[ANSWERS.kind % len(kinds.split(";;"))]
        ending = re.search(r"\*(\.\w+)", kind)
        suffix = ANSWERS.ending or (ending[1] if ending else Path(name).suffix)
        ANSWERS.written.append(folder / f"written {len(ANSWERS.written) + 1}{suffix}")
        return str(ANSWERS.written[-1]), kind

    def choose(menu, *_at):
        action = menu.actions()[ANSWERS.choose % len(menu.actions())]
        action.trigger()
        return action

    QFileDialog.getSaveFileName = save
    QFileDialog.getOpenFileName = lambda *_: (
        ("", "") if ANSWERS.cancelled else (str(folder / (ANSWERS.open or "nothing.csv")), "")
    )
    QFileDialog.getExistingDirectory = lambda *_: "" if ANSWERS.cancelled else str(folder)
    QMenu.exec = choose
    try:
        yield ANSWERS
    finally:
        for owner, x, method in methods:
            setattr(owner, x, method)
