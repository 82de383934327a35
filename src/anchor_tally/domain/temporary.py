"""Folders for passing use, named after their process, so that none outlives it for long."""

from __future__ import annotations

import os
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

PREFIX = "anchor-tally-"


def own_folder(purpose: str) -> Path:
    """Make a folder that only its owner can read; the name holds purpose and process."""
    return Path(tempfile.mkdtemp(prefix=f"{PREFIX}{purpose}-{os.getpid()}-"))


@contextmanager
def passing_folder(purpose: str) -> Iterator[Path]:
    """A folder that is gone afterwards."""
    folder = own_folder(purpose)
    try:
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def sweep_folders() -> int:
    """Remove folders of processes that are gone, the oldest first; return how many.

    One whose process lives is never touched, nor one of another user.
    """
    found = []
    for left in Path(tempfile.gettempdir()).glob(f"{PREFIX}*-*-*"):
        owner = left.name.rsplit("-", 2)[1]
        try:
            at = left.lstat()
        except FileNotFoundError:
            continue  # another one has swept it just now
        gone = owner.isdecimal() and not Path(f"/proc/{owner}").exists()
        if gone and at.st_uid == os.getuid() and left.is_dir() and not left.is_symlink():
            found.append((at.st_mtime, left))
    for _, left in sorted(found):
        shutil.rmtree(left, ignore_errors=True)
    return len(found)
