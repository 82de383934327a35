"""Where the kept files of the tests lie, and a text read as the file that holds it would be."""

import tempfile
from dataclasses import replace
from datetime import datetime
from pathlib import Path

from anchor_tally.analysis.calibrate import CalibrateRequest, record_of
from anchor_tally.domain.errors import UserError
from anchor_tally.domain.records import Refused
from anchor_tally.domain.steps import finish
from anchor_tally.exchange.readings_csv import open_readings
from anchor_tally.study.edits.calibrations import AdoptCalibration
from anchor_tally.study.edits.readings import AddReadings, NewReading

DATA = Path(__file__).parent / "data"


def parse_text(text):
    """Rows and refusals of a tidy CSV."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "t.csv"
        path.write_bytes(text.encode())
        found = list(open_readings(path).rows)
    return [r for r in found if not isinstance(r, Refused)], [r for r in found if isinstance(r, Refused)]


def typed(client, at, instrument, kind, metric, *values, setting="", first=1, **where):
    """An edit that adds repeats of one lane, as they are typed."""
    readings = tuple(NewReading(instrument, kind, metric, v, first + k, setting) for k, v in enumerate(values))
    return AddReadings(client, at, readings, **where)


def adoption(session, name, metric="body_fat_percent", day="2026-09-01"):
    """The edit that adopts what Calibrate gives for an instrument now."""
    results = finish(CalibrateRequest(session.snapshot(metric), replace(session.lens, metric=metric)).run())
    found = next((r for r in results if r.comparison.pairs.instrument.name == name), None)
    if found is None:
        raise UserError(f"{name} has no pairs")
    item = found.comparison.pairs.instrument
    return AdoptCalibration(record_of(found, datetime.fromisoformat(day)), item.kind, item.equation)
