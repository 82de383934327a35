"""A person's row of a foreign table as a card.

Sex, birth, height, and the cautions that are recognised among free words.
"""

from __future__ import annotations

import re

from ..domain.errors import UserError
from ..domain.import_rows import ImportCard, Refused
from ..domain.instants import canonical
from ..domain.text import plain_name, plain_text
from ..domain.units import Quantity
from .dates import iso_moment, short_year

_SEXES = {"male": "m man male boy männlich mann", "female": "f w woman female girl weiblich frau"}
# words in a column of cautions; what is none of these goes to the notes, so that nothing written is
# lost
_CAUTIONS = (
    (r"pace\s?maker|implant|defibrillator|icd\b", "implant"),
    (r"pregnan", "pregnant"),
    (r"eating|anorexi|bulimi", "eating_disorder"),
    (r"cutting|making weight|diuretic", "cutting_weight"),
    (r"\bill\b|illness|sick|fever", "ill"),
    (r"low energy|red-?s\b|amenorr", "low_energy"),
)
_DOTTED = re.compile(r"\d{1,2}\.\d{1,2}\.\d{4}")
_NONE = frozenset({"", "none", "no", "-", "–", "n/a", "na", "nil", "0"})


def sex_of(text: str) -> str:
    """Male or female from a word or letter; any other text as it is."""
    low = text.strip().lower()
    return next((sex for sex, words in _SEXES.items() if low in words.split()), low)


def card_of(
    line: int, client: str, said: dict[str, str], height: str, date_order: str
) -> ImportCard | Refused:
    """The card that a row describes, or the refusal that names its column by role.

    ``height`` is in cm. A birth is a year, or a day in the table's order of dates. A birth with
    dots beside visits written year first is day first, since dots are written that way only.
    """
    code = plain_name(client)
    if not code:
        return Refused(line, "client", "", "the client's code is missing")
    sex = sex_of(said["sex"])
    if sex in _NONE:
        sex = ""
    if sex not in ("", "male", "female"):
        return Refused(line, "sex", said["sex"][:80], "must be male, female or empty")
    birth = said["birth"].strip()
    short = short_year(birth)
    if birth.lower() in _NONE:
        birth = ""
    elif not re.fullmatch(r"(19|20)\d{2}(-\d{2})?", birth):
        try:
            order = "dmy" if _DOTTED.fullmatch(birth) and date_order == "iso" else date_order
            birth = canonical(iso_moment(birth, "", order))[:10]
        except (ValueError, UserError) as error:
            return Refused(line, "birth", birth[:80], str(error))
    words = said["cautions"].strip()
    found = frozenset(key for pattern, key in _CAUTIONS if re.search(pattern, words, re.I))
    notes = [said["note"]]
    if words.lower() not in _NONE:
        notes.append(f"cautions as written: {words}")
    if said["age_years"] and not birth:
        notes.append(f"age {said['age_years']} when the table was written")
    tall = Quantity(float(height), height, "cm") if height else None
    return ImportCard(
        line,
        code,
        plain_name(said["name"]) if plain_name(said["name"]) != code else "",
        sex,
        birth,
        tall,
        found,
        plain_text("; ".join(n for n in notes if n)),
        short_year=short,
    )
