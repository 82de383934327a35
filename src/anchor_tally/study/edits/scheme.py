"""Edits of the calendar: rules, and single days that are moved or left out."""

from __future__ import annotations

from dataclasses import dataclass

from ...domain.scheme import LEAST_DAYS, PLANNED, SCAN, MovedDay, SchemeRule
from ...domain.text import plain_name, plain_text
from .edit import EditRefused, Journal, Row
from .events import day_of

MOST_STEP = 3660  # days between two planned days


def _row(rule: SchemeRule) -> Row:
    """The row of a rule. Raises EditRefused."""
    if rule.station not in PLANNED:
        raise EditRefused(f'"{rule.station[:40]}" is not a station; nothing was changed')
    starts, ends = (day_of(d) if d.strip() else "" for d in (rule.starts, rule.ends))
    if starts and ends and ends < starts:
        raise EditRefused("the last day lies before the first; nothing was changed")
    if not rule.days:
        raise EditRefused("the rule makes no day; nothing was changed")
    if rule.form == "days":
        days = ",".join(sorted({day_of(str(d)) for d in rule.days}))
    else:
        numbers = [int(d) for d in rule.days]
        low, high = {"weekdays": (0, 6), "scan": (-60, 60)}.get(rule.form, (1, MOST_STEP))
        if not all(low <= n <= high for n in numbers):
            raise EditRefused(
                f"a number of days lies between {low} and {high}; nothing was changed"
            )
        days = ",".join(str(n) for n in sorted(set(numbers)))
    if rule.form in ("every", "last") and not starts:
        raise EditRefused("the rule needs a first day; nothing was changed")
    if rule.form == "back" and not ends:
        raise EditRefused("the rule needs the day that is counted back from; nothing was changed")
    if rule.form == "scan" and rule.station == SCAN:
        raise EditRefused("a scan is not planned around a scan; nothing was changed")
    if rule.most is not None and rule.most < 1:
        raise EditRefused("the most planned days are 1 or more; nothing was changed")
    near = rule.form in ("every", "back", "last") and int(rule.days[0]) < LEAST_DAYS
    if rule.station == SCAN and (near or rule.form == "weekdays") and not rule.reason.strip():
        raise EditRefused(
            f"scans lie {LEAST_DAYS // 7} weeks apart or more; state a reason for fewer. Nothing"
            " was changed"
        )
    return {
        "client": rule.client,
        "station": rule.station,
        "form": rule.form,
        "days": days,
        "starts": starts,
        "ends": ends,
        "most": rule.most,
        "label": plain_name(rule.label),
        "spread": int(rule.spread),
        "reason": plain_text(rule.reason),
    }


@dataclass(frozen=True, slots=True)
class AddRules:
    """Add rules to the calendar."""

    rules: tuple[SchemeRule, ...]
    replacing: bool = False

    @property
    def words(self) -> str:
        """What the edit does."""
        return "set the calendar's rules" if self.replacing else "add to the calendar"

    def write(self, journal: Journal) -> None:
        """Insert them; with ``replacing`` in place of all that are there."""
        rows = [_row(rule) for rule in self.rules]
        if self.replacing:
            for (number,) in journal.rows("SELECT id FROM scheme"):
                journal.delete("scheme", {"id": number})
        for row in rows:
            journal.insert("scheme", row)


@dataclass(frozen=True, slots=True)
class PutRule:
    """Change a rule of the calendar."""

    rule: SchemeRule

    @property
    def words(self) -> str:
        """What the edit does."""
        return "change a rule of the calendar"

    def write(self, journal: Journal) -> None:
        """Update it."""
        journal.update("scheme", {"id": self.rule.id}, _row(self.rule))


@dataclass(frozen=True, slots=True)
class RemoveRule:
    """Delete a rule of the calendar, with the days of it that were moved."""

    rule: int

    @property
    def words(self) -> str:
        """What the edit does."""
        return "delete a rule of the calendar"

    def write(self, journal: Journal) -> None:
        """Delete it."""
        journal.delete("scheme", {"id": self.rule})


@dataclass(frozen=True, slots=True)
class MoveDay:
    """Move one planned day of a client; to an empty day: leave it out."""

    moved: MovedDay

    @property
    def words(self) -> str:
        """What the edit does."""
        return "move a planned day" if self.moved.day else "leave out a planned day"

    def write(self, journal: Journal) -> None:
        """Write where it stands now; back on its own day it is no longer moved."""
        m = self.moved
        due, day = day_of(m.due), day_of(m.day) if m.day else ""
        key: Row = {"scheme": m.scheme, "client": m.client, "due": due}
        if day == due:
            journal.delete("planned_day", key)
        else:
            journal.put("planned_day", {**key, "day": day})
