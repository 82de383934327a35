"""Edits of readings: typed at the bench or sent by a device, corrected, excluded, put back."""

from __future__ import annotations

from dataclasses import dataclass

from ...domain.metrics import Metric, metric_named
from ...domain.records import MOST_REPLICATES
from ...domain.text import plain_name, plain_text
from ...domain.units import parse_quantity
from .edit import EditRefused, Journal, Row
from .visits import visit_for, when


def known_metric(name: str) -> Metric:
    """A metric of the registry. Raises EditRefused."""
    found = metric_named(name)
    if found is None:
        raise EditRefused(f"metric {name} is not known; nothing was changed")
    return found


def ensure_metric(journal: Journal, metric: str) -> None:
    """Make sure that a metric of the registry has its row; that row is no edit of anybody's."""
    m = known_metric(metric)
    journal.conn.execute(
        "INSERT OR IGNORE INTO metric VALUES (?, ?, ?, ?)", (m.id, m.unit, m.low, m.high)
    )


@dataclass(frozen=True, slots=True)
class NewReading:
    """One reading to be added; ``typed`` None is a failed one.

    A text without a unit is in the metric's own.
    """

    instrument: str
    kind: str
    metric: str
    typed: str | None
    replicate: int = 1
    setting: str = ""
    note: str = ""


@dataclass(frozen=True, slots=True)
class AddReadings:
    """Add readings of one client at one moment, all or none.

    They belong to the visit named, to a new one when ``fresh``, else to the client's nearest
    within the study's gap. Client, instrument and setting are made when they are not there.
    ``simulated`` marks what no real device has measured.
    """

    client: str
    at: str
    readings: tuple[NewReading, ...]
    source: str = "bench"
    visit: int | None = None
    fresh: bool = False
    simulated: bool = False

    @property
    def words(self) -> str:
        """What the edit does."""
        if len(self.readings) != 1:
            return f"add {len(self.readings)} readings of {self.client}"
        r = self.readings[0]
        metric = metric_named(r.metric)
        # without the value: somebody may be looking who is to see no number
        what = metric.name if metric is not None else "a reading"
        return f"add {what} of {self.client}, {r.instrument}"

    def write(self, journal: Journal) -> None:
        """Insert the readings and what they depend on."""
        code = plain_name(self.client)
        if not code:
            raise EditRefused("a reading needs a client's code; nothing was changed")
        row = journal.one("SELECT id FROM client WHERE code = ?", code)
        client = row[0] if row else journal.insert("client", {"code": code})
        written, m = when(journal, self.at)
        visit = visit_for(journal, client, self.at, visit=self.visit, fresh=self.fresh)
        for r in self.readings:
            metric = known_metric(r.metric)
            q = None if r.typed is None else parse_quantity(r.typed, metric)
            if not 1 <= r.replicate <= MOST_REPLICATES:
                raise EditRefused(
                    f"a repeat is numbered from 1 to {MOST_REPLICATES}; nothing was changed"
                )
            ensure_metric(journal, metric.id)
            instrument = _instrument(journal, r)
            setting = _setting(journal, instrument, r.setting, client, written)
            there = journal.one(
                "SELECT 1 FROM reading r JOIN visit v ON v.id = r.visit"
                " WHERE v.client = ? AND r.instant = ? AND r.timed = ?"
                " AND r.instrument = ? AND r.metric = ? AND r.replicate = ?"
                " AND ifnull(r.setting, 0) = ?",
                client,
                m.instant,
                int(m.timed),
                instrument,
                metric.id,
                r.replicate,
                setting or 0,
            )
            if there is not None:
                raise EditRefused(
                    f"{code} has repeat {r.replicate} of {r.instrument}, {metric.name}, at"
                    f" {written.replace('T', ' ')} already; nothing was changed"
                )
            values: Row = {
                "visit": visit,
                "taken_at": written,
                "instrument": instrument,
                "setting": setting,
                "metric": metric.id,
                "value": None if q is None else q.value,
                "entered": "" if q is None else q.entered,
                "unit": metric.unit if q is None else q.unit,
                "replicate": r.replicate,
                "status": "failed" if q is None else "ok",
                "note": plain_text(r.note),
                "source": plain_name(self.source),
                "instant": m.instant,
                "timed": int(m.timed),
                "simulated": int(self.simulated),
            }
            journal.insert("reading", values)


def _instrument(journal: Journal, r: NewReading) -> int:
    name = plain_name(r.instrument)
    row = journal.one("SELECT id, kind FROM instrument WHERE name = ?", name)
    if row is None:
        if not name:
            raise EditRefused("a reading needs an instrument's name; nothing was changed")
        return journal.insert("instrument", {"name": name, "kind": r.kind})
    if row[1] != r.kind:
        raise EditRefused(
            f"{name} is a {row[1]} in this study, not a {r.kind}; nothing was changed"
        )
    return int(row[0])


