"""What to subtract: pooled and client offsets, whether correcting helps, and whether the device can show change."""

from __future__ import annotations

import math
from collections.abc import Generator
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from itertools import chain

import numpy as np

from ..domain.catalogue import Catalogue
from ..domain.errors import UserError
from ..domain.instants import zone_named
from ..domain.lens import Lens
from ..domain.metrics import metric_named
from ..domain.records import CalibrationRecord, MadeOf
from ..domain.snapshot import OK, Snapshot
from ..stats.distributions import t_interval
from ..stats.estimate import Estimate, Floats, Interval, Note, note
from ..stats.offsets import PooledOffset, client_offsets, day_to_day, pooled_from_grid, pooled_from_single, pooled_from_stated
from ..stats.validation import CrossValidation, cross_validate
from ..stats.variance_grid import OccasionMeans, VarianceGrid, leave_out, occasion_means
from .calibration_record import fingerprint, rows_of
from .comparator import CannotCompare, find_comparator, others_of
from .compare import CompareResult, compare_pairs, lens_for
from .movement import Movement, movement
from .pairing import PairSet, pair
from .question import Asked

EXPIRY_WEEKS = 16
LEAST_CLIENTS = 3  # from which on a spread between clients can be told, and leaving out clients means something
BMI_EQUATION = "bmi_deurenberg_1991"


@dataclass(frozen=True, slots=True)
class ClientOffset:
    """Offset of one client: what is subtracted, its interval and SD, anchors, shrinkage; ``new`` holds a new reading's difference."""

    client: str
    offset: float
    interval: Interval
    sd: float
    n: int
    shrinkage: float
    new: Interval


@dataclass(frozen=True, eq=False)
class CalibrateResult:
    """Offsets of one instrument; ``model`` is what cross-validation chose: 'none', 'pooled' or 'client'.

    ``offer`` is the model that can be adopted all the same ('' when there is none). ``advice_code`` is none, level_only,
    level_and_change or not_enough. ``within_slope`` is the slope of the device on the scan within clients: near 1 it follows, near 0
    it does not. ``sources`` names the readings behind the offsets and ``digest`` fingerprints those, so that what is adopted is
    what was computed. ``valid_until`` is empty where nothing can be adopted, for instance under a drift.
    """

    asked: Asked
    comparison: CompareResult
    model: str
    offer: str
    pooled: PooledOffset | None
    clients: tuple[ClientOffset, ...]
    cross_validation: CrossValidation | None
    within_slope: Estimate | None
    movement: Movement | None
    range: tuple[float, float] | None
    valid_until: str
    advice_code: str
    provisional: bool
    client_sd: float | None
    sources: tuple[str, ...]
    digest: str
    notes: tuple[Note, ...]


@dataclass(frozen=True, slots=True)
class CalibrateRequest:
    """Offsets of all instruments that have the metric, or of the one named."""

    snapshot: Snapshot
    lens: Lens
    instrument: str = ""
    reference_sd: float | None = None
    client_sd: float | None = None

    def run(self) -> Generator[float, None, tuple[CalibrateResult, ...]]:
        """Yield progress; return one result an instrument."""
        reference = find_comparator(self.snapshot, self.lens)
        if reference.kind != "reference":
            raise CannotCompare(
                f"offsets are derived from a reference, and {reference.name} is none: it would hand on its own error"
            )
        items = others_of(self.snapshot, self.lens, reference)
        if self.instrument:
            item = self.snapshot.instrument_named(self.instrument)
            if item is None:
                raise CannotCompare(f'no instrument is called "{self.instrument}"')
            if item.id == reference.id:
                raise CannotCompare(f"{item.name} is the reference; choose another instrument")
            items = [item]
        asked = Asked(self.snapshot.revision, self.lens)
        out = []
        for k, item in enumerate(items):
            lens = self.lens if self.instrument else lens_for(self.snapshot, self.lens, item)
            pairs = pair(self.snapshot, lens, item, reference)
            compared = compare_pairs(asked, pairs, lens, self.snapshot.catalogue, reference_sd=self.reference_sd)
            out.append(calibrate(compared, self.snapshot, self.client_sd))
            yield (k + 1) / len(items)
        return tuple(out)


