"""Tables of any form become readings or refusals; exports come back as they went."""

import io
import json
import zipfile
from contextlib import redirect_stderr, redirect_stdout
from dataclasses import replace

import openpyxl
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from openpyxl.comments import Comment

from anchor_tally.analysis.agreement.agreement import CompareRequest
from anchor_tally.app.exporting import export
from anchor_tally.app.importing import look_at, place_of, rows_of, turn
from anchor_tally.app.mappings import remember, remembered
from anchor_tally.app.session import Session
from anchor_tally.cli.main import main
from anchor_tally.domain.errors import UserError
from anchor_tally.domain.import_rows import ImportCard, ImportRow, Refused
from anchor_tally.domain.lens import Lens
from anchor_tally.domain.records import Client
from anchor_tally.domain.steps import finish
from anchor_tally.exchange.dates import ambiguous, iso_moment, order_of
from anchor_tally.exchange.guessing import (
    comments_left,
    guess,
    offers_groups,
    with_groups_as_clients,
)
from anchor_tally.exchange.mapping import missing, read_rows
from anchor_tally.exchange.people import card_of
from anchor_tally.exchange.readings_csv import HEADER, open_readings
from anchor_tally.exchange.tables import open_table, pasted_table
from anchor_tally.study import open_file
from anchor_tally.study.edits.clients import AddClient, PutClient
from anchor_tally.study.edits.instruments import PutInstrument
from anchor_tally.wording.notes import sentence
from places import CLOCK, adoption_of_nothing, filled, parse_text, reading, study_of, text_of

WIDE = (
    "Morning values\n"
    "Klient;Datum;Uhrzeit;Alder fat (%) 1;Alder fat (%) 2;Weight (lb);Waist (in);DEXA fat"
    " (%);fasted;Bemerkung\n"
    "Auk;14/03/2026;06:30;18,4;18,9;154,2;32,5;16,9;yes;müde\n"
    "Brill;13/03/2026;6:40;24,4;;150;30;22;no;\n"
)


def taken(table):
    """Readings of a table as guessed, in a short form."""
    mapping = guess(table)
    assert missing(mapping) == ""
    rows = list(read_rows(table, mapping))
    assert not [r for r in rows if isinstance(r, Refused)]
    return [
        (r.client, r.taken_at, r.instrument, r.kind, r.metric, r.entered, r.unit, r.replicate)
        for r in rows
    ]


EXPECTED = [
    ("Auk", "2026-03-14T06:30", "Alder", "device", "body_fat_percent", "18.4", "percent", 1),
    ("Auk", "2026-03-14T06:30", "Alder", "device", "body_fat_percent", "18.9", "percent", 2),
    ("Auk", "2026-03-14T06:30", "Imported device", "device", "body_mass", "154.2", "lb", 1),
    ("Auk", "2026-03-14T06:30", "Tape", "method", "girth_waist", "32.5", "in", 1),
    ("Auk", "2026-03-14T06:30", "DEXA", "reference", "body_fat_percent", "16.9", "percent", 1),
    ("Brill", "2026-03-13T06:40", "Alder", "device", "body_fat_percent", "24.4", "percent", 1),
    ("Brill", "2026-03-13T06:40", "Imported device", "device", "body_mass", "150", "lb", 1),
    ("Brill", "2026-03-13T06:40", "Tape", "method", "girth_waist", "30", "in", 1),
    ("Brill", "2026-03-13T06:40", "DEXA", "reference", "body_fat_percent", "22", "percent", 1),
]


@pytest.mark.parametrize(
    "encoding", ["utf-8", "utf-8-sig", "utf-16", "utf-16-le", "utf-16-be", "cp1252"]
)
@pytest.mark.parametrize("separator", [";", "\t", "|"])
def test_encodings_and_separators(tmp_path, encoding, separator):
    """The same table in every form gives the same readings."""
    path = tmp_path / "t.csv"
    path.write_bytes(WIDE.replace(";", separator).encode(encoding))
    assert taken(open_table(path)) == EXPECTED


