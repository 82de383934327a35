"""Any sequence of edits: what is shown equals what is in the file, and undo leads back to where it began."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from anchor_tally.app.session import Session
from anchor_tally.domain.errors import UserError
from anchor_tally.domain.records import Client, Instrument, Setting
from anchor_tally.domain.steps import finish
from anchor_tally.domain.units import Quantity
from anchor_tally.exchange.readings_csv import HEADER
from anchor_tally.study import open_file, read, read_calibrations, read_columns
from anchor_tally.study.edits.checks import AddAssessorPair, AddCheckWeight
from anchor_tally.study.edits.clients import AddClient, AddHeight, PutClient, PutStudy
from anchor_tally.study.edits.imports import ImportReadings
from anchor_tally.study.edits.instruments import (
    AddInstrument,
    OfferMetric,
    OrderInstruments,
    PutInstrument,
    StartSetting,
    WithdrawMetric,
)
from anchor_tally.study.edits.protocol import AskCondition
from anchor_tally.study.edits.readings import CorrectReading, ExcludeReading, PutBackReading
from anchor_tally.study.edits.visits import MoveVisit, NoteVisit
from places import adoption, parse_text, typed

CLIENTS = st.sampled_from("AB")
TIMES = st.sampled_from(
    [
        "2026-03-02T06:30",
        "2026-03-02T06:30:00",
        "2026-03-02 07:10",
        "2026-03-09",
        "2026-03-16T06:30+02:00",
    ]
)
IDS = st.integers(1, 6)
EDITS = st.one_of(
    st.tuples(
        st.just("type"), CLIENTS, TIMES, st.sampled_from(["body_fat_percent", "skinfold_thigh"]), st.sampled_from(["30", "20,5", None]),
        st.booleans(),
    ),
    st.tuples(st.sampled_from(["exclude", "back"]), IDS),
    st.tuples(st.just("correct"), IDS, st.sampled_from(["31", "9000", None])),
    st.tuples(st.just("note"), CLIENTS, TIMES, st.sampled_from(["yes", "no", None])),
    st.tuples(st.just("move"), IDS, CLIENTS, TIMES),
    st.tuples(st.just("card"), st.integers(1, 2), st.sampled_from(["1990", "1990-02", "never"])),
    st.tuples(st.just("setting"), st.integers(1, 2), st.sampled_from(["2026-01-01", "2026-03-09"])),
    st.tuples(st.just("height"), st.integers(1, 2), st.sampled_from([170.0, 999.0])),
    st.tuples(st.just("offer"), st.integers(1, 2), st.booleans()),
    st.tuples(st.just("import"), CLIENTS, TIMES, st.sampled_from([21.5, 30.0]), st.sampled_from(["", "170", "171"])),
    st.tuples(st.just("adopt"), st.sampled_from(["Fir", "Skinfold body fat"])),
    st.tuples(st.sampled_from(["order", "around", "practice", "undo", "undo", "redo"])),
)  # fmt: skip


def table(client, at, value, height):
    """A small tidy table: a scan and a reading, with what it states of the client and the visit."""
    lines = [",".join([*HEADER, "condition:fasted"])]
    for instrument, kind, metric, unit in (
        ("Fir", "device", "body_fat_percent", "percent"),
        ("Scan", "reference", "body_fat_percent", "percent"),
    ):
        lines.append(
            f"{client},female,30,{height},{at},{instrument},{kind},std,{metric},{value},{unit},1,ok,,yes"
        )
    return tuple(parse_text("\n".join(lines))[0])


def edit(session, what, *x):
    """One edit of the kind named."""
    items = session.catalogue()
    match what:
        case "type":
            n = len(session.readings()) + 1
            entry_row = ("Fir", "device") if x[2] == "body_fat_percent" else ("Callipers", "method")
            session.do(
                typed(x[0], x[1], *entry_row, x[2], x[3], first=n, setting="std", fresh=x[4])
            )
        case "exclude":
            session.do(ExcludeReading(x[0], "odd"))
        case "back":
            session.do(PutBackReading(x[0]))
        case "correct":
            session.do(CorrectReading(x[0], x[1], "misread"))
        case "note":
            session.do(NoteVisit(x[0], x[1], (("fasted", x[2]),), assessor="R"))
        case "move":
            session.do(MoveVisit(x[0], x[2], x[1]))
        case "card":
            session.do(
                PutClient(
                    replace(
                        items.clients.get(x[0], Client(x[0], "?")),
                        birth=x[1],
                        cautions=frozenset({"implant"}),
                    )
                )
            )
        case "setting":
            session.do(StartSetting(Setting(0, x[0], "std", x[1])))
        case "height":
            session.do(AddHeight(x[0], "2026-01-01", Quantity(x[1], "x", "cm")))
        case "offer":
            session.do(
                OfferMetric(x[0], "body_mass", 0.1) if x[1] else WithdrawMetric(x[0], "body_mass")
            )
        case "import":
            session.do(ImportReadings(table(*x), "a table"))
        case "adopt":
            session.do(adoption(session, x[0]))
        case "order":
            session.do(OrderInstruments(tuple(sorted(items.instruments, reverse=True))))
            session.do(
                PutInstrument(
                    replace(
                        next(iter(items.instruments.values()), Instrument(0, "", "device")),
                        repeats=2,
                    )
                )
            )
        case "around":
            session.do(
                AddCheckWeight(
                    1, "2026-03-02", Quantity(20, "20", "kg"), Quantity(20.1, "20.1", "kg")
                )
            )
            session.do(
                AddAssessorPair(
                    "R",
                    "2026-03-02",
                    "skinfold_thigh",
                    "1",
                    (Quantity(9, "9", "mm"), Quantity(10, "10", "mm")),
                )
            )
            session.do(AskCondition("morning", asked=True))
        case "practice":
            session.do(PutStudy("another title", practice=not items.practice))
        case "undo":
            session.undo()
        case "redo":
            session.redo()


def content(session):
    """All rows of all tables but the history, which keeps what was undone too, and the calibrations that are in force."""
    tables = [
        r[0]
        for r in session._conn.execute(
            "SELECT name FROM sqlite_master WHERE type = 'table' ORDER BY name"
        )
    ]
    skip = (
        "reading_change",
        "visit_change",
        "metric",
        "sqlite_sequence",
        "calibration",
        "calibration_mark",
    )
    rows = {
        t: session._conn.execute(f"SELECT * FROM {t} ORDER BY 1, 2").fetchall()
        for t in tables
        if t not in skip
    }
    return rows | {
        "in force": read_calibrations.in_force(
            read_calibrations.calibration_versions(session._conn)
        )
    }


def same_as_the_file(session):
    """Columns and catalogue kept in memory equal what is read anew."""
    shown = session.snapshot("body_fat_percent")
    for metric in ("body_fat_percent", "skinfold_thigh"):
        fresh, kept = (
            read_columns.columns(session._conn, metric),
            session.snapshot(metric).columns.get(metric),
        )
        if fresh.n:
            stored = kept.reading > 0
            for name in (
                "reading",
                "visit",
                "client",
                "setting",
                "instant",
                "day",
                "status",
                "value",
                "replicate",
            ):
                np.testing.assert_array_equal(getattr(kept, name)[stored], getattr(fresh, name))
    assert session.catalogue() == read.catalogue(session._conn)
    assert shown.revision == session.asked("body_fat_percent").revision


@settings(max_examples=40, deadline=None)
@given(st.lists(EDITS, max_size=14))
def test_edits_and_their_undoing(edits):
    """A refused edit changes nothing; what is kept equals the file.

    All undone is the beginning, all redone the end; no orphans.
    """
    session = Session(open_file.create_in_memory("x"), None)
    start = content(session)
    for what in edits:
        before, depth, said = content(session), len(session._undo), ""
        try:
            edit(session, *what)
        except UserError as error:
            said = str(error)
        assert "\n" not in said
        assert not said or len(session._undo) > depth or content(session) == before
        same_as_the_file(session)
    while session.can_redo:
        session.redo()
    end, steps = content(session), len(session._undo)
    while session.can_undo:
        session.undo()
    assert content(session) == start
    assert session._conn.execute("SELECT count(*) FROM reading_change").fetchone() == (0,)
    for _ in range(steps):
        session.redo()
    assert not session.can_redo
    assert content(session) == end
    same_as_the_file(session)
    session.close()


def test_numbers_are_not_used_again():
    """A reading added, corrected and taken back leaves neither its number nor its history to the next one."""
    session = Session(open_file.create_in_memory("x"), None)
    session.do(typed("A", "2026-03-02", "Fir", "device", "body_mass", "70"))
    session.do(CorrectReading(1, "71", "misread"))
    session.undo()
    session.undo()
    session.do(typed("A", "2026-03-02", "Fir", "device", "body_mass", "72"))
    (new,) = session.readings()
    assert new.id > 1
    assert session.history(new.id) == []
    session.close()


def test_setting_is_chosen_by_date_and_client():
    """A label in force several times: a reading gets the period of its date, the client's own before one for all."""
    session = Session(open_file.create_in_memory("x"), None)
    for code in "AB":
        session.do(AddClient(Client(0, code)))
    session.do(AddInstrument(Instrument(0, "Fir", "device")))
    for client, starts in ((None, "2026-01-01"), (None, "2026-03-01"), (1, "2026-02-01")):
        session.do(StartSetting(Setting(0, 1, "std", starts, client)))
    lines = [",".join(HEADER)]
    for code, day in (
        ("A", "2026-01-15"),
        ("A", "2026-03-15"),
        ("B", "2026-02-15"),
        ("B", "2026-03-15"),
        ("B", "2025-12-01"),
    ):
        lines.append(f"{code},,,,{day},Fir,device,std,body_mass,70,kg,1,ok,")
    rows, _ = parse_text("\n".join(lines))
    session.do(ImportReadings(tuple(rows), "x"))
    got = dict(
        session._conn.execute(
            "SELECT c.code || r.taken_at, r.setting FROM reading r JOIN visit v ON v.id = r.visit"
            " JOIN client c ON c.id = v.client"
        )
    )
    assert got == {
        "A2026-01-15": 1,
        "A2026-03-15": 3,
        "B2026-02-15": 1,
        "B2026-03-15": 2,
        "B2025-12-01": 1,
    }
    assert session.catalogue().setting_in_force("Fir", "2026-02-15", "A") == "std"
    again = finish(session.stage(rows))
    assert (again.new, again.already_there) == (0, 5)
    session.close()


