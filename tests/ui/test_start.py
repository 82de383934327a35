"""The start page, the guided set-up and pages without data, driven by keys."""

from datetime import datetime, timedelta

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QApplication

from anchor_tally.app import set_up
from anchor_tally.app.session import Session
from anchor_tally.app.set_up import Answers, ClientRow, DeviceRow, edit_of
from anchor_tally.domain.clock import Clock
from anchor_tally.domain.errors import UserError
from anchor_tally.domain.records import Client
from anchor_tally.study.edits.clients import AddClient
from driving import kept
from places import typed

CTRL = Qt.KeyboardModifier.ControlModifier


@pytest.fixture
def new_window(window_on, tmp_path):
    """A window on a new study."""
    return window_on(Session.new(tmp_path / "new.tally", "New"))


class Keys:
    """Counts the keys that go to whatever has the focus."""

    def __init__(self, qtbot, window):
        self.qtbot, self.window, self.pressed = qtbot, window, 0

    def press(self, key, modifier=Qt.KeyboardModifier.NoModifier):
        """Press one key wherever the focus is."""
        self.qtbot.keyClick(QApplication.focusWidget() or self.window, key, modifier)
        self.pressed += 1

    def type(self, text, *, enter=True):
        """Type a text, and Enter."""
        for c in text:
            self.qtbot.keyClick(QApplication.focusWidget(), c)
        self.pressed += len(text)
        if enter:
            self.qtbot.keyClick(QApplication.focusWidget(), Qt.Key.Key_Return)
            self.pressed += 1


def test_from_nothing_to_the_first_reading_by_keys(qtbot, new_window):
    """One scale, a scan and three clients: at most 65 keys to the first reading, one edit, undone as one."""
    window = new_window
    assert window.shown == "start"
    page, keys = window.page("start"), Keys(qtbot, window)
    page.begin()
    keys.type("")  # one scale against scans
    keys.type("Alder")
    keys.type("")
    keys.type("")  # the scan's name stands there
    for client in (
        ("A1", "f", "1994", "168"),
        ("A2", "m", "1990", "5ft 11"),
        ("A3", "f", "2001", "172"),
    ):
        for text in client:
            keys.type(text)
    keys.type("")
    keys.type("")
    assert (window.shown, window.record.who()) == ("record", "A1")
    assert "implanted electronics, or pregnant?" in window.record.safety.words.text()
    keys.press(Qt.Key.Key_N)
    assert window.session.catalogue().client_coded("A1").cautions == {"none"}
    assert window.record.safety.isHidden()
    assert window.record.grid.ordered()[0].hasFocus()
    keys.type("68.2")
    assert keys.pressed <= 65
    session = window.session
    (reading,) = session.readings()
    assert (reading.client, reading.instrument, reading.entered) == ("A1", "Alder", "68.2")
    items = session.catalogue()
    assert [(c.code, c.sex, c.birth) for c in items.clients.values()] == [
        ("A1", "female", "1994"),
        ("A2", "male", "1990"),
        ("A3", "female", "2001"),
    ]
    kinds = {i.name: (i.kind, i.electrodes, i.repeats) for i in items.instruments.values()}
    assert kinds == {"Alder": ("device", "feet", 1), "Lab scan": ("reference", "", 1)}
    assert [e.metric for e in window.record.entry_rows] == [
        "body_mass",
        "body_fat_percent",
        "total_body_water_percent",
    ]
    heights = [h.height_cm for own in items.heights.values() for h in own]
    assert heights == pytest.approx([168, 180.34, 172])
    for _ in range(3):  # the reading, the answer, the set-up
        window.undo()
    assert window.said == "Undone: the whole set-up (2 instruments, 3 clients)."
    assert (session.catalogue().clients, session.catalogue().instruments) == ({}, {})


class MovingClock:
    """A clock that a test sets forward; called as the clock of a study."""

    def __init__(self, moment):
        self.at = datetime.fromisoformat(moment).astimezone()

    def __call__(self):
        return self.at


