"""The bench, driven by keys: a whole visit, third repeats, cautions, conditions, a device that sends, a watched folder."""

import itertools
from dataclasses import replace
from datetime import datetime, timedelta

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QScrollArea

from anchor_tally.analysis.time.best_estimate import BestEstimateRequest
from anchor_tally.app.bench import Standing
from anchor_tally.app.session import Session
from anchor_tally.domain.lens import Lens
from anchor_tally.domain.records import Client, Instrument, Setting, VisitNote
from anchor_tally.domain.steps import finish
from anchor_tally.feeds.laboratory import drop_file, scan_rows
from anchor_tally.feeds.measurement_filter import NoValue, Shown, Taken
from anchor_tally.feeds.scale import Person
from anchor_tally.study.edits.clients import AddClient, PutClient, PutStudy
from anchor_tally.study.edits.instruments import (
    AddInstrument,
    OfferMetric,
    PutInstrument,
    StartSetting,
)
from anchor_tally.study.edits.protocol import AskCondition
from anchor_tally.ui.tab_order import fields_in_order
from driving import choose_client, kept
from places import typed

CTRL = Qt.KeyboardModifier.ControlModifier
DEVICES = ("Ash", "Beech", "Elm", "Fir", "Oak")


@pytest.fixture
def bench(window_on, tmp_path):
    """A study with five scales that offer body fat, and its window at Record."""
    session = Session.new(tmp_path / "s.tally", "t")
    for k, name in enumerate(DEVICES, start=1):
        session.do(AddInstrument(Instrument(0, name, "device", electrodes="feet", position=k)))
        session.do(OfferMetric(k, "body_fat_percent", 0.1))
    window = window_on(session)
    yield window
    window.close()
    session.close()


def type_and_enter(*texts):
    """Type each text where the focus is, and Enter."""
    for text in texts:
        QTest.keyClicks(QApplication.focusWidget(), text)
        QTest.keyClick(QApplication.focusWidget(), Qt.Key.Key_Return)


def press(window, key, modifier=Qt.KeyboardModifier.NoModifier):
    """Press a key wherever the focus is."""
    QTest.keyClick(QApplication.focusWidget() or window, key, modifier)


def begin(window, client="Wren"):
    """Go to the client's field by its key and name a client."""
    window.activateWindow()
    press(window, Qt.Key.Key_2, CTRL)
    press(window, Qt.Key.Key_L, Qt.KeyboardModifier.AltModifier)
    press(window, Qt.Key.Key_A, CTRL)
    type_and_enter(client)
    if window.session.catalogue().client_coded(client) is None:
        assert "No client has the code" in window.record.trouble.text()
        type_and_enter("")
    if window.record.safety.isVisible():
        QTest.keyClick(QApplication.focusWidget(), Qt.Key.Key_N)


def test_a_visit_in_the_future_is_told(qtbot, bench):
    """A date that is ahead of the clock is named as it is typed, with its distance; one of today is not."""
    begin(bench)
    bar, now = bench.record.bar, bench.session.now()
    for days, told in ((0, ""), (90, "is 90 days in the future. Check the date.")):
        bar.when.setFocus()
        bar.when.selectAll()
        text = f"{now + timedelta(days=days):%Y-%m-%d %H:%M}"
        said = []
        bar.message.connect(lambda words, _trouble, said=said: said.append(words))
        QTest.keyClicks(bar.when, text)
        QTest.keyClick(bar.when, Qt.Key.Key_Return)
        assert said == ([f"{text} {told}"] if told else [])


