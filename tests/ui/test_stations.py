"""Further stations of the bench, a study that may only be read, and tables dropped on the window."""

import os
import shutil
from dataclasses import replace

import openpyxl
import pytest
from PyQt6.QtCore import QMimeData, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent

from anchor_tally.analysis.pairs.computed_values import visit_inputs
from anchor_tally.app.session import Session
from anchor_tally.domain.records import Client, Instrument
from anchor_tally.domain.units import Quantity
from anchor_tally.study import open_file
from anchor_tally.study.edits.clients import AddClient, AddHeight, PutClient
from anchor_tally.study.edits.instruments import AddInstrument
from driving import choose_client
from places import DATA


@pytest.fixture
def window(window_on, tmp_path):
    """A study with one client whose sex, birth and height are known."""
    session = Session.new(tmp_path / "s.tally", "t")
    session.do(AddClient(Client(0, "Wren", "male", birth="1996")))
    session.do(AddHeight(1, "2026-01-01", Quantity(180.0, "180", "cm")))
    opened = window_on(session)
    opened.go("record")
    choose_client(opened.record, "Wren")
    yield opened
    opened.close()
    session.close()


def enter(qtbot, cell, text):
    """Type into a cell and press Enter."""
    qtbot.keyClicks(cell, text)
    qtbot.keyClick(cell, Qt.Key.Key_Return)


def results(window):
    """Results of the equations beside the station."""
    t = window.record.guide.results
    return {t.text(k, 0).splitlines()[0]: (t.text(k, 1), t.text(k, 0)) for k in range(t.count)}


def entry_row(window, metric):
    """The row of a metric."""
    return next(x for x in window.record.entry_rows if x.metric == metric)


def test_methods_take_the_mean_of_repeats_unrounded(qtbot, window):
    """12 and 12.5 mm are shown as 12.3 and computed as 12.25 at both stations."""
    record = window.record
    record.go_station("skinfolds")
    cells = entry_row(window, "skinfold_triceps").cells
    for cell, text in zip(cells, ("12", "12.5"), strict=False):
        enter(qtbot, cell, text)
    assert entry_row(window, "skinfold_triceps").meaning.text() == "mean 12.3"
    record.go_station("methods")
    fields = record.methods.fields
    assert fields["skinfold_triceps"].text() == "12.25"
    window.resize(1024, 700)
    for field in (fields["sex"], fields["height"], fields["skinfold_triceps"]):
        qtbot.waitUntil(lambda field=field: field.width() > 20)
        assert field.fontMetrics().horizontalAdvance(field.text()) < field.width() - 12


def test_methods_show_no_fat_to_a_client_who_is_shown_none(window):
    """Nothing is left of the equations for fat, in either theme."""
    client = window.session.catalogue().client_coded("Wren")
    window.session.do(PutClient(replace(client, cautions=frozenset({"eating_disorder"}))))
    window.record.go_station("methods")
    methods = window.record.methods
    assert methods.table.count > 0
    methods.output.setCurrentIndex(methods.output.findData("body_fat_percent"))
    methods.output.activated.emit(methods.output.currentIndex())
    window.act("dark")
    assert (methods.table.count, methods.vector) == (0, None)


def test_impedance_at_several_frequencies(qtbot, window):
    """Ohms at 50 kHz feed the equations while they are typed.

    A further frequency has rows of its own.
    """
    record = window.record
    window.go("record")
    record.go_station("devices")
    for text in ("Platform",):
        qtbot.keyClicks(record.new_instrument, text)
        record.new_metric.setCurrentIndex(record.new_metric.findData("body_mass"))
        qtbot.keyClick(record.new_instrument, Qt.Key.Key_Return)
    record.safety.buttons["none"].click()
    enter(qtbot, record.entry_rows[0].cells[0], "80")
    record.go_station("impedance")
    record.head.frequency.setCurrentIndex(record.head.frequency.findData(250))
    assert [x.metric for x in record.entry_rows][2:] == ["resistance_250khz", "reactance_250khz"]
    qtbot.keyClicks(record.entry_rows[0].cells[0], "500")
    assert results(window)["Impedance index"][0] == "64.8 cm²/ohm"  # 180²/500, before Enter
    qtbot.keyClick(record.entry_rows[0].cells[0], Qt.Key.Key_Return)
    assert "needs reactance 50 kHz" in results(window)["Phase angle"][1]
    enter(qtbot, record.entry_rows[1].cells[0], "60")
    assert results(window)["Phase angle"][0] == "6.8 deg"
    enter(qtbot, entry_row(window, "reactance_250khz").cells[0], "45,5 ohm")
    kept = {r.metric: (r.value, r.setting) for r in window.session.readings()}
    assert kept["reactance_250khz"] == (45.5, "right hand to foot")
    record.head.frequency.setCurrentIndex(record.head.frequency.findData(0))  # five segments
    segments = [x.metric for x in record.entry_rows if x.metric.count("_") > 1]
    assert len(segments) == 2 * 5  # at 50 and 250 kHz
    assert all(m.startswith("resistance_") and m.endswith(("50khz", "250khz")) for m in segments)


