"""The calendar and the planner, driven by keys and mouse: what is seen, and what is in the file."""

import re
from dataclasses import replace

import vobject
from pypdf import PdfReader
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QFileDialog

from anchor_tally.analysis.plan.schedule import ordinal
from anchor_tally.analysis.time.best_estimate import BestEstimateRequest
from anchor_tally.app.bench import device_order
from anchor_tally.app.session import Session
from anchor_tally.domain.records import Client, Instrument
from anchor_tally.domain.steps import finish
from anchor_tally.study.edits.clients import AddClient, PutClient, PutStudy
from anchor_tally.study.edits.instruments import AddInstrument
from anchor_tally.wording.best_estimate import next_words
from anchor_tally.wording.plan import iso
from driving import select, shown
from places import CLOCK, reading, study_of, typed


def in_file(window):
    """The scheme as another reader finds it in the file."""
    other = Session.open(window.session.path, read_only=True)
    scheme = other.scheme()
    other.close()
    return scheme


def test_a_day_is_moved_measured_and_done(qtbot, window_on, demo):
    """By keys: to a planned day, a day later, undo, left out, the bench; the visit makes it done."""
    window = window_on(demo, at="plan")
    plan = window.plan
    shown(qtbot, plan, lambda: window.go("plan"))
    tab = plan.tab("calendar")
    view = tab.view
    assert plan.headline.text() == "Nothing is due. Next is Auk, devices, in 4 days."
    view.setFocus()
    qtbot.keyClick(view, Qt.Key.Key_Right)
    assert tab.selected.text() == "Auk, Devices, 31 Aug 2026: planned"
    shown(
        qtbot,
        plan,
        lambda: qtbot.keyClick(view, Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier),
    )
    assert tab.selected.text() == "Auk, Devices, 1 Sep 2026: planned; moved by hand"
    assert [(m.due, m.day) for m in in_file(window).moved] == [("2026-08-31", "2026-09-01")]
    shown(qtbot, plan, window.undo)
    assert not in_file(window).moved
    shown(qtbot, plan, lambda: qtbot.keyClick(view, Qt.Key.Key_Delete))
    assert "Left out: 31 Aug 2026" in window.said
    shown(qtbot, plan, window.undo)
    first = next(d for d in tab.schedule.days if iso(d.day) == "2026-08-31")
    view.choose(first)
    qtbot.keyClick(view, Qt.Key.Key_Return)
    assert (window.shown, window.record.who(), window.record.station) == (
        "record",
        "Auk",
        "devices",
    )
    when = window.record.bar.when
    when.setText("2026-08-31 06:30")
    when.editingFinished.emit()
    window.record.grid.focus_next(None)
    for key in ("1", "8"):
        QTest.keyClicks(window.focusWidget(), key)
    qtbot.keyClick(window.focusWidget(), Qt.Key.Key_Return)
    shown(qtbot, plan, lambda: window.go("plan"))
    now = next(
        d
        for d in tab.schedule.days
        if (d.rule, d.due, d.client) == (first.rule, first.due, first.client)
    )
    assert now.state == "done"


def test_the_calendar_says_what_narrows_most(qtbot, window_on, demo):
    """Of the client under the mark: the figures of the best estimate; nothing of a protected client."""
    window = window_on(demo, at="plan")
    tab = window.plan.tab("calendar")
    shown(qtbot, window.plan, lambda: window.go("plan"))
    tab.view.setFocus()
    with qtbot.waitSignal(tab.advised, timeout=60_000):
        qtbot.keyClick(tab.view, Qt.Key.Key_Right)
    code = tab.advice.text().split(":")[0]
    snapshot = finish(demo.wide_snapshot_steps(("body_fat_percent",)))
    asked = BestEstimateRequest(snapshot, demo.lens, code, today=demo.today())
    r = finish(asked.run())
    assert tab.advice.text() == f"{code}: {next_words(r)}"
    assert f"from ±{r.ahead.waiting:.1f} pp to ±{r.ahead.candidates[0].half:.1f} pp" in next_words(
        r
    )
    client = demo.catalogue().client_coded(code)
    demo.do(PutClient(replace(client, cautions=frozenset({"eating_disorder"}))))
    tab._advise(tab._current())
    assert not tab.advice.isVisible()


