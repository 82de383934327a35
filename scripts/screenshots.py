"""Make the pictures of docs/screenshots and docs/pages from the demo study.

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
from PyQt6.QtGui import QImage, QPainter
from PyQt6.QtPdf import QPdfDocument
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QWidget

from anchor_tally.analysis.agreement.claims import Claim
from anchor_tally.app.demo import demo_session
from anchor_tally.app.documents import KINDS, Choice, document_steps
from anchor_tally.app.reporting import write_report
from anchor_tally.app.session import Session
from anchor_tally.app.sheets import sheets_of
from anchor_tally.domain.clock import fixed
from anchor_tally.domain.steps import finish
from anchor_tally.reports.visit_sheet import as_html
from anchor_tally.study.edits.clients import PutClient
from anchor_tally.ui.application import make_application
from anchor_tally.ui.canvas import FigureView
from anchor_tally.ui.main_window import MainWindow
from anchor_tally.ui.paper import write_pdf

DRIFT = 8  # the row of its section in the list of the report
CLOCK = fixed("2026-08-27T06:30:00")  # the pictures show the same days whenever they are made
WIDE = (
    "Summer mornings\n"
    "Athlete;Date;Time;Alder fat (%) 1;Alder fat (%) 2;Birch fat (%);Weight (lb);Waist"
    " (in);fasted;Remark\n"
    "Auk;14/09/2026;06:30;18,4;18,9;15,2;181,2;32,5;yes;\n"
    "Brill;14/09/2026;06:40;27,4;;23,2;150;30;no;late\n"
    "Cod;31/09/2026;06:50;19,4;;16,2;176;33;yes;\n"
)


def until(signal, action):
    """Do something and wait for its signal (10 s at most)."""
    loop = QEventLoop()
    signal.connect(loop.quit)
    QTimer.singleShot(10_000, loop.quit)
    action()
    loop.exec()


def _plan(window: MainWindow, session: Session, keep: Callable[[str], None], folder: Path) -> None:
    """The calendar, a sheet, the planner and the simulator."""
    client = session.catalogue().clients[1]
    told = {"birth": "1994-05", "usual_activity": "rows 6 days a week"}
    session.do(PutClient(replace(client, cautions=frozenset({"implant"}), **told)))
    plan = window.page("plan")
    until(plan.shown, lambda: window.go("plan"))
    until(plan.shown, lambda: plan.go("calendar"))
    calendar = plan.tab("calendar")
    calendar.view.setFocus()
    for key in (Qt.Key.Key_Down, Qt.Key.Key_Right, Qt.Key.Key_Right):
        QTest.keyClick(calendar.view, key)
    keep("calendar")
    days = [d for d in calendar.schedule.days if d.day == calendar.view.current().day]
    html = as_html(sheets_of(session, days))
    with tempfile.TemporaryDirectory() as place:
        pages = folder.parent / "pages"
        pages.mkdir(exist_ok=True)
        picture_of(write_pdf(html, Path(place) / "sheets.pdf"), pages / "sheet.png", 1)
    until(plan.shown, lambda: plan.go("precision"))
    keep("precision")
    plan.go("simulator")
    simulator = plan.tab("simulator")
    simulator.fields["drift_per_week"].setText("0.05")
    simulator.studies.setText("20")
    until(plan.shown, simulator.run)
    keep("simulator")


def picture_of(pdf: Path, target: Path, page: int) -> None:
    """One page of a PDF as a picture."""
    document = QPdfDocument(None)
    document.load(str(pdf))
    size = document.pagePointSize(page)
    paper = QImage(round(size.width()), round(size.height()), QImage.Format.Format_RGB32)
    paper.fill(Qt.GlobalColor.white)
    painter = QPainter(paper)
    painter.drawImage(0, 0, document.render(page, paper.size()))
    painter.end()
    paper.save(str(target))
    print(target)


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
    until(window.page("score").shown, lambda: window.go("score"))
    keep("which-device")
    review = window.page("review")
    if review.result is None:
        until(review.shown, lambda: window.go("review"))
    window.go("review")
    keep("review")


def _through_time(window: MainWindow, keep: Callable[[str], None], folder: Path) -> None:
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
    until(track.shown, track.everyone.button.click)
    keep("all-clients")
    track.everyone.button.setChecked(False)
    report = window.page("report")
    until(report.shown, lambda: window.go("report"))
    until(report.shown, lambda: report.sections.setCurrentItem(report.sections.topLevelItem(DRIFT)))
    keep("report")
    _pages(track.session, folder.parent / "pages")


def _pages(session: Session, folder: Path) -> None:
    """The first page of each document."""
    folder.mkdir(exist_ok=True)
    device = session.calibrations()[-1].instrument
    subjects = {"study": "", "device": device, "client": "Dory"}
    with tempfile.TemporaryDirectory() as place:
        for kind in KINDS:
            choice = Choice(session.lens, subjects[kind.about], claim=Claim(0.95, 0.3))
            written = Path(place) / "page.pdf"
            write_report(finish(document_steps(session, kind.key, choice)), written)
            picture_of(written, folder / f"{kind.key}.png", 1 if kind.parts else 0)


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
        _through_time(window, keep, folder)
        window.choose("record")  # as the user does: the message before is over
        record = window.page("record")
        record.client.setEditText("Merle")
        record.bar.choose_client()
        record.visits.setCurrentIndex(1)
        until(record.level.told, record.bar.choose_visit)
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
        _plan(window, session, keep, folder)
        _import(window, Path(place), keep)
        _workbook(window, Path(place), keep)
        window.set_dark(True)
        until(window.page("compare").shown, lambda: window.go("compare"))
        keep("compare-dark")
        window.set_dark(False)
        window.open_case("4")
        until(window.page("drift").shown, lambda: window.go("drift"))
        bar = window.training
        bar.problem.setCurrentIndex(bar.problem.findData("settings"))
        bar.answer()
        keep("training")
        window.attach(Session.new(Path(place) / "my-study.tally", "My study", clock=CLOCK))
        keep("start")
        window.close()


if __name__ == "__main__":
    main(
        Path(sys.argv[1])
        if len(sys.argv) > 1
        else Path(__file__).parent.parent / "docs" / "screenshots"
    )
