"""Files while they are written: under another name, for their owner only, then renamed."""

from __future__ import annotations

import os
from pathlib import Path

_PART = ".part"


def part_of(path: Path) -> Path:
    """Return the name under which this process writes a file before it has its place."""
    return path.with_name(f".{path.name}.{os.getpid()}{_PART}")


def begin_part(path: Path) -> Path:
    """Make an empty part file that only its owner can read.

    Part files of killed processes are removed.

    Raises OSError when the place cannot be written.
    """
    sweep_parts(path)
    part = part_of(path)
    os.close(os.open(part, os.O_CREAT | os.O_TRUNC | os.O_RDWR | os.O_NOFOLLOW, 0o600))
    return part


def sweep_parts(path: Path) -> None:
    """Remove the parts of a file, and of copies named after it, whose process is gone."""
    for left in path.parent.glob(f".{_literal(path.name)}*{_PART}*"):
        owner = left.name.partition(f"{_PART}")[0].rpartition(".")[2]
        if owner.isdigit() and not Path(f"/proc/{owner}").exists():
            left.unlink(missing_ok=True)


def _literal(name: str) -> str:
    """A file name in which no sign stands for others."""
    return "".join(f"[{c}]" if c in "*?[" else c for c in name)
