"""A counted campaign, run by `make slow`: odd little studies through core, words, JSON and pictures. Nothing fails, warns or says nan."""

import contextlib
import io
import json
import os
import random
import re
import traceback
import warnings
from contextlib import redirect_stderr, redirect_stdout
from dataclasses import replace
from datetime import datetime
from functools import partial
from pathlib import Path

import pytest
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure

from anchor_tally.analysis.agreement.agreement import CompareRequest
from anchor_tally.analysis.agreement.change import ChangeRequest
from anchor_tally.analysis.offsets.adopt import record_of
from anchor_tally.analysis.offsets.calibrate import CalibrateRequest
from anchor_tally.analysis.offsets.record import correct
from anchor_tally.analysis.offsets.which_device import JOBS, WhichDeviceRequest
from anchor_tally.analysis.review import ReviewRequest
from anchor_tally.analysis.time.drift import DriftRequest
from anchor_tally.analysis.time.group_levels import GroupRequest
from anchor_tally.analysis.time.track import TrackRequest
from anchor_tally.app.exporting import export, not_in_table
from anchor_tally.app.session import Session
from anchor_tally.cli.main import main
from anchor_tally.domain.errors import UserError
from anchor_tally.domain.lens import Lens
from anchor_tally.domain.steps import finish
from anchor_tally.exchange.drift_json import drift_json
from anchor_tally.exchange.results_json import calibrate_json, compare_json
from anchor_tally.exchange.views_json import change_json
from anchor_tally.figures import difference, drift, forest, forms, ladder, track, views
from anchor_tally.figures import which_device as which_figures
from anchor_tally.figures.style import LIGHT, Mark, mark_of, use_fonts
from anchor_tally.study.edits.checks import StateValue
from anchor_tally.study.edits.clients import PutClient
from anchor_tally.study.edits.readings import CorrectReading, ExcludeReading
from anchor_tally.wording import board, offsets, sentences
from anchor_tally.wording import drift as drift_words
from anchor_tally.wording import track as track_words
from anchor_tally.wording import views as view_words
from anchor_tally.wording import which_device as which_words
from odd_studies import odd_study, small_study
from places import AFTERWARDS

pytestmark = pytest.mark.slow
COUNT = int(os.environ.get("STUDIES", "300"))
MARK, REFERENCE = mark_of(0, LIGHT), Mark(LIGHT.reference, "D", "-")
BESIDE = ("body_fat_percent", "body_mass", "total_body_water_percent")


def drawn(draw, *what, after=()):
    """Draw once, as the screen would."""
    figure = Figure(figsize=(5, 3))
    FigureCanvasAgg(figure)
    draw(figure.add_subplot(), *what, LIGHT, use_fonts(), *after)
    figure.canvas.draw()


def derived(session, snapshot, lens, _rng):
    """Offsets, and what they make of a reading."""
    codes = {k: c.code for k, c in session.catalogue().clients.items()}
    results = finish(CalibrateRequest(snapshot, lens).run())
    yield str(board.board(results))
    for r in results:
        yield json.dumps(calibrate_json(r), allow_nan=False)
        yield " ".join(
            (offsets.offset_headline(r), offsets.calibration_sentence(r), offsets.error_sentence(r))
        )
        drawn(forest.draw, forest.info(r, codes), MARK, 0)
        drawn(forest.draw_errors, forest.errors(r), MARK)
        if r.offer and r.valid_until:
            record = record_of(r, session.catalogue(), datetime(2027, 3, 1), "odd")
            yield str(correct(record, "C0", 20.0, "2027-03-01", ""))


def compared(_session, snapshot, lens, _rng):
    """Closeness in all its forms."""
    r = finish(CompareRequest(snapshot, lens, "Fir").run())
    yield json.dumps(compare_json(r), allow_nan=False)
    yield sentences.headline(r) + str(view_words.agreement_lines(r))
    drawn(ladder.draw, ladder.info((r,)), (MARK,), 0)
    drawn(difference.draw, difference.info(r), MARK)
    for form, _ in forms.FORMS[1:]:
        drawn(forms.draw, forms.info(r, form), MARK)


