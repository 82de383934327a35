"""The study's own protocol at the bench: repeats and what counts, sites, landmarks, settings, conditions, and what is not shown."""

from dataclasses import replace
from datetime import datetime, timedelta

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QLabel, QLineEdit, QTableView

from anchor_tally.analysis.agreement.agreement import CompareRequest
from anchor_tally.analysis.pairs.comparator import CannotCompare
from anchor_tally.analysis.pairs.computed_values import visit_inputs
from anchor_tally.app.session import Session
from anchor_tally.domain.lens import Lens
from anchor_tally.domain.records import Client, Instrument, Setting, StationChoice
from anchor_tally.domain.steps import finish
from anchor_tally.study.edits.clients import AddClient
from anchor_tally.study.edits.instruments import AddInstrument, OfferMetric, StartSetting
from anchor_tally.study.edits.protocol import (
    AddCondition,
    AskCondition,
    PutLandmark,
    PutStation,
    WantOfInstrument,
)
from anchor_tally.wording.notes import sentence
from driving import choose_client, kept, select, shown
from places import typed

ENTER = Qt.Key.Key_Return


@pytest.fixture
def window(window_on, tmp_path):
    """A study with one scale, and a woman whose history asks for care."""
    session = Session.new(tmp_path / "s.tally", "t")
    session.do(AddInstrument(Instrument(0, "Birch", "device", electrodes="eight", position=1)))
    for metric in ("body_fat_percent", "body_mass", "fat_mass_arm_left", "own_body_age"):
        session.do(OfferMetric(1, metric))
    session.do(
        AddClient(
            Client(0, "Wren", "female", birth="1994-05-17", cautions=frozenset({"eating_disorder"}))
        )
    )
    session.do(AddClient(Client(0, "Tern", "male", cycle=False)))
    opened = window_on(session)
    opened.go("record")
    yield opened
    opened.close()
    session.close()


def entry_row(window, metric, setting=None):
    """The row of a metric."""
    return next(
        x
        for x in window.record.entry_rows
        if x.metric == metric and setting in (None, x.plan.setting)
    )


def enter(cell, text):
    """Type into a cell and leave it by Enter."""
    cell.setFocus()
    QTest.keyClicks(cell, text)
    QTest.keyClick(cell, ENTER)


def seen(window):
    """Everything that can be read on the page and in the drawer."""
    texts = []
    for place in (window.record, window.drawer, window.footer):
        for w in place.findChildren(QLabel):
            texts += [w.text(), w.toolTip()] if w.isVisible() else []
        for w in place.findChildren(QLineEdit):
            if w.isVisible():
                texts.append(w.displayText())
        for w in place.findChildren(QTableView):
            model = w.model()
            if w.isVisible():
                texts += [
                    str(model.index(r, c).data())
                    for r in range(model.rowCount())
                    for c in range(model.columnCount())
                ]
    return "\n".join(texts)


def test_no_fat_number_is_shown_where_it_may_harm(qtbot, window):
    """A history of disordered eating: fat rows are put away, are typed unseen, and no station, drawer or message tells a number."""
    window.session.do(
        typed("Wren", "2026-03-02T07:00", "Birch", "device", "body_fat_percent", "31.7", "31.9")
    )
    window.session.do(
        typed("Wren", "2026-03-02T07:01", "Tape", "method", "girth_waist_navel", "81.3")
    )
    record = window.record
    choose_client(record, "Wren")
    assert "show no fat number" in record.caution.text()
    assert [x.metric for x in record.entry_rows] == ["body_mass", "own_body_age"]
    enter(entry_row(window, "body_mass").cells[0], "61.4")
    record.unseen.click()
    fat = entry_row(window, "body_fat_percent")
    enter(fat.cells[0], "33.3")
    assert fat.cells[0].displayText() == "●" * 4
    assert "1 saved, not shown" in fat.meaning.text()
    QTest.keyClicks(fat.cells[1], "61.4")
    QTest.keyClick(fat.cells[1], ENTER)
    assert record.grid.asked.text().startswith("This value differs")
    QTest.keyClick(fat.cells[1], Qt.Key.Key_Escape)
    fat.cells[0].setFocus()
    QTest.keyClick(fat.cells[0], Qt.Key.Key_F4)
    texts = [seen(window)]
    window.close_drawer()
    record.unseen.click()
    for station in ("girths", "skinfolds", "scan", "methods"):
        record.go_station(station)
        if station == "girths":
            for metric, value in (
                ("girth_waist_navel", "82"),
                ("girth_neck", "34"),
                ("girth_hip", "98"),
                ("girth_waist_narrowest", "74"),
            ):
                enter(entry_row(window, metric).cells[0], value)
        texts.append(seen(window))
    assert not record.tabs.buttons["visual"].isVisible()
    assert "Waist to hip ratio" in texts[1]
    for text in texts:
        for number in ("33.3", "31.7", "31.9", "31.8", "fat mass", "Relative fat", "Tape, metric"):
            assert number.lower() not in text.lower(), number
    assert [(r.metric, r.value) for r in kept(window) if r.metric == "body_fat_percent"][-1] == (
        "body_fat_percent",
        33.3,
    )


