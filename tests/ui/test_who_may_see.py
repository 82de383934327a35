"""Values that may not be shown, planted in a study and looked for on every screen, page and file."""

import io
import re
import zipfile
from contextlib import redirect_stderr, redirect_stdout
from dataclasses import replace
from datetime import date, timedelta

import pytest

from anchor_tally.analysis.agreement.agreement import LadderRequest
from anchor_tally.analysis.agreement.hydration import HydrationRequest
from anchor_tally.analysis.agreement.redundancy import RedundancyRequest
from anchor_tally.analysis.agreement.repeatability import RepeatabilityRequest
from anchor_tally.analysis.pairs.comparator import CannotCompare
from anchor_tally.analysis.people.withheld import withheld
from anchor_tally.analysis.review import ReviewRequest
from anchor_tally.app.session import Session
from anchor_tally.cli.main import main
from anchor_tally.domain.lens import Lens
from anchor_tally.domain.steps import finish
from anchor_tally.exchange.readings_csv import HEADER
from anchor_tally.figures import timeline
from anchor_tally.study.edits.clients import PutClient
from anchor_tally.study.edits.imports import ImportReadings
from anchor_tally.ui.canvas import FigureView
from anchor_tally.wording.notes import sentence
from places import CLOCK, adoption, parse_text, reading, typed
from screens import explored, followed, key_presses, opened, seen, settle
from walks import PAGES

PROTECTED, PREGNANT = "Alder", "Beech"
# fat of Alder 55 to 57 and one reading of 70.1, its water 32; fat of Beech 44 to 46
PLANTED = {
    "fat of the protected client": r"(?<![\d.,+−-])(5[5-7]\.\d|70\.1)(?!\d)",
    "water of the protected client": r"(?<![\d.,+−-])32\.[4-9](?!\d)",
    "fat of the pregnant client": r"(?<![\d.,+−-])4[4-6]\.\d(?!\d)",
}
# the axes of a figure reach from the least to the largest point of all, none of them named
LIMITS = re.compile(r"(\|[^|]*){0}(-?[\d.e+]+ ){3}-?[\d.e+]+")


def planted_lines():
    """Lines of a tidy CSV: six clients, two devices with fat and water, and scans."""
    codes = (PROTECTED, PREGNANT, "Cedar", "Dogwood", "Elder", "Fig")
    levels = (55.4, 44.9, 25.5, 26.0, 26.5, 27.0)
    for c, (code, level) in enumerate(zip(codes, levels, strict=True)):
        for k in range(6):
            day = date(2026, 3, 2) + timedelta(weeks=4 * k, days=c)
            for d, name in enumerate(("Fir", "Elm")):
                for r in (1, 2, 3):
                    value = level + 0.3 * d + 0.1 * r - 0.1 * k + (c * k * r % 3) / 10
                    value = 70.1 if (c, k, d, r) == (0, 2, 0, 2) else round(value, 1)
                    yield reading(code, f"{day}T07:0{d}", value, name=name, repeat=r)
            water = round(72.7 * (1 - level / 100), 1) + k / 10
            more = {"metric": "total_body_water_percent"}
            yield reading(code, f"{day}T07:00", f"{water:.1f}", **more)
            yield reading(code, f"{day}T07:00", 80.5 + c, metric="body_mass", unit="kg")
            yield reading(code, f"{day}T07:03", 86.5 + c, name="Tape", kind="method", metric="girth_waist", unit="cm")  # fmt: skip
            if k % 2 == 0:
                scan = round(level + 1.2 - 0.1 * k, 1)
                yield reading(code, f"{day}T08:00", scan, name="Scan", kind="reference")


@pytest.fixture
def planted(tmp_path):
    """A study with a protected and a pregnant client, and an adopted offset."""
    rows, refused = parse_text(",".join(HEADER) + "\n" + "\n".join(planted_lines()) + "\n")
    assert not refused
    session = Session.new(tmp_path / "planted.tally", "planted", clock=CLOCK)
    session.do(ImportReadings(tuple(rows), "x"))
    for code, word in ((PROTECTED, "eating_disorder"), (PREGNANT, "pregnant")):
        client = session.catalogue().client_coded(code)
        session.do(PutClient(replace(client, cautions=frozenset({word}))))
    session.do(adoption(session, "Fir"))
    return session


