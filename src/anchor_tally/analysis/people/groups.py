"""Groups of clients by what stands on their cards: sex, age, usual activity."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date

from ...domain.records import Client

AGES = (30, 50)  # years at which one band of ages ends and the next begins
MOST_ACTIVITIES = 8  # more are no groups


@dataclass(frozen=True, slots=True)
class ClientGroup:
    """Clients with the same entry of the card: ``column``, the entry in words, their codes."""

    column: str
    name: str
    codes: frozenset[str]


def client_groups(clients: Iterable[Client], today: date) -> tuple[ClientGroup, ...]:
    """All groups with at least one client, in the order of the columns.

    Parameters
    ----------
    clients : iterable of Client
        The clients to group.
    today : date
        The day on which ages are taken; a birth without day or month counts from its first.

    Returns
    -------
    tuple of ClientGroup
        Columns that divide nobody have no groups.
    """
    people = list(clients)
    found: list[ClientGroup] = []
    for column, names in (
        ("sex", [{"female": "Women", "male": "Men"}.get(c.sex, "") for c in people]),
        ("age", [_band(c.birth, today) for c in people]),
        ("activity", [c.usual_activity.strip() for c in people]),
    ):
        kinds = list(dict.fromkeys(n for n in names if n))
        if len(kinds) < 2 or (column == "activity" and len(kinds) > MOST_ACTIVITIES):
            continue
        order = _BANDS if column == "age" else kinds
        found += [
            ClientGroup(
                column,
                kind,
                frozenset(c.code for c, n in zip(people, names, strict=True) if n == kind),
            )
            for kind in order
            if kind in kinds
        ]
    return tuple(found)


_BANDS = (
    f"Under {AGES[0]} years",
    f"{AGES[0]} to {AGES[1] - 1} years",
    f"{AGES[1]} years and over",
)


def _band(birth: str, today: date) -> str:
    """The band of ages of a birth (year, month or day); "" where none is kept."""
    if not birth:
        return ""
    parts = [*map(int, birth.split("-")), 1, 1][:3]
    born = date(*parts)
    age = today.year - born.year - ((today.month, today.day) < (born.month, born.day))
    return _BANDS[sum(age >= limit for limit in AGES)]