def calibrate(comparison: CompareResult, snapshot: Snapshot, client_sd: float | None = None) -> CalibrateResult:
    """Offsets from one comparison, and the simplest model that cross-validation supports.

    ``client_sd`` states the spread between clients where too few clients were scanned to show one; default: as stated in the study.
    """
    pairs, bias = comparison.pairs, comparison.bias
    scans = rows_of(snapshot, pairs.metric, chain.from_iterable(pairs.reference_rows.values()))
    sources, digest = fingerprint(snapshot, pairs.metric, np.union1d(pairs.row, scans))
    nothing = CalibrateResult(
        asked=comparison.asked,
        comparison=comparison,
        model="none",
        offer="",
        pooled=None,
        clients=(),
        cross_validation=None,
        within_slope=None,
        movement=None,
        range=None,
        valid_until="",
        advice_code="not_enough",
        provisional=False,
        client_sd=None,
        sources=sources,
        digest=digest,
        notes=() if pairs.n else (note("no_pairs", dropped=pairs.left_out.n),),
    )
    if bias is None:
        return nothing
    notes: list[Note] = []
    stated = client_sd if client_sd is not None else snapshot.catalogue.stated.get((pairs.metric, "client_sd"))
    pooled, used = _pooled(comparison, bias, stated, notes)
    clients = _clients(comparison, snapshot, notes)
    provisional = False
    if not clients:
        clients = _provisional(comparison, snapshot, notes)
        provisional = bool(clients)
    validated = _validated(comparison, snapshot, has_own=bool(clients) and not provisional)
    within = comparison.reference_trend.within if comparison.reference_trend is not None else None
    slope = None
    if within is not None and within.slope.interval is not None:
        s = within.slope
        slope = Estimate(1 + s.value, Interval(1 + s.interval.low, 1 + s.interval.high), s.n, s.method)  # type: ignore[union-attr]
    moved = movement(pairs)
    model = validated.model if validated is not None else "none"
    if model == "pooled" and bias.interval is not None and bias.interval.low <= 0 <= bias.interval.high:
        model = "none"  # what the data cannot tell from nothing is not corrected
    if validated is not None and model != validated.model:
        validated = replace(validated, model=model, after=validated.before)
    offer = _offer(model, validated, pooled, clients)
    until, late = _valid_until(comparison, moved, snapshot)
    if late:
        notes.append(note("drift_forbids", slope=f"{moved.slope.value:+.2f}" if moved else "", unit=_unit(pairs)))
    elif moved is not None and moved.found:
        notes.append(note("drift_shortens", slope=f"{moved.slope.value:+.2f}", unit=_unit(pairs), until=until))
    return replace(
        nothing,
        model=model,
        offer=offer,
        pooled=pooled,
        clients=clients,
        cross_validation=validated,
        within_slope=slope,
        movement=moved,
        range=_range(pairs.y),
        valid_until=until if offer else "",
        advice_code=_advice(model, validated, slope),
        provisional=provisional,
        client_sd=used,
        notes=tuple(notes),
    )


def _unit(pairs: PairSet) -> str:
    metric = metric_named(pairs.metric)
    return metric.difference_unit if metric is not None else ""


def _range(y: Floats) -> tuple[float, float]:
    """Mean ± 2 SD of the readings; with one value any other reading is an extrapolation."""
    spread = 2 * float(y.std(ddof=1)) if y.size > 1 else 0.0
    return float(y.mean()) - spread, float(y.mean()) + spread


def _pooled(c: CompareResult, bias: Estimate, stated: float | None, notes: list[Note]) -> tuple[PooledOffset, float | None]:
    """The offset for anybody, and the stated spread where it was needed."""
    pairs = c.pairs
    if c.fit is None:
        if pairs.clients >= LEAST_CLIENTS:
            notes.append(note("client_offset_needs_repeats"))
            return pooled_from_single(pairs.d, bias, c.sd), None
    elif pairs.clients >= LEAST_CLIENTS:
        if c.grid is None:
            own = np.asarray(c.fit.beta[0] + c.fit.blup, dtype=float)
            return pooled_from_single(own, bias, float(own.std(ddof=1))), None
        return pooled_from_grid(c.grid, bias), None
    if stated is not None and c.fit is not None and pairs.n > pairs.clients:
        notes.append(note("spread_stated", sd=f"{stated:g}", clients=pairs.clients))
        return pooled_from_stated(c.fit, bias, stated), stated
    notes.append(note("no_spread", clients=pairs.clients))
    return PooledOffset(bias, None), None


def _clients(c: CompareResult, snapshot: Snapshot, notes: list[Note]) -> tuple[ClientOffset, ...]:
    """Each client's own offset, where some client has more than one anchor."""
    pairs, fit = c.pairs, c.fit
    if fit is None:
        return ()
    if pairs.occasions == pairs.clients:
        if pairs.clients > 1:
            notes.append(note("client_offset_needs_anchors"))
        return ()
    o = client_offsets(fit, c.grid)
    return tuple(
        ClientOffset(
            client=snapshot.clients[int(k)].code,
            offset=float(o.offset[i]),
            interval=Interval(float(o.low[i]), float(o.high[i])),
            sd=float(o.sd[i]),
            n=int(o.occasions[i]),
            shrinkage=float(o.shrinkage[i]),
            new=Interval(float(o.new_low[i]), float(o.new_high[i])),
        )
        for i, k in enumerate(o.clients)
    )


