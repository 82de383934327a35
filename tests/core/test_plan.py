"""The calendar: rules, spans in which nothing is planned, spacing, what is done and what is due."""

import csv
import json
from dataclasses import replace
from datetime import date
from itertools import pairwise
from types import MappingProxyType

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import integrate, stats
from statsmodels.stats.power import TTestIndPower, TTestPower

from anchor_tally.analysis.agreement.agreement import CompareRequest
from anchor_tally.analysis.plan.orders import order_at, williams
from anchor_tally.analysis.plan.precision import (
    PrecisionRequest,
    group_power,
    mornings_counted,
    window_for,
)
from anchor_tally.analysis.plan.schedule import Measured, ScheduleRequest, matched, ordinal
from anchor_tally.analysis.plan.training import judge
from anchor_tally.analysis.plan.trial_conditions import scan_conditions
from anchor_tally.cli.main import main
from anchor_tally.domain.catalogue import Catalogue
from anchor_tally.domain.clock import fixed
from anchor_tally.domain.events import Event
from anchor_tally.domain.lens import Lens
from anchor_tally.domain.protocol import CONDITIONS
from anchor_tally.domain.records import Client, Instrument
from anchor_tally.domain.scheme import DEVICES, LEAST_DAYS, SCAN, MovedDay, Scheme, SchemeRule
from anchor_tally.domain.steps import finish
from anchor_tally.scenario.cases import CASES, case_rows
from anchor_tally.scenario.drawn import Truth, draw, rows_of, snapshot_of
from anchor_tally.stats.components import fit_nested
from anchor_tally.stats.limits import single_bias, single_limits
from anchor_tally.stats.offsets import client_offsets
from anchor_tally.stats.planning import (
    Design,
    Spreads,
    _chi2_over_df,
    bias_error,
    chance_to_see,
    clients_needed,
    expected,
    mean_of_mornings,
    mornings_to_see,
    power_of_drift,
    power_of_equivalence,
    power_of_group_change,
    power_of_two_groups,
    smallest_real_change,
)
from anchor_tally.stats.repeated import repeated_bias, repeated_limits
from anchor_tally.stats.variance_grid import occasion_means, variance_grid
from anchor_tally.wording.notes import sentence
from anchor_tally.wording.plan import group_words, option_sentences, precision_headline
from anchor_tally.wording.training import judged_words
from answers import said, study
from places import CLOCK

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


def test_days_around_a_scan_end_with_the_rule():
    """On its last day, not a day later; and with the calendar itself."""
    scan = rule(SCAN, "days", ["2026-07-10"])
    for last, days in (("2026-07-12", [10, 12]), ("2026-07-11", [10])):
        around = rule(DEVICES, "scan", [0, 2], ends=last)
        for made in (
            calendar(scan, around),
            calendar(scan, rule(DEVICES, "scan", [0, 2]), last=last),
        ):
            found = [d.day for d in made.days if d.station == DEVICES]
            assert [iso(d) for d in found] == [f"2026-07-{d}" for d in days]


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
    assert [(d.station, iso(d.day)) for d in found.waiting] == [
        (SCAN, "2026-05-20"),
        ("girths", "2026-06-01"),
    ]
    assert iso(found.coming.day) == "2026-06-08"


def test_due_until_half_the_distance_of_a_rule():
    """On the last day of its tolerance a planned day is due, a day later it is overdue."""
    for start, state in (("2026-05-29", "due"), ("2026-05-28", "overdue")):
        found = calendar(rule("girths", "every", [7], starts=start))
        assert next(d.state for d in found.days if iso(d.day) == start) == state


@pytest.mark.parametrize(
    ("today", "state"), [("2026-05-22", "due"), ("2026-05-23", "missed"), ("2026-06-20", "missed")]
)
def test_readings_beside_a_scan_are_wanted_on_their_day(today, state):
    """Later ones do not fulfil it; beside a scan that is itself overdue they are waited for."""
    rules = rule(SCAN, "days", ["2026-05-20"]), rule(DEVICES, "scan", [2])
    for measured, last in (
        ([(1, SCAN, "2026-05-20")], state),
        ([], "due" if state == "due" else "overdue"),
    ):
        found = calendar(*rules, measured=measured, today=today)
        assert found.days[-1].state == last


