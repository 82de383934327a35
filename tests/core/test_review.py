"""Review rules: each finds what was planted, and nothing where nothing was.

Decisions stay in the file.
"""

from collections import Counter
from datetime import date, timedelta

import numpy as np
import pytest
from scipy import stats

from anchor_tally.analysis.agreement.agreement import CompareRequest
from anchor_tally.analysis.agreement.exclusions import ExclusionsRequest
from anchor_tally.analysis.agreement.repeatability import RepeatabilityRequest
from anchor_tally.analysis.pairs.computed_values import visit_inputs
from anchor_tally.analysis.review import RULES, ReviewRequest
from anchor_tally.analysis.review.values import slip_of
from anchor_tally.app.session import Session
from anchor_tally.domain.clock import fixed
from anchor_tally.domain.import_rows import ImportRow
from anchor_tally.domain.lens import Lens
from anchor_tally.domain.metrics import METRICS
from anchor_tally.domain.steps import finish
from anchor_tally.domain.units import Quantity
from anchor_tally.scenario.squad import UNSPOILED, squad_rows
from anchor_tally.study import open_file
from anchor_tally.study.edits.clients import AddHeight
from anchor_tally.study.edits.decisions import Decide, Reopen
from anchor_tally.study.edits.edit import EditRefused
from anchor_tally.study.edits.imports import ImportReadings
from anchor_tally.study.edits.readings import ExcludeReading, PutBackReading
from anchor_tally.study.edits.visits import NoteVisit
from anchor_tally.study.import_preview import FRESH, LINE
from anchor_tally.wording.importing import doubt_words
from anchor_tally.wording.notes import sentence
from anchor_tally.wording.review import (
    advice_words,
    finding_row,
    review_headline,
    sensitivity_words,
)
from places import CLOCK, reading, study_of, typed


def reviewed(session):
    """What the review finds in a study."""
    return finish(ReviewRequest(finish(session.material_steps())).run())


def series(
    session, values, metric="body_fat_percent", instrument="Fir", kind="device", client="A", **more
):
    """One reading or tally of a row every month."""
    for k, v in enumerate(values):
        each = v if isinstance(v, tuple) else (v,)
        session.do(
            typed(client, f"2026-{k + 1:02}-02T07:00", instrument, kind, metric, *each, **more)
        )


def test_demo_holds_what_was_planted(demo):
    """The mistyped value and the visit that came unprepared, and nothing else.

    The words for them.
    """
    found = reviewed(demo)
    assert [f.rule for f in found.found] == ["repeats", "conditions"]
    rows = [finding_row(f, found.material) for f in found.found]
    assert rows[0][0] == "39.2 % differs from the other repeats (19.4 and 19.5)."
    assert (rows[0][3], rows[0][4]) == ("Hake, Alder, body fat", "25 May 2026")
    assert rows[1][3] == "Cod"
    assert "fasted" in rows[1][0]
    assert review_headline(found.found, 0) == "2 findings: 1 to resolve before use, 1 to check."
    assert advice_words(found.found[0]).startswith(rows[0][0])


def offset_of(rows, client):
    """Mean of Alder less the scan of the same day of one client, less that of the others."""
    day = {}
    for r in rows:
        if r.metric == "body_fat_percent" and r.instrument in ("Alder", "Lab scan"):
            day.setdefault((r.client, r.taken_at[:10]), {}).setdefault(r.instrument, []).append(
                r.value
            )
    gaps = {True: [], False: []}
    for (who, _), found in day.items():
        if len(found) == 2:
            gaps[who == client].append(np.mean(found["Alder"]) - found["Lab scan"][0])
    return np.mean(gaps[True]) - np.mean(gaps[False])


def test_one_scan_each_is_compared_with_no_other():
    """Ten clients with one scan each: nothing is found, and nothing is warned of."""
    session = Session(open_file.create_in_memory("one each"), None)
    for c in range(10):
        at = f"2026-03-{c + 2:02}T07:00"
        session.do(typed(f"C{c}", at, "Scan", "reference", "body_fat_percent", f"{20 + c}"))
        session.do(typed(f"C{c}", at, "Fir", "device", "body_fat_percent", f"{21 + c}"))
    assert reviewed(session).found == ()
    session.close()


