"""One client through time: raw and corrected values, weekly means, change between two dates."""

from __future__ import annotations

import math
from collections.abc import Generator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from ...domain.calibrations import CalibrationRecord
from ...domain.events import Event
from ...domain.lens import Lens
from ...domain.metrics import metric_named
from ...domain.records import Client
from ...domain.snapshot import Floats, Ints, Snapshot, read_only
from ...stats.distributions import normal_quantile, t_quantile
from ...stats.estimate import Estimate, Interval, Note, note
from ...stats.one_client import Verdict, around, rate_of, verdict
from ..ask.question import Asked
from ..pairs.comparator import CannotCompare, find_comparator, lens_for, no_client, readers_of
from ..people.cautions import cautions_of, essential_fat
from ..people.fat_ranges import Placed, placed
from ..people.withheld import withheld
from ..review.held_back import HeldBack, held_back
from .best_estimate import NEAR, BestEstimateRequest, fixed_days
from .best_estimate_result import BestEstimateResult
from .client_series import Days, TrackSeries, client_days, track_series
from .held_readings import Findings, Held, held_of
from .study_model import WEEKS_BACK

MASS = "body_mass"
GIRTHS = ("girth_waist", "girth_waist_navel", "girth_waist_narrowest", "girth_hip")
FALL_PERCENT = 1.0  # of body mass a week: faster is cautioned against (common practice)
MASS_DAYS = 42  # days that the rate of body mass is taken from


@dataclass(frozen=True, slots=True)
class DeviceChange:
    """What one instrument alone reports about a change.

    ``why`` it counts for nothing, "" where it counts: no_dates, few (too few readings to know its
    noise), settings (another one at each date), stuck, and those of ``shared_inputs``.
    """

    instrument: str
    verdict: Verdict | None
    why: str


@dataclass(frozen=True, eq=False)
class TrackResult:
    """One client in one metric.

    ``best`` is what all sources tell, None where they cannot be combined, for the reason
    ``apart``. ``chosen`` is the instrument that is shown alone ("" where none), ``change`` what it
    reports; anchors are days and means of scans (a,). ``opinions`` are the girths. ``held`` are
    readings that wait for a decision in Review: nothing here counts them.
    ``measured`` are the first and last day with a reading. ``questioned`` are readings about one of
    the two dates that differ from the client's history: they count.
    """

    asked: Asked
    client: Client
    metric: str
    chosen: str
    series: tuple[TrackSeries, ...]
    anchor_day: Ints
    anchor_value: Floats
    events: tuple[Event, ...]
    since: int
    until: int
    best: BestEstimateResult | None
    apart: str
    change: Verdict | None
    devices: tuple[DeviceChange, ...]
    goal: float | None
    mass_rate: Estimate | None
    opinions: tuple[BestEstimateResult, ...]
    held: tuple[Held, ...]
    questioned: tuple[Held, ...]
    place: Placed | None
    measured: tuple[int, int]
    cautions: tuple[Note, ...]
    water: str
    water_offered: bool
    notes: tuple[Note, ...]

    def named(self, name: str) -> TrackSeries | None:
        """The series of an instrument."""
        return next((s for s in self.series if s.instrument.name == name), None)

    def in_review(self, *, alone: bool) -> tuple[tuple[Held, ...], tuple[Held, ...]]:
        """Readings that wait, and those in doubt, of what is told.

        ``alone``: of the instrument that is shown and of the scan; else of all sources that count.
        """
        if alone or self.best is None:
            names = {self.chosen, self.best.anchor if self.best is not None else ""}
            held = tuple(x for x in self.held if x.name in names)
        else:
            names, held = {x.name for x in self.best.sources if not x.why}, self.held
        return held, tuple(x for x in self.questioned if x.name in names)