def test_whole_visit_by_keyboard(bench):
    """Five devices, eight skinfolds, five girths and a scan by keys alone.

    Every value in the file with its unit.
    """
    window = bench
    begin(window)
    assert window.record.tabs.buttons["skinfolds"].isHidden()  # the study has not used them yet
    window.record.tabs.others.click()
    press(window, Qt.Key.Key_F7)
    assert [s.text()[0] for s in window.record.conditions.switches] == ["✓"] * 8
    press(window, Qt.Key.Key_L, Qt.KeyboardModifier.AltModifier)
    type_and_enter("")
    fat = [f"{18 + k / 10:.1f}".replace(".", ",") for k in range(15)]
    type_and_enter(*fat)
    assert "complete" in window.said

    press(window, Qt.Key.Key_PageDown, CTRL)
    press(window, Qt.Key.Key_I, Qt.KeyboardModifier.AltModifier)
    press(window, Qt.Key.Key_8)
    assert len(window.record.entry_rows) == 8
    window.record.grid.focus_next(None)
    first, second = (
        ["6", "9", "3", "12", "8", "12", "10", "6"],
        ["6.4", "9.2", "3", "14.5", "8", "12.2", "10", "6"],
    )
    type_and_enter(*first, *second)
    focused = QApplication.focusWidget()
    assert (focused.entry_row.label, focused.replicate) == ("Iliac crest skinfold", 3)
    assert "take a third" in focused.entry_row.meaning.text()
    type_and_enter("12.6")
    results = window.record.guide.results
    shown = {results.text(k, 0).splitlines()[0]: results.text(k, 1) for k in range(results.count)}
    assert shown["Sum of eight skinfolds"] == "67.0 mm"
    assert "median 12.6" in focused.entry_row.meaning.text()

    press(window, Qt.Key.Key_PageDown, CTRL)
    type_and_enter("38", "95 cm", "30 cm", "33,5", "34in")
    for _ in range(4):
        press(window, Qt.Key.Key_PageDown, CTRL)
    assert window.record.station == "scan"
    assert "Scans use X-rays" in window.record.caution.text()
    type_and_enter("16.9", "12100 g", "55.2", "2.9", "71.5", "16.2")

    rows = kept(window)
    assert {(r.client, r.visit, r.status) for r in rows} == {("Wren", rows[0].visit, "ok")}
    devices = [(r.instrument, r.replicate, r.entered, r.unit) for r in rows if r.kind == "device"]
    wanted = [
        (name, rep, f"{18 + (3 * k + rep - 1) / 10:.1f}", "percent")
        for k, name in enumerate(DEVICES)
        for rep in (1, 2, 3)
    ]
    assert sorted(devices) == sorted(wanted)
    folds = {
        (r.metric, r.replicate): (r.entered, r.unit, r.setting)
        for r in rows
        if r.metric.startswith("skinfold_")
    }
    assert len(folds) == 17
    assert folds["skinfold_iliac_crest", 3] == ("12.6", "mm", "right side, spring calliper")
    assert [r.entered for r in rows if r.metric.startswith("girth_")] == [
        "38",
        "95",
        "30",
        "33.5",
        "34",
    ]
    assert [r.unit for r in rows if r.metric.startswith("girth_")][-1] == "in"
    assert next(r.value for r in rows if r.unit == "in") == pytest.approx(34 * 2.54)
    scan = {r.metric: (r.entered, r.unit, r.value) for r in rows if r.kind == "reference"}
    assert len(scan) == 6
    assert scan["fat_mass"] == ("12100", "g", pytest.approx(12.1))
    assert scan["body_fat_percent_subtotal"][0] == "16.2"
    assert len(rows) == 15 + 17 + 5 + 6
    visit = rows[0].visit
    assert set(window.session.visit_note(visit).conditions.values()) == {"yes", "no"}


