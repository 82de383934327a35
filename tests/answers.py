"""Everything that the program says of a study, as plain lists and numbers."""

import dataclasses
import io
import json
import re
import zipfile
from contextlib import redirect_stderr, redirect_stdout
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path

import numpy as np
from openpyxl import load_workbook

from anchor_tally.analysis.agreement.agreement import LadderRequest
from anchor_tally.analysis.agreement.claims import Claim
from anchor_tally.analysis.agreement.evidence import explain
from anchor_tally.analysis.agreement.hydration import FAT, WATER
from anchor_tally.analysis.entry.field_method import line, sensitivity
from anchor_tally.analysis.offsets.calibrate import CalibrateRequest
from anchor_tally.analysis.plan.precision import (
    CurveRequest,
    PrecisionRequest,
    SpreadsRequest,
    would_show,
)
from anchor_tally.analysis.review import ReviewRequest
from anchor_tally.analysis.time.group_levels import GroupRequest
from anchor_tally.analysis.time.track import TrackRequest
from anchor_tally.app.demo import demo_session
from anchor_tally.app.documents import KINDS, Choice, document_steps
from anchor_tally.app.session import Session
from anchor_tally.app.sheets import sheets_of
from anchor_tally.app.views import DRIFT, VIEWS, Ask
from anchor_tally.cli.main import main
from anchor_tally.domain.errors import UserError
from anchor_tally.domain.events import Event
from anchor_tally.domain.lens import Lens
from anchor_tally.domain.metrics import METRICS as METRIC
from anchor_tally.domain.scheme import SchemeRule
from anchor_tally.domain.steps import finish
from anchor_tally.domain.units import Quantity
from anchor_tally.exchange.calendar_file import as_csv
from anchor_tally.exchange.readings_csv import HEADER
from anchor_tally.exchange.results_json import calibrate_json
from anchor_tally.exchange.track_json import track_json
from anchor_tally.figures import (
    best_course,
    difference,
    forest,
    forms,
    ladder,
    timeline,
    which_device,
)
from anchor_tally.figures import drift as drift_figure
from anchor_tally.figures import group_levels as group_figure
from anchor_tally.figures import precision as precision_figure
from anchor_tally.figures import track as track_figure
from anchor_tally.figures import views as view_figures
from anchor_tally.methods.registry import EQUATIONS
from anchor_tally.scenario.squad import CLIENTS, squad_rows
from anchor_tally.stats.planning import Design
from anchor_tally.study import open_file
from anchor_tally.study.edits.checks import AddCheckWeight, StateValue
from anchor_tally.study.edits.clients import PutClient, PutStudy
from anchor_tally.study.edits.events import AddEvent, SetGoal
from anchor_tally.study.edits.imports import ImportReadings
from anchor_tally.study.edits.instruments import PutInstrument
from anchor_tally.study.edits.readings import CorrectReading, ExcludeReading
from anchor_tally.study.edits.scheme import AddRules
from anchor_tally.wording import bench as bench_words
from anchor_tally.wording import group_levels as group_words
from anchor_tally.wording import offsets, review
from anchor_tally.wording import plan as plan_words
from anchor_tally.wording import track as track_words
from anchor_tally.wording.board import board
from anchor_tally.wording.drift import between_words, drift_advice, side_words
from anchor_tally.wording.sentences import pairs_sentence
from anchor_tally.wording.statistics import rows
from anchor_tally.wording.views import notes_words
from anchor_tally.wording.which_device import job_words, which_device_lines
from places import AFTERWARDS, CLOCK, adoption, parse_text, reading, study_of

METRICS = (FAT, WATER, "body_mass", "girth_waist", "fat_mass", "fat_free_mass", "total_muscle_mass")
JOBS = ("level", "change", "daily")


