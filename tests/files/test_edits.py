"""Any sequence of edits: what is shown equals what is in the file, and undo leads back to where it began."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from anchor_tally.app.session import Session
from anchor_tally.domain.errors import UserError
from anchor_tally.domain.steps import finish
from anchor_tally.exchange.readings_csv import HEADER
from anchor_tally.study import open_file, read
from anchor_tally.study.cards import AddRow, ChangeRow, NoteVisit, PutPair, SetOrder
from anchor_tally.study.commands import ImportReadings, add_reading
from places import parse_text

CLIENTS, TIMES = (
    st.sampled_from("AB"),
    st.sampled_from(["2026-03-02T06:30", "2026-03-02T07:10", "2026-03-09", "2026-03-16T06:30"]),
)
EDITS = st.one_of(
    st.tuples(
        st.just("type"), CLIENTS, TIMES, st.sampled_from(["body_mass", "skinfold_thigh"]), st.sampled_from(["70", "20,5", None])
    ),
    st.tuples(st.just("exclude"), st.integers(1, 6)),
    st.tuples(st.just("back"), st.integers(1, 6)),
    st.tuples(st.just("correct"), st.integers(1, 6), st.sampled_from(["71", "9000", None])),
    st.tuples(st.just("note"), CLIENTS, TIMES, st.sampled_from(["yes", "no", None])),
    st.tuples(st.just("card"), st.integers(1, 2), st.sampled_from(["1990", "1990-02", "never"])),
    st.tuples(st.just("setting"), st.integers(1, 2), st.sampled_from(["2026-01-01", "2026-03-09"])),
    st.tuples(st.just("height"), st.integers(1, 2), st.sampled_from([170.0, 999.0])),
    st.tuples(st.just("offer"), st.integers(1, 2), st.booleans()),
    st.tuples(st.just("order")),
    st.tuples(st.just("undo")),
    st.tuples(st.just("redo")),
)


def edit(session, what, *x):
    """One edit of the kind named."""
    match what:
        case "type":
            n = len(session.readings()) + 1
            common = {
                "instrument": "Fir" if x[2] == "body_mass" else "Callipers",
                "kind": "device" if x[2] == "body_mass" else "method",
            }
            session.do(add_reading(client=x[0], taken_at=x[1], metric=x[2], typed=x[3], replicate=n, setting="std", **common))
        case "exclude":
            session.exclude(x[0], "odd")
        case "back":
            session.put_back(x[0])
        case "correct":
            session.correct_reading(x[0], x[1], "misread")
        case "note":
            session.do(NoteVisit(x[0], x[1], (("fasted", x[2]),), (("assessor", "R"),)))
        case "card":
            session.do(ChangeRow("client", x[0], (("birth", x[1]), ("cautions", "implant"))))
        case "setting":
            session.do(AddRow("setting", (("instrument", x[0]), ("client", None), ("label", "std"), ("starts", x[1]))))
        case "height":
            values = (("client", x[0]), ("day", "2026-01-01"), ("height_cm", x[1]), ("entered", "x"), ("unit", "cm"))
            session.do(AddRow("client_height", values))
        case "offer":
            session.do(
                PutPair("instrument_metric", (("instrument", x[0]), ("metric", "body_mass")), "resolution", 0.1, there=x[1])
            )
        case "order":
            session.do(SetOrder(tuple(sorted((i for i in session.snapshot().instruments if i > 0), reverse=True))))
        case "undo":
            session.undo()
        case "redo":
            session.redo()


def content(session):
    """All rows of all tables but the history, which keeps what was undone too."""
    tables = [r[0] for r in session._conn.execute("SELECT name FROM sqlite_master WHERE type = 'table' ORDER BY name")]
    skip = ("reading_change", "metric")
    return {t: session._conn.execute(f"SELECT * FROM {t} ORDER BY 1, 2").fetchall() for t in tables if t not in skip}  # noqa: S608


@settings(max_examples=60, deadline=None)
@given(st.lists(EDITS, max_size=14))
def test_edits_and_their_undoing(edits):
    """A refused edit changes nothing; columns kept in memory equal the file; all undone is the beginning, redone the end."""
    session = Session(open_file.create_in_memory("x"), None)
    start = content(session)
    for what in edits:
        before, said = content(session), ""
        try:
            edit(session, *what)
        except UserError as error:
            said = str(error)
        assert "\n" not in said
        assert not said or content(session) == before
        shown = session.snapshot("body_mass")
        for metric in ("body_mass", "skinfold_thigh"):
            fresh = read.columns(session._conn, metric)
            if fresh.n:
                kept = shown.columns[metric]
                stored = kept.reading > 0
                for name in ("reading", "visit", "client", "setting", "wall", "status", "value", "replicate"):
                    np.testing.assert_array_equal(getattr(kept, name)[stored], getattr(fresh, name))
    end, steps = content(session), 0
    while session.can_undo:
        session.undo()
        steps += 1
    assert content(session) == start
    for _ in range(steps):
        session.redo()
    assert content(session) == end or session.can_redo  # what was undone among the edits may be redone further
    session.close()


def test_setting_is_chosen_by_date_and_client():
    """A label in force several times: a reading gets the period of its date, the client's own before one for all."""
    session = Session(open_file.create_in_memory("x"), None)
    for code in "AB":
        session.do(AddRow("client", (("code", code),)))
    session.do(AddRow("instrument", (("name", "Fir"), ("kind", "device"))))
    for client, starts in ((None, "2026-01-01"), (None, "2026-03-01"), (1, "2026-02-01")):
        session.do(AddRow("setting", (("instrument", 1), ("client", client), ("label", "std"), ("starts", starts))))
    lines = [",".join(HEADER)]
    for code, day in (("A", "2026-01-15"), ("A", "2026-03-15"), ("B", "2026-02-15"), ("B", "2026-03-15"), ("B", "2025-12-01")):
        lines.append(f"{code},,,,{day},Fir,device,std,body_mass,70,kg,1,ok,")
    rows, _ = parse_text("\n".join(lines))
    session.do(ImportReadings(tuple(rows), "x"))
    got = dict(
        session._conn.execute(
            "SELECT c.code || r.taken_at, r.setting FROM reading r JOIN visit v ON v.id = r.visit JOIN client c ON c.id = v.client"
        )
    )
    assert got == {"A2026-01-15": 1, "A2026-03-15": 3, "B2026-02-15": 1, "B2026-03-15": 2, "B2025-12-01": 1}
    assert session.settings_at("Fir", "2026-02-15", "A") == "std"
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
    session.do(ChangeRow("client", 2, (("birth", "1996"),)))
    for day, height in (("2026-06-01", 180.0), ("2026-08-01", 181.0)):
        values = (("client", 2), ("day", day), ("height_cm", height), ("entered", str(height)), ("unit", "cm"))
        session.do(AddRow("client_height", values))
    v = session.snapshot().visits
    assert v.age_years[:3] == pytest.approx([30, 31, 30], abs=0.01)
    assert v.height_cm[:3].tolist() == [170, 170, 180]
    assert np.isnan([v.age_years[3], v.height_cm[3]]).all()
    session.close()
