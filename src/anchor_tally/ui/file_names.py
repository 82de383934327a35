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
