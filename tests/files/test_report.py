"""The study report: its numbers are those of the JSON, it names nobody, fetches nothing, and reads in order."""

import json
import re
from dataclasses import replace
from html.parser import HTMLParser

import numpy as np
import pytest
from openpyxl import load_workbook
from pypdf import PdfReader

from anchor_tally.analysis.time.track import TrackRequest
from anchor_tally.app.client_page import summary_steps
from anchor_tally.app.demo import demo_session
from anchor_tally.app.documents import Choice, document_steps
from anchor_tally.app.exporting import export
from anchor_tally.app.reporting import report_steps
from anchor_tally.app.session import Session
from anchor_tally.cli.main import main
from anchor_tally.domain.calibrations import LineRecord
from anchor_tally.domain.errors import UserError
from anchor_tally.domain.lens import Lens
from anchor_tally.domain.steps import finish
from anchor_tally.exchange.result_table import SUFFIXES, ResultTable, write
from anchor_tally.reports.checklists import AGREEMENT, RELIABILITY, TITLE
from anchor_tally.reports.device_comparison import hand_words
from anchor_tally.reports.render import as_html
from anchor_tally.reports.study_report import REPORT_TITLE, checklist, text_of
from anchor_tally.stats.claims import left_by_correlation
from anchor_tally.study.edits.clients import PutClient, PutStudy
from anchor_tally.study.edits.events import SetGoal
from anchor_tally.study.edits.instruments import PutInstrument
from anchor_tally.study.edits.readings import AddReadings, CorrectReading, NewReading
from anchor_tally.wording.certificate import action_words
from anchor_tally.wording.numbers import number, signed
from answers import moving, study
from places import CLOCK, adoption

VOID = {"meta", "img", "br", "link", "path", "use", "rect", "circle", "line", "polygon"}


class Reader(HTMLParser):
    """Elements in order with their attributes; fails where one is not closed in order."""

    def __init__(self):
        super().__init__()
        self.open, self.ids, self.found, self.links = [], [], [], []

    def handle_starttag(self, tag, attrs):
        attrs = dict(attrs)
        self.found.append((tag, attrs))
        if "id" in attrs:
            self.ids.append(attrs["id"])
        self.links += [v for k, v in attrs.items() if k in ("href", "src", "xlink:href")]
        if tag not in VOID:
            self.open.append(tag)

    def handle_startendtag(self, tag, attrs):
        self.handle_starttag(tag, attrs)
        if tag not in VOID:
            self.open.pop()

    def handle_endtag(self, tag):
        if tag not in VOID:
            assert self.open.pop() == tag


@pytest.fixture(scope="module")
def written(tmp_path_factory):
    """A report as HTML and PDF, from a study whose people have names."""
    folder = tmp_path_factory.mktemp("report")
    path = folder / "s.tally"
    moving(5, 2).save_copy(path)
    session = Session.open(path, clock=CLOCK)
    session.do(PutStudy("A squad of somebody", practice=False))
    person = session.catalogue().client_coded("C1")
    session.do(PutClient(replace(person, name="Zoe Example", notes="private")))
    item = session.catalogue().instrument_named("Oak")
    session.do(PutInstrument(replace(item, name="Oak <script>alert(1)</script> & co")))
    session.close()
    for suffix in ("html", "pdf"):
        assert main(["report", str(path), "-o", str(folder / f"r.{suffix}")], CLOCK) == 0
    return path, (folder / "r.html").read_text(), PdfReader(folder / "r.pdf")


def test_every_number_is_that_of_the_json(written, capsys):
    """Bias and limits of each device stand in the PDF's text as in the answer of the command."""
    path, _, pdf = written
    text = " ".join(" ".join(page.extract_text() for page in pdf.pages).split())
    for name in ("Fir", "Elm"):
        capsys.readouterr()
        assert main(["compare", str(path), "--instrument", name, "--json"], CLOCK) == 0
        found = json.loads(capsys.readouterr().out)
        row = [signed(found["bias"]["estimate"]), *map(signed, found["bias"]["ci"])]
        row += [signed(found["limits"]["lower"]), signed(found["limits"]["upper"])]
        place = text.index(f"{name} {found['pairs']['n']} ")
        assert all(x in text[place : place + 90] for x in row), (
            name,
            row,
            text[place : place + 90],
        )
    order = [
        text.rindex(title)
        for title in (
            "Question and filters",
            "From readings to pairs",
            "Bias and limits of agreement",
            "Statistics and their sources",
            "Fingerprint of the readings",
        )
    ]
    assert order == sorted(order)
    assert "not answered: for the authors to write" in text