def test_cautions_lock_and_stay(bench):
    """An implant forbids impedance devices: the cells are shut and the caution stays.

    Agreement opens them and still shows.
    """
    window, session = bench, bench.session
    session.do(AddClient(Client(0, "Wren", cautions=frozenset({"implant"}))))
    begin(window)
    record = window.record
    assert "Implanted electronics" in record.caution.text()
    assert record.caution.isVisible()
    assert not any(c.isEnabled() for entry_row in record.entry_rows for c in entry_row.cells)
    assert record.take_tally(
        Standing(record.bar.place, "Ash"), [("body_fat_percent", "20 percent")], "", simulated=False
    ).startswith("Not saved from Ash")
    record.go_station("skinfolds")
    assert record.caution.isVisible()
    assert record.entry_rows[0].cells[0].isEnabled()
    session.do(PutClient(Client(1, "Wren", cautions=frozenset({"implant", "implant_cleared"}))))
    record.go_station("devices")
    assert all(c.isEnabled() for entry_row in record.entry_rows for c in entry_row.cells)
    assert "agreement is noted" in record.caution.text()
    assert kept(window) == []


def test_a_condition_that_is_no_longer_asked_leaves_the_bench(bench, qtbot):
    """The switches of the protocol before are gone, those of the new one stand there once."""
    window, bar = bench, bench.record.conditions
    begin(window)
    before = [s.condition.key for s in bar.switches]
    window.session.do(AskCondition(before[0], asked=False))
    qtbot.waitUntil(lambda: [s.condition.key for s in bar.switches] == before[1:])

    def shown():
        return [b for b in bar.findChildren(type(bar.switches[0])) if b.isVisible()]

    qtbot.waitUntil(lambda: len(shown()) == len(before) - 1)
    assert bar.all.isVisible()


def test_conditions_are_kept_only_when_answered(bench, qtbot):
    """A switch is open, then as wanted, then broken with what that means; undo goes back."""
    window, record = bench, bench.record
    begin(window)
    fasted = next(s for s in record.conditions.switches if s.condition.key == "fasted")
    assert fasted.text().startswith("?")
    qtbot.mouseClick(fasted, Qt.MouseButton.LeftButton)
    assert fasted.text().startswith("✓")
    assert window.session.visit_note(record.visit).conditions == {"fasted": "yes"}
    qtbot.keyClick(fasted, Qt.Key.Key_Space)
    assert "food and drink shift impedance" in record.conditions.breach.text()
    qtbot.keyClicks(record.assessor, "R. K.")
    qtbot.keyClick(record.assessor, Qt.Key.Key_Return)
    assert window.session.visit_note(record.visit) == VisitNote({"fasted": "no"}, "R. K.")
    for _ in range(3):
        window.undo()
    assert fasted.text().startswith("?")
    assert window.session.visits_of("Wren") == []


def test_device_sends_readings(bench, qtbot):
    """Half lines, a broken connection and a failure: only what settled is taken, each as one edit."""
    window, live = bench, bench.record.live
    begin(window)
    got = []
    live.taken.connect(got.append)
    live.instrument.setEditText("Ash")
    live.simulator.start(
        [
            "--profile",
            "feet",
            "--auto",
            "40",
            "--speed",
            "15",
            "--seed",
            "8",
            "--trouble",
            "half,drop",
        ]
    )
    qtbot.waitUntil(lambda: len(got) >= 2, timeout=60_000)
    live.stop()
    taken = [x for x in got if isinstance(x, Taken)]
    rows = [r for r in kept(window) if r.instrument == "Ash"]
    assert taken
    assert all(
        isinstance(x, Taken | NoValue) and x.tally > 1 for x in got
    )  # the first one broke off
    sent = {m: text for m, text, _ in taken[0].values}
    assert next(r.entered for r in rows if r.metric == "body_mass") == sent["body_mass"]
    assert len({r.metric for r in rows}) == 3
    before = len(rows)
    window.undo()
    last = 1 if isinstance(got[min(len(got), 3) - 1], NoValue) else 3
    assert len(kept(window)) == before - last


