"""The line protocol of a device: text lines with a check number. See docs/devices.md."""

from __future__ import annotations

import re
from dataclasses import dataclass

from ..domain.metrics import metric_named
from ..domain.units import ValueRefused, parse_quantity

LONGEST = 160  # bytes of one line; anything longer is noise
ENDLESS = 4096  # bytes without a line end: this is no device of the protocol
LIGHTEST, HEAVIEST = 2.0, 700.0  # kg of a person; a settled mass outside them is no reading
_LINE = re.compile(r"([A-Z])(?: (.*))? #(\d\d)")
_NUMBER = re.compile(r"-?\d{1,5}(?:\.\d{1,4})?")


@dataclass(frozen=True, slots=True)
class Hello:
    """A device names itself."""

    model: str
    serial: str


@dataclass(frozen=True, slots=True)
class Live:
    """The mass shown at this moment (kg), and whether it has settled."""

    kg: float
    settled: bool


@dataclass(frozen=True, slots=True)
class Value:
    """One value of a numbered measurement, as sent."""

    tally: int
    metric: str
    text: str
    unit: str


@dataclass(frozen=True, slots=True)
class Done:
    """All values of a measurement were sent; ``count`` of them."""

    tally: int
    count: int


@dataclass(frozen=True, slots=True)
class Failed:
    """A measurement gave no value, for this reason."""

    tally: int
    reason: str


@dataclass(frozen=True, slots=True)
class Empty:
    """Nobody stands on the device."""


@dataclass(frozen=True, slots=True)
class Nonsense:
    """A line that is not of the protocol, and why."""

    text: str
    why: str


Line = Hello | Live | Value | Done | Failed | Empty | Nonsense


def check_number(body: str) -> str:
    """Two digits: the sum of the bytes before `` #``, modulo 100."""
    return f"{sum(body.encode('ascii', 'replace')) % 100:02}"


def format_line(line: Line) -> str:
    """A line as a device sends it, without its line end."""
    match line:
        case Hello(model, serial):
            body = f"H {model} {serial}"
        case Live(kg, settled):
            body = f"L {kg:.2f} {'=' if settled else '~'}"
        case Value(tally, metric, text, unit):
            body = f"V {tally} {metric} {text} {unit}"
        case Done(tally, count):
            body = f"D {tally} {count}"
        case Failed(tally, reason):
            body = f"F {tally} {reason}"
        case Empty():
            body = "Z"
        case Nonsense(text, _):
            return text
    return f"{body} #{check_number(body)}"


def parse_line(text: str) -> Line:
    """Read one line; whatever it is, something comes back and nothing is raised."""
    shown = text[:40]
    found = _LINE.fullmatch(text)
    if found is None:
        return Nonsense(shown, "not a line of the protocol")
    body = text[: text.rindex(" #")]
    if check_number(body) != found[3]:
        return Nonsense(shown, "the check number does not fit")
    kind, words = found[1], (found[2] or "").split(" ")
    try:
        match kind, words:
            case "H", [model, serial] if model and serial:
                return Hello(model, serial)
            case "L", [kg, ("=" | "~") as mark] if _NUMBER.fullmatch(kg):
                if not -HEAVIEST <= float(kg) <= HEAVIEST:
                    return Nonsense(shown, f"a mass of {kg} kg is not possible")
                return Live(float(kg), mark == "=" and float(kg) >= LIGHTEST)
            case "V", [tally, metric, value, unit] if _NUMBER.fullmatch(value):
                m = metric_named(metric)
                if m is None:
                    return Nonsense(shown, f"metric {metric} is not known")
                parse_quantity(f"{value} {unit}", m)
                return Value(_count(tally), metric, value, unit)
            case "D", [tally, count]:
                return Done(_count(tally), _count(count))
            case "F", [tally, *reason] if reason:
                return Failed(_count(tally), " ".join(reason))
            case "Z", [""]:
                return Empty()
    except ValueRefused as error:
        return Nonsense(shown, str(error))
    except ValueError:
        return Nonsense(shown, "a number is missing")
    return Nonsense(shown, "not a line of the protocol")


def _count(text: str) -> int:
    if not (text.isascii() and text.isdigit() and len(text) < 8):
        raise ValueError(text)
    return int(text)


class Assembler:
    """Bytes as they come, cut into lines.

    Half a line waits for its rest, an endless one is thrown away.
    """

    def __init__(self) -> None:
        self._rest = b""
        self._skipping = False
        self._since = 0

    @property
    def endless(self) -> bool:
        """Whether so much has come without a line end that nothing more is to be hoped for."""
        return self._since > ENDLESS

    def feed(self, data: bytes) -> list[str]:
        """Whole lines that are complete now."""
        self._since = 0 if b"\n" in data or b"\r" in data else self._since + len(data)
        *whole, self._rest = (self._rest + data).replace(b"\r", b"\n").split(b"\n")
        lines = []
        for line in whole:
            if self._skipping:
                self._skipping = False
            elif line:
                lines.append(line[: LONGEST + 1].decode("ascii", "replace"))
        if len(self._rest) > LONGEST:
            self._rest, self._skipping = b"", True
        return lines

    def reset(self) -> None:
        """Forget half a line: the connection was lost."""
        self._rest, self._skipping, self._since = b"", False, 0