def test_the_html_is_whole_and_safe(written):
    """Elements are closed in order, ids are unique, nothing is fetched, nothing typed becomes code."""
    _, html, _ = written
    reader = Reader()
    reader.feed(html)
    assert not reader.open
    assert len(set(reader.ids)) == len(reader.ids)
    assert all(link.startswith(("#", "data:")) for link in reader.links)
    assert not [t for t, _ in reader.found if t == "script"]
    assert "&lt;script&gt;" in html
    assert "Zoe Example" not in html
    assert "private" not in html
    assert "A squad of somebody" not in html
    figures = [a for t, a in reader.found if a.get("role") == "img"]
    assert len(figures) > 9
    assert all(a["aria-label"] for a in figures)
    styles = re.sub(r"url\(data:[^)]*\)", "", html)
    assert "http://" not in re.sub(r'xmlns(:\w+)?="[^"]*"', "", styles)


def test_pages_are_tagged_with_fonts_inside(written):
    """The PDF is tagged, has a title and outline, embeds its fonts, and holds no raster figure."""
    _, _, pdf = written
    root = pdf.trailer["/Root"]
    assert root["/MarkInfo"]["/Marked"]
    assert root["/Lang"] == "en"
    assert pdf.metadata.title == REPORT_TITLE
    assert [x.title for x in pdf.outline if not isinstance(x, list)] or pdf.outline
    fonts = set()
    for page in pdf.pages:
        assert not list(page.images)
        for font in page["/Resources"].get("/Font", {}).values():
            inner = font.get_object()["/DescendantFonts"][0].get_object()
            assert (
                "/FontFile2" in inner["/FontDescriptor"] or "/FontFile3" in inner["/FontDescriptor"]
            )
            fonts.add(str(inner["/BaseFont"]))
    assert any("IBM-Plex" in f for f in fonts)


@pytest.mark.parametrize("make", [lambda: moving(1, 1), lambda: moving(4, 2, scan=False)])
def test_small_studies_have_a_report(make):
    """One client with one scan, and a study without a scan: sections say what cannot be told."""
    session = make()
    html = as_html(finish(report_steps(session, Lens(), "Letter")))
    assert "size: Letter" in html
    assert "Limitations" in html
    if not any(r.kind == "reference" for r in session.readings()):
        assert "agreement cannot be told" in html
    with pytest.raises(UserError, match="no readings"):
        finish(report_steps(study(), Lens(), "A4"))


def test_what_cannot_be_written_is_said(written, tmp_path, capsys):
    """Another suffix, and a folder that is not there: one line, nothing written."""
    path, *_ = written
    for name, says in (("r.doc", "ends in .html or .pdf"), ("no/r.html", "cannot be written")):
        assert main(["report", str(path), "-o", str(tmp_path / name)], CLOCK) == 2
        assert says in capsys.readouterr().err
    assert list(tmp_path.iterdir()) == []
    session = Session.open(path, read_only=True)
    session.close()


def test_a_client_takes_home_what_is_known():
    """The page holds the corrected value of Track, its interval and the change; no goal and no name."""
    session = demo_session(clock=CLOCK)
    auk = session.catalogue().client_coded("Auk")
    session.do(PutClient(replace(auk, name="Zoe Example", notes="private")))
    session.do(SetGoal(auk.id, "body_fat_percent", 12.3))
    session.do(adoption(session, "Alder", day=session.today()))
    page, cautions = finish(summary_steps(session, "Auk"))
    assert not cautions
    records = tuple(session.calibrations())
    r = finish(
        TrackRequest(
            session.snapshot(), Lens(), "Auk", records, instrument="Alder", today=session.today()
        ).run()
    )
    level, v = r.best.value, r.best.change
    row = page.sections[0].blocks[0].rows[0]
    assert row[1].startswith(
        f"{number(level.value)} % (95 % interval {number(level.interval.low)} to"
        f" {number(level.interval.high)})"
    )
    ends = f"{signed(v.change.interval.low)} to {signed(v.change.interval.high)}"
    plain = signed(v.measured.devices)
    told = f"{signed(v.change.value)} percentage points (95 % interval {ends}); measured {plain}"
    assert row[2] == told
    what = page.sections[0].blocks[1].figure.shown  # the course that the table tells
    assert (what.goal, what.events) == (None, ())
    assert what.level[-1] == pytest.approx(level.value)
    assert what.high[-1] == pytest.approx(level.interval.high)
    html = as_html(page)
    for hidden in ("Zoe", "private", "12.3 %", "goal", "Alder", "athlete"):
        assert hidden not in html
    assert "lower is not better" in html
    assert "Zoe Example" in as_html(finish(summary_steps(session, "Auk", name=True))[0])


