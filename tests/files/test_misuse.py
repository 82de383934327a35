"""A study under attack: locks, kills, full disks, two writers, lost files, broken and hostile input. Nothing is lost or doubled."""

import io
import json
import os
import shutil
import signal
import sqlite3
import subprocess
import sys
import tempfile
import tracemalloc
import zipfile
from dataclasses import replace
from pathlib import Path

import numpy as np
import openpyxl
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pypdf import PdfReader
from xlsxwriter import Workbook
from xlsxwriter.exceptions import FileCreateError

from anchor_tally.analysis.agreement.agreement import CompareRequest
from anchor_tally.analysis.offsets.record import fingerprint
from anchor_tally.analysis.pairs.computed_values import derive_steps
from anchor_tally.app.bench import Place, Standing, take_measurement
from anchor_tally.app.exporting import export
from anchor_tally.app.session import Session
from anchor_tally.cli.main import main
from anchor_tally.domain.calibrations import FORM_0_EQUATIONS
from anchor_tally.domain.errors import FAULT, UserError
from anchor_tally.domain.events import Event
from anchor_tally.domain.lens import Lens
from anchor_tally.domain.records import Client, Instrument, Setting
from anchor_tally.domain.steps import finish
from anchor_tally.domain.temporary import own_folder, sweep_folders
from anchor_tally.domain.text import guarded, plain_name, unguarded
from anchor_tally.exchange import data_package
from anchor_tally.exchange.readings_csv import HEADER
from anchor_tally.exchange.result_table import ResultTable, as_tsv
from anchor_tally.exchange.result_table import as_html as as_html_table
from anchor_tally.exchange.tables import _beside, open_table
from anchor_tally.figures.style import LIGHT, marks_of
from anchor_tally.methods import registry
from anchor_tally.reports.document import Document, Paragraph, Section
from anchor_tally.reports.render import as_pdf
from anchor_tally.study import open_file, read_columns
from anchor_tally.study.edits.clients import AddClient, PutClient, PutStudy
from anchor_tally.study.edits.events import AddEvent
from anchor_tally.study.edits.imports import ImportReadings
from anchor_tally.study.edits.instruments import AddInstrument, StartSetting
from anchor_tally.study.edits.readings import CorrectReading
from anchor_tally.study.edits.visits import MoveVisit
from places import DATA, adoption, filled, parse_text, reading, study_of, typed

HEAD = ",".join(HEADER) + "\n"


def weigh(at, *values, **where):
    """Repeats of body mass on Fir."""
    return typed("A", at, "Fir", "device", "body_mass", *values, **where)


@pytest.fixture
def session(tmp_path):
    """An empty study."""
    opened = Session.new(tmp_path / "s.tally", "t")
    yield opened
    opened.close()


# where a reading belongs
def test_visits_follow_the_moment(session):
    """Three weeks are three visits; a new visit can begin at once.

    One visit moves with its readings, once, and back.
    """
    for day in ("2026-03-02", "2026-03-09", "2026-03-16"):
        session.do(weigh(f"{day}T06:30", "70"))
    session.do(weigh("2026-03-16T06:45", "71", fresh=True))
    assert [v.start for v in session.visits_of("A")] == [
        "2026-03-16T06:45", "2026-03-16T06:30", "2026-03-09T06:30", "2026-03-02T06:30"
    ]  # fmt: skip
    session.do(AddClient(Client(0, "B")))
    third = session.visits_of("A")[1]
    session.do(MoveVisit(third.id, "2026-04-01T07:00+02:00", "B", "R"))
    (moved,) = [r for r in session.readings() if r.visit == third.id]
    assert (moved.client, moved.taken_at) == ("B", "2026-04-01T05:00")
    assert [v.start for v in session.visits_of("B")] == ["2026-04-01T07:00+02:00"]
    with pytest.raises(UserError, match="already"):
        session.do(MoveVisit(session.visits_of("A")[0].id, "2026-03-02T06:30", "A"))
    assert session._conn.execute("SELECT count(*) FROM visit_change").fetchone() == (1,)
    session.undo()
    assert [v.id for v in session.visits_of("A")][1] == third.id


def test_a_visit_moved_to_a_day_keeps_its_clock():
    """Between a day and a moment whole days are shifted: no reading gets a time that nobody noted."""
    session = study_of([reading("A", "2026-03-02T07:00", 20.0), reading("A", "2026-03-09", 21.0)])
    number = {r.taken_at: r.visit for r in session.readings()}
    session.do(MoveVisit(number["2026-03-02T07:00"], "2026-03-05", "A"))
    session.do(MoveVisit(number["2026-03-09"], "2026-03-12T08:00", "A"))
    assert [r.taken_at for r in session.readings()] == ["2026-03-05T07:00", "2026-03-12"]


def test_an_event_lasts_whole_days(session):
    """A time of day is dropped from the days of an event."""
    session.do(AddEvent(Event(0, None, None, "2026-07-01T06:30", "2026-07-02T21:00", "race", "")))
    assert [(e.starts, e.ends) for e in session.events()] == [("2026-07-01", "2026-07-02")]


def test_a_visit_without_a_time_moves_by_days(session):
    """Its readings move with it; a visit that had a time keeps the distance of its readings."""
    session.do(weigh("2026-03-02", "70"))
    session.do(MoveVisit(session.visits_of("A")[0].id, "2026-03-05", "A"))
    assert [r.taken_at for r in session.readings()] == ["2026-03-05"]
    session.do(weigh("2026-03-09T06:30", "70"))
    session.do(MoveVisit(session.visits_of("A")[0].id, "2026-03-12", "A"))
    assert sorted(r.taken_at[:10] for r in session.readings()) == ["2026-03-05", "2026-03-12"]


