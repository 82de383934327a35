"""What leaves a study: nobody's free text by default; the window goes on while a file is written.

Stopping leaves nothing.
"""

import csv
import json
import re
import zipfile
from dataclasses import replace

import pytest

from anchor_tally import __version__
from anchor_tally.analysis.agreement.agreement import CompareRequest
from anchor_tally.app.exporting import collect_steps, export, write_steps
from anchor_tally.app.session import Session
from anchor_tally.cli.main import main
from anchor_tally.domain.events import Event
from anchor_tally.domain.lens import Lens
from anchor_tally.domain.scheme import MovedDay, SchemeRule
from anchor_tally.domain.stations import LANDMARK
from anchor_tally.domain.steps import finish
from anchor_tally.exchange.results_json import compare_json
from anchor_tally.reports.certificate import digest_of
from anchor_tally.scenario.squad import CLIENTS, SCAN_SD, squad_rows
from anchor_tally.study.edits.checks import StateValue
from anchor_tally.study.edits.clients import PutClient
from anchor_tally.study.edits.decisions import Decide
from anchor_tally.study.edits.events import AddEvent, SetGoal
from anchor_tally.study.edits.protocol import AddCondition, PutLandmark
from anchor_tally.study.edits.readings import CorrectReading
from anchor_tally.study.edits.scheme import AddRules, MoveDay
from anchor_tally.wording.numbers import day_words
from answers import study
from places import CLOCK, adoption, adoption_of_nothing, filled, parse_text, text_of

# columns that hold identifiers, moments, numbers as typed, or words from a list; every other text
# is somebody's own words
LISTED = {
    "study": {"created_at", "zone"},
    "metric": {"id", "unit"},
    "condition": set(),
    "instrument_metric": {"metric"},
    "protocol_item": {"wanted"},
    "client": {"code", "sex", "birth", "cautions", "last_scan"},
    "client_height": {"day", "entered", "unit"},
    "setting": {"starts"},
    "visit": {"start"},
    "visit_change": {"at"},
    "reading": {"taken_at", "metric", "entered", "unit", "status"},
    "reading_change": {"at"},
    "calibration": {
        "metric",
        "setting",
        "reference",
        "model",
        "fitted_at",
        "valid_until",
        "digest",
    },
    "calibration_mark": {"at", "kind"},
    "check_weight": {"taken_at", "entered", "unit"},
    "assessor_value": {"day", "metric", "entered", "unit"},
    "stated": {"metric", "what"},
    "instrument": {"name", "kind", "equation", "walk", "counts"},
    "station": {"id", "metrics", "setting", "unit", "counts"},
    "landmark": {"metric"},
    "instrument_condition": {"wanted"},
    "attachment": {"sha256", "added_at"},
    "decision": {"key", "decision", "at"},
    "event": {"starts", "ends"},
    "goal": {"metric", "set_at"},
    "scheme": {"station", "form", "days", "starts", "ends"},
    "planned_day": {"due", "day"},
}


def planted(tmp_path):
    """A study of every kind of row, with a marker in every column that holds somebody's own words."""
    session = filled(tmp_path)
    session.do(AddCondition("Slept at the club?", "tired"))
    session.do(PutLandmark("skinfold_thigh", "left hand above the scar"))
    session.do(Decide("a finding", "keep", "as seen"))
    session.do(AddRules((SchemeRule(0, None, "girths", "days", ("2026-03-09",), label="x"),)))
    session.do(MoveDay(MovedDay(1, 1, "2026-03-09", "2026-03-11")))
    session.do(AddEvent(Event(0, 1, None, "2026-03-02", "", "illness", "fever")))
    session.do(AddEvent(Event(0, None, 1, "2026-03-02", "", "battery", "new cells")))
    session.do(SetGoal(1, "body_fat_percent", 14.0))
    session.do(adoption_of_nothing(session))
    path, rows = session.path, {}
    conn = session._conn
    for (name,) in conn.execute("SELECT name FROM sqlite_master WHERE type = 'trigger'").fetchall():
        conn.execute(f"DROP TRIGGER {name}")  # a calibration is never edited otherwise
    for table, listed in LISTED.items():
        columns = [
            n
            for n, kind in conn.execute("SELECT name, type FROM pragma_table_info(?)", (table,))
            if kind == "TEXT"
        ]
        for column in set(columns) - listed:
            marker = f"zqx {table} {column}"
            if (table, column) == ("setting", "label"):
                conn.execute("UPDATE setting SET label = label || ? || ? || id", (LANDMARK, marker))
            elif column == "key":
                conn.execute(f"UPDATE {table} SET key = 'own_zqx_' || key")
            elif (table, column) == ("calibration", "parameters"):
                conn.execute(
                    "UPDATE calibration SET parameters = json_set(parameters,"
                    " '$.made_of.reason', ?)",
                    (marker,),
                )
            else:
                conn.execute(f"UPDATE {table} SET {column} = ?", (marker,))
            rows[table, column] = conn.execute(f"SELECT count(*) FROM {table}").fetchone()[0]
    session.close()
    return path, rows