def test_a_sent_reading_waits_until_the_client_was_asked(bench):
    """A device's reading of somebody who was never asked is not saved; after the answer it is."""
    record = bench.record
    record.client.setEditText("Wren")
    for _ in range(2):
        record.bar.choose_client()
    standing = Standing(record.place(), "Ash")
    sent = (("body_fat_percent", "21.4 percent"),)
    assert "Ask about implanted electronics and pregnancy first" in record.take_tally(
        standing, sent, "", simulated=False
    )
    assert kept(bench) == []
    record.safety.buttons["none"].click()
    assert record.take_tally(standing, sent, "", simulated=False) == ""
    assert [r.value for r in kept(bench)] == [21.4]


def test_unsettled_is_never_taken(bench, qtbot):
    """A device that never settles gives nothing, and states why."""
    window, live = bench, bench.record.live
    begin(window)
    live.instrument.setEditText("Ash")
    live.simulator.start(
        [
            "--profile",
            "eight",
            "--auto",
            "40",
            "--speed",
            "20",
            "--seed",
            "1",
            "--trouble",
            "unsettled,nonsense",
        ]
    )
    qtbot.waitUntil(lambda: "did not settle" in window.said, timeout=60_000)
    live.stop()
    assert [r for r in kept(window) if r.status == "ok"] == []


def test_a_reading_belongs_to_what_was_chosen_on_stepping_on(bench, qtbot):
    """Device, setting, client and time are those of the moment at which the person steps on, whatever is chosen until it ends."""
    window, live = bench, bench.record.live
    begin(window)
    item = window.session.catalogue().instrument_named("Ash")
    assert item is not None
    window.session.do(StartSetting(Setting(0, item.id, "athlete", "2026-01-01", None)))
    live.instrument.setEditText("Ash")
    live._event(Shown(71.0, False))
    live.instrument.setEditText("Elm")
    choose_client(window.record, "Knot")
    live._event(Shown(71.2, True))
    live._event(Taken(1, (("body_fat_percent", "21.4", "percent"), ("body_mass", "71.2", "kg"))))
    rows = [(r.client, r.instrument, r.setting, r.metric, r.value) for r in kept(window)]
    assert rows == [
        ("Wren", "Ash", "athlete", "body_fat_percent", 21.4),
        ("Wren", "Ash", "athlete", "body_mass", 71.2),
    ]


def test_watched_folder_offers_a_scan(bench, qtbot, tmp_path):
    """A result file is offered when it is whole; it is imported only after it was looked at."""
    window, live = bench, bench.record.live
    folder = tmp_path / "lab"
    folder.mkdir()
    window.go("record")
    window.record.go_station("scan")
    live.watch_folder(folder)
    drop_file(
        folder,
        scan_rows("Wren", "2026-03-02T08:00", Person(72, 18), setting="machine A", scan=1, seed=1),
        "scan-1",
    )
    qtbot.waitUntil(lambda: not live.look_at.isHidden(), timeout=60_000)
    assert kept(window) == []
    with qtbot.waitSignal(window.importing.previewed, timeout=60_000):
        qtbot.mouseClick(live.look_at, Qt.MouseButton.LeftButton)
    with qtbot.waitSignal(window.importing.wanted, timeout=60_000):
        qtbot.mouseClick(window.importing.take, Qt.MouseButton.LeftButton)
    rows = kept(window)
    assert len(rows) == 16
    assert {(r.kind, r.setting) for r in rows} == {("reference", "machine A")}
    live.stop()