def leaks(where, lines):
    """Planted values among lines of text."""
    for line in lines:
        text = LIMITS.sub("", line) if line.startswith("FigureView") else line
        for name, pattern in PLANTED.items():
            if re.search(pattern, text):
                yield f"{where}: {name}: {text[:300]}"


def screens(window, *, choices):
    """Every page as it is opened, its choices where they are asked for, points, and the drawers."""
    for key in PAGES:
        page = opened(window, key)
        yield key, seen(window)
        if choices:
            yield from ((f"{key} {n}", x) for n, x in explored(window, page, at=key))
        for k, figure in enumerate(page.findChildren(FigureView)):
            if window.shown != key or not figure.isVisible():
                continue
            figure.setFocus()
            keys = ("Left", "Left", "Return") * 4  # its points lie at the right end
            for name, lines in followed(window, key_presses(figure, *keys)):
                yield f"{key} figure {k} {name}", lines
            window.close_drawer()
        if hasattr(page, "open_chosen") and window.shown == key:
            page.open_chosen()
            settle(window)
            yield f"{key} evidence", seen(window)
            window.close_drawer()


@pytest.mark.parametrize("choices", [False, pytest.param(True, marks=pytest.mark.slow)])
def test_no_screen_shows_what_may_not_be_shown(choices, window_on, planted):
    """Stages, drawers, tips and the search, for all clients and for the protected one."""
    window = window_on(planted)
    found = []
    for clients in ((), (PROTECTED,)):
        planted.look(replace(planted.lens, clients=frozenset(clients) or None))
        settle(window)
        for where, lines in screens(window, choices=choices):
            found += leaks(f"{clients} {where}", lines)
            # a point beside a name would tell its value
            named = rf"Table: {PROTECTED} (Fir|Elm|Scan) .*not shown.*· \d rows, current"
            pictures = ("compare", "consistency", "change", "water", "review")
            if "figure" in where and where.startswith(pictures):
                found += [x for x in lines if re.match(named, x)]
    assert found == [], "\n".join(found)


def written(folder):
    """Lines of every file of a folder, workbooks and packages unpacked."""
    for path in sorted(folder.iterdir()):
        raw = path.read_bytes()
        parts = {path.name: raw}
        if raw[:2] == b"PK":
            with zipfile.ZipFile(path) as z:
                parts = {f"{path.name}/{n}": z.read(n) for n in z.namelist()}
        for name, content in parts.items():
            # coordinates of drawings are no values, and points bear no label
            text = re.sub(
                r"<(path|use|clipPath|g|defs|rect|svg|style)[^>]*>",
                "",
                content.decode("utf-8", "replace"),
            )
            yield name, re.split(r"[\n<>]", text)


