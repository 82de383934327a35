"""Edits of visits: which one a moment belongs to, what is noted with it, and moving one."""

from __future__ import annotations

from bisect import bisect_left
from dataclasses import dataclass

from ...domain.instants import Moment, NotAMoment, canonical, moment, shifted, zone_named
from ...domain.text import plain_name, plain_text
from .edit import EditRefused, Journal, Row


def when(journal: Journal, text: str) -> tuple[str, Moment]:
    """A moment as it is written in the file, and its instant in the study's time zone."""
    zone = journal.rows("SELECT zone FROM study")[0][0]
    try:
        written = canonical(text)
        return written, moment(written, zone_named(zone))
    except NotAMoment as error:
        raise EditRefused(f'"{text}" is {error}; nothing was changed') from error


def client_number(journal: Journal, code: str) -> int:
    """A client's number. Raises EditRefused for a code that is not in the study."""
    row = journal.one("SELECT id FROM client WHERE code = ?", code)
    if row is None:
        raise EditRefused(f"client {code} is not in the study yet; nothing was changed")
    return int(row[0])


def nearest(times: list[tuple[int, int]], instant: int, gap: int) -> int | None:
    """The visit of the nearest of sorted (instant, visit) that lies closer than ``gap`` seconds.

    None when none does.
    """
    k = bisect_left(times, (instant,))
    near = [
        (abs(instant - w), v) for w, v in times[max(k - 1, 0) : k + 1] if abs(instant - w) < gap
    ]
    return min(near)[1] if near else None


def moments_of(journal: Journal, client: int) -> list[tuple[int, bool, int]]:
    """Every moment of a client's visits: instant, whether the time of day is known, visit."""
    return [
        (instant, bool(timed), visit)
        for visit, instant, timed in journal.rows(
            "SELECT v.id, v.instant, v.timed FROM visit v WHERE v.client = ?1 UNION SELECT v.id,"
            " r.instant, r.timed FROM visit v JOIN reading r ON r.visit = v.id WHERE v.client = ?1",
            client,
        )
    ]


def visit_for(
    journal: Journal, client: int, at: str, *, visit: int | None = None, fresh: bool = False
) -> int:
    """Visit of a moment.

    The one named, a new one, or the client's nearest within the study's gap.
    """
    if visit is not None:
        if journal.one("SELECT 1 FROM visit WHERE id = ? AND client = ?", visit, client) is None:
            raise EditRefused("that visit is no longer in the study; nothing was changed")
        return visit
    written, m = when(journal, at)
    if not fresh:
        gap = journal.rows("SELECT visit_gap_minutes FROM study")[0][0] * 60
        near = nearest(
            sorted((w, v) for w, timed, v in moments_of(journal, client) if timed == m.timed),
            m.instant,
            gap,
        )
        if near is not None:
            return near
    return journal.insert(
        "visit", {"client": client, "start": written, "instant": m.instant, "timed": int(m.timed)}
    )


@dataclass(frozen=True, slots=True)
class NoteVisit:
    """Note conditions (key to answer; None takes an answer back), assessor or remarks of a visit.

    The visit is the one named, a new one when ``fresh``, else the client's nearest around
    ``at``; it is made when there is none.
    """

    client: str
    at: str
    conditions: tuple[tuple[str, str | None], ...] = ()
    assessor: str | None = None
    notes: str | None = None
    visit: int | None = None
    fresh: bool = False

    @property
    def words(self) -> str:
        """What the edit does."""
        return "note the conditions of a visit" if self.conditions else "note a visit"

    def write(self, journal: Journal) -> None:
        """Write the answers."""
        visit = visit_for(
            journal,
            client_number(journal, self.client),
            self.at,
            visit=self.visit,
            fresh=self.fresh,
        )
        for key, answer in self.conditions:
            if answer is None:
                journal.delete("condition", {"visit": visit, "key": key})
            else:
                journal.put(
                    "condition",
                    {"visit": visit, "key": plain_name(key), "value": plain_name(answer)},
                )
        if self.assessor is not None:
            journal.update("visit", {"id": visit}, {"assessor": plain_name(self.assessor)})
        if self.notes is not None:
            journal.update("visit", {"id": visit}, {"notes": plain_text(self.notes)})


