"""The best estimate: one level per client from every scan and every device."""

from __future__ import annotations

import math
from collections.abc import Generator, Iterable
from dataclasses import dataclass, replace
from datetime import date

import numpy as np

from ...domain.events import Event
from ...domain.lens import Lens
from ...domain.metrics import is_fat, metric_named
from ...domain.records import Client
from ...domain.snapshot import Ints, Snapshot
from ...stats.client_course import Course, course_of, disagreements, independent_mornings
from ...stats.distributions import largest_difference, t_estimate, t_quantile
from ...stats.estimate import Estimate, note
from ...stats.one_client import LIKELY, NOISE, NOT_ENOUGH, REAL, beyond_margin
from ..pairs.comparator import CannotCompare, no_client
from ..people.cautions import fat_unseen
from .best_estimate_result import (
    BestEstimateResult,
    Change,
    GoalDate,
    Odd,
    SourcePoints,
    SourceShare,
    Weighed,
)
from .copies import COPY
from .held_readings import held_of, stored_of
from .next_measurement import more_mornings, next_measurement
from .study_model import EPOCH, StudyModel, StudyModelRequest

WEEKS_BACK = 4  # the change that is told unless other days are asked about
COURSE_DAYS = 120  # at most so many days of the course
NEAR, FAR = 3, 28  # days around a date whose mornings count, and beyond which it has no readings
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
        if is_fat(self.lens.metric) and fat_unseen(client):
            raise CannotCompare(
                f"{client.code}: history of disordered eating: no fat number is shown"
            )
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
        first, last = int(days.min()), int(days.max())
        until = last if self.until is None else self.until - EPOCH
        since = until - 7 * WEEKS_BACK if self.since is None else self.since - EPOCH
        if since >= until:
            raise CannotCompare("the first day must be before the second")
        scans = np.unique(days[sources == 0]) if m.scanned else np.empty(0, dtype=np.int64)
        now = max(last, until)
        shown = np.linspace(min(first, since), now, COURSE_DAYS).astype(np.int64)
        weeks = np.arange(1, FORECAST_WEEKS + 1 if self.goal is not None else 1)
        course_days = np.unique(
            np.concatenate([shown, days, [since, until], now + 7 * weeks])
        ).astype(int)
        at = int(np.searchsorted(course_days, now))
        course = course_of(data, m.model, own, course_days, at)
        n, wide = int(mine.sum()), t_quantile(0.975, m.df)
        shown_at = np.arange(at + 1)
        value = _estimate(float(course.level[at]), float(course.sd[at]), m.df, n)
        trend = _estimate(course.trend, course.trend_sd, m.df, n)
        change = self._change(m, course, since, until, scans, first, last)
        since_scan = None
        if scans.size and scans[-1] < last:
            since_scan = self._change(m, course, int(scans[-1]), last, scans, first, last)
        more = None
        if change.kind != REAL and until == last:
            more = more_mornings(m, own, since, self._size(), change.change.value)
        read = (sources > 0) | (not m.scanned)
        recent = days[read & (days > last - 7 * WEEKS_BACK)]
        spreads = m.model.tried[m.model.likeliest]
        odd, disagree = disagreements(data, m.model, own)
        notes = []
        if m.scanned and not scans.size:
            notes.append(note("no_scan_of_client", name=client.code))
        return BestEstimateResult(
            client=client,
            metric=self.lens.metric,
            scanned=m.scanned,
            anchor=m.anchor.name,
            value=value,
            at=now + EPOCH,
            change=change,
            since_scan=since_scan,
            trend=trend,
            goal=None if self.goal is None else _goal_date(self.goal, course, at, trend, wide),
            more=more,
            ahead=next_measurement(s, m, own, client, self.today),
            odd=tuple(
                Odd(*self._named(m, d.source), d.first + EPOCH, d.last + EPOCH, d.gap, d.p)
                for d in odd
            ),
            disagree=disagree,
            scans=int(scans.size),
            devices=len({m.keys[k][0] for k in np.unique(sources) if k or not m.scanned}),
            mornings=int(np.unique(days[read]).size),
            recent=int(np.unique(recent).size),
            independent=independent_mornings(recent, spreads.correlation),
            day=course_days[shown_at] + EPOCH,
            level=course.level[shown_at],
            half=wide * course.sd[shown_at],
            sources=self._shares(m, course, mine, client.id),
            points=self._points(m, course, mine),
            weighed=self._weighed(m, course),
            held=held_of(s, self.lens.metric, m.waiting, client.id),
            scan_sd=float(spreads.repeat[0]),
            correlation=spreads.correlation,
            notes=tuple(notes),
        )

    def _size(self) -> float:
        margin = margin_of(self.snapshot, self.lens.metric)
        if margin is not None:
            return margin
        metric = metric_named(self.lens.metric)
        return 1.0 if metric is None else SIZES.get(metric.difference_unit, 1.0)

    def _change(
        self,
        m: StudyModel,
        course: Course,
        since: int,
        until: int,
        scans: Ints,
        first: int,
        last: int,
    ) -> Change:
        at = np.searchsorted(course.day, [since, until])
        value, sd = course.change(int(at[0]), int(at[1]))
        known = {first, last, last - 7 * WEEKS_BACK, until - 7 * WEEKS_BACK, *scans.tolist()}
        known |= {d - EPOCH for d in self.fixed}
        picked = not {since, until} <= known
        limits = None
        if picked:  # any pair of weeks could have been chosen
            weeks = max(math.ceil((last - first) / 7), 1) + 1
            limits = tuple(largest_difference(q, weeks, m.df) for q in (0.95, 0.8))
        estimate = _estimate(value, sd, m.df, int(course.own.size))
        days = (since + EPOCH, until + EPOCH)
        change = judged(estimate, days, margin_of(self.snapshot, self.lens.metric), limits)
        mine = m.data.day[course.own]
        if any(np.abs(mine - d).min() > FAR for d in (since, until)):
            change = replace(change, kind=NOT_ENOUGH)
        spreads = m.model.tried[m.model.likeliest]
        read = mine[m.data.source[course.own] > 0] if m.scanned else mine
        near = [read[np.abs(read - d) <= NEAR] for d in (since, until)]
        before, after = (independent_mornings(x, spreads.correlation) for x in near)
        return replace(change, mornings=(before, after))

    def _named(self, m: StudyModel, place: int) -> tuple[str, str]:
        """Instrument and setting of a source."""
        item, setting = m.keys[place]
        found = self.snapshot.settings.get(setting)
        return self.snapshot.instruments[item].name, found.label if found is not None else ""

    def _points(self, m: StudyModel, course: Course, mine: Ints) -> tuple[SourcePoints, ...]:
        """Readings by source; those of a device are moved to lie about the course."""
        out, data = [], m.data
        for k in np.unique(data.source[mine]).tolist():
            at = np.flatnonzero(mine & (data.source == k))
            day, value = data.day[at], data.value[at]
            if k:  # every day of a reading is a day of the course
                value = value - (value - course.level[np.searchsorted(course.day, day)]).mean()
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