def test_the_page_without_body_fat(tmp_path, capsys):
    """Left out when asked, and always with a history of disordered eating; the coach reads why."""
    session = demo_session(clock=CLOCK)
    page, _ = finish(summary_steps(session, "Auk", fat=False))
    assert [row[0] for row in page.sections[0].blocks[0].rows] == ["Waist girth"]
    auk = session.catalogue().client_coded("Auk")
    session.do(PutClient(replace(auk, cautions=frozenset({"eating_disorder"}))))
    hip = NewReading("Tape", "method", "girth_hip", "98 cm", 1, "")
    session.do(AddReadings("Auk", "2026-08-20T07:00", (hip,)))
    session.save_copy(tmp_path / "s.tally")
    given = ["summary", str(tmp_path / "s.tally"), "--client"]
    for out in ("a.html", "a.pdf"):
        assert main([*given, "Auk", "-o", str(tmp_path / out)], CLOCK) == 0
        assert "disordered eating" in capsys.readouterr().err
    html = (tmp_path / "a.html").read_text().lower()
    for hidden in ("body fat", "body mass", "disordered", "fat_", "waist"):
        assert hidden not in html
    assert "licensed health staff" in html
    pages = PdfReader(tmp_path / "a.pdf").pages
    assert len(pages) == 1
    assert "Hip girth" in pages[0].extract_text()
    assert main([*given, "Nobody", "-o", str(tmp_path / "b.pdf")], CLOCK) == 2
    assert "no client Nobody; nothing was written" in capsys.readouterr().err


def test_a_certificate_is_a_page(tmp_path, capsys):
    """The page has what the data have: offsets, what is left over, bounds, end and digest."""
    session = demo_session(clock=CLOCK)
    session.do(adoption(session, "Alder", day=session.today()))
    session.save_copy(tmp_path / "s.tally")
    asked = ["certificate", str(tmp_path / "s.tally"), "--instrument", "Alder"]
    assert main(asked, CLOCK) == 0
    (data,) = json.loads(capsys.readouterr().out)
    assert main([*asked, "-o", str(tmp_path / "c.pdf"), "--paper", "Letter"], CLOCK) == 0
    (page,) = PdfReader(tmp_path / "c.pdf").pages
    text = " ".join(page.extract_text().split())
    for row in data["offsets"]:
        low, high = map(signed, row["new_difference"])
        line = f"{row['client'] or 'All others'} {signed(row['offset'])} {low} to {high}"
        assert line in text
    low, high = (signed(x - row["offset"]) for x in row["new_difference"])
    assert f"can still be off by {low} to {high} pp" in text
    assert " ".join(data["digest"][k : k + 16] for k in range(0, 64, 16)) in text
    assert data["made_from"]["waiting_in_review"] == 1  # the mistyped reading of the demo
    assert "Check first: this offset rests on 1 reading that Review says not to use." in text
    card = finish(document_steps(session, "card", Choice(session.lens, "Alder")))
    assert "rests on 1 reading that Review says not to use" in as_html(card)
    assert f"{data['own_offsets']} clients with an offset of their own" in text
    assert f"subtract {number(row['offset'])} pp from a reading of anybody else" in text
    record = session.calibrations()[-1]
    for pooled, says in (
        ((-1.26, -2.0, -0.5), "add 1.3 pp to each reading"),
        ((0.01, -2.0, 2.0), "leave each reading as it is"),
    ):
        assert says in action_words(replace(record, clients={}, pooled=pooled))
    assert "correct nobody else" in action_words(replace(record, pooled=None))
    line = LineRecord(24.0, 1.5, 1.25, 0.0, 0.0, 0.0, 2.0)
    said = action_words(replace(record, clients={}, line=line))
    assert said == "Alder: reference = 24.0 + (reading − 25.5) / 1.25."
    assert pytest.approx(line.reference(31.0)) == 24.0 + (31.0 - 25.5) / 1.25


def test_a_client_page_in_inches_with_ranges(tmp_path):
    """A girth typed in inches is told in inches; ranges stand there only where they are asked for."""
    session = demo_session(clock=CLOCK)
    session.do(adoption(session, "Alder", day=session.today()))
    auk = session.catalogue().client_coded("Auk")
    for r in session.readings():
        if r.client == "Auk" and r.metric == "girth_waist":
            session.do(CorrectReading(r.id, f"{r.value / 2.54:.2f} in", "typed in inches"))
    assert session.units_typed(auk.id)["girth_waist"] == "in"
    waist = [
        r.value for r in session.readings() if r.client == "Auk" and r.metric == "girth_waist"
    ][-1]
    plain, _ = finish(summary_steps(session, "Auk"))
    text = as_html(plain)
    told = re.search(r"Waist girth</td><td>([^<]*) in \(95 % interval", text)
    assert float(told[1]) == pytest.approx(waist / 2.54, rel=0.05)  # from all measurements
    assert "Information, not a target" not in text
    asked, _ = finish(summary_steps(session, "Auk", ranges=True))
    assert "Information, not a target" in as_html(asked)
    session.close()


