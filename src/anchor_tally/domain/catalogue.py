"""What a study is about, without its readings: clients, instruments, settings, protocol. Cheap to read anew."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from types import MappingProxyType

from .metrics import Metric
from .records import Client, Height, Instrument, Setting


@dataclass(frozen=True, slots=True)
class Catalogue:
    """Clients, instruments and settings by number; heights by client; offered metrics with resolution by instrument.

    ``gap`` is the study's visit gap in seconds, ``zone`` its time zone, ``asked`` the conditions noted at each visit; in a study
    for ``practice`` simulated readings count, in a ``blind`` one the bench hides earlier and corrected values. ``stated`` holds what the user states of a metric, by (metric, what): ``margin``,
    ``reference_sd`` (SD of one scan) and ``client_sd`` (spread of a device's offset between clients), in the metric's unit.
    """

    title: str = ""
    gap: int = 7200
    zone: str = "UTC"
    practice: bool = False
    blind: bool = False
    clients: Mapping[int, Client] = field(default_factory=lambda: MappingProxyType({}))
    instruments: Mapping[int, Instrument] = field(default_factory=lambda: MappingProxyType({}))
    settings: Mapping[int, Setting] = field(default_factory=lambda: MappingProxyType({}))
    heights: Mapping[int, tuple[Height, ...]] = field(default_factory=lambda: MappingProxyType({}))
    offers: Mapping[int, Mapping[str, float | None]] = field(default_factory=lambda: MappingProxyType({}))
    asked: tuple[str, ...] = ()
    stated: Mapping[tuple[str, str], float] = field(default_factory=lambda: MappingProxyType({}))

    def margin(self, metric: Metric) -> float | None:
        """The difference that matters for a metric: as stated in the study, else the metric's own; None when it has none."""
        return self.stated.get((metric.id, "margin"), metric.margin)

    def client_coded(self, code: str) -> Client | None:
        """A client by code."""
        return next((c for c in self.clients.values() if c.code == code), None)

    def client_named(self, text: str) -> Client | None:
        """A client by code, or by a name that only one has, whatever the case."""
        low = text.strip().lower()
        exact = self.client_coded(text.strip()) or next((c for c in self.clients.values() if c.code.lower() == low), None)
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
        """Label of the newest setting that starts on or before ``day``, or empty; a client's own goes before one for all."""
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
