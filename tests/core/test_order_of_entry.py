"""When something was entered must not matter: the demo study taken in three parts, the oldest last, says the same everywhere."""

import json
import re

import pytest

from anchor_tally.analysis.alike import AlikeRequest
from anchor_tally.analysis.calibrate import CalibrateRequest
from anchor_tally.analysis.change import ChangeRequest
from anchor_tally.analysis.compare import LadderRequest
from anchor_tally.analysis.drift import DriftRequest
from anchor_tally.analysis.repeat import RepeatRequest
from anchor_tally.analysis.rules import ReviewRequest
from anchor_tally.analysis.scorecard import ScoreRequest
from anchor_tally.analysis.track import TrackRequest
from anchor_tally.analysis.water import WaterRequest
from anchor_tally.app.session import Session
from anchor_tally.domain.lens import Lens
from anchor_tally.domain.steps import finish
from anchor_tally.exchange.drift_json import drift_json
from anchor_tally.exchange.faces_json import change_json, hydration_json, repeatability_json
from anchor_tally.exchange.results_json import calibrate_json, compare_json
from anchor_tally.scenario.squad import squad_rows
from anchor_tally.study import open_file
from anchor_tally.study.edits.imports import ImportReadings
from anchor_tally.wording import faces, review
from anchor_tally.wording import track as track_words


def said(session):
    """Everything that is said of a study, without the numbers of its readings and the fingerprints made of them."""
    wide = finish(session.wide_snapshot_steps(("body_fat_percent", "total_body_water_percent", "body_mass", "girth_waist")))
    lens, out = Lens(), {}
    for name, request, words in (
        ("compare", LadderRequest(wide, lens), compare_json),
        ("repeatability", RepeatRequest(wide, lens), repeatability_json),
        ("change", ChangeRequest(wide, lens), change_json),
        ("water", WaterRequest(wide, lens), hydration_json),
        ("drift", DriftRequest(wide, lens), drift_json),
        ("calibrate", CalibrateRequest(wide, lens), calibrate_json),
    ):
        out[name] = {r["instrument"]: r for r in map(words, finish(request.run()))}
    out["alike"] = sorted(str(line) for line in faces.alike_lines(finish(AlikeRequest(wide, lens).run())))
    out["score"] = faces.score_lines(finish(ScoreRequest(wide, lens).run()))
    material = finish(session.material_steps())
    out["review"] = [review.finding_row(f, material) for f in finish(ReviewRequest(material).run()).found]
    for client in session.catalogue().clients.values():
        r = finish(TrackRequest(wide, lens, client.code, goal=15.0, today="2026-09-01").run())
        out[client.code] = [
            track_words.track_headline(r),
            track_words.settle_words(r),
            track_words.goal_words(r.forecast, r.metric),
        ]
        out[client.code] += [str(line) for line in track_words.track_lines(r)]
    return json.loads(re.sub(r'"(digest|sources)": ("[^"]*"|\[[^]]*\])', '"-": 0', json.dumps(out)))


def the_same(a, b, where=""):
    """Walk two answers side by side; numbers agree to five digits (roots are found to as many)."""
    if where.endswith("/control_chart"):  # anchors of one moment stand in the order of their clients
        return
    if where.endswith("/dropped"):  # listed as they were entered
        a, b = (sorted(x, key=lambda r: json.dumps({**r, "reading": 0}, sort_keys=True)) for x in (a, b))
        a, b = ([{**r, "reading": 0} for r in x] for x in (a, b))
    if where.endswith("/clients") and isinstance(a, list):
        a, b = (sorted(x, key=lambda r: r["client"]) for x in (a, b))
    if isinstance(a, dict):
        assert a.keys() == b.keys(), where
        for key in a:
            the_same(a[key], b[key], f"{where}/{key}")
    elif isinstance(a, list):
        assert len(a) == len(b), where
        for k, (x, y) in enumerate(zip(a, b, strict=True)):
            the_same(x, y, f"{where}/{k}")
    elif isinstance(a, float):
        resampled = any(
            x in where for x in ("concordance/ci", "correlation/ci", "percentile", "nonparametric", "search_p")
        )  # clients are drawn in the order in which they came
        assert a == pytest.approx(b, rel=1e-5, abs=0.05 if resampled else 1e-6), where
    else:
        assert a == b, where


def test_order_of_entry_does_not_matter():
    """The last weeks first, then the middle, then the oldest."""
    rows = squad_rows()
    days = sorted({r.taken_at[:10] for r in rows})
    third = [days[0], days[len(days) // 3], days[2 * len(days) // 3], "9999"]
    parts = [tuple(r for r in rows if third[k] <= r.taken_at[:10] < third[k + 1]) for k in range(3)]
    answers = []
    for order in ((0, 1, 2), (2, 1, 0)):
        session = Session(open_file.create_in_memory("x"), None)
        for k in order:
            session.do(ImportReadings(parts[k], "x"))
        answers.append(said(session))
    the_same(*answers)
