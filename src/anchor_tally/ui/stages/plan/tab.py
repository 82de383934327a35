"""One tab of Plan."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QWidget

from ....app.session import Session
from ....figures.style import LIGHT, Palette
from ...jobs import Jobs


class Tab(QWidget):
    """Shows a part of the study when ``refresh`` is called.

    ``message`` says something in the footer, ``measured`` asks for the bench (client, station).
    """

    message = pyqtSignal(str, bool)
    measured = pyqtSignal(str, str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.colours = LIGHT
        self.jobs: Jobs | None = None  # the runner of long work, from the page

    def refresh(self) -> None:
        """Show the study as it is now."""
        raise NotImplementedError

    def set_palette(self, palette: Palette) -> None:
        """Choose the theme of what is painted; most tabs paint nothing."""
