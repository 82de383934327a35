"""The name of a file to write, from what a dialog returns."""

from __future__ import annotations

from collections.abc import Collection
from pathlib import Path


def target_of(path: str, suffix: str, suffixes: Collection[str]) -> tuple[Path, str]:
    """The file to write, and why it must not be written (empty where it may).

    A dialog changes the kind and leaves the name as it is: the name takes the suffix of the kind.
    A file that the dialog did not ask about is not replaced.
    """
    asked = Path(path)
    known = asked.suffix.lower() in suffixes
    target = asked.with_suffix(suffix) if known else asked.with_name(asked.name + suffix)
    if target != asked and target.exists():
        return (target, f"{target.name} exists already. Choose it by its own name to replace it.")
    return target, ""


def file_name(text: str) -> str:
    """A suggested name from any text: never a path, never hidden.

    >>> file_name("../A/1"), file_name("Auk")
    ('A-1', 'Auk')
    """
    kept = "".join(c if c.isalnum() or c in "._" else "-" for c in text)
    return "-".join(x for x in kept.strip("-._").split("-") if x) or "result"
