"""The small marks of the stages: the number of findings there."""

from __future__ import annotations

from ..wording.numbers import count
from .session import Session


def stage_marks(session: Session, found: int = 0, due: int = 0) -> dict[str, tuple[int, str]]:
    """The number of findings, and which, by stage; stages without any are left out.

    Nothing is computed for it.

    ``found`` is what the review found last, ``due`` the visits that the calendar has due.
    """
    items, heights, aged = session.catalogue(), session.stated_heights(), session.with_stated_age()
    out: dict[str, tuple[int, str]] = {}
    lacking = [
        c.code
        for c in items.clients.values()
        if not (
            c.sex and (c.birth or c.id in aged) and (items.heights.get(c.id) or c.id in heights)
        )
    ]
    if due:
        out["plan"] = (due, f"{count(due, 'visit')} due or overdue in the calendar")
    elif lacking:
        said = (
            f"{count(len(lacking), 'card')} without sex, age or height: equations need them"
            f" ({', '.join(lacking[:3])}"
        )
        out["plan"] = (len(lacking), f"{said}{' …' if len(lacking) > 3 else ''})")
    if found:
        out["review"] = (found, f"{count(found, 'finding')} to resolve or check")
    over = [c for c in session.calibrations() if c.valid_until < session.today()]
    if over:
        names = ", ".join(dict.fromkeys(c.instrument for c in over))
        out["calibrate"] = (len(over), f"{count(len(over), 'offset')} no longer valid: {names}")
    return out