def test_the_same_instant_is_one_reading(session):
    """However an instant is written, importing it again adds nothing.

    Another value at it is a contradiction.
    """
    session.do(weigh("2026-03-02T07:50", "70"))
    for stamp in (
        "2026-03-02T07:50:00",
        "2026-03-02 07:50",
        "2026-03-02T09:50+02:00",
        "20260302T0750",
        "2026-03-02T07:50Z",
    ):
        staged = finish(
            session.stage(parse_text(f"{HEAD}A,,,,{stamp},Fir,device,,body_mass,70,kg,1,ok,\n")[0])
        )
        assert (staged.new, staged.already_there, staged.refused) == (0, 1, ()), stamp
        session.drop(staged)
    other = parse_text(f"{HEAD}A,,,,2026-03-02T08:50+01:00,Fir,device,,body_mass,71,kg,1,ok,\n")[0]
    assert "already holds" in finish(session.stage(other)).refused[0].reason
    with pytest.raises(UserError, match="already"):
        session.do(weigh("2026-03-02T07:50:00", "72", fresh=True))


def test_pairs_by_instant(session):
    """Zones count; the nearest anchor and tally win.

    What is more than the window away does not pair.
    """
    lines = [
        "A,,,,2026-03-02T08:00+05:00,Scan,reference,,body_fat_percent,20,percent,1,ok,",  # 03:00 UTC
        "A,,,,2026-03-02T08:00,Fir,device,,body_fat_percent,30,percent,1,ok,",  # 5 h later
        "A,,,,2026-03-02T03:20Z,Fir,device,,body_fat_percent,22,percent,1,ok,",  # 20 min later
        "A,,,,2026-03-03T03:10Z,Scan,reference,,body_fat_percent,21,percent,1,ok,",  # another scan, 24 h later
    ]
    session.do(ImportReadings(tuple(parse_text(HEAD + "\n".join(lines))[0]), "x"))
    pairs = finish(CompareRequest(session.snapshot(), Lens(), "Fir").run()).pairs
    assert pairs.d.tolist() == [
        2
    ]  # not the reading whose clock shows the hour of the scan, in another zone
    assert pairs.anchors.mean.tolist() == [20, 21]
    assert sorted(d.why for d in pairs.left_out.listed()) == [
        "a visit nearer to the scan was used", "scan without a reading of Fir within the window"
    ]  # fmt: skip
    near = finish(CompareRequest(session.snapshot(), Lens(window_hours=1), "Fir").run()).pairs
    assert near.d.tolist() == [2]
    assert "no scan within the window" in {d.why for d in near.left_out.listed()}


def test_a_result_knows_its_question(demo):
    """A result is out of date after any edit that could change it, and stays in date after a note on a card."""
    snapshot = demo.snapshot()
    result = finish(CompareRequest(snapshot, demo.lens, "Alder").run())
    assert result.asked == demo.asked()
    client = next(iter(demo.catalogue().clients.values()))
    demo.do(PutClient(replace(client, notes="a note")))
    assert result.asked == demo.asked()
    assert demo.snapshot() is snapshot
    demo.do(CorrectReading(int(result.pairs.reading[0]), "19.1", "misread"))
    assert result.asked != demo.asked()
    assert demo.snapshot().revision == demo.asked().revision


def test_provenance_survives_a_new_equation(tmp_path, monkeypatch):
    """Computed readings are known by equation and visit: another order of the registry makes no calibration stale."""
    shutil.copy(DATA / f"study_schema_{open_file.SCHEMA_VERSION}.tally", tmp_path / "s.tally")
    session = Session.open(tmp_path / "s.tally")
    tape = next(c for c in session.calibrations() if c.instrument != "Fir")
    before = session.snapshot()
    turned = dict(reversed(registry.EQUATIONS.items()))
    monkeypatch.setattr("anchor_tally.analysis.pairs.computed_values.EQUATIONS", turned)
    session._forget_all()
    assert not session.stale(tape)
    assert set(registry.EQUATIONS) >= set(FORM_0_EQUATIONS)
    after = session.snapshot()
    for s in (before, after):
        c = s.columns["body_fat_percent"]
        rows = np.flatnonzero(c.reading < 0)
        assert set(fingerprint(s, "body_fat_percent", rows)[0]) >= set(tape.sources) - {
            x for x in tape.sources if "@" not in x
        }
    session.close()


def test_simulated_readings_stay_out(session, tmp_path):
    """A simulated reading is marked, pairs only in a study for practice, and never comes back from a table as a real one."""
    session.do(typed("A", "2026-03-02T08:00", "Scan", "reference", "body_fat_percent", "20"))
    place = Place("A", "2026-03-02T07:50")
    take_measurement(
        session, Standing(place, "Fir"), values=[("body_fat_percent", "22 percent")], simulated=True
    )
    assert [r.simulated for r in session.readings() if r.instrument == "Fir"] == [True]
    pairs = finish(CompareRequest(session.snapshot(), Lens(), "Fir").run()).pairs
    assert (pairs.n, {d.why for d in pairs.left_out.listed()} >= {"simulated reading"}) == (0, True)
    export(session, tmp_path / "r.csv")
    again = parse_text((tmp_path / "r.csv").read_text())[0]
    assert [(r.status, r.note) for r in again if r.instrument == "Fir"] == [
        ("excluded", "simulated reading")
    ]
    session.do(PutStudy("t", practice=True))
    assert finish(CompareRequest(session.snapshot(), Lens(), "Fir").run()).pairs.n == 1


