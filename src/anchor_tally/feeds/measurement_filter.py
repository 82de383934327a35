"""What may be taken from a device: only whole measurements that settled, each once."""

from __future__ import annotations

from dataclasses import dataclass

from .protocol import LIGHTEST, Done, Empty, Failed, Hello, Line, Live, Nonsense, Value

LEAST_MASS = LIGHTEST  # kg: less than that is an empty platform
MOST_VALUES, MOST_WAITING = (
    64,
    4,
)  # values of a measurement, and measurements without their end mark, that are held
LARGEST_STEP = (
    0.3  # kg that a settled mass may still move by before it counts as another stepping on
)


@dataclass(frozen=True, slots=True)
class Shown:
    """The mass to be shown while somebody stands on the device."""

    kg: float
    settled: bool


@dataclass(frozen=True, slots=True)
class Taken:
    """A whole measurement: metric, number and unit as sent."""

    tally: int
    values: tuple[tuple[str, str, str], ...]


@dataclass(frozen=True, slots=True)
class NoValue:
    """A measurement that failed; it is kept as a failed reading."""

    tally: int
    reason: str


@dataclass(frozen=True, slots=True)
class LeftOut:
    """Something that was not taken, and why."""

    why: str


@dataclass(frozen=True, slots=True)
class Named:
    """The device said what it is."""

    model: str


Event = Shown | Taken | NoValue | LeftOut | Named


class MeasurementFilter:
    """Follows the lines of one device.

    A measurement is taken when the mass had settled before its first value, did not move again
    since, all values announced came, and its number was not taken before. Anything else is left
    out with a reason.
    """

    def __init__(self) -> None:
        self._settled_at: float | None = None
        self._values: dict[int, list[Value]] = {}
        self._spoiled: set[int] = set()
        self._last = 0

    def line(self, line: Line) -> Event | None:
        """What a line means."""
        match line:
            case Hello(model, _):
                self._last = 0
                return Named(model)
            case Live(kg, settled):
                if settled and kg >= LEAST_MASS:
                    self._settled_at = kg
                elif self._settled_at is not None and abs(kg - self._settled_at) > LARGEST_STEP:
                    self._settled_at = None
                    self._spoiled |= self._values.keys()
                return Shown(kg, settled)
            case Value(tally):
                if self._settled_at is None:
                    self._spoiled.add(tally)
                held = self._values.setdefault(tally, [])
                if len(held) >= MOST_VALUES or len(self._values) > MOST_WAITING:
                    del self._values[tally]
                    self._spoiled.discard(tally)
                    return LeftOut("values came without the end mark of their measurement")
                held.append(line)
                return None
            case Done(tally, count):
                return self._done(tally, count)
            case Failed(tally, reason):
                self._values.pop(tally, None)
                if tally <= self._last:
                    return None
                self._last = tally
                return NoValue(tally, reason)
            case Empty():
                self._settled_at = None
                return self._drop("stepped off before the measurement was complete")
            case Nonsense(_, why):
                return LeftOut(f"a line was not understood: {why}")

    def _done(self, tally: int, count: int) -> Event | None:
        values = self._values.pop(tally, [])
        spoiled = tally in self._spoiled
        self._spoiled.discard(tally)
        if tally <= self._last:
            return LeftOut(f"measurement {tally} was taken before")
        if spoiled or self._settled_at is None:
            return LeftOut("the reading did not settle")
        if count < 1 or len({v.metric for v in values}) != count or len(values) != count:
            return LeftOut(f"{len(values)} of {count} values came")
        self._last = tally
        return Taken(tally, tuple((v.metric, v.text, v.unit) for v in values))

    def lost(self) -> Event | None:
        """The connection broke: what was half measured is left out."""
        self._settled_at = None
        return self._drop("the connection broke during a measurement")

    def _drop(self, why: str) -> Event | None:
        there = bool(self._values)
        self._values.clear()
        self._spoiled.clear()
        return LeftOut(why) if there else None
