"""The calendar: rules, spans in which nothing is planned, spacing, what is done and what is due."""

from dataclasses import replace
from datetime import date
from itertools import pairwise
from types import MappingProxyType

from hypothesis import given, settings
from hypothesis import strategies as st

from anchor_tally.analysis.plan.schedule import Measured, ScheduleRequest, matched, ordinal
from anchor_tally.domain.catalogue import Catalogue
from anchor_tally.domain.events import Event
from anchor_tally.domain.records import Client, Instrument
from anchor_tally.domain.scheme import DEVICES, LEAST_DAYS, SCAN, MovedDay, Scheme, SchemeRule
from anchor_tally.domain.steps import finish

ANN = Client(1, "A")
TODAY = "2026-06-01"  # a Monday


def iso(day):
    """An ordinal as an ISO day."""
    return date.fromordinal(day).isoformat()


def calendar(*rules, clients=(ANN,), events=(), measured=(), moved=(), **bounds):
    """The calendar of a few rules; they are numbered from 1."""
    numbered = tuple(replace(r, id=k) for k, r in enumerate(rules, start=1))
    instruments = {1: Instrument(1, "Fir", "device", electrodes="feet")}
    items = Catalogue(
        clients=MappingProxyType({c.id: c for c in clients}),
        instruments=MappingProxyType(instruments),
    )
    found = tuple(Measured(c, s, ordinal(d)) for c, s, d in measured)
    span = {"today": TODAY, "first": "2026-01-01", "last": "2026-12-31"} | bounds
    scheme = Scheme(numbered, tuple(moved))
    return finish(ScheduleRequest(items, scheme, tuple(events), found, **span).run())


def days_of(found, **wanted):
    """ISO days of planned days with these fields."""
    return [iso(d.day) for d in found.days if all(getattr(d, k) == v for k, v in wanted.items())]


def rule(station, form, days, **more):
    """A rule for all clients."""
    return SchemeRule(0, None, station, form, tuple(days), **more)


def test_each_form_of_rule():
    """Days by hand from the calendar of 2026; 1 June is a Monday."""
    found = calendar(
        rule("girths", "every", [7], starts="2026-06-01", ends="2026-06-20"),
        rule(DEVICES, "weekdays", [0, 3], starts="2026-06-02", ends="2026-06-12"),
        rule(SCAN, "back", [84], ends="2026-12-10", starts="2026-06-20"),
        rule(DEVICES, "scan", [-1, 0, 1]),
        rule("skinfolds", "last", [21], starts="2026-06-03"),
        rule("breadths", "days", ["2026-07-01", "2026-06-30"]),
        measured=[(1, "skinfolds", "2026-05-20")],
    )
    assert days_of(found, rule=1) == ["2026-06-01", "2026-06-08", "2026-06-15"]
    assert days_of(found, rule=2) == ["2026-06-04", "2026-06-08", "2026-06-11"]
    assert days_of(found, rule=3) == ["2026-06-25", "2026-09-17", "2026-12-10"]
    assert days_of(found, rule=4)[:4] == ["2026-06-24", "2026-06-25", "2026-06-26", "2026-09-16"]
    assert days_of(found, rule=5)[:2] == ["2026-06-10", "2026-07-01"]  # from the last visit
    assert days_of(found, rule=6) == ["2026-06-30", "2026-07-01"]


def test_done_due_overdue_and_missed():
    """A visit fulfils one planned day, also some days late; a later day makes an older one missed."""
    found = calendar(
        rule("girths", "every", [7], starts="2026-05-04"),
        rule(SCAN, "days", ["2026-05-20"]),
        measured=[(1, "girths", "2026-05-05"), (1, "girths", "2026-05-17")],
    )
    states = {iso(d.day): (d.state, d.done_on and iso(d.done_on)) for d in found.days}
    assert states["2026-05-04"] == ("done", "2026-05-05")
    assert states["2026-05-11"] == ("missed", None)
    assert states["2026-05-18"] == ("done", "2026-05-17")
    assert states["2026-05-25"] == ("missed", None)
    assert states["2026-06-01"] == ("due", None)
    assert states["2026-06-08"] == ("planned", None)
    assert states["2026-05-20"] == ("overdue", None)
    assert [(d.station, iso(d.day)) for d in found.waiting()] == [
        (SCAN, "2026-05-20"),
        ("girths", "2026-06-01"),
    ]
    assert iso(found.coming().day) == "2026-06-08"