def test_a_client_and_a_scan_unlike_the_others():
    """A client whom one device reads 8 pp higher than the others, and a scan mistyped by 8: found, and nobody else."""
    found, n = Counter(), 2
    for seed in range(1, n + 1):
        rows = squad_rows(CLOCK.today(), seed, UNSPOILED)
        scan = [k for k, r in enumerate(rows) if r.kind == "reference"][7 * seed % 42]
        more = {"scan_at_odds": 8.0, "client_offset": 8.0 - offset_of(rows, "Ibis")}
        for rule, who in (("scan_at_odds", rows[scan].client), ("client_offset", "Ibis")):
            spoiled = []
            for k, r in enumerate(rows):
                own = (r.client, r.instrument, r.metric) == ("Ibis", "Alder", "body_fat_percent")
                if k == scan if rule == "scan_at_odds" else own:
                    value = round(r.value + more[rule], 1)
                    r = r._replace(value=value, entered=f"{value:.1f}")
                spoiled.append(r)
            session = Session(open_file.create_in_memory("spoiled"), None)
            session.do(ImportReadings(tuple(spoiled), "drawn"))
            result = reviewed(session)
            code = {k: c.code for k, c in result.material.snapshot.clients.items()}
            found.update((rule, code[f.client] == who) for f in result.found if f.rule == rule)
            session.close()
    assert found["scan_at_odds", True] == n
    assert found["client_offset", True] >= n - 1
    assert found["scan_at_odds", False] + found["client_offset", False] <= 1


@pytest.mark.parametrize("n", [6, pytest.param(400, marks=pytest.mark.slow)])
def test_nothing_found_where_nothing_is(n):
    """Per rule at least 95 % of unspoiled studies raise no alarm."""
    alarms = Counter()
    for seed in range(1, n + 1):
        session = Session(open_file.create_in_memory("unspoiled"), None)
        session.do(ImportReadings(squad_rows(CLOCK.today(), seed, UNSPOILED), "drawn"))
        alarms.update({f.rule for f in reviewed(session).found})
        session.close()
    assert all(k <= max(0.05 * n, 1) for k in alarms.values()), alarms


@pytest.mark.parametrize(
    ("value", "expected", "metric", "slip"),
    [
        (176.4, 80.0, "body_mass", "pounds for kilograms"),
        (36.3, 80.0, "body_mass", "kilograms for pounds"),
        (31.5, 80.0, "girth_waist", "inches for centimetres"),
        (203.0, 80.0, "girth_waist", "centimetres for inches"),
        (192.0, 19.2, "sum_skinfolds", "a lost decimal point"),
        (91.2, 19.4, "body_fat_percent", "swapped digits"),
        (1.9, 19.2, "body_fat_percent", "a decimal point too many"),
        (25.0, 19.2, "body_fat_percent", ""),
    ],
)
def test_slips_are_named(value, expected, metric, slip):
    """1 lb = 0.45359237 kg and 1 in = 2.54 cm (international yard and pound, 1959): what a typing error would explain is named."""
    assert slip_of(value, expected, METRICS[metric]) == slip


def _slip(s):
    series(s, ["80.1", "80.4", "79.9", "176.4", "80.2", "80.0"], "body_mass")


def _at_odds(s):
    series(s, ["19.0", "19.4", "19.1", "36.3", "19.2", "19.3"])


def _repeats(s):
    series(
        s,
        [
            ("19.0", "19.1", "19.0"),
            ("19.2", "29.1", "19.2"),
            ("19.1", "19.0", "19.2"),
            ("18.9", "19.0", "19.1"),
        ],
    )


def _region(s):
    series(s, ["20.0"], "body_fat_percent", "Scan", "reference")
    s.do(typed("A", "2026-03-02T08:00", "Scan", "reference", "body_fat_percent_subtotal", "21.0"))


def _water(s):
    series(
        s,
        [
            "55.0",
            "55.2",
            "54.9",
            "55.1",
            "55.0",
            "55.2",
            "54.8",
            "55.1",
            "55.0",
            "55.1",
            "54.9",
            "58.4",
        ],
        "total_body_water_percent",
    )


def _balance(s):
    for metric, value in (("body_mass", "80.0"), ("fat_mass", "16.0"), ("fat_free_mass", "60.0")):
        series(s, [value], metric)


