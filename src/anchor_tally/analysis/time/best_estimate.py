"""The best estimate: one level per client from every scan and every device."""

from __future__ import annotations

import itertools
import math
from collections.abc import Generator, Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import date

import numpy as np
import numpy.typing as npt

from ...domain.events import Event
from ...domain.lens import Lens
from ...domain.metrics import metric_named
from ...domain.records import Client
from ...domain.snapshot import Floats, Ints, Snapshot
from ...stats.client_course import (
    Course,
    ahead_of,
    contradictions,
    course_of,
    disagreements,
    independent_mornings,
)
from ...stats.distributions import largest_difference, t_estimate, t_two_sided_p
from ...stats.estimate import Estimate, Interval, note
from ...stats.mixture import Mixture
from ...stats.one_client import LIKELY, NOISE, NOT_ENOUGH, REAL
from ..pairs.comparator import CannotCompare, no_client
from ..people.withheld import withheld
from .best_estimate_result import (
    BestEstimateResult,
    Change,
    Contradiction,
    GoalDate,
    Measured,
    Odd,
    SideBySide,
    SourcePoints,
    SourceShare,
    Weighed,
)
from .copies import COPY
from .held_readings import held_of, stored_of
from .next_measurement import more_mornings, next_measurement
from .study_model import (
    EPOCH,
    EVENING,
    LEAST_EACH,
    MORNING,
    WEEKS_BACK,
    StudyModel,
    StudyModelRequest,
    measured_day,
    measured_days,
)

METHOD = "state-space"
TIMES_OF_DAY = {0: "", MORNING: "morning", EVENING: "evening"}
COURSE_DAYS = 120  # at most so many days of the course
NEAR = 3  # days around a date whose mornings count
RATE_WEEKS = 8  # before the last day from which a goal's date is foretold
FORECAST_WEEKS = 104  # ahead in which a goal is looked for
# a true change that is asked about where the study states no margin, by unit (assumed)
SIZES = {"pp": 1.0, "kg": 1.0, "cm": 2.0, "mm": 5.0}