def test_statistics_of_the_workbook_are_numbers(tmp_path, capsys):
    """Every line and interval of the workbook is the number of the JSON; pairs have their days."""
    session = demo_session(clock=CLOCK)
    session.save_copy(tmp_path / "s.tally")
    export(session, tmp_path / "s.xlsx")
    book = load_workbook(tmp_path / "s.xlsx")
    found = {row[1]: row for row in book["results"].values if row[0] == "Alder"}
    assert (
        main(["compare", str(tmp_path / "s.tally"), "--instrument", "Alder", "--json"], CLOCK) == 0
    )
    told = json.loads(capsys.readouterr().out)
    pairs = (
        (
            "Passing–Bablok slope",
            told["passing_bablok"]["slope"],
            told["passing_bablok"]["slope_ci"],
        ),
        ("Least-squares slope", told["ols"]["slope"], told["ols"]["slope_ci"]),
        ("Theil–Sen slope", told["theil_sen"]["slope"], told["theil_sen"]["slope_ci"]),
        ("Deming slope", told["deming"]["slope"], told["deming"]["slope_ci"]),
        (
            "ICC(A,1) with the reference",
            told["icc"]["absolute_agreement_single"],
            told["icc"]["ci"],
        ),
    )
    for name, value, ends in pairs:
        assert found[name][2:5] == pytest.approx((value, *ends))
    x, y = zip(*[(r[7], r[8]) for r in book["pairs"].values if r[0] == "Alder"], strict=True)
    off = np.abs(np.array(y) - x) / x
    assert found["Mean absolute percentage error (%)"][2] == pytest.approx(100 * off.mean())
    first = next(r for r in book["pairs"].values if r[0] == "Alder")
    assert first[4][:10] == first[5][:10]
    session.close()


def test_saved_tables_hold_no_formulas_and_no_markup(tmp_path):
    """A name that a spreadsheet would compute stays text, one with markup is escaped."""
    table = ResultTable("t", ["Device", "Bias"], [["=1+1", "−0.4"], ["<b>&", "+1.80"]])
    for suffix in SUFFIXES:
        write(table, tmp_path / f"t{suffix}")
    assert (tmp_path / "t.csv").read_text().splitlines()[1:] == ["'=1+1,-0.4", "<b>&,1.80"]
    sheet = load_workbook(tmp_path / "t.xlsx").active
    assert [c.data_type for c in sheet[2]] == ["s", "n"]
    assert sheet["B3"].number_format == "0.00"
    assert "&lt;b&gt;&amp;" in (tmp_path / "t.html").read_text()
    with pytest.raises(UserError, match="nothing was written"):
        write(table, tmp_path / "t.odt")


def test_a_level_set_by_hand_is_named():
    """The number of the note is told, and nothing else of it; the last setting counts."""
    days = (("2026-03-01", "to 12"), ("2026-05-03", "Zoe set it to 15,5 %"))
    said = "Set by hand to 15.5 % on 3 May 2026: its level is what it was set to."
    assert hand_words(days, "%") == said
    assert hand_words((), "%") == ""


def test_what_a_correlation_leaves():
    """Residuals of least squares on drawn values (numpy) have the width that the claim's page tells."""
    rng = np.random.default_rng(3)
    x = rng.normal(20, 6, 400_000)
    y = 3 + 0.8 * x + rng.normal(0, 2, x.size)
    slope, level = np.polyfit(y, x, 1)
    width = np.quantile(np.abs(x - level - slope * y), 0.95)
    assert left_by_correlation(np.corrcoef(x, y)[0, 1], x.std()) == pytest.approx(width, rel=0.01)
    with pytest.raises(ValueError, match="−1 to 1"):
        left_by_correlation(1.01, 2.0)


def test_an_item_is_answered_only_where_the_report_holds_the_answer():
    """Of each item that is answered the words are taken out: then it is not answered any more."""
    session = demo_session(clock=CLOCK)
    made = finish(report_steps(session, session.lens, "A4")).sections
    items = (*AGREEMENT, *RELIABILITY)

    def where(title, sections):
        rows = [r for b in checklist(title, sections).blocks for r in b.rows]
        assert [r[0] for r in rows] == [i.text for i in items]
        return [not r[1].startswith("not answered") for r in rows]

    whole = where(REPORT_TITLE, made)
    assert sum(whole) == 22
    for k, item in enumerate(items):
        gone = [s for s in made if s.key != item.section]
        title = "Report" if item.section == TITLE else REPORT_TITLE
        assert not where(title, gone)[k]
        if whole[k] and item.section != TITLE:
            (section,) = (s for s in made if s.key == item.section)
            assert item.holds.lower() in text_of(section).lower()
    assert not where(REPORT_TITLE, [])[0]