def test_days_by_hand_are_kept_on_the_day():
    """A scan may miss its day by a week, any other station by none."""
    for station, measured, today, state in (
        ("girths", "2026-05-20", "2026-05-28", "done"),
        ("girths", "2026-05-21", "2026-05-28", "overdue"),
        (SCAN, "2026-05-27", "2026-05-28", "done"),
        (SCAN, "", "2026-05-27", "due"),
        (SCAN, "", "2026-05-28", "overdue"),
    ):
        visits = [(1, station, measured)] if measured else []
        found = calendar(rule(station, "days", ["2026-05-20"]), measured=visits, today=today)
        assert [(iso(d.day), d.state) for d in found.days] == [("2026-05-20", state)]


def test_a_scan_too_late_for_its_day_asks_for_no_other():
    """Eight days late it fulfils no day: that one is missed, and does not move to weeks before it."""
    planned, around = rule(SCAN, "days", ["2026-05-20"]), rule(DEVICES, "scan", [-2])
    found = calendar(planned, measured=[(1, SCAN, "2026-05-28")], today="2026-06-01")
    assert [(iso(d.day), d.state) for d in found.days] == [("2026-05-20", "missed")]
    found = calendar(planned, around, measured=[(1, SCAN, "2026-05-28")], today="2026-06-01")
    assert [iso(d.day) for d in found.days] == ["2026-05-20", "2026-05-26"]
    assert [iso(m.day) for m in found.clients[1].unplanned] == ["2026-05-28"]
    away = Event(1, 1, None, "2026-05-18", "2026-05-25", "travel", "")
    moved = calendar(planned, events=[away], today="2026-06-01")
    assert [(iso(d.day), d.state) for d in moved.days] == [("2026-05-17", "overdue")]


def test_visits_beside_the_plan_from_the_first_day_to_the_last():
    """Those on the bounds of the calendar belong to it, one a day before or after does not."""
    days = ("2026-04-30", "2026-05-01", "2026-05-20", "2026-05-31", "2026-06-01")
    found = calendar(
        rule(SCAN, "days", ["2026-07-10"]),
        measured=[(1, "girths", d) for d in days],
        first="2026-05-01",
        last="2026-05-31",
    )
    assert [iso(m.day) for m in found.clients[1].unplanned] == list(days[1:4])


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
    before = calendar(scan, clients=[Client(1, "A", last_scan="2026-05-01")])
    assert days_of(before)[0] == "2026-06-26"  # a scan before the study counts as well
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
    late = {d.day for d in ahead for t in scans if d.state == "missed" and d.day < t}
    planned = sorted(d.day for d in ahead if d.station == SCAN and d.day not in late)
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


# the precision to expect
SPREADS = ((2.5, 1.2, 0.4), (1.0, 1.2, 0.4), (0.3, 1.5, 1.0))  # client, occasion, repeat


def simulated(n, a, k, spreads, studies, rng):
    """Half-widths that the real analysis gives, mean and Monte-Carlo error of each."""
    tau, omega, eps = spreads
    client, occasion = np.repeat(np.arange(n), a * k), np.repeat(np.arange(n * a), k)
    out = []
    for _ in range(studies):
        d = (tau * rng.standard_normal(n))[client] + eps * rng.standard_normal(n * a * k)
        d += (omega * rng.standard_normal(n * a))[occasion]
        if a * k == 1:
            bias, _ = single_bias(d)
            ends = [bias.interval, single_limits(d).upper_interval]
            out.append([(i.high - i.low) / 2 for i in ends] + [np.nan, np.nan])
            continue
        fit = fit_nested(d, client, occasion)
        bias, _ = repeated_bias(fit)
        grid = variance_grid(occasion_means(d, client, occasion))
        ends = [bias.interval, repeated_limits(fit, bias, grid, d, client).upper_interval]
        own = client_offsets(fit, grid)
        widths = [(i.high - i.low) / 2 for i in ends]
        out.append(
            [
                *widths,
                *(
                    np.mean(h - w) / 2
                    for w, h in ((own.low, own.high), (own.new_low, own.new_high))
                ),
            ]
        )
    found = np.array(out)
    return found.mean(axis=0), found.std(axis=0) / np.sqrt(studies)