def test_settings_and_bounds_are_kept_straight(session):
    """An identical setting for all clients is refused.

    Bounds of metrics in the file follow the registry.
    """
    session.do(AddInstrument(Instrument(0, "Fir", "device")))
    session.do(StartSetting(Setting(0, 1, "std", "2026-03-02")))
    with pytest.raises(UserError, match="already"):
        session.do(StartSetting(Setting(0, 1, "std", "2026-03-02")))
    session._conn.execute("UPDATE metric SET high = 80 WHERE id = 'body_mass'")
    session.close()
    again = Session.open(session.path)
    assert again._conn.execute("SELECT high FROM metric WHERE id = 'body_mass'").fetchone() == (
        700,
    )
    again.close()


# the file
def test_failed_commit_is_taken_back(session):
    """Another program holds a read lock at the commit: nothing is kept, nothing is shown, and the next try works."""
    other = sqlite3.connect(session.path, isolation_level=None)
    other.execute("BEGIN")
    other.execute("SELECT count(*) FROM reading").fetchone()
    with pytest.raises(UserError, match="another program"):
        session.do(weigh("2026-03-02", "70"))
    assert session.readings() == []
    assert not session.can_undo
    other.execute("ROLLBACK")
    other.close()
    session.do(weigh("2026-03-02", "70"))
    assert [r.value for r in session.readings()] == [70]


def test_one_writer(tmp_path, capsys):
    """A second opening reads and follows; it may write when the first has closed.

    An import beside it is refused in a line.
    """
    first = Session.new(tmp_path / "s.tally", "t")
    second = Session.open(tmp_path / "s.tally")
    assert (second.read_only, second.elsewhere) == (True, True)
    with pytest.raises(UserError, match="another window"):
        second.do(weigh("2026-03-02", "70"))
    assert not second.follow()
    first.do(weigh("2026-03-02", "70"))
    assert second.follow()
    assert [r.value for r in second.readings()] == [70]
    (tmp_path / "r.csv").write_text(f"{HEAD}A,,,,2026-03-03,Fir,device,,body_mass,70,kg,1,ok,\n")
    assert main(["import", str(tmp_path / "r.csv"), "--into", str(tmp_path / "s.tally")]) == 2
    assert "in use" in capsys.readouterr().err
    assert not second.take_over()
    first.close()
    assert second.take_over()
    second.do(weigh("2026-03-09", "71"))
    assert len(second.readings()) == 2
    second.close()
    assert sorted(p.name for p in tmp_path.iterdir()) == ["r.csv", "s.tally"]