def _provisional(c: CompareResult, snapshot: Snapshot, notes: list[Note]) -> tuple[ClientOffset, ...]:
    """One client, one scan and many mornings: the offset on that day, with the day-to-day spread and the scan's stated precision."""
    pairs = c.pairs
    if pairs.clients != 1 or pairs.occasions != 1:
        return ()
    columns = snapshot.columns[pairs.metric]
    own = np.flatnonzero(
        (columns.instrument == pairs.instrument.id)
        & (columns.client == pairs.client[0])
        & (columns.status == OK)
        & np.isin(columns.setting, np.unique(pairs.setting))
    )
    mornings = occasion_means(columns.value[own], columns.visit[own] * 0, columns.visit[own])
    first = np.full(mornings.occasions.size, np.iinfo(np.int64).max)
    np.minimum.at(first, np.searchsorted(mornings.occasions, columns.visit[own]), columns.instant[own])
    series = mornings.mean[np.argsort(first)]
    days = day_to_day(series, np.zeros(series.size, dtype=np.int64))
    if days is None:
        notes.append(note("one_scan_needs_mornings", mornings=series.size))
        return ()
    error = c.reference_trend.reference if c.reference_trend is not None else None
    if error is None or error.source == "none":
        notes.append(note("one_scan_needs_precision"))
        return ()
    sd_day, df = days
    at_scan = np.unique(pairs.visit).size  # the mornings that the lens averages around the scan
    scans = int(pairs.anchors.n[pairs.occasion[0]])
    variance = sd_day**2 / at_scan + error.sd**2 / scans
    offset = float(np.mean(pairs.d))
    sd, new = math.sqrt(variance), math.sqrt(variance + sd_day**2)
    notes.append(note("one_scan_provisional", mornings=series.size))
    code = snapshot.clients[int(pairs.client[0])].code
    return (ClientOffset(code, offset, t_interval(offset, sd, df), sd, 1, 1.0, t_interval(offset, new, df)),)


def _validated(c: CompareResult, snapshot: Snapshot, *, has_own: bool) -> CrossValidation | None:
    """Errors on left-out occasions beside the baselines; None below LEAST_CLIENTS clients."""
    pairs = c.pairs
    if pairs.clients < LEAST_CLIENTS:
        return None
    means = occasion_means(pairs.d, pairs.client, pairs.occasion)
    pooled, own = _left_out(means, c.grid)
    x = pairs.anchors.mean[means.occasions]
    instant = pairs.anchors.instant[means.occasions]
    equation = _bmi_values(pairs, means, snapshot)
    return cross_validate(means.mean, x, means.clients[means.client_of], instant, pooled, own if has_own else None, equation)


def _left_out(means: OccasionMeans, grid: VarianceGrid | None) -> tuple[Floats, Floats]:
    """Differences predicted without the client, and without the occasion."""
    left = leave_out(grid) if grid is not None else None
    if left is not None:
        return left.pooled, left.own
    # one pair a client, or nothing varies under the clients
    n = means.per_client(np.ones(means.mean.size))
    person = means.per_client(means.mean) / n
    others = ((person.sum() - person) / (person.size - 1))[means.client_of]
    rest = n[means.client_of] - 1
    alone = np.where(rest > 0, (means.per_client(means.mean)[means.client_of] - means.mean) / np.maximum(rest, 1), others)
    return others, alone


def _bmi_values(pairs: PairSet, means: OccasionMeans, snapshot: Snapshot) -> Floats | None:
    """The BMI-only equation at the visit of each occasion's readings; None where the study has none, or it is what is judged."""
    item = next((i for i in snapshot.instruments.values() if i.equation == BMI_EQUATION), None)
    if item is None or item.id == pairs.instrument.id or pairs.instrument.equation.startswith("bmi_"):
        return None
    c = snapshot.columns[pairs.metric]
    rows = np.flatnonzero((c.instrument == item.id) & (c.status == OK))
    if rows.size == 0:
        return None
    order = rows[np.argsort(c.visit[rows])]
    visit = np.full(means.mean.size, -1)
    place = np.searchsorted(means.client_of * (pairs.anchors.mean.size + 1) + means.occasions,
                            np.searchsorted(means.clients, pairs.client) * (pairs.anchors.mean.size + 1) + pairs.occasion)  # fmt: skip
    visit[place] = pairs.visit
    at = np.minimum(np.searchsorted(c.visit[order], visit), order.size - 1)
    return np.where(c.visit[order][at] == visit, c.value[order][at], np.nan)


