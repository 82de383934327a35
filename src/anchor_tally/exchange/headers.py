"""Find the header of a foreign table.

One to three rows, with groups above columns and units below them.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from ..domain.units import unit_named

MOST = 3  # rows that a header can have
JOINT = " · "
_VALUE = re.compile(
    r"[+-]?[\d.,]*\d[\d.,]*\s*(%|kg|lb|cm|mm|in|ohm)?|\d{1,4}[./-]\d{1,2}[./-]\d{1,4}.*|\d{1,2}[:.]\d{2}.*",
    re.I,
)
_REPEAT = re.compile(r"#?\s*[1-9]")
_BRACKETS = re.compile(r"[\(\[]\s*(.*?)\s*[\)\]]")

Line = tuple[int, Sequence[str]]
Spans = Mapping[
    int, Sequence[tuple[int, int]]
]  # of a line: first and last column of each merged cell


@dataclass(frozen=True, slots=True)
class Head:
    """The line in which the header ends, and the parts of each column's name, the group first."""

    line: int
    parts: tuple[tuple[str, ...], ...]

    @property
    def names(self) -> tuple[str, ...]:
        """Names of the columns on one line."""
        return tuple(JOINT.join(p) for p in self.parts)


def unit_in(text: str) -> str | None:
    """The unit that a cell of a header is, in brackets or bare; None for any other text."""
    inner = _BRACKETS.fullmatch(text.strip())
    bare = inner[1] if inner else text
    return None if is_repeat(bare) else unit_named(bare)


def is_repeat(text: str) -> bool:
    """Whether a cell of a header numbers a repeat."""
    return _REPEAT.fullmatch(text.strip()) is not None


def _filled(cells: Sequence[str]) -> list[int]:
    return [k for k, c in enumerate(cells) if c.strip()]


def _is_value(text: str) -> bool:
    return _VALUE.fullmatch(text.strip()) is not None


def find_head(lines: Sequence[Line], merged: Spans | None = None) -> Head | None:
    """Find the header among the first rows that hold anything; None when no row has two cells.

    It begins with the first row of text in two columns or more; titles and facts above it are
    passed over. Rows of text below it belong to it where they are under groups (gaps, names
    that come again, merged cells) or are units.
    """
    there = [k for k, (_, cells) in enumerate(lines) if len(_filled(cells)) > 1]
    if not there:
        return None
    start = next(
        (k for k in there if not any(_is_value(lines[k][1][c]) for c in _filled(lines[k][1]))),
        there[0],
    )
    while start + 1 < len(lines) and _is_title(lines[start][1], lines[start + 1][1]):
        start += 1
    last = start
    while last + 1 < min(start + MOST, len(lines)) and _continues(
        lines[last], lines[last + 1], merged or {}
    ):
        last += 1
    rows = [list(cells) for _, cells in lines[start : last + 1]]
    width = max(len(r) for r in rows)
    rows = [[c.strip() for c in r] + [""] * (width - len(r)) for r in rows]
    for k in range(len(rows) - 1):
        _spread(rows[k], rows[k + 1], merged.get(lines[start + k][0], ()) if merged else None)
    parts = []
    for column in zip(*rows, strict=True):
        own = [p for p in column if p]
        parts.append(tuple(dict.fromkeys(own)) or ("",))
    return Head(lines[last][0], tuple(parts))


def _is_title(cells: Sequence[str], below: Sequence[str]) -> bool:
    """A fact such as "Study | Rowers" above a header that is much wider."""
    own, following = _filled(cells), _filled(below)
    return (
        len(own) == 2
        and own[-1] == 1
        and len(following) > 3
        and not any(_is_value(below[k]) for k in following)
    )


def _continues(row: Line, below: Line, merged: Spans) -> bool:
    upper, lower = row[1], below[1]
    texts = [lower[k].strip() for k in _filled(lower)]
    if not texts:
        return False
    if all(unit_in(t) is not None for t in texts):
        return True
    names = [upper[k].strip().lower() for k in _filled(upper)]
    over = set(_filled(upper))
    gap = any(k not in over for k in _filled(lower))
    grouped = gap or len(set(names)) < len(names) or any(b > a for a, b in merged.get(row[0], ()))
    return grouped and len(texts) > 1 and all(not _is_value(t) or is_repeat(t) for t in texts)


def _spread(upper: list[str], lower: list[str], spans: Sequence[tuple[int, int]] | None) -> None:
    """Write the name of a group over all its columns.

    Those of its merged cell, else up to the next group.
    """
    if spans:
        for first, last in spans:
            for k in range(first, min(last + 1, len(upper))):
                upper[k] = upper[first]
        return
    current = ""
    for k, text in enumerate(upper):
        if text:
            current = "" if is_repeat(text) else text  # a number is of its own column
        elif lower[k]:
            upper[k] = current
