"""Readings that wait for a decision in Review do not count in the best estimate, wherever it is told."""

import csv
from dataclasses import replace
from datetime import date, datetime, timedelta

import numpy as np
import pytest

from anchor_tally.analysis.pairs.comparator import CannotCompare
from anchor_tally.analysis.plan.schedule import ordinal
from anchor_tally.analysis.review import ReviewRequest
from anchor_tally.analysis.review.held_back import held_back
from anchor_tally.analysis.time import device_slopes as device_slopes_module
from anchor_tally.analysis.time.best_estimate import BestEstimateRequest
from anchor_tally.analysis.time.best_estimate_result import Odd
from anchor_tally.analysis.time.device_slopes import device_slopes
from anchor_tally.analysis.time.group_levels import GroupRequest
from anchor_tally.analysis.time.study_model import EPOCH
from anchor_tally.analysis.time.track import TrackRequest
from anchor_tally.app.client_page import summary_steps
from anchor_tally.app.plan import planned_steps
from anchor_tally.cli.main import main
from anchor_tally.domain.lens import Lens
from anchor_tally.domain.scheme import SchemeRule
from anchor_tally.domain.snapshot import HELD
from anchor_tally.domain.steps import finish
from anchor_tally.exchange.readings_csv import HEADER
from anchor_tally.exchange.track_json import track_json
from anchor_tally.reports.render import as_html
from anchor_tally.study.edits.checks import StateValue
from anchor_tally.study.edits.clients import PutClient
from anchor_tally.study.edits.decisions import Decide
from anchor_tally.study.edits.instruments import PutInstrument
from anchor_tally.study.edits.readings import CorrectReading, ExcludeReading
from anchor_tally.study.edits.scheme import AddRules
from anchor_tally.wording.best_estimate import (
    bench_words,
    held_words,
    next_head,
    next_lines,
    next_words,
)
from anchor_tally.wording.group_levels import under
from anchor_tally.wording.numbers import day_of
from anchor_tally.wording.summary import meaning_words, waiting_words
from anchor_tally.wording.track import (
    all_sources_words,
    alone_headline,
    alone_words,
    track_headline,
    value_words,
)
from places import reading, squad_lines, study_of

FAT = "body_fat_percent"


def estimate(session, code="C1", metric=FAT, **asked):
    """The best estimate of a client."""
    snapshot = finish(session.wide_snapshot_steps((metric,)))
    return finish(BestEstimateRequest(snapshot, Lens(metric), code, **asked).run())


def mistyped(session, code="C1"):
    """Put the decimal point of a client's last but one reading on Fir one place off; its number."""
    own = [r for r in session.readings() if (r.client, r.instrument) == (code, "Fir")]
    row = sorted(own, key=lambda r: r.taken_at)[-2]
    usual = float(np.median([r.value for r in own[-5:]]))
    session.do(CorrectReading(row.id, f"{usual / 10:.2f}", "to see"))
    return row.id


def slips(session):
    """Findings that say not to use something."""
    found = finish(ReviewRequest(finish(session.material_steps())).run()).found
    return [f for f in found if f.severity == "stop"]


