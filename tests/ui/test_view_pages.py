"""The faces of Compare, driven: what the first sentence, the picture and the drawer say, and what moves them."""

from types import SimpleNamespace

import pytest
from PyQt6.QtCore import Qt

from anchor_tally.analysis.offsets.calibrate import CalibrateRequest
from anchor_tally.analysis.offsets.which_device import price_of
from anchor_tally.app.session import Session
from anchor_tally.domain.steps import finish
from anchor_tally.figures import forms, views
from driving import shown
from places import reading, study_of, typed


def open_view(qtbot, window, key):
    """Go to a face by its tab and wait for its answer."""
    page = window.page(key)
    tabs = window.page(window.shown).tabs
    shown(qtbot, page, lambda: qtbot.mouseClick(tabs.buttons[key], Qt.MouseButton.LeftButton))
    return page


def test_views_of_the_demo(qtbot, window_on, demo):
    """Each face answers its question in its first sentence; a point opens to its readings.

    Another instrument changes both.
    """
    window = window_on(demo)
    page = open_view(qtbot, window, "consistency")
    assert page.headline.text().startswith("Alder: repeats minutes apart agree within")
    assert "39.2 % (other repeats" in page.notes.text()
    assert window.rail.stages["compare"].isChecked()
    days = {row.name: row.value for row in page.lines(page.results[0])}
    page.near.setFocus()
    qtbot.keyClick(page.near, Qt.Key.Key_End)
    shown(qtbot, page, lambda: page.near.activated.emit(page.near.currentIndex()))
    assert "visits at most 7 days apart" in page.under.text()
    assert {row.name: row.value for row in page.lines(page.results[0])} != days
    qtbot.keyClick(page.figure, Qt.Key.Key_Down)
    assert page.headline.text().startswith("Birch")
    page.open_chosen()
    assert window.drawer.table.count > 10
    page = open_view(qtbot, window, "change")
    assert not window.drawer.isVisible()
    info = views.quadrants(page.results[0])
    assert (info.dx.size, info.zone) == (28, pytest.approx(2.77 * 0.4))
    page.figure.draw()
    x, y = page.figure.axes.transData.transform((info.dx[3], info.dy[3]))
    page.clicked(SimpleNamespace(xdata=info.dx[3], ydata=info.dy[3], x=x, y=y))
    assert window.drawer.title.text() == "Alder: one change, both visits"
    assert {
        window.drawer.table.text(k, 0).split()[1] for k in range(window.drawer.table.count)
    } == {"Alder", "Lab"}
    page = open_view(qtbot, window, "water")
    assert "fat falls by" in page.headline.text()
    qtbot.mouseClick(page.names.buttons[1], Qt.MouseButton.LeftButton)
    assert page.headline.text().startswith("Birch")
    page.client.setCurrentIndex(page.client.findText("Auk"))
    page.client.activated.emit(page.client.currentIndex())
    page.dry.setCurrentIndex(1)
    page.loaded.setCurrentIndex(0)
    with qtbot.waitSignal(page.evaluated):
        page.loaded.activated.emit(0)
    assert (
        page.sensitivity.text()
        == "The two mornings are more than 7 days apart: fat itself may have changed."
    )
    page = open_view(qtbot, window, "alike")
    assert page.headline.text().startswith("No two devices behave alike")
    assert views.matrix(page.results[0]).known.all()
    page = open_view(qtbot, window, "score")
    told = "No clear winner for body fat level. For tracking change, probably Cedar."
    assert page.headline.text() == told
    assert "a change of setting counts as error: Birch." in page.under.text()
    said = {job: page.said[job].text() for job in page.said}
    assert said["change"].startswith(
        "No clear winner. Cedar: error of a change 1.5 pp (95 % CI 1.1 to 2.0), best in"
    )
    assert "Birch: smallest detectable change 2.3 pp" in said["daily"]
    cards = {c.instrument.name: c for c in page.results[0].cards}
    equation = cards["BMI equation (Gallagher 2000)"]  # the smallest errors, but no response
    assert equation.change.error.value < cards["Cedar"].change.error.value
    assert (equation.level.best, equation.change.best) == (None, None)
    alder = finish(CalibrateRequest(demo.snapshot(), demo.lens, "Alder").run())[0]
    assert cards["Alder"].level.error.value == pytest.approx(alder.cross_validation.after)
    shown_of_one = {page.cards.text(k, 0): page.cards.text(k, 3) for k in range(page.cards.count)}
    assert shown_of_one["Cedar"] == "1.25 (0.94 to 1.56)"
    page.failed.setText("5")
    shown(qtbot, page, page.failed.editingFinished.emit)
    names = [page.cards.text(k, 0) for k in range(page.cards.count)]
    assert "Cedar\nRuled out: 10 % of its readings failed (at most 5 %)" in names
    assert "Cedar" not in page.headline.text()
    qtbot.mouseClick(page.tabs.buttons["compare"], Qt.MouseButton.LeftButton)
    assert window.compare.isVisible()


