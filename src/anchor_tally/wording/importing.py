"""Words of the import: new, known, refused, ignored, and must not have been measured."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from ..analysis.entry.row_answers import forbidden_readings
from ..analysis.review import Finding, Material
from ..domain.catalogue import Catalogue
from ..study.staging import Staged
from .notes import sentence
from .numbers import count
from .review import moment_of, subject

SHOWN = 3
LISTED = 6  # columns that are not imported, named one a line


def amount(new: int, cards: int) -> str:
    """Readings and people, those that there are."""
    parts = [count(new, "reading")] if new or not cards else []
    return " and ".join([*parts, *([count(cards, "card") + " of people"] if cards else [])])


def verdict(name: str, new: int, same: int, refused: int, cards: int = 0) -> str:
    """What taking the table would do."""
    if not new and not refused and not cards:
        return f"{name}: all {same} readings are already in the study. Nothing to import."
    if refused:
        return (
            f"{name}: {count(refused, 'row')} cannot be imported. Nothing is imported until you"
            " decide."
        )
    return f"{name}: {amount(new, cards)} to import."


def open_words(name: str, sheet: str) -> str:
    """A table of which something is still to be chosen."""
    return f"{name}{f', sheet {sheet}' if sheet else ''}: choose what the columns are."


def button(new: int, refused: int, cards: int = 0) -> str:
    """What the button does."""
    if refused:
        return f"Import {amount(new, cards)}, leave out {count(refused, 'row')}"
    return f"Import {amount(new, cards)}"


def counts(new: int, same: int, refused: int, cards: int = 0) -> str:
    """The numbers under the verdict."""
    people = f", {count(cards, 'card')} of people" if cards else ""
    known = f", {same:,} already in the study" if same else ""
    return f"{new:,} new{people}{known}, {refused:,} refused."


def not_taken_words(columns: Sequence[tuple[str, int, tuple[str, ...]]]) -> str:
    """Columns that hold values but are not imported: name, filled cells, examples."""
    if not columns:
        return ""
    said = [
        f"– {name}: {count(filled, 'cell')}, for example {', '.join(examples)}"
        for name, filled, examples in columns[:LISTED]
    ]
    if len(columns) > LISTED:
        said.append(f"– and {len(columns) - LISTED} more")
    many = count(len(columns), "column")
    head = f"{many} not imported. Choose above what each is, or leave it out:"
    return "\n".join([head, *said])


def comments_words(texts: Sequence[str]) -> str:
    """Comments on cells that are no readings, which are not imported."""
    if not texts:
        return ""
    shown = [f'"{t[:60]}"' for t in texts[:SHOWN]]
    more = f" and {len(texts) - SHOWN} more" if len(texts) > SHOWN else ""
    return f"{count(len(texts), 'cell comment')} not imported: {', '.join(shown)}{more}."


def doubt_words(found: Sequence[Finding], m: Material, place: Callable[[int], str]) -> str:
    """What the review reports about a table that is not taken yet.

    ``place`` puts the number of a reading into words.
    """
    if not found:
        return ""
    said = []
    for f in found[:SHOWN]:
        where = f"{place(min(f.readings))}: " if f.readings else ""
        when = moment_of(f, m)
        said.append(f"{where}{subject(f, m)}{f', {when}' if when else ''}: {sentence(f.note)}")
    rest = f" And {len(found) - SHOWN} more." if len(found) > SHOWN else ""
    return (
        f"{count(len(found), 'finding')} (Review shows them after the import): "
        + " ".join(said)
        + rest
    )


def caution_warnings(items: Catalogue, staged: Staged) -> list[str]:
    """Names that were respelled, and readings that a caution forbids: imported, and named."""
    respelled = [f'"{a}" is taken for {b}, which is spelled alike.' for a, b in staged.respelled]
    return respelled + [
        f"{code}: {count(n, 'reading')} of {instrument}. {sentence(caution.note)}"
        for code, instrument, n, caution in forbidden_readings(
            items, staged.cautioned, staged.cards
        )
    ]


def sum_words(staged: Staged) -> str:
    """What became of every reading of a table, as a sum."""
    parts = [
        f"{staged.new} new",
        f"{staged.already_there} already there",
        f"{len(staged.refused)} refused",
    ]
    if staged.merged:
        parts.append(f"{staged.merged} the same as another one of the table")
    return f"{count(staged.seen, 'reading')} in the table = {' + '.join(parts)}."


def withheld_words(n: int) -> str:
    """How many readings a file does not hold since they may not be shown; "" for none."""
    if not n:
        return ""
    return f"Left out, as they may not be shown: {count(n, 'reading')} (in a full copy)."


def lost_words(lost: Sequence[str]) -> str:
    """Say what a written table does not hold; "" for nothing."""
    if not lost:
        return ""
    listed = ", ".join(lost[:-1]) + (" and " if len(lost) > 1 else "") + lost[-1]
    return f"A table of readings does not hold {listed}; a data package does."