@dataclass(frozen=True, slots=True)
class MoveVisit:
    """Move a visit with all its readings to another time, or to another client, or both.

    Readings keep their distance in time from each other. Refused when a reading would fall on
    one that is there already.
    """

    visit: int
    at: str
    client: str
    who: str = ""

    @property
    def words(self) -> str:
        """What the edit does."""
        return "move a visit"

    def write(self, journal: Journal) -> None:
        """Shift the visit and its readings; the history keeps where it was."""
        row = journal.one(
            "SELECT start, instant, timed, client FROM visit WHERE id = ?", self.visit
        )
        if row is None:
            raise EditRefused("that visit is no longer in the study; nothing was changed")
        client = client_number(journal, self.client)
        old = journal.state_of("visit", self.visit) or {}
        written, m = when(journal, self.at)
        _, before = when(journal, row[0])
        days = m.day - before.day
        seconds = m.instant - before.instant if m.timed and before.timed else days * 86400
        for number, taken in journal.rows(
            "SELECT id, taken_at FROM reading WHERE visit = ?", self.visit
        ):
            text, moved = when(journal, shifted(taken, seconds, days))
            there = journal.one(
                "SELECT c.code FROM reading a JOIN reading b ON b.instrument = a.instrument"
                " AND b.metric = a.metric"
                " AND b.replicate = a.replicate AND ifnull(b.setting, 0) = ifnull(a.setting, 0)"
                " JOIN visit v ON v.id = b.visit JOIN client c ON c.id = v.client"
                " WHERE a.id = ? AND v.client = ? AND v.id <> ? AND b.instant = ? AND b.timed = ?",
                number,
                client,
                self.visit,
                moved.instant,
                int(moved.timed),
            )
            if there is not None:
                raise EditRefused(
                    f"{there[0]} has such a reading at {text.replace('T', ' ')} already; the visit"
                    " was not moved"
                )
            journal.update(
                "reading",
                {"id": number},
                {"taken_at": text, "instant": moved.instant, "timed": int(moved.timed)},
            )
        new = {"client": client, "start": written, "instant": m.instant, "timed": int(m.timed)}
        journal.update("visit", {"id": self.visit}, new)  # type: ignore[arg-type]
        journal.log("visit", self.visit, old, "moved", self.who)


@dataclass(frozen=True, slots=True)
class AttachFile:
    """Keep the place and checksum of a file beside a visit; the file itself stays where it is."""

    visit: int
    path: str
    sha256: str

    @property
    def words(self) -> str:
        """What the edit does."""
        return "attach a file"

    def write(self, journal: Journal) -> None:
        """Insert it."""
        if journal.one("SELECT 1 FROM visit WHERE id = ?", self.visit) is None:
            raise EditRefused("that visit is no longer in the study; nothing was changed")
        if (
            journal.one(
                "SELECT 1 FROM attachment WHERE visit = ? AND path = ?", self.visit, self.path
            )
            is not None
        ):
            raise EditRefused("that file is attached already; nothing was changed")
        row: Row = {
            "visit": self.visit,
            "path": self.path,
            "sha256": self.sha256,
            "added_at": journal.clock.stamp(),
        }
        journal.insert("attachment", row)


@dataclass(frozen=True, slots=True)
class DetachFile:
    """Take a file from a visit; the file itself stays where it is."""

    attachment: int

    @property
    def words(self) -> str:
        """What the edit does."""
        return "detach a file"

    def write(self, journal: Journal) -> None:
        """Take it away."""
        journal.delete("attachment", {"id": self.attachment})