def drifting(_session, snapshot, lens, _rng):
    """Drift of every device."""
    for r in finish(DriftRequest(snapshot, lens).run()):
        yield json.dumps(drift_json(r), allow_nan=False)
        yield " ".join(
            (drift_words.drift_headline(r), drift_words.drift_advice(r), drift_words.side_words(r))
        )
        yield str(drift_words.drift_lines(r))
        drawn(drift.draw, drift.info(r, "UTC"), MARK, after=(None, None))
        drawn(drift.draw_chart, drift.info(r, "UTC"), MARK)


def changing(_session, snapshot, lens, _rng):
    """Change between scans."""
    for r in finish(ChangeRequest(snapshot, lens).run()):
        yield json.dumps(change_json(r), allow_nan=False)
        yield view_words.change_headline(r) + str(view_words.change_lines(r))
        drawn(views.draw_quadrants, views.quadrants(r), MARK)


def judged(session, snapshot, lens, _rng):
    """The choice of devices and the review."""
    yield str([f.note for f in finish(ReviewRequest(finish(session.material_steps())).run()).found])
    r = finish(WhichDeviceRequest(snapshot, lens).run())
    yield which_words.which_device_headline(r) + str(which_words.which_device_lines(r))
    for job in JOBS:
        yield which_words.job_words(r, job)
        what = which_figures.info(r, job)
        marks = (MARK,) * len(r.cards)
        drawn(partial(which_figures.draw, named=True), what, marks)


def followed(session, _snapshot, lens, rng):
    """Every client through time."""
    wide = finish(session.wide_snapshot_steps(BESIDE))
    for client in session.catalogue().clients.values():
        r = finish(
            TrackRequest(
                wide, lens, client.code, goal=rng.choice((None, 10.0, 20.0)), today="2027-03-01"
            ).run()
        )
        yield (
            track_words.track_headline(r)
            + track_words.alone_headline(r)
            + track_words.all_sources_words(r)
        )
        yield (track_words.value_words(r) + track_words.track_notes(r))
        yield track_words.caution_words(r) + str(track_words.track_lines(r))
        drawn(track.draw, track.info(r, {}), MARK, REFERENCE)


def test_random_studies():
    """COUNT odd studies; what cannot be answered is refused in a sentence."""
    faults, refused, said = [], 0, 0
    for k in range(COUNT):
        rng = random.Random(k)
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            try:
                session = odd_study(rng)
                lens = Lens(
                    setting=rng.choice((None, None, "", "b")),
                    reference=rng.choice((None, None, None, "Consensus", "Elm")),
                )
                for ask in (derived, compared, drifting, changing, judged, followed):
                    try:
                        for text in ask(session, session.snapshot(), lens, rng):
                            said += 1
                            if re.search(r"\bnan\b|\binf\b|None to|−−", text):
                                faults.append(f"{k} says {text[:300]}")
                    except UserError:
                        refused += 1
                session.close()
            except Exception:  # noqa: BLE001  (counted)
                faults.append(f"{k} {traceback.format_exc(limit=-3)}")
    print(f"\n{COUNT} odd studies: {said} texts, {refused} questions refused, {len(faults)} faults")
    assert faults[:3] == []


def differences(a, b, where=""):
    """Places at which two answers differ."""
    if isinstance(a, dict) and isinstance(b, dict):
        for k in a.keys() | b.keys():
            yield from differences(a.get(k), b.get(k), f"{where}/{k}")
    elif isinstance(a, list) and isinstance(b, list) and len(a) == len(b):
        for k, (x, y) in enumerate(zip(a, b, strict=True)):
            yield from differences(x, y, f"{where}/{k}")
    elif (
        a != pytest.approx(b, rel=1e-9) if isinstance(a, float) and isinstance(b, float) else a != b
    ):
        yield where


def answered(session, name):
    """What compare reports about an instrument, or why it is refused."""
    try:
        return compare_json(finish(CompareRequest(session.snapshot(), Lens(), name).run()))
    except UserError as error:
        return str(error)


