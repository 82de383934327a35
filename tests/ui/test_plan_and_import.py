"""Cards of the study, the assessor check, and the import of a foreign table, driven in the window."""

import importlib
from pathlib import Path

import openpyxl
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QApplication, QFileDialog

from anchor_tally.app.session import Session
from anchor_tally.cli.main import main
from anchor_tally.exchange.readings_csv import HEADER
from anchor_tally.ui.stages.plan.practice import Practice
from anchor_tally.wording.numbers import day_words
from driving import choose_client, previewed, select, shown
from places import reading


@pytest.fixture
def window(window_on, tmp_path, monkeypatch):
    """An empty study."""
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    session = Session.new(tmp_path / "s.tally", "t")
    opened = window_on(session)
    yield opened
    opened.close()
    session.close()


def fill(qtbot, field, text):
    """Type into a field and leave it by Enter."""
    field.selectAll()
    qtbot.keyClicks(field, text)
    qtbot.keyClick(field, Qt.Key.Key_Return)


def click(qtbot, button):
    """Click."""
    qtbot.mouseClick(button, Qt.MouseButton.LeftButton)


def test_client_card(qtbot, window):
    """Fields are written as they are left; a bad date is refused in place.

    Heights feed the equations.
    """
    session = window.session
    qtbot.keyClick(window, Qt.Key.Key_1, Qt.KeyboardModifier.ControlModifier)
    page = window.plan.tabs["clients"]
    fill(qtbot, page.new, "Wren")
    for column, text in (
        ("birth", "1994-05"),
        ("usual_activity", "rows"),
        ("scans_before", "2"),
        ("last_scan", "2026-01-10"),
    ):
        fill(qtbot, page.fields[column], text)
    page.fields["sex"].setCurrentIndex(page.fields["sex"].findData("female"))
    page.fields["sex"].activated.emit(page.fields["sex"].currentIndex())
    fill(qtbot, page.fields["birth"], "May 94")
    assert "is not a year" in page.trouble.text()
    fill(qtbot, page.fields["scans_before"], "two")
    assert "not a whole number" in page.trouble.text()
    click(qtbot, page.boxes["implant"])
    assert "no impedance device" in page.warning.text()
    fill(qtbot, page.day, "2026-02-01")
    fill(qtbot, page.height_field, "5ft 10")
    assert page.heights.text(0, 1) == "177.8"
    fill(qtbot, page.new, "Wren")
    assert "is there already" in page.trouble.text()
    client = next(iter(session.catalogue().clients.values()))
    assert (client.birth, client.sex, client.scans_before, client.cautions) == (
        "1994-05",
        "female",
        2,
        frozenset({"implant"}),
    )
    window.undo()
    assert client.id not in session.catalogue().heights
    window.redo()
    assert session.catalogue().heights[client.id][0].height_cm == pytest.approx(177.8)


def test_instrument_card_feeds_the_bench(qtbot, window):
    """Metrics offered make rows, settings by date and client go into readings, order moves rows."""
    session = window.session
    for name in ("Fir", "Oak"):
        window.go("plan")
        window.plan.go("instruments")
        page = window.plan.tabs["instruments"]
        fill(qtbot, page.new, name)
        fill(qtbot, page.resolution, "0,1")
    assert page.offers.text(0, 1) == "0.1 %"
    window.plan.go("clients")
    fill(qtbot, window.plan.tabs["clients"].new, "Wren")
    window.plan.go("instruments")
    select(page.list, 1)
    page.starts.setText("2026-01-01")
    fill(qtbot, page.label_, "standard")
    page.whom.setCurrentText("Wren")
    fill(qtbot, page.label_, "athlete")
    assert [page.settings.text(k, 2) for k in range(2)] == ["Wren", "all clients"]
    click(qtbot, page.up)
    assert page.list.text(0, 0) == "Oak"
    window.go("record")
    record = window.record
    choose_client(record, "Wren")
    record.when.setText("2026-03-02 06:30")
    assert [entry_row.instrument for entry_row in record.entry_rows] == ["Oak", "Fir"]
    fill(qtbot, record.entry_rows[0].cells[0], "20.4")
    assert [(r.instrument, r.setting) for r in session.readings()] == [("Oak", "athlete")]
    window.go("plan")
    window.plan.go("protocol")
    box = window.plan.tabs["protocol"].boxes["morning"]
    qtbot.keyClick(box, Qt.Key.Key_Space)
    assert "morning" in session.catalogue().asked
    window.undo()
    assert not box.isChecked()


