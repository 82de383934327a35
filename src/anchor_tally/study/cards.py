"""Cards of people from a table: what they add to the study, and writing it.

Nothing that is there is overwritten.
"""

from __future__ import annotations

import sqlite3
from dataclasses import replace

from ..domain.import_rows import ImportCard, Refused

_SAME_CM = 0.05  # heights that differ by less are one


def born(card: ImportCard, today: str) -> ImportCard | Refused:
    """The card with the century of a birth whose year has two digits: the last that is not ahead.

    A refusal for a birth that lies ahead.
    """
    if card.birth <= today:
        return card
    if card.short_year:
        return replace(card, birth=f"{int(card.birth[:4]) - 100}{card.birth[4:]}")
    return Refused(card.line, "birth", card.birth, "a birth cannot lie ahead")


def news_of(
    conn: sqlite3.Connection, card: ImportCard, before: ImportCard | None = None
) -> ImportCard | Refused | None:
    """What a card says that the study does not hold yet.

    None when nothing is new, a refusal when it says otherwise.

    ``before`` is an earlier card of the same person in the same import: what it says holds too.
    """
    row = conn.execute(
        "SELECT id, name, sex, birth, cautions, notes FROM client WHERE code = ?", (card.code,)
    ).fetchone()
    if before is not None:
        for what in ("birth", "height"):
            old, new = getattr(before, what), getattr(card, what)
            if old and new and old != new:
                return Refused(
                    card.line, what, "", f"{card.code} has another {what} in line {before.line}"
                )
        card = ImportCard(
            before.line,
            card.code,
            before.name or card.name,
            before.sex or card.sex,
            before.birth or card.birth,
            before.height or card.height,
            before.cautions | card.cautions,
            before.notes or card.notes,
        )
    if row is None:
        return card
    number, name, sex, birth, cautions, notes = row
    if card.birth and birth and card.birth != birth:
        return Refused(
            card.line, "birth", card.birth, f"the study already holds {birth} for {card.code}"
        )
    known = [
        h
        for (h,) in conn.execute("SELECT height_cm FROM client_height WHERE client = ?", (number,))
    ]
    height = card.height
    if height is not None and any(abs(h - height.value) < _SAME_CM for h in known):
        height = None
    left = replace(
        card,
        name="" if name else card.name,
        sex="" if sex else card.sex,
        birth="" if birth else card.birth,
        height=height,
        cautions=card.cautions - frozenset(cautions.split()),
        notes="" if card.notes in notes else card.notes,
    )
    return (
        left
        if any((left.name, left.sex, left.birth, left.height, left.cautions, left.notes))
        else None
    )