def test_a_mistyped_reading_waits_until_it_is_decided(tmp_path, capsys):
    """It counts as excluded until somebody leaves it as it is; every surface says so."""
    lines = squad_lines(np.random.default_rng(5))
    session = study_of(lines)
    number = mistyped(session)
    waiting = estimate(session)
    [finding] = slips(session)
    assert [(x.name, x.rule, x.readings) for x in waiting.held] == [("Fir", "slip", (number,))]
    day = date.fromordinal(waiting.held[0].day)
    assert held_words(waiting.held) == (
        "Not counted until you decide in Review: Fir,"
        f" {day.day} {day:%b} {day.year} (possible typing error)."
    )
    snapshot = finish(session.wide_snapshot_steps((FAT,)))
    group = finish(GroupRequest(snapshot, Lens()).run())
    assert group.waiting == ("C1",)
    assert "Some readings do not count until you decide in Review (C1)." in under(group)
    mine = next(r for r in group.rows if r.client.code == "C1")
    assert mine.value.value == pytest.approx(waiting.value.value, abs=1e-6)
    assert "this visit included" in bench_words(waiting)  # the visit is not the newest one
    newest = replace(waiting, held=(replace(waiting.held[0], day=waiting.at),))
    assert "this visit included" not in bench_words(newest)
    assert bench_words(newest).endswith("(possible typing error).")
    odd = Odd("Elm", "", waiting.at - 3, waiting.at, 3.0, 0.001)
    assert "Elm disagrees with the other readings: 3.0 pp above" in bench_words(
        replace(waiting, odd=(odd,))
    )
    assert "disagrees" not in bench_words(replace(waiting, odd=(replace(odd, last=odd.first),)))
    session.do(Decide(finding.key, "again", "when they come next"))
    assert estimate(session).held == waiting.held
    session.do(Decide(finding.key, "keep", "it was so on the display"))
    counted = estimate(session)
    assert counted.held == ()
    assert abs(counted.value.value - waiting.value.value) > 0.1
    session.undo()
    session.do(ExcludeReading(number, "mistyped"))
    excluded = estimate(session)
    assert excluded.held == ()
    assert excluded.value.value == pytest.approx(waiting.value.value, abs=1e-9)
    assert excluded.change.change.se == pytest.approx(waiting.change.change.se, abs=1e-9)
    text = [x.split(",") for x in lines]
    own = [x for x in text if (x[0], x[5]) == ("C1", "Fir")]
    own[-2][9] = f"{np.median([float(x[9]) for x in own[-5:]]) / 10:.2f}"
    path = tmp_path / "held.csv"
    path.write_text("\n".join([",".join(HEADER), *map(",".join, text)]) + "\n")
    assert main(["track", str(path), "--client", "C1"]) == 0
    assert "Not counted until you decide in Review: Fir," in capsys.readouterr().out
    assert main(["export", str(path), "-o", str(tmp_path / "out.csv"), "--estimates"]) == 0
    rows = list(csv.DictReader((tmp_path / "out.csv").read_text().splitlines()))
    waits = "some readings do not count until you decide in Review"
    notes = {r["client"]: r["note"] for r in rows if r["kind"] == "estimate"}
    assert {c for c, note in notes.items() if waits in note} == {"C1"} < set(notes)


def test_the_client_page_names_days_that_do_not_count():
    """One sentence a measure, with up to four days; none where all measurements count."""
    session = study_of(squad_lines(np.random.default_rng(5)))
    said = "are still being checked and do not count yet."
    assert said not in as_html(finish(summary_steps(session, "C1"))[0])
    mistyped(session)
    [held] = estimate(session).held
    page = as_html(finish(summary_steps(session, "C1"))[0])
    assert f"Body fat: measurements of {day_of(held.day)} {said}" in page
    records, today = tuple(session.calibrations()), session.today()
    asked = TrackRequest(session.snapshot(), Lens(), "C1", records, today=today)
    r = finish(asked.run())
    days = [replace(held, day=held.day + k) for k in range(5)]
    told = [waiting_words(replace(r, held=tuple(days[:n]))) for n in (3, 4, 5)]
    a, b, c, d = (day_of(x.day) for x in days[:4])
    assert f"of {a}, {b} and {c} are" in told[0]
    assert f"of {a}, {b}, {c} and {d} are" in told[1]
    assert "of 5 days are" in told[2]


