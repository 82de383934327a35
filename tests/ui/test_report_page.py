"""The Report stage: real pages, sections on and off, figures and tables to take away."""

import csv
import json
from dataclasses import replace
from xml.etree import ElementTree

import pytest
from openpyxl import load_workbook
from PIL import Image
from pypdf import PdfReader
from PyQt6.QtCore import Qt
from PyQt6.QtPrintSupport import QPrinter
from PyQt6.QtWidgets import QApplication, QFileDialog

from anchor_tally.cli.main import main
from anchor_tally.figures.style import DARK, LIGHT
from anchor_tally.study.edits.clients import PutClient
from anchor_tally.ui import saving
from driving import shown
from places import CLOCK, adoption


@pytest.fixture
def report(qtbot, window_on, demo):
    """The window with its Report stage open."""
    window = window_on(demo, at="report")
    page = window.page("report")
    shown(qtbot, page, lambda: window.go("report"))
    return page


def text_of(page):
    """The words on the pages that are shown."""
    pages = page.view.pages
    return " ".join(" ".join(pages.getAllText(k).text() for k in range(pages.pageCount())).split())


def answer(monkeypatch, path, kind):
    """What the next question about a file is answered."""
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(path), kind))


def choose(qtbot, page, kind):
    """Choose a kind of document as a user does."""
    page.kind.setCurrentIndex(page.kind.findData(kind))
    shown(qtbot, page, lambda: page.kind.activated.emit(page.kind.currentIndex()))


def test_sections_by_keys_and_the_whole_without_one(qtbot, report, monkeypatch, tmp_path):
    """Arrow keys go through the sections; one that is switched off is not in the file."""
    assert "Conditions asked at each visit" in text_of(report)
    tree = report.sections
    tree.setFocus()
    tree.collapseItem(tree.currentItem())
    shown(qtbot, report, lambda: qtbot.keyClick(tree, Qt.Key.Key_Down))
    assert report.headline.text() == "Study report, Clients, devices and readings: 1 page"
    assert "From readings to pairs" in text_of(report)
    for k in range(tree.topLevelItemCount()):
        item = tree.topLevelItem(k)
        if item.text(0) not in (
            "Whole study report",
            "Limitations",
            "Clients, devices and readings",
        ):
            item.setCheckState(0, Qt.CheckState.Unchecked)
    answer(monkeypatch, tmp_path / "r.html", "HTML in one file (*.html)")
    with qtbot.waitSignal(report.written, timeout=60_000):
        report.export.click()
    html = (tmp_path / "r.html").read_text()
    assert "Nothing in this report is a diagnosis" in html
    assert "Question and conditions" not in html
    shown(qtbot, report, lambda: tree.setCurrentItem(tree.topLevelItem(0)))
    assert report.headline.text().startswith("Study report: ")
    answer(monkeypatch, tmp_path / "r.pdf", "PDF (*.pdf)")
    with qtbot.waitSignal(report.written, timeout=60_000):
        report.export.click()
    assert len(PdfReader(tmp_path / "r.pdf").pages) == report.view.pages.pageCount()


def test_a_change_of_the_study_reaches_the_pages(qtbot, report, window_on):
    """The lens is changed: the same section is made anew."""
    before = text_of(report)
    window = report.window()
    with qtbot.waitSignal(report.shown, timeout=60_000):
        window.session.lens = replace(window.session.lens, window_hours=1.0)
        report.refresh()
    assert "24 h" in before
    assert "1 h, nearest visit" in text_of(report)


def test_a_figure_and_a_table_leave_in_every_form(qtbot, report, monkeypatch, tmp_path, capsys):
    """SVG and PNG have the asked width, the numbers behind are those of the answer, a table pastes."""
    tree = report.sections
    shown(qtbot, report, lambda: tree.setCurrentItem(tree.topLevelItem(3)))  # agreement
    section = tree.topLevelItem(3)
    tree.setCurrentItem(section.child(0))
    assert report.save_.text() == "Sa&ve figure…"
    kinds = list(saving._FORMS)
    for kind in kinds:
        form, width = saving._FORMS[kind]
        target = tmp_path / f"f-{width:g}.{form}"
        answer(monkeypatch, target, kind)
        report.save_.click()
        assert target.stat().st_size > 2000
    with Image.open(tmp_path / "f-85.png") as picture:
        assert picture.width in (1003, 1004)  # 85 mm at 300 dots an inch
    drawing = ElementTree.parse(tmp_path / "f-85.svg").getroot()
    assert float(drawing.get("width").removesuffix("pt")) == pytest.approx(85 / 25.4 * 72)
    assert "font/ttf;base64" in "".join(drawing.itertext())
    assert "Alder" in "".join(drawing.itertext())
    assert "Alder" in PdfReader(tmp_path / "f-174.pdf").pages[0].extract_text()
    answer(monkeypatch, tmp_path / "n.csv", saving.NUMBERS)
    report.save_.click()
    rows = list(csv.DictReader((tmp_path / "n.csv").read_text().splitlines()))
    path = report.window().session.path
    assert main(["compare", str(path), "--instrument", "Alder", "--json"], CLOCK) == 0
    bias = json.loads(capsys.readouterr().out)["bias"]["estimate"]
    row = next(r["row"] for r in rows if r["value"] == "Alder")
    kept = next(float(r["value"]) for r in rows if (r["row"], r["quantity"]) == (row, "bias"))
    assert kept == pytest.approx(bias, abs=1e-9)
    tree.setCurrentItem(section.child(1))
    report.copy_.click()
    data = QApplication.clipboard().mimeData()
    first = data.text().splitlines()[1].split("\t")
    assert first[0] == "Alder"
    assert f'<td style="text-align:right">{first[2]}</td>' in data.html()
    for suffix in (".csv", ".xlsx", ".tsv", ".html"):
        kind = next(k for k, s in saving._TABLES.items() if s == suffix)
        answer(monkeypatch, tmp_path / f"t{suffix}", kind)
        report.save_.click()
    cells = [c.value for c in load_workbook(tmp_path / "t.xlsx").active[2]]
    number = float(first[2].replace("−", "-"))
    assert cells[:3] == ["Alder", int(first[1]), number]
    assert f"Alder,{first[1]},{number:.1f}" in (tmp_path / "t.csv").read_text()


