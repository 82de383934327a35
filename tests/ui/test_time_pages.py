"""Drift, Calibrate and Track, driven: what is on the screen, and what is in the file afterwards."""

import json
from dataclasses import replace
from datetime import date

import numpy as np
import pytest
from pypdf import PdfReader
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QApplication, QFileDialog

from anchor_tally.analysis.review import ReviewRequest
from anchor_tally.analysis.time.best_estimate import BestEstimateRequest
from anchor_tally.app.session import Session
from anchor_tally.cli.main import main
from anchor_tally.domain.events import Event
from anchor_tally.domain.steps import finish
from anchor_tally.domain.units import Quantity
from anchor_tally.figures.drift import positions
from anchor_tally.study.edits.checks import AddCheckWeight
from anchor_tally.study.edits.clients import PutClient
from anchor_tally.study.edits.decisions import Decide
from anchor_tally.study.edits.events import AddEvent
from anchor_tally.study.edits.readings import AddReadings, ExcludeReading, NewReading
from driving import select, shown
from places import CLOCK, adoption, reading, study_of


def click_at(qtbot, figure, x, y=None, *, twice=False):
    """Click into a figure at a place in its data, once or twice.

    Without ``y`` near its upper edge.
    """
    figure.draw()
    low, high = figure.axes.get_ylim()
    at = figure.axes.transData.transform((x, high - 0.04 * (high - low) if y is None else y))
    place = QPoint(round(at[0]), round(figure.height() - at[1]))
    qtbot.mouseClick(figure, Qt.MouseButton.LeftButton, pos=place)
    if twice:
        qtbot.mouseDClick(figure, Qt.MouseButton.LeftButton, pos=place)


def other(window):
    """The file through another connection."""
    return Session.open(window.session.path, read_only=True)


def test_drift_and_the_changes_noted_from_its_picture(qtbot, window_on, demo):
    """Verdicts as planted.

    A day clicked, a battery noted, a setting begun with its readings, taken away again; a
    point's readings.
    """
    window = window_on(demo)
    page = window.page("drift")
    shown(
        qtbot,
        page,
        lambda: qtbot.keyClick(window, Qt.Key.Key_5, Qt.KeyboardModifier.ControlModifier),
    )
    assert page.headline.text().startswith("Alder is stable")
    page.choose(1)
    assert "step change, down 3.3 pp" in page.headline.text()
    assert "its setting changed to athlete (1 Jun 2026)" in page.headline.text()
    page.choose(3)
    assert page.headline.text().startswith("Dogwood drifts: its error rises by")
    lines = [page.table.text(k, 0) for k in range(page.table.count)]
    assert "p of slope or step" not in lines
    page.every.click()
    lines = [page.table.text(k, 0) for k in range(page.table.count)]
    assert {"Slope (pp per week)", "Theil–Sen slope (pp per week)", "p of slope or step"} <= set(
        lines
    )
    page.choose(0)
    days = positions(page.info)
    click_at(qtbot, page.figure, days.min() + 30)
    assert page.day.text() == "2026-04-01"
    page.what.setCurrentText("battery")
    qtbot.keyClicks(page.text, "new cells")
    shown(qtbot, page, lambda: qtbot.keyClick(page.text, Qt.Key.Key_Return))
    file = other(window)
    of_devices = [e for e in file.events() if e.instrument is not None]
    assert [(e.kind, e.starts, e.note) for e in of_devices] == [
        ("battery", "2026-04-01", "new cells")
    ]
    file.close()
    assert [c.words for c in page.results[0].changes] == ["battery"]
    page.day.setText("2026-06-15")
    page.what.setCurrentText("setting")
    qtbot.keyClicks(page.text, "summer")
    shown(qtbot, page, lambda: qtbot.mouseClick(page.note, Qt.MouseButton.LeftButton))
    file = other(window)
    under = {
        r.taken_at[:10]
        for r in file.readings()
        if r.instrument == "Alder" and r.setting == "summer"
    }
    assert min(under) == "2026-06-15"
    file.close()
    x = positions(page.info).min() + 105  # the noted change of 15 June
    click_at(qtbot, page.figure, x)
    assert page.change is not None
    page.day.setText("2026-07-01")
    shown(qtbot, page, lambda: qtbot.mouseClick(page.move_, Qt.MouseButton.LeftButton))
    file = other(window)
    assert min(r.taken_at[:10] for r in file.readings() if r.setting == "summer") >= "2026-07-01"
    file.close()
    days = positions(page.info)
    click_at(
        qtbot, page.figure, days.min() + 121
    )  # the change of 1 July is chosen, then undone until it is gone
    assert page.change is not None
    for _ in range(2):
        shown(qtbot, page, window.undo)
    assert page.change is None
    assert not page.away.isVisible()
    for _ in range(2):
        shown(qtbot, page, window.redo)
    click_at(qtbot, page.figure, positions(page.info).min() + 121)
    window.undo()
    window.undo()
    page._take_away()  # before the page has its answer
    assert "no longer in the study" in window.said
    for _ in range(2):
        shown(qtbot, page, window.redo)
    for _ in range(3):
        shown(qtbot, page, window.undo)
    file = other(window)
    assert not [e for e in file.events() if e.instrument is not None]
    assert not [r for r in file.readings() if r.setting == "summer"]
    file.close()
    click_at(qtbot, page.figure, positions(page.info)[0], page.info.difference[0])
    assert (window.drawer.isVisible(), window.drawer.table.count) == (
        True,
        4,
    )  # three repeats and a scan
    page.day.setText("soon")
    page.text.setText("x")
    said = []
    page.message.connect(lambda text, trouble: said.append((text, trouble)))
    qtbot.mouseClick(page.note, Qt.MouseButton.LeftButton)
    assert said[0][1]
    assert "nothing was changed" in said[0][0]


