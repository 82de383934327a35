"""Edits of clients and of what the study itself says."""

from __future__ import annotations

from dataclasses import dataclass

from ...domain.errors import UserError
from ...domain.instants import NotAMoment, canonical
from ...domain.records import Client
from ...domain.text import plain_name, plain_text
from ...domain.units import Quantity
from .edit import EditRefused, Journal, Row


def check_day(text: str, *, partial: bool = False) -> str:
    """A day as it is kept; a year or a month alone where ``partial``. Raises EditRefused."""
    text = text.strip()
    full = f"{text}-07-01"[:10] if partial and len(text) in (4, 7) else text
    try:
        kept = canonical(full)
        if text and len(kept) != 10:
            raise NotAMoment(text)
    except UserError as error:
        if not text:
            return ""
        form = (
            "a year, a month or a day such as 1994 or 1994-05-17"
            if partial
            else "a day such as 2026-03-02"
        )
        raise EditRefused(f'"{text[:40]}" is not {form}; nothing was changed') from error
    return text if partial and len(text) < 10 else kept


def taken_already(journal: Journal, table: str, column: str, text: str, number: int) -> None:
    """Refuse a name that another row has."""
    if (
        journal.one(f"SELECT 1 FROM {table} WHERE {column} = ? AND id <> ?", text, number)
        is not None
    ):
        raise EditRefused(f'"{text}" is there already; nothing was changed')


def client_row(c: Client, today: str) -> Row:
    """The card of a client as a row, checked. Raises EditRefused."""
    code = plain_name(c.code)
    birth = check_day(c.birth, partial=True)
    if birth > today:  # a year or a month stands before its days
        raise EditRefused(f"the birth of {code}, {birth}, lies ahead; nothing was changed")
    if not code:
        raise EditRefused("the client needs a code; nothing was changed")
    if c.sex not in ("", "male", "female"):
        raise EditRefused("sex is male, female or not known; nothing was changed")
    if c.scans_before is not None and not 0 <= c.scans_before < 1000:
        raise EditRefused(f"{c.scans_before} scans before is not possible; nothing was changed")
    return {
        "code": code,
        "name": plain_name(c.name),
        "sex": c.sex,
        "birth": birth,
        "cautions": " ".join(sorted(c.cautions)),
        "usual_activity": plain_text(c.usual_activity),
        "scans_before": c.scans_before,
        "last_scan": check_day(c.last_scan, partial=True),
        "notes": plain_text(c.notes),
        "cycle": int(c.cycle),
    }


@dataclass(frozen=True, slots=True)
class AddClient:
    """Add a client; the number in the record is not used."""

    client: Client

    @property
    def words(self) -> str:
        """What the edit does."""
        return "add a client"

    def write(self, journal: Journal) -> None:
        """Insert the card."""
        row = client_row(self.client, journal.clock.today().isoformat())
        taken_already(journal, "client", "code", str(row["code"]), 0)
        journal.insert("client", row)


@dataclass(frozen=True, slots=True)
class PutClient:
    """Write the card of a client as it is given."""

    client: Client

    @property
    def words(self) -> str:
        """What the edit does."""
        return "change a client"

    def write(self, journal: Journal) -> None:
        """Write the fields that differ."""
        row = client_row(self.client, journal.clock.today().isoformat())
        taken_already(journal, "client", "code", str(row["code"]), self.client.id)
        journal.update("client", {"id": self.client.id}, row)


@dataclass(frozen=True, slots=True)
class AddHeight:
    """A height of a client, measured on a day."""

    client: int
    day: str
    height: Quantity

    @property
    def words(self) -> str:
        """What the edit does."""
        return "add a height"

    def write(self, journal: Journal) -> None:
        """Insert the height."""
        day = check_day(self.day)
        if not day:
            raise EditRefused("a height needs the day it was measured; nothing was changed")
        if (
            journal.one(
                "SELECT 1 FROM client_height WHERE client = ? AND day = ?", self.client, day
            )
            is not None
        ):
            raise EditRefused(f"a height of {day} is there already; nothing was changed")
        q = self.height
        journal.insert(
            "client_height",
            {
                "client": self.client,
                "day": day,
                "height_cm": q.value,
                "entered": q.entered,
                "unit": q.unit,
            },
        )


@dataclass(frozen=True, slots=True)
class PutStudy:
    """Change the study's title, and whether it is for practice or blind.

    In practice simulated readings count; blind hides earlier values at the bench; balanced
    changes the order of the devices from visit to visit.
    """

    title: str
    practice: bool
    blind: bool = False
    balanced: bool = False

    @property
    def words(self) -> str:
        """What the edit does."""
        return "change the study"

    def write(self, journal: Journal) -> None:
        """Write both; what simulated readings mean changes with them."""
        title = plain_name(self.title)
        if not title:
            raise EditRefused("the study needs a title; nothing was changed")
        journal.update(
            "study",
            {"id": 1},
            {
                "title": title,
                "practice": int(self.practice),
                "blind": int(self.blind),
                "balanced": int(self.balanced),
            },
        )
        for (metric,) in journal.rows("SELECT DISTINCT metric FROM reading WHERE simulated = 1"):
            journal.touch_metric(metric, None, added=False)