def test_assessor_check(qtbot, window):
    """Ten people measured twice give a verdict; a reading that cannot be is refused.

    Undo takes the pair back.
    """
    window.go("plan")
    window.plan.go("assessors")
    page = window.plan.tabs["assessors"]
    page.assessor.setEditText("R. K.")
    for k in range(10):
        fill(qtbot, page.first, f"{10 + k}")
        fill(qtbot, page.second, f"{10 + k}.2")
    assert page.verdict.text().startswith("R. K. meets the limit for a skilled")
    assert page.table.count == 10
    fill(qtbot, page.first, "900")
    fill(qtbot, page.second, "10")
    assert "not possible" in page.trouble.text()
    window.undo()
    assert page.table.count == 9
    assert "at least 10" in page.notes.text()


def test_practice(qtbot, window):
    """Each reading is scored against the hidden value; text is refused.

    The tape is another scale.
    """
    page = Practice(window.session, seed=4)
    qtbot.addWidget(page)
    fill(qtbot, page.value, f"{page.hidden[0]:.1f}")
    fill(qtbot, page.value, "ten")
    assert "not a number" in page.trouble.text()
    assert page.table.text(0, 1) == f"{page.hidden[0]:.2f}"
    assert "100 % within" in page.words.text()
    page.kind.setCurrentIndex(1)
    page.kind.activated.emit(1)
    assert page.read == ()
    assert page.scale.kind == "tape"


def test_foreign_table_is_mapped_once(qtbot, window, tmp_path, monkeypatch, capsys):
    """A wide table is guessed, corrected, imported, and mapped the same way the next time.

    Importing it again adds nothing.
    """
    path = tmp_path / "wide.csv"
    path.write_text(
        "Who;On;Alder fat (%);Alder fat (%) 2;Mass"
        " (lb)\nAuk;3/4/2026;18,4;18,9;154,2\nBrill;4/4/2026;24;;150\n",
        encoding="cp1252",
    )
    previewed(qtbot, window, path)
    page, editor = window.importing, window.importing.editor
    assert "choose what the columns are" in page.headline.text()
    assert "nothing wnot corrected" not in page.under.text()
    assert not page.take.isEnabled()
    for row, role in ((0, "client"), (1, "taken_at")):
        select(editor.columns, row)
        editor.role.setCurrentIndex(editor.role.findData(role))
        editor.role.activated.emit(editor.role.currentIndex())
    qtbot.waitUntil(lambda: page.take.isEnabled())
    select(editor.columns, 4)
    fill(qtbot, editor.by, "Alder")
    for order, day in (("mdy", "2026-03-04"), ("dmy", "2026-04-03")):
        editor.dates.setCurrentIndex(editor.dates.findData(order))
        editor.dates.activated.emit(editor.dates.currentIndex())
        qtbot.waitUntil(
            lambda day=day: page.take.isEnabled() and page.preview.text(0, 1) == day_words(day)
        )
    assert "Check which is right" in editor.wanting.text()
    kept = str(tmp_path / "map.json")
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (kept, ""))
    click(qtbot, page.keep)
    assert "Mapping written to" in window.said
    with qtbot.waitSignal(page.wanted):
        click(qtbot, page.take)
    there = tmp_path / "by-command.tally"
    command = ["import", str(path), "--into", str(there), "--mapping"]
    assert main([*command, kept]) == 0
    other = Session.open(there, read_only=True)
    by_command = [(r.client, r.taken_at, r.metric, r.value) for r in other.readings()]
    other.close()
    assert by_command == [
        (r.client, r.taken_at, r.metric, r.value) for r in window.session.readings()
    ]
    (tmp_path / "odd.json").write_text('{"schema": "another"}')
    capsys.readouterr()
    assert main([*command, str(tmp_path / "odd.json")]) == 2
    assert "not a mapping that the window has written" in capsys.readouterr().err
    path.with_name("else.csv").write_text("a;b\n1;2\n")
    assert main(["import", str(path.with_name("else.csv")), *command[2:], kept]) == 2
    assert "no table has the headings" in capsys.readouterr().err
    rows = [
        (r.client, r.instrument, r.metric, r.entered, r.unit, r.replicate)
        for r in window.session.readings()
    ]
    assert rows == [
        ("Auk", "Alder", "body_fat_percent", "18.4", "percent", 1),
        ("Auk", "Alder", "body_fat_percent", "18.9", "percent", 2),
        ("Auk", "Alder", "body_mass", "154.2", "lb", 1),
        ("Brill", "Alder", "body_fat_percent", "24", "percent", 1),
        ("Brill", "Alder", "body_mass", "150", "lb", 1),
    ]
    previewed(qtbot, window, path)
    assert "all 5 readings are already in the study" in page.headline.text()
    assert "mapped before" in page.under.text()
    click(qtbot, page.cancel)