def agrees(n, a, k, spreads, studies, seed):
    """The planner's half-widths against those of the real analysis: 6 % or 3.5 Monte-Carlo errors."""
    tau, omega, eps = spreads
    mean, error = simulated(n, a, k, spreads, studies, np.random.default_rng(seed))
    e = expected(Spreads(tau, 0.0, omega, eps), Design(n, a, 1, k))
    for name, got, want, mc in zip(
        ("bias", "limits", "offset", "reading"),
        (e.bias, e.limits, e.offset, e.reading),
        mean,
        error,
        strict=True,
    ):
        if got is None or np.isnan(want):
            assert a == 1, name
            continue
        assert abs(got - want) <= max(0.06 * want, 3.5 * mc), (
            name,
            n,
            a,
            k,
            spreads,
            got,
            want,
            mc,
        )


@pytest.mark.parametrize(("n", "a", "k"), [(8, 1, 1), (12, 3, 2), (20, 2, 1)])
def test_planner_and_analysis_agree(n, a, k):
    """Formula and simulation of the real analysis on the same design, few studies."""
    for spreads in SPREADS[:2]:
        agrees(n, a, k, spreads, 25, n)


@pytest.mark.slow
@pytest.mark.parametrize("n", [8, 20, 60])
@pytest.mark.parametrize(("a", "k"), [(1, 1), (1, 3), (2, 1), (2, 3), (4, 5)])
def test_planner_and_analysis_agree_everywhere(n, a, k):
    """The grid of 8 to 60 clients, 1 to 4 scans, 1 to 5 repeats, three sets of components."""
    for spreads in SPREADS:
        agrees(n, a, k, spreads, 150, 100 * n + 10 * a + k)


@pytest.mark.parametrize("design", [Design(12, 3, 1, 3), Design(8, 2, 4, 2), Design(20, 1, 1, 3)])
def test_half_widths_have_the_unit_of_the_spreads(design):
    """All spreads times 7 give all half-widths times 7, and more clients none that is wider."""
    spreads = Spreads(1.4, 0.6, 1.1, 0.7)
    small = expected(spreads, design)
    large = expected(Spreads(*(7 * getattr(spreads, k) for k in spreads.__slots__)), design)
    more = expected(spreads, replace(design, clients=4 * design.clients))
    for name in ("bias", "limits", "offset", "reading"):
        width = getattr(small, name)
        if width is None:
            assert design.scans == 1
            continue
        assert getattr(large, name) == pytest.approx(7 * width, rel=1e-3)
        assert getattr(more, name) < 1.01 * width


@pytest.mark.parametrize("df", [1, 2, 7, 40, 3000])
def test_inverse_chi_square_of_the_planner(df):
    """Against scipy.stats.chi2: between all probabilities that a plan draws."""
    p = np.append((0.5 + 0.6180339887 * np.arange(1, 3000)) % 1, 10.0 ** -np.arange(4, 15))
    assert _chi2_over_df(p, df) == pytest.approx(stats.chi2.ppf(p, df) / df, rel=1e-6)


def test_published_error_of_a_limit():
    """Bland & Altman 1999: the standard error of a limit is about √(3s²/n), for many clients."""
    e = expected(Spreads(0.0, 0.0, 1.0, 1e-6), Design(100, 1))
    assert e.limits == pytest.approx(1.96 * np.sqrt(3 / 100), rel=0.03)


@pytest.mark.parametrize(("se", "df", "bias"), [(0.5, 19, 0.0), (0.5, 7, 0.5), (0.9, 9, 0.3)])
def test_power_of_two_one_sided_tests(se, df, bias):
    """Against the integral over the distribution of the standard error, by another library's rule."""
    t = stats.t.ppf(0.95, df)

    def inside(s):
        ends = stats.norm.cdf((2 - t * s - bias) / se) - stats.norm.cdf((-2 + t * s - bias) / se)
        return ends * stats.chi.pdf(s * np.sqrt(df) / se, df) * np.sqrt(df) / se

    wanted = integrate.quad(inside, 0, 2 / t)[0]
    assert power_of_equivalence(se, df, 2.0, bias) == pytest.approx(wanted, abs=1e-4)


