"""Review, driven: the list, its pictures, decisions with reasons, and what is in the file afterwards."""

import pytest
from PyQt6.QtCore import Qt

from anchor_tally.app.session import Session
from driving import kept, select, shown
from places import typed


@pytest.mark.prepared
def test_findings_are_decided(qtbot, window_on, demo):
    """The review counts in the background.

    A finding is excluded with a reason, undone, kept, opened again; the bench is one click
    away.
    """
    window = window_on(demo)
    page = window.page("review")
    qtbot.waitUntil(lambda: window.found == 2, timeout=60_000)  # nobody has gone there yet
    assert "2 findings to resolve or check" in window.rail.stages["review"].toolTip()
    window.go("review")
    assert page.headline.text() == "2 findings: 1 to resolve before use, 1 to check."
    assert (page.table.count, page.table.text(0, 3), page.table.text(1, 3)) == (
        2,
        "Hake, Alder, body fat",
        "Cod",
    )
    select(page.table, 1)
    assert page.advice.text().startswith("Conditions not met: ")
    assert not page.exclude.isVisible()
    select(page.table, 0)
    page.figure.draw()
    rings = [
        line
        for line in page.figure.axes.lines
        if line.get_markerfacecolor() == "none" and line.get_markersize() > 10
    ]
    assert [line.get_ydata().tolist() for line in rings] == [[39.2]]
    page.table.setFocus()
    qtbot.keyClick(page.table, Qt.Key.Key_Return)
    assert (window.drawer.title.text(), window.drawer.table.count) == ("Hake, Alder, body fat", 1)
    said = []
    page.message.connect(lambda text, trouble: said.append((text, trouble)))
    qtbot.mouseClick(page.exclude, Qt.MouseButton.LeftButton)
    assert said == [("a decision needs a reason; nothing was changed.", True)]
    qtbot.keyClicks(page.reason, "mistyped, the sheet says 19.2")
    shown(qtbot, page, lambda: qtbot.mouseClick(page.exclude, Qt.MouseButton.LeftButton))
    assert [(r.value, r.status, r.note) for r in kept(window) if r.status == "excluded"] == [
        (39.2, "excluded", "mistyped, the sheet says 19.2")
    ]
    assert page.headline.text() == "1 finding to check. 1 finding decided."
    qtbot.waitUntil(lambda: "Alder: bias" in page.under.text(), timeout=60_000)
    page.decided.click()
    assert page.table.count == 1
    assert "Excluded: mistyped" in page.advice.text()
    shown(qtbot, page, lambda: qtbot.mouseClick(page.again, Qt.MouseButton.LeftButton))
    assert not [r for r in kept(window) if r.status == "excluded"]
    page.decided.click()
    qtbot.waitUntil(lambda: page.table.count == 2)
    select(page.table, 1)
    page.reason.setText("came unfasted, kept on purpose")
    qtbot.mouseClick(page.keep, Qt.MouseButton.LeftButton)
    other = Session.open(window.session.path, read_only=True)
    assert list(other.decisions().values()) == [("keep", "came unfasted, kept on purpose")]
    other.close()
    assert window.found == 1
    qtbot.mouseClick(page.bench, Qt.MouseButton.LeftButton)
    assert (window.shown, window.record.client.currentText()) == ("record", "Hake")


@pytest.mark.prepared
def test_a_new_slip_is_found_at_once(qtbot, window_on, tmp_path):
    """A study without faults says so.

    A mistyped mass is found when it is kept, wherever the user is.
    """
    session = Session.new(tmp_path / "n.tally", "t")
    for k in range(6):
        session.do(
            typed(
                "A", f"2026-0{k + 1}-02T07:00", "Fir", "device", "body_mass", f"{80 + 0.1 * k:.1f}"
            )
        )
    window = window_on(session)
    page = window.page("review")
    shown(qtbot, page, lambda: window.go("review"))
    assert page.headline.text() == "No rule found a problem."
    window.go("plan")
    session.do(typed("A", "2026-07-02T07:00", "Fir", "device", "body_mass", "177.0"))
    window.refresh()
    qtbot.waitUntil(lambda: window.found == 1, timeout=60_000)
    assert "pounds for kilograms?" in page.table.text(0, 0)


def test_a_table_is_looked_through_in_its_preview(qtbot, window_on, tmp_path):
    """The preview names the line that looks wrong, with the words of the review.

    Taking it is still the user's choice.
    """
    session = Session.new(tmp_path / "n.tally", "t")
    for k in range(5):
        session.do(
            typed(
                "A", f"2026-0{k + 1}-02T07:00", "Fir", "device", "body_mass", f"{80 + 0.1 * k:.1f}"
            )
        )
    window = window_on(session)
    head = "client,taken_at,instrument,kind,metric,value,unit,replicate"
    path = tmp_path / "new.csv"
    path.write_text(
        f"{head}\nA,2026-06-02T07:00,Fir,device,body_mass,80.3,kg,1\nA,2026-07-02T07:00,Fir,device,body_mass,177.2,kg,1\n"
    )
    with qtbot.waitSignal(window.importing.looked, timeout=60_000):
        window.import_file(path)
    assert window.importing.doubts.text().startswith("1 finding (Review")
    assert (
        "line 3: A, Fir, body mass, 2 Jul 2026: 177.2 kg, usually about 80.3: pounds for"
        " kilograms?" in window.importing.doubts.text()
    )
    assert window.importing.take.isEnabled()
    assert len(kept(window)) == 5
