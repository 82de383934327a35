"""Short names of instruments, for axes and table heads."""

from __future__ import annotations

import re

LONGEST = 28  # letters of a label
_PUBLISHED = re.compile(r"^(.*?) \(.*\b(\d{4})\)$")


_EVENTS = {
    "weight_cut": "cutting weight",
    "programme": "new programme",
    "race": "race week",
    "cycle": "around menstruation",
    "battery": "new battery",
    "set_by_hand": "level set by hand",
}


def event_words(kind: str) -> str:
    """A kind of event in words."""
    return _EVENTS.get(kind, kind.replace("_", " "))


def short_name(name: str) -> str:
    """Label for axes and heads: a method without its authors, a long name cut short.

    Examples
    --------
    >>> short_name("BMI equation (Deurenberg 1991)")
    'BMI equation 1991'
    >>> short_name("Foot scale from the boat house cellar")
    'Foot scale from the boat ho…'
    """
    match = _PUBLISHED.match(name)
    label = f"{match[1]} {match[2]}" if match else name
    return label if len(label) <= LONGEST else f"{label[: LONGEST - 1].rstrip()}…"
