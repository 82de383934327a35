"""Has an instrument moved?

Slope, steps and a control chart of its difference through time, and weaker evidence between
anchors.
"""

from __future__ import annotations

import itertools
from collections.abc import Generator, Sequence
from dataclasses import dataclass, replace
from datetime import datetime

import numpy as np

from ...domain.events import CheckWeight, Event
from ...domain.instants import moment, zone_named
from ...domain.lens import Lens
from ...domain.metrics import metric_of
from ...domain.records import Instrument
from ...domain.snapshot import Columns, Floats, Ints, Snapshot, read_only
from ...stats.components import fit_nested
from ...stats.control_chart import Chart, control_chart
from ...stats.estimate import Estimate, Note, note
from ...stats.steps import RESAMPLES, Search, Step, find_steps
from ...stats.time_slope import (
    RobustSlope,
    TimeSlope,
    moments_apart,
    robust_slope,
    rounds_needed,
    straight_line,
)
from ...stats.variance_grid import occasion_means
from ..ask.content_key import ContentKey, content_key
from ..ask.question import Asked
from ..offsets.calibrate import EXPIRY_WEEKS
from ..pairs.comparator import CONSENSUS, CannotCompare, find_comparator, lens_for, others_of
from ..pairs.drift_or_response import (
    ClientsCourse,
    clients_course,
    drift_beside,
    without_clients_change,
)
from ..pairs.offset_drift import WEEK, periods_beside, slope_of
from ..pairs.pairing import DAY, PairSet, pair
from ..pairs.reference_slopes import scan_error, within_slope
from ..pairs.repeat_spread import outlying_repeats
from ..pairs.series import instrument_asked
from .other_devices import slope_beside_others

# deviance by which a slope or a step must fit better than the other to be named; at 2, where one
# has e times the support of the other (AIC), 4 % of steps of 1.5 pp were called a drift
TOLD_APART = 3.0
# the date of a step is chosen among many, which a slope is not: it must fit better by more
STEP_ALONE = 5.0
SHARES_TRIED = 3  # shares of the clients' change for which a movement is looked at again
STEADY, DRIFTING, STEPPED = "steady", "drifting", "stepped"
NOT_ENOUGH = "not enough anchors"
EITHER = "drift or step"  # it moved, and both explain that about as well
OPEN = "changes, cause open"  # its error changes; drift or a partial response, nobody can tell
MOVED = (DRIFTING, STEPPED)
USUAL_GAP = 12.0  # weeks between scans, where the study does not show them (common practice)


@dataclass(frozen=True, slots=True)
class Change:
    """A change of the instrument: the instant, what was changed, and whether it was its setting."""

    at: float
    words: str
    setting: bool


@dataclass(frozen=True, slots=True)
class DriftStep:
    """A step of the difference: its date, the scans around it, its size, p, and a known change."""

    at: str
    before: str
    after: str
    instant: float
    size: Estimate
    p: float
    change: Change | None


@dataclass(frozen=True, slots=True)
class Period:
    """A span with one setting: its label, and from when to when (instants)."""

    label: str
    start: float
    end: float


@dataclass(frozen=True, slots=True)
class SideEvidence:
    """A slope per week from elsewhere, with its p: ``what`` is consensus or check_weights."""

    what: str
    slope: Estimate
    p: float
    clients: int