def test_a_click_into_a_field_selects_its_text(qtbot, window):
    """What is typed after a click takes the place of what stood there; the next click places the cursor."""
    qtbot.keyClick(window, Qt.Key.Key_1, Qt.KeyboardModifier.ControlModifier)
    window.plan.show_part("instruments")
    page = window.plan.tabs["instruments"]
    fill(qtbot, page.new, "Fir")
    for field in (page.resolution, page.metric_box.lineEdit()):
        page.new.setFocus()
        qtbot.waitUntil(page.new.hasFocus)
        field.setText("2")
        click(qtbot, field)
        qtbot.keyClicks(field, "10")
        assert field.text() == "10"
        click(qtbot, field)
        assert not field.hasSelectedText()


def test_sheets_named_by_client_are_offered(qtbot, window, tmp_path):
    """No sheet's name becomes a client unasked; one button takes them all, and a unit beside the values tells the metric."""
    book = openpyxl.Workbook()
    book.remove(book.active)
    for code, share in (("Auk", "46.4 %"), ("Brill", "41.0 %")):
        sheet = book.create_sheet(code)
        sheet.append(["Date", "Muscle"])
        sheet.append(["Mon 06 Oct 2025", share])
    book.save(tmp_path / "people.xlsx")
    previewed(qtbot, window, tmp_path / "people.xlsx")
    page, editor = window.importing, window.importing.editor
    assert (editor.client.text(), page.take.isEnabled()) == ("", False)
    assert "sheet Auk: choose what" in page.headline.text()
    page.sheet.setCurrentIndex(1)
    page.sheet.activated.emit(1)
    assert page.to_open.isVisible()
    select(editor.columns, 1)
    fill(qtbot, editor.by, "Alder")
    assert page.sheet.currentText() == "Brill"  # an answer never changes the sheet shown
    with qtbot.waitSignal(page.previewed):
        click(qtbot, editor.by_sheet)
    qtbot.waitUntil(page.take.isEnabled)
    with qtbot.waitSignal(page.wanted):
        click(qtbot, page.take)
    assert {
        (r.client, r.instrument, r.metric, r.value, r.taken_at) for r in window.session.readings()
    } == {
        ("Auk", "Imported device", "total_muscle_percent", 46.4, "2025-10-06"),
        ("Brill", "Alder", "total_muscle_percent", 41.0, "2025-10-06"),
    }


def test_people_in_the_columns_by_one_choice(qtbot, window, tmp_path):
    """Groups of columns become clients at one click; rows and columns are exchanged and back at one click each."""
    groups = tmp_path / "groups.csv"
    groups.write_text(
        ",A01,,A02,\nDate,Weight (kg),Fat (%),Weight (kg),Fat (%)\n2026-03-02,61.5,24.1,80.2,17.0\n"
    )
    previewed(qtbot, window, groups)
    page, editor = window.importing, window.importing.editor
    assert not page.take.isEnabled()
    with qtbot.waitSignal(page.previewed):
        click(qtbot, editor.by_group)
    qtbot.waitUntil(page.take.isEnabled)
    assert editor.columns.text(2, 1) == "A01, Imported device: body fat (%)"
    before = editor.columns.count
    with qtbot.waitSignal(page.previewed):
        click(qtbot, editor.turn)
    assert (editor.turn.isChecked(), page.take.isEnabled()) == (True, False)
    with qtbot.waitSignal(page.previewed):
        click(qtbot, editor.turn)
    assert (editor.turn.isChecked(), editor.columns.count) == (False, before)
    with qtbot.waitSignal(page.previewed):
        click(qtbot, editor.by_group)
    qtbot.waitUntil(page.take.isEnabled)
    with qtbot.waitSignal(page.wanted):
        click(qtbot, page.take)
    assert {(r.client, r.metric, r.value) for r in window.session.readings()} == {
        ("A01", "body_mass", 61.5),
        ("A01", "body_fat_percent", 24.1),
        ("A02", "body_mass", 80.2),
        ("A02", "body_fat_percent", 17.0),
    }


