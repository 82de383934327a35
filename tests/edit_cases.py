"""What becomes of edits, allowed and refused: the sentence, and the rows of the file before and after."""

import sqlite3
from contextlib import closing
from dataclasses import replace

from anchor_tally.app.session import Session
from anchor_tally.domain.errors import UserError
from anchor_tally.domain.events import Event
from anchor_tally.domain.records import Client, Instrument, Setting, StationChoice
from anchor_tally.domain.scheme import MovedDay, SchemeRule
from anchor_tally.domain.units import Quantity
from anchor_tally.exchange.readings_csv import HEADER
from anchor_tally.study.edits.checks import AddAssessorPair, AddCheckWeight, StateValue
from anchor_tally.study.edits.clients import AddClient, AddHeight, PutClient, PutStudy
from anchor_tally.study.edits.decisions import Decide, Reopen
from anchor_tally.study.edits.events import AddEvent, RemoveEvent, SetGoal
from anchor_tally.study.edits.imports import ImportReadings
from anchor_tally.study.edits.instruments import (
    AddInstrument,
    OfferMetric,
    OrderInstruments,
    PutInstrument,
    StartSetting,
    WithdrawMetric,
)
from anchor_tally.study.edits.periods import BeginPeriod
from anchor_tally.study.edits.protocol import (
    AddCondition,
    AskCondition,
    PutLandmark,
    PutStation,
    WantOfInstrument,
)
from anchor_tally.study.edits.readings import (
    AddReadings,
    CorrectReading,
    ExcludeReading,
    NewReading,
    PutBackReading,
    RemarkReading,
)
from anchor_tally.study.edits.scheme import AddRules, MoveDay, PutRule, RemoveRule
from anchor_tally.study.edits.visits import AttachFile, DetachFile, MoveVisit, NoteVisit
from places import CLOCK, parse_text, reading

FAT = "body_fat_percent"
A, B = Client(1, "A", "male"), Client(2, "B", "female")
FIR = Instrument(2, "Fir", "device")
HOME = StationChoice("girths", ("girth_waist",), "", "cm")
DAY = "2026-03-02"


def _rule(station="devices", form="weekdays", days=(0, 3), **more):
    return SchemeRule(0, None, station, form, days, **{"starts": DAY, **more})


def _bench(client="A", at=f"{DAY}T09:00", name="Fir", kind="device", metric=FAT, typed="21.5", **k):
    return AddReadings(client, at, (NewReading(name, kind, metric, typed, **k),))


def _cm(value):
    return Quantity(value, str(value), "cm")


def _rules():
    yield AddRules(())
    for station in ("devices", "nowhere"):
        yield AddRules((_rule(station),))
    for ends in (DAY, "2026-03-01", "soon"):
        yield AddRules((_rule(ends=ends),))
    for form, days in (
        ("weekdays", ()),
        ("weekdays", (-1,)),
        ("weekdays", (6, 6, 2)),
        ("weekdays", (7,)),
        ("scan", (-60, 60)),
        ("scan", (-61,)),
        ("scan", (61,)),
        ("every", (0,)),
        ("every", (1,)),
        ("every", (3660,)),
        ("every", (3661,)),
        ("days", ("2026-04-02", DAY, DAY)),
        ("days", ("never",)),
    ):
        yield AddRules((_rule(form=form, days=days),))
    for form in ("every", "last", "back", "days"):
        days = (DAY,) if form == "days" else (7,)
        yield AddRules((_rule(form=form, days=days, starts=""),))
        yield AddRules((_rule(form=form, days=days, starts="", ends=DAY),))
    for days in ((55,), (56,)):
        for form in ("every", "back", "last", "scan"):
            yield AddRules((_rule("scan", form, days, ends="2027-03-02"),))
    yield AddRules((_rule("scan", "every", (7,), reason="a trial"),))
    yield AddRules((_rule("scan", "weekdays"),))
    yield AddRules((_rule("scan", "weekdays", reason=" "),))
    yield AddRules((_rule("scan", "weekdays", reason="a trial", label=" weekly  scans "),))
    for most in (0, 1):
        yield AddRules((_rule(most=most, spread=bool(most)),))
    yield PutRule(replace(_rule(), id=1, client=2, days=(1,)))
    yield PutRule(replace(_rule(), id=99))
    for day in ("2026-03-03", DAY, "", "2026-03-05", DAY, "x"):
        yield MoveDay(MovedDay(1, 2, DAY, day))
    yield RemoveRule(2)
    yield RemoveRule(99)
    yield AddRules((_rule(), _rule("scan", "every", (84,))), replacing=True)