@pytest.mark.parametrize("how", ["removed", "replaced", "cut off", "cut in the middle"])
def test_file_lost_under_an_open_study(session, tmp_path, how):
    """One sentence, no edit into nowhere, and a copy of what is in memory."""
    session.do(weigh("2026-03-02", "70"))
    session.keep_mirror()
    if how == "removed":
        session.path.unlink()
    elif how == "replaced":
        (tmp_path / "other").write_text("something else")
        (tmp_path / "other").replace(session.path)
    elif how == "cut off":
        session.path.write_bytes(b"")
    else:
        whole = session.path.read_bytes()
        session.path.write_bytes(whole[: len(whole) // 2])
    assert how.split()[0] in session.lost()
    with pytest.raises(UserError, match="save a copy"):
        session.do(weigh("2026-03-09", "71"))
    session.save_copy(tmp_path / "copy.tally")
    copy = Session.open(tmp_path / "copy.tally")
    assert [r.value for r in copy.readings()] == [70]
    copy.close()


def test_killed_half_way_heals(tmp_path):
    """A journal that a killed process has left is rolled back on opening, also by a command that only reads."""
    path = tmp_path / "s.tally"
    Session.new(path, "t").close()
    code = (
        "import os, signal, sqlite3, sys; c = sqlite3.connect(sys.argv[1], isolation_level=None);"
        " c.execute('PRAGMA cache_size = 2')\nc.execute('BEGIN IMMEDIATE'); c.execute('UPDATE study"
        " SET title = ?', ('half',))\nc.executemany('INSERT INTO metric VALUES (?, ?, 0, 1)',"
        " [(f'm{k}', 'x' * 500) for k in range(400)])\nos.kill(os.getpid(), signal.SIGKILL)"
    )
    done = subprocess.run([sys.executable, "-c", code, str(path)], capture_output=True)
    assert done.returncode == -signal.SIGKILL
    assert (tmp_path / "s.tally-journal").exists()
    session = Session.open(path, read_only=True)
    assert session.title == "t"
    session.close()


@pytest.mark.parametrize("how", ["older copy", "other study", "none"])
def test_a_copy_in_the_place_of_a_killed_study_is_not_written_over(how, tmp_path):
    """The journal of a killed import belongs to the file that was there: it is set aside, not rolled back into a copy."""
    path, spare = tmp_path / "s.tally", tmp_path / "spare.tally"
    session = Session.new(path, "first")
    session.save_copy(spare)
    for k in range(8):
        session.do(PutStudy(f"title {k}", practice=False))
    session.close()
    if how == "other study":
        spare.unlink()
        other = Session.new(spare, "first")
        for k in range(30):
            other.do(PutStudy(f"other {k}", practice=False))
        other.do(PutStudy("first", practice=False))
        other.close()
    code = (
        "import os, signal, sys; from pathlib import Path\n"
        "from anchor_tally.app.session import Session\n"
        "s = Session.open(Path(sys.argv[1])); c = s._conn; s._may_write()\n"
        "c.execute('PRAGMA cache_size = 2'); c.execute('BEGIN IMMEDIATE')\n"
        "c.executemany('INSERT INTO metric VALUES (?, ?, 0, 1)',"
        " [(f'm{k}', 'x' * 500) for k in range(400)])\nos.kill(os.getpid(), signal.SIGKILL)"
    )
    done = subprocess.run([sys.executable, "-c", code, str(path)], capture_output=True)
    assert done.returncode == -signal.SIGKILL
    assert (tmp_path / "s.tally-journal").exists()
    if how != "none":
        shutil.copyfile(spare, path)
    content = path.read_bytes()
    session = Session.open(path, read_only=True)
    assert session.title == ("title 7" if how == "none" else "first")
    session.close()
    aside = list(tmp_path.glob("s.tally-journal-of-another-*"))
    assert bool(aside) == (how != "none")
    assert (path.read_bytes() == content) == (how != "none")
    Session.open(path).close()


def test_full_disk(tmp_path):
    """A disk that is full refuses an edit, a new study and an upgrade in a sentence, and leaves what was there."""
    session = Session.new(tmp_path / "s.tally", "t")
    pages = session._conn.execute("PRAGMA page_count").fetchone()[0]
    session._conn.execute(f"PRAGMA max_page_count = {pages}")
    rows = tuple(
        parse_text(
            HEAD
            + "".join(
                f"A,,,,2026-03-02T07:{k:02},Fir,device,,body_mass,70,kg,1,ok,{'x' * 3000}\n"
                for k in range(60)
            )
        )[0]
    )
    with pytest.raises(UserError, match="disk is full"):
        session.do(ImportReadings(rows, "x"))
    assert session.readings() == []
    session._conn.execute("PRAGMA max_page_count = 100000")
    session.do(ImportReadings(rows, "x"))
    assert len(session.readings()) == 60
    session.close()
    limited = (
        "import resource, signal, sys; from pathlib import Path; signal.signal(signal.SIGXFSZ,"
        " signal.SIG_IGN)\nresource.setrlimit(resource.RLIMIT_FSIZE, (30000, 30000)); from"
        " anchor_tally.app.session import Session\nfrom anchor_tally.domain.errors import"
        " UserError\ntry:\n    Session.new(Path(sys.argv[1]), 't') if sys.argv[2] == 'new' else"
        " Session.open(Path(sys.argv[1]))\nexcept UserError as e:\n    print(e)"
    )
    shutil.copy(DATA / "study_schema_2.tally", tmp_path / "old.tally")
    before = (tmp_path / "old.tally").read_bytes()
    for name, what in (("new.tally", "new"), ("old.tally", "upgrade")):
        run = [sys.executable, "-c", limited, str(tmp_path / name), what]
        done = subprocess.run(run, capture_output=True, text=True)
        assert done.returncode == 0, done.stderr
        assert done.stdout.count("\n") == 1, done.stdout
    assert (tmp_path / "old.tally").read_bytes() == before
    assert sorted(p.name for p in tmp_path.iterdir()) == ["old.tally", "s.tally"]


# what comes in
def odd_workbook(path, kind):
    """Workbooks that hang or break a careless reader."""
    book = openpyxl.Workbook()
    book.active.append(["Client", "Date", "Fir fat (%)"])
    book.active.append(["A", "2026-03-02", 20.5])
    book.save(path)
    if kind == "cut":
        path.write_bytes(path.read_bytes()[:-700])
    elif kind == "list":
        with zipfile.ZipFile(path, "w") as z:
            z.writestr("[Content_Types].xml", "<Types><")
    elif kind == "xml":
        with zipfile.ZipFile(path) as z:
            parts = {n: z.read(n) for n in z.namelist()}
        with zipfile.ZipFile(path, "w") as z:
            for n, data in parts.items():
                z.writestr(
                    n,
                    (
                        data.replace(b"<sheetData>", b"<sheetData><row><c t='n'><v>1e999</v></c>")
                        if "sheet1" in n
                        else data
                    ),
                )
    elif kind == "bomb":
        with (
            zipfile.ZipFile(path, "a", zipfile.ZIP_DEFLATED) as z,
            z.open("xl/media/blank.xml", "w", force_zip64=True) as f,
        ):
            for _ in range(450):
                f.write(bytes(1 << 20))


@pytest.mark.parametrize(
    ("kind", "said"),
    [("cut", "broken"), ("list", "unclosed"), ("xml", "mismatched"), ("bomb", "more than is read")],
)
def test_odd_workbooks(tmp_path, kind, said):
    """One short sentence; what would fill the memory is not unpacked; the file is not left open."""
    odd_workbook(tmp_path / "w.xlsx", kind)
    with pytest.raises(UserError, match=said) as told:
        list(open_table(tmp_path / "w.xlsx").rows())
    assert len(str(told.value).removeprefix(str(tmp_path))) < 250
    assert "\n" not in str(told.value)
    still_open = [f.resolve() for f in Path("/proc/self/fd").iterdir() if f.exists()]
    assert (tmp_path / "w.xlsx").resolve() not in still_open


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("x" + " " * 100_000 + "y", "cell of"),
        (",".join(["a"] * 100_000), "columns"),
        (f"{HEAD}A,,,,2026-03-02,Fir,device,,body_mass,{'9' * 500},kg,1,ok,\n", "too long"),
        (f"{HEAD}A,,,,2026-03-02,Fir,device,,body_mass,70,kg,{'9' * 400},ok,\n", "whole number"),
        (f"{HEAD}A,,,,2026-03-02,Fir,device,,body_mass,70,kg,²,ok,\n", "whole number"),
        (f"{HEAD}A,,,,9999-12-31T23:59-12:00,Fir,device,,body_mass,70,kg,1,ok,\n", "of the year"),
        (f"{HEAD}A,,{'9' * 300},,2026-03-02,Fir,device,,body_mass,70,kg,1,ok,\n", "outside"),
    ],
)
def test_odd_tables(tmp_path, capsys, text, says):
    """Over-long and odd cells are refused in one line."""
    (tmp_path / "t.csv").write_text(text)
    assert main(["import", str(tmp_path / "t.csv"), "--into", str(tmp_path / "n.tally")]) == 2
    error = capsys.readouterr().err
    assert says in error
    assert (error.count("\n"), (tmp_path / "n.tally").exists()) == (1, False)
    assert len(error) < 600