def test_age_and_height_are_carried():
    """A visit without age or height gets them from the birth date, the height history, or the client's other visits."""
    session = Session(open_file.create_in_memory("x"), None)
    text = "\n".join(
        [
            ",".join(HEADER),
            "A,female,30,170,2026-01-01,Fir,device,,body_mass,60,kg,1,ok,",
            "A,,,,2027-01-01,Fir,device,,body_mass,61,kg,1,ok,",
            "B,,,,2026-07-02,Fir,device,,body_mass,70,kg,1,ok,",
            "C,,,,2026-07-02,Fir,device,,body_mass,70,kg,1,ok,",
        ]
    )
    session.do(ImportReadings(tuple(parse_text(text)[0]), "x"))
    session.do(PutClient(replace(session.catalogue().clients[2], birth="1996")))
    for day, height in (("2026-06-01", 180.0), ("2026-08-01", 181.0)):
        session.do(AddHeight(2, day, Quantity(height, str(height), "cm")))
    v = session.snapshot().visits
    assert v.age_years[:3] == pytest.approx([30, 31, 30], abs=0.01)
    assert v.height_cm[:3].tolist() == [170, 170, 180]
    assert np.isnan([v.age_years[3], v.height_cm[3]]).all()
    session.close()


def test_what_was_typed_in_words():
    """One reading is named without its value; several are counted."""
    row = ("A", "2026-03-02", "Fir", "device", "body_fat_percent")
    assert typed(*row, "20").words == "add body fat of A, Fir"
    assert typed(*row, "20", "21").words == "add 2 readings of A"