def _setting(journal: Journal, instrument: int, label: str, client: int, at: str) -> int | None:
    """The period of a setting that a moment falls in, the client's own before one for all.

    Made when there is none.
    """
    label = plain_name(label)
    if not label:
        return None
    periods = journal.rows(
        "SELECT id, client, starts FROM setting WHERE instrument = ? AND label = ?",
        instrument,
        label,
    )
    chosen = period_of(periods, client, at)
    if chosen is None:
        return journal.insert(
            "setting", {"instrument": instrument, "client": None, "label": label, "starts": at}
        )
    begin_by(journal, chosen, at)
    return chosen


def begin_by(journal: Journal, setting: int, at: str) -> None:
    """Move the start of a setting back to a reading that was entered later for an earlier day."""
    row = journal.one("SELECT starts FROM setting WHERE id = ?", setting)
    if row is not None and at[:10] < row[0][:10]:
        journal.update("setting", {"id": setting}, {"starts": at})


def period_of(periods: list[tuple[int, int | None, str]], client: int, at: str) -> int | None:
    """Setting in force on a day among (setting, client, start) of one label.

    The client's own first, then the latest.
    """
    fitting = [p for p in periods if p[1] in (None, client)] or periods
    begun = [p for p in fitting if p[2][:10] <= at[:10]]
    if begun:
        return max(begun, key=lambda p: (p[1] is not None, p[2]))[0]
    return min(fitting, key=lambda p: p[2])[0] if fitting else None


# changing one
@dataclass(frozen=True, slots=True)
class CorrectReading:
    """A new value for a reading (None: it failed); the history keeps both."""

    reading: int
    typed: str | None
    why: str
    who: str = ""

    @property
    def words(self) -> str:
        """What the edit does."""
        return "mark a reading failed" if self.typed is None else "change a reading"

    def write(self, journal: Journal) -> None:
        """Write the value."""
        old, metric = _old(journal, self.reading)
        note = str(old["note"]) if old["status"] == "ok" else ""
        if self.typed is None:
            new: Row = {
                "value": None,
                "entered": "",
                "unit": old["unit"],
                "status": "failed",
                "note": old["note"],
            }
        else:
            q = parse_quantity(self.typed, known_metric(metric), str(old["unit"]))
            new = {
                "value": q.value,
                "entered": q.entered,
                "unit": q.unit,
                "status": "ok",
                "note": note,
            }
        _change(journal, self.reading, old, new, self.why, self.who)


@dataclass(frozen=True, slots=True)
class RemarkReading:
    """A remark on a reading; it stays what it is."""

    reading: int
    remark: str
    who: str = ""

    @property
    def words(self) -> str:
        """What the edit does."""
        return "remark on a reading"

    def write(self, journal: Journal) -> None:
        """Write the remark; the reason of an excluded reading cannot be removed."""
        old, _ = _old(journal, self.reading)
        if old["status"] == "excluded":
            raise EditRefused(
                "the reason of an excluded reading cannot be removed; nothing was changed"
            )
        _change(
            journal, self.reading, old, {**old, "note": plain_text(self.remark)}, "remark", self.who
        )


@dataclass(frozen=True, slots=True)
class ExcludeReading:
    """Exclude a reading; the reason is required and kept."""

    reading: int
    reason: str
    who: str = ""

    @property
    def words(self) -> str:
        """What the edit does."""
        return "exclude a reading"

    def write(self, journal: Journal) -> None:
        """Write the state and the reason."""
        reason = plain_text(self.reason)
        if not reason:
            raise EditRefused("an exclusion needs a reason; nothing was changed")
        old, _ = _old(journal, self.reading)
        if old["value"] is None:
            raise EditRefused("a failed reading cannot be excluded; nothing was changed")
        _change(
            journal,
            self.reading,
            old,
            {**old, "status": "excluded", "note": reason},
            reason,
            self.who,
        )


@dataclass(frozen=True, slots=True)
class PutBackReading:
    """Take an excluded reading back in."""

    reading: int
    who: str = ""

    @property
    def words(self) -> str:
        """What the edit does."""
        return "include a reading again"

    def write(self, journal: Journal) -> None:
        """Write the state."""
        old, _ = _old(journal, self.reading)
        if old["status"] != "excluded":
            raise EditRefused("that reading is not excluded; nothing was changed")
        _change(
            journal, self.reading, old, {**old, "status": "ok", "note": ""}, "put back", self.who
        )


def _old(journal: Journal, reading: int) -> tuple[Row, str]:
    old = journal.state_of("reading", reading)
    row = journal.one("SELECT metric FROM reading WHERE id = ?", reading)
    if old is None or row is None:
        raise EditRefused("that reading is no longer in the study; nothing was changed")
    return old, str(row[0])


def _change(journal: Journal, reading: int, old: Row, new: Row, reason: str, who: str) -> None:
    journal.update("reading", {"id": reading}, new)
    journal.log("reading", reading, old, reason, who)
