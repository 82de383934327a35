"""The real window, driven by keys and mouse; what is seen and what is in the file afterwards."""

import os
import shutil
import sqlite3
import subprocess
import sys
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace

import pytest
from PyQt6.QtCore import QPoint, QSettings, Qt
from PyQt6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QComboBox,
    QLabel,
    QLineEdit,
    QMenu,
    QScrollBar,
    QTableView,
)

from anchor_tally.app.actions import ACTIONS
from anchor_tally.app.exporting import export
from anchor_tally.app.session import Session
from anchor_tally.ui.application import wants_dark
from anchor_tally.ui.canvas import FigureView
from anchor_tally.ui.find_box import FindBox
from anchor_tally.ui.sheets import About, KeySheet
from driving import previewed, shown
from places import typed


def click_point(qtbot, window, k):
    """Click the k-th pair in the difference plot with the mouse."""
    plot = window.compare.plot
    plot.draw()
    x, y = plot.axes.transData.transform((window.compare.info.x[k], window.compare.info.d[k]))
    ratio = plot.device_pixel_ratio
    qtbot.mouseClick(
        plot,
        Qt.MouseButton.LeftButton,
        pos=QPoint(round(x / ratio), round(plot.height() - y / ratio)),
    )


def test_from_file_to_corrected_reading(qtbot, window_on, demo, tmp_path):
    """Import, ladder, evidence, exclude, adopt, new reading with its corrected value.

    All of it in the file.
    """
    export(demo, tmp_path / "readings.csv")
    session = Session.new(tmp_path / "mine.tally", "mine")
    window = window_on(session)
    assert window.shown == "start"
    previewed(qtbot, window, tmp_path / "readings.csv")
    assert "to import" in window.importing.headline.text()
    shown(
        qtbot,
        window.compare,
        lambda: qtbot.mouseClick(window.importing.take, Qt.MouseButton.LeftButton),
    )
    assert window.compare.headline.text().startswith("Alder reads 2.9 pp too high")
    window.compare.ladder.draw()
    labels = [t.get_text() for t in window.compare.ladder.axes.texts]
    assert labels[:4] == ["Alder", "Birch", "Cedar", "Dogwood"]

    # the mistyped value stands out: open it, exclude it, see the figure change
    worst = int(window.compare.info.d.argmax())
    click_point(qtbot, window, worst)
    drawer = window.drawer
    assert drawer.isVisible()
    assert "Hake" in drawer.table.text(0, 0)
    qtbot.keyClicks(drawer.reason, "mistyped")
    before = window.compare.table.text(0, 1), window.compare.info.d.size
    shown(
        qtbot, window.compare, lambda: qtbot.mouseClick(drawer.exclude, Qt.MouseButton.LeftButton)
    )
    assert drawer.table.text(0, 3) == "excluded"
    assert window.compare.info.d.size == before[1] - 1
    assert window.compare.table.text(0, 1) != before[0]
    shown(qtbot, window.compare, lambda: qtbot.mouseClick(drawer.back, Qt.MouseButton.LeftButton))
    assert window.compare.table.text(0, 1) == before[0]
    shown(
        qtbot,
        window.compare,
        lambda: qtbot.keyClick(window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier),
    )

    shown(
        qtbot,
        window.calibrate,
        lambda: qtbot.keyClick(window, Qt.Key.Key_6, Qt.KeyboardModifier.ControlModifier),
    )
    window.calibrate.show_view("board")
    assert window.calibrate.table.heads[1] == "Alder"
    window.calibrate.show_view("forest")
    qtbot.mouseClick(window.calibrate.adopt, Qt.MouseButton.LeftButton)
    assert window.calibrate.in_force.text().startswith("In force: v1")

    qtbot.keyClick(window, Qt.Key.Key_2, Qt.KeyboardModifier.ControlModifier)
    record = window.record
    record.client.lineEdit().selectAll()
    qtbot.keyClicks(record.client.lineEdit(), "Merle")
    qtbot.keyClick(record.client.lineEdit(), Qt.Key.Key_Return)
    cells = record.entry_rows[0].cells
    for cell, text in zip(cells, ("25,1", "25.3"), strict=False):
        qtbot.keyClicks(cell, text)
        qtbot.keyClick(cell, Qt.Key.Key_Return)
    assert "mean 25.2 → corrected" in record.entry_rows[0].meaning.text()
    assert (
        QApplication.focusWidget() is record.entry_rows[1].cells[1]
    )  # down the display: the mass of this step on the scale
    qtbot.keyClick(cells[2], Qt.Key.Key_F)
    qtbot.keyClicks(record.entry_rows[1].cells[0], "154 lb")
    qtbot.keyClick(record.entry_rows[1].cells[0], Qt.Key.Key_Return)
    qtbot.keyClicks(record.entry_rows[1].cells[1], "9000")
    qtbot.keyClick(record.entry_rows[1].cells[1], Qt.Key.Key_Return)
    assert "not possible" in record.trouble.text()
    assert record.entry_rows[1].cells[1].text() == "9000"

    other = Session.open(tmp_path / "mine.tally", read_only=True)
    new = [r for r in other.readings() if r.client == "Merle"][-4:]
    assert [(r.entered, r.unit, r.status) for r in new] == [
        ("25.1", "percent", "ok"),
        ("25.3", "percent", "ok"),
        ("", "percent", "failed"),
        ("154", "lb", "ok"),
    ]
    assert [r.note for r in other.readings() if r.status == "excluded"] == ["mistyped"]
    assert len(other.calibrations()) == 1
    other.close()
    window.close()
    session.close()


