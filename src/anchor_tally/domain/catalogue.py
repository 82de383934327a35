"""What a study is about, without its readings: clients, instruments, settings, protocol.

Cheap to read anew.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from types import MappingProxyType

from .events import Height
from .metrics import Metric
from .protocol import CYCLE, Condition, ProtocolItem, breaches
from .records import Client, Instrument, Setting, StationChoice
from .repeats import Rule
from .stations import STATION, station_of


@dataclass(frozen=True, slots=True)
class Catalogue:
    """Clients, instruments and settings by number; heights by client.

    Offered metrics with resolution by instrument.

    ``gap`` is the study's visit gap in seconds, ``zone`` its time zone; in a study for
    ``practice`` simulated readings count, in a ``blind`` one the bench hides earlier and
    corrected values; in a ``balanced`` one the order of the devices changes from visit to
    visit. ``stated`` holds what the user states of a metric, by (metric, what):
    ``margin``, ``reference_sd`` (SD of one scan) and ``client_sd`` (spread of a device's offset
    between clients), in the metric's unit. ``protocol`` holds the conditions as this study has
    them, ``wanted_by`` what an instrument wants otherwise, by (instrument, key); ``stations``
    what was chosen for a station, ``landmarks`` the study's own words for a site, by metric.
    """

    title: str = ""
    gap: int = 7200
    zone: str = "UTC"
    practice: bool = False
    blind: bool = False
    balanced: bool = False
    clients: Mapping[int, Client] = field(default_factory=lambda: MappingProxyType({}))
    instruments: Mapping[int, Instrument] = field(default_factory=lambda: MappingProxyType({}))
    settings: Mapping[int, Setting] = field(default_factory=lambda: MappingProxyType({}))
    heights: Mapping[int, tuple[Height, ...]] = field(default_factory=lambda: MappingProxyType({}))
    offers: Mapping[int, Mapping[str, float | None]] = field(
        default_factory=lambda: MappingProxyType({})
    )
    protocol: tuple[ProtocolItem, ...] = ()
    wanted_by: Mapping[tuple[int, str], str] = field(default_factory=lambda: MappingProxyType({}))
    stations: Mapping[str, StationChoice] = field(default_factory=lambda: MappingProxyType({}))
    landmarks: Mapping[str, str] = field(default_factory=lambda: MappingProxyType({}))
    stated: Mapping[tuple[str, str], float] = field(default_factory=lambda: MappingProxyType({}))

    @property
    def asked(self) -> tuple[str, ...]:
        """Keys of the conditions that are asked for at each visit."""
        return tuple(item.condition.key for item in self.protocol if item.asked)

    def conditions_for(self, client: Client | None) -> tuple[Condition, ...]:
        """The conditions that are asked of a client.

        That of the cycle only where it is switched on.
        """
        cycle = client is not None and client.cycle
        return tuple(
            i.condition for i in self.protocol if i.asked and (cycle or i.condition.key != CYCLE)
        )

    def own_breaches(self, instrument: int, answers: Mapping[str, str]) -> tuple[Condition, ...]:
        """Conditions that an instrument requires beyond the protocol and that were not met."""
        wanted = {
            key: answer for (number, key), answer in self.wanted_by.items() if number == instrument
        }
        own = (
            replace(i.condition, wanted=wanted[i.condition.key])
            for i in self.protocol
            if i.condition.key in wanted
        )
        return breaches(answers, own)

    def rule_of(self, metric: str, instrument: Instrument | None = None) -> Rule:
        """Number of repeats and how they are combined.

        From the station that measures a metric, else from the instrument.
        """
        station = station_of(metric, instrument.kind if instrument is not None else "method")
        if station is None or (instrument is not None and instrument.kind == "device"):
            return Rule(instrument.repeats, instrument.counts) if instrument is not None else Rule()
        chosen = self.stations.get(station)
        if metric in STATION[station].once:
            return Rule(1)
        return (
            Rule(chosen.repeats, chosen.counts)
            if chosen is not None
            else Rule(STATION[station].repeats)
        )

    def margin(self, metric: Metric) -> float | None:
        """The difference that matters for a metric: as stated in the study, else the metric's own.

        None when it has none.
        """
        return self.stated.get((metric.id, "margin"), metric.margin)

    def client_coded(self, code: str) -> Client | None:
        """A client by code."""
        return next((c for c in self.clients.values() if c.code == code), None)

    def client_named(self, text: str) -> Client | None:
        """A client by code, or by a name that only one has, whatever the case."""
        low = text.strip().lower()
        exact = self.client_coded(text.strip()) or next(
            (c for c in self.clients.values() if c.code.lower() == low), None
        )
        named = [c for c in self.clients.values() if c.name and c.name.lower() == low]
        return exact or (named[0] if len(named) == 1 else None)

    def instrument_named(self, name: str) -> Instrument | None:
        """An instrument by name or equation id, whatever the case."""
        low = name.strip().lower()
        for item in self.instruments.values():
            if low in (item.name.lower(), item.equation.lower()):
                return item
        return None

    def settings_of(self, instrument: int) -> Iterator[Setting]:
        """The periods of an instrument."""
        return (s for s in self.settings.values() if s.instrument == instrument)

    def setting_in_force(self, instrument: str, day: str, client: str = "") -> str:
        """Label of the newest setting that starts on or before ``day``, or empty.

        A client's own goes before one for all.
        """
        item = next((i for i in self.instruments.values() if i.name == instrument), None)
        person = self.client_coded(client)
        number = person.id if person else None
        fitting = [
            s
            for s in (self.settings_of(item.id) if item else ())
            if s.starts[:10] <= day[:10] and (s.client is None or s.client == number)
        ]
        best = max(fitting, key=lambda s: (s.client is not None, s.starts, s.id), default=None)
        return best.label if best else ""
