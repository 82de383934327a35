"""The measuring protocol: conditions to be noted at a visit, what is wanted, and what a breach means."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Condition:
    """One condition of a visit. ``wanted`` is the answer that the protocol asks for; ``breach`` says what another one does."""

    key: str
    label: str
    question: str
    wanted: str
    breach: str

    @property
    def other(self) -> str:
        """The answer that breaks the protocol."""
        return "no" if self.wanted == "yes" else "yes"


# common practice, no published source
# fmt: off
CONDITIONS = (
    Condition("morning", "Morning", "Measured in the morning?", "yes", "later in the day the body holds more water low down"),
    Condition("voided", "Voided", "Bladder and bowel emptied?", "yes", "body mass reads high, and fat with it"),
    Condition("fasted", "Fasted", "No food or drink yet?", "yes", "food and drink shift impedance and mass for hours"),
    Condition("exercise_24h", "No exercise", "Exercise in the 24 hours before?", "no", "lost water and warm skin pull impedance fat down or up"),
    Condition("bare_dry_feet", "Bare dry feet", "Feet and hands bare, clean and dry?", "yes", "poor contact raises resistance: fat reads high"),
    Condition("same_clothing", "Usual clothing", "Same light clothing as always?", "yes", "clothing goes into the mass"),
    Condition("level_floor", "Hard floor", "Hard, level floor?", "yes", "a soft or sloping floor changes the mass shown"),
    Condition("zero_shown", "Zero shown", "Waited for the zero?", "yes", "the mass may carry an old tare"),
    Condition("limbs_apart", "Limbs apart", "Arms and thighs not touching?", "yes", "touching limbs shorten the path: fat reads low"),
    Condition("large_meal_evening", "No heavy evening", "Large meal, salt, alcohol or carbohydrate the evening before?", "no", "water and glycogen are up"),
    Condition("same_hour", "Usual hour", "The hour of the scan and of other visits?", "yes", "the day's rhythm is mixed into the difference"),
    Condition("menstruation_week", "Outside cycle week", "In the week around menstruation?", "no", "water is held: do not mix with other weeks"),
)
# fmt: on
BY_KEY = {c.key: c for c in CONDITIONS}
ASKED_AT_FIRST = ("voided", "fasted", "exercise_24h", "bare_dry_feet", "same_clothing", "large_meal_evening", "same_hour")


def breaches(answers: dict[str, str]) -> tuple[Condition, ...]:
    """Conditions whose noted answer is not the wanted one."""
    return tuple(c for c in CONDITIONS if answers.get(c.key, c.wanted) != c.wanted)