def all_text(path):
    """Everything that a written file holds."""
    return text_of(path) if zipfile.is_zipfile(path) else path.read_bytes()


def test_no_free_text_leaves_by_default(tmp_path, capsys):
    """Markers in every column of somebody's own words reach no table, workbook, package, certificate or answer."""
    path, rows = planted(tmp_path)
    assert {t for t, _ in rows} | {t for t, c in LISTED.items() if c} == set(LISTED)
    session = Session.open(path)
    names = [
        n
        for (n,) in session._conn.execute(
            "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite%'"
        )
    ]
    assert set(names) == set(LISTED)  # a new table states which of its texts come from a list
    for suffix in ("csv", "xlsx", "zip"):
        export(session, tmp_path / f"out.{suffix}")
        text = all_text(tmp_path / f"out.{suffix}")
        assert b"zqx" not in text, suffix
        assert b"Fir" in text, suffix
    whole = tmp_path / "whole.zip"
    export(session, whole, full=True)
    there = all_text(whole)
    # what is not imported of a whole copy on purpose: where a file lay on this machine
    assert all(
        f"zqx {t} {c}".encode() in there
        for (t, c), n in rows.items()
        if n and c != "key" and t != "attachment"
    )
    session.close()
    assert main(["certificate", str(path), "--instrument", "Fir"]) == 0
    assert "zqx" not in capsys.readouterr().out
    assert main(["certificate", str(path), "--instrument", "Fir", "--full"]) == 0
    assert "zqx calibration parameters" in capsys.readouterr().out
    assert main(["import", str(tmp_path / "out.zip"), "--into", str(tmp_path / "again.tally")]) == 0
    assert main(["import", str(tmp_path / "out.csv"), "--into", str(tmp_path / "table.tally")]) == 0


def test_what_has_no_end_yet_stays_so(tmp_path):
    """A rule and an event without an end come back from a data package as they were."""
    session = filled(tmp_path / "open")
    session.do(AddEvent(Event(0, 1, None, "2026-03-04", "", "illness", "")))
    session.do(AddRules((SchemeRule(0, None, "devices", "weekdays", (0, 3)),)))
    export(session, tmp_path / "out.zip", full=True)
    assert main(["import", str(tmp_path / "out.zip"), "--into", str(tmp_path / "a.tally")]) == 0
    again = Session.open(tmp_path / "a.tally")
    (event,), (rule,) = again.events(), again.scheme().rules
    assert (event.starts[:10], event.ends, event.kind) == ("2026-03-04", "", "illness")
    assert (rule.starts, rule.ends, rule.days) == ("", "", (0, 3))
    again.close()


@pytest.mark.parametrize("suffix", ["csv", "xlsx", "zip"])
def test_stopped_export_leaves_nothing(demo, tmp_path, suffix):
    """Closing the writing half-way leaves no file and no part of one.

    An edit while the study is read begins the reading anew.
    """
    path = tmp_path / "out" / f"x.{suffix}"
    path.parent.mkdir()
    steps = write_steps(finish(collect_steps(demo, path)))
    while not list(path.parent.iterdir()):
        assert 0 <= next(steps) <= 1
    assert len(list(path.parent.iterdir())) == 1
    steps.close()
    assert list(path.parent.iterdir()) == []
    reading = collect_steps(demo, path)
    for _ in range(3):
        next(reading)
    demo.do(PutClient(replace(demo.catalogue().clients[1], notes="meanwhile", code="Zander")))
    material = finish(reading)
    text = str(material.tables) if suffix == "zip" else str(material.readings)
    assert "Zander" in text
    assert "'Auk'" not in text


