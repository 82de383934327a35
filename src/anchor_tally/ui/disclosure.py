"""Whether tables show all statistics or only those that answer the question."""

from __future__ import annotations

from PyQt6.QtCore import QObject, QSettings, pyqtSignal

KEY = "all statistics"


class Disclosure(QObject):
    """One state for all tables, saved in the user's settings; ``changed`` shows when it turns."""

    changed = pyqtSignal(bool)

    def __init__(self, settings: QSettings, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.settings = settings
        self.all = bool(settings.value(KEY, False, type=bool))

    def show_all(self, every: bool) -> None:
        """Show every statistic, or only the main ones."""
        if every != self.all:
            self.all = every
            self.settings.setValue(KEY, every)
            self.changed.emit(every)