def test_values_outside_the_range_by_one_button(qtbot, window, tmp_path):
    """A tidy table and a foreign one: the refused value is offered as a failed reading, and the rest is taken either way."""
    tidy = tmp_path / "tidy.csv"
    rows = [reading("A01", "2026-03-02T07:00", v, repeat=k) for k, v in enumerate((24.1, 79.5), 1)]
    tidy.write_text(",".join(HEADER) + "\n" + "\n".join(rows) + "\n")
    wide = tmp_path / "wide.csv"
    wide.write_text("Code,Date,Fir fat (%)\nA02,2026-03-02,24.1\nA03,2026-03-03,79.5\n")
    page = window.importing
    for path, n in ((tidy, 2), (wide, 4)):
        previewed(qtbot, window, path)
        assert page.take.text() == "&Import 1 reading, leave out 1 row"
        assert page.remedy.text() == "Import these as failed readings"
        with qtbot.waitSignal(page.previewed):
            click(qtbot, page.remedy)
        qtbot.waitUntil(page.take.isEnabled)
        with qtbot.waitSignal(page.wanted):
            click(qtbot, page.take)
        assert [r.status for r in window.session.readings()].count("failed") == n // 2


def test_workbook_is_imported_whole(qtbot, window, tmp_path, monkeypatch):
    """All sheets at one go: people's cards, header rows joined, codes carried down, grams by the remedy, gaps asked once.

    Every value stands where it belongs; what is not taken is listed; a second import adds nothing.
    """
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    monkeypatch.syspath_prepend(Path(__file__).parents[2] / "scripts")
    path = tmp_path / "group.xlsx"
    importlib.import_module("messy_workbook").make(path)
    previewed(qtbot, window, path)
    page, editor = window.importing, window.importing.editor
    assert "sheet Alder: choose what" in page.headline.text()
    assert "3 of them" not in editor.wanting.text()
    assert "– Alder: Mood: 1 cell, for example tired" in page.untaken.text().splitlines()
    editor.gaps.setCurrentIndex(editor.gaps.findData("failed"))
    with qtbot.waitSignal(page.previewed):
        editor.gaps.activated.emit(editor.gaps.currentIndex())
    assert "sheet Read me (no table)" in page.under.text()
    assert [
        (page.refused.text(k, 1), page.refused.text(k, 2)) for k in range(page.refused.count)
    ] == [("3", "Total mass"), ("1", "Member")]
    assert page.remedy.text() == "Read Total mass in grams (g)"
    with qtbot.waitSignal(page.previewed):
        click(qtbot, page.remedy)
    assert page.refused.text(0, 3) == "Mean"
    assert (
        "R02: 14 readings of Alder. Implanted electronics" in page.untaken.text()
    )  # forbidden readings are named before they are taken
    with qtbot.waitSignal(page.wanted):
        click(qtbot, page.take)
    people = {c.code: c for c in window.session.catalogue().clients.values()}
    assert (people["R02"].sex, people["R02"].birth, people["R02"].cautions) == (
        "male",
        "1991-11-20",
        {"implant"},
    )
    assert window.session.catalogue().heights[people["R01"].id][0].height_cm == 168
    rows = [r for r in window.session.readings() if r.client == "R02"]

    def read(instrument, metric):
        return [
            (r.taken_at[:10], r.replicate, r.value)
            for r in rows
            if (r.instrument, r.metric) == (instrument, metric)
        ]

    assert read("Alder", "body_mass") == [
        *(("2026-03-02", k, v) for k, v in ((1, 71.4), (2, 71.5), (3, 71.6))),
        *(("2026-03-09", k, v) for k, v in ((1, 71.7), (2, 71.8), (3, 71.9))),
    ]
    assert read("Alder", "body_fat_percent")[-1] == ("2026-03-09", 3, None)
    assert read("Alder", "total_muscle_percent") == [
        ("2026-03-02", 1, 39.2),
        ("2026-03-09", 1, 39.2),
    ]
    assert read("Alder", "total_muscle_mass") == []
    assert read("Birch", "body_fat_percent")[:2] == [
        ("2026-03-02", 1, 21.8),
        ("2026-03-02", 2, 21.9),
    ]
    assert read("Birch", "fat_mass_arm_left")[0] == ("2026-03-02", 1, 1.0)
    assert read("DXA lab", "body_mass") == [("2026-03-02", 1, 71.3)]
    assert {r.kind for r in rows if r.instrument == "DXA lab"} == {"reference"}
    assert read("Skinfolds", "skinfold_triceps") == [
        ("2026-03-02", 1, 12.2),
        ("2026-03-02", 2, 12.6),
    ]
    assert read("Tape", "girth_thigh") == [("2026-03-02", 1, 55.5)]
    before = len(window.session.readings())
    previewed(qtbot, window, path)
    assert "mapped before" in page.under.text()
    assert page.take.isEnabled() is False
    click(qtbot, page.cancel)
    assert len(window.session.readings()) == before
    window.undo()
    assert window.session.readings() == []


