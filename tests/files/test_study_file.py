"""The study file and the tidy CSV: nothing lost, nothing half done, one plain sentence for each trouble."""

import json
import os
import shutil
import sqlite3

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from anchor_tally.analysis.offsets.calibrate import CalibrateRequest
from anchor_tally.analysis.offsets.record import correct
from anchor_tally.app.exporting import export
from anchor_tally.app.session import Session
from anchor_tally.cli.main import main
from anchor_tally.domain.errors import UserError
from anchor_tally.domain.steps import finish
from anchor_tally.exchange.readings_csv import HEADER
from anchor_tally.study import open_file
from anchor_tally.study.edits.readings import CorrectReading, ExcludeReading
from anchor_tally.wording.offsets import adopted_for
from places import CLOCK, DATA, adoption, parse_text, typed

HEAD = ",".join(HEADER) + "\n"
WEIGHT = typed("A", "2026-03-02T06:30", "Fir", "device", "body_mass", "70")
GOOD = "A,female,30,170.5,2026-03-02T06:30,Fir,device,std,body_mass,154.5,lb,1,ok,\n"


def dump(session):
    """All readings as they would be exported, without row ids."""
    return [
        (
            r.client,
            r.sex,
            r.age_years,
            r.height_cm,
            r.taken_at,
            r.instrument,
            r.setting,
            r.metric,
            r.value,
            r.entered,
            r.unit,
            r.replicate,
            r.status,
        )
        for r in session.readings()
    ]


def test_round_trip(demo, tmp_path):
    """Export re-imports to an equal study; importing again adds nothing."""
    out = tmp_path / "out.csv"
    count = export(demo, out).readings
    assert main(["import", str(out), "--into", str(tmp_path / "again.tally")]) == 0
    again = Session.open(tmp_path / "again.tally")
    assert count == len(dump(demo)) > 1500
    assert dump(again) == dump(demo)
    export(again, tmp_path / "again.csv")
    assert (tmp_path / "again.csv").read_text() == out.read_text()
    assert (os.stat(tmp_path / "again.tally").st_mode & 0o777) == 0o600
    again.close()
    assert main(["import", str(out), "--into", str(tmp_path / "again.tally")]) == 0
    third = Session.open(tmp_path / "again.tally")
    assert len(dump(third)) == count
    third.close()


@pytest.mark.parametrize(
    ("body", "says"),
    [
        (GOOD + "A,female,30,170.5,2026-03-0", "line 3"),
        (GOOD.replace("lb", "cm"), "not in cm"),
        (GOOD.replace("154.5", "9000"), "not possible"),
        (GOOD + GOOD.replace("154.5", "160"), "contradicts line 2"),
        (GOOD.replace("body_mass", "soul"), "not known"),
        (GOOD.replace("2026-03-02T06:30", "02/03/2026"), "ISO 8601"),
        (GOOD.replace(",1,ok", ",0,ok"), "whole number"),
        (GOOD + '"A', "line 3"),
        (GOOD + GOOD.replace("female", "male").replace(",1,ok", ",2,ok"), "elsewhere"),
        ("", "no readings"),
        (GOOD + GOOD.replace("170.5", "171").replace(",1,ok", ",2,ok"), "height_cm"),
    ],
)
def test_bad_rows_import_nothing(tmp_path, capsys, body, says):
    """One sentence with file and line, exit code 2, no study made."""
    path = tmp_path / "bad.csv"
    path.write_text(HEAD + body)
    assert main(["import", str(path), "--into", str(tmp_path / "s.tally")]) == 2
    error = capsys.readouterr().err
    assert says in error
    assert error.count("\n") == 1
    assert "bad.csv" in error
    assert not (tmp_path / "s.tally").exists()


def test_good_rows_can_be_taken_on_demand(tmp_path, capsys):
    """--skip-refused imports the rest and lists what was not imported; a repeated row counts once."""
    path = tmp_path / "mixed.csv"
    path.write_text(
        "\ufeff" + HEAD + GOOD + GOOD + GOOD.replace("body_mass", "soul"), encoding="utf-8"
    )
    assert main(["import", str(path), "--into", str(tmp_path / "s.tally"), "--skip-refused"]) == 0
    captured = capsys.readouterr()
    assert "1 reading added" in captured.out
    assert "line 4" in captured.err