def _protocol():
    for key, wanted in (
        ("hours_awake", ""),
        ("hours_awake", "any"),
        ("hours_awake", "24"),
        ("hours_awake", "24,1"),
        ("hours_awake", "3,5"),
        ("hours_awake", "yes"),
        ("voided", "No"),
        ("voided", "maybe"),
        ("voided", ""),
        ("moon", "yes"),
        ("own_moon", "yes"),
    ):
        yield AskCondition(key, asked=True, wanted=wanted)
        yield AskCondition(key, asked=False)
        yield WantOfInstrument(2, key, wanted)
    for question, breach in (
        ("Slept well?", "tired"),
        ("slept  WELL?", ""),
        ("?", ""),
        ("Ate", ""),
    ):
        yield AddCondition(question, breach)
    yield AddCondition("Calm", "", "never")
    for change in (
        {},
        {"station": "nowhere"},
        {"repeats": 0},
        {"repeats": 3},
        {"repeats": 9},
        {"repeats": 10},
        {"repeats": 11},
        {"counts": "all"},
        {"counts": "mean"},
        {"unit": "ell"},
        {"unit": ""},
        {"unit": "inch"},
        {"metrics": ("charm",)},
    ):
        yield PutStation(replace(HOME, **change))
    for metric, words in (
        ("girth_waist", "at  the navel"),
        ("girth_waist", ""),
        ("girth_hip", ""),
        ("charm", "x"),
    ):
        yield PutLandmark(metric, words)


def _cards():
    for change in (
        {"code": " "},
        {"code": "B"},
        {"code": "C", "sex": "other"},
        {"code": "C", "scans_before": -1},
        {"code": "C", "scans_before": 1000},
        {"code": "C", "birth": "1994-13"},
        {"code": "C", "last_scan": "lately"},
        {"code": "C", "scans_before": 999, "birth": "1994", "last_scan": "2025-11", "cycle": True},
        {"code": "D", "scans_before": 0, "birth": "1994-05-17", "cautions": frozenset({"b", "a"})},
    ):
        yield AddClient(Client(0, **change))
    yield PutClient(replace(A, code="B"))
    yield PutClient(replace(A, name="  Ann   Other "))
    yield PutClient(replace(A, id=99, code="Z"))
    for day in ("", "2026-02-30", "2026-03", DAY, DAY):
        yield AddHeight(1, day, _cm(181.0))
    for title in (" ", "A squad"):
        yield PutStudy(title, practice=True, blind=True)
    for change in (
        {"name": ""},
        {"name": "Fir"},
        {"name": "Oak", "kind": "toy"},
        {"name": "Oak", "electrodes": "nose"},
        {"name": "Oak", "repeats": 0},
        {"name": "Oak", "repeats": 11},
        {"name": "Oak", "counts": "best"},
        {"name": "Oak", "repeats": 10, "exports_data": False},
        {"name": "Elm", "repeats": 1, "exports_data": True, "counts": "last"},
    ):
        yield AddInstrument(replace(FIR, id=0, **change))
    yield PutInstrument(replace(FIR, name="Scan"))
    yield PutInstrument(replace(FIR, name="Fir tree", repeats=2))
    yield PutInstrument(FIR)
    yield OrderInstruments((3, 1, 2))
    for step in (0.0, -0.1, 75.0, 74.9, 0.1, None):
        yield OfferMetric(2, FAT, step)
    yield OfferMetric(2, "body_mass", 0.1)
    yield OfferMetric(2, "charm")
    yield WithdrawMetric(2, FAT)
    yield WithdrawMetric(2, "fat_mass")
    for label, starts, client in (
        ("", DAY, None),
        ("sport", "today", None),
        ("sport", DAY, None),
        ("sport", DAY, None),
        ("sport", DAY, 2),
        ("home", "2026-03-09", None),
    ):
        yield StartSetting(Setting(0, 2, label, starts, client))
    for label, day in (
        ("", DAY),
        ("home", "2026-03-09"),
        ("home", "2026-03-10"),
        ("sport", "2026-04-01"),
        ("x", "?"),
    ):
        yield BeginPeriod(2, label, day)


def _facts():
    for kind, client, item in (
        ("firmware", None, 2),
        ("firmware", 1, None),
        ("phase", 1, None),
        ("phase", None, 2),
    ):
        yield AddEvent(Event(0, client, item, DAY, "", kind, "  a  note "))
    for ends in (DAY, "2026-03-01", "?"):
        yield AddEvent(Event(0, 1, None, DAY, ends, "phase", ""))
    yield RemoveEvent(1)
    yield RemoveEvent(99)
    for value in (0.9, 1.0, 75.0, 75.1, float("nan"), None, None):
        yield SetGoal(1, FAT, value)
    for value in (0.0, 1e6, 999999.0, 2.0, None, None):
        yield StateValue(FAT, "margin", value)
    yield AddCheckWeight(2, DAY, Quantity(20.0, "20", "kg"), Quantity(20.1, "20.1", "kg"))
    for assessor, day, person in (
        ("", DAY, "P"),
        ("Kim", DAY, ""),
        ("Kim", "", "P"),
        ("Kim", DAY, "P"),
        ("Kim", DAY, "P"),
        ("Kim", DAY, "Q"),
    ):
        yield AddAssessorPair(assessor, day, "skinfold_triceps", person, (_cm(1.0), _cm(1.1)))