def test_filters_of_the_command_line(demo, capsys):
    """Clients by code and sex, and days: the same answer as a study that holds only those."""
    path, rows = str(demo.path), squad_rows(CLOCK.today())
    few = ("Auk", "Brill", "Cod", "Dory", "Eider", "Fulmar")
    demo.close()

    def asked(*filters):
        assert main(["compare", path, "--instrument", "Cedar", "--json", *filters], CLOCK) == 0
        found = json.loads(capsys.readouterr().out)
        return numbers(found)

    def numbers(found):
        b, limits = found["bias"], found["limits"]
        ends = [
            *b["ci"],
            limits["lower"],
            limits["upper"],
            *limits["lower_ci"],
            *limits["upper_ci"],
        ]
        return pytest.approx([found["pairs"]["clients"], b["estimate"], b["sd"], *ends], rel=1e-6)

    def alone(kept):
        session = study([r for r in rows if kept(r)])
        session.do(StateValue("body_fat_percent", "reference_sd", SCAN_SD))
        r = finish(CompareRequest(session.snapshot(), Lens(), "Cedar").run())
        return list(numbers(compare_json(r)).expected)

    named = [x for code in few for x in ("--client", code)]
    assert asked(*named) == alone(lambda r: r.client in few)
    assert asked("--sex", "female") == alone(lambda r: r.sex == "female")
    assert asked("--from", "2026-03-10", "--to", "2026-05-31") == alone(
        lambda r: "2026-03-10" <= r.taken_at[:10] <= "2026-05-31"
    )
    for filters, says in (
        (["--client", "Nobody"], 'no client has the code "Nobody"'),
        (["--client", "Auk", "--sex", "female"], "no client is left by the filters"),
    ):
        assert main(["compare", path, "--instrument", "Cedar", *filters], CLOCK) == 2
        assert says in capsys.readouterr().err


FORGED = {
    "validity.valid_until": "2031-01-01",
    "conditions.range": [1.0, 75.0],
    "conditions.reference": "Gold standard",
    "conditions.setting": "athlete",
    "conditions.window_hours": 1.0,
    "cross_validation.after": 0.1,
    "cross_validation.scans": 400,
    "made_from.anchors": 400,
    "made_from.pairs": 9000,
    "offset_interval": [0.0, 0.1],
    "advice": "level_and_change and more",
    "provisional": "forged",
    "offsets.0.offset": 0.25,
    "offsets.0.new_difference": [-0.1, 0.1],
    "state": "certified",
}


def forged(certificate, path, value):
    """A copy with one statement changed, and the digest made anew."""
    out = json.loads(json.dumps(certificate))
    *way, last = [int(k) if k.isdigit() else k for k in path.split(".")]
    place = out
    for k in way:
        place = place[k]
    assert place[last] != value
    place[last] = value
    return out | {"digest": digest_of(out)}


def test_a_certificate_is_verified(demo, tmp_path, capsys):
    """It holds for the study it was made from; a changed reading, or any other statement, is named."""
    demo.do(adoption(demo, "Cedar"))
    demo.do(adoption(demo, "Relative fat mass (Woolcott & Bergman 2018)"))
    path, target = str(demo.path), tmp_path / "cedar.json"
    make = ["certificate", path, "--instrument", "Cedar", "-o", str(target)]
    demo.close()
    assert main(make, CLOCK) == 0
    assert main(["verify", path, str(target)], CLOCK) == 0
    assert "holds. " in capsys.readouterr().out
    computed = tmp_path / "rfm.json"
    rfm = ["certificate", path, "--instrument", "rfm_woolcott_bergman_2018", "-o", str(computed)]
    assert main([*rfm, "--clients"], CLOCK) == 0
    assert main(["verify", path, str(computed)], CLOCK) == 0
    (content,) = json.loads(target.read_text())
    assert "Auk" not in target.read_text()
    for name, value in FORGED.items():
        target.write_text(json.dumps([forged(content, name, value)]))
        capsys.readouterr()
        assert main(["verify", path, str(target)], CLOCK) == 1, name
        said_ = capsys.readouterr().out
        assert (f"it says {value}" if name == "state" else name.partition(".")[0]) in said_
    target.write_text(json.dumps([content | {"advice": "none"}]))
    assert main(["verify", path, str(target)], CLOCK) == 1
    assert "changed after it was written" in capsys.readouterr().out
    target.write_text(json.dumps([content]))
    session = Session.open(demo.path, clock=CLOCK)
    asked = {"instrument": "Cedar", "client": "Auk", "metric": "body_fat_percent"}
    scan = next(r for r in session.readings() if r.client == "Auk" and r.kind == "reference")
    first = next(
        r
        for r in session.readings()
        if {k: getattr(r, k) for k in asked} == asked and r.taken_at[:10] == scan.taken_at[:10]
    )
    session.do(CorrectReading(first.id, "25.3", "misread"))
    session.close()
    assert main(["verify", path, str(target)], CLOCK) == 1
    said_ = capsys.readouterr().out
    assert "1 reading changed" in said_
    assert f"· Auk, {day_words(first.taken_at)}, Cedar: 25.3, ok" in said_
    broken = ("[]", "{}", "nonsense", '[{"schema": "anchor-tally/certificate/1"}]', "[" * 9000)
    for text in (*broken, json.dumps([content | {"version": float("inf")}])):
        target.write_text(text)
        assert main(["verify", path, str(target)], CLOCK) == 2
        assert capsys.readouterr().err.count("\n") == 1
    for name in ("/dev/zero", str(tmp_path), "0" * 64):
        assert main(["verify", path, name], CLOCK) == 2
        assert capsys.readouterr().err.count("\n") == 1


