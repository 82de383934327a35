"""The window under attack: nothing typed goes to the wrong visit or person, nothing frozen, leaked, drawn or lost."""

import gc
import os
import pty
import sqlite3
import sys
import tempfile
import weakref

import pytest
from PyQt6 import sip
from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtTest import QAbstractItemModelTester, QTest
from PyQt6.QtWidgets import QApplication, QFileDialog, QLabel, QMessageBox

from anchor_tally.app.demo import demo_session
from anchor_tally.app.session import Session
from anchor_tally.domain.records import Client, Instrument
from anchor_tally.feeds.measurement_filter import LeftOut, MeasurementFilter
from anchor_tally.feeds.protocol import Done, Empty, Live, Value, format_line, parse_line
from anchor_tally.study.edits.clients import AddClient
from anchor_tally.study.edits.imports import ImportReadings
from anchor_tally.study.edits.instruments import AddInstrument, OfferMetric
from anchor_tally.ui.application import open_after_first_paint, watch_faults
from anchor_tally.ui.device_port import MOST_NONSENSE, SimulatorProcess
from anchor_tally.ui.study_watch import StudyWatch
from anchor_tally.ui.widgets import Table
from conftest import Window
from driving import choose_client, kept, shown
from places import adoption, parse_text, typed

ODD = "<img src='x.png'><b>A</b> $\\frac$ \u202ex"


@pytest.fixture
def bench(window_on, tmp_path):
    """A study with one scale, two clients, and its window at Record."""
    session = Session.new(tmp_path / "s.tally", "t")
    session.do(AddInstrument(Instrument(0, "Fir", "device", electrodes="feet")))
    session.do(OfferMetric(1, "body_fat_percent", 0.1))
    for code in ("Auk", "Wren"):
        session.do(AddClient(Client(0, code)))
    window = window_on(session)
    choose_client(window.record, "Wren")
    yield window
    window.close()


def put(qtbot, cell, text):
    """Type into a cell and press Enter."""
    qtbot.keyClicks(cell, text)
    qtbot.keyClick(cell, Qt.Key.Key_Return)


def set_time(qtbot, record, text):
    """Type another time of the visit."""
    record.when.setFocus()
    record.when.selectAll()
    qtbot.keyClicks(record.when, text)
    qtbot.keyClick(record.when, Qt.Key.Key_Return)


def test_weekly_visits_by_changing_the_date(qtbot, bench):
    """A value typed after changing the time goes to that time's visit, shown at once.

    *New visit* means new; a visit moves.
    """
    record = bench.record
    for day, text in (
        ("2026-03-02 06:30", "20"),
        ("2026-03-09 06:30", "21"),
        ("2026-03-16 06:30", "22"),
    ):
        set_time(qtbot, record, day)
        assert record.entry_rows[0].cells[0].text() == ""
        put(qtbot, record.entry_rows[0].cells[0], text)
    assert [(r.taken_at, r.value) for r in kept(bench)] == [
        ("2026-03-02T06:30", 20), ("2026-03-09T06:30", 21), ("2026-03-16T06:30", 22)
    ]  # fmt: skip
    set_time(qtbot, record, "2026-03-09 06:40")  # within two hours: that visit
    assert record.entry_rows[0].cells[0].text() == "21"
    record.visits.setCurrentIndex(0)
    record.visits.activated.emit(0)  # a new visit, at once
    set_time(qtbot, record, "2026-03-09 07:00")
    assert record.entry_rows[0].cells[0].text() == ""
    put(qtbot, record.entry_rows[0].cells[0], "24")
    assert len({r.visit for r in kept(bench)}) == 4
    qtbot.mouseClick(record.bar.move_button, Qt.MouseButton.LeftButton)
    record.bar.to_client.setCurrentText("Auk")
    record.bar.to_when.selectAll()
    put(qtbot, record.bar.to_when, "2026-04-01 07:00")
    moved = next(r for r in kept(bench) if r.value == 24)
    assert (moved.client, moved.taken_at, record.who()) == ("Auk", "2026-04-01T07:00", "Auk")
    bench.undo()
    assert next(r for r in kept(bench) if r.value == 24).client == "Wren"


