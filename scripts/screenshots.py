"""Make the pictures of docs/screenshots from the demo study.

``python scripts/screenshots.py [FOLDER]``.
"""

import os
import sys
import tempfile
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")


import messy_workbook
import numpy as np
from PyQt6.QtCore import QEventLoop, QSettings, Qt, QTimer
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QWidget

from anchor_tally.app.demo import demo_session
from anchor_tally.app.session import Session
from anchor_tally.domain.clock import fixed
from anchor_tally.study.edits.clients import PutClient
from anchor_tally.ui.application import make_application
from anchor_tally.ui.canvas import FigureView
from anchor_tally.ui.main_window import MainWindow

CLOCK = fixed("2026-08-27T06:30:00")  # the pictures show the same days whenever they are made
WIDE = (
    "Summer mornings\n"
    "Athlete;Date;Time;Alder fat (%) 1;Alder fat (%) 2;Birch fat (%);Weight (lb);Waist"
    " (in);fasted;Remark\n"
    "Auk;14/09/2026;06:30;18,4;18,9;15,2;181,2;32,5;yes;\n"
    "Brill;14/09/2026;06:40;27,4;;23,2;150;30;no;late\n"
    "Cod;31/09/2026;06:50;19,4;;16,2;176;33;yes;\n"
)
ASSESSED = [
    ("8.2", "8.6"), ("14.0", "13.4"), ("11.2", "11.2"), ("6.8", "7.2"), ("19.4", "20.2"), ("9.0", "8.8"),
    ("12.6", "13.4"), ("16.0", "15.6"), ("7.4", "7.4"), ("10.2", "10.8"), ("22.0", "21.2"), ("13.0", "12.4"),
]  # fmt: skip


def until(signal, action):
    """Do something and wait for its signal (10 s at most)."""
    loop = QEventLoop()
    signal.connect(loop.quit)
    QTimer.singleShot(10_000, loop.quit)
    action()
    loop.exec()


def _plan(window: MainWindow, session: Session, keep: Callable[[str], None]) -> None:
    """The cards of a client with a caution, and an assessor check."""
    client = session.catalogue().clients[1]
    told = {"birth": "1994-05", "usual_activity": "rows 6 days a week"}
    session.do(PutClient(replace(client, cautions=frozenset({"implant"}), **told)))
    window.go("plan")
    keep("clients")
    window.page("plan").go("assessors")
    page = window.page("plan").tab("assessors")
    page.assessor.setEditText("R. K.")
    for k, (first, second) in enumerate(ASSESSED, start=1):
        for field, text in ((page.person, str(k)), (page.first, first), (page.second, second)):
            field.setText(text)
        QTest.keyClick(page.second, Qt.Key.Key_Return)


def _import(window: MainWindow, place: Path, keep: Callable[[str], None]) -> None:
    """A wide table with semicolons and decimal commas, its columns guessed."""
    os.environ["XDG_CONFIG_HOME"] = str(place)
    path = place / "summer-mornings.csv"
    path.write_text(WIDE, encoding="cp1252")
    until(window.page("import").previewed, lambda: window.import_file(path))
    window.page("import").cancel.click()


def _workbook(window: MainWindow, place: Path, keep: Callable[[str], None]) -> None:
    """A workbook of several sheets, with a group of refused rows and its remedy."""
    path = place / "spring-group.xlsx"
    messy_workbook.make(path)
    page = window.page("import")
    until(page.previewed, lambda: window.import_file(path))
    page.editor.gaps.setCurrentIndex(page.editor.gaps.findData("failed"))
    until(page.previewed, lambda: page.editor.gaps.activated.emit(page.editor.gaps.currentIndex()))
    keep("import-workbook")
    page.cancel.click()


def _caution(window: MainWindow, session: Session, keep: Callable[[str], None]) -> None:
    """A client who is shown no fat number."""
    record = window.page("record")
    client = session.catalogue().client_coded("Brill")
    if client is not None:
        session.do(PutClient(replace(client, cautions=frozenset({"eating_disorder"}))))
    record.client.setEditText("Brill")
    record.bar.choose_client()
    record.go_station("girths")
    for metric, text in (("girth_waist_navel", "78"), ("girth_hip", "97")):
        entry_row = next(x for x in record.entry_rows if x.metric == metric)
        entry_row.cells[0].setFocus()
        QTest.keyClicks(entry_row.cells[0], text)
        QTest.keyClick(entry_row.cells[0], Qt.Key.Key_Return)
    keep("record-caution")
    record.client.setEditText("Merle")
    record.bar.choose_client()