@dataclass(frozen=True, slots=True)
class TrackRequest:
    """One client through time in one metric.

    Parameters
    ----------
    snapshot : Snapshot
        The study at one revision, with the metric, body mass, body water and girths.
    lens : Lens
        Metric, reference and setting.
    client : str
        Code of the client.
    records : tuple of CalibrationRecord
        Calibrations in force.
    stale : frozenset of int
        Numbers of those whose readings have changed since.
    events : tuple of Event
        Noted changes.
    planned : frozenset of int
        Ordinals of planned days that were fixed beforehand.
    instrument : str
        Name of the instrument shown; empty for the first.
    since, until : int, optional
        Ordinals of the two dates; by default the last four weeks, or the first and last day.
    whole : bool
        Whether it is the first and last day where no dates are asked about.
    water : {"off", "rule", "slope"}
        How readings are corrected for body water.
    goal : float, optional
        Target value, in the metric's unit.
    today : str
        Today's date (ISO), for age and validity.

    Raises
    ------
    CannotCompare
        From ``run``: nothing can be shown, or a caution forbids it.
    """

    snapshot: Snapshot
    lens: Lens
    client: str
    records: tuple[CalibrationRecord, ...] = ()
    stale: frozenset[int] = frozenset()
    events: tuple[Event, ...] = ()
    planned: frozenset[int] = frozenset()
    instrument: str = ""
    since: int | None = None
    until: int | None = None
    whole: bool = True
    water: str = "off"
    goal: float | None = None
    today: str = ""

    def run(self) -> Generator[float, None, TrackResult]:
        """Yield progress; return the result.

        Raises CannotCompare where nothing may or can be shown.
        """
        client = self.snapshot.catalogue.client_coded(self.client)
        if client is None:
            raise CannotCompare(no_client(self.client))
        why = withheld(client, self.lens.metric)
        if why:
            raise CannotCompare(why)
        waiting = self._held_back(self.lens.metric)
        counted = self._counted(waiting)
        series, notes = [], list[Note]()
        items = [i for i in readers_of(self.snapshot, self.lens.metric) if i.kind != "reference"]
        offered = False
        for k, item in enumerate(items):
            found, may = track_series(
                self.snapshot,
                counted,
                lens_for(self.snapshot, self.lens, item),
                item,
                client,
                self.records,
                self.stale,
                self.water,
            )
            offered |= may
            if found is not None:
                series.append(found)
            yield 0.9 * (k + 1) / len(items)
        anchor_day, anchor_value = self._anchors(counted, client)
        held = self._named(client, waiting.findings if waiting is not None else ())
        if not series and not anchor_day.size and held:
            raise CannotCompare(f"{client.code}: all readings wait for a decision in Review")
        if not series and not anchor_day.size:
            raise CannotCompare(f"{client.code} has no readings of this metric")
        days = np.unique(np.concatenate([anchor_day, *(s.day for s in series)]))
        since, until = self._dates(int(days[0]), int(days[-1]))
        fixed = fixed_days(self.events, client) | self.planned
        asked = (since, until) if self.whole or self.since is not None else (None, self.until)
        best, apart = yield from self._best(self.lens.metric, asked, fixed, self.goal)
        if best is not None:
            since, until = best.change.since, best.change.until
            fixed = fixed if best.change.picked else fixed | {since, until}
        opinions = []
        for metric in GIRTHS:
            if metric != self.lens.metric and readers_of(self.snapshot, metric):
                found_girth, _ = yield from self._best(metric, (since, until), fixed)
                opinions += [] if found_girth is None else [found_girth]
        result = self._result(
            client,
            tuple(series),
            (anchor_day, anchor_value),
            (since, until),
            (best, apart, tuple(opinions)),
            measured=(int(days[0]), int(days[-1])),
            held=held,
            questioned=tuple(
                x
                for x in self._named(client, waiting.questioned if waiting is not None else ())
                if min(abs(x.day - since), abs(x.day - until)) <= NEAR
            ),
            offered=offered,
            notes=notes,
        )
        yield 1.0
        return result

    def _dates(self, first: int, last: int) -> tuple[int, int]:
        until = last if self.until is None else self.until
        since = first if self.whole else last - 7 * WEEKS_BACK
        since = since if self.since is None else self.since
        return min(since, until), max(since, until)

    def _best(
        self,
        metric: str,
        dates: tuple[int | None, int | None],
        fixed: frozenset[int],
        goal: float | None = None,
    ) -> Generator[float, None, tuple[BestEstimateResult | None, str]]:
        """What all sources tell of the change, or why they cannot be combined."""
        since, until = dates
        one = since is not None and since == until  # the last four weeks then
        asked = BestEstimateRequest(
            self.snapshot,
            replace(self.lens, metric=metric) if metric == self.lens.metric else Lens(metric),
            self.client,
            None if one else since,
            None if one else until,
            fixed,
            goal,
            self.today,
        )
        try:
            return (yield from asked.run()), ""
        except CannotCompare as error:
            return None, str(error)

    def _held_back(self, metric: str) -> HeldBack | None:
        """What Review says of the readings of a metric; None without any."""
        return held_back(self.snapshot, metric) if metric in self.snapshot.columns else None

    def _counted(self, held: HeldBack | None) -> Snapshot:
        """The study without the readings that wait for a decision in Review."""
        if held is None:
            return self.snapshot
        columns = {**self.snapshot.columns, held.columns.metric: held.columns}
        return replace(self.snapshot, columns=columns)

    def _named(self, client: Client, findings: Findings) -> tuple[Held, ...]:
        """Readings of the client that findings are about."""
        return held_of(self.snapshot, self.lens.metric, findings, client.id) if findings else ()

    def _anchors(self, counted: Snapshot, client: Client) -> tuple[Ints, Floats]:
        try:
            reference = find_comparator(self.snapshot, self.lens)
        except CannotCompare:
            return read_only([], np.int64), np.empty(0)
        found = (
            client_days(counted, reference, self.lens.metric, client)
            if reference.kind == "reference"
            else None
        )
        return (read_only([], np.int64), np.empty(0)) if found is None else (found.day, found.value)

    # what they say
    def _result(
        self,
        client: Client,
        series: tuple[TrackSeries, ...],
        anchors: tuple[Ints, Floats],
        dates: tuple[int, int],
        combined: tuple[BestEstimateResult | None, str, tuple[BestEstimateResult, ...]],
        *,
        measured: tuple[int, int],
        held: tuple[Held, ...],
        questioned: tuple[Held, ...],
        offered: bool,
        notes: list[Note],
    ) -> TrackResult:
        (since, until), (best, apart, opinions) = dates, combined
        hand = next(
            (s for s in series if s.instrument.name == self.instrument),
            series[0] if series else None,
        )
        metric = metric_named(self.lens.metric)
        target = self.snapshot.catalogue.margin(metric) if metric is not None else None
        change = self._between(hand, since, until, target) if hand is not None else None
        mass_rate = self._mass_rate(client)
        sex, age = client.sex, self._age(client)
        cautions = [c.note for c in cautions_of(client, self.today)]
        if hand is not None and hand.day.size:
            warned = essential_fat(
                self.lens.metric,
                sex,
                float(hand.raw[-1]),
                float(hand.value[-1]),
                float(hand.low[-1]),
            )
            cautions += [warned] if warned is not None else []
        if best is not None and best.value.interval is not None:
            level = best.value.value
            warned = essential_fat(self.lens.metric, sex, level, level, best.value.interval.low)
            cautions += [warned] if warned is not None else []
        if (
            mass_rate is not None
            and mass_rate.interval is not None
            and mass_rate.value < -FALL_PERCENT
        ):
            # a few weighings scatter too much to act on: only a whole interval beyond the limit
            # sends to licensed staff, anything less asks for weighings first
            i = mass_rate.interval
            facts = {"rate": -mass_rate.value, "low": -i.high, "high": -i.low, "most": FALL_PERCENT}
            sure = i.high < -FALL_PERCENT
            cautions.append(note("fast_fall", **facts) if sure else note("fall_not_sure", **facts))
        if (
            hand is not None
            and not hand.counts
            and hand.follows is not None
            and hand.follows.interval is not None
        ):
            f, i = hand.follows, hand.follows.interval
            notes.append(
                note(
                    "stuck_device", name=hand.instrument.name, slope=f.value, low=i.low, high=i.high
                )
            )
        if hand is not None and hand.moved is None and not hand.instrument.equation:
            notes.append(note("drift_not_known", name=hand.instrument.name))
        if self.water != "off" and not offered:
            notes.append(note("no_water_correction"))
        place = None
        if best is not None and best.scans and best.value.interval is not None:
            place = placed(self.lens.metric, sex, age, best.value.value, best.value.interval)
        elif hand is not None and hand.day.size and bool(hand.corrected[-1]):
            place = placed(
                self.lens.metric,
                sex,
                age,
                float(hand.value[-1]),
                Interval(float(hand.low[-1]), float(hand.high[-1])),
            )
        return TrackResult(
            asked=Asked(self.snapshot.revision, self.lens),
            client=client,
            metric=self.lens.metric,
            chosen=hand.instrument.name if hand is not None else "",
            series=series,
            anchor_day=anchors[0],
            anchor_value=anchors[1],
            events=tuple(
                e for e in self.events if e.instrument is None and e.client in (None, client.id)
            ),
            since=since,
            until=until,
            best=best,
            apart=apart,
            change=change,
            devices=self._devices(series, best, since, until, target),
            goal=self.goal,
            mass_rate=mass_rate,
            opinions=opinions,
            held=held,
            questioned=questioned,
            place=place,
            measured=measured,
            cautions=tuple(dict.fromkeys(cautions)),
            water=self.water if offered else "off",
            water_offered=offered,
            notes=tuple(dict.fromkeys((*notes, *(hand.notes if hand is not None else ())))),
        )

    def _between(
        self, s: TrackSeries, since: int, until: int, target: float | None
    ) -> Verdict | None:
        """What one instrument reports about the change between two days.

        None without readings at both, or across a change of setting.
        """
        a, b = around(s.day, since), around(s.day, until)
        if s.noise is None or not a.size or not b.size or np.intersect1d(a, b).size:
            return None
        both = np.concatenate([a, b])
        if not s.corrected[both].all() and np.unique(s.setting[both]).size > 1:
            return None
        if s.corrected[both].any() and not s.corrected[both].all():
            first, second = s.raw[a], s.raw[b]
        else:
            first, second = s.value[a], s.value[b]
        return verdict(first, second, s.noise, target, _moved(s, a, b))

    def _devices(
        self,
        series: Sequence[TrackSeries],
        best: BestEstimateResult | None,
        since: int,
        until: int,
        target: float | None,
    ) -> tuple[DeviceChange, ...]:
        """What each instrument alone reports, and why it counts for nothing where it does."""
        silent = (
            {} if best is None else {x.name: x.why for x in best.sources if x.why and not x.days}
        )
        out = []
        for s in series:
            v = self._between(s, since, until, target)
            why = "stuck" if not s.counts else _why_silent(s, since, until) if v is None else ""
            out.append(DeviceChange(s.instrument.name, v, why or silent.get(s.instrument.name, "")))
        return tuple(out)

    def _mass_rate(self, client: Client) -> Estimate | None:
        """Change of body mass in percent a week over the last six weeks.

        From the scale with the most readings.
        """
        best: Days | None = None
        items = readers_of(self.snapshot, MASS)
        counted = self._counted(self._held_back(MASS))
        for item in items:
            found = client_days(counted, item, MASS, client)
            if found is not None and (best is None or found.day.size > best.day.size):
                best = found
        if best is None:
            return None
        recent = best.day >= best.day[-1] - MASS_DAYS
        rate = rate_of(best.day[recent], best.value[recent], least_days=4, least_span=14)
        if rate is None or rate.per_week.interval is None:
            return None
        scale = 100 / float(best.value[recent].mean())
        return rate.per_week.scaled(scale)

    def _age(self, client: Client) -> float | None:
        v = self.snapshot.visits
        own = np.flatnonzero(v.client == client.id)
        if not own.size:
            return None
        age = float(v.age_years[own[v.instant[own].argmax()]])
        return None if np.isnan(age) else age


