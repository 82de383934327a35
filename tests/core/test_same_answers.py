"""What must not matter does not: order of entry, zones of stamps, units, a constant added, excluded or never there. Everything that is said is compared."""

import json
from datetime import datetime, timedelta

import numpy as np
import pytest

from anchor_tally.scenario.squad import CLIENTS
from anchor_tally.study.edits.readings import ExcludeReading
from answers import PAPERS, SEEN, STUDIES, commands, pages, papers, refusals, said, squad, study
from approved import approve, sentences
from edit_cases import CASES, edits


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
    if where.endswith("/clients") and isinstance(a, list) and all(isinstance(x, dict) for x in a):
        a, b = (sorted(x, key=lambda r: r["client"]) for x in (a, b))
    if isinstance(a, dict):
        assert a.keys() == b.keys(), where
        for key in a:
            the_same(a[key], b[key], f"{where}/{key}")
    elif isinstance(a, list):
        assert len(a) == len(b), where
        for k, (x, y) in enumerate(zip(a, b, strict=True)):
            the_same(x, y, f"{where}/{k}")
    elif isinstance(a, float) and a != b:
        resampled = any(
            x in where for x in ("percentile", "nonparametric", "search_p")
        )  # clients are drawn in the order in which they came
        assert a == pytest.approx(b, rel=1e-5, abs=0.05 if resampled else 1e-6), where
    else:
        assert a == b, where


def without(answer, *keys):
    """An answer without some of its entries, at any depth."""
    if isinstance(answer, dict):
        return {k: without(v, *keys) for k, v in answer.items() if k not in keys}
    return [without(v, *keys) for v in answer] if isinstance(answer, list) else answer


@pytest.fixture(scope="module")
def plain():
    """The demo study's rows, and what is said of them."""
    return squad(), said(study(squad()))


@pytest.mark.parametrize("name", STUDIES)
def test_studies_are_told_as_approved(name, plain):
    """Each sentence about a study; whether it is right, other tests tell."""
    now = plain[1] if name == "squad" else said(STUDIES[name](), lens=SEEN.get(name))
    approve(f"study {name}", sentences(now))


def test_pages_are_told_as_approved(demo):
    """The same of what documents, calendar, sheets and the planner show of the demo study."""
    approve("pages of the demo study", sentences(pages(demo)))


@pytest.mark.parametrize("name", PAPERS)
def test_documents_of_little_data_are_told_as_approved(name):
    """Clients with cautions, no scan, one client: what documents say, and which there are not."""
    approve(f"documents {name}", sentences(papers(name)))


def test_commands_say_what_was_approved(tmp_path):
    """What each command prints."""
    approve("commands", sentences(commands(tmp_path)))


def test_commands_refuse_what_was_approved(tmp_path):
    """One sentence and no file for what is not allowed; what is just allowed runs."""
    approve("refusals", sentences(refusals(tmp_path)))


@pytest.mark.parametrize("name", CASES)
def test_edits_do_what_was_approved(name, tmp_path):
    """What each edit says, adds and takes away, allowed or refused; undone, the file is as before."""
    approve(f"edits {name}", [json.dumps(x) for x in edits(name, tmp_path)])


def test_order_of_entry(plain):
    """The last weeks first, then the middle, then the oldest."""
    rows, answer = plain
    days = sorted({r.taken_at[:10] for r in rows})
    ends = ["", days[len(days) // 3], days[2 * len(days) // 3], "9999"]
    parts = [[r for r in rows if ends[k] <= r.taken_at[:10] < ends[k + 1]] for k in range(3)]
    gone = ("pictures", "p of slope or step")  # clients are drawn in the order in which they came
    the_same(without(answer, *gone), without(said(study(*parts[::-1])), *gone))


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

    gone = ("notes", "dropped", "review", "pictures")
    the_same(without(answer, *gone), without(said(study([told(r) for r in rows])), *gone))


@pytest.mark.slow
def test_excluded_is_as_never_read(plain):
    """A part of the devices' readings, drawn at random: excluded, or not in the file."""
    rows = [r for r in plain[0] if r.client in CLIENTS[:5]]
    stays = np.random.default_rng(5).random(len(rows)) > 0.04
    left = [r for r, k in zip(rows, stays, strict=True) if k or r.kind == "reference"]
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
        "pictures",
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
    relative = [k for k in answer["consistency"]["Alder"]["lines"] if "%" in k]
    relative.append("Water / fat-free mass")
    assert relative
    gone = ("notes", "dropped", "cv_percent", "tem_percent", *relative)
    for name in ("change", "consistency", "drift", "water", "alike"):
        the_same(without(answer[name], *gone), without(moved[name], *gone), name)
    before, after = (a["calibrate"]["Alder"] for a in (answer, moved))
    assert after["pooled"]["offset"] == pytest.approx(before["pooled"]["offset"] + 3)
    the_same([c["offset"] + 3 for c in before["clients"]], [c["offset"] for c in after["clients"]])
    for key in ("within_slope", "advice_code", "model", "valid_until"):
        the_same(before[key], after[key])
    assert after["cross_validation"]["rmse_after"] == pytest.approx(
        before["cross_validation"]["rmse_after"]
    )