def test_repeats_sites_units_and_sides(qtbot, window):
    """Five repeats of which the last counts, a chosen set of girths typed in inches, no side on the neck, left beside right."""
    record, session = window.record, window.session
    choose_client(record, "Tern")
    record.go_station("girths")
    record.head.more.click()
    card = record.head.card
    for metric, box in card.boxes.items():
        if metric not in ("girth_neck", "girth_waist", "girth_thigh"):
            box.click()
    for combo, data in ((card.repeats, 5), (card.counts, "last"), (card.unit, "in")):
        combo.setCurrentIndex(combo.findData(data))
        combo.activated.emit(combo.currentIndex())
    assert session.catalogue().stations["girths"] == StationChoice(
        "girths", ("girth_neck", "girth_waist", "girth_thigh"), "", "in", 5, "last"
    )
    assert [(x.metric, len(x.cells)) for x in record.entry_rows] == [
        ("girth_neck", 5),
        ("girth_waist", 5),
        ("girth_thigh", 5),
    ]
    for cell, text in zip(
        entry_row(window, "girth_waist").cells, ("34 1/2", "34", "33½", "34", "33 3/8"), strict=True
    ):
        enter(cell, text)
    assert "last 84.8" in entry_row(window, "girth_waist").meaning.text()
    assert "of 5; the protocol uses the last one" in entry_row(window, "girth_waist").meaning.text()
    assert visit_inputs(session.person(2), record.visit)["girth_waist"] == pytest.approx(
        33.375 * 2.54
    )
    enter(entry_row(window, "girth_thigh").cells[0], "22")
    enter(entry_row(window, "girth_neck").cells[0], "15")
    record.head.setting.setCurrentIndex(record.head.setting.findText("left side"))
    enter(entry_row(window, "girth_thigh").cells[0], "21 1/2 in")
    assert "1.3 cm less than on the right side" in entry_row(window, "girth_thigh").meaning.text()
    rows = {(r.metric, r.setting, r.entered, r.unit) for r in kept(window) if r.replicate == 1}
    assert rows == {
        ("girth_waist", "", "34.5", "in"),
        ("girth_thigh", "right side", "22", "in"),
        ("girth_thigh", "left side", "21.5", "in"),
        ("girth_neck", "", "15", "in"),
    }
    session.do(PutStation(replace(session.catalogue().stations["girths"], counts="mean")))
    mean = np.mean([34.5, 34, 33.5, 34, 33.375]) * 2.54
    assert visit_inputs(session.person(2), record.visit)["girth_waist"] == pytest.approx(mean)


