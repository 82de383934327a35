"""Where the kept files of the tests lie, and a text read as the file that holds it would be."""

import tempfile
import zipfile
from dataclasses import replace
from datetime import date, datetime, timedelta
from pathlib import Path

from anchor_tally.analysis.offsets.adopt import record_of
from anchor_tally.analysis.offsets.calibrate import CalibrateRequest
from anchor_tally.app.session import Session
from anchor_tally.domain.calibrations import CalibrationRecord
from anchor_tally.domain.clock import fixed
from anchor_tally.domain.errors import UserError
from anchor_tally.domain.import_rows import ImportRow, Refused
from anchor_tally.domain.records import Setting
from anchor_tally.domain.steps import finish
from anchor_tally.domain.units import Quantity
from anchor_tally.exchange.readings_csv import HEADER, open_readings
from anchor_tally.study import open_file
from anchor_tally.study.edits.calibrations import AdoptCalibration
from anchor_tally.study.edits.checks import AddAssessorPair, AddCheckWeight
from anchor_tally.study.edits.clients import AddHeight, PutClient
from anchor_tally.study.edits.imports import ImportReadings
from anchor_tally.study.edits.instruments import OfferMetric, OrderInstruments, StartSetting
from anchor_tally.study.edits.protocol import AskCondition
from anchor_tally.study.edits.readings import AddReadings, ExcludeReading, NewReading
from anchor_tally.study.edits.visits import NoteVisit

CLOCK = fixed("2026-08-27T07:00:00+00:00")  # the demo study begins on 2 March 2026 then
AFTERWARDS = fixed("2029-06-01T07:00:00+00:00")  # nothing that is made up here lies ahead of it
DATA = Path(__file__).parent / "data"