def test_one_device_alone_does_not_count_what_waits():
    """Its days, means, noise and scans are those of a study without the reading; Drift keeps its slopes."""
    session = study_of(squad_lines(np.random.default_rng(5)))

    def track(code="C1"):
        snapshot = finish(session.wide_snapshot_steps((FAT, "body_mass")))
        return finish(TrackRequest(snapshot, Lens(), code, instrument="Fir").run())

    def told(r):
        s = r.named("Fir")
        return s.day.tolist(), s.value.tolist(), s.week.mean.tolist(), s.noise, r.change

    before = track()
    number = mistyped(session)
    waiting = track()
    [held] = waiting.held
    assert (held.name, held.readings) == ("Fir", (number,))
    assert held.day in set(before.named("Fir").day) - set(waiting.named("Fir").day)
    assert "Not counted until you decide in Review: Fir," in alone_words(waiting)
    assert alone_words(before) == value_words(before) != ""
    session.do(ExcludeReading(number, "mistyped"))
    excluded = track()
    assert (excluded.held, *told(excluded)) == ((), *told(waiting))
    session.undo()
    finding = slips(session)[0]
    session.do(Decide(finding.key, "keep", "it was so on the display"))
    counted = track()
    assert counted.held == ()
    assert held.day in counted.named("Fir").day


def test_a_reading_in_doubt_at_a_date_leaves_the_change_open():
    """It counts until it is decided, is named beside the change, and the client page claims nothing."""
    session = study_of(squad_lines(np.random.default_rng(5)))
    own = [r for r in session.readings() if (r.client, r.instrument) == ("C1", "Fir")]
    own.sort(key=lambda r: r.taken_at)
    usual = float(np.median([r.value for r in own[-5:]]))

    def track(row, **asked):
        session.do(CorrectReading(row.id, f"{usual + 11.7:.1f}", "to see"))
        snapshot = finish(session.wide_snapshot_steps((FAT,)))
        return finish(TrackRequest(snapshot, Lens(), "C1", instrument="Fir", **asked).run())

    r = track(own[-1])
    [doubt] = r.questioned
    assert (doubt.name, doubt.rule, doubt.readings, r.held) == ("Fir", "at_odds", (own[-1].id,), ())
    said = f"Counted, but check in Review: Fir, {day_of(doubt.day)} (differs from the client's history)."
    assert said in alone_words(r)
    assert said in all_sources_words(r)
    for headline in (alone_headline(r), track_headline(r)):
        assert headline.endswith(". First check the measurement named below.")
    assert meaning_words(r) == "not known: a measurement is being checked"
    assert waiting_words(r) == (
        f"Body fat: measurements of {day_of(doubt.day)} are still being checked."
        " Until then the change is not known."
    )
    first = own[0].taken_at[:10]
    early = track(own[-1], since=date.fromisoformat(first).toordinal(), until=doubt.day - 30)
    assert early.questioned == ()  # far from both dates
    assert "check" not in alone_headline(early) + track_headline(early)
    finding = next(
        f
        for f in finish(ReviewRequest(finish(session.material_steps())).run()).found
        if f.rule == "at_odds"
    )
    session.do(Decide(finding.key, "keep", "it was so on the display"))
    snapshot = finish(session.wide_snapshot_steps((FAT,)))
    assert finish(TrackRequest(snapshot, Lens(), "C1").run()).questioned == ()


def test_a_waiting_reading_is_named_with_its_setting():
    """In JSON the setting is its own entry, empty where the device has none."""
    lines = squad_lines(np.random.default_rng(5))
    for setting in ("athlete", None):
        session = study_of([x.replace("device,,", f"device,{setting or ''},") for x in lines])
        mistyped(session)
        [held] = track_json(_tracked(session))["held_back"]
        assert (held["instrument"], held["setting"], held["readings"]) == ("Fir", setting, 1)
        session.close()


def _tracked(session):
    snapshot = finish(session.wide_snapshot_steps((FAT,)))
    return finish(TrackRequest(snapshot, Lens(), "C1").run())