def test_landmarks_and_what_the_assessor_misses_by(qtbot, window):
    """A landmark of the study's own is kept with each reading; readings at another one are named.

    An unchecked assessor is too.
    """
    record, session = window.record, window.session
    choose_client(record, "Tern")
    record.assessor.setText("R. K.")
    record.assessor.editingFinished.emit()
    record.go_station("skinfolds")
    enter(entry_row(window, "skinfold_abdominal").cells[0], "12")
    session.do(PutLandmark("skinfold_abdominal", "5 cm beside the navel"))
    assert (
        "another landmark: the usual place"
        in entry_row(window, "skinfold_abdominal").meaning.text()
    )
    enter(entry_row(window, "skinfold_abdominal").cells[1], "12.4")
    assert [r.setting for r in kept(window)] == [
        "right side, spring calliper",
        "right side, spring calliper; 5 cm beside the navel",
    ]
    session.do(typed("Tern", "2026-03-02T07:30", "Lab scan", "reference", "sum_skinfolds_8", "80"))
    session.do(typed("Tern", "2026-03-02T07:00", "Skinfolds", "method", "skinfold_abdominal", "12"))
    for site in (
        "triceps",
        "subscapular",
        "biceps",
        "iliac_crest",
        "supraspinale",
        "thigh",
        "medial_calf",
    ):
        session.do(
            typed("Tern", "2026-03-02T07:00", "Skinfolds", "method", f"skinfold_{site}", "10")
        )
    result = finish(
        CompareRequest(
            session.snapshot("sum_skinfolds_8"), Lens("sum_skinfolds_8"), "sum_skinfolds_8"
        ).run()
    )
    assert "abdominal skinfold (5 cm beside the navel, the usual place)" in sentence(
        result.notes[0]
    )
    entry_row(window, "skinfold_abdominal").cells[2].setFocus()
    assert "This study: 5 cm beside the navel" in record.guide.where.text()
    assert "R. K. has not been checked at this site" in record.guide.how.text()


def test_two_settings_a_remark_and_a_file(qtbot, window, tmp_path):
    """Both settings of one scale in one visit, each in its own rows; a remark excludes nothing.

    A file stays out of exports.
    """
    record, session = window.record, window.session
    session.do(StartSetting(Setting(0, 1, "standard", "2026-01-01")))
    choose_client(record, "Tern")
    enter(entry_row(window, "body_fat_percent").cells[0], "18.4")
    entry_row(window, "body_fat_percent").cells[0].setFocus()
    QTest.keyClick(entry_row(window, "body_fat_percent").cells[0], Qt.Key.Key_F8)
    record.adder.other.setEditText("athlete")
    QTest.keyClick(record.adder.other.lineEdit(), ENTER)
    enter(entry_row(window, "body_fat_percent", "athlete").cells[0], "15.1")
    enter(entry_row(window, "own_body_age", "athlete").cells[0], "34")
    record.notes.remark.setText("slept badly")
    record.notes.remark.editingFinished.emit()
    photo = tmp_path / "display.png"
    photo.write_bytes(b"picture")
    record.notes.attach(photo)
    assert record.notes.said.text() == "1 file: display.png"
    entry_row(window, "body_fat_percent", "standard").cells[0].setFocus()
    QTest.keyClick(entry_row(window, "body_fat_percent", "standard").cells[0], Qt.Key.Key_F4)
    window.drawer.reason.setText("display flickered")
    window.drawer.remark.click()
    rows = [(r.metric, r.setting, r.value, r.status, r.note) for r in kept(window)]
    assert rows == [
        ("body_fat_percent", "standard", 18.4, "ok", "display flickered"),
        ("body_fat_percent", "athlete", 15.1, "ok", ""),
        ("own_body_age", "athlete", 34.0, "ok", ""),
    ]
    other = Session.open(session.path, read_only=True)
    assert other.visit_note(record.visit).notes == "slept badly"
    assert [f.path for f in other.attachments(record.visit)] == [str(photo)]
    other.close()
    with pytest.raises(CannotCompare, match="one device only"):
        finish(
            CompareRequest(session.snapshot("own_body_age"), Lens("own_body_age"), "Birch").run()
        )
    window.undo()  # the remark
    window.undo()  # the file
    assert session.attachments(record.visit) == []