def test_drift_says_what_is_missing_and_uses_check_weights(qtbot, window_on, demo, capsys):
    """Two clients are too few; check weights stand as weaker evidence.

    The command line says the same.
    """
    for k in range(5):
        shown_kg = 20.0 + 0.1 * k + 0.02 * (k % 2)
        masses = (Quantity(x, f"{x:g}", "kg") for x in (20.0, shown_kg))
        demo.do(
            AddCheckWeight(
                demo.catalogue().instrument_named("Alder").id, f"2026-0{k + 3}-02T08:00", *masses
            )
        )
    window = window_on(demo)
    demo.look(replace(demo.lens, clients=frozenset({"Auk", "Cod"})))
    page = window.page("drift")
    shown(qtbot, page, lambda: window.go("drift"))
    assert "not enough scans" in page.headline.text()
    assert "against known masses: drift" in page.notes.text()
    demo.look(replace(demo.lens, metric="girth_hip"))  # no device has it: Enter notes nothing
    qtbot.waitUntil(lambda: not page.results)
    before = len(demo.events())
    page.text.setText("battery")
    qtbot.keyClick(page.text, Qt.Key.Key_Return)
    assert len(demo.events()) == before
    capsys.readouterr()
    assert main(["drift", "--demo", "--instrument", "Birch", "--json"], CLOCK) == 0
    out = json.loads(capsys.readouterr().out)
    assert (out["schema"], out["verdict"]) == ("anchor-tally/drift/1", "stepped")
    assert {"slope_per_week", "ci", "p", "steps", "robust", "control_chart"} <= out.keys()
    assert (out["steps"][0]["setting_changed"], out["steps"][0]["at"]) == (True, "2026-06-01")


def test_a_low_window_keeps_every_name_legible(qtbot, window_on, demo):
    """1024×700: no text of the forest lies over another, what stands behind the advice can be scrolled, the card is whole."""
    window = window_on(demo, at="calibrate")
    page = window.calibrate
    shown(qtbot, page, lambda: window.go("calibrate"))
    window.resize(1024, 700)
    qtbot.waitUntil(lambda: page.forest.all_drawn() and page.forest.height() < 320)
    page.forest.draw()
    boxes = [
        t.get_window_extent().padded(0, -2) for t in page.forest.axes.texts
    ]  # without the air over and under the letters
    assert not any(a.overlaps(b) for k, a in enumerate(boxes) for b in boxes[:k])
    assert page.adopt.mapTo(window, page.adopt.rect().bottomLeft()).y() < window.height()
    page.forest.setFixedHeight(
        66 + 22 + 5 * 14
    )  # room for five: those farthest from the pooled offset, and that others are not drawn
    qtbot.waitUntil(lambda: page.forest.all_drawn() and len(page.info.trees) == 5)
    assert page.info.left == 9
    assert "Merle" in {t.client for t in page.info.trees}
    assert "not drawn: 9 clients closest to the pooled offset" in page.forest.axes.get_xlabel()