@dataclass(frozen=True, eq=False)
class DriftResult:
    """The difference of one instrument through time.

    ``weeks``, ``instant``, ``client``, ``mean`` and ``centred`` (M,) are the anchors with pairs,
    in the order of clients: weeks since the first, when, whose, the mean difference, and that
    less the client's own part. ``slope`` is that of the difference; ``drift`` the part of it that
    the clients' own change does not explain; ``movement`` the verdict without regard to the
    clients' change, by which a device is no witness for others. ``verdict`` is one of STEADY,
    DRIFTING, STEPPED, EITHER, OPEN, NOT_ENOUGH: sentence, JSON and figure are made from it.
    ``bound`` is the slope per week that would matter in the life of an offset; ``not_following``
    holds how much of a client's change the device shows, where that, and no drift, explains what
    moves; ``needed`` the further anchors of each client until such a slope would show. ``key`` is
    the fingerprint of all that it depends on.
    """

    asked: Asked
    pairs: PairSet
    weeks: Floats
    instant: Floats
    client: Ints
    mean: Floats
    centred: Floats
    slope: TimeSlope | None
    robust: RobustSlope | None
    search: Search | None
    steps: tuple[DriftStep, ...]
    chart: Chart | None
    periods: tuple[Period, ...]
    changes: tuple[Change, ...]
    side: tuple[SideEvidence, ...]
    verdict: str
    not_following: Estimate | None
    bound: float | None
    needed: int | None
    notes: tuple[Note, ...]
    key: ContentKey = ()
    drift: Estimate | None = None
    movement: str = ""

    @property
    def instrument(self) -> Instrument:
        """Whose difference it is."""
        return self.pairs.instrument

    @property
    def metric(self) -> str:
        """Of what."""
        return self.pairs.metric