def test_locked_file_keeps_the_typed_value_red(qtbot, bench, tmp_path):
    """What the file has refused is not shown as kept; the next Enter works."""
    other = sqlite3.connect(bench.session.path, isolation_level=None)
    other.execute("BEGIN")
    other.execute("SELECT count(*) FROM reading").fetchone()
    cell = bench.record.entry_rows[0].cells[0]
    put(qtbot, cell, "20")
    assert cell.property("state") == "refused"
    assert "nothing was saved" in bench.record.trouble.text()
    other.execute("ROLLBACK")
    other.close()
    qtbot.keyClick(cell, Qt.Key.Key_Return)
    assert [r.value for r in kept(bench)] == [20]
    assert bench.record.trouble.text() == ""


def test_adopting_waits_for_the_answer(qtbot, window_on, demo):
    """While the study changed and the worker still runs, nothing is adopted.

    Then what is seen is what is adopted.
    """
    window = window_on(demo, at="calibrate")
    shown(qtbot, window.calibrate, lambda: window.go("calibrate"))
    page = window.calibrate
    old = page.results[0]
    window.jobs._slices.setInterval(60_000)  # the worker's time stands still
    first = next(r for r in demo.readings() if str(r.id) in old.sources)
    demo.do(
        typed(first.client, first.taken_at, "Alder", "device", "body_fat_percent", "60", first=9)
    )
    assert not page.adopt.isEnabled()
    page._adopt()
    assert demo.calibrations() == []
    assert "changed" in window.said
    with qtbot.waitSignal(page.shown, timeout=60_000):
        window.jobs._slices.setInterval(0)
    assert page.adopt.isEnabled()
    page.adopt.click()
    assert (
        demo.calibrations()[0].pooled[0]
        == page.results[0].pooled.offset.value
        != old.pooled.offset.value
    )


def test_two_windows(qtbot, window_on, bench, tmp_path):
    """The second window reads and follows; it writes when the first is closed."""
    second = window_on(Session.open(bench.session.path))
    assert "another window" in second.footer.place.text()
    second.go("record")
    choose_client(second.record, "Wren")
    put(qtbot, bench.record.entry_rows[0].cells[0], "20")
    qtbot.waitUntil(lambda: "1 reading saved" in second.record.headline.text(), timeout=60_000)
    qtbot.mouseClick(second.footer.take_over, Qt.MouseButton.LeftButton)
    assert "Close it there first" in second.said
    bench.close()
    qtbot.mouseClick(second.footer.take_over, Qt.MouseButton.LeftButton)
    put(qtbot, second.record.entry_rows[0].cells[1], "21")
    assert [r.value for r in kept(second)] == [20, 21]


def test_lost_file_is_said(qtbot, bench, tmp_path, monkeypatch):
    """A study removed under the window: one sentence, and a copy is offered."""
    put(qtbot, bench.record.entry_rows[0].cells[0], "20")
    bench.session.path.unlink()
    qtbot.waitUntil(lambda: bench.footer.copy.isVisible(), timeout=60_000)
    assert "was removed" in bench.said
    target = str(tmp_path / "copy.tally")
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (target, ""))
    qtbot.mouseClick(bench.footer.copy, Qt.MouseButton.LeftButton)
    assert bench.said == f"Copy saved to {target}."
    copy = Session.open(tmp_path / "copy.tally")
    assert [r.value for r in copy.readings()] == [20]
    copy.close()


def test_nothing_looks_at_a_closed_study(qapp, demo):
    """The timers that look at the file stop with the study; a late beat of theirs does nothing."""
    watch = StudyWatch(qapp)
    timers = watch.findChildren(QTimer)
    watch.watch(demo)
    assert [t.isActive() for t in timers] == [True, True]
    demo.close()
    assert not any(t.isActive() for t in timers)
    for timer in timers:
        timer.timeout.emit()
    watch.deleteLater()


