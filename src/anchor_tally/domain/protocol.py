"""The measuring protocol: conditions of a visit, what is required, and what a breach means."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

ANY = "any"  # either answer will do
OWN = "own_"  # keys of the study's own conditions begin with it


@dataclass(frozen=True, slots=True)
class Condition:
    """One condition of a visit.

    ``wanted`` is the answer that the protocol asks for; ``breach`` says what another one does.

    Answers are yes and no, or for ``hours`` a number; then ``wanted`` is the least one. Wanted
    may also be ANY.
    """

    key: str
    label: str
    question: str
    wanted: str
    breach: str
    hours: bool = False

    @property
    def other(self) -> str:
        """The answer that breaks the protocol; no where either will do."""
        return "no" if self.wanted in ("yes", ANY) else "yes"

    @property
    def first(self) -> str:
        """The answer that is offered first."""
        return "yes" if self.wanted == ANY else self.wanted

    def broken_by(self, answer: str) -> bool:
        """Whether an answer is not what is wanted."""
        if self.wanted == ANY:
            return False
        if not self.hours:
            return answer != self.wanted
        try:
            return float(answer.replace(",", ".")) < float(self.wanted)
        except ValueError:
            return True


CYCLE = "menstruation_week"  # asked only of clients for whom it is switched on
# common practice, no published source
# fmt: off
CONDITIONS = (
    Condition("morning", "Morning", "Measured in the morning?", "yes", "later in the day, water collects in the legs"),
    Condition("voided", "Voided", "Bladder and bowel emptied?", "yes", "body mass and fat read too high"),
    Condition("fasted", "Fasted", "No food or drink yet?", "yes", "food and drink shift impedance and mass for hours"),
    Condition("hours_awake", "Hours awake", "How many hours since waking?", "1", "body water still shifts in the first hours after rising", hours=True),
    Condition("exercise_24h", "No exercise", "Exercise in the 24 hours before?", "no", "lost water and warm skin change impedance fat"),
    Condition("bare_dry_feet", "Bare dry feet", "Feet and hands bare, clean and dry?", "yes", "poor contact raises resistance, so fat reads too high"),
    Condition("same_clothing", "Usual clothing", "Same light clothing as always?", "yes", "clothing adds to body mass"),
    Condition("level_floor", "Hard floor", "Hard, level floor?", "yes", "a soft or sloping floor changes the mass shown"),
    Condition("zero_shown", "Zero shown", "Waited for the zero?", "yes", "the mass may include an old tare"),
    Condition("limbs_apart", "Limbs apart", "Arms and thighs not touching?", "yes", "touching limbs shorten the current path, so fat reads too low"),
    Condition("large_meal_evening", "No heavy evening", "Large meal, salt, alcohol or carbohydrate the evening before?", "no", "water and glycogen are up"),
    Condition("same_hour", "Usual hour", "The hour of the scan and of other visits?", "yes", "the daily rhythm adds to the difference"),
    Condition(CYCLE, "Outside cycle week", "In the week around menstruation?", "no", "the body holds water; do not mix with other weeks"),
)
# fmt: on
BY_KEY = {c.key: c for c in CONDITIONS}
ASKED_AT_FIRST = (
    "voided",
    "fasted",
    "exercise_24h",
    "bare_dry_feet",
    "same_clothing",
    "zero_shown",
    "large_meal_evening",
    "same_hour",
)


@dataclass(frozen=True, slots=True)
class ProtocolItem:
    """A condition as this study has it, and whether it is asked for."""

    condition: Condition
    asked: bool


def item_of(
    key: str, asked: bool | None, wanted: str, label: str, breach: str
) -> ProtocolItem | None:
    """A condition of the registry with the study's changes, or one of the study's own.

    None for a key that is neither.
    """
    known = BY_KEY.get(key)
    if known is None and not key.startswith(OWN):
        return None
    base = known or Condition(key, label, label, "yes", breach)
    condition = replace(base, wanted=wanted or base.wanted)
    return ProtocolItem(
        condition, key in ASKED_AT_FIRST or key == CYCLE if asked is None else asked
    )


def breaches(
    answers: Mapping[str, str], conditions: Iterable[Condition] = CONDITIONS
) -> tuple[Condition, ...]:
    """Conditions whose noted answer is not the wanted one."""
    return tuple(c for c in conditions if c.key in answers and c.broken_by(answers[c.key]))
