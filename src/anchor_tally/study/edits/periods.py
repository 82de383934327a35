"""Edits of setting periods afterwards.

A change that was forgotten, dated wrongly, or never happened.

The readings go along: only those that stood in the period that is cut or joined, never those
that were kept under another setting.
"""

from __future__ import annotations

from dataclasses import dataclass

from ...domain.text import plain_name
from .edit import EditRefused, Journal
from .events import day_of

_IN_FORCE = (
    "SELECT id, label FROM setting WHERE instrument = ? AND client IS NULL AND substr(starts, 1,"
    " 10) <= ? AND id <> ? ORDER BY starts DESC, id DESC LIMIT 1"
)


def _before(journal: Journal, instrument: int, day: str, but: int = 0) -> tuple[int | None, str]:
    row = journal.one(_IN_FORCE, instrument, day, but)
    return (int(row[0]), str(row[1])) if row else (None, "")


def _hand_over(
    journal: Journal, instrument: int, old: int | None, new: int | None, start: str, end: str
) -> None:
    """Move readings of the days from ``start`` to ``end`` from one setting to another.

    An empty ``end`` means no end.
    """
    where = (
        "instrument = ?2 AND substr(taken_at, 1, 10) >= ?3 AND (?4 = '' OR substr(taken_at, 1, 10)"
        " < ?4)"
    )
    journal.move("reading", "setting", old, new, where, (instrument, start, end))


def _period(journal: Journal, setting: int) -> tuple[int, str, str]:
    row = journal.one(
        "SELECT instrument, label, substr(starts, 1, 10) FROM setting WHERE id = ? AND client IS"
        " NULL",
        setting,
    )
    if row is None:
        raise EditRefused("that setting period is no longer in the study; nothing was changed")
    return int(row[0]), str(row[1]), str(row[2])


@dataclass(frozen=True, slots=True)
class BeginPeriod:
    """From a day on, up to the next change, the instrument stood in another setting.

    Its readings of those days go along.
    """

    instrument: int
    label: str
    day: str

    @property
    def words(self) -> str:
        """What the edit does."""
        return "note a change of setting"

    def write(self, journal: Journal) -> None:
        """Insert the period and hand over the readings of its days."""
        label, day = plain_name(self.label), day_of(self.day)
        if not label:
            raise EditRefused("the setting needs a label; nothing was changed")
        old, in_force = _before(journal, self.instrument, day)
        if in_force == label:
            raise EditRefused(f'the setting was "{label}" already on {day}; nothing was changed')
        there = journal.one(
            "SELECT 1 FROM setting WHERE instrument = ? AND client IS NULL"
            " AND substr(starts, 1, 10) = ?",
            self.instrument,
            day,
        )
        if there is not None:
            raise EditRefused(f"a setting begins on {day} already; nothing was changed")
        later = journal.one(
            "SELECT min(substr(starts, 1, 10)) FROM setting"
            " WHERE instrument = ? AND client IS NULL AND substr(starts, 1, 10) > ?",
            self.instrument,
            day,
        )
        end = str(later[0]) if later and later[0] else ""
        new = journal.insert(
            "setting",
            {"instrument": self.instrument, "client": None, "label": label, "starts": day},
        )
        _hand_over(journal, self.instrument, old, new, day, end)


@dataclass(frozen=True, slots=True)
class JoinPeriod:
    """A change of setting never was: its readings go to the period before."""

    setting: int

    @property
    def words(self) -> str:
        """What the edit does."""
        return "delete a change of setting"

    def write(self, journal: Journal) -> None:
        """Hand the readings back and delete the period."""
        instrument, _, start = _period(journal, self.setting)
        old, _ = _before(journal, instrument, start, self.setting)
        _hand_over(journal, instrument, self.setting, old, "", "")
        journal.delete("setting", {"id": self.setting})


@dataclass(frozen=True, slots=True)
class MovePeriod:
    """A change of setting came on another day."""

    setting: int
    day: str

    @property
    def words(self) -> str:
        """What the edit does."""
        return "move a change of setting"

    def write(self, journal: Journal) -> None:
        """Date the period anew and hand over the readings between both days."""
        instrument, _, start = _period(journal, self.setting)
        day = day_of(self.day)
        low, high = sorted((start, day))
        between = journal.one(
            "SELECT 1 FROM setting WHERE instrument = ? AND client IS NULL"
            " AND id <> ? AND substr(starts, 1, 10) BETWEEN ? AND ?",
            instrument,
            self.setting,
            low,
            high,
        )
        if between is not None:
            raise EditRefused(
                f"another change of setting lies between {start} and {day}; nothing was changed"
            )
        old, _ = _before(journal, instrument, start, self.setting)
        if day > start:
            _hand_over(journal, instrument, self.setting, old, start, day)
        else:
            _hand_over(journal, instrument, old, self.setting, day, start)
        journal.update("setting", {"id": self.setting}, {"starts": day})
