"""What must not matter does not: order of entry, zones of stamps, units, a constant added, excluded or never there. Everything that is said is compared."""

import json
import re
from datetime import datetime, timedelta

import numpy as np
import pytest

from anchor_tally.analysis.agreement.agreement import LadderRequest
from anchor_tally.analysis.agreement.change import ChangeRequest
from anchor_tally.analysis.agreement.hydration import HydrationRequest
from anchor_tally.analysis.agreement.redundancy import RedundancyRequest
from anchor_tally.analysis.agreement.repeatability import RepeatabilityRequest
from anchor_tally.analysis.offsets.calibrate import CalibrateRequest
from anchor_tally.analysis.offsets.which_device import WhichDeviceRequest
from anchor_tally.analysis.review import ReviewRequest
from anchor_tally.analysis.time.drift import DriftRequest
from anchor_tally.analysis.time.track import TrackRequest
from anchor_tally.app.session import Session
from anchor_tally.domain.lens import Lens
from anchor_tally.domain.steps import finish
from anchor_tally.exchange.drift_json import drift_json
from anchor_tally.exchange.results_json import calibrate_json, compare_json
from anchor_tally.exchange.views_json import change_json, hydration_json, repeatability_json
from anchor_tally.scenario.squad import CLIENTS, squad_rows
from anchor_tally.study import open_file
from anchor_tally.study.edits.imports import ImportReadings
from anchor_tally.study.edits.readings import ExcludeReading
from anchor_tally.wording import review, views
from anchor_tally.wording import track as track_words
from anchor_tally.wording.which_device import which_device_lines
from places import CLOCK


def said(session):
    """Everything that is said of a study, without the numbers of its readings and the fingerprints made of them."""
    wide = finish(
        session.wide_snapshot_steps(
            ("body_fat_percent", "total_body_water_percent", "body_mass", "girth_waist")
        )
    )
    lens, out = Lens(), {}
    for name, request, words in (
        ("compare", LadderRequest(wide, lens), compare_json),
        ("repeatability", RepeatabilityRequest(wide, lens), repeatability_json),
        ("change", ChangeRequest(wide, lens), change_json),
        ("water", HydrationRequest(wide, lens), hydration_json),
        ("drift", DriftRequest(wide, lens), drift_json),
        ("calibrate", CalibrateRequest(wide, lens), calibrate_json),
    ):
        out[name] = {r["instrument"]: r for r in map(words, finish(request.run()))}
    out["alike"] = sorted(
        str(line) for line in views.redundancy_lines(finish(RedundancyRequest(wide, lens).run()))
    )
    out["score"] = which_device_lines(finish(WhichDeviceRequest(wide, lens).run()))
    material = finish(session.material_steps())
    out["review"] = [
        review.finding_row(f, material) for f in finish(ReviewRequest(material).run()).found
    ]
    for client in list(session.catalogue().clients.values())[::3]:
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
    if where.endswith(
        "/control_chart"
    ):  # anchors of one moment stand in the order of their clients
        return
    if where.endswith("/dropped"):  # listed as they were entered
        a, b = (
            sorted(x, key=lambda r: json.dumps({**r, "reading": 0}, sort_keys=True)) for x in (a, b)
        )
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
            x in where for x in ("percentile", "nonparametric", "search_p")
        )  # clients are drawn in the order in which they came
        assert a == pytest.approx(b, rel=1e-5, abs=0.05 if resampled else 1e-6), where
    else:
        assert a == b, where


def study(*parts):
    """A study imported in these parts."""
    session = Session(open_file.create_in_memory("x"), None)
    for part in parts:
        session.do(ImportReadings(tuple(part), "x"))
    return session


def without(answer, *keys):
    """An answer without some of its entries, at any depth."""
    if isinstance(answer, dict):
        return {k: without(v, *keys) for k, v in answer.items() if k not in keys}
    return [without(v, *keys) for v in answer] if isinstance(answer, list) else answer


@pytest.fixture(scope="module")
def plain():
    """The demo study's rows, and what is said of them."""
    rows = tuple(r for r in squad_rows(CLOCK.today()) if r.client in CLIENTS[:9])
    return rows, said(study(rows))


def test_order_of_entry(plain):
    """The last weeks first, then the middle, then the oldest."""
    rows, answer = plain
    days = sorted({r.taken_at[:10] for r in rows})
    ends = ["", days[len(days) // 3], days[2 * len(days) // 3], "9999"]
    parts = [[r for r in rows if ends[k] <= r.taken_at[:10] < ends[k + 1]] for k in range(3)]
    the_same(answer, said(study(*parts[::-1])))


def test_zones_and_units(plain):
    """Stamps of half of the clients in another zone, body mass in pounds: the same instants and masses."""
    rows, answer = plain

    def told(r):
        if r.metric == "body_mass" and r.value is not None:
            r = r._replace(entered=f"{r.value / 0.45359237:.5f}", unit="lb")
        if r.client < "H":
            return r
        return r._replace(
            taken_at=(
                f"{(datetime.fromisoformat(r.taken_at) + timedelta(hours=2)).isoformat(timespec='minutes')}+02:00"
            )
        )

    gone = ("notes", "dropped", "review")
    the_same(without(answer, *gone), without(said(study([told(r) for r in rows])), *gone))


def test_excluded_is_as_never_read(plain):
    """A part of the devices' readings, drawn at random: excluded, or not in the file."""
    rows, _ = plain
    kept = np.random.default_rng(5).random(len(rows)) > 0.04
    left = [r for r, k in zip(rows, kept, strict=True) if k or r.kind == "reference"]
    out = {
        (r.client, r.taken_at, r.instrument, r.metric, r.replicate, r.setting)
        for r in set(rows) - set(left)
    }
    session = study(rows)
    for r in session.readings():
        if (
            r.status == "ok"
            and (r.client, r.taken_at, r.instrument, r.metric, r.replicate, r.setting) in out
        ):
            session.do(ExcludeReading(r.id, "drawn"))
    gone = (
        "notes",
        "dropped",
        "review",
        "score",
    )  # what is not imported is told, and failures count for the score
    the_same(without(said(study(left)), *gone), without(said(session), *gone))


def test_a_constant_moves_the_level_only(plain):
    """Alder reads 3 higher: its offset is 3 more.

    Change, repeats, drift, water, likeness and errors after correcting stay.
    """
    rows, answer = plain

    def higher(r):
        alder = r.instrument == "Alder" and r.metric == "body_fat_percent" and r.value is not None
        return r._replace(value=round(r.value + 3, 1), entered=f"{r.value + 3:.1f}") if alder else r

    moved = said(study([higher(r) for r in rows]))
    gone = ("notes", "dropped", "cv_percent", "tem_percent")
    for name in ("change", "repeatability", "drift", "water", "alike"):
        the_same(without(answer[name], *gone), without(moved[name], *gone), name)
    before, after = (a["calibrate"]["Alder"] for a in (answer, moved))
    assert after["pooled"]["offset"] == pytest.approx(before["pooled"]["offset"] + 3)
    the_same([c["offset"] + 3 for c in before["clients"]], [c["offset"] for c in after["clients"]])
    for key in ("within_slope", "advice_code", "model", "valid_until"):
        the_same(before[key], after[key])
    assert after["cross_validation"]["rmse_after"] == pytest.approx(
        before["cross_validation"]["rmse_after"]
    )
