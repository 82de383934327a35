"""Setting periods edited after the fact, columns after edits of one visit, and answers that are kept only while they hold."""

from dataclasses import replace

import numpy as np
import pytest

from anchor_tally.analysis.calibrate import CalibrateRequest
from anchor_tally.analysis.drift import DriftRequest
from anchor_tally.app.session import Session
from anchor_tally.domain.errors import UserError
from anchor_tally.domain.steps import finish
from anchor_tally.study.edits.periods import BeginPeriod, JoinPeriod, MovePeriod
from anchor_tally.study.edits.readings import CorrectReading, ExcludeReading, PutBackReading
from anchor_tally.wording.sentences import sentence


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
        for name in ("reading", "visit", "client", "setting", "instant", "replicate", "status", "value"):
            assert np.array_equal(getattr(ours, name), getattr(theirs, name), equal_nan=name == "value"), name
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
    r = next(r for r in session.readings() if r.instrument == name and r.metric == "body_fat_percent" and r.status == "ok")
    session.do(CorrectReading(r.id, f"{r.value + by:.1f}", "test"))


def test_kept_answers_are_those_computed_anew(demo):
    """After an edit of one device, of the scan, and against the consensus: what is kept and what is computed give the same."""
    for lens in (demo.lens, replace(demo.lens, reference="Consensus")):
        for name in ("Cedar", "Lab scan"):
            kept = finish(DriftRequest(demo.snapshot(), lens).run())
            changed(demo, name)
            ours = finish(DriftRequest(demo.snapshot(), lens, kept=kept).run())
            anew = finish(DriftRequest(demo.snapshot(), lens).run())
            assert [r.slope.slope if r.slope else None for r in ours] == [r.slope.slope if r.slope else None for r in anew]
            assert [r.side for r in ours] == [r.side for r in anew]
            if lens.reference is None and name == "Cedar":
                assert [r.search is k.search for r, k in zip(ours, kept, strict=True)].count(False) == 1
    kept = finish(CalibrateRequest(demo.snapshot(), demo.lens).run())
    changed(demo, "Alder")
    ours = finish(CalibrateRequest(demo.snapshot(), demo.lens, kept=kept).run())
    anew = finish(CalibrateRequest(demo.snapshot(), demo.lens).run())
    assert [(r.pooled.offset, r.digest) for r in ours] == [(r.pooled.offset, r.digest) for r in anew]
    assert [r.pooled is k.pooled for r, k in zip(ours, kept, strict=True)].count(False) == 1


def test_settings_that_differ_are_told_whole(demo):
    """A mixed device has no day until which its offset holds, and no sentence that ends in nothing; sizes stand with their interval."""
    r = next(
        r for r in finish(CalibrateRequest(demo.snapshot(), demo.lens).run()) if r.comparison.pairs.instrument.name == "Birch"
    )
    said = " ".join(sentence(n) for n in r.notes)
    i = r.settings_apart.interval
    assert f"{abs(r.settings_apart.value):.1f} pp ({-i.high:.1f} to {-i.low:.1f})" in said
    assert "until ." not in said
