"""A simulated scale: how a device of a profile sees a person, and what it sends while doing so."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from ..scenario.device import Device
from .protocol import Done, Empty, Failed, Hello, Line, Live, Value


@dataclass(frozen=True, slots=True)
class Person:
    """True values on the scale.

    Mass in kg, fat in percent, water above the usual in points, weeks since the scale was
    new.
    """

    mass: float
    fat: float
    wet: float = 0.0
    week: float = 0.0


@dataclass(frozen=True, slots=True)
class Profile:
    """A kind of device: how it measures fat, its electrodes, and seconds until the mass settles."""

    model: str
    electrodes: str
    device: Device
    seconds: float
    composition: bool = True
    segments: bool = False


PROFILES = {
    "feet": Profile(
        "sim-feet", "feet", Device(2.1, 0.3, hydration=0.6, athlete=-3.2, failures=0.05), 3.0
    ),
    "hands": Profile("sim-hands", "hands", Device(-2.4, 0.4, athlete=-3.0, failures=0.25), 2.0),
    "eight": Profile(
        "sim-eight",
        "eight",
        Device(-0.8, 0.15, hydration=0.5, drift=0.02, athlete=-3.2, failures=0.03),
        4.0,
        segments=True,
    ),
    "check_weight": Profile("sim-plain", "none", Device(0.0, 0.0), 2.0, composition=False),
}
_REASONS = ("poor contact", "moved", "no value")
# share of fat and of lean in each part of the body (common practice, for the simulator only)
_PARTS = {"arm_left": 0.06, "arm_right": 0.06, "leg_left": 0.17, "leg_right": 0.17, "trunk": 0.46}


def measure(
    profile: Profile, person: Person, tally: int, rng: np.random.Generator, *, athlete: bool = False
) -> Iterator[tuple[float, Line]]:
    """One stepping on: pairs of a pause in seconds and the line that follows it."""
    yield 0.0, Live(0.0, False)
    for share in np.linspace(0.2, 1.0, 8):
        sway = float(rng.normal(0, 1.5 * (1 - share) + 0.12))
        yield (
            profile.seconds / 10,
            Live(max(person.mass * min(1.0, share * 1.25) + sway, 0.0), False),
        )
    shown = round((person.mass + float(rng.normal(0, 0.04))) / 0.1) * 0.1
    yield profile.seconds / 10, Live(shown, True)
    yield profile.seconds / 5, Live(shown, True)
    if rng.random() < profile.device.failures:
        yield 0.3, Failed(tally, str(rng.choice(_REASONS)))
    else:
        values = [("body_mass", f"{shown:.1f}", "kg")]
        if profile.composition:
            values += _composition(profile, person, shown, rng, athlete)
        for metric, text, unit in values:
            yield 0.05, Value(tally, metric, text, unit)
        yield 0.05, Done(tally, len(values))
    yield 0.5, Empty()


def _composition(
    profile: Profile, person: Person, shown: float, rng: np.random.Generator, athlete: bool
) -> list[tuple[str, str, str]]:
    error = float(rng.normal(0, profile.device.noise))
    fat = profile.device.shown(person.fat, error, wet=person.wet, week=person.week, athlete=athlete)
    water = (100 - fat) * 0.732  # computed from the same number, as such devices do
    values = [
        ("body_fat_percent", f"{fat:.1f}", "percent"),
        ("total_body_water_percent", f"{water:.1f}", "percent"),
    ]
    if profile.segments:
        lean = shown * (1 - fat / 100)
        for part, share in _PARTS.items():
            values.append((f"fat_mass_{part}", f"{shown * fat / 100 * share:.1f}", "kg"))
            values.append((f"lean_soft_tissue_{part}", f"{lean * share:.1f}", "kg"))
    return values


def greeting(profile: Profile) -> Hello:
    """What the device says first."""
    return Hello(profile.model, "0001")