def test_a_day_is_dragged(qtbot, window_on, demo):
    """The mouse takes a planned day three days on; into a journey it does not go."""
    window = window_on(demo, at="plan")
    plan = window.plan
    shown(qtbot, plan, lambda: window.go("plan"))
    tab = plan.tab("calendar")
    view = tab.view
    d = next(d for d in tab.schedule.days if iso(d.day) == "2026-09-28" and d.station == "girths")
    view.choose(d)
    spot = view.mark_of(d).center()

    def drag(days):
        end = spot + QPoint(days * view.day_width, 0)
        qtbot.mousePress(view.viewport(), Qt.MouseButton.LeftButton, pos=spot)
        qtbot.mouseMove(view.viewport(), end)
        qtbot.mouseRelease(view.viewport(), Qt.MouseButton.LeftButton, pos=end)

    shown(qtbot, plan, lambda: drag(3))
    assert [(m.due, m.day) for m in in_file(window).moved] == [("2026-09-28", "2026-10-01")]
    assert "1 Oct 2026" in window.said
    race = next(e for e in window.session.events() if e.kind == "race")
    now = view.current()
    shown(qtbot, plan, lambda: tab._move(now, ordinal(race.starts)))
    assert "moved round a span" in window.said


def test_a_scheme_from_an_empty_study(qtbot, window_on, tmp_path, monkeypatch):
    """A newcomer chooses a scheme; what is due stands in the footer, and F9 goes to the bench."""
    session = Session.new(tmp_path / "n.tally", "n", clock=CLOCK)
    session.do(AddClient(Client(0, "A1")))
    session.do(AddInstrument(Instrument(0, "Fir", "device", electrodes="feet")))
    window = window_on(session)
    window.go("plan")
    plan = window.plan
    tab = plan.tab("calendar")
    shown(qtbot, plan, lambda: plan.go("calendar"))
    assert tab.stack.currentWidget() is tab.editor
    editor = tab.editor
    editor.preset.setCurrentIndex(editor.preset.findData("one_scan"))
    assert "one scan in week 6" in editor.purpose.text()
    editor.first.setText("2026-08-24")
    shown(qtbot, plan, lambda: qtbot.mouseClick(editor.use, Qt.MouseButton.LeftButton))
    assert [(r.station, r.form) for r in in_file(window).rules] == [
        ("devices", "weekdays"),
        ("scan", "days"),
        ("devices", "scan"),
    ]
    assert editor.table.text(0, 0) == (
        "Devices: on Mondays and Thursdays from 24 Aug 2026 to 15 Nov 2026"
    )
    tab.show_calendar()
    assert tab.list.text(0, 0) == "A1, devices, today"
    window.due.look()
    qtbot.waitUntil(lambda: window.footer.next.text() == "Next: A1, devices, today")
    target = tmp_path / "c.ics"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(target), ""))
    qtbot.mouseClick(tab.export, Qt.MouseButton.LeftButton)
    events = list(vobject.readOne(target.read_text()).vevent_list)
    assert {e.summary.value for e in events} == {"A1: Scan", "A1: Devices"}
    days = sorted(e.dtstart.value.isoformat() for e in events)
    assert days[0] == "2026-08-27"
    assert (
        len({e.uid.value for e in events})
        == len(events)
        == len([d for d in tab.schedule.days if d.state not in ("done", "missed")])
    )
    editor.days.setText("every now and then")
    editor._save()
    assert "is not a number of days" in window.said
    qtbot.keyClick(window, Qt.Key.Key_F9)
    assert (window.shown, window.record.who()) == ("record", "A1")