def test_the_whole_job_by_keys(qtbot, window_on, tmp_path):
    """From an empty study to an adopted offset without a mouse; a visit of six values takes at most 30 % more keys than these."""
    now = MovingClock("2026-03-02T06:40:00")
    session = Session.new(tmp_path / "job.tally", "Job", clock=Clock(now))
    window = window_on(session)
    keys = Keys(qtbot, window)
    window.activateWindow()
    qtbot.waitUntil(window.page("start").set_up.hasFocus)
    keys.type("")  # the first button has the focus
    people = {
        "A1": ("f", "1994", "168", 24),
        "A2": ("m", "1990", "180", 15),
        "A3": ("f", "2001", "172", 30),
    }
    for text in ("", "Alder", "", ""):
        keys.type(text)
    for code, (sex, born, tall, _) in people.items():
        for text in (code, sex, born, tall):
            keys.type(text)
    keys.type("")
    keys.type("")
    costs = []
    for visit, shift in enumerate((0.0, 0.4, -0.3, 0.2, 0.5)):
        now.at += timedelta(days=28)
        for number, (code, (*_, fat)) in enumerate(people.items()):
            now.at += timedelta(minutes=10)
            begun = keys.pressed
            keys.press(Qt.Key.Key_L, Qt.KeyboardModifier.AltModifier)
            keys.type(code)
            if visit == 0:
                keys.press(Qt.Key.Key_N)
            keys.press(Qt.Key.Key_F7)
            wobble = 0.3 * ((visit + 2 * number) % 3 - 1)
            own = [
                f"{60 + 8 * number + shift:.1f}",
                f"{fat + 2 + wobble:.1f}",
                f"{55 - number + wobble:.1f}",
            ]
            scan = [
                f"{fat + shift:.1f}",
                f"{60 + 8 * number:.1f}",
                f"{(60 + 8 * number) * 0.2:.1f}",
            ]
            for value in own:
                keys.type(value)
            keys.press(Qt.Key.Key_PageDown, CTRL)
            for value in scan:
                keys.type(value)
            keys.press(Qt.Key.Key_PageUp, CTRL)
            costs.append((keys.pressed - begun) / sum(len(v) + 1 for v in (*own, *scan)))
    rows = kept(window)
    assert len(rows) == 5 * 3 * 6
    assert len({(r.client, r.taken_at[:10]) for r in rows}) == 15
    assert max(costs) <= 1.3
    for key, page in ((Qt.Key.Key_4, "compare"), (Qt.Key.Key_6, "calibrate")):
        keys.press(key, CTRL)
        qtbot.waitUntil(lambda page=page: bool(window.page(page).results), timeout=30_000)
    qtbot.waitUntil(window.calibrate.adopt.isEnabled, timeout=30_000)
    assert window.calibrate.adopt.text() == "&Adopt the offset of Alder"
    keys.press(Qt.Key.Key_A, Qt.KeyboardModifier.AltModifier)
    qtbot.waitUntil(lambda: session.calibrations() != [], timeout=60_000)
    keys.press(Qt.Key.Key_7, CTRL)
    track = window.page("track")
    qtbot.waitUntil(lambda: "A" in track.headline.text(), timeout=30_000)
    assert "A3, body fat:" in track.headline.text()
    assert [(r.instrument, r.metric) for r in session.calibrations()] == [
        ("Alder", "body_fat_percent")
    ]
    assert keys.pressed <= 620  # 360 of them are digits of readings


def test_steps_are_skipped_pasted_and_refused(qtbot, new_window):
    """A skipped step writes nothing, a sheet is pasted, a wrong height keeps everything in place."""
    page = new_window.page("start")
    page.begin()
    page.purpose.choices["field"].click()
    page.go_step(1)
    assert page.devices.lines[0].name.text() == "Skinfolds"
    for k in (0, 1):  # Enter goes to the next device, while this one has a name
        name = page.devices.lines[k].name
        name.setFocus()
        if k == 1 and not name.text():
            qtbot.keyClicks(name, "Tape")
        qtbot.keyClick(name, Qt.Key.Key_Return)
        assert page.at == 1
        assert new_window.focusWidget() is page.devices.lines[k + 1].name
    page.go_step(2)
    page.skip.click()
    QApplication.clipboard().setText("Code\tSex\tYear\tHeight\nB1\tw\t1999\t1.71 m\nB2\t\t\ttall")
    qtbot.keyClick(page.clients.cells[0][0], Qt.Key.Key_V, Qt.KeyboardModifier.ControlModifier)
    page.go_step(4)
    page.next.click()
    assert new_window.shown == "start"
    assert page.trouble.text().startswith("B2:")
    page.clients.cells[1][3].clear()
    page.next.click()
    items = new_window.session.catalogue()
    assert [c.code for c in items.clients.values()] == ["B1", "B2"]
    assert {i.name for i in items.instruments.values()} == {"Skinfolds", "Tape"}
    assert items.stations["skinfolds"].repeats == 2