def app_focus() -> QWidget:
    """The widget that has the keys."""
    found = QApplication.focusWidget()
    if found is None:
        raise RuntimeError("nothing has the focus")
    return found


def _views(window: MainWindow, keep: Callable[[str], None]) -> None:
    """Views of Compare, and what the review found."""
    for name, picture in (
        ("consistency", "repeatability"),
        ("change", "change"),
        ("water", "hydration"),
        ("score", "which-device"),
    ):
        until(window.page(name).shown, lambda name=name: window.go(name))
        keep(picture)
    review = window.page("review")
    if review.result is None:
        until(review.shown, lambda: window.go("review"))
    window.go("review")
    keep("review")


def _through_time(window: MainWindow, keep: Callable[[str], None]) -> None:
    """A device that stepped, offsets adopted, and a client followed with them."""
    drift = window.page("drift")
    until(drift.shown, lambda: window.go("drift"))
    drift.choose(1)
    keep("drift")
    calibrate = window.page("calibrate")
    until(calibrate.shown, lambda: window.go("calibrate"))
    calibrate.adopt.click()
    keep("calibrate")
    track = window.page("track")
    until(track.shown, lambda: window.go("track"))
    track.goal.setText("14")
    until(track.shown, track._set_goal)
    until(track.shown, lambda: track.follow("Dory"))
    keep("track")


def main(folder: Path) -> None:
    """Walk through the stages and keep a picture of each."""
    app = make_application([])
    with tempfile.TemporaryDirectory() as place:
        session = demo_session(Path(place), clock=CLOCK)
        window = MainWindow(
            session, settings=QSettings(f"{place}/settings.ini", QSettings.Format.IniFormat)
        )
        window.resize(1280, 800)
        until(window.page("compare").shown, window.show)

        def keep(name: str, widget: QWidget = window) -> None:
            for _ in range(5):
                app.processEvents()
            # the pages in waiting, and the review that runs beside the window, change its look
            while window.preparation.waiting or window.jobs.busy() or not FigureView.all_drawn():
                app.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
            widget.grab().save(str(folder / f"{name}.png"))
            print(folder / f"{name}.png")

        keep("compare")
        page = window.page("compare")
        page._choose_point(int(np.argmax(page.results[page.chosen].pairs.d)))  # the mistyped one
        keep("evidence")
        window.drawer.hide()
        _views(window, keep)
        _through_time(window, keep)
        window.go("record")
        record = window.page("record")
        record.client.setEditText("Merle")
        record.bar.choose_client()
        record.visits.setCurrentIndex(1)
        record.bar.choose_visit()
        keep("record")
        _caution(window, session, keep)
        record.go_station("skinfolds")
        profile = record.head.profile
        profile.setCurrentIndex(profile.findText("8 sites", Qt.MatchFlag.MatchStartsWith))
        profile.activated.emit(profile.currentIndex())
        folds = zip(
            ["15", "12", "8", "14", "11", "18", "21", "13"],
            ["15.4", "12.2", "8", "16", "11", "18.4", "21.5", "13"],
            strict=True,
        )
        for entry_row, pair in zip(record.entry_rows, folds, strict=True):
            for cell, text in zip(entry_row.cells, pair, strict=False):
                cell.setFocus()
                QTest.keyClicks(cell, text)
                QTest.keyClick(cell, Qt.Key.Key_Return)
        record.entry_rows[3].cells[2].setFocus()
        keep("skinfolds")
        record.go_station("methods")
        keep("methods")
        _plan(window, session, keep)
        _import(window, Path(place), keep)
        _workbook(window, Path(place), keep)
        window.set_dark(True)
        until(window.page("compare").shown, lambda: window.go("compare"))
        keep("compare-dark")
        window.set_dark(False)
        window.attach(Session.new(Path(place) / "my-study.tally", "My study", clock=CLOCK))
        keep("start")
        page = window.page("start")
        page.begin()
        page.go_step(1)
        page.devices.lines[0].name.setText("Alder")
        page.devices.lines[0].went.emit()
        keep("set-up")
        window.close()


if __name__ == "__main__":
    main(
        Path(sys.argv[1])
        if len(sys.argv) > 1
        else Path(__file__).parent.parent / "docs" / "screenshots"
    )