def test_the_first_window_is_as_dark_as_the_desktop(tmp_path):
    """What was chosen in the window goes before."""
    settings = QSettings(str(tmp_path / "s.ini"), QSettings.Format.IniFormat)

    def dark(scheme):  # the offscreen platform has no scheme of its own
        hints = scheme and SimpleNamespace(colorScheme=lambda: scheme)
        return wants_dark(SimpleNamespace(styleHints=lambda: hints), settings)

    assert dark(Qt.ColorScheme.Dark)
    assert not dark(Qt.ColorScheme.Light)
    assert not dark(None)
    settings.setValue("dark", True)
    assert dark(Qt.ColorScheme.Light)


def test_keyboard_lens_and_dark(qtbot, window_on, demo):
    """The ladder and points are reached by keys; the lens hides clients and says so; dark works."""
    window = window_on(demo)
    ladder = window.compare.ladder
    qtbot.keyClick(ladder, Qt.Key.Key_Down)
    assert window.compare.headline.text().startswith("Birch")
    assert "standard" in window.compare.notes.text()
    qtbot.keyClick(window.compare.plot, Qt.Key.Key_Right)
    assert window.drawer.isVisible()
    qtbot.mouseClick(window.drawer.close_button, Qt.MouseButton.LeftButton)
    window.compare.table.opened.emit(1, 0)
    assert window.drawer.title.text().startswith("Limits of agreement")
    assert "Left out" in window.drawer.left_out.text()
    window.lens.list.item(0).setCheckState(Qt.CheckState.Unchecked)
    shown(qtbot, window.compare, window.lens._apply)
    assert window.lens.hidden_.text() == "1 client hidden"
    assert "13 clients" in window.compare.under.text()
    for key in ("plan", "drift"):
        window.page(key)
    window.toggle_dark()
    window.compare.plot.draw()
    assert window.compare.plot.axes.get_facecolor()[0] < 0.2
    for look in (
        lambda: window.act("about"),
        lambda: window.go("plan"),
        lambda: window.go("drift"),
    ):
        look()  # boxes and pages that were not in sight when the theme changed
        seen = window.findChild(About) or window.front
        assert seen.grab().toImage().pixelColor(3, 3).lightness() < 60
        for box in window.findChildren(About):
            box.setParent(None)
    figure = FigureView("Not drawn yet", (10, 10, 10, 10))
    window.front.layout().addWidget(figure)
    figure.show()
    assert figure.grab().toImage().pixelColor(20, 20).lightness() < 60


