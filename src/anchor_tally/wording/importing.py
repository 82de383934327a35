"""What the import says of a table: how many rows are new, known or refused."""

from __future__ import annotations

from .numbers import count


def verdict(name: str, new: int, same: int, refused: int) -> str:
    """What taking the table would do."""
    if not new and not refused:
        return f"{name}: all {same} readings are in the study already; nothing to import."
    if refused:
        return f"{name}: {count(refused, 'row')} cannot be taken. Nothing is imported until you decide."
    return f"{name}: {count(new, 'reading')} to be added."


def button(new: int, refused: int) -> str:
    """What the button does."""
    if refused:
        return f"Import {count(new, 'reading')}, leave out the {count(refused, 'row')} listed"
    return f"Import {count(new, 'reading')}"


def counts(new: int, same: int, refused: int) -> str:
    """The numbers under the verdict."""
    return f"{new:,} new, {same:,} in the study already, {refused:,} refused."