def test_a_table_read_back_gives_the_same_answers(tmp_path):
    """Random studies and edits, written as CSV and read back: compare says the same, or the loss was stated."""
    changed = lossy = 0
    for k in range(COUNT // 3):
        rng = random.Random(1000 + k)
        session = odd_study(rng)
        ids = [r.id for r in session.readings() if r.value is not None]
        for i in rng.sample(ids, min(len(ids), rng.randint(0, 8))):
            session.do(ExcludeReading(i, "slipped"))
        for i in rng.sample(ids, min(len(ids), 2)):
            session.do(CorrectReading(i, str(rng.randint(10, 40)), "typed wrongly"))
        for client in list(session.catalogue().clients.values()):
            session.do(
                PutClient(
                    replace(
                        client,
                        sex=rng.choice(("male", "female", "")),
                        birth=rng.choice(("", "1990", "1985-03-04")),
                    )
                )
            )
        if rng.random() < 0.3:
            session.do(StateValue("body_fat_percent", "reference_sd", 0.4))
        if ids:
            export(session, tmp_path / "x.csv")
            again = Session.open(tmp_path / "x.csv")
            names = [i.name for i in session.snapshot().instruments.values() if not i.equation]
            differ = [
                d for n in names for d in differences(answered(session, n), answered(again, n))
            ]
            lossy += bool(differ) and bool(not_in_table(session))
            changed += bool(differ) and not not_in_table(session)
            again.close()
        session.close()
    print(
        f"\n{COUNT // 3} studies read back: {changed} with other answers, {lossy} more where"
        " the loss was stated"
    )
    assert changed == 0


def calls_of(session, path, folder, rng, *, documents):
    """Commands on a study: each question of some metrics, and what is written."""
    items = session.catalogue()
    names = [i.name for i in items.instruments.values() if not i.equation and i.kind != "reference"]
    codes = [c.code for c in items.clients.values()]
    metrics = sorted(session.metrics_known())
    for m in rng.sample(metrics, min(2, len(metrics))):
        asked = [path, "--metric", m, "--json"]
        for command in ("compare", "repeatability", "drift", "calibrate", "change"):
            yield [command, *asked, "--instrument", rng.choice(names)]
        yield ["track", *asked, "--client", rng.choice(codes)]
        yield ["track", *asked[:-1], "--client", rng.choice(codes)]
        yield ["plan", *asked, "--change", "-1.5"]
    yield ["hydration", path, "--instrument", rng.choice(names), "--json"]
    yield ["summary", path, "--client", rng.choice(codes), "-o", f"{folder}/page.html"]
    if documents:
        yield ["report", path, "-o", f"{folder}/report.html", "--metric", rng.choice(metrics)]
        for page in ("devices", "methods", "paper"):
            yield ["page", page, path, "-o", f"{folder}/{page}.html"]
        yield ["export", path, "-o", f"{folder}/all.xlsx"]


def run_small(seed, folder):
    """Every command, and every stage of the window without the window, on a small study."""
    rng, faults = random.Random(seed), []
    session, path = small_study(rng), f"{folder}/{seed}.tally"
    session.save_copy(Path(path))
    calls = list(calls_of(session, path, folder, rng, documents=seed % 4 == 0))
    for call in calls:
        out = io.StringIO()
        try:
            with redirect_stdout(out), redirect_stderr(out):
                code = main(call, AFTERWARDS)
            wrong = re.search(r"\bnan\b|NaN|Infinity|\binf\b", out.getvalue())
            if code not in (0, 2) or wrong:
                faults.append(f"{seed} {call[0]}: {code} {out.getvalue()[:200]}")
        except Exception:  # noqa: BLE001  (counted)
            faults.append(f"{seed} {call[0]} {traceback.format_exc(limit=-3)}")
    asked = 0
    for m in session.metrics_known():
        snapshot = finish(session.wide_snapshot_steps((m,)))
        for request in (GroupRequest, WhichDeviceRequest, DriftRequest):
            asked += 1
            with contextlib.suppress(UserError):
                finish(request(snapshot, Lens(m)).run())
    finish(ReviewRequest(finish(session.material_steps())).run())
    session.close()
    return len(calls) + asked + 1, faults


@pytest.mark.parametrize("first", range(0, 500, 100))
def test_small_studies_through_every_command_and_stage(first, tmp_path):
    """500 studies of one to three clients; no traceback, no nan, no warning."""
    runs, faults = 0, []
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        for seed in range(first, first + 100):
            n, found = run_small(seed, tmp_path)
            runs += n
            faults += found
    print(f"\n100 small studies from {first} on: {runs} runs, {len(faults)} faults")
    assert faults[:3] == []