def test_what_is_no_file(tmp_path, capsys):
    """A pipe or a folder is refused at once."""
    os.mkfifo(tmp_path / "f.csv")
    for name in ("f.csv", "."):
        assert main(["import", str(tmp_path / name), "--into", str(tmp_path / "n.tally")]) == 2
        assert capsys.readouterr().err.count("\n") == 1


@pytest.mark.parametrize(
    ("resource", "column", "text"),
    [
        ("readings", "taken_at", "hello"),
        ("visits", "start", "hello"),
        ("readings", "replicate", "99999999999999999999"),
        ("readings", "replicate", ""),
        ("readings", "value", "nan"),
        ("readings", "metric", "soul"),
        ("readings", "unit", "stones"),
        ("clients", "code", "A\x00B"),
        ("readings", "visit", "77"),
        ("settings", "starts", "soon"),
        ("visits", "", ""),
    ],
)
def test_packages_are_checked(tmp_path, capsys, resource, column, text):
    """A package passes through the same checks as a table; a missing resource is said."""
    shutil.copy(DATA / f"study_schema_{open_file.SCHEMA_VERSION}.tally", tmp_path / "s.tally")
    session = Session.open(tmp_path / "s.tally")
    export(session, tmp_path / "p.zip", full=True)
    session.close()
    with zipfile.ZipFile(tmp_path / "p.zip") as z, zipfile.ZipFile(tmp_path / "q.zip", "w") as out:
        for name in z.namelist():
            data = z.read(name).decode()
            if name == f"{resource}.csv":
                if not column:
                    continue
                lines = data.splitlines()
                cells = lines[1].split(",")
                cells[lines[0].split(",").index(column)] = text
                data = "\n".join([lines[0], ",".join(cells), *lines[2:]])
            out.writestr(name, data)
    assert main(["import", str(tmp_path / "q.zip"), "--into", str(tmp_path / "n.tally")]) == 2
    error = capsys.readouterr().err
    assert error.count("\n") == 1
    assert resource in error or "reading:" in error
    assert not (tmp_path / "n.tally").exists()


@given(st.text(max_size=40))
def test_guarded_text_comes_back(text):
    """A cell that begins like a formula is neutralised, and read back as it was."""
    assert unguarded(guarded(text)) == text
    assert not guarded(text).startswith(("=", "@")) or not text
    assert plain_name(plain_name(text)) == plain_name(text)


def test_formulas_in_text_formats(session, tmp_path):
    """Names and remarks that begin like formulas leave neutralised, in CSV and package, and come back equal."""
    session.do(typed("=1+1", "2026-03-02", "@Fir", "device", "body_mass", "70", setting="+x"))
    export(session, tmp_path / "r.csv")
    assert ",'@Fir," in (tmp_path / "r.csv").read_text()
    assert (tmp_path / "r.csv").stat().st_mode & 0o777 == 0o600
    (row,) = parse_text((tmp_path / "r.csv").read_text())[0]
    assert (row.client, row.instrument, row.setting) == ("=1+1", "@Fir", "+x")
    export(session, tmp_path / "p.zip", full=True)
    with zipfile.ZipFile(tmp_path / "p.zip") as z:
        assert b",'=1+1" in z.read("clients.csv")
    assert main(["import", str(tmp_path / "p.zip"), "--into", str(tmp_path / "q.tally")]) == 0
    again = Session.open(tmp_path / "q.tally")
    assert [r.client for r in again.readings()] == ["=1+1"]
    again.close()


# the command line
def run(*args, stdout=subprocess.PIPE, **env):
    """The program as a process of its own."""
    command = [sys.executable, "-m", "anchor_tally", *args]
    return subprocess.run(
        command, stdout=stdout, stderr=subprocess.PIPE, env={**os.environ, **env}, timeout=60
    )


def test_command_line_under_stress(tmp_path):
    """Odd hours, a full or closed output, a Latin-1 terminal, Ctrl+C: one line each, and no minus is lost."""
    peak = str(DATA / "peak_flow_1986.csv")
    ask = ("compare", peak, "--instrument", "large meter", "--metric", "peak_expiratory_flow")
    done = run(*ask, "--window-hours", "nan")
    assert (done.returncode, done.stderr.count(b"\n")) == (2, 1)
    with open("/dev/full", "wb") as full:
        done = run(*ask, stdout=full)
    assert (done.returncode, done.stderr.count(b"\n")) == (2, 1)
    done = run(*ask, PYTHONIOENCODING="latin-1")
    assert done.returncode == 0
    assert b"-22 to +18" in done.stdout
    reader, writer = os.pipe()
    os.close(reader)
    done = run(*ask, stdout=writer)
    os.close(writer)
    assert (done.returncode, done.stderr) == (0, b"")
    child = subprocess.Popen([sys.executable, "-c", (
        "import os, sys, signal, time; from anchor_tally.cli import main as m\n"
        "signal.signal(signal.SIGINT, signal.default_int_handler)\n"  # a shell's background job ignores it
        "m._RUN['methods'] = lambda a: (os.kill(os.getpid(), signal.SIGINT), time.sleep(5))\n"
        "sys.exit(m.main(['methods']))")], stderr=subprocess.PIPE)  # fmt: skip
    _, error = child.communicate(timeout=60)
    assert (child.returncode, error) == (130, b"anchor-tally: stopped\n")