def _setting(s):
    s.do(
        typed(
            "A", "2026-01-02T07:00", "Fir", "device", "body_fat_percent", "20.0", setting="standard"
        )
    )
    s.do(
        typed("A", "2026-01-02T12:00", "Scan", "reference", "body_fat_percent", "19.0", fresh=True)
    )
    s.do(
        typed(
            "A",
            "2026-01-03T07:00",
            "Fir",
            "device",
            "body_fat_percent",
            "17.0",
            setting="athlete",
            fresh=True,
        )
    )


def _alternating(s):
    for day, setting in enumerate(("standard", "athlete") * 3, start=2):
        at = f"2026-01-{day:02}T07:00"
        s.do(typed("A", at, "Fir", "device", "body_fat_percent", "20.0", setting=setting))


def _ahead(s):
    series(s, ["20.0"])
    s.clock = fixed("2026-01-01T06:30")


def _unlike(s):
    s.do(typed("A", "2026-01-02T07:00", "Fir", "device", "body_fat_percent", "20.0"))
    s.do(
        typed("A", "2026-01-02T12:00", "Scan", "reference", "body_fat_percent", "19.0", fresh=True)
    )
    for visit, answer in ((1, "yes"), (2, "no")):
        s.do(NoteVisit("A", "2026-01-02T07:00", conditions=(("fasted", answer),), visit=visit))


def _assessor(s):
    s.do(typed("A", "2026-01-02T07:00", "Caliper", "method", "skinfold_triceps", "20.0"))
    s.do(NoteVisit("A", "2026-01-02T07:00", assessor="R. K.", visit=1))


def _folds(s):
    s.do(typed("A", "2026-01-02T07:00", "Fir", "device", "body_mass", "100.0"))
    s.do(typed("A", "2026-01-02T07:05", "Caliper", "method", "skinfold_triceps", "20.0"))
    s.do(AddHeight(1, "2026-01-01", Quantity(170.0, "170", "cm")))


def test_a_muscular_client_with_a_lean_scan_is_not_asked_about():
    """A body mass index of 34.6 beside a scan of 18 % is muscle, beside 30 % it is fat."""
    for fat, asked in (("18", False), ("30", True)):
        session = Session(open_file.create_in_memory("muscular"), None)
        _folds(session)
        session.do(typed("A", "2026-01-02T08:00", "Lab", "reference", "body_fat_percent", fat))
        assert ("folds_bmi" in {f.rule for f in reviewed(session).found}) is asked
        session.close()


def _failures(s):
    series(s, [(None, "20.0"), ("20.1", "20.2")] * 5 + [(None, None)])


def _one_client_fails(s):
    for code, failed in (("A", 5), ("B", 0), ("C", 1)):
        days = [None] * failed + ["20.0"] * (12 - failed)
        for day, value in enumerate(days, start=1):
            s.do(typed(code, f"2026-03-{day:02}T07:00", "Fir", "device", "body_fat_percent", value))


def _order(s):
    series(s, ["36.2"], "girth_arm_relaxed", "Tape")
    series(s, ["33.0"], "girth_arm_flexed", "Tape")


def _missing(s):
    series(s, [("20.0", "20.1"), ("20.0", "20.2", "20.1"), ("19.9", "20.0"), ("20.0", "20.1")])


def _different(s):
    series(s, ["38.0"], "skeletal_muscle_mass")
    series(s, ["60.0"], "total_muscle_mass", "Gorse")


def test_mass_comes_from_the_same_client_before():
    """What the equations are given at a visit without a mass: the client's last one up to it, never a later one or another's."""
    session = Session(open_file.create_in_memory("t"), None)
    for client, month, mass in (
        ("A", 1, "80.0"),
        ("A", 2, "81.0"),
        ("B", 3, "60.0"),
        ("A", 5, "90.0"),
    ):
        session.do(typed(client, f"2026-0{month}-02T07:00", "Fir", "device", "body_mass", mass))
    session.do(typed("A", "2026-04-02T07:00", "Tape", "method", "girth_waist", "85.0"))
    snapshot = finish(session.wide_snapshot_steps(("body_mass", "girth_waist")))
    assert visit_inputs(snapshot, 5)["body_mass"] == 81.0
    session.close()