def test_forest_board_versions_and_certificate(qtbot, window_on, demo, capsys):
    """A row opens its readings; adopting, a second version, both beside each other, withdrawing.

    The certificate; advice needs a reason.
    """
    window = window_on(demo, at="calibrate")
    page = window.calibrate
    shown(qtbot, page, lambda: window.go("calibrate"))
    assert page.info.trees[0].client == "Merle"  # the planted odd client stands on top
    click_at(qtbot, page.forest, page.info.trees[0].offset, 0)
    assert window.drawer.title.text() == "Alder: Merle"
    assert "Shrunk towards the group mean" in window.drawer.formula.text()
    assert window.drawer.table.count == 12  # three tallies of three, three scans
    page.errors.draw()
    assert any("advised" in t.get_text() for t in page.errors.axes.texts)
    qtbot.mouseClick(page.adopt, Qt.MouseButton.LeftButton)
    others = frozenset(c.code for c in demo.catalogue().clients.values()) - {"Merle"}
    shown(qtbot, page, lambda: demo.look(replace(demo.lens, clients=others)))
    qtbot.mouseClick(page.adopt, Qt.MouseButton.LeftButton)
    page.show_view("versions")
    assert [page.versions.list.text(k, 1) for k in range(2)] == ["in force", "superseded"]
    assert page.versions.sentence.text().startswith("From v1 to v2 the largest change is")
    qtbot.mouseClick(page.versions.withdraw, Qt.MouseButton.LeftButton)
    assert [page.versions.list.text(k, 1) for k in range(2)] == ["withdrawn", "in force"]
    page.versions.list.choose(1)
    qtbot.mouseClick(page.versions.certificate, Qt.MouseButton.LeftButton)
    data = json.loads(QApplication.clipboard().text())
    told = (data["schema"], data["version"], len(data["offsets"]), data["own_offsets"])
    assert told == ("anchor-tally/certificate/2", 1, 1, 14)
    window.undo()
    assert page.versions.list.text(0, 1) == "in force"
    path = window.session.path
    page.show_view("board")
    page.table.opened.emit(0, 1)
    assert window.drawer.title.text() == "Alder: all clients"
    demo.look(replace(demo.lens, clients=frozenset({"Auk", "Cod"})))
    qtbot.waitUntil(lambda: "Not enough scanned clients" in page.advice.text(), timeout=60_000)
    page.choose(2)
    assert not page.adopt.isEnabled()  # against the advice only with a reason, which is kept
    qtbot.keyClicks(page.reason, "house rule")
    qtbot.mouseClick(page.adopt, Qt.MouseButton.LeftButton)
    assert "house rule" in {c.made_of.reason for c in demo.calibrations()}
    assert "against the advice (house rule)" in page.in_force.text()
    window.close()
    demo.close()
    capsys.readouterr()
    assert main(["certificate", str(path), "--instrument", "Alder"]) == 0
    assert json.loads(capsys.readouterr().out)[0]["validity"]["valid_until"] > "2026-08-17"
    assert main(["certificate", "--demo", "--instrument", "Alder"], CLOCK) == 2
    assert "no offset of Alder is adopted" in capsys.readouterr().err


def test_provisional_against_a_field_method(qtbot, window_on, demo):
    """Without a scan a method may stand in: its published error is in the intervals, and everything says provisional."""
    window = window_on(demo)
    page = window.calibrate
    demo.look(replace(demo.lens, reference="bmi_deurenberg_1991"))
    shown(qtbot, page, lambda: window.go("calibrate"))
    r = page.results[page.chosen]
    assert "a field method: provisional. Its published error (SD 4.1)" in page.detail.text()
    assert r.pooled.new.high - r.pooled.new.low > 2 * 1.96 * 4.1
    assert r.provisional
    demo.look(replace(demo.lens, reference="Consensus"))
    qtbot.waitUntil(lambda: "Consensus is not one" in page.headline.text(), timeout=60_000)


