"""A watched folder: result files are offered once, when they are whole."""

from __future__ import annotations

from pathlib import Path

from ..domain.errors import UserError


class WatchedFolder:
    """Looks at a folder again and again.

    A file is whole when its name does not say that it is still being written and its size and
    time are the same as at the look before. Files that were there at the beginning are not
    offered.
    """

    def __init__(self, path: Path, suffixes: tuple[str, ...] = (".csv", ".xlsx")) -> None:
        self.path, self.suffixes = path, suffixes
        self._seen: dict[str, tuple[int, int]] = {}
        self._offered: set[tuple[str, int, int]] = set()
        for name, (size, changed) in self._files().items():
            self._offered.add((name, size, changed))

    def _files(self) -> dict[str, tuple[int, int]]:
        try:
            found = [
                f
                for f in self.path.iterdir()
                if f.suffix.lower() in self.suffixes and not f.name.startswith((".", "~"))
            ]
            return {f.name: (f.stat().st_size, f.stat().st_mtime_ns) for f in found}
        except OSError as error:
            raise UserError(
                f"{self.path}: the folder cannot be read ({error.strerror or error}); watching"
                " goes on"
            ) from error

    def look(self) -> list[Path]:
        """Files that have become whole since the last look, oldest first."""
        now = self._files()
        ready = []
        for name, mark in sorted(now.items(), key=lambda x: x[1][1]):
            if mark[0] > 0 and self._seen.get(name) == mark and (name, *mark) not in self._offered:
                self._offered.add((name, *mark))
                ready.append(self.path / name)
        self._seen = now
        return ready