def test_underwater_and_by_eye(qtbot, window):
    """Without a residual volume the estimated form answers.

    A range by eye the wrong way round gives no number.
    """
    record = window.record
    window.session.do(AddInstrument(Instrument(0, "Platform", "device", electrodes="none")))
    record.add_row("Platform", "device", "body_mass")
    enter(qtbot, entry_row(window, "body_mass").cells[0], "80 kg")
    record.go_station("underwater")
    enter(qtbot, entry_row(window, "mass_in_water").cells[0], "4")
    enter(qtbot, entry_row(window, "water_temperature").cells[0], "30")
    assert record.entry_rows[0].plan.rule.repeats == 3
    assert record.entry_rows[1].plan.rule.repeats == 1
    found = results(window)
    assert found["Underwater weighing, residual volume estimated"][0].endswith("%")
    assert "residual volume estimated as 1.9" in found["Underwater weighing"][1]
    enter(qtbot, entry_row(window, "residual_volume").cells[0], "1,2 L")
    assert "estimated" not in results(window)["Underwater weighing"][1]
    record.go_station("visual")
    enter(qtbot, record.entry_rows[0].cells[0], "18")
    enter(qtbot, record.entry_rows[1].cells[0], "14")
    assert "do not belong to one body" in results(window)["Visual estimate, middle of the range"][1]
    record.entry_rows[1].cells[0].setText("")
    enter(qtbot, record.entry_rows[1].cells[0], "22")
    assert results(window)["Visual estimate, middle of the range"][0] == "20.0 %"


def test_second_scan_of_the_day_and_a_side(qtbot, window):
    """Two scans of one visit under machine and software.

    The left side never mixes with the right.
    """
    record = window.record
    record.go_station("scan")
    record.head.setting.setEditText("machine A, software 2")
    record.head.changed.emit()
    for cell, text in zip(
        entry_row(window, "body_fat_percent").cells, ("18.0", "18.4"), strict=False
    ):
        enter(qtbot, cell, text)
    record.go_station("skinfolds")
    enter(qtbot, record.entry_rows[0].cells[0], "9")
    record.head.setting.setCurrentIndex(record.head.setting.findText("left side, spring calliper"))
    assert record.entry_rows[0].cells[0].text() == ""
    enter(qtbot, record.entry_rows[0].cells[0], "10")
    visit = record.visit
    assert (
        visit_inputs(window.session.person(1), visit)["skinfold_triceps"] == 9
    )  # the side that was begun with
    rows = [(r.metric, r.entered, r.setting, r.replicate) for r in window.session.readings()]
    assert rows == [
        ("body_fat_percent", "18.0", "machine A, software 2", 1),
        ("body_fat_percent", "18.4", "machine A, software 2", 2),
        ("skinfold_triceps", "9", "right side, spring calliper", 1),
        ("skinfold_triceps", "10", "left side, spring calliper", 1),
    ]


def test_read_only_study_says_so(qtbot, window_on, tmp_path, monkeypatch):
    """In a study that may only be read, every card and switch refuses in a sentence and nothing breaks."""
    shutil.copy(DATA / f"study_schema_{open_file.SCHEMA_VERSION}.tally", tmp_path / "r.tally")
    monkeypatch.setattr(os, "access", lambda p, mode: mode != os.W_OK)
    session = Session.open(tmp_path / "r.tally")
    window = window_on(session)
    assert "read only" in window.footer.place.text()
    window.go("record")
    choose_client(window.record, "A")
    window.record.conditions.note_all()
    assert "cannot be written" in window.record.trouble.text()
    window.go("plan")
    page = window.plan.tabs["clients"]
    page.fields["birth"].setText("1990")
    qtbot.keyClick(page.fields["birth"], Qt.Key.Key_Return)
    assert "cannot be written" in page.trouble.text()
    window.plan.go("protocol")
    qtbot.keyClick(window.plan.tabs["protocol"].boxes["morning"], Qt.Key.Key_Space)
    assert "cannot be written" in window.said
    window.close()
    session.close()


def test_workbook_dropped_on_the_window(qtbot, window, tmp_path, monkeypatch):
    """A dropped XLSX is previewed like any table."""
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path))
    book = openpyxl.Workbook()
    book.active.append(["Client", "Date", "Fir fat (%)"])
    book.active.append(["Wren", "2026-03-02", 20.5])
    book.save(tmp_path / "t.xlsx")
    mime = QMimeData()
    mime.setUrls([QUrl.fromLocalFile(str(tmp_path / "t.xlsx"))])
    buttons, keys = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    with qtbot.waitSignal(window.importing.previewed):
        window.dropEvent(QDropEvent(QPointF(5, 5), Qt.DropAction.CopyAction, mime, buttons, keys))
    assert window.importing.headline.text() == "t.xlsx: 1 reading to import."
    with qtbot.waitSignal(window.importing.wanted):
        qtbot.mouseClick(window.importing.take, Qt.MouseButton.LeftButton)
    assert [(r.client, r.instrument, r.entered) for r in window.session.readings()] == [
        ("Wren", "Fir", "20.5")
    ]