@dataclass(frozen=True, slots=True)
class DriftRequest:
    """Whether the difference between instruments and the reference changes through time.

    Parameters
    ----------
    snapshot : Snapshot
        The study at one revision, with the columns of the lens' metric.
    lens : Lens
        Metric, reference, clients, setting and pairing window.
    instrument : str
        Name of one instrument; empty for all that have the metric.
    events : tuple of Event
        Noted changes: of place, battery, firmware or client.
    weights : tuple of CheckWeight
        Readings of check weights.
    kept : tuple of DriftResult
        Earlier results. One with the same readings and the same question is not computed again.

    Raises
    ------
    CannotCompare
        From ``run``: no such instrument or reference, or no readings of the metric.
    """

    snapshot: Snapshot
    lens: Lens
    instrument: str = ""
    events: tuple[Event, ...] = ()
    weights: tuple[CheckWeight, ...] = ()
    kept: tuple[DriftResult, ...] = ()

    def run(self) -> Generator[float, None, tuple[DriftResult, ...]]:
        """Yield progress; return one result an instrument."""
        reference = find_comparator(self.snapshot, self.lens)
        items = others_of(self.snapshot, self.lens, reference)
        asked = [instrument_asked(self.snapshot, self.instrument)] if self.instrument else items
        if reference in asked:
            raise CannotCompare(f"{reference.name} is the comparator; choose another instrument")
        items = [
            *items,
            *(i for i in asked if i not in items),
        ]  # the others are looked at as well: who moves is no witness
        found = []
        for k, item in enumerate(items):
            lens = (
                self.lens
                if self.instrument and item in asked
                else lens_for(self.snapshot, self.lens, item)
            )
            found.append((self._kept_or_new(lens, item, reference), lens))
            yield (k + 1) / len(items)
        moving = [r.instrument for r, _ in found if _moves(r)]
        return tuple(
            self._with_witnesses(r, lens, moving) for r, lens in found if r.instrument in asked
        )

    def _kept_or_new(self, lens: Lens, item: Instrument, reference: Instrument) -> DriftResult:
        own = (
            [e for e in self.events if e.instrument == item.id],
            [w for w in self.weights if w.instrument == item.name],
        )
        # a consensus is made of all devices
        devices = (
            [i for i in self.snapshot.instruments.values() if i.kind == "device"]
            if reference.id == CONSENSUS.id
            else []
        )
        # when a setting began is seen in the readings of all metrics that are there
        changes = changes_of(self.snapshot, item, self.events)
        key = content_key(
            self.snapshot, lens, (item, reference, *devices), item.name, *own, changes
        )
        before = next((r for r in self.kept if r.key == key), None)
        if before is not None:
            return replace(before, asked=Asked(self.snapshot.revision, self.lens))
        return replace(self._of(pair(self.snapshot, lens, item, reference)), key=key)

    def _with_witnesses(
        self, r: DriftResult, lens: Lens, moving: Sequence[Instrument]
    ) -> DriftResult:
        """What other devices and check weights say beside the scans.

        ``moving`` are the devices that scans show to move.
        """
        others = [i for i in moving if i != r.instrument]
        beside = slope_beside_others(self.snapshot, lens, r.instrument, others)
        notes = [n for n in r.notes if n.code not in ("consensus_is_weaker", "movers_left_out")]
        if beside is not None:
            names = tuple(i.name for i in others if i.kind == "device" and not i.equation)
            notes += [
                note("consensus_is_weaker"),
                *([note("movers_left_out", names=names)] if names else []),
            ]
        found = (
            None if beside is None else SideEvidence("consensus", *beside),
            self._weights(r.pairs),
        )
        return replace(r, side=tuple(x for x in found if x is not None), notes=tuple(notes))

    def _stated(self, pairs: PairSet) -> float | None:
        return self.snapshot.catalogue.stated.get((pairs.metric, "reference_sd"))

    def _not_following(self, pairs: PairSet) -> Estimate | None:
        """Share of a client's change that an equation shows: a formula has nothing that drifts."""
        return within_slope(pairs, self._stated(pairs), None)

    def _course(self, pairs: PairSet) -> ClientsCourse | None:
        if pairs.reference.kind != "reference":
            return None
        return clients_course(pairs, scan_error(pairs, self._stated(pairs)))

    def _of(self, pairs: PairSet) -> DriftResult:
        notes = list(pairs.notes)
        changes = changes_of(self.snapshot, pairs.instrument, self.events)
        m = occasion_means(pairs.d, pairs.client, pairs.occasion) if pairs.n else None
        if m is None:
            empty = np.empty(0)
            notes.append(note("no_pairs", dropped=pairs.left_out.n))
            return DriftResult(
                asked=Asked(self.snapshot.revision, self.lens),
                pairs=pairs,
                weeks=empty,
                instant=empty,
                client=np.empty(0, dtype=np.int64),
                mean=empty,
                centred=empty,
                slope=None,
                robust=None,
                search=None,
                steps=(),
                chart=None,
                periods=(),
                changes=changes,
                side=(),
                verdict=NOT_ENOUGH,
                not_following=None,
                bound=None,
                needed=2,
                notes=tuple(notes),
            )
        instant = pairs.anchors.instant[m.occasions]
        at = (instant - instant.min()) / WEEK
        slope = slope_of(pairs)
        course = self._course(pairs)
        beside = drift_beside(slope.slope, course) if slope is not None else None
        known = tuple((c.at - float(instant.min())) / WEEK for c in changes)
        search = find_steps(m, at, pairs.d, pairs.client, pairs.occasion, known)
        raw = _verdict(slope.slope if slope is not None else None, search, None)
        told = search if raw != STEPPED else _surest(pairs, course, at, search, known)
        fit = fit_nested(pairs.d, pairs.client, pairs.occasion)
        chart = control_chart(m, at, fit) if fit is not None and moments_apart(at) > 1 else None
        own = (
            fit.blup[m.client_of]
            if fit is not None and fit.blup.size == m.clients.size
            else np.zeros(m.mean.size)
        )
        metric = metric_of(pairs.metric)
        margin = self.snapshot.catalogue.margin(metric)
        bound = margin / EXPIRY_WEEKS if margin is not None else None
        steps = tuple(self._step(s, float(instant.min()), changes) for s in search.steps)
        verdict = _verdict(beside, told, bound)
        shown = None
        if raw in MOVED and verdict not in MOVED and course is not None:
            # what moved can be the clients: it is where the device surely shows less than all
            if course.known and course.ends[1] < 0:
                shown, verdict = course.share.moved(1.0), DRIFTING
            else:
                verdict = OPEN
                notes.append(note("drift_or_response"))
        if pairs.instrument.equation and raw in MOVED:
            shown, verdict = self._not_following(pairs), DRIFTING
        if verdict in MOVED and shown is None and _either(search, steps):
            verdict = EITHER
        needed = _needed(pairs, slope, at, m.client_of, bound) if verdict == NOT_ENOUGH else None
        if periods_beside(pairs) is not None:
            notes.append(note("drift_within_periods"))
        if verdict in (DRIFTING, EITHER) and moments_apart(at) < 3:
            notes.append(note("drift_two_moments"))
        if chart is None:
            notes.append(note("no_control_chart"))
        return DriftResult(
            asked=Asked(self.snapshot.revision, self.lens),
            pairs=pairs,
            weeks=read_only(at, np.float64),
            instant=read_only(instant, np.float64),
            client=read_only(m.clients[m.client_of], np.int64),
            mean=m.mean,
            centred=read_only(m.mean - own, np.float64),
            slope=slope,
            robust=(
                robust_slope(m.mean, _in_periods(pairs, m.occasions, m.client_of), at)
                if moments_apart(at) > 1
                else None
            ),
            search=search,
            steps=steps,
            chart=chart,
            periods=periods_of(
                self.snapshot, pairs.instrument, float(instant.min()), float(instant.max())
            ),
            changes=changes,
            side=(),
            verdict=verdict,
            not_following=shown,
            drift=beside,
            movement=raw,
            bound=bound,
            needed=needed,
            notes=(*notes, *outlying_repeats(pairs, self.snapshot.catalogue)),
        )

    def _step(self, s: Step, start: float, changes: Sequence[Change]) -> DriftStep:
        zone = zone_named(self.snapshot.catalogue.zone)

        def day(weeks: float) -> str:
            return datetime.fromtimestamp(start + weeks * WEEK, zone).date().isoformat()

        change = changes[s.known] if s.known is not None else None
        instant = change.at if change is not None else start + s.after * WEEK
        at = datetime.fromtimestamp(instant, zone).date().isoformat()
        return DriftStep(at, day(s.before), day(s.after), instant, s.size, s.p, change)

    def _weights(self, pairs: PairSet) -> SideEvidence | None:
        """Readings of check weights.

        They test body mass; they say little about body fat.
        """
        zone = zone_named(self.snapshot.catalogue.zone)
        own = [w for w in self.weights if w.instrument == pairs.instrument.name]
        if len(own) < 3:
            return None
        weeks = np.array([moment(w.taken_at, zone, lenient=True).instant for w in own]) / WEEK
        found = straight_line(np.array([w.difference_kg for w in own]), weeks)
        return None if found is None else SideEvidence("check_weights", found[0], found[1], 0)