def test_names_are_plain_text(qtbot, window_on, tmp_path):
    """Markup and mathematics in names are text in every label, table, figure and tooltip."""
    session = Session.new(tmp_path / "s.tally", "t")
    for k, client in enumerate((ODD, f"{ODD} B", f"{ODD} C")):
        session.do(
            typed(client, "2026-03-02T07:00", "Scan", "reference", "body_fat_percent", f"{20 + k}")
        )
        session.do(
            typed(
                client,
                "2026-03-02T06:50",
                f"{ODD} F",
                "device",
                "body_fat_percent",
                f"{22 + k}",
                "23",
            )
        )
    window = window_on(session)
    window.compare._choose_point(0)
    for figure in (window.compare.ladder, window.compare.plot):
        figure.draw()
    labels = [t.get_text() for t in window.compare.ladder.axes.texts]
    assert labels[0].startswith("<img src='x.png'><b>A</b> $")
    shown(qtbot, window.calibrate, lambda: window.go("calibrate"))
    window.go("record")
    choose_client(window.record, session.catalogue().clients[1].code)
    window.go("plan")
    for widget in window.findChildren(QLabel):
        rich = widget.textFormat() != Qt.TextFormat.PlainText and "<img" in widget.text()
        assert not rich, widget.text()
    assert "\u202e" not in session.catalogue().clients[1].code


def test_a_fault_in_a_slot_does_not_end_the_window(qtbot, bench, caplog):
    """It is logged and said; a test fails on it all the same, unless it is asked for as here."""
    before = sys.excepthook
    try:
        watch_faults(bench)
        sys.excepthook(ValueError, ValueError("broken"), None)
    finally:
        sys.excepthook = before
    assert bench.said.startswith("An error in the program stopped this.")
    assert "broken" in caplog.text
    caplog.clear()


def test_start_without_a_study(qtbot, window_on, tmp_path):
    """A file that cannot be opened leaves a window that states why and offers what to do."""
    (tmp_path / "bad.tally").touch()
    window = Window()
    qtbot.addWidget(window)
    open_after_first_paint(window, [str(tmp_path / "bad.tally")])
    window.show()
    qtbot.waitUntil(lambda: "0 bytes" in window.frame.waiting.words.text(), timeout=60_000)
    assert all(b.isVisible() for b in window.frame.waiting.offers.values())
    session = Session.new(tmp_path / "good.tally", "t")
    session.close()
    window.open_study(tmp_path / "good.tally")
    assert window.session.title == "t"
    window.close()


@pytest.mark.prepared
def test_opening_again_and_again_leaks_nothing(qtbot, window_on, tmp_path, monkeypatch):
    """Six studies in one window: one window, the files closed, the pages and studies gone.

    Demo folders go with their study.
    """
    folder = tmp_path / "temporary"
    folder.mkdir()
    monkeypatch.setattr(tempfile, "tempdir", str(folder))
    for k in range(3):
        Session.new(tmp_path / f"{k}.tally", "t").close()
    window = window_on(Session.open(tmp_path / "0.tally"))
    pages, sessions = [], []
    usual = gc.get_threshold()
    window.go("compare")
    qtbot.waitUntil(lambda: window.preparation.waiting, timeout=30_000)
    assert gc.get_threshold()[2] > 1000 * usual[2]  # a search of all objects would hold the window
    qtbot.waitUntil(
        lambda: window.preparation.settled, timeout=30_000
    )  # all that is there then is frozen
    assert gc.get_threshold() == usual
    files = len(os.listdir("/proc/self/fd"))
    for k in range(6):
        window.go("plan")
        pages += window.pages.values()
        sessions.append(weakref.ref(window.session))
        window.open_study(tmp_path / f"{(k + 1) % 3}.tally")
    window.attach(demo_session())
    assert list(folder.glob("anchor-tally-demo-*"))
    window.open_study(tmp_path / "1.tally")
    QApplication.sendPostedEvents(None, 0)
    qtbot.wait(1)
    gc.collect()
    assert len([w for w in QApplication.topLevelWidgets() if type(w).__name__ == "Window"]) == 1
    assert len(os.listdir("/proc/self/fd")) <= files + 2
    assert all(sip.isdeleted(p) for p in pages)
    pages.clear()

    def held():
        gc.collect()
        return sum(s() is not None for s in sessions)

    qtbot.waitUntil(lambda: held() == 0)
    assert not list(folder.glob("anchor-tally-demo-*"))


