"""Visits as columns, with age and height filled in from what is known of the client."""

from __future__ import annotations

import math
import sqlite3
from bisect import bisect_right
from collections.abc import Generator
from datetime import date
from typing import Any

import numpy as np

from ..domain.snapshot import VisitColumns, read_only
from ..domain.steps import finish

_AGE = (
    "(julianday(substr(v.start, 1, 10)) - julianday(substr(c.birth || '-07-01', 1, 10))) / 365.25"
)
History = dict[int, list[tuple[str, float]]]


def _last(known: History, client: int, day: str) -> tuple[str, float] | None:
    """The last one known on or before a day, else the first one after it."""
    history = known.get(client)
    return history[max(bisect_right(history, (day, math.inf)) - 1, 0)] if history else None


BLOCK = 8000  # visits looked at between two events of the window


def visits(conn: sqlite3.Connection, only: int | None = None) -> VisitColumns:
    """All visits as columns, or those of one client."""
    return finish(visits_steps(conn, only))


def visits_steps(
    conn: sqlite3.Connection, only: int | None = None
) -> Generator[int, None, VisitColumns]:
    """All visits as columns, or those of one client; yields how many were looked at.

    An age that the visit does not state comes from the client's birth date (a year alone counts
    as its middle), else from the age stated at another visit and the time between; a height from
    the height history and other visits (the last one up to the visit, else the first one after
    it).
    """
    cursor = conn.execute(
        "SELECT v.id, v.client, v.start, v.age_years, v.height_cm, CASE WHEN c.birth <> '' THEN"
        f" {_AGE} END, v.instant FROM visit v JOIN client c ON c.id = v.client WHERE ?1 IS NULL OR"
        " v.client = ?1 ORDER BY v.id",
        (only,),
    )
    heights: History = {}
    ages: History = {}
    for client, day, height in conn.execute(
        "SELECT client, day, height_cm FROM client_height WHERE ?1 IS NULL OR client = ?1", (only,)
    ):
        heights.setdefault(client, []).append((day, height))
    rows: list[tuple[Any, ...]] = []
    while block := cursor.fetchmany(BLOCK):
        rows += block
        for _, client, start, age, height, *_ in block:
            for known, value in ((ages, age), (heights, height)):
                if value is not None:
                    known.setdefault(client, []).append((start[:10], value))
        yield len(rows)
    for history in (*heights.values(), *ages.values()):
        history.sort()

    def height_of(client: int, start: str, stated: float | None) -> float:
        found = _last(heights, client, start[:10]) if stated is None else ("", stated)
        return found[1] if found else math.nan

    def age_of(client: int, start: str, stated: float | None, by_birth: float | None) -> float:
        sure = by_birth if stated is None else stated
        if sure is not None:
            return float(sure)
        found = _last(ages, client, start[:10])
        if found is None:
            return math.nan
        passed = date.fromisoformat(start[:10]) - date.fromisoformat(found[0])
        return found[1] + passed.days / 365.25

    age_years, height_cm = np.empty(len(rows)), np.empty(len(rows))
    for at in range(0, len(rows), BLOCK):
        block = rows[at : at + BLOCK]
        age_years[at : at + BLOCK] = [age_of(r[1], r[2], r[3], r[5]) for r in block]
        height_cm[at : at + BLOCK] = [height_of(r[1], r[2], r[4]) for r in block]
        yield len(rows)
    return VisitColumns(
        read_only([r[0] for r in rows], np.int64),
        read_only([r[1] for r in rows], np.int64),
        read_only([r[6] for r in rows], np.int64),
        read_only(age_years, np.float64),
        read_only(height_cm, np.float64),
    )