def test_workbook_and_clipboard(tmp_path):
    """Sheets of a workbook, with true dates and numbers, and pasted text."""
    book = openpyxl.Workbook()
    book.active.title = "empty"
    sheet = book.create_sheet("fat")
    import datetime

    sheet.append(["Athlete", "Date", "Alder fat (%)", "Weight (kg)"])
    sheet.append(["Auk", datetime.datetime(2026, 3, 14, 6, 30), 18.4, 70])
    book.save(tmp_path / "t.xlsx")
    with pytest.raises(UserError, match="no table"):
        open_table(tmp_path / "t.xlsx")
    table = open_table(tmp_path / "t.xlsx", "fat")
    assert table.sheets == ("empty", "fat")
    assert [x[1::4] for x in taken(table)] == [
        ("2026-03-14T06:30", "18.4"),
        ("2026-03-14T06:30", "70"),
    ]
    pasted = pasted_table("ID\tDate\tFat %\nA\t2026-03-14\t20.5\n")
    assert taken(pasted)[0][:6] == (
        "A",
        "2026-03-14",
        "Imported device",
        "device",
        "body_fat_percent",
        "20.5",
    )
    long = pasted_table(
        "client,date,metric,value,instrument\nA,14.03.2026,Body"
        " fat,20.5,Fir\nA,15.03.2026,weight,70,Fir\n"
    )
    assert [(x[4], x[5]) for x in taken(long)] == [
        ("body_fat_percent", "20.5"),
        ("body_mass", "70"),
    ]
    (tmp_path / "broken.xlsx").write_bytes(b"PK\x03\x04 nothing")
    with pytest.raises(UserError, match="workbook"):
        open_table(tmp_path / "broken.xlsx")


@pytest.mark.parametrize(
    ("day", "clock", "order", "moment"),
    [
        ("03/04/2026", "", "dmy", "2026-04-03"),
        ("03/04/2026", "", "mdy", "2026-03-04"),
        ("3.4.26", "6:05 PM", "dmy", "2026-04-03T18:05"),
        ("14 Mar 2026 06:30", "", "dmy", "2026-03-14T06:30"),
        ("2026-03-14 06:30:15", "", "dmy", "2026-03-14T06:30:15"),
        ("2026-03-14T06:30+01:00", "", "iso", "2026-03-14T06:30+01:00"),
        ("2026/3/4", "07:00", "iso", "2026-03-04T07:00"),
        ("12/31/2026", "23:59", "mdy", "2026-12-31T23:59"),
        ("12/31/2026 12:10 am", "", "mdy", "2026-12-31T00:10"),
        ("Mon 06 Oct 2025", "", "iso", "2025-10-06"),
        ("Monday, 6.10.2025 07:30", "", "dmy", "2025-10-06T07:30"),
        ("Mar 2, 2026", "", "mdy", "2026-03-02"),
        ("March 2 2026 7:10 pm", "", "iso", "2026-03-02T19:10"),
        ("3/2/99", "", "dmy", "1999-02-03"),
    ],
)
def test_dates(day, clock, order, moment):
    """Dates as people write them; the chosen order is kept to."""
    assert iso_moment(day, clock, order) == moment


@pytest.mark.parametrize(
    ("day", "clock"),
    [("31/02/2026", ""), ("yesterday", ""), ("01/02/2026", "25:00"), ("1/13/2026", "")],
)
def test_dates_refused(day, clock):
    """What is no date is refused, never shifted."""
    with pytest.raises(ValueError, match=r"day|date|time"):
        iso_moment(day, clock, "dmy")


def test_date_order_is_found_or_asked_for():
    """One number above 12 tells the order; without any the user is told to look."""
    assert order_of(["3/4/2026", "14/4/2026"]) == "dmy"
    assert order_of(["3/4/2026", "4/14/2026"]) == "mdy"
    assert order_of(["2026-03-04"]) == "iso"
    assert ambiguous(["3/4/2026", "4/5/2026"])
    assert not ambiguous(["3/4/2026", "14/5/2026"])
    assert order_of(["Tue 3/4/2026", "Tue 14/4/2026"]) == "dmy"


