"""Short names of instruments, for axes and table heads."""

from __future__ import annotations

import re

_PUBLISHED = re.compile(r"^(.*?) \(.*\b(\d{4})\)$")


def short_name(name: str) -> str:
    """Label of a method without its authors.

    "BMI equation (Deurenberg 1991)" becomes "BMI equation 1991".
    """
    match = _PUBLISHED.match(name)
    return f"{match[1]} {match[2]}" if match else name