def _readings():
    yield _bench()
    yield _bench()  # such a reading is there already
    for change in (
        {"client": ""},
        {"metric": "charm"},
        {"name": ""},
        {"kind": "method"},
        {"replicate": 0},
        {"replicate": 21},
        {"replicate": 20},
        {"replicate": 99},
        {"replicate": 100},
        {"replicate": 1000},
        {"typed": "many"},
        {"typed": "76"},
        {"typed": None, "replicate": 2},
        {"client": "E", "name": "Yew", "note": "  new  "},
        {"setting": "sport"},
        {"setting": "sport", "client": "B"},
        {"setting": "loft", "client": "B"},
    ):
        yield _bench(**change)
    yield replace(_bench(replicate=3), visit=1)
    yield replace(_bench(replicate=4), visit=99)
    yield replace(_bench(at="2026-03-09T06:00"), fresh=True, simulated=True)
    two = (NewReading("Fir", "device", FAT, "20"), NewReading("Fir", "device", FAT, "21", 2))
    yield AddReadings("A", "2026-03-30T06:00", two)
    for typed in ("22,5", "x", None, "22.4 %"):
        yield CorrectReading(1, typed, " seen  again ", "Kim")
    yield CorrectReading(99, "20", "")
    yield ExcludeReading(1, " ")
    yield ExcludeReading(1, "a slip")
    yield RemarkReading(1, "odd")
    yield PutBackReading(1)
    yield PutBackReading(1)
    yield RemarkReading(1, "  odd  ", "Kim")
    yield CorrectReading(2, None, "none shown")
    yield ExcludeReading(2, "a slip")
    for decision, reason in (
        ("keep", ""),
        ("keep", "so it is"),
        ("again", "later"),
        ("exclude", "no"),
    ):
        yield Decide("k", decision, reason, (3, 4))
    yield Reopen("k", (3, 4))
    yield Reopen("k", (3, 4))
    yield ExcludeReading(3, "of its own")
    yield Decide("k", "exclude", "no", (3, 4))
    yield Reopen("k", (3, 4))
    yield NoteVisit("A", DAY + "T07:00", (("voided", " yes "),), " Kim ", "calm")
    yield NoteVisit("A", DAY + "T07:00", (("voided", None),))
    yield NoteVisit("Nobody", DAY)
    yield NoteVisit("A", "2026-05-01", fresh=True, notes="no time")
    for visit, at, client in (
        (1, "2026-03-03T07:30", "A"),
        (1, "2026-03-03", "A"),
        (99, DAY, "A"),
        (1, DAY, "Nobody"),
        (2, "2026-03-03T07:30", "A"),
        (2, "2026-03-20T07:30", "B"),
        (3, "2026-03-20T07:31", "B"),
    ):
        yield MoveVisit(visit, at, client, "Kim")
    for visit, path in ((1, "/a"), (1, "/a"), (99, "/a"), (2, "/a")):
        yield AttachFile(visit, path, "0" * 64)
    yield DetachFile(1)
    yield DetachFile(99)


CASES = {
    "rules": _rules,
    "protocol": _protocol,
    "cards": _cards,
    "facts": _facts,
    "readings": _readings,
}


STUDY = "SELECT title, visit_gap_minutes, practice, blind, balanced FROM study"  # not its number


def _rows(path):
    """Every row of every table of the study, without the history of edits."""
    with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True)) as file:
        tables = [
            name
            for (name,) in file.execute(
                "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite%'"
                " AND name NOT LIKE '%\\_new' ESCAPE '\\' AND name <> 'metric' ORDER BY name"
            )
        ]
        return {
            f"{name} {' '.join('-' if x is None else str(x) for x in row)}"
            for name in tables
            for row in file.execute(f"SELECT * FROM {name}" if name != "study" else STUDY)
        }


def edits(name, folder):
    """Each edit of a list, one after the other: what it says, and the rows it adds and takes away."""
    path = folder / f"{name}.tally"
    session = Session.new(path, "Squad", clock=CLOCK)
    lines = [
        reading("A", f"{DAY}T08:00", 20.0, name="Scan", kind="reference"),
        *(reading("A", f"{DAY}T07:0{k}", 21 + k / 10, repeat=k) for k in (1, 2)),
        reading("A", "2026-03-09T07:00", 21.4),
        reading("B", f"{DAY}T07:30", 30.0),
        reading(
            "B", f"{DAY}T07:40", 82.0, name="Tape", kind="method", metric="girth_waist", unit="cm"
        ),
    ]
    rows, _ = parse_text("\n".join([",".join(HEADER), *lines]) + "\n")
    session.do(ImportReadings(tuple(rows), "x"))
    out, before = [], _rows(path)
    for edit in CASES[name]():
        try:
            session.do(edit)
            said = edit.words
        except UserError as error:
            said = str(error)
        after = _rows(path)
        out.append([said, sorted(before - after), sorted(after - before)])
        before = after
    while (words := session.undo()) is not None:
        out.append(words)
    out.append(sorted(_rows(path)))
    session.close()
    return out