@dataclass(frozen=True, slots=True)
class BestEstimateRequest:
    """The level of one client from every scan and every device of the study.

    Parameters
    ----------
    snapshot : Snapshot
        The study at one revision, with the column of the lens' metric.
    lens : Lens
        Metric and reference; its other filters do not count.
    client : str
        Code of the client.
    since, until : int, optional
        Ordinals of the two days of the change; by default the last four weeks.
    fixed : frozenset of int
        Ordinals of days that were not chosen by the course: events and planned days. Scans, the
        first and the last day and four weeks before it need not be named.
    goal : float, optional
        Level whose date is asked for.
    today : str
        ISO date on which cautions are judged.

    Raises
    ------
    CannotCompare
        From ``run``: no such client, nothing may be shown, or no readings.
    """

    snapshot: Snapshot
    lens: Lens
    client: str
    since: int | None = None
    until: int | None = None
    fixed: frozenset[int] = frozenset()
    goal: float | None = None
    today: str = ""

    def run(self) -> Generator[float, None, BestEstimateResult]:
        """Yield progress; return the result."""
        client = self.snapshot.catalogue.client_coded(self.client)
        if client is None:
            raise CannotCompare(no_client(self.client))
        why = withheld(client, self.lens.metric)
        if why:
            raise CannotCompare(why)
        m = yield from StudyModelRequest(self.snapshot, self.lens).run()
        if client.id not in m.clients:
            if held_of(self.snapshot, self.lens.metric, m.waiting, client.id):
                raise CannotCompare(f"{client.code}: all readings wait for a decision in Review")
            raise CannotCompare(f"{client.code} has no readings of this metric")
        result = self._result(client, m, m.clients.index(client.id))
        yield 1.0
        return result

    def _result(self, client: Client, m: StudyModel, own: int) -> BestEstimateResult:
        s, data = self.snapshot, m.data
        mine = data.client == own
        days, sources = data.day[mine], data.source[mine]
        last = int(days.max())
        until = last if self.until is None else self.until - EPOCH
        if self.since is not None and self.since - EPOCH >= until:
            raise CannotCompare("the first day must be before the second")
        asked = None if self.since is None else self.since - EPOCH
        since, until = measured_days(days, asked, until)
        scans = np.unique(days[sources == 0]) if m.scanned else np.empty(0, dtype=np.int64)
        now = last
        shown = np.linspace(int(days.min()), now, COURSE_DAYS).astype(np.int64)
        course_days = np.unique(np.concatenate([shown, days])).astype(int)
        at = int(np.searchsorted(course_days, now))
        course = course_of(data, m.model, own, client.id, course_days, at)
        n, bands = int(mine.sum()), course.bands
        level, low, high = course.level, bands.quantile(0.025), bands.quantile(0.975)
        floor = lowest_of(self.lens.metric)
        low = np.maximum(low, floor)
        value = Estimate(
            float(level[at]),
            Interval(float(low[at]), float(high[at])),
            n,
            METHOD,
            float(bands.sd[at]),
            m.model.level_df,
        )
        relative = m.scanned and not m.tied[own]
        if relative:  # what is not known of the level is in no change
            since_first = np.eye(course_days.size)
            since_first[:, 0] -= 1.0
            moved = course.contrast(since_first, m.model.change_df)
            level, low, high = moved.mean, moved.quantile(0.025), moved.quantile(0.975)
        begin, _ = measured_days(days, last - 7 * RATE_WEEKS, last)
        trend, goal = self._rate(course, begin, at, n)
        change = self._change(m, course, since, until, scans, n)
        since_scan = None
        if scans.size and scans[-1] < last:
            since_scan = self._change(m, course, int(scans[-1]), last, scans, n)
        known = ahead_of(data, m.model, own, client.id, course)
        more = None
        if change.change is not None and change.kind != REAL and until == last:
            more = more_mornings(m, own, known, since, self._size(), change.change)
        read = (sources > 0) | (not m.scanned)
        recent = days[read & (days > last - 7 * WEEKS_BACK)]
        correlation = m.model.tried[0].correlation
        odd, disagree = disagreements(data, known, course)
        notes = []
        if m.scanned and not scans.size:
            notes.append(note("no_scan_of_client", name=client.code))
        return BestEstimateResult(
            client=client,
            metric=self.lens.metric,
            scanned=m.scanned,
            tied=m.tied[own],
            anchor=m.anchor.name,
            value=value,
            at=now + EPOCH,
            change=change,
            since_scan=since_scan,
            trend=trend,
            goal=goal,
            more=more,
            ahead=next_measurement(s, m, own, client, known, value, self.today),
            odd=tuple(
                Odd(*self._named(m, d.source), d.first + EPOCH, d.last + EPOCH, d.gap, d.p)
                for d in odd
            ),
            shifted=course.shifted,
            contradicted=tuple(
                Contradiction(x.day + EPOCH, x.gap, x.p)
                for x in contradictions(data, known, course)
            )
            if m.scanned
            else (),
            disagree=disagree,
            scans=int(scans.size),
            devices=len({m.keys[k][0] for k in np.unique(sources) if k or not m.scanned}),
            mornings=int(np.unique(days[read]).size),
            recent=int(np.unique(recent).size),
            independent=independent_mornings(recent, correlation),
            relative=relative,
            day=course_days + EPOCH,
            level=level,
            low=low,
            high=high,
            sources=self._shares(m, course, mine, client.id),
            beside=self._beside(m, mine),
            points=self._points(m, course_days, level, mine),
            weighed=self._weighed(m, course),
            held=held_of(s, self.lens.metric, m.waiting, client.id),
            scan_sd=float(m.model.tried[0].repeat[0]),
            correlation=correlation,
            notes=tuple(notes),
        )

    def _rate(
        self, course: Course, begin: int, at: int, n: int
    ) -> tuple[Estimate | None, GoalDate | None]:
        """Change a week since a day, and when the goal is reached at this rate."""
        if begin == course.day[at]:
            return None, None if self.goal is None else GoalDate(
                self.goal, False, False, None, None
            )
        first, weeks = int(np.searchsorted(course.day, begin)), (course.day[at] - begin) / 7
        rate, one = np.zeros((1, course.day.size)), np.zeros((1, course.day.size))
        one[0, at] = 1.0
        rate[0, [first, at]] = -1 / weeks, 1 / weeks
        trend = estimates_of(course.contrast(rate, course.change_df), n)[0]
        if self.goal is None:
            return trend, None
        ahead = np.arange(FORECAST_WEEKS + 1)
        band = course.contrast(one + ahead[:, None] * rate, course.level_df)
        ends = (band.quantile(0.025), band.quantile(0.975))
        days = course.day[at] + EPOCH + 7 * ahead
        return trend, _goal_date(self.goal, days, float(course.level[at]), ends, trend)

    def _size(self) -> float:
        margin = margin_of(self.snapshot, self.lens.metric)
        if margin is not None:
            return margin
        metric = metric_named(self.lens.metric)
        return 1.0 if metric is None else SIZES.get(metric.difference_unit, 1.0)

    def _change(
        self, m: StudyModel, course: Course, since: int, until: int, scans: Ints, n: int
    ) -> Change:
        mine = m.data.day[course.own]
        first, last = int(mine.min()), int(mine.max())
        back = {measured_days(mine, None, x)[0] for x in (last, until)}
        known = {first, last, *back, *scans.tolist()}
        known |= {measured_day(mine, d - EPOCH) for d in self.fixed}
        weeks = None if {since, until} <= known else max(math.ceil((last - first) / 7), 1) + 1
        at = np.searchsorted(course.day, [since, until])
        change = judged(
            course.change(int(at[0]), int(at[1])),
            ((since + EPOCH, until + EPOCH),),
            (n,),
            margin_of(self.snapshot, self.lens.metric),
            weeks,
        )[0]
        source = m.data.source[course.own]
        read = mine[source > 0] if m.scanned else mine
        near = [read[np.abs(read - d) <= NEAR] for d in (since, until)]
        before, after = (independent_mornings(x, m.model.tried[0].correlation) for x in near)
        return replace(
            change,
            mornings=(before, after),
            measured=None
            if change.change is None
            else _measured(mine, source, m.data.value[course.own], (since, until), m.scanned),
        )

    def _named(self, m: StudyModel, place: int) -> tuple[str, str]:
        """Instrument and setting of a source."""
        item, setting, part = m.keys[place]
        found = self.snapshot.settings.get(setting)
        label = found.label if found is not None else ""
        parts = (label, TIMES_OF_DAY[part])
        return self.snapshot.instruments[item].name, ", ".join(x for x in parts if x)

    def _beside(self, m: StudyModel, mine: npt.NDArray[np.bool_]) -> tuple[SideBySide, ...]:
        """Differences of settings of one device on days on which the client read both."""
        day, source, value = (x[mine] for x in (m.data.day, m.data.source, m.data.value))
        out = []
        known = [k for k in np.unique(source).tolist() if k or not m.scanned]
        for a, b in itertools.combinations(known, 2):
            if m.keys[a][0] != m.keys[b][0]:
                continue
            one, two = (_by_day(day[source == k], value[source == k]) for k in (a, b))
            both = sorted(one.keys() & two.keys())
            if len(both) < LEAST_EACH:
                continue
            d = np.array([two[x] - one[x] for x in both])
            n = d.size
            found = t_estimate(float(d.mean()), float(d.std(ddof=1)) / math.sqrt(n), n - 1, n, "t")
            (name, first), (_, second) = self._named(m, a), self._named(m, b)
            out.append(SideBySide(name, first, second, found))
        return tuple(out)

    def _points(
        self, m: StudyModel, days: Ints, level: Floats, mine: Ints
    ) -> tuple[SourcePoints, ...]:
        """Readings by source; those of a device are moved to lie about the course."""
        out, data = [], m.data
        for k in np.unique(data.source[mine]).tolist():
            at = np.flatnonzero(mine & (data.source == k))
            day, value = data.day[at], data.value[at]
            if k:  # every day of a reading is a day of the course
                value = value - (value - level[np.searchsorted(days, day)]).mean()
            name, setting = self._named(m, k)
            out.append(SourcePoints(name, setting, k == 0 and m.scanned, day + EPOCH, value))
        return tuple(out)

    def _shares(
        self, m: StudyModel, course: Course, mine: Ints, client: int
    ) -> tuple[SourceShare, ...]:
        data = m.data
        counting = [
            SourceShare(
                *self._named(m, k),
                int(np.unique(data.day[mine & (data.source == k)]).size),
                float(course.share[k]),
                "",
            )
            for k in np.unique(data.source[mine]).tolist()
        ]
        c = self.snapshot.columns[self.lens.metric]
        again = m.repeated[c.client[m.repeated] == client]
        repeated = [
            SourceShare(
                self.snapshot.instruments[k].name,
                "",
                int(np.unique(c.day[again[c.instrument[again] == k]]).size),
                0.0,
                COPY,
            )
            for k in np.unique(c.instrument[again]).tolist()
        ]
        left_out = [SourceShare(name, "", 0, 0.0, why) for name, why in m.left_out]
        return (*counting, *repeated, *left_out)

    def _weighed(self, m: StudyModel, course: Course) -> tuple[Weighed, ...]:
        """Sets behind the value, the heaviest first."""
        column, data = self.snapshot.columns[self.lens.metric], m.data
        out = []
        for k in np.argsort(-np.abs(course.weight), kind="stable").tolist():
            at = int(course.own[k])
            rows = m.rows[int(m.first[at]) : int(m.first[at + 1])].tolist()
            ids = dict.fromkeys(i for r in rows for i in stored_of(column, r))
            out.append(
                Weighed(
                    *self._named(m, int(data.source[at])),
                    int(data.day[at]) + EPOCH,
                    float(data.value[at]),
                    int(data.size[at]),
                    float(course.weight[k]),
                    tuple(ids),
                )
            )
        return tuple(out)


