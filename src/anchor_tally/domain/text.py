"""Text from outside: what people type and files hold, as plain text."""

from __future__ import annotations

import re
import unicodedata

LONGEST_NAME, LONGEST_TEXT = 120, 4000
_SPACES = re.compile(r"\s+")
# marks that turn the direction of the text after them: a name could pass for another one
_TURNING = frozenset("\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069")
_FORMULA = re.compile(r"'*[=+\-@\t\r]")
_NUMBER = re.compile(r"[+-]?[\d.,]+(?:[eE][+-]?\d+)?")


def _keeps(c: str) -> bool:
    return c not in _TURNING and not unicodedata.category(c).startswith(("Cc", "Cs"))


def plain_name(text: str) -> str:
    """Return a name on one line of at most 120 characters.

    Control and direction marks are removed; white space becomes one space.
    """
    return (
        _SPACES.sub(" ", "".join(c if _keeps(c) else " " for c in text))
        .strip()[:LONGEST_NAME]
        .rstrip()
    )


def plain_text(text: str) -> str:
    """Free text: control marks other than line ends gone, at most 4,000 characters."""
    return "".join(c for c in text if c == "\n" or _keeps(c)).strip()[:LONGEST_TEXT]


def guarded(text: str) -> str:
    """Return a cell of a text file that no spreadsheet computes.

    An apostrophe stands before a text that begins like a formula.

    Numbers stay as they are; ``unguarded`` gives back exactly what was given.
    """
    return f"'{text}" if _FORMULA.match(text) and not _NUMBER.fullmatch(text) else text


def unguarded(text: str) -> str:
    """What ``guarded`` was given."""
    return text[1:] if text.startswith("'") and _FORMULA.match(text) else text


def short(error: BaseException) -> str:
    """What an error says, on one line of at most 120 characters."""
    return " ".join(str(error).split())[:120] or type(error).__name__


def as_sentence(text: str) -> str:
    """A message as a sentence: with a capital, unless it begins with a name or a file, and a stop.

    >>> as_sentence("the rule makes no day; nothing was changed")
    'The rule makes no day; nothing was changed.'
    >>> as_sentence("x.csv: the file is empty")
    'x.csv: the file is empty.'
    """
    first = text.split(" ", 1)[0]
    if first.isalpha() and first.islower():
        text = text[:1].upper() + text[1:]
    return text if not text or text.endswith((".", "!", "?", "…")) else f"{text}."