def _offer(model: str, cv: CrossValidation | None, pooled: PooledOffset, clients: tuple[ClientOffset, ...]) -> str:
    """What can be adopted: the chosen model, else the closer of those that there are; '' for none."""
    if model != "none":
        return model
    if clients and (pooled.new is None or (cv is not None and cv.individual is not None and cv.individual < cv.pooled)):
        return "client"
    return "pooled" if pooled.new is not None else ""


def _advice(model: str, cv: CrossValidation | None, slope: Estimate | None) -> str:
    if cv is None:
        return "not_enough"
    if model == "none":
        return "none"
    follows = slope is not None and slope.interval is not None and slope.interval.low > 1e-6
    # closer than the carried-over scans counts as following only when the device moves with the scan at all
    closer = cv.beats_scans is True and slope is not None and slope.value > 0.5
    return "level_and_change" if follows or closer else "level_only"


def _valid_until(c: CompareResult, moved: Movement | None, snapshot: Snapshot) -> tuple[str, bool]:
    """The last day of an offset: EXPIRY_WEEKS after the last anchor used, or until a drift amounts to half of what matters.

    With a drift the offset belongs to the middle of the anchors; True when it is too far gone at the last of them.
    """
    pairs = c.pairs
    last = datetime.fromtimestamp(float(pairs.anchors.instant[pairs.occasion].max()), zone_named(snapshot.catalogue.zone)).date()
    weeks = float(EXPIRY_WEEKS)
    if moved is not None and moved.found:
        matters = c.margin if c.margin is not None else 2 * (c.sd or 0.0)
        weeks = min(weeks, matters / 2 / abs(moved.slope.value) - moved.weeks_after_middle)
    if weeks < 1:
        return "", True
    return (last + timedelta(days=math.floor(7 * weeks))).isoformat(), False


def record_of(result: CalibrateResult, catalogue: Catalogue, now: datetime, reason: str = "") -> CalibrationRecord:
    """The record that adopting ``result`` writes; a ``reason`` is needed where the advice is not to correct."""
    pairs, lens = result.comparison.pairs, result.comparison.lens
    if not result.offer or result.range is None or result.pooled is None:
        raise CannotCompare("there are not enough pairs to adopt an offset with its uncertainty")
    if not result.valid_until:
        raise CannotCompare("the device drifts: its offset at the last scan is not the one of all scans together; scan again")
    if needs_reason(result) and not reason.strip():
        raise UserError("the advice is not to correct: write down why you adopt the offset all the same")
    p = result.pooled
    last = datetime.fromtimestamp(float(pairs.anchors.instant[pairs.occasion].max()), zone_named(catalogue.zone)).date()
    labels = {i: s.label for i, s in catalogue.settings.items()} | {0: ""}
    own = {c.client: (c.offset, c.new.low, c.new.high, c.n) for c in result.clients} if result.offer == "client" else {}
    return CalibrationRecord(
        id=0,
        instrument=pairs.instrument.name,
        metric=pairs.metric,
        setting=lens.setting or "",
        reference=pairs.reference.name,
        model=result.offer,
        pooled=None if p.new is None else (p.offset.value, p.new.low, p.new.high),
        clients=own,
        sources=result.sources,
        range_low=result.range[0],
        range_high=result.range[1],
        pairs=pairs.n,
        client_count=pairs.clients,
        fitted_at=now.isoformat(timespec="minutes"),
        valid_until=result.valid_until,
        version=0,
        digest=result.digest,
        made_of=MadeOf(
            clients=tuple(sorted(catalogue.clients[int(k)].code for k in np.unique(pairs.client))),
            settings=tuple(sorted({labels[int(s)] for s in np.unique(pairs.setting)})),
            anchors=pairs.occasions,
            last_anchor=last.isoformat(),
            window_hours=lens.window_hours,
            around=lens.around,
            lens_clients=None if lens.clients is None else tuple(sorted(lens.clients)),
            client_sd=result.client_sd,
            advice=result.advice_code,
            reason=reason.strip() if needs_reason(result) else "",
            provisional=result.provisional,
        ),
    )


def needs_reason(result: CalibrateResult) -> bool:
    """Whether adopting goes against the advice, or before there is any."""
    return result.advice_code in ("none", "not_enough")