def test_check_weight_and_methods_bench(bench, qtbot):
    """A check weight keeps its unit.

    The methods bench follows typing and tells what a centimetre does.
    """
    window, record = bench, bench.record
    window.go("record")
    record.go_station("check")
    type_and_enter("20 kg", "44,3 lb")
    assert window.session.check_weights()[0].shown_kg == pytest.approx(44.3 * 0.45359237)
    assert record.check.table.text(0, 4) == "+0.09"
    record.go_station("methods")
    m = record.methods
    m.only.setCurrentIndex(m.only.findData("tape_hodgdon_beckett_1984_inch"))
    m.only.activated.emit(m.only.currentIndex())
    for key, text in (
        ("sex", "male"),
        ("height", "70in"),
        ("girth_neck", "15in"),
        ("girth_waist_navel", "34in"),
    ):
        qtbot.keyClicks(m.fields[key], text)
    assert m.title.text().startswith("Tape, inch form")
    assert m.table.text(m.table.row, 1) == "17.5 %"
    errors = {m.errors.text(k, 0): m.errors.text(k, 1) for k in range(m.errors.count)}
    assert errors["1 cm more of waist girth at navel"] == "+0.77 pp"
    assert m.vector is None
    m.only.setCurrentIndex(m.only.findData("impedance_vector_piccoli_1995"))
    m.only.activated.emit(m.only.currentIndex())
    for key, text in (("resistance_50khz", "480"), ("reactance_50khz", "55")):
        qtbot.keyClicks(m.fields[key], text)
    m.vector.draw()  # 70 in: the point stands at 480/1.778 and 55/1.778 ohm/m
    marks = [tuple(x.get_xydata()[0].round(1)) for x in m.vector.axes.lines[-2:]]
    assert marks == [(298.6, 30.8), (270.0, 30.9)]
    qtbot.keyClicks(m.fields["age_years"], "nine")
    assert "not a number" in m.refused.text()


@pytest.fixture
def scale(window_on, tmp_path):
    """A scale that shows three values, and a client who was measured a week ago."""
    session = Session.new(tmp_path / "d.tally", "t")
    session.do(AddInstrument(Instrument(0, "Fir", "device", electrodes="feet")))
    for metric in ("body_mass", "body_fat_percent", "total_body_water_percent"):
        session.do(OfferMetric(1, metric, 0.1))
    week_ago = (datetime.now() - timedelta(days=7)).strftime("%Y-%m-%dT%H:%M")
    for metric, value in (
        ("body_mass", "68.2"),
        ("body_fat_percent", "19.0"),
        ("total_body_water_percent", "58.1"),
    ):
        session.do(typed("Wren", week_ago, "Fir", "device", metric, value))
    session.do(
        PutClient(
            Client(1, "Wren", name="Jenny W.", cautions=frozenset({"implant_cleared", "implant"}))
        )
    )
    window = window_on(session)
    yield window
    window.close()
    session.close()


def test_nobody_is_chosen_and_a_new_code_is_asked_about(scale):
    """The right person: nobody is preselected, a name finds the code, a code that nobody has waits for a second Enter."""
    record = scale.record
    press(scale, Qt.Key.Key_2, CTRL)
    assert record.who() == ""
    assert "Choose a client" in record.headline.text()
    record.entry_rows[0].cells[0].setFocus()
    type_and_enter("68.1")
    assert "Choose or type a client's code" in record.trouble.text()
    record.refresh()
    record.client.lineEdit().setFocus()
    press(scale, Qt.Key.Key_A, CTRL)
    type_and_enter("Wrem")
    assert 'No client has the code "Wrem"' in record.trouble.text()
    record.entry_rows[0].cells[0].setFocus()
    press(scale, Qt.Key.Key_A, CTRL)
    record.client.lineEdit().setFocus()
    press(scale, Qt.Key.Key_A, CTRL)
    type_and_enter("jenny w.")
    assert record.who() == "Wren"
    assert "Implanted electronics" in record.caution.text()
    assert "Last visit" in record.headline.text()
    assert [c.code for c in scale.session.catalogue().clients.values()] == ["Wren"]