@pytest.mark.prepared
def test_nothing_freezes_at_200_instruments(qtbot, window_on, tmp_path):
    """Every page opens with 200 instruments and 1,160 clients: rows are bounded, tables draw what is seen."""
    session = Session.new(tmp_path / "s.tally", "t")
    head = "client,sex,age_years,height_cm,taken_at,instrument,kind,setting,metric,value,unit,replicate,status,note\n"
    lines = [
        f"C{k:04},,,,2026-03-02T07:00,Scan,reference,,body_fat_percent,{20 + k % 9},percent,1,ok,"
        for k in range(1160)
    ]
    lines += [
        f"C{k:04},,,,2026-03-02T06:50,D{k % 200:03},device,,body_fat_percent,{21 + k % 7},percent,1,ok,"
        for k in range(1160)
    ]
    session.do(ImportReadings(tuple(parse_text(head + "\n".join(lines))[0]), "x"))
    window = window_on(session)
    window.go("record")
    choose_client(window.record, "C0007")
    assert len(window.record.entry_rows) <= 24
    assert (
        "176 more rows" in window.record.more.text() or "177 more rows" in window.record.more.text()
    )
    qtbot.keyClicks(window.record.new_instrument, "d199")
    qtbot.keyClick(window.record.new_instrument, Qt.Key.Key_Return)
    assert "D199" in [entry_row.instrument for entry_row in window.record.entry_rows]
    window.go("plan")
    window.plan.go("clients")
    tab = window.plan.tab("clients")
    assert tab.list.count == 1160
    QAbstractItemModelTester(tab.list.model(), QAbstractItemModelTester.FailureReportingMode.Fatal)
    tab.fields["birth"].setText("1990")
    tab.fields["birth"].editingFinished.emit()
    assert tab.list.text(7, 2) == "1990"  # the client of the bench is in hand


# devices
def test_reading_belongs_to_who_stepped_on(qtbot, bench):
    """The client is changed while the scale still measures: the reading is kept for the person who stood on it."""
    live = bench.record.live
    live.instrument.setEditText("Fir")
    for line in (Live(30.0, settled=False), Live(72.0, settled=True)):
        live._event(live.port.measured.line(line))
    choose_client(bench.record, "Auk")
    for line in (Value(1, "body_fat_percent", "20.5", "percent"), Done(1, 1), Empty()):
        told = live.port.measured.line(line)
        if told is not None:
            live._event(told)
    assert [(r.client, r.value) for r in kept(bench)] == [("Wren", 20.5)]
    assert bench.said.startswith("Wren, Fir")


