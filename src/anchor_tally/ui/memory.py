"""What the window remembers between starts.

Its place, recent studies, and each study's stage and lens.
"""

from __future__ import annotations

import json
from dataclasses import asdict, replace
from pathlib import Path

from PyQt6.QtCore import QByteArray, QSettings
from PyQt6.QtWidgets import QApplication, QMainWindow

from ..domain.lens import Lens

MOST = 8


def is_demo(path: Path) -> bool:
    """Whether a study is a fresh copy of the demo in a temporary place; it is not remembered."""
    return path.parent.name.startswith("anchor-tally-demo-")


class Memory:
    """Kept in the user's settings; what cannot be read is as if it had never been kept."""

    def __init__(self, settings: QSettings) -> None:
        self.settings = settings

    def recent(self) -> list[Path]:
        """Studies opened last that are still there, the newest first."""
        found = self.settings.value("recent", [], type=list)
        return [Path(p) for p in found if isinstance(p, str) and Path(p).exists()]

    def opened(self, path: Path) -> None:
        """A study was opened."""
        rest = [str(p) for p in self.recent() if p != path]
        self.settings.setValue("recent", [str(path), *rest][:MOST])

    def keep_place(self, window: QMainWindow) -> None:
        """Keep where the window stands."""
        self.settings.setValue("geometry", window.saveGeometry())

    def put_back(self, window: QMainWindow) -> None:
        """Put the window where it stood, as far as that place is still on a screen."""
        kept = self.settings.value("geometry")
        if isinstance(kept, QByteArray) and window.restoreGeometry(kept):
            screen = (
                QApplication.screenAt(window.frameGeometry().center())
                or QApplication.primaryScreen()
            )
            if screen is not None:
                free = screen.availableGeometry()
                window.resize(
                    min(window.width(), free.width() - 8), min(window.height(), free.height() - 40)
                )
                if not free.contains(window.frameGeometry().topLeft()):
                    window.move(free.left() + 4, free.top() + 4)

    def keep_view(self, path: Path, stage: str, lens: Lens) -> None:
        """Keep the stage and the lens of a study."""
        shown = asdict(lens) | {"clients": None if lens.clients is None else sorted(lens.clients)}
        self.settings.setValue(
            f"view/{path.name}", json.dumps({"path": str(path), "stage": stage, "lens": shown})
        )

    def view(self, path: Path) -> tuple[str, Lens] | None:
        """The stage and the lens that a study was left with."""
        try:
            kept = json.loads(str(self.settings.value(f"view/{path.name}", "")))
            if kept["path"] != str(path):
                return None
            clients = kept["lens"].pop("clients")
            lens = Lens(**kept["lens"])
            return str(kept["stage"]), replace(
                lens, clients=None if clients is None else frozenset(map(str, clients))
            )
        except (ValueError, KeyError, TypeError, AttributeError):
            return None
