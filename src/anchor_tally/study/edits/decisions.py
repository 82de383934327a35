"""Edits of the review: what was decided about a finding, with its reason."""

from __future__ import annotations

from dataclasses import dataclass

from ...domain.text import plain_text
from .edit import EditRefused, Journal, Row
from .readings import ExcludeReading, PutBackReading


@dataclass(frozen=True, slots=True)
class Decide:
    """Keep what was found as it is, exclude its readings, or mark for another measurement.

    The reason is kept. One step, undone as one.
    """

    key: str
    decision: str
    reason: str
    readings: tuple[int, ...] = ()
    who: str = ""

    @property
    def words(self) -> str:
        """What the edit does."""
        return {"keep": "leave a finding as it is", "again": "mark for another measurement"}.get(
            self.decision, "exclude the readings of a finding"
        )

    def write(self, journal: Journal) -> None:
        """Write the decision, and the state of the readings."""
        reason = plain_text(self.reason)
        if not reason:
            raise EditRefused("a decision needs a reason; nothing was changed")
        if self.decision == "exclude":
            for reading in self.readings:
                if (
                    journal.one(
                        "SELECT 1 FROM reading WHERE id = ? AND status = 'excluded'", reading
                    )
                    is None
                ):
                    ExcludeReading(reading, reason, self.who).write(journal)
        row: Row = {
            "key": self.key,
            "decision": self.decision,
            "reason": reason,
            "at": journal.clock.stamp(),
        }
        journal.put("decision", row)


@dataclass(frozen=True, slots=True)
class Reopen:
    """Withdraw a decision.

    Its excluded readings count again, and the finding is shown again where it still holds.
    """

    key: str
    readings: tuple[int, ...] = ()
    who: str = ""

    @property
    def words(self) -> str:
        """What the edit does."""
        return "reopen a finding"

    def write(self, journal: Journal) -> None:
        """Take the decision away, and the exclusions it made."""
        kept = journal.one("SELECT decision, reason FROM decision WHERE key = ?", self.key)
        if kept and kept[0] == "exclude":
            for reading in self.readings:
                # one that was excluded on its own keeps its state and its reason
                if journal.one(
                    "SELECT 1 FROM reading WHERE id = ? AND status = 'excluded' AND note = ?",
                    reading,
                    kept[1],
                ):
                    PutBackReading(reading, self.who).write(journal)
        journal.delete("decision", {"key": self.key})