def test_what_waits_is_what_the_review_says_not_to_use():
    """A repeat far off waits alone; a visit dated ahead, two sites in the wrong order, and what is computed from them."""
    lines = squad_lines(np.random.default_rng(5))
    at = date(2026, 1, 5)
    for week in range(0, 24, 2):
        day = at + timedelta(weeks=week)
        value = 20.0 + week % 3 * 0.1
        for k, shown in enumerate((value, value + 0.1, 29.0 if week == 6 else value), start=1):
            lines.append(reading("C3", f"{day}T09:0{k}", shown, name="Oak", repeat=k))
        for metric, size in (("girth_arm_relaxed", 30.0), ("girth_arm_flexed", 33.0)):
            size = 36.0 if (week, metric) == (8, "girth_arm_relaxed") else size
            lines.append(
                reading(
                    "C3", f"{day}T09:10", size, name="Tape", kind="method", metric=metric, unit="cm"
                )
            )
    session = study_of(lines)
    found = slips(session)
    assert sorted(f.rule for f in found) == ["repeats", "sites_order"]
    held = estimate(session, "C3").held
    assert [(x.name, x.rule, len(x.readings)) for x in held] == [("Oak", "repeats", 1)]
    for metric in ("girth_arm_relaxed", "girth_arm_flexed"):
        told = estimate(session, "C3", metric)
        assert [(x.name, x.rule, date.fromordinal(x.day)) for x in told.held] == [
            ("Tape", "sites_order", at + timedelta(weeks=8))
        ]
        assert (
            abs(told.value.value - {"girth_arm_relaxed": 30, "girth_arm_flexed": 33}[metric]) < 0.3
        )
    flexed = next(
        r
        for r in session.readings()
        if (r.metric, r.taken_at[:10]) == ("girth_arm_flexed", "2026-03-02")
    )
    session.do(CorrectReading(flexed.id, "37.0", "read again"))
    assert estimate(session, "C3", "girth_arm_relaxed").held == ()
    session.undo()
    snapshot = finish(session.wide_snapshot_steps((FAT,)))
    before = datetime(2026, 6, 1).timestamp()  # the last weeks are ahead of that day
    ahead = held_back(replace(snapshot, now=before), FAT)
    late = {int(d) + EPOCH for d in ahead.columns.day[ahead.columns.status == HELD]}
    own = {int(d) + EPOCH for d in snapshot.columns[FAT].day}
    assert late == {d for d in own if d > ordinal("2026-06-02")} | {x.day for x in held}
    assert {f.rule for f, _ in ahead.findings} == {"repeats", "ahead"}
    assert (snapshot.columns[FAT].status != HELD).all()


def test_a_value_of_an_equation_waits_with_its_inputs():
    """A waist in inches is a slip; the fat that is computed from it does not count either."""
    lines, at = [], date(2026, 1, 5)
    for c in range(4):
        for week in range(12):
            day = f"{at + timedelta(weeks=week)}T07:00"
            waist = (80 + 2 * c + week % 2 * 0.3) / (2.54 if (c, week) == (1, 7) else 1)
            more = {"name": "Tape", "kind": "method", "metric": "girth_waist", "unit": "cm"}
            lines.append(reading(f"C{c}", day, round(waist, 1), **more))
            lines.append(reading(f"C{c}", day, 20 + c, name="Scan", kind="reference"))
    session = study_of(lines)
    held = estimate(session, "C1").held
    assert [(x.rule, date.fromordinal(x.day)) for x in held] == [("slip", at + timedelta(weeks=7))]
    (number,) = held[0].readings
    assert session.readings([number])[0].metric == "girth_waist"
    assert estimate(session, "C2").held == ()


def test_a_client_of_whom_everything_waits_has_no_value():
    """The sentence names Review, not missing readings."""
    lines = squad_lines(np.random.default_rng(5), clients=4)
    lines.append(reading("X", "2030-01-01T07:00", 20.0))
    session = study_of(lines)
    with pytest.raises(CannotCompare, match="X: all readings wait for a decision in Review"):
        estimate(session, "X")
    with pytest.raises(CannotCompare, match="X: all readings wait for a decision in Review"):
        finish(TrackRequest(session.snapshot(), Lens(), "X").run())
    assert estimate(session).held == ()


