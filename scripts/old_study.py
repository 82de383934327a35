"""Save a study file of today's schema for later tests.

Run ``python scripts/old_study.py`` before a migration is added.
"""

from datetime import datetime
from pathlib import Path

from anchor_tally.analysis.offsets.adopt import record_of
from anchor_tally.analysis.offsets.calibrate import CalibrateRequest
from anchor_tally.app.session import Session
from anchor_tally.domain.events import Event
from anchor_tally.domain.import_rows import ImportRow
from anchor_tally.domain.records import Client, Setting, StationChoice
from anchor_tally.domain.scheme import MovedDay, SchemeRule
from anchor_tally.domain.steps import finish
from anchor_tally.study.edits.calibrations import AdoptCalibration
from anchor_tally.study.edits.checks import StateValue
from anchor_tally.study.edits.clients import PutClient
from anchor_tally.study.edits.events import AddEvent, SetGoal
from anchor_tally.study.edits.imports import ImportReadings
from anchor_tally.study.edits.instruments import OfferMetric, StartSetting
from anchor_tally.study.edits.protocol import (
    AddCondition,
    PutLandmark,
    PutStation,
    WantOfInstrument,
)
from anchor_tally.study.edits.readings import CorrectReading, ExcludeReading
from anchor_tally.study.edits.scheme import AddRules, MoveDay
from anchor_tally.study.open_file import SCHEMA_VERSION

TARGET = Path(__file__).parent.parent / "tests" / "data" / f"study_schema_{SCHEMA_VERSION}.tally"


def rows():
    """Six clients, two scans each, a scale, a tape."""
    out = []

    def row(client, at, instrument, kind, metric, value, unit, replicate=1):
        sex = "female" if client in "ACE" else "male"
        setting = "std" if instrument == "Fir" else ""
        line = len(out) + 2
        common = (
            line,
            client,
            sex,
            30.0,
            170.0,
            at,
            instrument,
            kind,
            setting,
            metric,
            value,
            str(value),
            unit,
            replicate,
        )
        out.append(ImportRow(*common, "ok", "", (("fasted", "yes"),)))

    for n, client in enumerate("ABCDEF"):
        for day, more in (("2026-03-02", 0.0), ("2026-05-25", 0.7)):
            row(
                client,
                f"{day}T07:30+01:00",
                "Scan",
                "reference",
                "body_fat_percent",
                20.0 + n + more,
                "percent",
            )
            for k in (1, 2):
                row(
                    client,
                    f"{day}T06:50+01:00",
                    "Fir",
                    "device",
                    "body_fat_percent",
                    22.0 + n + 0.3 * k,
                    "percent",
                    k,
                )
            row(client, f"{day}T06:52+01:00", "Fir", "device", "body_mass", 60.0 + n, "kg")
            row(client, f"{day}T07:00+01:00", "Tape", "method", "girth_waist", 70.0 + 2 * n, "cm")
    return tuple(out)


def main():
    """Write the file."""
    TARGET.unlink(missing_ok=True)
    session = Session.new(TARGET, "Kept study")
    session.do(ImportReadings(rows(), "first.csv"))
    session.do(StartSetting(Setting(0, 2, "athlete", "2026-04-01")))
    session.do(StateValue("body_fat_percent", "margin", 2.5))
    session.do(OfferMetric(2, "own_body_age", 1.0))
    session.do(AddCondition("Sauna the day before", "water is low", "no"))
    session.do(WantOfInstrument(2, "hours_awake", "3"))
    session.do(
        PutStation(
            StationChoice("girths", ("girth_waist", "girth_hip"), "right side", "in", 3, "mean")
        )
    )
    session.do(PutLandmark("girth_waist", "2 cm above the navel"))
    for r in finish(CalibrateRequest(session.snapshot(), session.lens).run()):
        item = r.comparison.pairs.instrument
        if item.name == "Fir" or item.equation == "rfm_woolcott_bergman_2018":
            session.do(
                AdoptCalibration(
                    record_of(r, session.catalogue(), datetime(2026, 6, 1), "kept for the tests"),
                    item.kind,
                    item.equation,
                )
            )
    client = session.catalogue().clients[1]
    session.do(
        PutClient(
            Client(1, client.code, client.sex, birth="1996-05", cautions=frozenset({"implant"}))
        )
    )
    first, second = [
        r
        for r in session.readings()
        if (r.client, r.instrument, r.metric) == ("F", "Fir", "body_fat_percent")
    ][:2]
    session.do(CorrectReading(first.id, "21,0", "misread"))
    session.do(ExcludeReading(second.id, "wet hair"))
    session.do(AddEvent(Event(0, None, 2, "2026-05-01", "", "battery", "new cells")))
    session.do(AddEvent(Event(0, 1, None, "2026-04-01", "2026-04-09", "illness", "")))
    session.do(SetGoal(1, "body_fat_percent", 18.0))
    weekly = SchemeRule(0, None, "girths", "every", (7,), "2026-03-02", label="morning")
    session.do(AddRules((weekly, SchemeRule(0, 1, "scan", "days", ("2026-08-24",)))))
    session.do(MoveDay(MovedDay(1, 1, "2026-03-09", "2026-03-11")))
    session.close()
    print(TARGET)


if __name__ == "__main__":
    main()