def test_a_figure_of_a_stage_is_saved_on_white(qtbot, window_on, demo, monkeypatch, tmp_path):
    """Ctrl+S in a figure of the dark theme writes it in the colours of paper."""
    window = window_on(demo, at="drift")
    window.set_dark(True)
    shown(qtbot, window.page("drift"), lambda: window.go("drift"))
    figure = window.page("drift").figure
    answer(monkeypatch, tmp_path / "d.svg", next(iter(saving._FORMS)))
    qtbot.keyClick(figure, Qt.Key.Key_S, Qt.KeyboardModifier.ControlModifier)
    text = (tmp_path / "d.svg").read_text()
    assert "fill: #ffffff" in text
    assert DARK.surface not in text
    assert f"written to {tmp_path / 'd.svg'}" in window.said


def test_the_ground_behind_pages_follows_the_theme(qtbot, report):
    """Pages stay white; the ground is that of the theme that is switched to, there and back."""

    def ground():
        return report.view.viewport().grab().toImage().pixelColor(1, 1).name()

    for dark, palette in ((True, DARK), (False, LIGHT)):
        report.window().set_dark(dark)
        qtbot.waitUntil(lambda palette=palette: ground() == palette.line, timeout=60_000)


def test_pages_about_devices_and_clients(qtbot, report, tmp_path):
    """A certificate needs an adopted offset; a protected client's page has no fat; pages print."""
    session = report.window().session
    choose(qtbot, report, "certificate")
    assert report.headline.text() == "No offset of Alder is adopted for body fat."
    assert "Adopt an offset in Calibrate" in report.under.text()
    assert not report.export.isEnabled()
    with qtbot.waitSignal(report.shown, timeout=60_000):
        session.do(adoption(session, "Alder", day=session.today()))
        report.refresh()
    assert "uncorrected" in text_of(report)
    choose(qtbot, report, "card")
    (record,) = session.calibrations()
    low, high = record.made_of.offset_interval
    assert f"(95 % CI {low:.1f} to {high:.1f}) for people like those measured" in text_of(report)
    choose(qtbot, report, "client")
    assert "Body fat" in text_of(report)
    auk = session.catalogue().client_coded("Auk")
    with qtbot.waitSignal(report.shown, timeout=60_000):
        session.do(PutClient(replace(auk, cautions=frozenset({"eating_disorder"}))))
        report.refresh()
    assert "Auk has no readings that may be shown" in report.headline.text()
    choose(qtbot, report, "methods")
    assert "no fat number is shown" in report.headline.text()
    printer = QPrinter()
    printer.setOutputFileName(str(tmp_path / "printed.pdf"))
    choose(qtbot, report, "claims")
    assert "±2.8" in text_of(report)  # 1.96·4.7·√(1 − 0.95²), 4.7 the spread of the demo's scans
    assert report.view.print_on(printer) == 1
    assert (tmp_path / "printed.pdf").stat().st_size > 5000
    report.correlation.setText("1,2")
    report.correlation.setModified(True)
    shown(qtbot, report, report.correlation.editingFinished.emit)
    assert report.headline.text() == "A correlation lies from −1 to 1."
    choose(qtbot, report, "devices")
    assert "75 of 735" in text_of(report)
    choose(qtbot, report, "paper")
    assert "ICC(A,1)" in text_of(report)


def test_a_group_is_chosen_in_the_filters(qtbot, report):
    """Women alone in the filters: the report is of them; a paper's table tells both groups."""
    window = report.window()
    bar = window.lens
    row = bar.group.findText("Women")
    women = {c.code for c in window.session.catalogue().clients.values() if c.sex == "female"}
    with qtbot.waitSignal(report.shown, timeout=60_000):
        bar.group.setCurrentIndex(row)
        bar.group.activated.emit(row)
        bar._apply()
    assert window.session.lens.clients == women
    assert f"{len(women)} of 14" in bar.clients.text()
    assert f"{len(women)} chosen" in text_of(report)
    with qtbot.waitSignal(report.shown, timeout=60_000):
        bar.everyone.click()
        bar._apply()
    choose(qtbot, report, "paper")
    assert "Women Alder 7 63" in text_of(report)