def test_planned_days_far_apart_were_fixed_beforehand():
    """Days six weeks apart and the first of a weekly series, as planned and as measured; no other's."""
    session = study_of(squad_lines(np.random.default_rng(9)))
    client = session.catalogue().client_coded("C1")
    other = session.catalogue().client_coded("C2")
    session.do(
        AddRules(
            (
                SchemeRule(0, None, "devices", "every", (42,), "2026-01-19", "2026-04-30"),
                SchemeRule(0, client.id, "girths", "every", (7,), "2026-02-04", "2026-04-30"),
                SchemeRule(0, other.id, "girths", "days", ("2026-02-06",)),
            )
        )
    )
    days = finish(planned_steps(session, "C1"))
    told = ["2026-01-19", "2026-03-02", "2026-04-13", "2026-02-04"]
    assert days == {ordinal(d) for d in told}
    assert finish(planned_steps(study_of(squad_lines(np.random.default_rng(9))), "C1")) == set()

    def picked(since, until):
        dates = (ordinal(d) for d in (since, until))
        asked = dict(zip(("since", "until"), dates, strict=True))
        return estimate(session, fixed=days, **asked).change.picked

    assert not picked("2026-01-19", "2026-04-13")
    assert picked("2026-02-16", "2026-04-13")


def test_the_effort_of_what_comes_next():
    """Minutes and the scan's price; what narrows most per minute is named where it is another one."""
    lines = squad_lines(np.random.default_rng(8))
    lines += [reading(f"C{c}", "2026-06-24T07:00", 19.5 + c) for c in range(6)]  # 8 weeks on
    session = study_of(lines)
    scan = session.catalogue().instrument_named("Scan")
    session.do(PutInstrument(replace(scan, price="95 EUR")))
    r = estimate(session)
    first = r.ahead.candidates[0]
    assert (first.name, first.price, first.cost) == ("Scan", "95 EUR", 95.0)
    assert {(c.price, c.cost) for c in r.ahead.candidates[1:]} == {("", None)}
    assert first.narrows(r.ahead.waiting) == pytest.approx((r.ahead.waiting - first.half) / 30)
    assert f"to ±{first.half:.1f} pp (30 min, 95 EUR)" in next_words(r)
    assert next_head(r) == (
        f"Half the 95 % interval in a week, ±{r.ahead.waiting:.2f} pp without another measurement:"
    )
    assert next_lines(r)[0] == ("A scan", f"±{first.half:.2f} pp", "30 min, 95 EUR")
    best = max(r.ahead.candidates, key=lambda c: c.narrows(r.ahead.waiting))
    assert ("Most per minute" in next_words(r)) == (best is not first)
    quick = replace(r.ahead.candidates[1], minutes=1.0, half=0.8 * r.ahead.waiting)
    changed = replace(r, ahead=replace(r.ahead, candidates=(first, quick)))
    assert next_words(changed).endswith(f"Most per minute: a week of mornings on {quick.name}.")
    client = session.catalogue().client_coded("C1")
    session.do(PutClient(replace(client, sex="female", cautions=frozenset({"pregnant"}))))
    with pytest.raises(CannotCompare, match="pregnancy"):
        estimate(session)


def test_slopes_of_a_device_are_kept_as_long_as_its_readings_are():
    """After an edit of one device what is kept of each is what is computed anew."""
    lines = squad_lines(np.random.default_rng(5))
    session = study_of(lines)
    estimate(session)

    def told(of):
        snapshot = finish(of.wide_snapshot_steps((FAT,)))
        scan = snapshot.instrument_named("Scan")
        return [
            device_slopes(snapshot, Lens(), snapshot.instrument_named(x), scan)
            for x in ("Fir", "Elm")
        ]

    before = told(session)
    row = next(r for r in session.readings() if r.instrument == "Elm")
    session.do(ExcludeReading(row.id, "drawn"))
    after = told(session)
    assert after[0] is before[0]
    assert after[1] != before[1]
    device_slopes_module._KNOWN.clear()
    assert told(session) == after
    session.do(StateValue(FAT, "reference_sd", 0.2))
    assert told(session)[0] != after[0]
