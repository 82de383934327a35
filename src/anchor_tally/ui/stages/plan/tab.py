"""One tab of Plan."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QWidget

from ....app.session import Session
from ....figures.style import Palette


class Tab(QWidget):
    """Shows a part of the study when ``refresh`` is called.

    ``message`` says something in the footer.
    """

    message = pyqtSignal(str, bool)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session

    def refresh(self) -> None:
        """Show the study as it is now."""
        raise NotImplementedError

    def set_palette(self, palette: Palette) -> None:
        """Choose the theme of what is painted; most tabs paint nothing."""