@pytest.mark.parametrize(
    ("plant", "rule", "words"),
    [
        (_slip, "slip", "176.4 kg, usually about 80.1: pounds for kilograms?"),
        (_at_odds, "at_odds", "36.3 %, usually about 19.3 for this client and device."),
        (_repeats, "repeats", "29.1 % differs from the other repeats (19.2 and 19.2)."),
        (_region, "region_mix", "include the head and others do not"),
        (_water, "water", "points above the client's recent mean"),
        (_balance, "mass_balance", "Fat plus fat-free mass is 5.0 % below the body mass of this visit."),
        (_setting, "setting_changed", "The setting changed from standard to athlete near a scan."),
        (_alternating, "alternating", "The setting changed 5 times in 5 days: standard and athlete."),
        (_ahead, "ahead", "The visit is dated 1 day in the future."),
        (_unlike, "unlike_scan", "The scan of that day was taken under other conditions: fasted."),
        (_assessor, "assessor", "R. K. measures sites but has not been checked"),
        (_folds, "folds_bmi", "Body mass index 34.6"),
        (_failures, "failures", "% of 22 readings failed."),
        (_one_client_fails, "client_failures", "42 % of 12 readings failed."),
        (_order, "sites_order", "relaxed arm girth 36.2 cm is larger than flexed arm girth 33.0 cm."),
        (_missing, "missing_repeats", "3 of 4 sets have fewer than the 3 planned repeats."),
        (_different, "different_things", "These are different quantities and are not comparable"),
    ],
)  # fmt: skip
def test_each_rule_finds_its_own(plant, rule, words):
    """A small study with one thing planted: the rule finds it, names it, and no other rule speaks but those it brings along."""
    late = fixed("2028-01-01T08:00")
    session = Session(open_file.create_in_memory("planted"), None, clock=late)
    plant(session)
    result = reviewed(session)
    found = {f.rule: finding_row(f, result.material)[0] for f in result.found}
    session.close()
    assert words in found[rule]
    assert set(found) <= {rule, "missing_repeats", "conditions"}
    assert rule in {r.id for r in RULES}


def test_two_settings_at_each_visit_are_a_comparison():
    """Both settings read at every visit, in turn: nobody forgot one, so no rule reports it."""
    session = Session(open_file.create_in_memory("both"), None, clock=fixed("2028-01-01T08:00"))
    for day in range(2, 8):
        for setting in ("standard", "athlete"):
            at = f"2026-01-{day:02}T07:00"
            session.do(typed("A", at, "Fir", "device", "body_fat_percent", "20.0", setting=setting))
    assert "alternating" not in {f.rule for f in reviewed(session).found}
    session.close()


def test_decisions_are_kept_with_their_reason(demo):
    """Excluding needs a reason, leaves the readings in the file, is undone as one, and opens again with the readings put back."""
    snapshot = demo.snapshot()
    f = reviewed(demo).found[0]
    with pytest.raises(EditRefused, match="needs a reason"):
        demo.do(Decide(f.key, "exclude", "  ", f.readings))
    demo.do(Decide(f.key, "exclude", "mistyped", f.readings))
    after = reviewed(demo)
    assert [g.rule for g in after.found] == ["conditions"]
    assert demo.decisions() == {f.key: ("exclude", "mistyped")}
    assert [g.key for g in after.decided(demo.decisions())] == [f.key]
    found = finish(ExclusionsRequest(demo.snapshot(), Lens()).run())
    assert [(s.without.pairs.instrument.name, s.excluded) for s in found] == [("Alder", 1)]
    assert sensitivity_words(found).startswith(
        "Alder: bias +2.7 pp (95 % CI +1.4 to +4.0) without, +2.9 pp (95 % CI +1.6 to +4.2) with the"
    )
    assert "1 excluded reading" in sensitivity_words(found)
    told = "1 reading is excluded. Review shows the effect."
    compared = finish(CompareRequest(demo.snapshot(), Lens(), "Alder").run())
    repeated = finish(RepeatabilityRequest(demo.snapshot(), Lens(), "Alder").run())[0]
    assert [told in [sentence(n) for n in r.notes] for r in (compared, repeated)] == [True, True]
    demo.undo()
    assert (demo.decisions(), len(reviewed(demo).found)) == ({}, 2)
    other = reviewed(demo).found[1]
    demo.do(Decide(other.key, "again", "came unfasted"))
    assert (
        advice_words(other, demo.decisions()[other.key])
        .splitlines()[1]
        .startswith("To be measured again: came unfasted.")
    )
    demo.undo()
    demo.do(Decide(f.key, "exclude", "mistyped", f.readings))
    demo.do(Reopen(f.key, f.readings))
    demo.do(ExcludeReading(f.readings[0], "wet feet"))  # on its own, before anything is decided
    demo.do(Decide(f.key, "exclude", "mistyped", f.readings))
    assert demo.readings([f.readings[0]])[0].note == "wet feet"
    demo.do(Reopen(f.key, f.readings))
    assert [(r.status, r.note) for r in demo.readings([f.readings[0]])] == [
        ("excluded", "wet feet")
    ]
    demo.do(PutBackReading(f.readings[0]))
    assert (demo.decisions(), next(g.key for g in reviewed(demo).found)) == ({}, f.key)
    assert demo.snapshot().columns["body_fat_percent"].n == snapshot.columns["body_fat_percent"].n