def said(session, today="2026-09-01", lens=None):
    """Everything that is said of a study, without the numbers of its readings and the fingerprints made of them.

    ``pictures`` is what the figures show; it depends on the order of entry.
    """
    wide, lens = finish(session.wide_snapshot_steps(METRICS)), lens or Lens()
    out, found = {}, {}
    for view in (*VIEWS, DRIFT):
        answer = view.answer()
        asked = Ask(
            wide, lens, events=tuple(session.events()), weights=tuple(session.check_weights())
        )
        try:
            found[view.key] = finish(answer.ask(asked))
        except UserError as error:
            out[view.key], found[view.key] = str(error), ()
            continue
        of = [(r, getattr(r, "instrument", None)) for r in found[view.key]]
        out[view.key] = {
            getattr(i, "name", str(k)): {
                "headline": answer.headline(r),
                "lines": {x.name: [x.value, x.interval, x.main] for x in answer.lines(r)},
                "json": answer.as_json(r) if answer.as_json else {},
                "notes": notes_words(r.notes) if hasattr(r, "notes") else "",
            }
            for k, (r, i) in enumerate(of)
        }
    out["calibrate"] = {}
    try:
        found["calibrate"] = finish(CalibrateRequest(wide, lens).run())
    except UserError as error:
        out["calibrate"], found["calibrate"] = {"": str(error)}, ()
    for r in found["calibrate"]:
        words = (offsets.offset_headline, offsets.calibration_sentence, offsets.error_sentence)
        out["calibrate"][r.comparison.pairs.instrument.name] = {
            "said": [w(r) for w in (*words, offsets.range_sentence)],
            **calibrate_json(r),
        }
    out["score"] = [which_device_lines(r) for r in found["score"]]
    out["others"] = [
        [r.pairs.instrument.name, plain(rows(r, all_of_them=True))]
        for metric in METRICS[1:]
        for r in _others(wide, Lens(metric))
    ]
    material = finish(session.material_steps())
    findings = finish(ReviewRequest(material).run()).found
    out["review"] = [review.finding_row(f, material) for f in findings]
    courses, codes = [], {k: c.code for k, c in session.catalogue().clients.items()}
    for client in list(session.catalogue().clients.values())[::3]:
        try:
            r = finish(TrackRequest(wide, lens, client.code, goal=15.0, today=today).run())
        except UserError as error:
            out[client.code] = str(error)
            continue
        courses.append(r)
        out[client.code] = [
            track_words.track_headline(r),
            track_words.all_sources_words(r),
            track_words.alone_headline(r),
            *(str(line) for line in track_words.track_lines(r)),
        ]
    out["pictures"] = plain(pictures(found, courses, findings, material, codes))
    return json.loads(re.sub(r'"(digest|sources)": ("[^"]*"|\[[^]]*\])', '"-": 0', json.dumps(out)))


def _others(wide, lens):
    """The comparisons of another metric, against a device where no scan has it."""
    try:
        return finish(LadderRequest(wide, replace(lens, reference="Ash")).run())
    except UserError:
        return ()


def pictures(found, courses, findings, material, codes):
    """What the figures and the tables beside them show."""
    compared, calibrated = tuple(found["compare"]), tuple(found["calibrate"])
    yield [ladder.info(compared)] if compared else []
    for r in compared:
        yield [difference.info(r), pairs_sentence(r), rows(r, all_of_them=True)]
        yield [forms.info(r, form) for form in (name for name, *_ in forms.FORMS)]
        yield [len(x) for x in dataclasses.astuple(explain(r, "bias"))[2:5]]
    if found["consistency"]:
        yield view_figures.strips(tuple(found["consistency"]))
    yield [view_figures.quadrants(r) for r in found["change"]]
    yield [view_figures.water(r) for r in found["water"]]
    yield [view_figures.matrix(r) for r in found["alike"]]
    for r in found["score"]:
        yield [[which_device.info(r, job), job_words(r, job)] for job in JOBS]
    for r in found["drift"]:
        yield [drift_figure.info(r, "UTC"), drift_advice(r), side_words(r)]
        yield [between_words(step) for step in r.steps]
    yield [[forest.info(r, codes), forest.errors(r)] for r in calibrated]
    yield [board(calibrated)] if calibrated else []
    for r in courses:
        yield [
            track_figure.info(r, {}),
            track_words.value_words(r),
            track_words.place_words(r.place),
        ]
        yield [track_words.track_notes(r), best_course.info(r, r.best) if r.best else ""]
    yield [timeline.info(f, material, FAT) for f in findings]
    yield [review.advice_words(f) for f in findings]