def test_a_page_is_verified_and_told_apart_from_a_changed_one(demo, tmp_path, capsys):
    """HTML and PDF carry program, command and digest; one changed byte of the page is noticed."""
    demo.do(adoption(demo, "Cedar"))
    path = str(demo.path)
    demo.close()
    for kind, old, new in (
        ("html", b"Valid until", b"Valid  until"),
        ("pdf", b"stream", b"Stream"),
    ):
        target = tmp_path / f"c.{kind}"
        made = ["certificate", path, "--instrument", "Cedar", "--paper", "Letter"]
        assert main([*made, "-o", str(target)], CLOCK) == 0
        assert main(["verify", path, str(target)], CLOCK) == 0
        assert "holds. " in capsys.readouterr().out
        content = target.read_bytes()
        target.write_bytes(content.replace(old, new, 1))
        assert target.read_bytes() != content
        assert main(["verify", path, str(target)], CLOCK) == 1
        assert "the text of the page" in capsys.readouterr().out
    html = (tmp_path / "c.html").read_text()
    assert f"anchor-tally {__version__}" in html
    digest = re.search(r"clients=0 full=0 ([0-9a-f]{64})", html)[1]
    assert " ".join(digest[k : k + 16] for k in range(0, 64, 16)) in html
    assert main(["verify", path, digest], CLOCK) == 0
    assert "holds. " in capsys.readouterr().out


@pytest.mark.parametrize("way", ["csv", "package", "copy"])
def test_a_certificate_holds_in_a_study_made_from_an_export(way, demo, tmp_path, capsys):
    """Readings are known by what they are: other numbers in another database change nothing."""
    demo.do(adoption(demo, "Cedar"))
    target, again = tmp_path / "c.json", tmp_path / "again.tally"
    made = ["certificate", str(demo.path), "--instrument", "Cedar", "-o", str(target)]
    assert main(made, CLOCK) == 0
    if way == "csv":
        table = tmp_path / "e.csv"
        export(demo, table)
        head, *lines = table.read_text().splitlines(keepends=True)
        table.write_text(head + "".join(reversed(lines)))
        assert main(["import", str(table), "--into", str(again)], CLOCK) == 0
        assert main(["verify", str(table), str(target)], CLOCK) == 0, capsys.readouterr().out
    elif way == "package":
        export(demo, tmp_path / "p.zip")
        assert main(["import", str(tmp_path / "p.zip"), "--into", str(again)], CLOCK) == 0
    else:
        demo.save_copy(again)
    capsys.readouterr()
    assert main(["verify", str(again), str(target)], CLOCK) == 0, capsys.readouterr().out
    assert ("computed anew it is equal" in capsys.readouterr().out) == (way == "csv")
    (content,) = json.loads(target.read_text())
    target.write_text(json.dumps([forged(content, "validity.valid_until", "2031-01-01")]))
    assert main(["verify", str(again), str(target)], CLOCK) == 1


def test_estimates_leave_and_never_come_back_as_readings(tmp_path, capsys):
    """One row a client after the readings, marked as computed; read back they are refused, with the same answers."""
    assert main(["export", "--demo", "-o", str(tmp_path / "e.csv"), "--estimates"], CLOCK) == 0
    assert main(["export", "--demo", "-o", str(tmp_path / "e.xlsx"), "--estimates"], CLOCK) == 2
    assert "estimates are written into a .csv" in capsys.readouterr().err
    with (tmp_path / "e.csv").open() as f:
        rows = list(csv.DictReader(f))
    found = [r for r in rows if r["kind"] == "estimate"]
    assert [r["client"] for r in found] == [*CLIENTS]
    assert all(r["note"].startswith("computed, not read; 95 % CI ") for r in found)
    parsed, refused = parse_text((tmp_path / "e.csv").read_text())
    assert len(parsed) == len(rows) - len(found)
    assert {r.reason for r in refused} == {"a computed estimate is no reading"}