def test_the_planner_follows_its_levers(qtbot, window_on, demo):
    """More scans narrow the interval; a wanted half-width says what reaches it; bad input is said."""
    window = window_on(demo, at="plan")
    plan = window.plan
    shown(qtbot, plan, lambda: window.go("plan"))
    shown(qtbot, plan, lambda: plan.go("precision"))
    tab = plan.tab("precision")
    assert plan.headline.text().startswith("Alder. Expected: a client's offset to ±1.2 pp.")
    assert tab.origins["scan"].text() == "stated"
    before = tab.curve.chosen
    shown(qtbot, plan, lambda: tab.spins["scans"].setValue(6))
    assert tab.curve.chosen[0] == 6
    assert tab.curve.chosen[1] < before[1]
    assert tab.sliders["scans"].value() == 6
    tab.wanted.setText("0,5")
    shown(qtbot, plan, tab.wanted.editingFinished.emit)
    assert tab.curve.wanted == 0.5
    assert "to ±0.5 pp" in plan.headline.text()
    tab.fields["day"].setText("much")
    tab.fields["day"].setModified(True)
    tab.fields["day"].editingFinished.emit()
    assert "is not a number" in tab.refused.text()


def test_the_order_of_devices_changes_from_visit_to_visit(qtbot, window_on, demo):
    """A balanced study shows another order at the next visit, and the old one at an old visit."""
    window = window_on(demo, at="plan")
    shown(qtbot, window.plan, lambda: window.go("plan"))
    window.plan.go("protocol")
    box = window.plan.tab("protocol").balanced
    box.setFocus()
    qtbot.keyClick(box, Qt.Key.Key_Space)
    assert window.session.catalogue().balanced
    record = window.record
    orders = []
    for code in ("Auk", "Cod"):
        window.go("record")
        record.take_client(code)
        orders.append(list(dict.fromkeys(r.instrument for r in record.entry_rows)))
        assert f"Order of this visit: {', '.join(orders[-1])}" in record.hint.text()
    devices = {"Alder", "Birch", "Cedar", "Dogwood"}
    assert all(set(o) == devices for o in orders)
    assert orders[0] != orders[1]
    before = device_order(window.session, "Auk", window.session.visits_of("Auk")[0].id)
    window.session.do(typed("Auk", "2026-09-01T06:30", "Alder", "device", "body_mass", "80"))
    newest = window.session.visits_of("Auk")
    assert device_order(window.session, "Auk", newest[1].id) == before
    assert device_order(window.session, "Auk", newest[0].id) == tuple(orders[0])


def test_two_devices_take_turns():
    """Two devices change places from visit to visit; there is no order of one."""
    session = study_of([reading("A", f"2026-01-{d:02}T07:00", 20.0) for d in (5, 6)])
    session.do(PutStudy("x", practice=False, balanced=True))
    assert device_order(session, "A", None) == ()
    session.do(AddInstrument(Instrument(0, "Elm", "device")))
    orders = [device_order(session, "A", v.id) for v in session.visits_of("A")]
    assert sorted(orders) == [("Elm", "Fir"), ("Fir", "Elm")]
    session.close()


def test_a_training_case_is_solved(qtbot, window_on, demo):
    """A case opens from Plan; its answer is judged in any stage; another study ends it."""
    window = window_on(demo, at="plan")
    shown(qtbot, window.plan, lambda: window.go("plan"))
    window.plan.go("training")
    tab = window.plan.tab("training")
    select(tab.table, 3)
    qtbot.mouseClick(tab.button, Qt.MouseButton.LeftButton)
    assert window.session.title == "Training case 4"
    place = window.session.path.parent
    bar = window.training
    drift = window.page("drift")
    shown(qtbot, drift, lambda: window.go("drift"))
    assert drift.headline.text().startswith("Device: step change, down")
    assert bar.isVisible()
    qtbot.mouseClick(bar.button, Qt.MouseButton.LeftButton)
    assert bar.said.text() == "Choose what is wrong first."
    bar.problem.setCurrentIndex(bar.problem.findData("drift"))
    bar.amount.setText("1.5")
    qtbot.keyClick(bar.amount, Qt.Key.Key_Return)
    assert bar.said.text().startswith("Not so: two settings are mixed under one name. Nothing")
    bar.problem.setCurrentIndex(bar.problem.findData("settings"))
    bar.amount.clear()
    qtbot.keyClick(bar.amount, Qt.Key.Key_Return)
    assert bar.said.text().startswith(
        "Right: two settings are mixed under one name. Nothing should"
    )
    window.open_demo()
    assert window.training is None
    assert not place.exists()