@settings(
    max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
@given(st.lists(st.lists(st.text(max_size=8), min_size=0, max_size=16), max_size=5), st.booleans())
def test_any_table_is_parsed_or_refused(rows, quote):
    """Whatever stands in a file, each row is taken or listed."""
    text = HEAD + GOOD + "".join(",".join(f'"{c}' if quote else c for c in r) + "\n" for r in rows)
    rows, refused = parse_text(text)
    assert all(r.reason for r in refused)
    assert all(r.client and r.instrument for r in rows)


def test_text_after_a_closing_quote_is_no_value():
    """A name that is written "Ann"ie is none: the row is refused, those before are read."""
    rows, refused = parse_text(HEAD + GOOD + GOOD.replace("A,", '"Ann"ie,', 1))
    assert [r.client for r in rows] == ["A"]
    assert [(r.line, "not readable as CSV" in r.reason) for r in refused] == [(3, True)]
    _, long = parse_text(HEAD + GOOD.replace("154.5", "x" * 90))
    assert long[0].text == "x" * 80


def make(kind, folder):
    """One unusable file of each kind."""
    path = folder / "x.tally"
    if kind == "empty":
        path.touch()
    elif kind == "text":
        path.write_text("not a study at all, just words " * 20)
    else:
        Session.new(path, "t").close()
        conn = sqlite3.connect(path)
        if kind == "newer":
            conn.execute("PRAGMA user_version = 99")
        elif kind == "foreign":
            conn.execute("PRAGMA application_id = 7")
        conn.close()
        if kind == "damaged":
            data = bytearray(path.read_bytes())
            data[4096:12288] = b"\x55" * 8192
            path.write_bytes(bytes(data))
    return path


@pytest.mark.parametrize(
    ("kind", "says"),
    [
        ("empty", "empty"),
        ("text", "not a study"),
        ("newer", "newer"),
        ("foreign", "another program"),
        ("damaged", "damaged"),
        ("missing", "no such file"),
    ],
)
def test_unusable_files(tmp_path, capsys, kind, says):
    """Each is reported in one sentence and left byte for byte as it was."""
    path = tmp_path / "none.tally" if kind == "missing" else make(kind, tmp_path)
    before = path.read_bytes() if path.exists() else None
    assert main(["compare", str(path), "--instrument", "Fir"]) == 2
    assert says in capsys.readouterr().err
    assert (path.read_bytes() if path.exists() else None) == before


def test_locked_study(tmp_path):
    """A file that another program is writing refuses the edit and keeps everything."""
    session = Session.new(tmp_path / "s.tally", "t")
    other = sqlite3.connect(tmp_path / "s.tally", isolation_level=None)
    other.execute("BEGIN EXCLUSIVE")
    with pytest.raises(UserError, match="nothing was changed"):
        session.do(WEIGHT)
    other.execute("ROLLBACK")
    other.close()
    assert session.readings() == []
    session.close()


def test_read_only_folder(tmp_path, monkeypatch):
    """A study that may only be read opens, and refuses edits with a sentence."""
    Session.new(tmp_path / "s.tally", "t").close()
    monkeypatch.setattr(os, "access", lambda p, mode: mode != os.W_OK)
    session = Session.open(tmp_path / "s.tally")
    assert session.read_only
    with pytest.raises(UserError, match="cannot be written"):
        session.do(WEIGHT)
    session.close()


def test_failed_migration_leaves_the_file(tmp_path, monkeypatch):
    """An upgrade keeps a copy; one that fails leaves the file at its old version."""
    path = tmp_path / "old.tally"
    shutil.copy(DATA / f"study_schema_{open_file.SCHEMA_VERSION}.tally", path)
    now = open_file.SCHEMA_VERSION
    before = path.read_bytes()
    old = open_file.migrations()
    monkeypatch.setattr(open_file, "SCHEMA_VERSION", now + 1)
    monkeypatch.setattr(
        open_file,
        "migrations",
        lambda: [*old, "CREATE TABLE extra (a INTEGER); CREATE TABLE extra (b INTEGER);\n"],
    )
    with pytest.raises(UserError, match=r"old\.tally"):
        open_file.open_study(path)
    conn = sqlite3.connect(path)
    assert conn.execute("PRAGMA user_version").fetchone()[0] == now
    assert (
        conn.execute("SELECT count(*) FROM sqlite_master WHERE name = 'extra'").fetchone()[0] == 0
    )
    conn.close()
    assert (tmp_path / f"old.tally.before-{now + 1}").read_bytes() == before


@pytest.mark.parametrize("schema", [1, 2])
def test_old_study_opens(tmp_path, schema):
    """A file of every schema opens with its readings, on the command line without being changed.

    Earlier copies are kept.
    """
    path = tmp_path / "s.tally"
    shutil.copy(DATA / f"study_schema_{schema}.tally", path)
    before = path.read_bytes()
    (tmp_path / f"s.tally.before-{open_file.SCHEMA_VERSION}").write_text("an older copy")
    looked = Session.open(path, read_only=True)
    assert [(r.instrument, r.value) for r in looked.readings()] == [("Fir", 21.5), ("Scan", 20.0)]
    looked.close()
    assert path.read_bytes() == before
    session = Session.open(path)
    assert [(r.instrument, r.value) for r in session.readings()] == [("Fir", 21.5), ("Scan", 20.0)]
    session.close()
    assert (tmp_path / f"s.tally.before-{open_file.SCHEMA_VERSION}").read_text() == "an older copy"
    assert (tmp_path / f"s.tally.before-{open_file.SCHEMA_VERSION}-2").read_bytes() == before


@pytest.mark.parametrize(
    "name",
    [
        "study_schema_2_full",
        "study_schema_3",
        "study_schema_4",
        "study_schema_5",
        f"study_schema_{open_file.SCHEMA_VERSION}",
    ],
)
def test_old_study_means_the_same(tmp_path, name):
    """Cards, history and calibrations of a full older file: one made from equations is not stale, one with a change is."""
    shutil.copy(DATA / f"{name}.tally", tmp_path / "s.tally")
    session = Session.open(tmp_path / "s.tally")
    client = session.catalogue().client_coded("A")
    assert (client.birth, client.cautions) == ("1996-05", frozenset({"implant"}))
    scale, tape = sorted(session.calibrations(), key=lambda c: c.instrument)
    assert (scale.instrument, tape.instrument[:17]) == ("Fir", "Relative fat mass")
    assert all("@" in s for s in tape.sources if int(s.split("@")[0] == s) == 0)
    assert (session.stale(scale), session.stale(tape)) == (True, False)
    assert len([s for s in session.catalogue().settings.values() if s.label == "athlete"]) == 1
    first, second = [
        r
        for r in session.readings()
        if (r.client, r.instrument, r.metric) == ("F", "Fir", "body_fat_percent")
    ][:2]
    assert (first.value, second.status, len(session.history(first.id))) == (21.0, "excluded", 1)
    if name.startswith(
        "study_schema_2"
    ):  # two readings came in a second time, their time written in another way
        twice = [r for r in session.readings() if r.client == "A" and r.replicate > 2]
        assert [(r.status, "another way" in r.note) for r in twice] == [
            ("excluded", True),
            ("ok", False),
        ]
    session.close()


def test_a_file_is_cut_off_where_it_is_shorter_than_its_first_page_says(tmp_path):
    """Not while its journal is there, nor a file too short to say."""
    path = tmp_path / "s.tally"
    Session.new(path, "S", clock=CLOCK).close()
    whole = path.read_bytes()
    assert not open_file.is_cut_off(path)
    for size, cut in ((len(whole) - 1, True), (100, True), (99, False), (0, False)):
        path.write_bytes(whole[:size])
        assert open_file.is_cut_off(path) == cut, size
    path.write_bytes(whole[:-1])
    path.with_name("s.tally-journal").touch()
    assert not open_file.is_cut_off(path)
    assert not open_file.is_cut_off(tmp_path / "gone.tally")


def test_the_usual_spread_is_that_of_earlier_visits(demo):
    """Asked for the first visit there is none; that answer is not taken for all visits."""
    name, fat = "Alder", "body_fat_percent"
    assert demo.usual_spread(name, fat, 1) != demo.usual_spread(name, fat, None)
    assert demo.usual_spread(name, fat, None) == demo.usual_spread(name, fat, None) > 0


def test_edit_history_undo_redo(demo):
    """Corrections and exclusions keep both states; undo and redo go through the same path."""
    first = demo.readings()[0]
    demo.do(CorrectReading(first.id, "19,5", "misread"))
    demo.do(ExcludeReading(first.id, "after breakfast"))
    now = demo.readings([first.id])[0]
    assert (now.value, now.status, now.note) == (19.5, "excluded", "after breakfast")
    demo.undo()
    demo.undo()
    assert demo.readings([first.id])[0] == first
    demo.redo()
    assert demo.readings([first.id])[0].value == 19.5
    assert len(demo.history(first.id)) == 5
    assert json.loads(demo.history(first.id)[0][1])["entered"] == first.entered
    with pytest.raises(UserError, match="reason"):
        demo.do(ExcludeReading(first.id, "  "))


def test_undo_of_an_import_leaves_nothing(tmp_path):
    """Taking an import back removes clients, visits and instruments that it made."""
    session = Session.new(tmp_path / "s.tally", "t")
    session.do(WEIGHT)
    session.undo()
    assert not session.snapshot().clients
    assert not session.snapshot().instruments
    session.redo()
    assert [r.value for r in session.readings()] == [70]
    session.close()


def test_adopted_calibration(demo):
    """Adopting writes a version with range and expiry; it is never edited; cautions are raised.

    Undo withdraws it.
    """
    results = finish(CalibrateRequest(demo.snapshot(), demo.lens).run())
    alder = next(r for r in results if r.comparison.pairs.instrument.name == "Alder")
    demo.do(adoption(demo, "Alder"))
    kept = demo.calibrations()[0]
    assert (kept.version, kept.valid_until, kept.model) == (1, "2026-12-07", "client")
    offsets = {c.client: c.offset for c in alder.clients}
    fine = correct(kept, "Merle", 25.0, "2026-09-02", "")
    assert fine.value == pytest.approx(25 - offsets["Merle"])
    assert fine.interval.low < fine.value < fine.interval.high
    assert fine.notes == ()
    new = next(c.new for c in alder.clients if c.client == "Merle")
    assert (fine.interval.low, fine.interval.high) == pytest.approx((25 - new.high, 25 - new.low))
    odd = correct(kept, "Newcomer", 60.0, "2027-01-01", "")
    assert [n.code for n in odd.notes] == ["outside_range", "expired_growing", "new_client"]
    # after the end of its validity the interval grows by the drift that the scans do not rule out
    assert "expired on 7 Dec 2026" in adopted_for(alder, "2027-01-01")
    assert "expired" not in adopted_for(alder, "2026-12-07")
    low, high = kept.made_of.drift
    assert low < 0 < high
    late = correct(kept, "Merle", 25.0, "2027-02-15", "")  # ten weeks later
    assert late.value == fine.value
    assert (fine.interval.low - late.interval.low) == pytest.approx(10 * high)
    assert (late.interval.high - fine.interval.high) == pytest.approx(-10 * low)
    other = correct(kept, "Merle", 25.0, "2026-09-02", "athlete")
    assert (other.value, [n.code for n in other.notes]) == (None, ["other_setting"])
    assert kept.made_of.clients == tuple(sorted(c.code for c in demo.catalogue().clients.values()))
    assert (kept.made_of.last_anchor, kept.made_of.anchors, kept.made_of.window_hours) == (
        "2026-08-17",
        42,
        24.0,
    )
    assert not demo.stale(kept)
    used = next(r for r in demo.readings() if str(r.id) in kept.sources and r.instrument == "Alder")
    demo.do(ExcludeReading(used.id, "wet hair"))
    assert demo.stale(kept)
    assert "stale" in [
        n.code for n in correct(kept, "Merle", 25.0, "2026-09-02", "", stale=True).notes
    ]
    demo.do(adoption(demo, "Alder"))
    assert [c.version for c in demo.calibrations()] == [2]
    demo.undo()
    assert [c.version for c in demo.calibrations()] == [1]
    with pytest.raises(sqlite3.IntegrityError, match="never edited"):
        demo._conn.execute("UPDATE calibration SET pairs = 0")