def test_track_one_client(qtbot, window_on, demo):
    """The verdict between dates chosen in the picture, a corrected series, a goal, an event over the dates, another client."""
    window = window_on(demo, at="calibrate")
    shown(qtbot, window.calibrate, lambda: window.go("calibrate"))
    qtbot.mouseClick(window.calibrate.adopt, Qt.MouseButton.LeftButton)
    page = window.page("track")
    shown(
        qtbot,
        page,
        lambda: qtbot.keyClick(window, Qt.Key.Key_7, Qt.KeyboardModifier.ControlModifier),
    )
    assert page.client.currentText() == "Auk"
    assert "20 Jul 2026 to 17 Aug 2026" in page.headline.text()  # the last four weeks
    assert "any two dates" not in page.under.text()
    assert "Waist girth" in page.under.text()
    assert "Information, not a target" in page.notes.text()
    shown(qtbot, page, lambda: page.choose(0))
    assert "Alder on 17 Aug 2026: corrected" in page.under.text()
    assert page.table.text(0, 0) == "Alder (pp)"
    assert page.table.text(1, 0) == "Birch (pp)"
    shown(qtbot, page, lambda: page.choose(0))
    page.every.click()  # all statistics, here and on the other pages
    names = [page.table.text(k, 0) for k in range(page.table.count)]
    below = names[names.index("Alder (pp)") + 1]  # what belongs to the selected device
    assert below == "  days near both dates"
    day = page.result.series[0].day - np.datetime64("1970-01-01", "D").astype(int) - 719163 + 0.5
    shown(qtbot, page, lambda: click_at(qtbot, page.figure, day[3]))
    assert page.result.since == int(page.result.series[0].day[3])
    shown(qtbot, page, lambda: click_at(qtbot, page.figure, day[8]))
    assert page.result.until == int(page.result.series[0].day[8])
    shown(qtbot, page, lambda: qtbot.keyClick(page.figure, Qt.Key.Key_Right))
    assert page.result.until == int(page.result.series[0].day[9])
    dates = (page.from_.text(), page.to.text())
    page.names.buttons[0].click()
    assert "any two dates" in page.under.text()
    page.names.buttons[1].click()
    chosen = page.result.since, page.result.until
    with qtbot.waitSignal(page.shown), qtbot.waitSignal(page.evidence) as opened:
        click_at(qtbot, page.figure, day[5], twice=True)
    assert opened.args[0].name.startswith("Alder: Auk, 20")
    assert len(opened.args[0].readings) == 3
    assert window.drawer.isVisible()
    window.drawer.hide()
    assert (page.result.since, page.result.until) == chosen  # looking does not move the dates
    page.events.kind.setCurrentText("illness")
    qtbot.keyClicks(page.events.remark, "flu")
    shown(qtbot, page, lambda: qtbot.keyClick(page.events.remark, Qt.Key.Key_Return))
    qtbot.keyClicks(page.goal, "13,5")
    shown(qtbot, page, lambda: qtbot.keyClick(page.goal, Qt.Key.Key_Return))
    page.names.buttons[0].click()
    assert "Goal 13.5 %" in page.under.text()
    file = other(window)
    assert [(e.kind, e.starts, e.ends, e.note) for e in file.events() if e.kind == "illness"] == [
        ("illness", *dates, "flu")
    ]
    assert [g.value for g in file.goals()] == [13.5]
    file.close()
    shown(qtbot, page, lambda: page.events.away.click())
    assert not [e for e in demo.events() if e.kind == "illness"]
    page.figure.setFocus()
    shown(qtbot, page, lambda: qtbot.keyClick(page.figure, Qt.Key.Key_Escape))
    assert "20 Jul 2026 to 17 Aug 2026" in page.headline.text()
    shown(qtbot, page, lambda: page.choose(4))
    assert "shows only 0." in page.notes.text()  # the equation from body mass index is stuck
    page.water.setCurrentIndex(1)
    shown(qtbot, page, lambda: page.choose(1))
    assert page.result.water == "rule"
    shown(qtbot, page, lambda: page.follow("Merle"))
    assert page.headline.text().startswith("Merle, body fat")
    page.from_.setText("yesterday")
    said = []
    page.message.connect(lambda text, _trouble: said.append(text))
    page._dates_typed()
    assert said == ["A date is written as 2026-03-02."]


def test_second_window_follows_one_client(qtbot, window_on, demo):
    """What one window notes, adopts and leaves out stands in the other one's Track, which cannot write."""
    window_on(demo)
    second = window_on(Session.open(demo.path))
    page = second.page("track")
    shown(qtbot, page, lambda: second.go("track"))
    assert not page.events.isVisible()
    auk = demo.catalogue().client_coded("Auk").id
    demo.do(AddEvent(Event(0, auk, None, "2026-04-01", "2026-04-09", "illness", "flu")))
    qtbot.waitUntil(lambda: "flu" in [e.note for e in page.result.events], timeout=60_000)
    demo.do(adoption(demo, "Alder"))
    shown(qtbot, page, lambda: page.choose(0))
    qtbot.waitUntil(lambda: "Alder on 17 Aug 2026: corrected" in page.under.text(), timeout=60_000)
    days = page.result.series[0].day.size
    last = [
        r
        for r in demo.readings()
        if (r.client, r.instrument, r.metric) == ("Auk", "Alder", "body_fat_percent")
    ][-3:]
    for r in last:
        demo.do(ExcludeReading(r.id, "wet"))
    qtbot.waitUntil(lambda: page.result.series[0].day.size == days - 1, timeout=60_000)