def test_comments_of_cells_are_remarks_of_readings(tmp_path):
    """A comment on a reading is its remark; one on another cell is named, and none is lost."""
    book = openpyxl.Workbook()
    sheet = book.active
    for row in (["Client", "Date", "Alder fat (%)"], ["Auk", "2026-03-14", 18.4]):
        sheet.append(row)
    sheet["C2"].comment = Comment("wet feet", "R. K.")
    sheet["A2"].comment = Comment("new here", "R. K.")
    book.save(tmp_path / "c.xlsx")
    table = open_table(tmp_path / "c.xlsx")
    rows = [r for r in read_rows(table, guess(table)) if isinstance(r, ImportRow)]
    assert [r.note for r in rows] == ["wet feet"]
    assert comments_left(table, guess(table)) == ("new here",)


def test_births_with_dots_beside_visits_written_year_first():
    """One table may write visits as 2026-03-14 and births as 03.04.1984: both are read."""
    said = dict.fromkeys(("sex", "birth", "cautions", "note", "age_years", "name"), "")
    card = card_of(2, "A", said | {"birth": "03.04.1984"}, "", "iso")
    assert isinstance(card, ImportCard)
    assert card.birth == "1984-04-03"


def test_births_with_two_digits_of_the_year(tmp_path):
    """The last century that is not ahead; four digits that lie ahead are refused, at the card as well."""
    path = tmp_path / "people.csv"
    path.write_text(
        "Code,Sex,DOB\nA,f,3/13/94\nB,m,3/13/26\nC,m,3/13/27\nD,m,3/13/2027\nE,f,8/27/2026\n"
    )
    session = Session(open_file.create_in_memory("x"), None, clock=CLOCK)
    table = open_table(path)
    staged = finish(session.stage(read_rows(table, guess(table))))
    assert [(r.column, r.reason) for r in staged.refused] == [("birth", "a birth cannot lie ahead")]
    finish(session.take(staged, "x"))
    clients = {c.code: c for c in session.catalogue().clients.values()}
    births = {k: c.birth for k, c in clients.items()}
    ends = {"B": "2026-03-13", "C": "1927-03-13", "E": "2026-08-27"}
    assert births == {"A": "1994-03-13"} | ends
    for birth in ("2027", "2026-09", "2026-08-28"):
        with pytest.raises(UserError, match="lies ahead; nothing was changed"):
            session.do(PutClient(replace(clients["A"], birth=birth)))
    session.close()


def test_a_table_of_people_changes_nothing_else_of_a_card():
    """What the table does not hold stays: the question about the cycle, usual activity, scans before."""
    session = Session(open_file.create_in_memory("x"), None, clock=CLOCK)
    session.do(
        AddClient(Client(0, "A", "female", usual_activity="rows", scans_before=2, cycle=True))
    )
    before = session.catalogue().clients[1]
    said = dict.fromkeys(("sex", "birth", "cautions", "note", "age_years", "name"), "")
    card = card_of(2, "A", said | {"birth": "1994", "note": "left-handed"}, "", "iso")
    finish(session.take(finish(session.stage([card])), "x"))
    after = session.catalogue().clients[1]
    assert after == replace(before, birth="1994", notes="left-handed")
    session.close()


def test_command_line_takes_tidy_tables_of_any_form(tmp_path, capsys):
    """The tidy table as UTF-16 with semicolons, and our own workbook, import like the plain one.

    Another table does not.
    """
    small = study_of(
        [
            reading(
                who,
                f"2026-03-0{k + 1}T06:3{repeat}",
                20.5 + k,
                repeat=repeat,
                setting=setting,
                name=name,
            )
            for k, (who, name, setting) in enumerate(
                [("Auk", "Fir", ""), ("Cod", "Fir", "athlete"), ("Müller", "Elm", "")]
            )
            for repeat in (1, 2, 3)
        ]
    )
    export(small, tmp_path / "plain.csv")
    export(small, tmp_path / "book.xlsx")
    small.close()
    text = (tmp_path / "plain.csv").read_text()
    (tmp_path / "odd.csv").write_bytes(text.replace(",", ";").encode("utf-16"))
    studies = []
    for name in ("plain.csv", "odd.csv", "book.xlsx"):
        target = tmp_path / f"{name}.tally"
        assert main(["import", str(tmp_path / name), "--into", str(target)]) == 0, (
            capsys.readouterr().err
        )
        session = Session.open(target)
        studies.append(
            [
                (r.client, r.taken_at, r.instrument, r.metric, r.value, r.replicate, r.status)
                for r in session.readings()
            ]
        )
        session.close()
        in_memory = Session.open(tmp_path / name, read_only=True)  # the same code
        assert len(in_memory.readings()) == len(studies[-1])
        in_memory.close()
    assert studies[0] == studies[1] == studies[2]
    (tmp_path / "wide.csv").write_text(WIDE)
    assert main(["import", str(tmp_path / "wide.csv"), "--into", str(tmp_path / "w.tally")]) == 2
    assert not (tmp_path / "w.tally").exists()


