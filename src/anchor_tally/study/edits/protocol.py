"""Edits of the protocol: required conditions, stations, and landmarks of sites."""

from __future__ import annotations

import re
from dataclasses import dataclass

from ...domain.protocol import ANY, BY_KEY, OWN
from ...domain.records import StationChoice
from ...domain.repeats import COUNTS, MOST_REPEATS
from ...domain.stations import LANDMARK, STATION
from ...domain.text import plain_name
from ...domain.units import unit_named
from .edit import EditRefused, Journal, Row
from .readings import ensure_metric, known_metric


def _check_key(key: str) -> None:
    """Refuse a condition that the protocol does not have."""
    if key not in BY_KEY and not key.startswith(OWN):
        raise EditRefused(f"condition {key[:40]} is not known; nothing was changed")


def _wanted(key: str, answer: str) -> str:
    """An answer that a condition can want. Raises EditRefused."""
    text = answer.strip().lower().replace(",", ".")
    known = BY_KEY.get(key)
    if known is not None and known.hours:
        if text == ANY or (re.fullmatch(r"\d{1,2}(\.\d+)?", text) and float(text) <= 24):
            return text
        raise EditRefused(
            f'"{answer[:20]}" is not a number of hours from 0 to 24, or any; nothing was changed'
        )
    if text not in ("yes", "no", ANY):
        raise EditRefused(f'"{answer[:20]}" is not yes, no or any; nothing was changed')
    return text


@dataclass(frozen=True, slots=True)
class AskCondition:
    """Whether a condition is asked at each visit, and the required answer ("": as usual)."""

    key: str
    asked: bool
    wanted: str = ""

    @property
    def words(self) -> str:
        """What the edit does."""
        return "change the protocol"

    def write(self, journal: Journal) -> None:
        """Write the choice."""
        _check_key(self.key)
        wanted = _wanted(self.key, self.wanted) if self.wanted else ""
        old = journal.row_at("protocol_item", {"key": self.key}) or {}
        row: Row = {
            "key": self.key,
            "asked": int(self.asked),
            "wanted": wanted or old.get("wanted", ""),
        }
        journal.put("protocol_item", row)


@dataclass(frozen=True, slots=True)
class AddCondition:
    """A condition of the study's own: its question, and what a breach does."""

    question: str
    breach: str
    wanted: str = "yes"

    @property
    def words(self) -> str:
        """What the edit does."""
        return "add a condition"

    def write(self, journal: Journal) -> None:
        """Insert it under a key made of its words."""
        label = plain_name(self.question)
        slug = re.sub(r"[^a-z0-9]+", "_", label.lower()).strip("_")[:40]
        if not slug:
            raise EditRefused("a condition needs words; nothing was changed")
        key = f"{OWN}{slug}"
        if journal.row_at("protocol_item", {"key": key}) is not None:
            raise EditRefused(f'"{label}" is asked already; nothing was changed')
        row: Row = {"key": key, "asked": 1, "wanted": _wanted(key, self.wanted), "label": label}
        journal.insert(
            "protocol_item",
            row | {"breach": plain_name(self.breach) or "it is not comparable with other visits"},
        )


@dataclass(frozen=True, slots=True)
class WantOfInstrument:
    """The answer that one instrument wants of a condition; "" takes it back to the protocol's."""

    instrument: int
    key: str
    wanted: str

    @property
    def words(self) -> str:
        """What the edit does."""
        return "change the requirements of an instrument"

    def write(self, journal: Journal) -> None:
        """Write, or take away, the answer."""
        _check_key(self.key)
        key: Row = {"instrument": self.instrument, "key": self.key}
        if not self.wanted.strip():
            if journal.row_at("instrument_condition", key) is not None:
                journal.delete("instrument_condition", key)
            return
        journal.put("instrument_condition", key | {"wanted": _wanted(self.key, self.wanted)})


@dataclass(frozen=True, slots=True)
class PutStation:
    """What a station measures, under which setting and unit, with which repeats."""

    choice: StationChoice

    @property
    def words(self) -> str:
        """What the edit does."""
        return "change a station"

    def write(self, journal: Journal) -> None:
        """Write the choice."""
        c = self.choice
        station = STATION.get(c.station)
        if station is None:
            raise EditRefused(f"station {c.station[:40]} is not known; nothing was changed")
        if not 1 <= c.repeats <= MOST_REPEATS or c.counts not in COUNTS:
            raise EditRefused(
                f"1 to {MOST_REPEATS} repeats are planned, and {', '.join(COUNTS)} counts; nothing"
                " was changed"
            )
        if c.unit and unit_named(c.unit) != c.unit:
            raise EditRefused(f'unit "{c.unit[:20]}" is not known; nothing was changed')
        metrics = [known_metric(m).id for m in c.metrics]
        old = journal.row_at("station", {"id": c.station})
        row: Row = {
            "id": c.station,
            "metrics": " ".join(metrics),
            "setting": plain_name(c.setting),
            "unit": c.unit,
        }
        row |= {"repeats": c.repeats, "counts": c.counts}
        journal.put("station", row)
        before = (station.repeats, "agree") if old is None else (old["repeats"], old["counts"])
        if before != (c.repeats, c.counts):  # what counts of the repeats moves every computed value
            for metric in station.metrics:
                journal.touch_metric(metric, None, added=False)


@dataclass(frozen=True, slots=True)
class PutLandmark:
    """The study's own words for where a site lies; "" goes back to the usual place.

    Readings that are there keep theirs.
    """

    metric: str
    landmark: str

    @property
    def words(self) -> str:
        """What the edit does."""
        return "change a landmark"

    def write(self, journal: Journal) -> None:
        """Write, or take away, the words."""
        metric = known_metric(self.metric).id
        text = plain_name(self.landmark.replace(LANDMARK.strip(), ","))
        ensure_metric(journal, metric)
        key: Row = {"metric": metric}
        if not text:
            if journal.row_at("landmark", key) is not None:
                journal.delete("landmark", key)
            return
        journal.put("landmark", key | {"words": text})
