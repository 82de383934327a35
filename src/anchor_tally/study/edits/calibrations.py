"""Adopting a calibration: a record that is never edited.

A new one supersedes it, undo withdraws it by a mark.
"""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass

from ...domain.calibrations import CalibrationRecord
from ..read_calibrations import NEWEST_FORM
from .edit import Journal

PLAIN_FORM = 2


@dataclass(frozen=True, slots=True)
class AdoptCalibration:
    """Write an adopted calibration as the next version; what it supersedes stays."""

    record: CalibrationRecord
    kind: str
    equation: str = ""

    @property
    def words(self) -> str:
        """What the edit does."""
        return f"adopt the offset of {self.record.instrument}"

    def write(self, journal: Journal) -> None:
        """Insert the record (and the method's instrument row when it has none yet)."""
        r = self.record
        row = journal.one("SELECT id FROM instrument WHERE name = ?", r.instrument)
        made = {"name": r.instrument, "kind": self.kind, "equation": self.equation}
        instrument = row[0] if row else journal.insert("instrument", made)  # type: ignore[arg-type]
        newest = journal.one(
            "SELECT max(version) FROM calibration"
            " WHERE instrument = ? AND metric = ? AND setting = ?",
            instrument,
            r.metric,
            r.setting,
        )
        version = (newest[0] if newest and newest[0] else 0) + 1
        parameters = {
            "form": (
                NEWEST_FORM if r.line is not None else PLAIN_FORM
            ),  # a program that knows no lines does not read one
            "pooled": r.pooled,
            "clients": r.clients,
            "sources": r.sources,
            "made_of": asdict(r.made_of),
        } | ({"line": asdict(r.line)} if r.line is not None else {})
        number = journal.conn.execute(
            "INSERT INTO calibration (instrument, metric, setting, reference, model, parameters,"
            " range_low, range_high, pairs, clients, fitted_at, valid_until, version, digest)"
            " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (
                instrument,
                r.metric,
                r.setting,
                r.reference,
                r.model,
                json.dumps(parameters),
                r.range_low,
                r.range_high,
                r.pairs,
                r.client_count,
                r.fitted_at,
                r.valid_until,
                version,
                r.digest,
            ),
        ).lastrowid
        journal.adopted(int(number or 0))


@dataclass(frozen=True, slots=True)
class WithdrawCalibration:
    """An adopted calibration is not used any more; the record stays."""

    number: int

    @property
    def words(self) -> str:
        """What the edit does."""
        return "withdraw an adopted offset"

    def write(self, journal: Journal) -> None:
        """Mark the record."""
        journal.mark(self.number, "withdrawn")