def margin_of(snapshot: Snapshot, metric: str) -> float | None:
    """The difference that matters in a metric; None where none is stated."""
    found = metric_named(metric)
    return None if found is None else snapshot.catalogue.margin(found)


def _by_day(day: Ints, value: Floats) -> dict[int, float]:
    """Mean of each day."""
    days, at = np.unique(day, return_inverse=True)
    return dict(
        zip(days.tolist(), (np.bincount(at, value) / np.bincount(at)).tolist(), strict=True)
    )


def lowest_of(metric: str) -> float:
    """What no value of a metric can be below."""
    found = metric_named(metric)
    return 0.0 if found is None or found.low >= 0 else -math.inf


def judged(
    change: Mixture,
    days: Sequence[tuple[int, int]],
    counts: Sequence[int],
    margin: float | None,
    weeks: int | None = None,
) -> list[Change]:
    """Changes between two days each (ordinals) with their verdicts: the one place that judges.

    Parameters
    ----------
    change : Mixture
        What is known of each change.
    days : sequence of tuple of int
        The two days of each; none is told where they are the same.
    counts : sequence of int
        Readings behind each.
    margin : float or None
        The difference that matters.
    weeks : int, optional
        Weeks among which the days were chosen after the course was seen: the intervals hold for
        any two of them.

    Notes
    -----
    *Real* where the 95 % interval leaves 0, *likely* where the 80 % interval does.
    """
    tails = [0.025, 0.1]
    if weeks is not None:  # the share of t beyond the largest difference of so many means
        limits = [largest_difference(q, weeks, change.df) for q in (0.95, 0.8)]
        tails = [t_two_sided_p(x, change.df) / 2 for x in limits]
    estimates = estimates_of(change, *counts, tail=tails[0])
    low, high = change.quantile(tails[1]), change.quantile(1 - tails[1])
    beyond = None
    if margin is not None:
        beyond = change.below(-margin) + 1 - change.below(margin)
    out = []
    for k, ((since, until), e) in enumerate(zip(days, estimates, strict=True)):
        if since == until:
            out.append(Change(None, since, until, NOT_ENOUGH, None, False))
            continue
        i = e.interval
        real = i is not None and (i.low > 0 or i.high < 0)
        kind = REAL if real else LIKELY if low[k] > 0 or high[k] < 0 else NOISE
        exceeds = None if beyond is None else float(beyond[k])
        out.append(Change(e, since, until, kind, exceeds, weeks is not None))
    return out