def test_survey_of_1160_clients(qtbot, window_on, survey_csv):
    """Lists, pickers and figures stay usable with 1,160 clients.

    A method's evidence shows its raw readings.
    """
    session = Session.open(survey_csv)
    window = window_on(session)
    assert window.compare.info.d.size == 1160
    window.go("record")
    assert window.record.client.count() == 1160
    window.go("compare")
    window.lens.search.setText("N9371")
    assert (
        sum(not window.lens.list.item(k).isHidden() for k in range(window.lens.list.count())) < 20
    )
    window.compare.choose(0)
    assert "from memory" not in window.compare.notes.text()
    window.compare.choose(1)
    assert "from memory" in window.compare.notes.text()
    window.compare._choose_point(0)
    texts = [window.drawer.table.text(k, 0) for k in range(window.drawer.table.count)]
    assert any("Survey" in t for t in texts)
    assert any("DXA" in t for t in texts)
    shown(qtbot, window.calibrate, lambda: window.go("calibrate"))
    assert "pooled offset serves all" in window.calibrate.detail.text()
    assert "responds to change cannot be told yet" in window.calibrate.advice.text()
    qtbot.mouseClick(window.calibrate.adopt, Qt.MouseButton.LeftButton)
    record = session.calibrations()[0]
    assert (record.model, record.made_of.reason, record.form) == (
        "line",
        "",
        3,
    )  # its error grows with the value
    assert "a line for all (reference = " in window.calibrate.in_force.text()
    assert window.calibrate.info.left == 1160 - len(window.calibrate.info.trees)
    window.close()
    session.close()


def test_bad_file_says_so_in_place(qtbot, window_on, demo, tmp_path):
    """A file with refused rows is previewed, listed, and imports nothing unless asked to."""
    window = window_on(demo)
    count = len(demo.readings())
    (tmp_path / "bad.csv").write_text("client,taken_at\nA,2026-01-01\n")
    previewed(qtbot, window, tmp_path / "bad.csv")
    assert "Choose the columns with readings" in window.importing.editor.wanting.text()
    assert not window.importing.take.isEnabled()
    export(demo, tmp_path / "same.csv")
    text = (tmp_path / "same.csv").read_text()
    (tmp_path / "same.csv").write_text(
        text + text.splitlines()[1].replace("body_fat_percent", "soul") + "\n"
    )
    previewed(qtbot, window, tmp_path / "same.csv")
    assert "1 row cannot be imported" in window.importing.headline.text()
    assert window.importing.refused.text(0, 0) == "this metric is not known"
    assert not window.importing.take.isEnabled()
    qtbot.mouseClick(window.importing.cancel, Qt.MouseButton.LeftButton)
    assert len(demo.readings()) == count


@pytest.mark.skipif(shutil.which("Xvfb") is None, reason="Xvfb is not installed")
def test_real_window_under_xvfb(tmp_path):
    """The program starts on a real X display with the demo study and paints its window."""
    root = Path(__file__).parent.parent.parent
    code = (
        "import sys; sys.argv = ['anchor-tally', '--demo']; from PyQt6.QtCore import QTimer; from"
        " anchor_tally.ui import application as a\nmade = a.make_application\ndef make(argv):\n   "
        " app = made(argv); t = QTimer(app); t.timeout.connect(lambda: look(app)); t.start(50);"
        " return app\ndef look(app):\n    w = app.activeWindow() or next((x for x in"
        " app.topLevelWidgets() if x.isVisible() and hasattr(x, 'pages')), None)\n    if w is not"
        " None and 'compare' in w.pages and w.pages['compare'].plot is not None:\n       "
        " print(app.platformName(), w.windowTitle(), flush=True); w.close();"
        " app.quit()\na.make_application = make\nsys.exit(a.main(['--demo']))"
    )
    env = {k: v for k, v in os.environ.items() if k != "QT_QPA_PLATFORM"} | {
        "QT_QPA_PLATFORM": "xcb",
        "HOME": str(tmp_path),
        "XDG_CONFIG_HOME": str(tmp_path),
        "XDG_CACHE_HOME": os.environ.get(
            "XDG_CACHE_HOME", str(Path.home() / ".cache")
        ),  # the demo study is drawn once
    }
    done = subprocess.run(
        ["xvfb-run", "-a", sys.executable, "-c", code],
        env=env,
        cwd=root,
        capture_output=True,
        text=True,
        timeout=90,
    )
    assert done.returncode == 0, done.stderr
    assert "xcb Coastal rowing squad (demo) – Anchor Tally" in done.stdout