def pages(session):
    """What stands on the pages of every document, in the calendar, on sheets and in the JSON of a client."""
    session.do(adoption(session, "Cedar"))
    out, claim = {}, Claim(correlation=0.95, repeatability=0.99)
    for kind in KINDS:
        subject = {"device": "Cedar", "client": "Auk"}.get(kind.about, "")
        out[kind.key] = finish(
            document_steps(session, kind.key, Choice(Lens(), subject, claim=claim))
        )
    wide = finish(session.wide_snapshot_steps(METRICS))
    schedule = finish(finish(session.schedule_steps("2026-08-10", "2026-10-31")).run())
    items, near = session.catalogue(), [d for d in schedule.days if d.client <= 2]
    out["calendar"] = [plan_words.plan_headline(schedule, items), as_csv(schedule, items)]
    out["sheets"] = sheets_of(session, near, named=False)
    for code, kind in (("Auk", "Birch"), ("Cod", "")):
        found = finish(TrackRequest(wide, Lens(), code, instrument=kind, today="2026-08-27").run())
        labels = {k: x.label for k, x in items.settings.items()}
        out[code] = [track_json(found), track_figure.info(found, labels)]
    found = finish(SpreadsRequest(wide, Lens(), "Alder").run())
    asked = PrecisionRequest(found.spreads, found.sources, Design(12, 3, 1, 3), margin=2.0)
    words = (plan_words.precision_headline, plan_words.option_sentences, plan_words.power_words)
    precision = finish(asked.run())
    out["precision"] = [precision, *(w(precision, FAT) for w in words)]
    curves = [
        finish(CurveRequest(found.spreads, Design(12, 3, 1, 3), what, 1.5).run())
        for what in ("bias", "limits", "offset", "reading")
    ]
    out["curves"] = [[c, precision_figure.info(c, FAT)] for c in curves]
    chance = [would_show(found.spreads, x, 12, 24.0, 3) for x in (-3.0, 0.4)]
    out["chances"] = [[w, plan_words.would_show_words(w, FAT)] for w in chance]
    group = finish(GroupRequest(wide, Lens()).run())
    out["group"] = [group_words.headline(group), group_words.under(group)]
    out["group"] += [group_words.row(r, FAT) for r in group_words.ordered(group.rows, "scan")]
    out["group"].append(group_figure.info(group.rows, FAT))
    out["equations"] = [_equations(*person) for person in PERSONS]
    out["populations"] = {
        k: {f.name: getattr(e, f.name) for f in dataclasses.fields(e) if f.name != "function"}
        for k, e in EQUATIONS.items()
    }
    return json.loads(re.sub(r"[0-9a-f]{16,}", "-", json.dumps(plain(out))))


# study, device and clients of documents that little or odd data make
PAPERS = {
    "varied": ("Ash", "A", "B", "D", "E"),
    "no scan": ("Fir", "C0", "C2"),
    "one": ("Fir", "C0"),
    "one, four scans": ("Oak", "C0"),
    "few": ("Elm", "C1"),
}


def papers(name):
    """What stands in each document of a study, or why there is none."""
    session, (device, *codes) = STUDIES[name](), PAPERS[name]
    out = {}
    for kind in KINDS:
        for subject in {"device": [device], "client": codes}.get(kind.about, [""]):
            asked = document_steps(
                session, kind.key, Choice(Lens(), subject, claim=Claim(0.9, 0.3))
            )
            try:
                out[f"{kind.key} {subject}"] = finish(asked)
            except UserError as error:
                out[f"{kind.key} {subject}"] = str(error)
    session.close()
    return json.loads(re.sub(r"[0-9a-f]{16,}", "-", json.dumps(plain(out))))


# sex (1 male), age, height, mass, and how thick folds and how large girths are
PERSONS = ((1.0, 25, 180, 80, 1.0), (0.0, 40, 165, 62, 1.4), (1.0, 14, 160, 48, 0.7))


