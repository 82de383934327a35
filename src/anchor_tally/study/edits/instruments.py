"""Edits of instruments, their settings and what they offer."""

from __future__ import annotations

from dataclasses import dataclass

from ...domain.instants import NotAMoment, canonical
from ...domain.records import ELECTRODES, KINDS, Instrument, Setting
from ...domain.repeats import COUNTS, MOST_REPEATS
from ...domain.text import plain_name, plain_text
from .clients import taken_already
from .edit import EditRefused, Journal, Row
from .readings import ensure_metric, known_metric


def instrument_row(i: Instrument) -> Row:
    """The card of an instrument as a row, checked. Raises EditRefused."""
    name = plain_name(i.name)
    if not name:
        raise EditRefused("the instrument needs a name; nothing was changed")
    if i.kind not in KINDS:
        raise EditRefused(
            f"an instrument is a {', '.join(KINDS[:-1])} or {KINDS[-1]}; nothing was changed"
        )
    if i.electrodes not in ELECTRODES:
        raise EditRefused(f'electrode layout "{i.electrodes}" is not known; nothing was changed')
    if not 1 <= i.repeats <= MOST_REPEATS:
        raise EditRefused(f"1 to {MOST_REPEATS} repeats are planned; nothing was changed")
    if i.counts not in COUNTS:
        raise EditRefused(
            f"the rule for repeats is one of {', '.join(COUNTS)}; nothing was changed"
        )
    return {
        "name": name,
        "kind": i.kind,
        "equation": i.equation,
        "electrodes": i.electrodes,
        "price": plain_name(i.price),
        "exports_data": None if i.exports_data is None else int(i.exports_data),
        "notes": plain_text(i.notes),
        "position": i.position,
        "repeats": i.repeats,
        "walk": i.walk,
        "counts": i.counts,
    }


@dataclass(frozen=True, slots=True)
class AddInstrument:
    """Add an instrument; the number in the record is not used."""

    instrument: Instrument

    @property
    def words(self) -> str:
        """What the edit does."""
        return "add an instrument"

    def write(self, journal: Journal) -> None:
        """Insert the card."""
        row = instrument_row(self.instrument)
        taken_already(journal, "instrument", "name", str(row["name"]), 0)
        journal.insert("instrument", row)


@dataclass(frozen=True, slots=True)
class PutInstrument:
    """Write the card of an instrument as it is given."""

    instrument: Instrument

    @property
    def words(self) -> str:
        """What the edit does."""
        return "change an instrument"

    def write(self, journal: Journal) -> None:
        """Write the fields that differ."""
        row = instrument_row(self.instrument)
        taken_already(journal, "instrument", "name", str(row["name"]), self.instrument.id)
        journal.update("instrument", {"id": self.instrument.id}, row)


@dataclass(frozen=True, slots=True)
class OrderInstruments:
    """Put instruments in an order at the bench: their numbers, first to last."""

    numbers: tuple[int, ...]

    @property
    def words(self) -> str:
        """What the edit does."""
        return "change the order of instruments"

    def write(self, journal: Journal) -> None:
        """Number the instruments."""
        for position, number in enumerate(self.numbers, start=1):
            journal.update("instrument", {"id": number}, {"position": position})


@dataclass(frozen=True, slots=True)
class OfferMetric:
    """State that an instrument shows a metric, in steps of ``resolution`` (None if unknown)."""

    instrument: int
    metric: str
    resolution: float | None = None

    @property
    def words(self) -> str:
        """What the edit does."""
        return "change the metrics of an instrument"

    def write(self, journal: Journal) -> None:
        """Write the offer."""
        m = known_metric(self.metric)
        if self.resolution is not None and not 0 < self.resolution < m.high:
            raise EditRefused(
                f"{self.resolution:g} is not a resolution in {m.unit}; nothing was changed"
            )
        ensure_metric(journal, m.id)
        key: Row = {"instrument": self.instrument, "metric": m.id}
        if journal.row_at("instrument_metric", key) is not None:
            journal.update("instrument_metric", key, {"resolution": self.resolution})
            return
        last = journal.one(
            "SELECT ifnull(max(position), 0) FROM instrument_metric WHERE instrument = ?",
            self.instrument,
        )
        journal.insert(
            "instrument_metric",
            key | {"resolution": self.resolution, "position": (last[0] if last else 0) + 1},
        )


@dataclass(frozen=True, slots=True)
class WithdrawMetric:
    """An instrument does not show a metric any more."""

    instrument: int
    metric: str

    @property
    def words(self) -> str:
        """What the edit does."""
        return "change the metrics of an instrument"

    def write(self, journal: Journal) -> None:
        """Take the offer away."""
        journal.delete("instrument_metric", {"instrument": self.instrument, "metric": self.metric})


@dataclass(frozen=True, slots=True)
class StartSetting:
    """A setting is in force from a day on, for one client or (None) for all.

    The number in the record is not used.
    """

    setting: Setting

    @property
    def words(self) -> str:
        """What the edit does."""
        return "start a setting"

    def write(self, journal: Journal) -> None:
        """Insert the period."""
        s = self.setting
        label = plain_name(s.label)
        if not label:
            raise EditRefused("the setting needs a label; nothing was changed")
        try:
            starts = canonical(s.starts)
        except NotAMoment as error:
            raise EditRefused(
                f'"{s.starts[:40]}" is not a day such as 2026-03-02; nothing was changed'
            ) from error
        there = journal.one(
            "SELECT 1 FROM setting WHERE instrument = ? AND ifnull(client, 0) = ?"
            " AND label = ? AND starts = ?",
            s.instrument,
            s.client or 0,
            label,
            starts,
        )
        if there is not None:
            raise EditRefused(f'"{label}" from {starts} is there already; nothing was changed')
        journal.insert(
            "setting",
            {"instrument": s.instrument, "client": s.client, "label": label, "starts": starts},
        )