def test_odd_devices_are_told_apart(qtbot, bench, tmp_path):
    """No pile without bound, no impossible mass, and a reason for what is no scale.

    Simulated scales come last.
    """
    taker = MeasurementFilter()
    told = [taker.line(Value(k // 3, "body_fat_percent", "20", "percent")) for k in range(300)]
    assert any(isinstance(x, LeftOut) for x in told)
    assert sum(map(len, taker._values.values())) < 300
    assert type(parse_line(format_line(Live(99999.99, settled=True)))).__name__ == "Nonsense"
    assert parse_line(format_line(Live(0.5, settled=True))) == Live(0.5, settled=False)
    live = bench.record.live
    (tmp_path / "notes.txt").write_text("hello")
    states = []
    live.port.state.connect(lambda state, why: states.append((state, why)))
    live.port.connect_to(str(tmp_path / "notes.txt"))
    assert ("refused", "it is not a serial device") in states
    for noise in (b"\0" * 6000, b"hello\n" * (MOST_NONSENSE + 2)):
        master, slave = pty.openpty()
        live.port.connect_to(os.ttyname(slave))
        os.write(master, noise)
        states.clear()
        qtbot.waitUntil(lambda: any(s == "refused" for s, _ in states), timeout=60_000)
        os.close(master)
        os.close(slave)
    names = [live.where.itemText(k) for k in range(live.where.count())]
    assert "not for real data" in names[-1]
    assert not names[0].startswith("simulated")


def test_simulator_runs_nothing_of_the_working_folder(qtbot, tmp_path, monkeypatch):
    """A numpy.py in the folder that the program was started in is not run by its child process."""
    (tmp_path / "numpy.py").write_text("open('was_run', 'w').close()")
    monkeypatch.chdir(tmp_path)
    process = SimulatorProcess()
    with qtbot.waitSignal(process.ready, timeout=60_000):
        process.start(["--profile", "feet"])
    process.stop()
    assert not (tmp_path / "was_run").exists()


def test_every_page_fits_beside_the_drawer(qtbot, window_on, demo, monkeypatch):
    """At 1024×700 with the drawer open no page wants more than there is.

    The rail marks what is shown; a copy is asked for.
    """
    window = window_on(demo)
    window.resize(1024, 700)
    for key in ("compare", "record", "plan"):
        window.go(key)
        window.drawer.show()
        qtbot.wait(1)
        assert window.width() == 1024, key
        assert window.page(key).minimumSizeHint().width() <= 1024 - 148 - 350, key
    window.go("import")
    assert not any(b.isChecked() for b in window.rail.stages.values())
    assert not window.drawer.isVisible()
    demo.do(adoption(demo, "Alder"))
    asked = []
    monkeypatch.setattr(
        QMessageBox, "warning", lambda *a: asked.append(a[2]) or QMessageBox.StandardButton.Cancel
    )
    place = str(demo.path.with_name("whole.csv"))
    monkeypatch.setattr(
        QFileDialog, "getSaveFileName", lambda *a: (place, a[3].split(";;")[-1])
    )  # the last kind offered: the full copy
    window.act("export")
    demo.path.with_name("whole.zip").write_text("another file")
    window.act("export")  # the dialog asked about whole.csv only
    assert (len(asked), "whole.zip exists already" in window.said) == (1, True)
    assert demo.path.with_name("whole.zip").read_text() == "another file"
    demo.path.with_name("whole.zip").unlink()
    assert "includes names" in asked[0]
    assert not demo.path.with_name("whole.zip").exists()


def test_rows_of_a_narrow_table_show_all_their_words(qtbot):
    """Where rows wrap they are as high as the longest text needs at this width, else one line high."""
    rows = [("1 cm more of height", "+1"), ("1 kg more of lean soft tissue, right arm", "+2")]
    wraps, cuts = Table(["A", "B"], "x", wraps=True), Table(["A", "B"], "x")
    for table in (wraps, cuts):
        qtbot.addWidget(table)
        table.resize(240, 200)
        table.show()
        table.fill(rows)
    assert (wraps.rowHeight(0), cuts.rowHeight(0)) == (42, 25)
    wraps.resize(600, 200)
    assert wraps.rowHeight(0) == 25
    wraps.fill([("a\nb", "1")])
    assert wraps.rowHeight(0) == 42


def test_table_copies_as_text(qtbot):
    """Ctrl+C copies the rows with their heads; the model keeps Qt's rules."""
    table = Table(["A", "B"], "x")
    qtbot.addWidget(table)
    QAbstractItemModelTester(table.model(), QAbstractItemModelTester.FailureReportingMode.Fatal)
    table.fill([("a", "1"), ("b", "2")])
    table.keyPressEvent(
        QKeyEvent(QKeyEvent.Type.KeyPress, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    )
    assert QApplication.clipboard().text() == "A\tB\na\t1\nb\t2"
    heads = [table.model().headerData(k, Qt.Orientation.Horizontal) for k in range(3)]
    assert heads == ["A", "B", None]
    assert table.model().headerData(0, Qt.Orientation.Vertical) is None
    QTest.keyClick(table, Qt.Key.Key_Down)
