"""Short names of instruments, for axes and table heads."""

from __future__ import annotations

import re

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
    """Label of a method without its authors.

    "BMI equation (Deurenberg 1991)" becomes "BMI equation 1991".
    """
    match = _PUBLISHED.match(name)
    return f"{match[1]} {match[2]}" if match else name