def test_mapping_is_offered_again(tmp_path, monkeypatch):
    """A mapping is kept by header, whatever the case; a spoiled file of mappings is passed over."""
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path))
    table = pasted_table("ID\tDate\tFat %\nA\t2026-03-14\t20.5\n")
    assert remembered(table.header) is None
    remember(table.header, guess(table))
    assert remembered(("id", "date", "fat %")) == guess(table)
    assert remembered(("id", "date")) is None
    (tmp_path / "anchor-tally" / "mappings.json").write_text("{")
    assert remembered(table.header) is None


@settings(
    max_examples=80, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
@given(st.binary(max_size=600), st.booleans())
def test_any_bytes_are_a_table_or_a_sentence(tmp_path, data, tidy):
    """Whatever bytes a file holds: rows, refusals or one sentence.

    A study is filled wholly or not at all.
    """
    path = tmp_path / "x.csv"
    path.write_bytes((",".join(HEADER) + "\n").encode() + data if tidy else data)
    session = Session(open_file.create_in_memory("x"), None)
    said = ""
    try:
        table = None if tidy else open_table(path)
        rows = (
            open_readings(path).rows
            if table is None
            else read_rows(table, guess(table))
            if not missing(guess(table))
            else ()
        )
        staged = finish(session.stage(rows))
        finish(session.take(staged, "x"))
        assert len(session.readings()) == staged.new
        assert all(r.reason for r in staged.refused)
    except UserError as error:
        said = str(error)
    assert "\n" not in said
    assert not (said and session.readings())
    session.close()


def many(n):
    """Readings of one client, one a minute of its own day."""
    common = ("Fir", "device", "", "body_mass")
    return [
        ImportRow(
            k,
            "A",
            "",
            None,
            None,
            f"20{k // 336:02}-{k % 336 // 28 + 1:02}-{k % 28 + 1:02}",
            *common,
            70.0,
            "70",
            "kg",
            1,
            "ok",
            "",
        )
        for k in range(n)
    ]


def test_large_import_can_be_stopped(tmp_path):
    """Closing a large import half-way leaves nothing; its guards are back.

    Done again it is whole, and undone at once.
    """
    session = Session.new(tmp_path / "s.tally", "t")
    staged = finish(session.stage(many(8_000)))
    job = session.take(staged, "x")
    next(job)
    next(job)
    job.close()
    assert session.readings() == []
    assert not session.can_undo
    finish(session.take(staged, "x"))
    names = {r[0] for r in session._conn.execute("SELECT name FROM sqlite_master")}
    assert {"reading_key", "reading_range", "reading_metric"} <= names
    assert len(session.readings()) == 8_000
    again = finish(session.stage(many(8_000)))
    assert (again.new, again.already_there) == (0, 8_000)
    session.undo()
    assert session.readings() == []
    session.redo()
    assert len(session.readings()) == 8_000
    session.close()


def whole(session):
    """All tables."""
    tables = [
        r[0]
        for r in session._conn.execute(
            "SELECT name FROM sqlite_master WHERE type = 'table' ORDER BY name"
        )
    ]
    skip = {"metric", "sqlite_sequence"}
    return {
        t: session._conn.execute(f"SELECT * FROM {t} ORDER BY 1, 2").fetchall()
        for t in tables
        if t not in skip
    }


def test_full_package_makes_an_equal_study(tmp_path):
    """A full copy holds the whole study, describes itself, and makes an equal one."""
    session = filled(tmp_path)
    session.do(adoption_of_nothing(session))
    session.close()
    assert main(["export", str(session.path), "--full", "-o", str(tmp_path / "p.zip")]) == 0
    assert main(["import", str(tmp_path / "p.zip"), "--into", str(tmp_path / "q.tally")]) == 0
    session, again = Session.open(tmp_path / "s.tally"), Session.open(tmp_path / "q.tally")
    assert whole(again) == whole(session)
    assert again.calibrations() == session.calibrations()
    with zipfile.ZipFile(tmp_path / "p.zip") as z:
        described = json.loads(z.read("datapackage.json"))
    names = {r["path"] for r in described["resources"]}
    assert {
        "readings.csv",
        "clients.csv",
        "instruments.csv",
        "visits.csv",
        "calibrations.csv",
    } <= names
    for r in described["resources"]:
        fields = {f["name"] for f in r["schema"]["fields"]}
        assert all(k["fields"][0] in fields for k in r["schema"]["foreignKeys"])
    session.close()
    again.close()


def test_package_names_nobody(tmp_path):
    """By default: codes, age in years at the visit, no name, birth, caution, remark, reason, assessor, file or title."""
    session = filled(tmp_path)
    assert export(session, tmp_path / "p.zip").readings == 3
    assert (tmp_path / "p.zip").stat().st_mode & 0o777 == 0o600
    text = text_of(tmp_path / "p.zip")
    for secret in (b"Secret", b"1994", b"implant", b"comma", b"odd"):
        assert secret not in text, secret
    assert main(["import", str(tmp_path / "p.zip"), "--into", str(tmp_path / "q.tally")]) == 0
    again = Session.open(tmp_path / "q.tally")
    facts = [
        (r.client, r.taken_at, r.instrument, r.metric, r.value, r.status)
        for r in session.readings()
    ]
    assert facts == [
        (r.client, r.taken_at, r.instrument, r.metric, r.value, r.status) for r in again.readings()
    ]
    ages = session.snapshot("body_fat_percent").visits.age_years
    assert again.snapshot("body_fat_percent").visits.age_years == pytest.approx(ages, abs=0.06)
    session.close()
    again.close()


def test_bad_packages(tmp_path, capsys):
    """A broken package says so in one line and leaves no study.

    An existing study is not written over.
    """
    session = filled(tmp_path)
    export(session, tmp_path / "p.zip")
    session.close()
    (tmp_path / "text.zip").write_text("no zip")
    with (
        zipfile.ZipFile(tmp_path / "p.zip") as z,
        zipfile.ZipFile(tmp_path / "odd.zip", "w") as out,
    ):
        for name in z.namelist():
            out.writestr(name, z.read(name).replace(b"21.5", b"2100.5"))
    with (
        zipfile.ZipFile(tmp_path / "p.zip") as z,
        zipfile.ZipFile(tmp_path / "facts.zip", "w") as out,
    ):
        for name in z.namelist():
            out.writestr(
                name, z.read(name).replace(b'"visit_gap_minutes": 120', b'"visit_gap_minutes": [0]')
            )
    for name in ("text.zip", "odd.zip", "none.zip", "facts.zip"):
        assert main(["import", str(tmp_path / name), "--into", str(tmp_path / "n.tally")]) == 2
        assert capsys.readouterr().err.count("\n") == 1
        assert not (tmp_path / "n.tally").exists()
    assert main(["import", str(tmp_path / "p.zip"), "--into", str(tmp_path / "s.tally")]) == 2
    assert "exists" in capsys.readouterr().err
    assert main(["export", str(tmp_path / "s.tally"), "-o", str(tmp_path / "x.pdf")]) == 2


def test_workbook_export_has_no_formulas(tmp_path):
    """Texts that begin like formulas stay texts; numbers are numbers."""
    session = filled(tmp_path)
    session.do(PutInstrument(replace(session.catalogue().instruments[1], name="=1+1")))
    export(session, tmp_path / "x.xlsx")
    book = openpyxl.load_workbook(tmp_path / "x.xlsx")
    assert book.sheetnames == ["readings", "pairs", "results"]
    cells = [c for row in book["readings"].iter_rows() for c in row]
    assert not [c for c in cells if c.data_type == "f"]
    odd = next(c for c in cells if c.value == "=1+1")
    assert (odd.data_type, odd.quotePrefix) == ("s", True)
    assert next(c for c in cells if c.value == 48.25).data_type == "n"
    session.close()


SHAPES = {
    "people in the columns": """Code;A01;A02;A03
Sex;f;m;f
Date;2026-03-02;2026-03-03;2026-03-04
Weight (kg);61.5;80.2;70.1
Fat (%);24.1;17.0;28.3
""",
    "dates in the columns": """;2026-03-02;2026-03-09;2026-03-16
Code;A01;A01;A01
Weight (kg);61.5;61.2;61.0
Fat (%);24.1;24.0;23.7
""",
    "labels and values": """Measurement sheet
Code;A01
Date;2026-03-02
Weight (kg);61.5
Fat (%);24.1
""",
}


@pytest.mark.parametrize("shape", SHAPES)
def test_tables_that_lie_on_their_side(tmp_path, shape):
    """People, dates or the values of one form in the columns: rows and columns are exchanged without being asked."""
    path = tmp_path / "side.csv"
    path.write_text(SHAPES[shape])
    found = look_at(path).tables[0]
    assert turn(found).table is found.table.origin
    assert turn(turn(found)).mapping == found.mapping
    rows = [r for r in rows_of([(found.table, found.mapping)]) if isinstance(r, ImportRow)]
    first = [(r.client, r.taken_at[:10], r.metric, r.value) for r in rows[:2]]
    assert first == [
        ("A01", "2026-03-02", "body_mass", 61.5),
        ("A01", "2026-03-02", "body_fat_percent", 24.1),
    ]
    assert len(rows) == (2 if shape == "labels and values" else 6)
    assert place_of([found.table], rows[0].line)[1] == "column 2"


def test_people_as_groups_of_columns():
    """Each group of columns is one client where that is said; repeats count for each client alone."""
    table = pasted_table(
        "\tA01\t\tA02\t\n"
        "Date\tWeight (kg)\tFat (%)\tWeight (kg)\tFat (%)\n"
        "2026-03-02\t61.5\t24.1\t80.2\t17.0\n"
        "2026-03-02\t61.7\t24.3\t\t\n"
        "2026-03-09\t\t\t80.0\t16.8\n"
    )
    asked = guess(table)
    assert missing(asked).startswith("Choose the column with the client's code")
    assert offers_groups(asked) == ("A01", "A02")
    mapping = with_groups_as_clients(asked)
    assert missing(mapping) == ""
    rows = list(read_rows(table, mapping))
    assert [(r.client, r.taken_at[:10], r.replicate, r.value) for r in rows] == [
        ("A01", "2026-03-02", 1, 61.5),
        ("A01", "2026-03-02", 1, 24.1),
        ("A02", "2026-03-02", 1, 80.2),
        ("A02", "2026-03-02", 1, 17.0),
        ("A01", "2026-03-02", 2, 61.7),
        ("A01", "2026-03-02", 2, 24.3),
        ("A02", "2026-03-09", 1, 80.0),
        ("A02", "2026-03-09", 1, 16.8),
    ]


def test_one_date_for_a_table(tmp_path):
    """A sheet that is named by its day gives the date; else it is asked for."""
    book = openpyxl.Workbook()
    book.active.title = "2026-03-02"
    for row in (("Code", "Weight (kg)", "Fat (%)"), ("A01", 61.5, 24.1), ("A02", 80.2, 17.0)):
        book.active.append(row)
    book.save(tmp_path / "day.xlsx")
    found = look_at(tmp_path / "day.xlsx").tables[0]
    rows = list(rows_of([(found.table, found.mapping)]))
    assert {(r.client, r.taken_at[:10]) for r in rows} == {
        ("A01", "2026-03-02"),
        ("A02", "2026-03-02"),
    }
    table = pasted_table("Code\tWeight (kg)\nA01\t61.5\nA02\t80.2\n")
    assert "type the one date" in missing(guess(table))
    assert [r.taken_at[:10] for r in read_rows(table, replace(guess(table), day="2026-03-05"))] == [
        "2026-03-05"
    ] * 2


def test_a_column_of_dates_needs_no_name():
    """The first column without a name that holds days only; one that has a name, words or nothing is none."""

    def days_in(*columns):
        lines = [
            ["Code", "Weight (kg)", *(name for name, _, _ in columns)],
            ["A01", "61.5", *(first for _, first, _ in columns)],
            ["A02", "80.2", *(second for _, _, second in columns)],
        ]
        mapping = guess(pasted_table("\n".join("\t".join(x) for x in lines) + "\n"))
        return [k for k, c in enumerate(mapping.columns) if c.role == "taken_at"]

    days = ("", "2026-03-02", "2026-03-09")
    assert days_in(days, days) == [2]
    assert days_in(("", "early", "late"), days) == [3]
    assert days_in(("", "", ""), days) == [3]
    assert days_in(("Booked", *days[1:])) == []


def test_values_outside_the_range_are_taken_as_failed(tmp_path, capsys):
    """One value that no person has is one refused row; by choice it is imported as a failed reading with what was shown."""
    lines = [
        reading("A01", "2026-03-02T07:00", 24.1),
        reading("A01", "2026-03-02T07:00", 79.5, repeat=2),
    ]
    path, study = tmp_path / "t.csv", tmp_path / "s.tally"
    path.write_text(",".join(HEADER) + "\n" + "\n".join(lines) + "\n")
    assert main(["import", str(path), "--into", str(study)]) == 2
    assert "79.5" in capsys.readouterr().err
    command = ["import", str(path), "--into", str(study), "--out-of-range-as-failed"]
    assert main(command) == 0
    session = Session.open(study, read_only=True)
    found = [(r.value, r.status, r.note) for r in session.readings()]
    session.close()
    assert found == [(24.1, "ok", ""), (None, "failed", "showed 79.5, outside the possible range")]


def test_each_row_is_converted(tmp_path):
    """Rows that are alike but for their value are read the short way: each is converted from its unit (1 lb = 0.45359237 kg)."""
    lines = [
        reading("A01", f"2026-03-0{k}T07:00", v, metric="body_mass", unit="lb")
        for k, v in ((2, 150.0), (3, 154.0), (4, 160.0))
    ]
    rows, refused = parse_text(",".join(HEADER) + "\n" + "\n".join(lines) + "\n")
    assert not refused
    assert [r.value for r in rows] == pytest.approx([v * 0.45359237 for v in (150, 154, 160)])


SIDES = """Client,Date,Left thigh cm,Right thigh cm,Weight,Unit,Alder fat %
A,2026-03-02,55.1,56.2,171,lb,21.4
B,2026-03-02,50.1,51.2,68.5,kg,23.0
"""


def imported(table, folder, *more):
    """What an import of a table of any form says, and the readings afterwards."""
    (folder / "t.csv").write_text(table)
    said, study = io.StringIO(), folder / "s.tally"
    with redirect_stdout(said), redirect_stderr(said):
        code = main(["import", str(folder / "t.csv"), "--into", str(study), "--guess", *more])
    rows = []
    if study.exists():
        session = Session.open(study, read_only=True)
        rows = [(r.client, r.instrument, r.setting, r.metric, r.value) for r in session.readings()]
        session.close()
    return code, said.getvalue(), rows


def test_sides_and_units_of_rows_are_read_and_every_value_is_accounted_for(tmp_path):
    """Both thighs stay, 171 lb are no 171 kg, and what is read is printed as a sum; a dry run writes nothing."""
    code, said, rows = imported(SIDES, tmp_path, "--dry-run")
    assert (code, rows) == (0, [])
    assert "8 readings in the table = 8 new + 0 already there + 0 refused. Nothing was" in said
    code, said, rows = imported(SIDES, tmp_path)
    assert code == 0
    assert "Left thigh cm → thigh girth, in cm, of Tape (method), setting left side" in said
    thighs = {(c, s): v for c, _, s, m, v in rows if m == "girth_thigh"}
    assert thighs == {("A", "left side"): 55.1, ("A", "right side"): 56.2, ("B", "left side"): 50.1, ("B", "right side"): 51.2}  # fmt: skip
    mass = {c: v for c, _, _, m, v in rows if m == "body_mass"}
    assert mass == {"A": pytest.approx(171 * 0.45359237), "B": 68.5}
    code, said, again = imported(SIDES.replace("Alder", "AL-der"), tmp_path)
    assert '"AL der" is taken for Alder' in said
    assert "8 readings in the table = 0 new + 8 already there + 0 refused." in said
    assert again == rows


def test_names_are_merged_only_where_they_are_the_same(tmp_path):
    """Capitals and hyphens do not part devices; digits do, and names that the study has already."""
    imported("Client,Date,Scale 1-1 fat %,Scale 11 fat %\nA,2026-03-01,20,21\n", tmp_path)
    _, said, rows = imported("Client,Date,SCALE 11 fat %\nA,2026-03-02,22\n", tmp_path)
    assert len({r[1] for r in rows}) == 2
    assert '"SCALE 11" is taken for Scale 11' in said


def test_a_refused_card_is_part_of_the_sum(tmp_path):
    """Nobody is of two sexes: the second card is refused and counted; a package is not tried."""
    imported("Client,Date,Weight (kg),Sex\nA,2026-03-01,70,f\n", tmp_path)
    table = "Code,Sex,Born\nA,m,1990\nB,m,1991\n"
    _, said, _ = imported(table, tmp_path, "--dry-run")
    assert "1 reading in the table = 0 new + 0 already there + 1 refused" in said
    code = main(["import", "p.zip", "--into", str(tmp_path / "n.tally"), "--dry-run"])
    assert (code, (tmp_path / "n.tally").exists()) == (2, False)


def test_values_without_a_device_are_those_of_the_only_one(tmp_path):
    """A month's sheet names no device: where the study has one alone it is that one."""
    imported("Client,Date,Alder fat %\nA,2026-03-01,20\n", tmp_path)
    _, said, rows = imported("Client,Date,Fat %\nA,2026-03-02,21\n", tmp_path)
    assert {r[1] for r in rows} == {"Alder"}
    assert "1 new" in said


@pytest.mark.parametrize(
    ("table", "says"),
    [
        ("Client,Date,Thigh cm,Thigh girth cm\nA,2026-03-02,55,56\n", "columns 3 and 4 are read as the same quantity"),
        ("Client,Date,Weight (kg),Unit\nA,2026-03-02,171,lb\n", "names another unit"),
        ("Client,Weight (kg)\nA,71\n", "choose the column with the date"),
    ],
)  # fmt: skip
def test_what_collides_or_contradicts_is_said_and_nothing_is_written(table, says, tmp_path):
    """No value disappears without a word."""
    code, said, rows = imported(table, tmp_path)
    assert (code, rows) == (2, [])
    assert says in said


def test_a_column_called_time_that_holds_dates_is_the_date(tmp_path):
    """Whole dates under Time are dates."""
    code, _, rows = imported("Client,Time,Weight (kg)\nA,2026-03-02 07:10,71\n", tmp_path)
    assert (code, len(rows)) == (0, 1)


@pytest.mark.parametrize(("hours", "pairs"), [(24.0, 0), (48.0, 0), (168.0, 4)])
def test_dates_without_an_hour_pair_by_days_and_the_wider_window_is_named(hours, pairs):
    """Two days apart: no pair in a day or two, whatever the hours were; a week would do, and that is said."""
    lines = []
    for c in range(4):
        lines.append(reading(f"C{c}", f"2026-03-0{c + 2}", 20 + c))
        scan = f"2026-03-0{c + 4}T08:00"
        lines.append(reading(f"C{c}", scan, 21 + c, name="Scan", kind="reference"))
    session = study_of(lines)
    r = finish(CompareRequest(session.snapshot(), Lens(window_hours=hours), "Fir").run())
    assert r.pairs.n == pairs
    said = " ".join(map(sentence, r.notes))
    assert ("With a window of 7 days 4 readings would have a scan" in said) == (not pairs)