def _in_periods(pairs: PairSet, occasions: Ints, client_of: Ints) -> Ints:
    """Blocks of each client's scans, shape (M,), one for each setting.

    No slope runs across a change of setting.
    """
    setting = np.zeros(int(pairs.occasion.max()) + 1, dtype=np.int64)
    setting[pairs.occasion] = pairs.setting
    return client_of * (int(pairs.setting.max()) + 1) + setting[occasions]


def _moves(r: DriftResult) -> bool:
    """Whether scans show that a device moves, other than by a change of its setting."""
    stepped = any(s.change is None or not s.change.setting for s in r.steps)
    return r.movement == DRIFTING or (r.movement == STEPPED and stepped)


def _either(search: Search, steps: tuple[DriftStep, ...]) -> bool:
    """Whether a drift and a step explain a movement about as well; a noted change tells a step."""
    known = bool(steps) and steps[0].change is not None
    least = STEP_ALONE if steps else TOLD_APART
    return not known and search.lead is not None and search.lead < least


def _surest(
    pairs: PairSet,
    course: ClientsCourse | None,
    at: Floats,
    search: Search,
    known: tuple[float, ...],
) -> Search:
    """The search with the largest p over what the clients' change can explain."""
    if course is None:
        return search
    p = search.p
    # at both ends too much or too little is taken off, and the movement is explained between them
    middle, (low, high) = course.share.value, course.ends
    if course.known:  # about one standard error to each side
        low, high = (low + middle) / 2, (high + middle) / 2
    for share in np.linspace(low, high, SHARES_TRIED).tolist():
        d = without_clients_change(pairs, course, share)
        m = occasion_means(d, pairs.client, pairs.occasion)
        again = find_steps(m, at, d, pairs.client, pairs.occasion, known, resamples=RESAMPLES // 4)
        if p is not None:
            p = 1.0 if again.p is None else max(p, again.p)
    return replace(search, p=p)


def _verdict(slope: Estimate | None, search: Search, bound: float | None) -> str:
    """One word.

    Moved only where the search over slope and steps together says so; steady only where a slope
    that matters is ruled out.
    """
    if search.p is not None and search.p < 0.05:
        if search.steps:
            return STEPPED
        i = slope.interval if slope is not None else None
        if i is not None and (i.low > 0 or i.high < 0):
            return DRIFTING
    if slope is None or slope.interval is None or search.p is None:
        return NOT_ENOUGH
    i = slope.interval
    if bound is not None and max(-i.low, i.high) > bound:
        return NOT_ENOUGH
    return STEADY


def _needed(
    pairs: PairSet, slope: TimeSlope | None, at: Floats, client_of: Ints, bound: float | None
) -> int | None:
    """Further anchors of each client until the slope is known well enough (None: years).

    Up to three where the spread is not known yet.
    """
    per = np.bincount(client_of)
    anchors = float(np.median(per))
    gaps = np.diff(at)[np.diff(client_of) == 0]
    gap = float(np.median(gaps[gaps > 0])) if (gaps > 0).any() else USUAL_GAP
    fit = fit_nested(pairs.d, pairs.client, pairs.occasion)
    repeats = pairs.n / max(at.size, 1)
    if slope is None or fit is None or bound is None or at.size <= per.size:
        return max(3 - int(anchors), 1)
    sd = float(np.sqrt(fit.variances[1] + fit.variances[2] / repeats))
    return rounds_needed(sd, per.size, anchors, gap, bound) if sd > 0 else 1


def changes_of(snapshot: Snapshot, item: Instrument, events: Sequence[Event]) -> tuple[Change, ...]:
    """Changes of setting for all clients, and events of the instrument, in the order of time.

    The first setting is a change where the instrument was read under none before.
    """
    zone = zone_named(snapshot.catalogue.zone)
    found = [
        Change(float(moment(e.starts, zone, lenient=True).instant), e.kind, setting=False)
        for e in events
        if e.instrument == item.id
    ]
    spans = sorted(
        (s.starts, s.label) for s in snapshot.catalogue.settings_of(item.id) if s.client is None
    )
    if spans and any(
        _unset_before(c, item, float(moment(spans[0][0], zone, lenient=True).instant))
        for c in snapshot.columns.values()
    ):
        spans.insert(0, ("", ""))  # read without a setting before
    for (_, old), (starts, new) in itertools.pairwise(spans):
        if new != old:
            found.append(
                Change(float(moment(starts, zone, lenient=True).instant), new, setting=True)
            )
    return tuple(sorted(found, key=lambda c: c.at))


def _unset_before(c: Columns, item: Instrument, start: float) -> bool:
    """Whether the instrument was read under no setting before its first one began."""
    return bool(((c.instrument == item.id) & (c.setting == 0) & (c.instant < start - DAY)).any())


def periods_of(
    snapshot: Snapshot, item: Instrument, start: float, end: float
) -> tuple[Period, ...]:
    """Periods of the settings in force for all clients, between the first and the last scan."""
    zone = zone_named(snapshot.catalogue.zone)
    spans = sorted(
        (float(moment(s.starts, zone, lenient=True).instant), s.label)
        for s in snapshot.catalogue.settings_of(item.id)
        if s.client is None
    )
    ends = [*(at for at, _ in spans[1:]), np.inf] if spans else []
    return tuple(
        Period(label, max(at, start), min(to, end))
        for (at, label), to in zip(spans, ends, strict=True)
        if to > start and at < end
    )
