"""Setting periods edited after the fact, columns after edits of one visit, and answers that are kept only while they hold."""

from dataclasses import replace

import numpy as np
import pytest

from anchor_tally.analysis.agreement.agreement import LadderRequest
from anchor_tally.analysis.offsets.calibrate import CalibrateRequest
from anchor_tally.analysis.time.drift import DriftRequest
from anchor_tally.app.session import Session
from anchor_tally.domain.errors import UserError
from anchor_tally.domain.events import Event
from anchor_tally.domain.steps import finish
from anchor_tally.domain.units import Quantity
from anchor_tally.exchange.readings_csv import HEADER
from anchor_tally.study.edits.calibrations import WithdrawCalibration
from anchor_tally.study.edits.checks import StateValue
from anchor_tally.study.edits.clients import AddHeight, PutClient
from anchor_tally.study.edits.decisions import Decide
from anchor_tally.study.edits.events import AddEvent, RemoveEvent, SetGoal
from anchor_tally.study.edits.imports import ImportReadings
from anchor_tally.study.edits.instruments import PutInstrument
from anchor_tally.study.edits.periods import BeginPeriod, JoinPeriod, MovePeriod
from anchor_tally.study.edits.protocol import AskCondition
from anchor_tally.study.edits.readings import CorrectReading, ExcludeReading, PutBackReading
from anchor_tally.study.edits.visits import NoteVisit
from anchor_tally.wording.notes import sentence
from places import adoption, parse_text, reading, study_of, typed


def under(session, name="Alder"):
    """Days and setting of an instrument's readings, read from the file."""
    other = Session.open(session.path, read_only=True)
    found = {(r.taken_at[:10], r.setting) for r in other.readings() if r.instrument == name}
    other.close()
    return found


def test_periods_take_their_readings_along(demo):
    """Begun, moved both ways, joined and undone: each day stands under the setting that was in force; a move past a neighbour is refused."""
    before = under(demo)
    alder = demo.catalogue().instrument_named("Alder").id
    demo.do(BeginPeriod(alder, "A", "2026-04-01"))
    demo.do(BeginPeriod(alder, "B", "2026-06-01"))

    def told(first, second):
        return {(d, "B" if d >= second else "A" if d >= first else "") for d, _ in before}

    assert under(demo) == told("2026-04-01", "2026-06-01")
    a, b = (next(s.id for s in demo.catalogue().settings.values() if s.label == x) for x in "AB")
    demo.do(MovePeriod(b, "2026-07-15"))
    assert under(demo) == told("2026-04-01", "2026-07-15")
    demo.do(MovePeriod(b, "2026-05-01"))
    assert under(demo) == told("2026-04-01", "2026-05-01")
    for setting, day in ((a, "2026-05-02"), (b, "2026-03-20"), (b, "2026-04-01")):
        with pytest.raises(UserError, match="another change of setting"):
            demo.do(MovePeriod(setting, day))
    for edit in (
        BeginPeriod(alder, "B", "2026-06-01"),
        BeginPeriod(alder, "C", "2026-05-01"),
        BeginPeriod(alder, " ", "2026-06-01"),
    ):
        with pytest.raises(UserError, match="nothing was changed"):
            demo.do(edit)
    demo.do(JoinPeriod(a))
    assert under(demo) == {(d, "B" if d >= "2026-05-01" else "") for d, _ in before}
    for _ in range(5):
        demo.undo()
    assert under(demo) == before


def test_columns_after_edits_of_one_visit_are_those_read_anew(demo):
    """Correct, exclude, put back, undo, redo: the kept columns equal those of a session that has just been opened; old ones stand."""
    first = demo.readings()[10]
    old = demo.snapshot(first.metric).columns[first.metric]
    value = old.value.copy()

    def same():
        fresh = Session.open(demo.path, read_only=True)
        ours, theirs = (s.snapshot(first.metric).columns[first.metric] for s in (demo, fresh))
        for name in (
            "reading",
            "visit",
            "client",
            "setting",
            "instant",
            "replicate",
            "status",
            "value",
        ):
            assert np.array_equal(
                getattr(ours, name), getattr(theirs, name), equal_nan=name == "value"
            ), name
        for at in (None, first.visit):  # the spread to expect does not count the visit itself
            mine, anew = (s.usual_spread(first.instrument, first.metric, at) for s in (demo, fresh))
            assert mine == anew
        fresh.close()

    for act in (
        lambda: demo.do(CorrectReading(first.id, "19.9", "misread")),
        lambda: demo.do(ExcludeReading(first.id, "wet")),
        lambda: demo.do(PutBackReading(first.id)),
        demo.undo,
        demo.undo,
        demo.undo,
        demo.redo,
    ):
        act()
        same()
    assert np.array_equal(old.value, value, equal_nan=True)