def test_odd_values_are_asked_about_before_they_are_kept(scale):
    """684 for 68.4, pounds, swapped digits, the mass in the fat row, a repeat far off: named at once, one key settles it."""
    begin(scale)
    record, session = scale.record, scale.session
    visit = [r.id for r in kept(scale)]
    entry_rows = {entry_row.metric: entry_row for entry_row in record.entry_rows}
    assert "last 68.2" in entry_rows["body_mass"].tag.text()

    def told():
        return [(r.metric, r.entered, r.unit) for r in kept(scale) if r.id not in visit]

    entry_rows["body_mass"].cells[0].setFocus()
    type_and_enter("684")
    assert "differs from the last visit (68.2 kg)" in record.grid.asked.text()
    assert "C: change to 68.4" in record.grid.asked.text()
    assert told() == []
    press(scale, Qt.Key.Key_C)
    assert told() == [("body_mass", "68.4", "kg")]
    assert (
        scale.focusWidget() is entry_rows["body_fat_percent"].cells[0]
    )  # the next one, as by Enter
    entry_rows["body_fat_percent"].cells[0].setFocus()
    type_and_enter("68.4")
    assert "looks like the body mass" in record.grid.asked.text()
    press(scale, Qt.Key.Key_A, CTRL)
    type_and_enter("19.4")
    assert record.grid.asked.isHidden()
    entry_rows["body_fat_percent"].cells[1].setFocus()
    type_and_enter("39.2")
    assert "differs from the other repeats (about 19.4 %)" in record.grid.asked.text()
    press(scale, Qt.Key.Key_K)
    assert told()[-1] == ("body_fat_percent", "39.2", "percent")
    entry_rows["body_mass"].cells[1].setFocus()
    type_and_enter("151")
    assert "C: change to 151 lb" in record.grid.asked.text()
    press(scale, Qt.Key.Key_C)
    assert told()[-1] == ("body_mass", "151", "lb")
    entry_rows["body_mass"].cells[2].setFocus()
    type_and_enter("86.2")
    assert "C: change to 68.2" in record.grid.asked.text()
    press(scale, Qt.Key.Key_Escape)
    assert len(told()) == 4
    assert session.catalogue().client_coded("Wren") is not None


def test_one_step_on_the_scale_is_one_walk_down(scale):
    """Enter follows the display; the card may say across.

    F7 notes the conditions and goes to the first cell.
    """
    window, record = scale, scale.record
    begin(window)
    record.conditions.all.setFocus()
    press(window, Qt.Key.Key_F7)
    assert QApplication.focusWidget() is record.entry_rows[0].cells[0]
    visited = []
    for text in ("68.1", "19.1", "58.0", "68.2", "19.2", "58.1", "68.0", "19.0", "58.2"):
        cell = QApplication.focusWidget()
        visited.append((cell.entry_row.metric, cell.replicate))
        type_and_enter(text)
    order = [entry_row.metric for entry_row in record.entry_rows]
    assert visited == [(m, k) for k in (1, 2, 3) for m in order]
    item = window.session.catalogue().instruments[1]
    window.session.do(PutInstrument(replace(item, walk="across")))
    assert [(c.entry_row.metric, c.replicate) for c in record.grid.ordered()] == [
        (m, k) for m in order for k in (1, 2, 3)
    ]


def test_blind_work_hides_what_was_before(scale):
    """In a blind study the bench shows neither the last value nor the corrected one until the visit is over."""
    scale.session.do(PutStudy("t", practice=False, blind=True))
    begin(scale)
    record = scale.record
    assert all("last" not in entry_row.tag.text() for entry_row in record.entry_rows)
    record.entry_rows[0].cells[0].setFocus()
    type_and_enter("80.0")
    assert "last visit" not in record.grid.asked.text()
    scale.session.do(PutStudy("t", practice=False, blind=False))
    assert "last 68.2" in next(
        entry_row.tag.text() for entry_row in record.entry_rows if entry_row.metric == "body_mass"
    )


