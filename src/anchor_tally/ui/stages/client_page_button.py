"""The button that writes a page for a client to hand over."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QFileDialog, QPushButton, QWidget

from ...analysis.people.withheld import withheld
from ...app.client_page import page_material_steps, write_page_steps
from ...app.jobs import Job
from ...app.session import Session
from ...domain.metrics import is_fat
from ..file_names import file_name, target_of
from ..jobs import Jobs

SUFFIXES = (".pdf", ".html")


class ClientPageButton(QPushButton):
    """Asks where the page goes and whether it gives body fat, then has it written.

    ``told`` says what became of it, and whether that is trouble.
    """

    told = pyqtSignal(str, bool)

    def __init__(self, session: Session, jobs: Jobs, parent: QWidget | None = None) -> None:
        super().__init__("&Page for the client…", parent)
        self.session, self.jobs, self.code = session, jobs, ""
        self.setToolTip("One page to hand over, with or without body fat; no goals")
        self.clicked.connect(self._ask)

    def follow(self, code: str) -> None:
        """Take the client whose page is written."""
        self.code = code

    def _ask(self) -> None:
        client = self.session.catalogue().client_coded(self.code)
        if client is None or self.session.writing:
            return
        kinds = {f"Without body fat (*{s})": (False, s) for s in SUFFIXES}
        if not withheld(client, "body_fat_percent", on_page=True):
            with_fat = {f"With body fat (*{s})": (True, s) for s in SUFFIXES}
            first = is_fat(self.session.lens.metric)
            kinds = with_fat | kinds if first else kinds | with_fat
        path, kind = QFileDialog.getSaveFileName(
            self, f"Page for {self.code}", f"{file_name(self.code)}.pdf", ";;".join(kinds)
        )
        if path:
            fat, suffix = kinds[kind]
            target, refused = target_of(path, suffix, SUFFIXES)
            if refused:
                self.told.emit(refused, True)
            else:
                self._write(self.code, target, fat=fat)

    def _write(self, code: str, path: Path, *, fat: bool) -> None:
        job = Job(
            f"Writing {path.name}",
            lambda: page_material_steps(self.session, code, fat=fat),
            lambda material: write_page_steps(material, path),
        )
        self.jobs.start(
            "client page",
            job,
            lambda target: self.told.emit(f"Page for {code} written to {target}.", False),
            lambda text: self.told.emit(text, True),
        )