def test_own_conditions_hours_and_what_one_scale_wants(qtbot, window):
    """Own conditions and hours are noted and judged; one scale wants more than the study.

    The cycle is asked where switched on.
    """
    record, session = window.record, window.session
    window.go("plan")
    window.plan.go("protocol")
    tab = window.plan.tab("protocol")
    tab.question.setText("Sauna the day before")
    tab.breach.setText("water is low")
    tab.own_wanted.setCurrentText("no")
    QTest.keyClick(tab.question, ENTER)
    tab.boxes["hours_awake"].click()
    tab.whose.setCurrentIndex(tab.whose.findText("Birch"))
    tab.whose.activated.emit(1)
    tab.wanted["hours_awake"].setCurrentIndex(tab.wanted["hours_awake"].findData("3"))
    tab.wanted["hours_awake"].activated.emit(0)
    assert session.catalogue().wanted_by == {(1, "hours_awake"): "3"}
    window.go("record")
    choose_client(record, "Tern")
    labels = [s.condition.key for s in record.conditions.switches]
    assert "own_sauna_the_day_before" in labels
    assert "menstruation_week" not in labels
    record.conditions.hours[0].setText("2 h")
    record.conditions.hours[0].editingFinished.emit()
    switch = next(s for s in record.conditions.switches if s.condition.key.startswith("own_"))
    switch.click()
    assert record.conditions.breach.isHidden()
    switch = next(s for s in record.conditions.switches if s.condition.key.startswith("own_"))
    switch.click()
    assert "water is low" in record.conditions.breach.text()
    enter(entry_row(window, "body_fat_percent").cells[0], "18.4")
    assert (
        "Birch requires hours awake 3 or more"
        in entry_row(window, "body_fat_percent").meaning.text()
    )
    session.do(AskCondition("own_sauna_the_day_before", False))
    client = session.catalogue().client_coded("Tern")
    window.go("plan")
    window.plan.go("clients")
    cards = window.plan.tab("clients")
    cards.select(client.id)
    cards.cycle.click()
    window.go("record")
    assert "menstruation_week" in [s.condition.key for s in record.conditions.switches]
    for edit in (
        AddCondition("!", "x"),
        AskCondition("nothing", True),
        WantOfInstrument(1, "fasted", "maybe"),
    ):
        with pytest.raises(Exception, match="nothing was changed"):
            session.do(edit)


def test_a_study_without_any_scan(qtbot, window_on, tmp_path):
    """From day one without a scan: the consensus stands in, marked everywhere, what is planted is found, and no offset is offered."""
    session, rng = Session.new(tmp_path / "n.tally", "t"), np.random.default_rng(4)
    for client in range(6):
        for week in range(4):
            at = datetime(2026, 10, 1, 7) + timedelta(weeks=week)
            for name, bias in (("Alder", 2.0), ("Birch", -1.0), ("Cedar", 0.5)):
                values = [
                    f"{22 + client + bias + 0.3 * rng.standard_normal():.1f}" for _ in range(3)
                ]
                session.do(
                    typed(f"P{client}", at.isoformat(), name, "device", "body_fat_percent", *values)
                )
    window = window_on(session)
    window.go("compare")
    qtbot.waitUntil(window.compare.substitute.isVisible)
    assert "no device can be called right" in window.compare.under.text()
    shown(qtbot, window.compare, window.compare.substitute.click)
    found = {r.pairs.instrument.name: r for r in window.compare.results}
    c = session.snapshot().columns["body_fat_percent"]
    means = {
        i.name: c.value[c.instrument == i.id].mean()
        for i in session.catalogue().instruments.values()
    }
    for name, r in found.items():
        others = np.mean([m for n, m in means.items() if n != name])
        assert r.bias.value == pytest.approx(means[name] - others, abs=1e-9)
        assert "not a reference" in r.pairs.compared_with
    assert window.compare.headline.text().startswith("Alder reads 2.")
    assert "the difference includes the errors of both" in window.compare.notes.text()
    select(window.compare.table, 0)
    window.compare._choose_point(0)
    assert "Consensus, not a reference" in window.drawer.values.text()
    assert window.drawer.table.count > 6  # the readings that the consensus was made of
    shown(qtbot, window.calibrate, lambda: window.go("calibrate"))
    assert "Consensus is not one" in window.calibrate.headline.text()
    assert not window.calibrate.adopt.isEnabled()
    window.close()
    session.close()