def test_derived_values_need_no_second_look(demo):
    """Deriving is a pure step: twice the same values, and they stand in the snapshot."""
    one, two = finish(derive_steps(demo.person(1))), finish(derive_steps(demo.person(1)))
    assert one.columns
    assert one.columns.keys() == two.columns.keys()
    for metric, column in one.columns.items():
        assert np.array_equal(column.value, two.columns[metric].value)
        assert np.isin(column.value, demo.snapshot(metric).columns[metric].value).all()


def test_mark_of_a_method_stays(demo):
    """An instrument that is added does not change how a computed method is drawn, nor those before it."""
    known = {i.id: i for i in demo.catalogue().instruments.values()}
    method = replace(known[max(known)], id=-1, kind="method")
    before = marks_of(known.values(), LIGHT)
    added = replace(known[max(known)], id=max(known) + 1, name="Elm", kind="device")
    after = marks_of([*known.values(), added], LIGHT)
    assert [after(i) for i in (method, *known.values())] == [
        before(i) for i in (method, *known.values())
    ]
    assert adoption(demo, "Alder").record.sources


def changed_by_hand(path, *statements):
    """Another program writes into the file, with foreign keys off."""
    with sqlite3.connect(path) as other:
        for sql in statements:
            other.execute(sql)
    other.close()


@pytest.mark.parametrize(
    ("sql", "said"),
    [
        ("DELETE FROM visit", "names a visit that is not there"),
        ("UPDATE reading SET taken_at = 'yesterday'", 'reading 1 is of "yesterday"'),
        ("UPDATE reading SET instant = 99999999999", "has another instant"),
        ("UPDATE visit SET start = '2026-03-02Tnoon'", 'is of "2026-03-02Tnoon"'),
        ("CREATE VIEW secret AS SELECT * FROM client", 'it holds a view "secret"'),
        ("CREATE TRIGGER odd AFTER INSERT ON reading BEGIN DELETE FROM client; END", 'it holds a trigger "odd"'),
        ("INSERT INTO calibration VALUES (1, 1, 'body_mass', '', 'Scan', 'pooled', '[]', 1, 2, 3, 4, '2026-03-02', '2026-06-01', 1, '')",
         "adopted offset 1: the parameters of a calibration are not whole"),
    ],
)  # fmt: skip
def test_rows_changed_by_hand_are_named(session, sql, said):
    """A study into which another program has written what this one would not is named in one sentence and left as it is."""
    session.do(weigh("2026-03-02", "70"))
    session.close()
    changed_by_hand(session.path, sql)
    before = session.path.read_bytes()
    for read_only in (False, True):
        with pytest.raises(UserError, match="another program has changed this study") as caught:
            Session.open(session.path, read_only=read_only)
        assert said in str(caught.value)
        assert str(caught.value).count("\n") == 0
    assert session.path.read_bytes() == before


def test_view_in_the_place_of_a_table_is_not_read(session):
    """A view named as a table of the study would be read unnoticed: the study is refused."""
    session.do(weigh("2026-03-02", "70"))
    session.close()
    changed_by_hand(
        session.path,
        "ALTER TABLE goal RENAME TO hidden",
        "CREATE VIEW goal AS SELECT * FROM hidden",
    )
    with pytest.raises(UserError, match="the table goal is not there"):
        Session.open(session.path)


def test_any_flipped_byte_is_a_sentence(demo, tmp_path):
    """Bytes changed anywhere in a study, its indexes among them: it opens, or one sentence says that it is damaged."""
    demo.close()
    whole, path = bytearray(demo.path.read_bytes()), tmp_path / "flipped.tally"
    rng, sentences = np.random.default_rng(2), []
    for at in (*rng.integers(100, len(whole), 30).tolist(), *range(4096 * 8, 4096 * 60, 4096 * 5)):
        flipped = bytearray(whole)
        flipped[at : at + 40] = bytes(rng.integers(128, 255, 40).tolist())
        path.write_bytes(flipped)
        try:
            Session.open(path).close()
        except UserError as error:
            sentences.append(str(error))
    assert len(sentences) > 10
    assert not any("\n" in s for s in sentences)


def test_damage_under_an_open_study_offers_a_copy(session, tmp_path):
    """A page that can no longer be read: the sentence names the file, nothing more is written, and the copy in memory is saved."""
    session.do(weigh("2026-03-02", "70"))
    session.keep_mirror()
    whole = session.path.read_bytes()
    # another counter of changes, so that SQLite reads the pages again
    session.path.write_bytes(whole[:24] + b"\0\0\0\x7f" + whole[28:100] + bytes(len(whole) - 100))
    with pytest.raises(sqlite3.DatabaseError) as caught:
        session.readings()
    said = session.explain(caught.value)
    assert "cannot be read any more" in said
    assert "kept" not in said
    assert session.lost() == said
    with pytest.raises(UserError, match="save a copy"):
        session.do(weigh("2026-03-09", "71"))
    session.save_copy(tmp_path / "copy.tally")
    copy = Session.open(tmp_path / "copy.tally")
    assert [r.value for r in copy.readings()] == [70]
    copy.close()
    assert session.explain(ZeroDivisionError()) == FAULT


