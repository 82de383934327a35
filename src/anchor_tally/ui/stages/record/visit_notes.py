"""What is noted beside a visit: a remark, and files that belong to it."""

from __future__ import annotations

import hashlib
from pathlib import Path

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QLineEdit, QPushButton, QWidget

from ....app.session import Session
from ....domain.errors import UserError
from ....domain.records import Attachment
from ....study.edits.edit import Edit
from ....study.edits.visits import AttachFile, DetachFile
from ....wording.numbers import count
from ...widgets import label, paired, tip

MOST_BYTES = 2 << 30


class VisitNotes(QWidget):
    """The remark is kept when it is left.

    Of a file only its place and checksum are kept, and they leave the study in no export.
    """

    remarked = pyqtSignal(str)
    message = pyqtSignal(str, bool)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.visit: int | None = None
        self.files: list[Attachment] = []
        self.remark = QLineEdit()
        self.remark.setPlaceholderText("of this visit")
        self.remark.setFixedWidth(120)
        self.remark.editingFinished.connect(lambda: self.remarked.emit(self.remark.text().strip()))
        self.button = QPushButton("Attach…")
        tip(
            self.button,
            "Save the path and checksum of a photo or file with this visit; never exported",
        )
        self.button.clicked.connect(self._ask)
        self.drop = QPushButton("Detach the last")
        self.drop.clicked.connect(self._detach)
        self.said = label("", "faint")
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(paired("Remar&k", self.remark, "Remark of the visit"))
        for w in (self.button, self.said, self.drop):
            row.addWidget(w)

    def show_visit(self, visit: int | None, remark: str) -> None:
        """Show what stands beside a visit."""
        same = visit == self.visit
        self.visit = visit
        if not (same and self.remark.hasFocus()):
            self.remark.setText(remark)
        self.files = self.session.attachments(visit) if visit is not None else []
        self.button.setEnabled(visit is not None and not self.session.read_only)
        self.drop.setVisible(bool(self.files) and not self.session.read_only)
        self.said.setText(self._words())
        tip(self.said, "\n".join(f.path for f in self.files))

    def _words(self) -> str:
        if not self.files:
            return ""
        gone = [f for f in self.files if not Path(f.path).exists()]
        lost = f"; {Path(gone[0].path).name} is missing" if gone else ""
        return (
            f"{count(len(self.files), 'file')}:"
            f" {', '.join(Path(f.path).name for f in self.files[:2])}{lost}"
        )

    def _ask(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Attach a file to this visit")
        if name:
            self.attach(Path(name))

    def attach(self, path: Path) -> None:
        """Keep a file's place and checksum with the visit."""
        try:
            if path.stat().st_size > MOST_BYTES:
                raise UserError(f"{path.name} is larger than 2 GB; it was not attached")
            with path.open("rb") as f:
                digest = hashlib.file_digest(f, "sha256").hexdigest()
        except OSError as error:
            self.message.emit(
                f"{path.name} cannot be read ({error.strerror}); it was not attached.", True
            )
            return
        except UserError as error:
            self.message.emit(f"{error}.", True)
            return
        if self.visit is not None:
            self._do(AttachFile(self.visit, str(path.absolute()), digest))

    def _detach(self) -> None:
        if self.files:
            self._do(DetachFile(self.files[-1].id))

    def _do(self, edit: Edit) -> None:
        try:
            self.session.do(edit)
        except UserError as error:
            self.message.emit(f"{error}.", True)