def test_power_to_find_a_drift():
    """Against statsmodels' power of a t-test with the same noncentrality."""
    weeks, n, drift = (0.0, 12.0, 24.0), 14, 0.03
    s = Spreads(2.0, 0.5, 1.0, 0.3)
    sd = np.sqrt(0.5**2 + 1.0**2 + 0.3**2 / 3)
    df = n * 2 - 1
    # an effect whose noncentrality effect·√nobs is drift over its standard error
    away = drift / (sd / np.sqrt(n * np.var(weeks) * 3))
    wanted = TTestPower().power(away / np.sqrt(df + 1), df + 1, 0.05, df=df)
    assert power_of_drift(s, Design(n, 3, 1, 3), weeks, drift) == pytest.approx(wanted, abs=1e-6)
    exact = Spreads(2.0, 0.0, 0.0, 0.0)  # nothing varies within a client: any drift shows
    assert [power_of_drift(exact, Design(n, 3, 1, 3), weeks, d) for d in (0.0, drift)] == [0, 1]


def test_means_of_mornings_and_chances():
    """By hand: AR(1) inflates the mean; a change of 1.96 errors is seen in half of the cases."""
    s = Spreads(0.0, 0.0, 2.0, 1.0)
    by_hand = np.sqrt(4 / 3 * (1 + 2 * (2 / 3 * 0.5 + 1 / 3 * 0.25)) + 1 / 6)
    assert mean_of_mornings(s, 3, 2, 0.5) == pytest.approx(by_hand)
    assert smallest_real_change(s, 1, 1) == pytest.approx(1.96 * np.sqrt(2 * 5), rel=1e-4)
    shown, wrong = chance_to_see(1.959964, 1.0)
    assert (shown, wrong) == (pytest.approx(0.5, abs=1e-4), pytest.approx(0.025, abs=1e-4))
    assert [chance_to_see(x, 0.0) for x in (0.0, 0.5)] == [(0.0, 0.0), (1.0, 0.0)]
    assert chance_to_see(0.01, 0.01)[0] == pytest.approx(stats.norm.cdf(1 - 1.959964), abs=1e-6)
    enough = mornings_to_see(2.0, s, 3)
    error = [np.sqrt(2) * mean_of_mornings(s, m, 3) for m in (enough - 1, enough)]
    assert chance_to_see(2.0, error[0])[0] < 0.8 <= chance_to_see(2.0, error[1])[0]
    assert mornings_to_see(0.1, s, 3) is None


def test_plan_on_the_command_line(demo, tmp_path, capsys):
    """What is due, the precision, and the smallest design that reaches a wanted half-width."""
    path, out = str(demo.path), tmp_path / "c.ics"
    demo.close()
    assert main(["plan", path, "--json", "--half-width", "1.0"], CLOCK) == 0
    found = json.loads(capsys.readouterr().out)
    assert (found["today"], found["due"], found["instrument"]) == ("2026-08-27", [], "Alder")
    plan = {"clients": 14, "scans": 3, "mornings": 1, "repeats": 3}
    assert found["design"] == {**plan, "scans_kept": 1.0, "mornings_ignored": 0}
    options = {o["what"]: o for o in found["options"]}
    assert options["scans"]["reaches"]
    assert options["scans"]["half_width"] <= 1.0 < found["precision"]["offset"]
    assert options["scans"]["scans"] == 14 * options["scans"]["count"]
    fewer = ["plan", path, "--json", "--scans", str(3 + options["scans"]["count"] - 1)]
    assert main(fewer, CLOCK) == 0
    assert json.loads(capsys.readouterr().out)["precision"]["offset"] > 1.0
    later = fixed("2026-09-24T07:00:00+00:00")
    assert main(["plan", path, "--ics", str(out), "--csv", str(tmp_path / "c.csv")], later) == 0
    said = capsys.readouterr().out
    assert "visits due for 14 clients" in said
    assert "BEGIN:VEVENT" in out.read_text()
    rows = list(csv.DictReader((tmp_path / "c.csv").read_text().splitlines()))
    assert {r["state"] for r in rows} >= {"done", "overdue", "planned", "missed"}
    with pytest.raises(SystemExit, match="2"):
        main(["plan", path, "--scans", "0"], CLOCK)
    assert "whole number" in capsys.readouterr().err