def test_a_hard_link_is_the_same_study(session, tmp_path):
    """A study under a second name has one writer all the same."""
    os.link(session.path, tmp_path / "other.tally")
    other = Session.open(tmp_path / "other.tally")
    assert other.read_only
    with pytest.raises(UserError, match="another window"):
        other.do(weigh("2026-03-02", "70"))
    session.close()
    assert other.take_over()
    other.do(weigh("2026-03-02", "70"))
    other.close()


def test_an_hour_that_never_was_is_refused(tmp_path):
    """02:30 of the night in which clocks go forward is no time of day, typed or imported.

    The hours beside it are.
    """
    conn = open_file.create_in_memory("x", "Europe/Berlin")
    session = Session(conn, None)
    with pytest.raises(UserError, match="02:30 did not exist on 2027-03-28"):
        session.do(weigh("2027-03-28T02:30", "70"))
    session.do(weigh("2027-03-28T03:30", "70"))
    session.do(weigh("2027-10-31T02:30", "70"))  # twice that night; the first is meant
    rows, _ = parse_text(
        ",".join(HEADER) + "\nA,,,,2027-03-28T02:10,Fir,device,,body_mass,70,kg,1,ok,\n"
    )
    staged = finish(session.stage(rows))
    assert [(r.line, r.column) for r in staged.refused] == [(2, "taken_at")]
    session.close()


def test_blank_lines_without_end(tmp_path, capsys):
    """A table that goes on with blank lines is refused with the line.

    A few blank lines are passed over.
    """
    head, row = ",".join(HEADER), "A,,,,2026-03-02,Fir,device,,body_mass,70,kg,1,ok,"
    (tmp_path / "few.csv").write_text(f"{head}\n\n\n{row}\n\n")
    (tmp_path / "many.csv").write_text(f"{head}\n{row}\n" + "\n" * 300_000 + row)
    (tmp_path / "odd.csv").write_text(f"{head}\n{row}\n".replace(",", ";") + ";\n" * 300_000)
    assert main(["import", str(tmp_path / "few.csv"), "--into", str(tmp_path / "a.tally")]) == 0
    assert main(["import", str(tmp_path / "many.csv"), "--into", str(tmp_path / "b.tally")]) == 2
    assert "20,000 blank lines" in capsys.readouterr().err
    assert not (tmp_path / "b.tally").exists()
    with pytest.raises(UserError, match="20,000 blank lines"):
        list(open_table(tmp_path / "odd.csv").rows())


def test_killed_copies_and_packages_leave_nothing(tmp_path):
    """What a killed upgrade or package import has left is removed at the next start.

    Copies are their owner's while they are written.
    """
    path, gone = tmp_path / "s.tally", 4_000_000  # no process has this number
    shutil.copy(DATA / "study_schema_1.tally", path)
    left = [
        tmp_path / f".s.tally.before-6.{gone}.part",
        tmp_path / f".s.tally.{gone}.part",
        tmp_path / f".s.tally.{gone}.part-journal",
    ]
    for p in left:
        p.write_bytes(b"x")
    seen = []
    real = shutil.copyfileobj

    def looked(a, b, *more):
        seen.extend(p.stat().st_mode & 0o777 for p in tmp_path.glob(".s.tally*.part"))
        real(a, b, *more)

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(shutil, "copyfileobj", looked)
        Session.open(path).close()
    assert seen == [0o600]
    assert not any(p.exists() for p in left)
    assert [p.stat().st_mode & 0o777 for p in tmp_path.glob("*before*")] == [0o600]
    code = (
        "import sys, os; from pathlib import Path; from anchor_tally.study import dump\ndump.load ="
        " lambda *a: os.kill(os.getpid(), 9)\nfrom anchor_tally.app.exporting import from_package;"
        " from_package(Path(sys.argv[1]), Path(sys.argv[2]))"
    )
    session = filled(tmp_path / "made")
    export(session, tmp_path / "p.zip")
    session.close()
    target = tmp_path / "new.tally"
    assert (
        subprocess.run(
            [sys.executable, "-c", code, str(tmp_path / "p.zip"), str(target)]
        ).returncode
        == -9
    )
    assert not target.exists()
    assert main(["import", str(tmp_path / "p.zip"), "--into", str(target)]) == 0
    assert sorted(p.name for p in tmp_path.glob(".*")) == []


def test_a_merged_cell_over_a_whole_sheet_costs_nothing(tmp_path):
    """Merged cells are read one after another; none of their cells is made."""
    book = openpyxl.Workbook()
    sheet = book.active
    sheet.append(["Client", "Fat", ""])
    sheet.append(["A", 20, 21])
    sheet["B2"].comment = openpyxl.comments.Comment("seen twice", "x")
    book.save(tmp_path / "m.xlsx")
    with zipfile.ZipFile(tmp_path / "m.xlsx") as z:
        parts = {n: z.read(n) for n in z.namelist()}
    name = "xl/worksheets/sheet1.xml"
    merged = b'<mergeCells count="2"><mergeCell ref="A3:XFD1048576"/><mergeCell ref="B1:C1"/></mergeCells>'
    parts[name] = parts[name].replace(b"</sheetData>", b"</sheetData>" + merged)
    with zipfile.ZipFile(tmp_path / "big.xlsx", "w", zipfile.ZIP_DEFLATED) as z:
        for part, content in parts.items():
            z.writestr(part, content)
    tracemalloc.start()
    found = _beside(tmp_path / "big.xlsx")["Sheet"]
    most = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert found.merged == {3: [(0, 2000)], 1: [(1, 2)]}
    assert found.comments == {2: {1: "seen twice"}}
    assert most < 8 << 20