def test_a_table_is_looked_through_before_it_is_taken(demo):
    """What the review would find in a table is told from the staged rows: the same findings as after taking it, and nothing written."""
    drawn = [
        r._replace(client=f"{r.client}2", line=k)
        for k, r in enumerate(squad_rows(CLOCK.today(), 7), start=2)
    ]
    row = next(r for r in drawn if r.metric == "body_mass" and "-06-" in r.taken_at)
    drawn[drawn.index(row)] = row._replace(value=2.2 * row.value, entered=f"{2.2 * row.value:.1f}")
    known = {f.key for f in reviewed(demo).found}
    before = list(demo.readings())
    staged = finish(demo.stage(drawn))
    ahead = finish(ReviewRequest(finish(demo.import_preview_steps(staged))).run())
    found = ahead.about(LINE, FRESH)
    assert list(demo.readings()) == before
    assert [f.readings[0] - LINE for f in found if f.rule == "slip"] == [row.line]
    said = doubt_words(found, ahead.material, lambda number: f"line {number - LINE}")
    assert f"line {row.line}: " in said
    assert "pounds for kilograms?" in said
    finish(demo.take(staged, "drawn"))
    now = reviewed(demo)
    after = [finding_row(f, now.material) for f in now.found if f.key not in known]
    assert sorted(finding_row(f, ahead.material) for f in found) == sorted(after)


def test_a_new_device_of_a_new_person_is_looked_through():
    """Everything in the table is new to the study: instrument, person and visit still make one visit whose parts do not add up."""
    session, at = Session(open_file.create_in_memory("t"), None), "2026-03-02T07:00"
    rows = [
        ImportRow(
            k,
            "A",
            "",
            None,
            None,
            at,
            "Fir",
            "device",
            "",
            metric,
            value,
            str(value),
            "kg",
            1,
            "ok",
            "",
        )
        for k, (metric, value) in enumerate(
            (("body_mass", 80.0), ("fat_mass", 16.0), ("fat_free_mass", 60.0)), start=2
        )
    ]
    ahead = finish(
        ReviewRequest(finish(session.import_preview_steps(finish(session.stage(rows))))).run()
    )
    found = ahead.about(LINE, FRESH)
    assert [f.rule for f in found] == ["mass_balance"]
    assert "A, Fir, body mass, 2 Mar 2026: " in doubt_words(found, ahead.material, str)
    session.close()


@pytest.mark.parametrize("share", [0.97, 1.03])
def test_a_client_unlike_the_others_by_hand(share):
    """The seventh offset lies just within, and just beyond, the t distribution's bound with five degrees of freedom."""
    others = np.array([1.0, 2.0, 3.0, 1.5, 2.5, 2.0]) / 10  # small beside the margin
    bound = stats.t.ppf(1 - 0.0002 / 2, others.size - 1) * others.std(ddof=1)
    odd = others.mean() + share * bound * np.sqrt(1 + 1 / others.size)
    lines = []
    for c, offset in enumerate([*others, odd]):
        for month in (1, 4):
            scan = 20 + c + 0.3 * month
            at = f"2026-{month:02}-05"
            lines.append(reading(f"C{c}", f"{at}T07:00", f"{scan + offset:.3f}"))
            lines.append(reading(f"C{c}", f"{at}T08:00", scan, name="Scan", kind="reference"))
    found = [f for f in reviewed(study_of(lines)).found if f.rule == "client_offset"]
    assert [f.client for f in found] == ([7] if share > 1 else [])