def changed(session, name, by=3.0):
    """One reading of an instrument at a scan, moved."""
    r = next(
        r
        for r in session.readings()
        if r.instrument == name and r.metric == "body_fat_percent" and r.status == "ok"
    )
    session.do(CorrectReading(r.id, f"{r.value + by:.1f}", "test"))


def test_kept_answers_are_those_computed_anew(demo):
    """After an edit of one device, of the scan: what is kept and what is computed give the same."""
    anew = finish(DriftRequest(demo.snapshot(), demo.lens).run())
    for name in ("Cedar", "Lab scan"):
        kept = anew
        changed(demo, name)
        ours = finish(DriftRequest(demo.snapshot(), demo.lens, kept=kept).run())
        anew = finish(DriftRequest(demo.snapshot(), demo.lens).run())
        assert [r.slope.slope if r.slope else None for r in ours] == [
            r.slope.slope if r.slope else None for r in anew
        ]
        assert [r.side for r in ours] == [r.side for r in anew]
        if name == "Cedar":
            assert [r.search is k.search for r, k in zip(ours, kept, strict=True)].count(False) == 1
    kept = finish(LadderRequest(demo.snapshot(), demo.lens).run())
    changed(demo, "Cedar")
    ours = finish(LadderRequest(demo.snapshot(), demo.lens, kept=kept).run())
    anew = finish(LadderRequest(demo.snapshot(), demo.lens).run())
    assert [(r.bias, r.limits, r.notes, r.pairs.n) for r in ours] == [
        (r.bias, r.limits, r.notes, r.pairs.n) for r in anew
    ]
    assert {r.asked.revision for r in ours} == {demo.snapshot().revision}
    assert [r.fit is k.fit for r, k in zip(ours, kept, strict=True)].count(False) == 1
    kept = finish(CalibrateRequest(demo.snapshot(), demo.lens).run())
    changed(demo, "Alder")
    ours = finish(CalibrateRequest(demo.snapshot(), demo.lens, kept=kept).run())
    anew = finish(CalibrateRequest(demo.snapshot(), demo.lens).run())
    assert [(r.pooled.offset, r.digest) for r in ours] == [
        (r.pooled.offset, r.digest) for r in anew
    ]
    assert [r.pooled is k.pooled for r, k in zip(ours, kept, strict=True)].count(False) == 1


def test_a_kept_answer_names_the_readings_that_its_values_are_made_of():
    """Two scales show one mass: without one of them the values of equations stay, their readings do not."""
    lines = []
    for day in (1, 8, 15):
        at = f"2026-03-{day:02}"
        for name in ("Fir", "Elm"):
            lines.append(
                reading("A", f"{at}T07:00", 80.0, name=name, metric="body_mass", unit="kg")
            )
        lines.append(reading("A", f"{at}T08:00", 20.0 + day, name="Scan", kind="reference"))
    s = study_of(lines)
    before = finish(LadderRequest(s.snapshot(), s.lens).run())
    first = next(r for r in s.readings() if r.metric == "body_mass")
    s.do(ExcludeReading(first.id, "test"))
    after = finish(LadderRequest(s.snapshot(), s.lens, kept=before).run())
    old, new = (
        next(r.pairs for r in found if r.pairs.instrument.equation) for found in (before, after)
    )
    assert old.x.tolist() == new.x.tolist()
    assert first.id in old.parts[0]
    assert new.parts[0] == tuple(i for i in old.parts[0] if i != first.id)


def test_settings_that_differ_are_told_whole(demo):
    """A mixed device has no day until which its offset holds, and no sentence that ends in nothing.

    Sizes stand with their interval.
    """
    r = next(
        r
        for r in finish(CalibrateRequest(demo.snapshot(), demo.lens).run())
        if r.comparison.pairs.instrument.name == "Birch"
    )
    said = " ".join(sentence(n) for n in r.notes)
    i = r.settings_apart.interval
    assert f"{abs(r.settings_apart.value):.1f} pp (95 % CI {-i.high:.1f} to {-i.low:.1f})" in said
    assert "until ." not in said