def test_killed_after_typing(tmp_path):
    """SIGKILL of the window's process right after Enter: the reading is in the file."""
    path = tmp_path / "k.tally"
    code = (
        "import os, signal, sys; from pathlib import Path; from PyQt6.QtCore import QSettings, Qt;"
        " from PyQt6.QtTest import QTest\nfrom anchor_tally.app.session import Session; from"
        " anchor_tally.ui.application import make_application\nfrom anchor_tally.ui.main_window"
        " import MainWindow\napp = make_application([]); folder = Path(sys.argv[1]).parent\nw ="
        " MainWindow(Session.new(Path(sys.argv[1]), 't'), settings=QSettings(str(folder / 's.ini'),"
        " QSettings.Format.IniFormat)); w.show()\nr = w.page('record');"
        " QTest.keyClicks(r.new_instrument, 'Fir'); QTest.keyClick(r.new_instrument,"
        " Qt.Key.Key_Return)\nQTest.keyClicks(r.client.lineEdit(), 'Wren');"
        " QTest.keyClick(r.client.lineEdit(), Qt.Key.Key_Return)\n"
        "r.safety.buttons['none'].click()\ncell = r.entry_rows[0].cells[0];"
        " QTest.keyClicks(cell, '21,5'); QTest.keyClick(cell,"
        " Qt.Key.Key_Return)\nos.kill(os.getpid(), signal.SIGKILL)"
    )
    done = subprocess.run(
        [sys.executable, "-c", code, str(path)], capture_output=True, text=True, timeout=60
    )
    assert done.returncode == -9, done.stderr
    session = Session.open(path)
    assert [(r.client, r.instrument, r.metric, r.value, r.entered) for r in session.readings()] == [
        ("Wren", "Fir", "body_fat_percent", 21.5, "21.5")
    ]
    session.close()