def test_no_command_document_or_file_gives_what_may_not_be_shown(planted, tmp_path):
    """Every command as text and JSON, every document and every kind of export but a full copy."""
    path, out = str(planted.path), tmp_path / "out"
    out.mkdir()
    planted.close()
    metrics = ("body_fat_percent", "total_body_water_percent")
    calls = []
    for m in metrics:
        for more, who in (
            ((), ()),
            (("--json",), ()),
            ((), ("--client", PROTECTED)),
            (("--json",), ("--client", PREGNANT)),
        ):
            if True:
                asked = [path, "--metric", m, *more, *who]
                for c in ("compare", "repeatability", "drift", "calibrate", "change"):
                    calls.append([c, *asked, "--instrument", "Fir"])
                if not who:
                    calls.append(["plan", *asked])
                if who:
                    calls.append(["track", *asked])
        for k, who in enumerate(((), ("--client", PROTECTED), ("--client", PREGNANT))):
            calls.append(["report", path, "--metric", m, *who, "-o", f"{out}/report{m}{k}.html"])
            for page in ("card", "devices", "methods", "claims", "paper"):
                about = ("--instrument", "Fir") if page == "card" else who
                calls.append(
                    ["page", page, path, "--metric", m, *about, "-o", f"{out}/{page}{m}{k}.html"]
                )
    calls += [["hydration", path, "--instrument", "Fir", *j] for j in ((), ("--json",))]
    calls += [["certificate", path, "--instrument", "Fir", "-o", f"{out}/certificate.json"]]
    for who in (PROTECTED, PREGNANT):
        calls.append(["summary", path, "--client", who, "-o", f"{out}/{who}.html"])
    for name in ("a.csv", "b.xlsx", "c.zip"):
        calls.append(["export", path, "-o", f"{out}/{name}"])
    calls.append(["export", path, "--estimates", "-o", f"{out}/d.csv"])
    found, answered = [], 0
    for call in calls:
        said = io.StringIO()
        with redirect_stdout(said), redirect_stderr(said):
            answered += main(call, CLOCK) == 0
        found += leaks(" ".join(call[:1] + call[2:]), said.getvalue().splitlines())
    for name, lines in written(out):
        found += leaks(name, lines)
    assert found == [], "\n".join(found)
    assert answered >= 35  # the others are refused


def test_a_device_that_read_such_a_client_alone_leaves_the_others_be(planted):
    """It has no pairs and no repeats to tell; all other devices answer as before."""
    for day, fat in (("2026-03-02", "55.9"), ("2026-04-27", "55.7")):
        planted.do(typed(PROTECTED, f"{day}T07:20", "Oak", "device", "body_fat_percent", fat, fat))
    snapshot = planted.snapshot()
    found = {r.pairs.instrument.name: r for r in finish(LadderRequest(snapshot, Lens()).run())}
    assert found["Oak"].pairs.n == 0
    assert ("may not be shown", 4) in found["Oak"].pairs.left_out.counts
    assert found["Fir"].pairs.n > 0
    repeats = {r.instrument.name: r for r in finish(RepeatabilityRequest(snapshot, Lens()).run())}
    assert repeats["Oak"].level.size == 0
    assert repeats["Fir"].level.size > 0
    alone = Lens(clients=frozenset({PROTECTED}))
    for request in (LadderRequest, RepeatabilityRequest, HydrationRequest, RedundancyRequest):
        with pytest.raises(CannotCompare, match="no fat number is shown"):
            finish(request(snapshot, alone).run())


def test_the_coach_may_choose_to_see(planted, window_on):
    """A box on the card, which the study's history keeps; it is off again with the caution."""
    tab = opened(window_on(planted, at="plan"), "plan")
    tab.go("clients")
    card = tab.tab("clients")
    card.list.choose(0)
    assert card.boxes["fat_shown"].isEnabled()
    card.boxes["fat_shown"].click()
    client = planted.catalogue().client_coded(PROTECTED)
    assert client.cautions == {"eating_disorder", "fat_shown"}
    assert not withheld(client, "body_fat_percent")
    card.boxes["eating_disorder"].click()
    assert planted.catalogue().client_coded(PROTECTED).cautions == frozenset()


def test_the_picture_of_a_finding_draws_nobody_who_may_not_be_shown(planted):
    """Its axis would tell the value that the sentence leaves out; others are drawn as before."""
    planted.do(
        typed("Cedar", "2026-03-02T07:30", "Fir", "device", "body_fat_percent", "26", "71", "26")
    )
    found = finish(ReviewRequest(finish(planted.material_steps())).run())
    for code, drawn in ((PROTECTED, False), ("Cedar", True)):
        client = planted.catalogue().client_coded(code).id
        f = next(f for f in found.found if f.client == client and f.rule == "repeats")
        assert bool(timeline.info(f, found.material, "body_fat_percent").runs) == drawn
        assert ("not shown" in sentence(f.note)) != drawn