def mixed_lines(rng, plant, *, clients=7, weeks=13, scans=True):
    """Lines of a squad with two devices, two repeats and body mass; and what was planted, by line.

    ``plant`` is one (a repeat), client, exchange (of devices), step (of a device), scan or "".
    """
    level, mass = rng.uniform(15, 31, clients), rng.uniform(55, 95, clients)
    own = rng.normal(0, 1.5, (clients, 2)) + np.array([2.5, -2.5])
    rows = []
    for c in range(clients):
        for week in range(weeks + 1):
            for k, name in enumerate(("Fir", "Elm")):
                day = level[c] + own[c, k] + rng.normal(0, 0.8)
                rows += [[c, week, name, "device", r + 1, day + rng.normal(0, 0.3)] for r in (0, 1)]
            rows.append([c, week, "Scale", "mass", 1, mass[c] + rng.normal(0, 0.4)])
            if scans and week in (0, 6, 12):
                rows.append([c, week, "Scan", "reference", 1, level[c] + rng.normal(0, 0.5)])
    who, week = int(rng.integers(clients)), int(rng.integers(5, weeks - 4))
    if plant in ("client", "exchange"):
        other = int(np.abs(mass - mass[who]).argmax())
        theirs = {tuple(x[2:5]): x[5] for x in rows if (x[0], x[1]) == (other, week)}
        swap = {"Fir": "Elm", "Elm": "Fir"}
        mine = {tuple(x[2:5]): x[5] for x in rows if (x[0], x[1]) == (who, week)}
    bad = []
    for k, x in enumerate(rows):
        here = (x[0], x[1]) == (who, week)
        if plant == "one" and here and x[2] == "Fir" and x[4] == 2:
            x[5] += 4.5
        elif plant == "client" and here and x[3] != "reference":
            x[5] = theirs[tuple(x[2:5])] + rng.normal(0, 0.3)
        elif plant == "exchange" and here and x[3] == "device":
            x[5] = mine[swap[x[2]], x[3], x[4]]
        elif (plant == "step" and x[0] == who and x[1] >= week and x[2] == "Fir") or (
            plant == "scan" and (x[0], x[1], x[3]) == (who, 6, "reference")
        ):
            x[5] += 8
        else:
            continue
        bad.append(k)
    lines = []
    for c, w, name, kind, repeat, value in rows:
        at = f"{date(2026, 1, 5) + timedelta(weeks=w)}T0{8 if kind == 'reference' else 7}:00"
        more = {"metric": "body_mass", "unit": "kg"} if kind == "mass" else {}
        kind = "device" if kind == "mass" else kind
        lines.append(
            reading(f"C{c}", at, f"{value:.1f}", name=name, kind=kind, repeat=repeat, **more)
        )
    return lines, bad


RULE_OF = {
    "one": "repeats",
    "client": "other_client",
    "exchange": "exchanged",
    "step": "step",
    "scan": "scan_at_odds",
}


@pytest.mark.parametrize("plant", ["", *RULE_OF])
def test_what_is_mixed_up_is_named_by_its_readings(plant):
    """Four squads each: the rule names readings that were spoiled and no others; clean ones nothing.

    A client whose device has stepped is unlike the others as well.
    """
    found, innocent = 0, 0
    for seed in range(4):
        lines, bad = mixed_lines(np.random.default_rng(seed), plant)
        session = study_of(lines)
        parts = [lines[k].split(",") for k in bad]
        spoiled = {(p[0], p[4], p[5], p[8], int(p[11])) for p in parts}
        ids = {
            r.id: (r.client, r.taken_at[:16], r.instrument, r.metric, r.replicate)
            for r in session.readings()
        }
        every = reviewed(session).found
        named = [f for f in every if f.readings and f.rule != "client_offset"]
        assert not any(f.rule == "repeats" and len(f.readings) > 1 for f in named)
        for f in named:
            own = {ids[i] for i in f.readings}
            innocent += not own <= spoiled
            found += f.rule == RULE_OF.get(plant) and own <= spoiled
        session.close()
    assert innocent <= (plant in ("client", "exchange"))
    assert found >= (3 if plant else 0)