def test_sheets_for_the_bench(qtbot, window_on, demo, tmp_path, monkeypatch):
    """A page a client, in the order of the bench, codes only unless names are asked for."""
    auk = demo.catalogue().client_coded("Auk")
    demo.do(PutClient(replace(auk, name="Zoe <b>Example</b>", cautions=frozenset({"implant"}))))
    window = window_on(demo, at="plan")
    shown(qtbot, window.plan, lambda: window.go("plan"))
    tab = window.plan.tab("calendar")
    tab.view.choose(next(d for d in tab.schedule.days if iso(d.day) == "2026-08-31"))
    target = tmp_path / "sheets"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(target), ""))
    for named in (False, True):
        tab.named.setChecked(named)
        tab.paper.setCurrentText("Letter" if named else "A4")
        qtbot.mouseClick(tab.sheets, Qt.MouseButton.LeftButton)
        assert "14 sheets written to" in window.said
        pdf = PdfReader(target.with_suffix(".pdf"))
        assert len(pdf.pages) == 14
        box = pdf.pages[0].mediabox
        assert (round(box.width), round(box.height)) == ((612, 792) if named else (595, 842))
        text = " ".join(pdf.pages[0].extract_text().split())
        assert ("Zoe" in text, "Coastal rowing squad" in text) == (named, named)
        assert "Implanted electronics" in text
        assert "Alder" not in text  # an impedance scale is locked; the tape is not
        assert "Waist girth" in text
    second = " ".join(pdf.pages[1].extract_text().split())
    places = [second.index(name) for name in ("Alder", "Birch", "Cedar", "Dogwood")]
    assert places == sorted(places)
    usual = 2.77 * demo.usual_spread("Alder", "body_fat_percent", None)
    assert re.search(rf"repeats ± {usual:.1f}(?!\d)", second)  # with the decimals of the metric


def test_a_drawn_study_is_opened_with_its_truth_sealed(qtbot, window_on, demo):
    """The simulator's answer, and one of its studies in the window; the truth is told when asked."""
    window = window_on(demo, at="plan")
    shown(qtbot, window.plan, lambda: window.go("plan"))
    plan = window.plan
    plan.go("simulator")
    tab = plan.tab("simulator")
    tab.studies.setText("many")
    qtbot.mouseClick(tab.start, Qt.MouseButton.LeftButton)
    assert "is not between 1 and" in tab.refused.text()
    tab.studies.setText("4")
    for name, text in (("scans", "2"), ("clients", "8"), ("drift_per_week", "0,2")):
        tab.fields[name].setText(text)
    shown(qtbot, plan, lambda: qtbot.keyClick(tab.fields["bias"], Qt.Key.Key_Return))
    assert plan.headline.text().startswith("In 4 studies, 95 % intervals held the truth: bias")
    assert tab.verdicts.count > 2
    qtbot.mouseClick(tab.open, Qt.MouseButton.LeftButton)
    assert window.session.title == "Drawn study"
    assert len(window.session.readings()) == 8 * 2 * 4
    bar = window.training
    assert not bar.said.isVisible()
    qtbot.mouseClick(bar.button, Qt.MouseButton.LeftButton)
    assert "Drift +0.20 pp a week" in bar.said.text()


def test_a_refusal_of_the_planner_is_seen_in_a_small_window(qtbot, window_on, demo):
    """All of it, at 1024 × 700, with the fields scrolled to the top."""
    window = window_on(demo, at="plan")
    window.resize(1024, 700)
    window.plan.go("precision")
    tab = window.plan.tab("precision")
    qtbot.waitUntil(lambda: tab.plan is not None, timeout=30_000)
    tab.change.selectAll()
    QTest.keyClicks(tab.change, "two")
    qtbot.keyClick(tab.change, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: tab.refused.text().startswith("Planned change: “two” is not"))
    qtbot.waitUntil(lambda: tab.refused.visibleRegion().boundingRect() == tab.refused.rect())