def noted(session):
    """What the stages of time note: events, goals, settings, the setting of each reading, and what was adopted or withdrawn."""
    c = session.snapshot("body_fat_percent").columns["body_fat_percent"]
    around = (session.events(), session.goals(), tuple(session.catalogue().settings.values()))
    return (
        *around,
        tuple(c.setting.tolist()),
        session.calibration_versions("Alder", "body_fat_percent"),
    )


def of_time(session):
    """Every edit of those stages, each made from the study as it is by then."""
    auk, alder = (
        session.catalogue().client_coded("Auk").id,
        session.catalogue().instrument_named("Alder").id,
    )
    label = "mode " + "x" * 90

    def setting():
        return next(s.id for s in session.catalogue().settings.values() if s.label == label)

    return (
        lambda: AddEvent(Event(0, auk, None, "2026-04-01", "2026-04-09", "illness", "flu " * 900)),
        lambda: AddEvent(Event(0, None, alder, "2026-05-01", "", "battery", "")),
        lambda: SetGoal(auk, "body_fat_percent", 13.5),
        lambda: BeginPeriod(alder, label, "2026-06-01"),
        lambda: MovePeriod(setting(), "2026-06-15"),
        lambda: adoption(session, "Alder"),
        lambda: WithdrawCalibration(
            session.calibration_versions("Alder", "body_fat_percent")[0][0].id
        ),
        lambda: JoinPeriod(setting()),
        lambda: RemoveEvent(session.events()[0].id),
        lambda: SetGoal(auk, "body_fat_percent", None),
    )


def test_second_window_sees_what_is_noted(demo):
    """One that follows has after each edit, and after all were undone, what the writer has.

    What was adopted stays as withdrawn.
    """
    second, start = Session.open(demo.path), noted(demo)
    assert second.elsewhere
    edits = of_time(demo)
    for make in edits:
        demo.do(make())
        assert second.follow()
        assert noted(second) == noted(demo)
    for _ in edits:
        demo.undo()
    second.follow()
    assert noted(second) == noted(demo)
    assert noted(demo)[:4] == start[:4]
    assert [gone for _, gone in second.calibration_versions("Alder", "body_fat_percent")] == [True]
    second.close()


def tried(session, edit):
    """Make an edit; return what is said against it."""
    try:
        session.do(edit)
    except UserError as error:
        return str(error)
    return ""


def test_full_disk_takes_an_edit_whole_or_not_at_all(demo):
    """Each edit on a disk without a page left: done, or refused in a sentence with everything as before; then done with room."""
    refused = 0
    for make in of_time(demo):
        edit, pages = make(), demo._conn.execute("PRAGMA page_count").fetchone()[0]
        demo._conn.execute(f"PRAGMA max_page_count = {pages}")
        filled, said = 0, ""
        for size in (3000, 300, 1):
            while not (
                said := tried(
                    demo, AddEvent(Event(0, 1, None, "2026-04-01", "", "other", "x" * size))
                )
            ):
                filled += 1
        assert "disk is full" in said
        full = noted(demo)
        said = tried(demo, edit)
        if said:
            assert "disk is full" in said
            assert noted(demo) == full
            refused += 1
        demo._conn.execute("PRAGMA max_page_count = 1000000")
        for _ in range(filled + (not said)):
            demo.undo()
        before = noted(demo)
        demo.do(edit)
        assert noted(demo) != before
    assert refused >= 3


