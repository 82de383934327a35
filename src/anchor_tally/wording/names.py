"""Short names of instruments, for axes and table heads."""

from __future__ import annotations

import re

LONGEST = 28  # letters of a label on an axis
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


def axis_name(name: str) -> str:
    """Label for axes and heads of columns: the short name, a long one cut.

    Examples
    --------
    >>> axis_name("BMI equation (Deurenberg 1991)")
    'BMI equation 1991'
    >>> axis_name("Foot scale from the boat house cellar")
    'Foot scale from the boat ho…'
    """
    label = short_name(name)
    return label if len(label) <= LONGEST else f"{label[: LONGEST - 1].rstrip()}…"