def estimates_of(of: Mixture, *counts: int, tail: float = 0.025) -> list[Estimate]:
    """Estimates of mixtures with intervals that leave a share ``tail`` on each side."""
    mean, sd, low, high = of.mean, of.sd, of.quantile(tail), of.quantile(1 - tail)
    return [
        Estimate(
            float(mean[k]), Interval(float(low[k]), float(high[k])), n, METHOD, float(sd[k]), of.df
        )
        for k, n in enumerate(counts)
    ]


def _measured(
    day: Ints, source: Ints, value: Floats, ends: tuple[int, int], scanned: bool
) -> Measured:
    """Plain differences of a client's readings (n,) about two days."""
    near = [np.abs(day - d) <= NEAR for d in ends]
    if ends[1] - ends[0] <= 2 * NEAR:  # no reading counts for both days
        near = [day == d for d in ends]
    scans, moved = None, []
    for k in np.unique(source).tolist():
        first, second = (value[x & (source == k)] for x in near)
        if first.size and second.size:
            gap = float(second.mean() - first.mean())
            if k == 0 and scanned:
                scans = gap
            else:
                moved.append(gap)
    return Measured(float(np.mean(moved)) if moved else None, len(moved), scans)


def fixed_days(events: Iterable[Event], client: Client | None) -> frozenset[int]:
    """Ordinals of the days on which something was noted of a client, or of all clients."""
    own = [e for e in events if e.instrument is None and e.client in (None, client and client.id)]
    days = [day[:10] for e in own for day in (e.starts, e.ends) if day]
    return frozenset(date.fromisoformat(day).toordinal() for day in days)


def _goal_date(
    goal: float, days: Ints, now: float, ends: tuple[Floats, Floats], trend: Estimate
) -> GoalDate:
    """Days on which the goal is within the band of the level, from now on."""
    i, (low, high) = trend.interval, ends
    shown = i is not None and (i.low > 0 or i.high < 0)
    rising = trend.value > 0
    reached = abs(now - goal) < 0.05 or (shown and (now >= goal if rising else now <= goal))
    if not shown or reached:
        return GoalDate(goal, shown, reached, None, None)
    ahead = high >= goal if rising else low <= goal
    beyond = low > goal if rising else high < goal
    if not ahead.any():
        return GoalDate(goal, shown, False, None, None)
    first, last = int(np.argmax(ahead)), int(np.argmax(beyond)) if beyond.any() else None
    return GoalDate(goal, shown, False, int(days[first]), None if last is None else int(days[last]))