def test_a_whole_visit_takes_few_keys(window_on, tmp_path):
    """Four scales with three values, eight folds, five girths, conditions: beside the digits no more keys than values and 30 %."""
    session = Session.new(tmp_path / "k.tally", "t")
    for k, name in enumerate(DEVICES[:4], start=1):
        session.do(AddInstrument(Instrument(0, name, "device", electrodes="feet", position=k)))
        for metric in ("body_mass", "body_fat_percent", "total_body_water_percent"):
            session.do(OfferMetric(k, metric, 0.1))
    session.do(AddClient(Client(0, "Wren", "female")))
    window = window_on(session)
    keys, values = 0, 0

    def key(name, modifier=Qt.KeyboardModifier.NoModifier):
        nonlocal keys
        keys += 1
        press(window, name, modifier)

    def put(*texts):
        nonlocal keys, values
        for text in texts:
            type_and_enter(text)
            keys, values = keys + 1, values + 1

    QApplication.processEvents()  # until the window is the active one
    begin(window)
    window.record.tabs.others.click()
    keys += 5  # Record, client field, select, Enter, more stations
    key(Qt.Key.Key_F7)
    for device in range(4):
        for repeat in range(3):
            put(
                f"{68 + repeat / 10:.1f}",
                f"{24 + device + repeat / 10:.1f}",
                f"{55 - device + repeat / 10:.1f}",
            )
    key(Qt.Key.Key_PageDown, CTRL)
    key(Qt.Key.Key_I, Qt.KeyboardModifier.AltModifier)
    key(Qt.Key.Key_8)
    key(Qt.Key.Key_L, Qt.KeyboardModifier.AltModifier)
    key(Qt.Key.Key_Return)
    folds = ("16", "12", "8", "18", "11", "19", "24", "15")
    put(*folds, *folds[:3], "21", *folds[4:], "19")
    key(Qt.Key.Key_PageDown, CTRL)
    put("33", "92", "29", "31", "74")
    rows = kept(window)
    assert len(rows) == values == 36 + 17 + 5
    assert {(r.status, r.client) for r in rows} == {("ok", "Wren")}
    fat = {(r.instrument, r.replicate): r.value for r in rows if r.metric == "body_fat_percent"}
    assert fat == {
        (name, k + 1): pytest.approx(24 + d + k / 10)
        for d, name in enumerate(DEVICES[:4])
        for k in range(3)
    }
    assert set(session.visit_note(rows[0].visit).conditions.values()) == {"yes", "no"}
    assert keys <= 1.3 * values, keys
    window.close()
    session.close()


def test_refused_values_and_questions_stay_with_their_cell(scale):
    """After a refusal and after a question the next value takes its place; a question goes with its client."""
    session = scale.session
    session.do(AddClient(Client(0, "Auk", "male")))
    begin(scale)
    record = scale.record
    cell = record.entry_rows[0].cells[0]
    type_and_enter("20x6")
    assert (cell.property("state"), cell.selectedText()) == ("refused", "20x6")
    type_and_enter("682")  # asked about
    assert (cell.text(), cell.selectedText()) == ("682", "682")
    assert record.grid.asked.isVisible()
    begin(scale, "Auk")
    assert record.grid.asked.isHidden()
    assert record.entry_rows[0].cells[0].property("state") != "refused"
    assert not [r for r in kept(scale) if r.entered == "682"]


def test_digits_find_their_cell_and_undo_its_key(scale):
    """Digits typed beside the fields go to the marked cell; Ctrl+Z in an untouched cell undoes the last reading."""
    begin(scale)
    record = scale.record
    record.tabs.buttons["devices"].setFocus()
    QTest.keyClick(record.tabs.buttons["devices"], "6")
    type_and_enter("8.4")
    (reading,) = [r for r in kept(scale) if r.entered == "68.4"]
    assert reading.metric == "body_mass"
    cell = QApplication.focusWidget()
    assert (cell.text(), cell.entry_row.metric) == ("", "body_fat_percent")
    press(scale, Qt.Key.Key_Z, CTRL)
    assert not [r for r in kept(scale) if r.entered == "68.4"]