def test_a_page_without_data_leads_to_where_they_are_entered(qtbot, new_window):
    """Compare and Calibrate of a new study say what is missing; a button goes to the scan station."""
    for key in ("compare", "calibrate"):
        new_window.go(key)
        page = new_window.page(key)
        qtbot.waitUntil(lambda page=page: page.remedy.isVisible(), timeout=60_000)
        assert "No scan with body fat yet" in page.headline.text()
    page.remedy.scans.click()
    assert (new_window.shown, new_window.record.station) == ("record", "scan")


def test_one_of_the_devices_is_named_as_the_scan(qtbot, new_window):
    """A table often calls the scan a device: Compare asks which it is, and the answer is one edit."""
    session = new_window.session
    for n, client in enumerate(("A", "B", "C", "D"), start=1):
        for name, shift in (("Fir", 2.0), ("Lab", 0.0)):
            value = f"{18 + 2 * n + shift}"
            session.do(
                typed(client, f"2026-03-0{n}T07:00", name, "device", "body_fat_percent", value)
            )
    new_window.go("compare")
    page = new_window.page("compare")
    qtbot.waitUntil(page.remedy.ask.isVisible, timeout=60_000)
    page.remedy.which.setCurrentText("Lab")
    page.remedy.is_scan.click()
    qtbot.waitUntil(lambda: bool(page.results), timeout=60_000)
    assert not page.remedy.isVisible()
    assert [r.pairs.instrument.name for r in page.results] == ["Fir"]
    session.undo()
    assert session.catalogue().instrument_named("Lab").kind == "device"


def test_answers_become_one_edit():
    """Rows without a name or code are left out, precision and sex are read, conditions that differ are written."""
    answers = Answers(
        devices=[DeviceRow("foot", "Ash", 3, ("body_mass",)), DeviceRow("foot", "  ")],
        scan="Lab",
        precision="0,4",
        clients=[ClientRow("C1", "Woman", "1980-05"), ClientRow("", "m")],
        asked=frozenset(set_up.ASKED_AT_FIRST) - {"fasted"} | {"morning"},
        rhythm="one_scan",
    )
    edit = edit_of(answers, "2026-03-02")
    assert [(n.instrument.name, n.instrument.repeats) for n in edit.instruments] == [
        ("Ash", 3),
        ("Lab", 1),
    ]
    assert edit.precision == ("body_fat_percent", 0.4)
    assert [c.client.sex for c in edit.clients] == ["female"]
    assert set(edit.conditions) == {("fasted", False), ("morning", True)}
    assert [(r.station, r.form, r.starts) for r in edit.rules] == [
        ("devices", "weekdays", "2026-03-02"),
        ("scan", "days", ""),
        ("devices", "scan", ""),
    ]
    without = edit_of(Answers(rhythm="one_scan"), "2026-03-02")  # no scan: none is planned
    assert [(r.station, r.form) for r in without.rules] == [("devices", "weekdays")]
    with pytest.raises(UserError, match="not male, female or empty"):
        edit_of(Answers(clients=[ClientRow("C1", "x")]), "2026-03-02")


def test_the_card_is_completed_at_the_bench_and_pages_follow_its_client(qtbot, new_window):
    """Sex, birth year and height are asked for at the first visit; Plan and Track open on the client of the bench."""
    session = new_window.session
    for code in ("A1", "B2"):
        session.do(AddClient(Client(0, code)))
        session.do(typed(code, "2026-03-02T06:40", "Alder", "device", "body_fat_percent", "20.0"))
    new_window.go("record")
    record = new_window.record
    record.take_client("B2")
    bar = record.person
    assert bar.isVisible()
    bar.sex.setCurrentIndex(1)
    bar.sex.activated.emit(1)
    for field, text in ((bar.birth, "1994"), (bar.height_field, "5ft 7")):
        field.setFocus()
        qtbot.keyClicks(field, text)
        qtbot.keyClick(field, Qt.Key.Key_Return)
    assert bar.isHidden()
    client = session.catalogue().client_coded("B2")
    assert (client.sex, client.birth) == ("female", "1994")
    assert session.catalogue().heights[client.id][0].height_cm == pytest.approx(170.18)
    new_window.go("plan")
    assert new_window.page("plan").tab("clients").row == client.id
    new_window.go("track")
    assert new_window.page("track").client.currentText() == "B2"