def test_paste_and_stop(qtbot, window, tmp_path):
    """A table from the clipboard is previewed.

    A long reading can be stopped, and nothing is kept of it.
    """
    QApplication.clipboard().setText("ID\tDate\tFat %\nA\t2026-03-14\t20.5\n")
    with qtbot.waitSignal(window.importing.previewed):
        qtbot.keyClick(
            window,
            Qt.Key.Key_V,
            Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier,
        )
    assert window.importing.headline.text() == "the clipboard: 1 reading to import."
    head = "client,sex,age_years,height_cm,taken_at,instrument,kind,setting,metric,value,unit,replicate,status,note\n"
    rows = (
        f"A,,,,2026-01-01T{k // 3600:02}:{k // 60 % 60:02}:{k % 60:02},Fir,device,,body_mass,70,kg,1,ok,\n"
        for k in range(20_000)
    )
    (tmp_path / "long.csv").write_text(head + "".join(rows))
    window.import_file(tmp_path / "long.csv")
    qtbot.waitUntil(lambda: "rows…" in window.importing.headline.text())
    click(qtbot, window.importing.cancel)
    assert "reading was stopped" in window.importing.headline.text()
    previewed(qtbot, window, tmp_path / "long.csv")
    click(qtbot, window.importing.take)
    qtbot.waitUntil(lambda: window.session.writing)
    with qtbot.waitSignal(
        window.compare.shown
    ):  # what is shown meanwhile comes from what is committed
        window.go("compare")
    assert "being written" in window.compare.headline.text()
    window.go("import")
    click(qtbot, window.importing.cancel)
    assert "nothing was imported" in window.said
    assert window.session.readings() == []


def test_stated_values_reach_results(qtbot, window_on, demo):
    """A margin and a scan's precision typed in Plan are in the file and in the results.

    What is no number is refused and undone.
    """
    window = window_on(demo, at="plan")
    window.go("plan")
    window.plan.go("stated")
    tab = window.plan.tab("stated")

    def put(what, text):
        field = tab.fields["body_fat_percent", what]
        field.setFocus()
        field.selectAll()
        qtbot.keyClicks(field, text)
        qtbot.keyClick(field, Qt.Key.Key_Return)

    put("margin", "3,5")
    put("reference_sd", "0.6 pp")
    put("client_sd", "wide")
    assert "not a number" in window.said
    assert tab.fields["body_fat_percent", "client_sd"].text() == ""
    stated = Session.open(window.session.path, read_only=True)
    assert dict(stated.catalogue().stated) == {
        ("body_fat_percent", "margin"): 3.5,
        ("body_fat_percent", "reference_sd"): 0.6,
    }
    stated.close()
    shown(qtbot, window.compare, lambda: window.go("compare"))
    r = window.compare.results[0]
    assert (r.margin, r.reference_trend.reference.sd) == (3.5, 0.6)
    window.undo()
    window.undo()
    assert window.session.catalogue().stated["body_fat_percent", "reference_sd"] == 0.4