def judged(
    estimate: Estimate,
    days: tuple[int, int],
    margin: float | None,
    limits: tuple[float, ...] | None = None,
) -> Change:
    """A change between two days (ordinals) with its verdict.

    ``limits`` are the multiples of its SE for *real* and *likely* where the days were chosen after
    the course was seen; by default Student's t of the 95 and 80 % intervals.
    """
    if limits is not None:
        estimate = estimate.widened(limits[0])
    df = estimate.df if estimate.df is not None else math.inf
    real, likely = limits or (t_quantile(0.975, df), t_quantile(0.9, df))
    size = abs(estimate.value) / max(estimate.se or 0.0, 1e-12)
    return Change(
        estimate,
        *days,
        REAL if size > real else LIKELY if size > likely else NOISE,
        None if margin is None else beyond_margin(estimate, margin),
        limits is not None,
    )


def fixed_days(events: Iterable[Event], client: Client | None) -> frozenset[int]:
    """Ordinals of the days on which something was noted of a client, or of all clients."""
    own = [e for e in events if e.instrument is None and e.client in (None, client and client.id)]
    days = [day[:10] for e in own for day in (e.starts, e.ends) if day]
    return frozenset(date.fromisoformat(day).toordinal() for day in days)


def _estimate(value: float, sd: float, df: float, n: int) -> Estimate:
    return t_estimate(value, sd, df, n, "state-space")


def _goal_date(goal: float, course: Course, at: int, trend: Estimate, wide: float) -> GoalDate:
    """Days on which the goal is within the band of the level, from now on."""
    now, i = float(course.level[at]), trend.interval
    shown = i is not None and (i.low > 0 or i.high < 0)
    rising = trend.value > 0
    reached = abs(now - goal) < 0.05 or (shown and (now >= goal if rising else now <= goal))
    if not shown or reached:
        return GoalDate(goal, shown, reached, None, None)
    level, half = course.level[at:], wide * course.sd[at:]
    ahead = (level + half >= goal) if rising else (level - half <= goal)
    beyond = (level - half > goal) if rising else (level + half < goal)
    days = course.day[at:] + EPOCH
    if not ahead.any():
        return GoalDate(goal, shown, False, None, None)
    first, last = int(np.argmax(ahead)), int(np.argmax(beyond)) if beyond.any() else None
    return GoalDate(goal, shown, False, int(days[first]), None if last is None else int(days[last]))