def test_a_setting_begins_with_its_earliest_reading(demo):
    """What is typed later of an earlier day moves the start of its setting; undo puts it back."""

    def starts():
        return {s.label: s.starts[:10] for s in demo.catalogue().settings.values()}

    demo.do(
        typed(
            "Auk", "2026-09-20T07:00", "Alder", "device", "body_fat_percent", "16.2", setting="slow"
        )
    )
    assert starts()["slow"] == "2026-09-20"
    demo.do(
        typed(
            "Auk", "2026-09-13T07:00", "Alder", "device", "body_fat_percent", "16.4", setting="slow"
        )
    )
    assert starts()["slow"] == "2026-09-13"
    demo.do(
        typed(
            "Cod", "2026-09-15T07:00", "Alder", "device", "body_fat_percent", "14.4", setting="slow"
        )
    )
    assert starts()["slow"] == "2026-09-13"
    demo.undo()
    demo.undo()
    assert starts()["slow"] == "2026-09-20"
    # begun twice: an imported reading of before both moves the first of them
    demo.do(BeginPeriod(demo.catalogue().instrument_named("Alder").id, "fast", "2026-09-25"))
    demo.do(BeginPeriod(demo.catalogue().instrument_named("Alder").id, "slow", "2026-10-02"))
    rows, _ = parse_text(
        ",".join(HEADER)
        + "\n"
        + reading("Auk", "2026-09-06T07:00", 16.0, name="Alder", setting="slow")
    )
    demo.do(ImportReadings(tuple(rows), "later"))
    assert sorted(
        s.starts[:10] for s in demo.catalogue().settings.values() if s.label == "slow"
    ) == ["2026-09-06", "2026-10-02"]


def kept_pieces(session):
    """Everything that is kept of a study between edits, as its readers give it."""
    clients = list(session.catalogue().clients.values())
    return {
        "catalogue": session.catalogue(),
        "heights": session.stated_heights(),
        "ages": session.with_stated_age(),
        "codes": session.codes_by_last_visit(),
        "events": session.events(),
        "goals": session.goals(),
        "metrics": session.metrics(),
        "series": session.instruments_and_metrics(),
        "versions": session.calibration_versions("Alder", "body_fat_percent"),
        "offsets": [(r.id, session.stale(r)) for r in session.calibrations()],
        "people": [session.person(c.id).visits.visit.tolist() for c in clients[:2]],
        "values": session.snapshot().columns["body_fat_percent"].value.tolist(),
        "visits": session.snapshot().visits.age_years.tolist(),
        "cautions": [sorted(c.cautions) for c in session.snapshot().catalogue.clients.values()],
        "confirmed": sorted(session.snapshot().confirmed),
        "planned": session.scheme(),
        "prices": [i.price for i in session.snapshot().catalogue.instruments.values()],
    }


def test_what_is_kept_is_what_is_in_the_file(demo):
    """After an edit of every kind, done, undone and done again, each kept piece is what another session reads of the file."""
    client, item = demo.catalogue().clients[1], demo.catalogue().instrument_named("Alder")
    reading = next(r.id for r in demo.readings() if r.instrument == "Alder" and r.status == "ok")
    edits = (
        PutClient(replace(client, notes="a", birth="1994-05")),
        PutClient(replace(client, code="Zander", sex="female")),
        PutClient(replace(client, cautions=frozenset({"eating_disorder"}))),
        PutInstrument(replace(item, price="120")),
        AddHeight(1, "2026-03-01", Quantity(180.0, "180", "cm")),
        PutInstrument(replace(item, notes="b", name="Alder 2")),
        PutInstrument(replace(item, name="Alder")),
        BeginPeriod(item.id, "summer", "2026-06-15"),
        NoteVisit("Cod", "2026-03-02T06:40", (("fasted", "no"),), notes="late"),
        adoption(demo, "Alder"),
        ExcludeReading(reading, "slipped"),
        Decide("conditions|3|17|0||", "keep", "came unfasted, on purpose"),
        typed("Cod", "2026-08-26T06:30", "Alder", "device", "body_fat_percent", "21"),
        AddEvent(Event(0, None, item.id, "2026-07-01", "", "battery", "")),
        SetGoal(1, "body_fat_percent", 14.0),
        StateValue("body_fat_percent", "margin", 3.0),
        AskCondition("morning", asked=True),
    )
    kept_pieces(demo)
    for edit in edits:
        for step in (lambda e=edit: demo.do(e), demo.undo, demo.redo):
            step()
            fresh = Session.open(demo.path, read_only=True)
            ours, anew = kept_pieces(demo), kept_pieces(fresh)
            fresh.close()
            assert [
                k for k in ours if ours[k] != anew[k] and not both_nan(ours[k], anew[k])
            ] == [], edit


def both_nan(a, b):
    """Lists of numbers that differ in nothing but values that are not there."""
    return (
        isinstance(a, list)
        and a[:1]
        and isinstance(a[0], float)
        and np.array_equal(a, b, equal_nan=True)
    )