@pytest.mark.parametrize("n", range(3, 10))
def test_orders_are_balanced(n):
    """Each device stands equally often at each place and follows each other one equally often."""
    rows = williams(n)
    assert len(rows) == (n if n % 2 == 0 else 2 * n)
    places = np.zeros((n, n), dtype=int)
    after = np.zeros((n, n), dtype=int)
    for row in rows:
        assert sorted(row) == list(range(n))
        for place, device in enumerate(row):
            places[device, place] += 1
        for a, b in pairwise(row):
            after[a, b] += 1
    assert (places == len(rows) // n).all()
    assert set(after[~np.eye(n, dtype=bool)].tolist()) == {len(rows) // n}
    assert len({order_at(n, 0, k) for k in range(len(rows))}) == len(rows)
    assert order_at(n, 2, 3) == order_at(n, 0, 5)


def test_drawn_studies_are_analysed_as_any_other(capsys, tmp_path):
    """A drift is found, a perfect device is not said to move, intervals hold; the seed repeats it."""
    drifting = ["simulate", "--clients", "10", "--anchors", "4", "--studies", "2", "--json"]
    assert main([*drifting, "--drift-per-week", "0.2"], CLOCK) == 0
    found = json.loads(capsys.readouterr().out)
    assert found["verdicts"]["drift"] == {"drifting": 1.0}
    assert set(found["coverage"]) == {
        "bias"
    }  # offsets and limits of a moving device are no one value
    assert main([*drifting, "--slope", "0", "--change-sd", "0.3"], CLOCK) == 0
    stuck = json.loads(capsys.readouterr().out)
    assert stuck["verdicts"]["change"].get("too_little", 0) > 0.8
    assert main(["simulate", "--studies", "5", "--json", "--seed", "7"], CLOCK) == 0
    steady = json.loads(capsys.readouterr().out)
    assert main(["simulate", "--studies", "5", "--json", "--seed", "7"], CLOCK) == 0
    assert json.loads(capsys.readouterr().out) == steady
    assert steady["verdicts"]["drift"].get("steady", 0) > 0.5
    assert all(r["share"] > 0.8 for r in steady["coverage"].values())
    planned, got = steady["planned_half_widths"], steady["half_widths"]
    assert all(got[k] == pytest.approx(planned[k], rel=0.25) for k in got)
    assert main(["simulate", "--failures", "1.5"], CLOCK) == 2
    assert "share from 0 to below 1" in capsys.readouterr().err
    assert (
        main(["simulate", "--studies", "3", "--mistypes", "0.5", "--dropouts", "0.5"], CLOCK) == 0
    )
    assert "3 studies" in capsys.readouterr().out


def test_a_drawn_study_is_what_it_says():
    """Large draws have the stated SDs; rows of a table give the same pairs as the columns."""
    t = Truth(clients=600, scans=3, repeats=4, resolution=0.001, scan_sd=0.8, change_sd=0.0)
    d = draw(t, np.random.default_rng(4))
    within = d.shown - d.shown.mean(axis=1, keepdims=True)
    assert np.sqrt((within**2).sum() / (within.size * 3 / 4)) == pytest.approx(0.3, rel=0.05)
    error = (d.shown.mean(axis=1) - d.fat).reshape(600, 3)
    assert error.mean() == pytest.approx(2.0, abs=0.3)
    day = np.sqrt(error.var(axis=1, ddof=1).mean() - 0.09 / 4)
    assert day == pytest.approx(1.0, rel=0.06)
    assert (d.scan - d.fat).std() == pytest.approx(0.8, rel=0.06)
    small = draw(
        Truth(failures=0.1, dropouts=0.2, step=2.0, step_week=12.0), np.random.default_rng(2)
    )
    session = study(rows_of(small))
    a = finish(CompareRequest(session.snapshot(), Lens(), "Device").run())
    b = finish(CompareRequest(snapshot_of(small), Lens(), "Device").run())
    assert (a.pairs.n, a.pairs.clients) == (b.pairs.n, b.pairs.clients)
    assert a.bias.value == pytest.approx(b.bias.value)
    assert a.limits.upper_interval.high == pytest.approx(b.limits.upper_interval.high)


FOUND_BY = {
    "nothing": ("drift", "stable"),
    "settings": ("drift", "step change"),
    "drift": ("drift", "drifts"),
    "response": ("change", "responds too little to change, or not at all"),
    "odd_client": ("review", "Client unlike the others"),
    "digits": ("review", "Outlier among repeats"),
    "alike": ("alike", "behave alike"),
    "circular": ("water", "derives fat and water from the same measurement"),
    "few": ("calibrate", "no common correction shown"),
}


@pytest.mark.parametrize("case", CASES, ids=lambda c: c.problem)
def test_training_cases_can_be_solved(case):
    """The program finds what is wrong in each case, and its offset is near what may be subtracted."""
    where, words = FOUND_BY[case.problem]
    now = said(study(case_rows(case)))
    assert words in json.dumps(now[where], ensure_ascii=False), now[where]
    pooled = now["calibrate"]["Device"]["pooled"]["offset"]
    right = judge(case.key, case.problem, case.subtract)
    assert right.problem_right
    assert right.amount_right
    assert judged_words(right).startswith("Right")
    if case.subtract is not None:
        assert judge(case.key, case.problem, pooled).amount_right
        assert not judge(case.key, case.problem, None).amount_right
        far = judge(case.key, "few", case.subtract + 3)
        assert (far.problem_right, far.amount_right, far.off) == (False, False, pytest.approx(3))
    else:
        assert not judge(case.key, case.problem, 1.0).amount_right


def test_conditions_of_the_scan_are_those_of_the_trial():
    """Usual visits after breakfast, at another hour: said; the same conditions: nothing is said."""
    fasted = [c for c in CONDITIONS if c.key in ("fasted", "voided")]

    def visits(hour, answer):
        rows = [Measured(1, DEVICES, 700000 + k, k, hour) for k in range(1, 6)]
        rows += [Measured(1, SCAN, 700010, 9, 7.0), Measured(1, DEVICES, 700010, 9, 7.0)]
        answers = {k: {"fasted": answer, "voided": "yes"} for k in range(1, 6)}
        return scan_conditions(rows, answers | {9: {"fasted": "yes"}}, fasted)

    assert visits(7.5, "yes") == ()
    said_ = [sentence(n) for n in visits(10.5, "no")]
    assert said_[0].startswith("Usual visits are at about 10:30, scans at about 07:00")
    assert said_[1].startswith("Fasted: not kept at 5 of 5 usual visits")
    assert len(said_) == 2
    # two of eight usual visits after breakfast are not most of them
    rows = [Measured(1, DEVICES, 700000 + k, k, 7.0) for k in range(1, 9)]
    rows += [Measured(1, SCAN, 700010, 9, 7.0)]
    for n, told in ((2, 0), (8, 1)):
        answers = {k: {"fasted": "no" if k <= n else "yes"} for k in range(1, 9)}
        assert len(scan_conditions(rows, answers | {9: {"fasted": "yes"}}, fasted)) == told
    # one, and two, of three scans after breakfast as well
    rows = [Measured(1, DEVICES, 700000 + k, k, 7.0) for k in range(1, 6)]
    rows += [Measured(1, SCAN, 700010 + k, 9 + k, 7.0) for k in range(3)]
    for late, notes in ((1, 1), (2, 0)):
        at_scans = {9 + k: {"fasted": "no" if k < late else "yes"} for k in range(3)}
        usual = {k: {"fasted": "no"} for k in range(1, 6)}
        assert len(scan_conditions(rows, usual | at_scans, fasted)) == notes


def test_power_of_groups():
    """A change of a group and the difference of two, against statsmodels; the clients for 80 %."""
    for sd, n, change in ((1.6, 10, 1.5), (2.0, 24, 0.7), (1.0, 2, 3.0)):
        expected = TTestPower().power(change / sd, n, 0.05)
        assert power_of_group_change(sd, n, change) == pytest.approx(expected, abs=1e-6)
    expected = TTestIndPower().power(0.8, 12, 0.05, ratio=1.5)
    assert power_of_two_groups(2.5, 12, 18, -2.0) == pytest.approx(expected, abs=1e-6)
    g = group_power(Spreads(2.0, 0.6, 1.2, 0.3, 0.4), -1.5, 10, repeats=2)
    week = mean_of_mornings(Spreads(0, 0, 1.2, 0.3), 7, 2, 0.4)
    sd = np.hypot(1.0, np.sqrt(2) * week)
    assert g.one == pytest.approx(power_of_group_change(sd, 10, 1.5))
    assert (
        power_of_group_change(sd, g.needed, 1.5)
        >= 0.8
        > power_of_group_change(sd, g.needed - 1, 1.5)
    )
    each = g.needed_each
    assert (
        power_of_two_groups(sd, each, each, 1.5)
        >= 0.8
        > power_of_two_groups(sd, each - 1, each - 1, 1.5)
    )
    assert clients_needed(lambda _n: 0.5) is None
    assert group_words(g, "body_fat_percent").startswith(
        "A mean loss of 1.5 pp in 10 clients is shown in "
    )


def test_mornings_count_only_where_the_filters_count_them():
    """With the nearest visit alone more mornings bring nothing until the window is widened."""
    s = Spreads(1.5, 0.5, 1.2, 0.3)
    ask = PrecisionRequest(s, {}, Design(10, 3, 7, 2))
    near, wide = finish(ask.run()), finish(replace(ask, counted=7).run())
    assert (near.ignored, wide.ignored) == (6, 0)
    assert near.half_width == pytest.approx(expected(s, Design(10, 3, 1, 2)).offset)
    assert wide.half_width < 0.9 * near.half_width
    one = next(o for o in near.options if o.what == "mornings")
    assert (one.window, window_for(8)) == (168.0, 96.0)
    assert "if the filters average all readings within 168 h of a scan" in " ".join(
        [*option_sentences(near, "body_fat_percent"), precision_headline(near, "body_fat_percent")]
    )
    assert "The filters count 1 of 7 mornings" in precision_headline(near, "body_fat_percent")
    around = Lens(window_hours=72.0, around=True)
    assert (mornings_counted(Lens()), mornings_counted(around)) == (1, 7)


@given(
    n=st.integers(3, 30),
    a=st.integers(2, 4),
    m=st.integers(1, 5),
    k=st.integers(1, 4),
    correlation=st.sampled_from((0.0, 0.5, 0.8)),
    kept=st.sampled_from((1.0, 0.8, 0.6)),
)
@settings(max_examples=12, deadline=None)
def test_more_data_never_widen(n, a, m, k, correlation, kept):
    """One repeat, morning or kept scan more: no expected interval is wider, but for the draws (3 %)."""
    s = Spreads(1.2, 0.5, 1.0, 0.8, correlation)
    design = Design(n, a, m, k, kept)
    now = expected(s, design)
    more = [replace(design, repeats=k + 1), replace(design, kept=1.0)]
    more += [replace(design, mornings=m + 1)] if m > 1 else []
    for after in more:
        then = expected(s, after)
        for name in ("bias", "limits", "offset", "reading"):
            before, width = getattr(now, name), getattr(then, name)
            assert before is None or width <= 1.03 * before, (name, after)


def test_alike_mornings_and_missed_scans_widen_as_drawn():
    """The error of a mean of alike mornings, and the clients and scans that are left of a plan."""
    rng, n, m = np.random.default_rng(2), 40_000, 5
    steps = rng.normal(0, 1, (n, m))
    e = steps.copy()
    for j in range(1, m):
        e[:, j] = 0.6 * e[:, j - 1] + 0.8 * steps[:, j]
    s = Spreads(0.0, 0.0, 1.0, 0.0, 0.6)
    se, _ = bias_error(s, Design(10, 1, m))
    assert se == pytest.approx(e.mean(axis=1).std() / np.sqrt(10), rel=0.02)
    taken = rng.binomial(3, 0.7, n)
    clients, scans = Design(10, 3, kept=0.7).realised
    assert clients == pytest.approx(10 * (taken > 0).mean(), rel=0.01)
    assert scans == pytest.approx(1 / (1 / taken[taken > 0]).mean(), rel=0.01)