def test_spans_spacing_cautions_and_the_most():
    """A scan goes round a journey and waits for eight weeks after the last one."""
    scan = rule(SCAN, "every", [84], starts="2026-06-10")
    away = Event(1, 1, None, "2026-06-08", "2026-06-14", "travel", "")
    assert days_of(calendar(scan, events=[away]))[0] == "2026-06-07"
    assert days_of(calendar(scan, events=[replace(away, client=None, kind="holiday")]))[0] == (
        "2026-06-07"
    )
    assert days_of(calendar(scan, events=[replace(away, kind="training")]))[0] == "2026-06-10"
    recent = calendar(scan, measured=[(1, SCAN, "2026-05-01")])
    assert days_of(recent, state="planned")[0] == "2026-06-26"
    assert recent.days[0].shifted == "spacing"
    pregnant = calendar(scan, clients=[Client(1, "A", cautions=frozenset({"pregnant"}))])
    assert not pregnant.days
    assert [(x.why, x.days) for x in pregnant.left_out] == [("caution", 3)]
    counted = calendar(replace(scan, most=3), clients=[Client(1, "A", scans_before=2)])
    assert len(counted.days) == 1
    spread = calendar(
        replace(scan, days=(364,), spread=True), clients=[Client(k, f"C{k}") for k in range(1, 5)]
    )
    assert [iso(d.day) for d in spread.days] == ["2026-06-10", "2026-09-09", "2026-12-09"]


def test_days_moved_by_hand():
    """A moved day keeps its rule; one that is left out is gone; into a journey it cannot go."""
    tape = rule("girths", "every", [7], starts="2026-06-01", ends="2026-06-15")
    moves = [MovedDay(1, 1, "2026-06-08", "2026-06-10"), MovedDay(1, 1, "2026-06-15", "")]
    found = calendar(tape, moved=moves)
    assert [(iso(d.day), d.shifted) for d in found.days] == [
        ("2026-06-01", ""),
        ("2026-06-10", "hand"),
    ]
    away = Event(1, 1, None, "2026-06-10", "2026-06-11", "illness", "")
    assert days_of(calendar(tape, moved=moves, events=[away])) == ["2026-06-01", "2026-06-09"]


DAY = st.integers(ordinal("2026-01-01"), ordinal("2026-12-31"))
SPAN = st.tuples(DAY, st.integers(0, 40), st.sampled_from(["travel", "illness", "cycle"]))


@settings(max_examples=150, deadline=None)
@given(
    st.integers(1, 120),
    DAY,
    st.lists(SPAN, max_size=6),
    st.lists(DAY, max_size=4),
    st.lists(st.tuples(st.integers(0, 8), DAY), max_size=4),
    st.booleans(),
)
def test_no_calendar_breaks_a_rule(step, start, spans, scans, moves, pregnant):
    """Whatever was asked: no day in a span, no scan nearer than 8 weeks, none in pregnancy."""
    events = [
        Event(k, 1, None, iso(d), iso(d + n), kind, "") for k, (d, n, kind) in enumerate(spans)
    ]
    rules = (
        rule(SCAN, "every", [step], starts=iso(start)),
        rule(DEVICES, "scan", [-2, 0, 2]),
        rule("girths", "every", [7], starts=iso(start)),
    )
    found = calendar(
        *rules,
        clients=[Client(1, "A", cautions=frozenset({"pregnant"} if pregnant else ()))],
        events=events,
        measured=[(1, SCAN, iso(d)) for d in scans],
        moved=[MovedDay(1, 1, iso(start + step * k), iso(to)) for k, to in moves],
    )
    ahead = [d for d in found.days if d.state != "done"]
    for d in ahead:
        assert not any(s <= d.day <= s + n for s, n, _ in spans)
    planned = sorted(d.day for d in ahead if d.station == SCAN)
    assert not (pregnant and planned)
    everything = sorted({*planned, *scans})
    for a, b in pairwise(everything):
        assert b - a >= LEAST_DAYS or (a in scans and b in scans)
    assert not (pregnant and any(d.station == DEVICES for d in ahead))


@given(
    st.lists(st.tuples(st.integers(0, 60), st.integers(0, 5)), max_size=8),
    st.lists(st.integers(0, 60), max_size=8),
)
def test_each_visit_fulfils_one_day(planned, taken):
    """No visit counts twice, and none counts beyond the tolerance."""
    planned, taken = sorted(planned), sorted(taken)
    found = matched(planned, taken)
    used = [t for t in found if t is not None]
    assert all(used.count(t) <= taken.count(t) for t in used)
    assert all(t is None or abs(t - d) <= w for (d, w), t in zip(planned, found, strict=True))