def test_find_menu_and_keys(qtbot, window_on, demo):
    """The find box goes to a client, a visit, an instrument or does a command.

    Menu and key sheet hold every action of the table.
    """
    window = window_on(demo)

    def found(text):
        QApplication.setActiveWindow(window)
        qtbot.keyClick(window, Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
        box = window.findChild(FindBox)
        qtbot.keyClicks(box.text, text)
        qtbot.keyClick(box.text, Qt.Key.Key_Return)
        qtbot.waitUntil(lambda: window.findChild(FindBox) is None)

    found("gann")
    assert (window.shown, window.record.who()) == ("record", "Gannet")
    assert window.record.visit is None
    found("Gannet 2026-05-25")
    assert window.record.when.text().startswith("2026-05-25")
    found("dogwood")
    assert (window.shown, window.plan.tab("instruments").title.text()) == ("plan", "Dogwood")
    dark = window.dark
    found("light")
    assert window.dark != dark
    window.act("menu")
    words = [
        a.text().split("\t")[0]
        for part in window.popped.findChildren(QMenu)
        for a in part.actions()
    ]
    assert {a.words for a in ACTIONS} <= set(words)
    window.popped.close()
    window.act("keys")
    sheet = window.findChild(KeySheet)
    lines = {sheet.table.text(k, 0): sheet.table.text(k, 1) for k in range(sheet.table.count)}
    assert {a.words: a.keys or "–" for a in ACTIONS}.items() <= lines.items()
    sheet.close()
    window.act("about")
    assert any("diagnosis" in x.text() for x in window.findChild(About).findChildren(QLabel))
    window.findChild(About).close()


def test_window_comes_back_as_it_was_left(window_on, tmp_path):
    """Place, stage, lens and the studies opened last are there at the next start.

    A lens that no longer fits is not used.
    """
    path = tmp_path / "mine.tally"
    first = Session.new(path, "mine")
    first.do(typed("Wren", "2026-03-02T07:00", "Fir", "device", "body_mass", "68.2"))
    first.do(typed("Wren", "2026-03-02T07:00", "Fir", "device", "body_fat_percent", "20"))
    window = window_on(first)
    window.go("plan")
    window.session.look(replace(window.session.lens, metric="body_mass", window_hours=12.0))
    window.resize(1100, 680)
    window.close()
    window = window_on(Session.open(path))
    assert (window.shown, window.session.lens.metric, window.session.lens.window_hours) == (
        "plan",
        "body_mass",
        12.0,
    )
    assert window.height() == 680
    assert window.memory.recent() == [path]
    window.session.look(replace(window.session.lens, clients=frozenset({"Wren"})))
    window.go("record")
    window.close()
    with sqlite3.connect(path) as other:
        other.execute("UPDATE client SET code = 'Crane'")
    other.close()
    window = window_on(Session.open(path))
    assert (window.shown, window.session.lens.clients) == ("record", None)
    window.close()


ROOMS = (
    *(
        ("plan", tab)
        for tab in ("clients", "instruments", "protocol", "stated", "assessors", "practice")
    ),
    *(
        ("record", station)
        for station in ("devices", "skinfolds", "impedance", "scan", "check", "methods")
    ),
    ("compare", ""),
    ("calibrate", ""),
    ("import", ""),
)


def test_figures_copy_messages_age_and_everything_has_a_name(qtbot, window_on, demo):
    """Ctrl+C on a figure copies its picture; an old message goes, trouble stays.

    Every control has a name to be read out.
    """
    window = window_on(demo)
    qtbot.keyClick(window.compare.ladder, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    image = QApplication.clipboard().image()
    assert (image.width(), image.height()) == (
        window.compare.ladder.width(),
        window.compare.ladder.height(),
    )
    window.footer._old.setInterval(1)
    window.say("Undone: add a reading.")
    qtbot.waitUntil(lambda: window.said == "")
    window.say("The file cannot be written.", True)
    assert not window.footer._old.isActive()
    assert window.said
    nameless = []
    for stage, tab in ROOMS:
        window.go(stage)
        if tab and stage == "plan":
            window.plan.go(tab)
        elif tab:
            window.record.go_station(tab)
        for kind in (QLineEdit, QComboBox, QAbstractButton, QTableView):
            for w in window.page(stage).findChildren(kind):
                inner = isinstance(
                    w.parent(), QComboBox | QTableView | QScrollBar
                ) or w.objectName().startswith("qt_")
                text = w.text() if isinstance(w, QAbstractButton) else ""
                if not inner and not w.accessibleName() and not text:
                    nameless.append((stage, type(w).__name__, w.toolTip()))
    assert nameless == []
    window.say("Copied.")
    window.close()
    assert (
        not window.footer._old.isActive()
    )  # a timer that outlives its window brings the program down


def test_boxes_stand_on_the_page_that_is_shown(window_on, demo):
    """So that they take its style."""
    window = window_on(demo, at="record")
    assert window.front is window.page("record")


def test_a_message_is_read_to_its_end(window_on, demo):
    """In a narrow window the file's name gives way to a message, then what is next; both come back."""
    window = window_on(demo, at="record")
    window.resize(1024, 700)
    footer = window.footer
    footer.show_next("Next: Auk, devices, in 4 days")
    said = {}
    for words in ("", "The event ends before it begins; nothing was changed.", "long " * 18, ""):
        window.say(words, True)
        footer.layout().activate()
        said[words] = footer.place.isVisible(), footer.next.isVisible()
        assert footer.said.width() >= footer.said.sizeHint().width()
    assert list(said.values()) == [(True, True), (False, True), (False, False)]
    footer.show_next("")
    assert not footer.next.isVisible()