def parse_text(text):
    """Rows and refusals of a tidy CSV."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "t.csv"
        path.write_bytes(text.encode())
        found = list(open_readings(path).rows)
    return [r for r in found if not isinstance(r, Refused)], [
        r for r in found if isinstance(r, Refused)
    ]


def study_of(lines, clock=AFTERWARDS):
    """A session with a tidy CSV given by its lines without the header."""
    session = Session(open_file.create_in_memory("x"), None, clock=clock)
    rows, refused = parse_text(",".join(HEADER) + "\n" + "\n".join(lines) + "\n")
    assert not refused
    session.do(ImportReadings(tuple(rows), "x"))
    return session


def reading(
    client,
    at,
    value,
    *,
    name="Fir",
    kind="device",
    repeat=1,
    metric="body_fat_percent",
    unit="percent",
    setting="",
):
    """One line of a tidy CSV."""
    return f"{client},male,30,180,{at},{name},{kind},{setting},{metric},{value},{unit},{repeat},ok,"


def squad_lines(rng, clients=6, noise=False):
    """A squad with two devices as lines of a tidy CSV; one more device that shows noise alone."""
    lines = []
    for c in range(clients):
        level, own = rng.normal(20, 4), rng.normal(0, 1.2, 2)
        for week in range(0, 24, 2):
            at = date(2026, 1, 5) + timedelta(weeks=week)
            for k, name in enumerate(("Fir", "Elm")):
                shown = level - 0.05 * week + own[k] + rng.normal(0, 0.7)
                lines.append(reading(f"C{c}", f"{at}T07:0{k}", round(shown, 1), name=name))
            if noise:
                shown = rng.normal(20, 8)
                lines.append(reading(f"C{c}", f"{at}T07:09", round(abs(shown) + 3, 1), name="Dice"))
            if week % 8 == 0:
                scan = round(level - 0.05 * week + rng.normal(0, 0.4), 1)
                lines.append(reading(f"C{c}", f"{at}T08:00", scan, name="Scan", kind="reference"))
    return lines


def typed(client, at, instrument, kind, metric, *values, setting="", first=1, **where):
    """An edit that adds repeats of one row, as they are typed."""
    readings = tuple(
        NewReading(instrument, kind, metric, v, first + k, setting) for k, v in enumerate(values)
    )
    return AddReadings(client, at, readings, **where)


def adoption(session, name, metric="body_fat_percent", day="2026-09-01"):
    """The edit that adopts what Calibrate gives for an instrument now."""
    results = finish(
        CalibrateRequest(session.snapshot(metric), replace(session.lens, metric=metric)).run()
    )
    found = next((r for r in results if r.comparison.pairs.instrument.name == name), None)
    if found is None:
        raise UserError(f"{name} has no pairs")
    item = found.comparison.pairs.instrument
    return AdoptCalibration(
        record_of(found, session.catalogue(), datetime.fromisoformat(day), "as a test"),
        item.kind,
        item.equation,
    )


def drawn_study(rng, device, clients=14, scans=3, repeats=3, between=5.0, within=1.2, scan_sd=0.4):
    """A snapshot of a drawn study: ``device(rng, true, own)`` gives the reader of one occasion.

    Values are shown to 0.1 %.
    """
    lines, start = [], datetime(2026, 1, 5, 7)
    for c in range(clients):
        level, own = 22 + between * rng.standard_normal(), rng.standard_normal()
        for s in range(scans):
            true = level + within * rng.standard_normal()
            at, read = start + timedelta(weeks=12 * s), device(rng, true, own)
            values = [("Fir", "device", at, read(), k + 1) for k in range(repeats)]
            values.append(
                (
                    "Scan",
                    "reference",
                    at + timedelta(minutes=30),
                    true + scan_sd * rng.standard_normal(),
                    1,
                )
            )
            for name, kind, when, value, k in values:
                shown, stamp = round(min(max(value, 2), 70), 1), when.isoformat(timespec="minutes")
                lines.append(
                    ImportRow(
                        len(lines) + 2, f"C{c:02}", "", None, None, stamp, name, kind, "", "body_fat_percent", shown, str(shown), "percent",
                        k, "ok", "",
                    )
                )  # fmt: skip
    session = Session(open_file.create_in_memory("drawn"), None, clock=AFTERWARDS)
    session.do(ImportReadings(tuple(lines), "drawn"))
    snapshot = session.snapshot()
    session.close()
    return snapshot


def filled(tmp_path):
    """A small study with a card of every kind."""
    tmp_path.mkdir(exist_ok=True)
    session = Session.new(tmp_path / "s.tally", "a study, with a comma")
    rows = [
        ImportRow(2, "A", "male", 30.0, 181.5, "2026-03-02T06:30", "Fir", "device", "std", "body_fat_percent", 21.5, "21.5", "percent", 1, "ok", "", (("fasted", "no"),)),
        ImportRow(3, "A", "male", None, None, "2026-03-02T06:31", "Fir", "device", "std", "body_fat_percent", None, "", "percent", 2, "failed", "=1+1"),
        ImportRow(4, "A", "male", None, None, "2026-03-02T06:50", "Meter", "method", "", "reactance_250khz", 48.25, "48.25", "ohm", 1, "ok", "-x"),
    ]  # fmt: skip
    session.do(ImportReadings(tuple(rows), "x"))
    client = session.catalogue().clients[1]
    secret = {
        "name": "Secret Person",
        "birth": "1994-05",
        "usual_activity": "rows at Secret Club",
        "notes": "a Secret note",
    }
    session.do(
        PutClient(replace(client, **secret, cautions=frozenset({"implant"}), scans_before=2))
    )
    session.do(AddHeight(1, "2026-01-01", Quantity(181.5, "181.5", "cm")))
    session.do(StartSetting(Setting(0, 1, "athlete", "2026-04-01", 1)))
    session.do(OfferMetric(1, "body_fat_percent", 0.1))
    session.do(AskCondition("morning", asked=True))
    session.do(OrderInstruments((2, 1)))
    session.do(
        AddCheckWeight(1, "2026-03-02", Quantity(20.0, "20", "kg"), Quantity(20.1, "20.1", "kg"))
    )
    session.do(
        NoteVisit("A", "2026-03-02T07:00", (), assessor="Secret Assessor", notes="Secret remark")
    )
    pair = (Quantity(12.0, "12", "mm"), Quantity(12.5, "12.5", "mm"))
    session.do(AddAssessorPair("Secret Assessor", "2026-03-02", "skinfold_thigh", "1", pair))
    session.do(ExcludeReading(1, "Secret reason"))
    return session


def text_of(package):
    """Everything that a package holds."""
    with zipfile.ZipFile(package) as z:
        return b"".join(name.encode() + z.read(name) for name in z.namelist())


def adoption_of_nothing(session):
    """A calibration made by hand, so that a small study has one."""
    record = CalibrationRecord(
        0, "Fir", "body_fat_percent", "std", "Scan", "pooled", (1.0, 2.0, 3.0), {}, ("1",), 15.0, 25.0, 3, 3, "2026-03-02T07:00",
        "2026-06-22", 0, "0" * 16,
    )  # fmt: skip
    return AdoptCalibration(record, "device")