def test_other_forms_of_closeness(qtbot, window_on, demo):
    """Ratio, sloping, percentile and identity forms of the chosen instrument, with their figures beside them."""
    window = window_on(demo)
    page = window.compare
    page.form_tabs.findChildren(type(page.substitute))[1].click()
    with qtbot.waitSignal(page.formed):
        page.choose_form("ratio")
    r = page.results[0]
    shown_forms = [key for key, _ in forms.FORMS[1:] if page.form_buttons[key].isVisible()]
    assert shown_forms == ["ratio", "sloping", "identity"]  # no percentiles of repeats
    words = {forms.info(r, key).y_label for key in shown_forms}
    assert words == {"Alder / Lab scan", "Alder − Lab scan (pp)", "Alder (%)"}
    assert [page.table.text(k, 0) for k in range(2)] == [
        "Passing–Bablok: slope",
        "  intercept (pp)",
    ]
    page.choose_form("identity")
    page.plot.draw()
    said = {t.get_text() for t in page.plot.axes.texts}
    assert any(t.startswith("Passing–Bablok 1.") for t in said)
    page.choose_form("difference")
    assert page.table.text(0, 0) == "Bias (pp)"


def test_percentiles_are_for_single_pairs(qtbot, window_on):
    """A device read once beside each client's scan has them; one with repeats goes back to the difference plot."""
    lines = []
    for c in range(12):
        for repeat in (1, 2) if c % 2 else (1,):
            shown_value = 20 + c + 0.3 * repeat
            lines.append(
                reading(f"C{c:02}", "2026-01-05T07:00", shown_value, name="Elm", repeat=repeat)
            )
        lines.append(reading(f"C{c:02}", "2026-01-05T07:05", 20.5 + c + 0.1 * (c % 5)))
        lines.append(reading(f"C{c:02}", "2026-01-05T08:00", 20 + c, name="Scan", kind="reference"))
    page = window_on(study_of(lines)).compare
    designs = {r.pairs.instrument.name: k for k, r in enumerate(page.results)}
    page.choose(designs["Fir"])
    with qtbot.waitSignal(page.formed):
        page.choose_form("percentiles")
    assert (page.form, page.form_buttons["percentiles"].isVisible()) == ("percentiles", True)
    page.choose(designs["Elm"])
    assert (page.form, page.form_buttons["percentiles"].isVisible()) == ("difference", False)


def test_look_alikes_circular_water_and_nothing_to_show(qtbot, window_on, tmp_path):
    """Two brands of one formula, a muscle value computed from another, water that is fat told again, parts that do not add up."""
    import numpy as np

    session, rng = Session.new(tmp_path / "n.tally", "t"), np.random.default_rng(2)
    for c in range(4):
        for week in range(6):
            at = f"2026-{3 + week // 4:02}-{1 + 7 * (week % 4):02}T07:00"
            fat = 20 + 2 * c + rng.normal(0, 1)
            mass = 70 + c
            for name, shift in (("Ash", 0.0), ("Elm", 1.0)):
                session.do(
                    typed(f"C{c}", at, name, "device", "body_fat_percent", f"{fat + shift:.1f}")
                )
            other = 22 + 2 * c + rng.normal(0, 1)
            session.do(typed(f"C{c}", at, "Oak", "device", "body_fat_percent", f"{other:.1f}"))
            session.do(
                typed(
                    f"C{c}",
                    at,
                    "Ash",
                    "device",
                    "total_body_water_percent",
                    f"{0.73 * (100 - fat):.1f}",
                )
            )
            muscle = 30 + c + rng.normal(0, 1)
            session.do(typed(f"C{c}", at, "Ash", "device", "total_muscle_mass", f"{muscle:.2f}"))
            session.do(
                typed(f"C{c}", at, "Ash", "device", "skeletal_muscle_mass", f"{0.61 * muscle:.2f}")
            )
            for metric, value in (
                ("body_mass", mass),
                ("fat_mass", mass * fat / 100),
                ("fat_free_mass", mass * (1 - fat / 100) - 3),
            ):
                session.do(typed(f"C{c}", at, "Ash", "device", metric, f"{value:.2f}"))
    window = window_on(session)
    window.go("compare")
    page = open_view(qtbot, window, "alike")
    assert page.headline.text().startswith("Ash and Elm behave alike")
    lines = [page.table.text(k, 0) for k in range(page.table.count)]
    assert any("skeletal muscle" in x and "is computed from" in x for x in lines)
    assert any(x.startswith("Ash: body mass − (fat mass + fat-free mass)") for x in lines)
    page = open_view(qtbot, window, "water")
    assert "from the same measurement" in page.headline.text()
    assert "remove real change" in page.notes.text()
    page = open_view(qtbot, window, "change")
    assert "No scan with body fat yet" in page.headline.text()
    assert page.under.text().startswith("A change needs two scans")
    page = open_view(qtbot, window, "score")
    assert page.under.text().startswith("Not enough data: needs readings of at least two")
    window.close()
    session.close()


@pytest.mark.parametrize(
    ("text", "price"),
    [
        ("149 EUR", 149),
        ("1,299.00", 1299),
        ("89,90 €", 89.9),
        ("1.299", 1299),
        ("", None),
        ("free", None),
    ],
)
def test_prices(text, price):
    """Prices as people write them."""
    assert price_of(text) == price