def level_series(r: TrackResult) -> TrackSeries | None:
    """The series that gives the level: corrected and responding first, then the longest."""

    def rank(s: TrackSeries) -> tuple[bool, bool, float, int]:
        known = bool(s.corrected[-1])
        width = float(s.high[-1] - s.low[-1]) if known else 0.0
        return known, s.counts and not s.instrument.equation, -width, s.day.size

    return max((s for s in r.series if s.day.size), key=rank, default=None)


def _why_silent(s: TrackSeries, since: int, until: int) -> str:
    """Why an instrument reports nothing about a change between two days."""
    a, b = around(s.day, since), around(s.day, until)
    if not a.size or not b.size or np.intersect1d(a, b).size:
        return "no_dates"
    return "few" if s.noise is None else "settings"


def _moved(s: TrackSeries, a: Ints, b: Ints) -> tuple[float, float]:
    """Drift of the device between two spans of days, and its SD.

    Only the uncertainty where no slope is shown. Where the clients' own change can explain the
    slope as well, all from nothing to the whole of it is taken as equally likely.
    """
    m = s.moved
    if (
        m is None or m.slope.se is None or m.slope.df is None or not s.counts
    ):  # of a device that is stuck it is the clients who moved
        return 0.0, 0.0
    weeks = float(s.day[b].mean() - s.day[a].mean()) / 7
    # as the SD of a normal error with the same 95 % interval, since few degrees of freedom widen
    # the slope's
    sd = m.slope.se * t_quantile(0.975, m.slope.df) / normal_quantile(0.975)
    whole, sd = m.slope.value * weeks, sd * abs(weeks)
    if m.drifts or not m.found or s.instrument.equation:  # a formula has nothing that drifts
        return (whole if m.drifts else 0.0), sd
    return whole / 2, math.hypot(sd, whole / math.sqrt(12))