def test_tab_walks_from_top_to_bottom(scale):
    """Tab visits every field once, row by row, also cells that were made later; areas that scroll are no stops."""
    begin(scale)
    for page, first in (("record", scale.record.client), ("compare", None)):
        scale.go(page)
        shown_page = scale.page(page)
        (first or next(iter(fields_in_order(shown_page)))).setFocus()
        places, walked = [], []
        while (w := QApplication.focusWidget()) not in walked and shown_page.isAncestorOf(w):
            walked.append(w)
            places.append(w.mapTo(shown_page, w.rect().center()).y())
            press(scale, Qt.Key.Key_Tab)
        assert all(b > a - 20 for a, b in itertools.pairwise(places)), page
        assert not any(isinstance(w, QScrollArea) for w in walked)
        if page == "record":
            assert set(scale.record.grid.ordered()) <= set(walked)
    press(scale, Qt.Key.Key_Backtab)
    assert QApplication.focusWidget() is walked[-1]


def test_a_reading_moves_no_cell(qtbot, scale):
    """What can be done with a visit has its place before the visit begins: cells stay under the hand."""
    begin(scale)
    record = scale.record
    cell = record.entry_rows[0].cells[0]
    qtbot.waitUntil(cell.hasFocus)
    before = cell.mapTo(scale, cell.rect().topLeft())
    type_and_enter("68.4")
    qtbot.waitUntil(lambda: record.bar.move_button.isEnabled())
    again = record.entry_rows[0].cells[0]
    assert again.mapTo(scale, again.rect().topLeft()) == before


def test_sets_of_sites_follow_the_client_and_can_be_changed(scale):
    """A second set replaces the first; women get sets for women, girths have sets too, and the scan is the study's own."""
    session = scale.session
    session.do(AddInstrument(Instrument(0, "Clinic scan", "reference")))
    session.do(AddClient(Client(0, "Auk", "male")))
    session.do(AddClient(Client(0, "Brill", "female")))
    begin(scale, "Brill")
    head = scale.record.head
    scale.record.go_station("skinfolds")
    labels = [head.profile.itemText(k) for k in range(head.profile.count())]
    assert "3 sites: Three skinfolds, women (Jackson et al. 1980)" in labels
    assert not any(", men" in text for text in labels)
    for text in ("7 sites", "8 sites"):
        k = next(k for k, x in enumerate(labels) if x.startswith(text))
        head.profile.setCurrentIndex(k)
        head.profile.activated.emit(k)
        assert len(scale.record.entry_rows) == int(text[0])
    scale.record.go_station("girths")
    assert any(
        x.startswith("3 sites: Tape")
        for x in (head.profile.itemText(k) for k in range(head.profile.count()))
    )
    scale.record.go_station("scan")
    assert head.name == "Clinic scan"
    begin(scale, "Auk")
    scale.record.go_station("skinfolds")
    assert any(", men" in head.profile.itemText(k) for k in range(head.profile.count()))


def test_the_bench_tells_the_level_from_all_sources(qtbot, window_on, demo):
    """After a reading is in, the value from all sources with this visit; nothing while values are hidden."""
    window = window_on(demo, at="record")
    window.go("record")
    record = window.record
    demo.do(typed("Auk", "2026-08-20T07:00", "Alder", "device", "body_fat_percent", "16.4", "16.2"))
    with qtbot.waitSignal(record.level.told, timeout=60_000):
        choose_client(record, "Auk")
        record.visits.setCurrentIndex(1)
        record.bar.choose_visit()
    snapshot = finish(demo.wide_snapshot_steps(("body_fat_percent",)))
    r = finish(BestEstimateRequest(snapshot, Lens(), "Auk").run())
    said = record.level.line.text()
    assert said.startswith(f"Auk from all sources, this visit included: {r.value.value:.1f} %")
    assert "20 Aug 2026" in said
    record.grid.setFocus()
    demo.do(
        PutClient(
            replace(demo.catalogue().client_coded("Auk"), cautions=frozenset({"eating_disorder"}))
        )
    )
    record.refresh()
    assert not record.level.line.isVisible()