def test_track_shows_no_fat_where_that_is_forbidden(qtbot, window_on, demo, tmp_path, monkeypatch):
    """A history of disordered eating: no fat number, at once; girths can be followed."""
    auk = demo.catalogue().client_coded("Auk")
    window = window_on(demo, at="track")
    page = window.page("track")
    shown(qtbot, page, lambda: window.go("track"))
    assert "body fat" in page.headline.text()
    demo.do(PutClient(replace(auk, cautions=frozenset({"eating_disorder"}))))
    qtbot.waitUntil(lambda: "no fat number is shown" in page.headline.text(), timeout=60_000)
    assert not page.side.isVisible()
    assert "Choose body mass, a girth" in page.under.text()
    assert page.remedy.isHidden()
    demo.do(
        AddReadings(
            "Auk", "2026-08-20T07:00", (NewReading("Tape", "method", "girth_hip", "98 cm", 1, ""),)
        )
    )
    offered = []

    def choose(_parent, _title, name, kinds):
        offered.extend(kinds.split(";;"))
        return str(tmp_path / name), offered[0]

    monkeypatch.setattr(QFileDialog, "getSaveFileName", choose)
    for _ in range(2):
        window.say("")
        qtbot.mouseClick(page.page_button, Qt.MouseButton.LeftButton)
        qtbot.waitUntil(lambda: "Page for Auk written" in window.said, timeout=60_000)
    assert not [k for k in offered if k.startswith("With body fat")]
    (sheet,) = PdfReader(tmp_path / "Auk.pdf").pages
    assert "Hip girth" in sheet.extract_text()
    assert "waist" not in sheet.extract_text().lower()
    assert "fat" not in sheet.extract_text().lower()
    demo.look(replace(demo.lens, metric="girth_waist"))
    qtbot.waitUntil(lambda: "waist girth" in page.headline.text(), timeout=60_000)
    assert "disordered eating" in page.cautions.text()


@pytest.mark.parametrize(
    ("key", "missing"),
    [
        ("drift", "Drift needs readings of a device at several scans"),
        ("track", "Track needs a client with readings"),
    ],
)
def test_pages_of_an_empty_study(qtbot, window_on, tmp_path, key, missing):
    """Nothing to show is said, with what it needs."""
    session = Session.new(tmp_path / "n.tally", "t")
    window = window_on(session)
    page = window.page(key)
    shown(qtbot, page, lambda: window.go(key))
    assert page.under.text().startswith(missing)
    window.close()
    session.close()


def test_all_clients_stand_side_by_side(qtbot, window_on, demo):
    """The button shows every client; Enter on a row follows that client."""
    window = window_on(demo, at="track")
    page = window.page("track")
    shown(qtbot, page, lambda: window.go("track"))
    with qtbot.waitSignal(page.everyone.changed, timeout=60_000):
        page.everyone.button.click()
    assert page.headline.text().startswith("14 clients, body fat.")
    assert "no ranking" in page.under.text()
    assert [page.table.text(k, 0) for k in range(3)] == ["Auk", "Brill", "Cod"]
    page.table.setFocus()
    select(page.table, 2)
    shown(qtbot, page, lambda: qtbot.keyClick(page.table, Qt.Key.Key_Return))
    qtbot.waitUntil(lambda: page.headline.text().startswith("Cod, body fat"))
    assert not page.everyone.button.isChecked()
    assert page.names.isVisible()
    cod = demo.catalogue().client_coded("Cod")
    demo.do(PutClient(replace(cod, cautions=frozenset({"eating_disorder"}))))
    qtbot.waitUntil(lambda: "no fat number is shown" in page.headline.text(), timeout=60_000)
    with qtbot.waitSignal(page.everyone.changed, timeout=60_000):  # the others can be seen
        page.everyone.button.click()
    assert page.table.isVisible()
    assert page.table.heads[1:3] == ["Now (%)", "Four weeks (pp)"]
    assert page.table.text(2, 1) == "not shown"
    shown(qtbot, page, page.everyone.button.click)
    assert "no fat number is shown" in page.headline.text()