def _equations(sex, age, height, mass, size):
    """What each equation gives for a person, with what a reading error does."""
    given = {"sex": sex, "age_years": age, "height": height, "body_mass": mass}
    for key in {k for e in EQUATIONS.values() for k in e.all_inputs} - given.keys():
        m = METRIC.get(key)
        usual = {"skinfold": 12.0, "girth": 60.0, "resistance": 500.0, "reactance": 55.0}
        start = usual.get(key.split("_")[0], 1.0 if m is None else 0.7 * m.low + 0.3 * m.high)
        named = {"girth_neck": 37.0, "girth_hip": 98.0}.get(key, start)
        given[key] = named * size * (1 + len(key) / 300)  # left and right differ
    out = {}
    for key, e in EQUATIONS.items():
        found = line(e, given)
        told = [bench_words.sensitivity_words(s, found.metric) for s in sensitivity(e, given)]
        out[key] = [found, bench_words.method_words(found, 0.4), told]
    return out


def plain(x):
    """A result as lists, words and numbers; of a long array its length, sum, ends and middle."""
    if dataclasses.is_dataclass(x) and not isinstance(x, type):
        fields = [f.name for f in dataclasses.fields(x)]
        return {
            k: plain(getattr(x, k))
            for k in fields
            if k not in ("id", "reading", "readings", "paint")
        }
    if isinstance(x, np.ndarray):
        if x.dtype.kind not in "biuf":
            return [str(v) for v in x.tolist()]
        v = x.astype(float).ravel()
        v = v[np.isfinite(v)]
        whole = [v.size, v.sum(), (v * v).sum()] if v.size else []
        return plain([*whole, *(v if v.size < 12 else np.sort(v)[:: v.size // 5])])
    if isinstance(x, dict):
        return {str(k): plain(v) for k, v in x.items()}
    if isinstance(x, (str, bool)) or x is None:
        return x
    if isinstance(x, (int, float, np.number)):
        return float(f"{float(x):.8g}") if np.isfinite(x) else str(x)
    if isinstance(x, (set, frozenset)):
        return sorted(map(str, x))
    if hasattr(x, "__iter__"):
        return [plain(v) for v in x]
    return str(x)


def study(*parts):
    """A study imported in these parts."""
    session = Session(open_file.create_in_memory("x"), None, clock=AFTERWARDS)
    for part in parts:
        session.do(ImportReadings(tuple(part), "x"))
    return session


def squad():
    """The demo study's first nine clients."""
    return tuple(r for r in squad_rows(CLOCK.today()) if r.client in CLIENTS[:9])


def moving(clients=8, scans=5, scan=True):
    """Clients who lose fat, beside devices that drift, step, follow half of it, or fail at times."""
    rng, lines, start = np.random.default_rng(8), [], datetime(2026, 1, 5, 7)
    for c in range(clients):
        level, own = 20 + 2.0 * c, rng.normal(0, 1.5)
        for k in range(scans * 3):
            at, weeks = start + timedelta(weeks=4 * k, minutes=7 * c), 4 * k
            true = level - 0.08 * weeks + rng.normal(0, 0.4)
            shown = {
                "Fir": true + 2 + own + 0.05 * weeks,
                "Elm": true - 1 + own + (2.5 if weeks > 24 else 0),
                "Oak": level + 0.4 * (true - level) + 0.1 * (level - 27),
            }
            stamp = at.isoformat(timespec="minutes")
            for name, value in shown.items():
                lines += [
                    reading(
                        f"C{c}", stamp, round(value + rng.normal(0, 0.5), 1), name=name, repeat=r
                    )
                    for r in (1, 2)
                ]
            if (k + c) % 7 == 0:
                lines.append(f"C{c},male,30,180,{stamp},Fir,device,,{FAT},,percent,3,failed,")
            if scan and k % 3 == 0:
                later = (at + timedelta(minutes=40)).isoformat(timespec="minutes")
                value = round(true + rng.normal(0, 0.4), 1)
                lines.append(reading(f"C{c}", later, value, name="Scan", kind="reference"))
    return study_of(lines)


def mixed():
    """Five clients with something of everything.

    A device that reads in proportion and one that computes fat from its water, two scans an hour
    apart, settings, regions, events, cautions, a goal, check weights, excluded and failed readings.
    """
    rng, lines, start = np.random.default_rng(21), [], datetime(2026, 1, 6, 6, 30)
    for c, code in enumerate("ABCDE"):
        level, mass = 15 + 5.0 * c, 62 + 7.0 * c
        for k in range(24):
            at, water = start + timedelta(days=7 * k + (k % 3), minutes=11 * c), rng.normal(0, 0.8)
            true = level + (0.04 + 0.02 * c) * k + rng.normal(0, 0.5)
            stamp, shown = (
                at.isoformat(timespec="minutes"),
                round(1.2 * true + rng.normal(0, 0.4), 1),
            )
            setting = "athlete" if k > 14 else "standard"
            lines.append(reading(code, stamp, shown, setting=setting))
            wet = round(100 - (true - water) * 1.1 - 22, 1)
            found = [(FAT, round(true - water - 2, 1)), (WATER, wet)]
            found += [("body_mass", round(mass - 0.05 * k + 0.2 * water, 1))]
            for metric, value in found:
                unit = "kg" if metric == "body_mass" else "percent"
                given = {"name": "Ash", "metric": metric, "unit": unit}
                lines += [reading(code, stamp, value + 0.1 * r, repeat=r, **given) for r in (1, 2)]
            waist = f"{round((70 + level - 0.1 * k) / 2.54, 2)}"
            tape = {"name": "Tape", "kind": "method", "metric": "girth_waist", "unit": "in"}
            lines.append(reading(code, stamp, waist, **tape))
            for hour in (1, 2) if k % 8 == 0 else (26,) if k % 8 == 5 else ():
                later = (at + timedelta(hours=hour)).isoformat(timespec="minutes")
                scan = {"name": "Scan", "kind": "reference"}
                lines.append(reading(code, later, round(true + rng.normal(0, 0.5), 1), **scan))
    lines.append(
        "E,male,30,180,2026-07-01T06:30,Ash,device,,body_fat_percent,,percent,1,failed,wet"
    )
    session = study_of(lines)
    clients = session.catalogue().clients
    item = session.catalogue().instrument_named("Ash").id
    for number, caution in ((1, "eating_disorder"), (2, "implant"), (3, "cutting_weight")):
        told = {"sex": "female", "birth": "2009-03", "last_scan": "2026-05-01", "scans_before": 3}
        session.do(PutClient(replace(clients[number], cautions=frozenset({caution}), **told)))
    for number in (3, 40, 90):
        session.do(ExcludeReading(session.readings()[number].id, "restless"))
    session.do(SetGoal(4, FAT, 28.0))
    session.do(AddEvent(Event(0, 4, None, "2026-02-02", "2026-02-20", "illness", "a cold")))
    session.do(AddEvent(Event(0, None, item, "2026-04-01", "", "firmware", "")))
    session.do(StateValue(FAT, "margin", 2.0))
    for day, shown in (("2026-01-06", 20.0), ("2026-03-03", 20.1), ("2026-05-05", 20.2)):
        weights = Quantity(20.0, "20", "kg"), Quantity(shown, str(shown), "kg")
        session.do(AddCheckWeight(item, day, *weights))
    session.do(adoption(session, "Ash"))
    return session


def varied():
    """The same with other rules for repeats, a narrow margin, an unfinished review and stated errors."""
    session = mixed()
    items = session.catalogue()
    for name, rule in (("Ash", "last"), ("Fir", "median"), ("Tape", "mean")):
        session.do(PutInstrument(replace(items.instrument_named(name), counts=rule)))
    for k in (7, 300, 301):
        session.do(CorrectReading(session.readings()[k].id, "61.3", "to see"))
    for what, value in (("margin", 0.5), ("reference_sd", 0.3), ("client_sd", 1.2)):
        session.do(StateValue(FAT, what, value))
    session.do(PutStudy("Trial", practice=True, blind=True, balanced=True))
    lines = []
    for k, at in enumerate(
        sorted({r.taken_at for r in session.readings() if r.instrument == "Ash"})
    ):
        if (
            k % 5 == 2
        ):  # a device whose muscle is a share of its lean, and whose parts make the whole
            lean = 55.0 + k % 7
            for metric, value in (
                ("body_mass", lean + 14.0),
                ("fat_mass", 14.0 + 0.3 * (k % 3)),
                ("fat_free_mass", lean),
                ("total_muscle_mass", round(0.95 * lean, 2)),
            ):
                lines.append(reading("E", at, value, name="Yew", metric=metric, unit="kg"))
        if k % 5 == 3:
            lines.append(f"E,male,30,180,{at},Yew,device,,fat_mass,,kg,1,failed,")
    rows, _ = parse_text("\n".join([",".join(HEADER), *lines]) + "\n")
    session.do(ImportReadings(tuple(rows), "more"))
    session.do(AddRules((SchemeRule(0, None, "devices", "every", (7,), "2026-06-01"),)))
    session.do(AddRules((SchemeRule(0, 2, "scan", "back", (60,), "", "2026-12-01"),)))
    return session


STUDIES = {
    "mixed": mixed,
    "varied": varied,
    "by an equation": mixed,
    "one setting": mixed,
    "by two devices": lambda: moving(4, 2),
    "squad": lambda: study(squad()),
    "moving": moving,
    "few": lambda: moving(3, 2),
    "no scan": lambda: moving(4, 2, scan=False),
    "two": lambda: moving(2, 3),
    "one": lambda: moving(1, 1),
    "one, four scans": lambda: moving(1, 4),
}
# what a study is looked at through, where it is not the scan
SEEN = {
    "by an equation": Lens(reference="BMI equation (Gallagher 2000)"),
    "one setting": Lens(setting="athlete", window_hours=30.0, around=True),
    "by two devices": Lens(reference="Elm", clients=frozenset({"C0", "C2", "C3"})),
}


LENS = "--client Auk --client Brill --client Cod --client Dory --from 2026-03-02 --to 2026-08-20"
WIDER = "--window-hours 48 --around --setting athlete --reference-sd 0.5"
COMMANDS = (
    "compare --demo --instrument Alder",
    f"compare --demo --instrument Birch --json {WIDER}",
    f"compare STUDY --instrument Cedar --json {LENS}",
    "compare STUDY --instrument Alder --sex female",
    "compare STUDY --instrument Nobody",
    "repeatability --demo --instrument Birch --near-days 2",
    "repeatability STUDY --instrument Dogwood --json --near-days 3",
    f"change STUDY --instrument Cedar {LENS}",
    "change STUDY --instrument Birch --json --sex male",
    "hydration STUDY --instrument Birch",
    "hydration STUDY --instrument Alder --json",
    "drift STUDY --instrument Dogwood",
    f"drift STUDY --instrument Birch --json {WIDER}",
    f"calibrate STUDY --instrument Cedar {LENS}",
    "calibrate STUDY --instrument Alder --json --client-sd 1.5",
    "plan STUDY --instrument Cedar --half-width 1 --scan-cost 60 --interval reading",
    "plan STUDY --json --clients 20 --scans 4 --mornings 2 --repeats 1 --interval limits",
    "plan --demo --days-ahead 30 --interval bias --ics c.ics --csv c.csv",
    "simulate --studies 4 --seed 3 --clients 6 --scans 2 --repeats 2 --bias 1 --json",
    "simulate STUDY --instrument Birch --studies 3 --drift-per-week 0.1 --step 2 --step-week 6",
    "certificate STUDY --instrument Cedar",
    "certificate STUDY --instrument Cedar --full -o c.json",
    "certificate STUDY --instrument Cedar -o c.html --paper Letter",
    "verify STUDY c.json",
    "verify STUDY nothing.json",
    "report STUDY -o never.html --client Nobody",
    "summary STUDY --client Auk -o s.html --without-fat --name",
    "summary STUDY --client Cod -o s.html --ranges",
    "track STUDY --client Auk --from 2026-04-01 --to 2026-08-01",
    "track --demo --client Dory --metric girth_waist --json",
    "page card STUDY --instrument Cedar -o p.html",
    "page card STUDY -o p.html",
    "page devices STUDY -o p.html --client Auk --client Cod",
    "page methods STUDY --client Auk -o p.html",
    "page methods STUDY -o p.html",
    "page devices STUDY -o never.html --client Auk --client Nobody",
    "page paper STUDY -o p.html --window-hours 48 --around --paper Letter",
    "page claims STUDY --instrument Birch --correlation 0.9 --repeatability 0.3 -o p.html",
    "export STUDY -o e.csv --estimates",
    "export --demo -o e.xlsx",
    "export STUDY -o e.zip",
    "export STUDY -o f.zip --full",
    "import e.csv --into n.tally",
    "import e.csv --into n.tally --skip-refused",
    "import f.zip --into o.tally",
    "import odd.csv --into p.tally --out-of-range-as-failed",
    "method bmi_deurenberg_1991 sex=male age_years=30 height=180cm body_mass=80kg",
    "method bmi_deurenberg_1991 sex=male",
    "method jackson_pollock_1978_3 sex=male age_years=30 height=70in body_mass=180lb skinfold_chest=12"
    " skinfold_abdominal=20 skinfold_thigh=15 density_equation=brozek_1963 --json",
    "methods",
    "methods --json",
)
REFUSED = (  # and what is just allowed
    *(f"compare STUDY --instrument Birch --window-hours {x}" for x in ("0", "x", "8784", "8785")),
    *(f"compare STUDY --instrument Birch --reference-sd {x}" for x in ("0", "x", "1e6")),
    "compare STUDY --instrument Birch --from 2026-13-01",
    "compare STUDY --instrument Birch --from 2026-08-20 --to 2026-03-02",
    "compare --instrument Birch",
    "compare empty.tally --instrument Birch",
    "drift empty.tally --instrument Birch",
    "calibrate empty.tally --instrument Birch",
    "hydration empty.tally --instrument Birch",
    "repeatability empty.tally --instrument Birch",
    "repeatability STUDY --instrument Birch --near-days 0",
    *(f"plan STUDY --days-ahead {x}" for x in ("0", "1", "10001", "2.5")),
    "plan STUDY --instrument Nobody",
    "plan STUDY --metric girth_waist",
    "plan empty.tally",
    "plan empty.tally --metric body_mass --json",
    "plan nothing.tally",
    "simulate --clients 0",
    "simulate --bias 1000",
    "simulate --bias x",
    *(f"simulate --studies 1 --{x}" for x in ("failures 1", "failures -0.1", "dropouts 1")),
    *(f"simulate --studies 1 --{x}" for x in ("client-sd 100", "day-sd -1", "weeks 0")),
    "simulate --studies 1 --resolution 0",
    "simulate --studies 10001",
    "simulate --studies 2 --clients 1 --scans 1 --repeats 1",
    "simulate --studies 2 --client-sd 0 --day-sd 0 --repeat-sd 0 --scan-sd 0 --level-sd 0",
    "simulate empty.tally",
    "simulate nothing.tally",
    "track STUDY --client Nobody",
    "track STUDY --client Auk --metric charm",
    "track STUDY --client Auk --from 2026-08-01 --to 2026-04-01",
    "track --client Auk",
    "track empty.tally --client Auk",
    "import odd.csv --into q.csv",
    "import odd.csv --into q.tally",
    "import more.csv --into r.tally",
    "import more.csv --into r.tally",
    "import nothing.csv --into s.tally",
    "import more.zip --into r.tally",
    "method nothing sex=male",
    "method bmi_deurenberg_1991 sex=robot age_years=30 height=180cm body_mass=80kg",
    "method bmi_deurenberg_1991 sex=male age_years=130 height=180cm body_mass=80kg",
    "method bmi_deurenberg_1991 sex=male age_years=x height=180cm body_mass=80kg",
    "method bmi_deurenberg_1991 height",
    "method siri_1961 body_volume=70",
    "method siri_1961 body_volume=70 body_mass=75",
    "method siri_1961 body_density=1.05",
    "method jackson_pollock_1978_3 sex=male density_equation=other",
    "export STUDY -o e.txt",
    "export STUDY -o f.csv --full",
    "export STUDY -o /nowhere/e.csv",
    "certificate STUDY --instrument Alder",
    "verify STUDY odd.csv",
    "page nothing STUDY -o p.html",
    "page paper STUDY -o p.txt",
    "page claims STUDY --instrument Birch -o p.html",
    "page claims STUDY --instrument Birch --correlation 1.1 -o p.html",
    "page claims STUDY --instrument Birch --repeatability -0.1 -o p.html",
    "summary STUDY --client Nobody -o s.html",
    "summary empty.tally --client Auk -o s.html",
    "report STUDY -o r.txt",
    "report empty.tally -o r.html",
)
NEVER_THE_SAME = (
    r"[0-9a-f]{16,}|[0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12}"  # fingerprints
    r"|\"created(?:_at)?\": \"[^\"]*\""  # the demo study is kept between starts
    r"|<style.*?</style>|<svg.*?</svg>|<[^>]*>|data:[^\"')]*"
)


def commands(folder):
    """What each command says, its exit code, and what is in the file it writes."""
    session = demo_session(folder, clock=CLOCK)
    session.do(adoption(session, "Cedar"))
    session.close()
    odd = ["Auk,male,30,180,2026-08-20T07:00,Alder,method,,body_fat_percent,200,percent,1,ok,"]
    (folder / "odd.csv").write_text("\n".join([",".join(HEADER), *odd]) + "\n")
    return {line: _command(line, folder, session.path) for line in COMMANDS}


def refusals(folder):
    """What commands say that are not allowed, or only just, and what they leave behind."""
    session = demo_session(folder, clock=CLOCK)
    session.close()
    Session.new(folder / "empty.tally", "Empty", clock=CLOCK).close()
    row = "Auk,male,30,180,2026-08-20T07:0{},Alder,device,,body_fat_percent,{},percent,1,ok,"
    (folder / "odd.csv").write_text("\n".join([",".join(HEADER), row.format(1, 200)]) + "\n")
    more = [
        ",".join([*HEADER, "mood"]),
        row.format(2, 20) + ",good",
        row.format(3, "20.5") + ",bad",
    ]
    (folder / "more.csv").write_text("\n".join(more) + "\n")
    out = {}
    for k, call in enumerate(REFUSED):
        code, said, error, written = _command(call, folder, session.path)
        out[f"{k} {call}"] = [code, said, error[-1:] if code == 2 else error, written]
    return [out, sorted(p.name for p in folder.iterdir() if p.is_file())]


def _command(line, folder, study):
    """One call: exit code, what it prints, what it has written."""
    argv = [str(study) if x == "STUDY" else x for x in line.split()]
    argv = [str(folder / x) if re.search(r"^[a-z]+\.[a-z]+$", x) else x for x in argv]
    out, err = io.StringIO(), io.StringIO()
    with redirect_stdout(out), redirect_stderr(err):
        try:
            code = main(argv, CLOCK)
        except SystemExit as stop:
            code = stop.code
    said = out.getvalue()
    answer = json.loads(said) if said.startswith(("{", "[")) else _words(said, folder)
    files = [p for x in argv if (p := Path(x)).parent == folder and p.is_file() and p != study]
    return plain(
        [code, answer, _words(err.getvalue(), folder), [_written(p, folder) for p in files]]
    )


def _words(text, folder):
    """A text without places and fingerprints."""
    text = re.sub(r"\d+\.\d{7,}(?:e-?\d+)?", lambda x: f"{float(x[0]):.5g}", text)  # by processor
    text = re.sub(NEVER_THE_SAME, "-", text.replace(str(folder), "-"), flags=re.DOTALL)
    return text.splitlines()


def _written(path, folder):
    """What is in a file: the first lines of each table."""
    if path.suffix == ".xlsx":
        book = load_workbook(path, read_only=True)
        return {s.title: [list(r) for r in s.iter_rows(max_row=12, values_only=True)] for s in book}
    if path.suffix == ".zip":
        with zipfile.ZipFile(path) as z:
            names = sorted(z.namelist())
            return {n: _words(z.read(n).decode(), folder)[:12] for n in names}
    if path.suffix == ".tally":
        other = Session.open(path, read_only=True)
        told = [len(other.readings()), [c.code for c in other.catalogue().clients.values()]]
        other.close()
        return told
    return _words(path.read_text(), folder)[: 4000 if path.suffix == ".html" else 40]