def test_a_package_of_one_part_many_times_is_refused(tmp_path):
    """A part that is listed twice is not read twice, and many small parts that grow are one large one."""
    session = filled(tmp_path / "in")
    export(session, tmp_path / "p.zip")
    with zipfile.ZipFile(tmp_path / "p.zip") as z:
        parts = {n: z.read(n) for n in z.namelist()}
    described = json.loads(parts["datapackage.json"])
    described["resources"] *= 2
    for name, change, says in (
        ("twice", {"datapackage.json": json.dumps(described)}, "listed twice"),
        ("grown", {f"x{k}.csv": "0" * 700_000 for k in range(40)}, "unpacked it would be"),
    ):
        with zipfile.ZipFile(tmp_path / f"{name}.zip", "w", zipfile.ZIP_DEFLATED) as z:
            for part, content in (parts | change).items():
                z.writestr(part, content)
        with pytest.raises(UserError, match=says):
            data_package.read(tmp_path / f"{name}.zip")


def test_folders_of_killed_processes_are_swept(tmp_path, monkeypatch):
    """Those whose process is gone, the oldest first; never one whose process lives, nor one without a process in its name."""
    monkeypatch.setattr(tempfile, "tempdir", str(tmp_path))
    gone = subprocess.Popen([sys.executable, "-c", ""])
    gone.wait()
    for k in range(3):
        (tmp_path / f"anchor-tally-export-{gone.pid}-{k}").mkdir()
        (tmp_path / f"anchor-tally-export-{gone.pid}-{k}" / "readings").write_text("70")
    (tmp_path / "anchor-tally-mine").mkdir()
    live = own_folder("demo")
    assert sweep_folders() == 3
    assert sorted(x.name for x in tmp_path.iterdir()) == sorted(["anchor-tally-mine", live.name])
    code = (
        "import os, signal, sys; from pathlib import Path; import xlsxwriter\n"
        "from anchor_tally.app.demo import demo_session; from anchor_tally.app import exporting\n"
        "from anchor_tally.domain.steps import finish\n"
        "s = demo_session(); m = finish(exporting.collect_steps(s, Path(sys.argv[1])))\n"
        "steps = exporting.write_steps(m)\n"
        "for share in steps:\n    if share > 0.6: os.kill(os.getpid(), signal.SIGKILL)"
    )
    done = subprocess.run(
        [sys.executable, "-c", code, str(tmp_path / "w.xlsx")],
        env=os.environ | {"TMPDIR": str(tmp_path)},
        capture_output=True,
    )
    assert done.returncode == -signal.SIGKILL, done.stderr
    assert len(list(tmp_path.glob("anchor-tally-*-*-*"))) == 3  # its demo, its export, and ours
    assert sweep_folders() == 2


def test_a_full_disk_while_a_workbook_is_packed_is_told(tmp_path, monkeypatch):
    """One sentence, and what stood there before stays."""
    session = filled(tmp_path / "in")
    (tmp_path / "w.xlsx").write_text("before")

    def full(*_):
        raise FileCreateError(OSError(28, "No space left on device"))

    monkeypatch.setattr(Workbook, "_store_workbook", full)
    with pytest.raises(UserError, match="No space left on device"):
        export(session, tmp_path / "w.xlsx")
    assert (tmp_path / "w.xlsx").read_text() == "before"


def test_no_copied_cell_is_computed(tmp_path):
    """Tab-separated text, copied HTML and files alike: an apostrophe before what begins like a formula."""
    table = ResultTable(
        "=cap", ("=head", "+x"), (("=1+1", "+1.2"), ("@cmd", "−0.4 (−1.0 to +0.2)"))
    )
    assert as_tsv(table) == "'=head\t'+x\n'=1+1\t+1.2\n'@cmd\t−0.4 (−1.0 to +0.2)"
    html = as_html_table(table)
    for cell in ("&#x27;=cap", "&#x27;=head", "&#x27;=1+1", "&#x27;@cmd", ">+1.2<"):
        assert cell in html


def test_footers_hold_any_title(tmp_path):
    """Quotes, a backslash at the end and an ampersand stand at the foot of each page."""
    title = 'Scale "A" & B\\'
    document = Document(title, (), (Section("s", "S", (Paragraph("text"),)),), contents=False)
    (page,) = PdfReader(io.BytesIO(as_pdf(document))).pages
    text = page.extract_text()
    assert text.count(title) == 2
    assert "1 / 1" in text


def test_damage_that_is_met_while_reading_is_one_sentence(tmp_path, capsys, monkeypatch):
    """What the check on opening does not see ends no command in a traceback."""
    session = Session.new(tmp_path / "s.tally", "t")
    session.do(typed("A", "2026-03-02T07:00", "Fir", "device", "body_fat_percent", "20"))
    session.close()

    def malformed(*_):
        raise sqlite3.DatabaseError("database disk image is malformed")
        yield

    monkeypatch.setattr(read_columns, "fill_steps", malformed)
    assert main(["compare", str(tmp_path / "s.tally"), "--instrument", "Fir"]) == 2
    said = capsys.readouterr().err
    assert said.count("\n") == 1
    assert "s.tally: " in said
    assert "damaged" in said