def test_track_tells_the_value_from_all_sources(qtbot, window_on, demo):
    """The value of the command is on the page; a protected client has none, and no girth has one."""
    window = window_on(demo, at="track")
    page = window.page("track")
    shown(qtbot, page, lambda: window.go("track"))
    if page.client.currentText() != "Auk":
        shown(qtbot, page, lambda: page.follow("Auk"))
    snapshot = finish(demo.wide_snapshot_steps(("body_fat_percent",)))
    r = finish(BestEstimateRequest(snapshot, demo.lens, "Auk").run())
    assert page.headline.text().startswith(f"Auk, body fat: {r.value.value:.1f} %")
    assert f"From {r.scans} scans, {r.devices} other sources" in page.notes.text()
    assert "BMI equation 1991 (from height, mass" in page.notes.text()
    assert page.table.text(0, 0) == "Lab scan"
    assert page.table.heads[1] == "Part of the value"
    opened = []
    page.evidence.connect(opened.append)
    page.open_chosen()
    assert "Lab scan, 17 Aug 2026: 14.3 %, weight" in opened[0].formula
    assert len(opened[0].readings) > 50
    page.names.buttons[1].click()
    qtbot.waitUntil(lambda: "Alder alone" in page.headline.text())
    assert page.table.heads[0] == "Figure"
    page.names.buttons[0].click()
    assert "Alder alone" not in page.headline.text()
    demo.do(
        PutClient(
            replace(demo.catalogue().client_coded("Auk"), cautions=frozenset({"eating_disorder"}))
        )
    )
    shown(qtbot, page, page.refresh)
    assert not page.side.isVisible()


def test_what_waits_is_decided_from_track(qtbot, window_on, demo):
    """A button leads to Review; once the finding is decided the reading counts or is excluded."""
    window = window_on(demo, at="track")
    page = window.page("track")
    shown(qtbot, page, lambda: window.go("track"))
    shown(qtbot, page, lambda: page.follow("Auk"))
    assert not page.decide.isVisible()
    shown(qtbot, page, lambda: page.follow("Hake"))
    assert "Not counted until you decide in Review: Alder," in page.under.text()
    qtbot.mouseClick(page.decide, Qt.MouseButton.LeftButton)
    assert window.shown == "review"
    key = next(
        f.key
        for f in finish(ReviewRequest(finish(demo.material_steps())).run()).found
        if f.severity == "stop"
    )
    demo.do(Decide(key, "keep", "it stood on the display"))
    shown(qtbot, page, lambda: window.go("track"))
    assert "Not counted" not in page.under.text()
    assert not page.decide.isVisible()


def test_scans_alone_open_their_days(qtbot, window_on):
    """A double click on the course of a client without devices opens the scan of that day."""
    lines = [
        reading("Solo", f"2026-0{m}-02T08:00", 20 + m / 10, name="Scan", kind="reference")
        for m in range(2, 8)
    ]
    window = window_on(study_of(lines))
    page = window.page("track")
    shown(qtbot, page, lambda: window.go("track"))
    opened = []
    page.evidence.connect(opened.append)
    x = date(2026, 4, 3).toordinal() - date(1970, 1, 1).toordinal()
    click_at(qtbot, page.figure, x, twice=True)
    assert opened[0].name == "Solo, 2026-04-02"
    assert len(opened[0].readings) == 1


def test_dates_beyond_the_readings_are_refused(qtbot, window_on, demo):
    """A first date of the year 9999, or after the second one: a sentence, the old dates, the old picture."""
    window = window_on(demo)
    page = window.page("track")
    shown(qtbot, page, lambda: window.go("track"))
    told = []
    page.message.connect(lambda text, *_: told.append(text))
    dates = page.from_.text(), page.to.text()
    for text in ("9999-12-31", "1901-01-01", "2026-13-01"):
        page.from_.setFocus()
        page.from_.setText(text)
        qtbot.keyClick(page.from_, Qt.Key.Key_Return)
        if text != "2026-13-01":
            assert (page.from_.text(), page.to.text()) == dates
    assert "has readings from" in told[0]
    assert told[-1] == "A date is written as 2026-03-02."
    page.paint()
