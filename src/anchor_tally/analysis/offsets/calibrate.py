"""What to subtract: pooled and client offsets, and whether correction helps.

Also whether the device responds to change.
"""

from __future__ import annotations

import math
from collections.abc import Generator
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from itertools import chain

import numpy as np

from ...domain.instants import zone_named
from ...domain.lens import Lens
from ...domain.metrics import metric_of
from ...domain.records import Instrument
from ...domain.snapshot import OK, Snapshot
from ...methods.registry import EQUATIONS
from ...stats.calibration_line import LineFit, line_fit, may_be_a_line, offset_at
from ...stats.distributions import normal_quantile, t_interval
from ...stats.estimate import Estimate, Interval, Note, note
from ...stats.offsets import (
    ClientOffsets,
    PooledOffset,
    client_offsets,
    day_to_day,
    pooled_from_grid,
    pooled_from_single,
    pooled_from_stated,
)
from ...stats.trend import ClientMeans, client_means
from ...stats.validation import CrossValidation
from ...stats.variance_grid import occasion_means
from ..agreement.agreement import CompareResult, compare_pairs
from ..agreement.agreement_forms import BMI_EQUATION
from ..ask.content_key import ContentKey, content_key
from ..ask.question import Asked
from ..pairs.comparator import CannotCompare, find_comparator, lens_for, others_of
from ..pairs.drift_or_response import told_apart
from ..pairs.offset_drift import OffsetDrift, movement, settings_apart
from ..pairs.pairing import DAY, PairSet, pair
from ..pairs.reference_slopes import TOO_LITTLE, UNKNOWN, answer_on_change, follows
from ..people.withheld import withheld
from .cross_validation import LEAST_CLIENTS, validated
from .record import fingerprint, rows_of

EXPIRY_WEEKS = 16
LINES = ("line", "line_client")


@dataclass(frozen=True, slots=True)
class ClientOffset:
    """Offset of one client: what is subtracted, its interval and SD, anchors, shrinkage.

    ``new`` holds a new reading's difference.
    """

    client: str
    offset: float
    interval: Interval
    sd: float
    n: int
    shrinkage: float
    new: Interval


@dataclass(frozen=True, eq=False)
class CalibrateResult:
    """Offsets of one instrument.

    ``model`` is what cross-validation chose: none, pooled, client, line or line_client.

    ``offer`` is the model that can be adopted all the same ('' when there is none).
    ``advice_code`` is none, level_only, level_change_unknown, level_and_change or not_enough.
    ``within_slope`` is the slope of the device on the scan within clients: 1 shows all of a change.
    ``sources`` names the readings behind the offsets and ``digest`` fingerprints those, so that
    what is adopted is what was computed. ``valid_until`` is empty where nothing can be adopted,
    for instance under a drift, or where ``settings_apart`` shows that the settings in it differ.
    ``line`` is there where the error is shown to grow with the value; ``line_clients`` hold what
    clients differ from it. ``method_error`` is the SD of a field method that replaces a
    scan, and is in the intervals of new readings. ``key`` is the fingerprint of all it stands
    on.
    """

    asked: Asked
    comparison: CompareResult
    model: str
    offer: str
    pooled: PooledOffset | None
    clients: tuple[ClientOffset, ...]
    cross_validation: CrossValidation | None
    within_slope: Estimate | None
    movement: OffsetDrift | None
    settings_apart: Estimate | None
    range: tuple[float, float] | None
    valid_until: str
    advice_code: str
    provisional: bool
    client_sd: float | None
    line: LineFit | None
    line_clients: tuple[ClientOffset, ...]
    method_error: float | None
    sources: tuple[str, ...]
    digest: str
    notes: tuple[Note, ...]
    key: ContentKey = ()

    @property
    def at_ends(self) -> tuple[tuple[float, float, Interval], ...]:
        """What the line subtracts at both ends of the range: reading, offset and its interval.

        Nothing where no line was chosen.
        """
        if self.line is None or self.model not in LINES or self.range is None:
            return ()
        return tuple((at, *offset_at(self.line.line, at)) for at in self.range)


@dataclass(frozen=True, slots=True)
class CalibrateRequest:
    """Offsets of instruments: what to subtract from a reading, for whom, and whether it helps.

    Parameters
    ----------
    snapshot : Snapshot
        The study at one revision, with the columns of the lens' metric.
    lens : Lens
        Metric, reference, clients, setting and pairing window.
    instrument : str
        Name of one instrument; empty for all that have the metric.
    reference_sd : float, optional
        SD of one scan, in the metric's unit; by default as stated in the study.
    client_sd : float, optional
        Stated SD between clients, used where too few clients were scanned to estimate it.
    kept : tuple of CalibrateResult
        Earlier results. One with the same readings and the same question is not computed again.

    Raises
    ------
    CannotCompare
        From ``run``: no such instrument or reference, or no readings of the metric.
    """

    snapshot: Snapshot
    lens: Lens
    instrument: str = ""
    reference_sd: float | None = None
    client_sd: float | None = None
    kept: tuple[CalibrateResult, ...] = ()

    def run(self) -> Generator[float, None, tuple[CalibrateResult, ...]]:
        """Yield progress; return one result an instrument."""
        reference = find_comparator(self.snapshot, self.lens)
        if reference.kind == "device":
            raise CannotCompare(
                f"offsets need a reference, and {reference.name} is not one: its own error would"
                " enter the offset"
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
            out.append(self._of(asked, lens, item, reference))
            yield (k + 1) / len(items)
        return tuple(out)

    def _of(
        self, asked: Asked, lens: Lens, item: Instrument, reference: Instrument
    ) -> CalibrateResult:
        equation = (i for i in self.snapshot.instruments.values() if i.equation == BMI_EQUATION)
        key = content_key(
            self.snapshot, lens, (item, reference, *equation), self.reference_sd, self.client_sd
        )
        before = next((r for r in self.kept if r.key == key), None)
        if before is not None:
            return replace(before, asked=asked, comparison=replace(before.comparison, asked=asked))
        pairs = pair(self.snapshot, lens, item, reference)
        compared = compare_pairs(
            asked,
            pairs,
            lens,
            self.snapshot.catalogue,
            reference_sd=self.reference_sd,
            offsets_only=not self.instrument,
        )
        return replace(calibrate(compared, self.snapshot, self.client_sd), key=key)


def calibrate(
    comparison: CompareResult, snapshot: Snapshot, client_sd: float | None = None
) -> CalibrateResult:
    """Offsets from one comparison, and the simplest model that cross-validation supports.

    ``client_sd`` states the spread between clients where too few clients were scanned to show
    one; default: as stated in the study.
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
        settings_apart=None,
        range=None,
        valid_until="",
        advice_code="not_enough",
        provisional=False,
        client_sd=None,
        line=None,
        line_clients=(),
        method_error=None,
        sources=sources,
        digest=digest,
        notes=() if pairs.n else (note("no_pairs", dropped=pairs.left_out.n),),
    )
    if bias is None:
        return nothing
    notes: list[Note] = []
    stated = (
        client_sd
        if client_sd is not None
        else snapshot.catalogue.stated.get((pairs.metric, "client_sd"))
    )
    pooled, used = _pooled(comparison, bias, stated, notes)
    clients = _clients(comparison, snapshot, notes)
    provisional = False
    if not clients:
        clients = _provisional(comparison, snapshot, notes)
        provisional = bool(clients)
    means, line = _line(comparison)
    cv = validated(
        comparison,
        snapshot,
        means if line is not None else None,
        has_own=bool(clients) and not provisional,
    )
    error = _method_error(comparison, notes)
    if pairs.reference.kind != "reference":
        provisional = True
        pooled = replace(pooled, new=_widened(pooled.new, pooled.offset.value, error))
        clients = tuple(replace(c, new=_widened(c.new, c.offset, error) or c.new) for c in clients)
    trend = comparison.reference_trend
    moved = movement(pairs)
    if trend is not None:
        moved = told_apart(pairs, trend.reference, moved)
    slope = follows(pairs, trend, moved) if trend is not None else None
    model = cv.model if cv is not None else "none"
    if (
        model == "pooled"
        and bias.interval is not None
        and bias.interval.low <= 0 <= bias.interval.high
    ):
        model = "none"  # what the data cannot tell from nothing is not corrected
    if cv is not None and model != cv.model:
        cv = replace(cv, model=model, after=cv.before)
    offer = (
        _offer(model, cv, pooled, clients)
        if pairs.reference.kind == "reference" or error is not None
        else ""
    )
    apart = settings_apart(pairs)
    until, late = _valid_until(comparison, moved, snapshot)
    if apart is not None:
        until = ""
        ends = _size_ends(apart)
        notes.append(
            note(
                "settings_apart",
                size=abs(apart.value),
                low=ends.low,
                high=ends.high,
                unit=_unit(pairs),
            )
        )
    elif late and moved is not None:
        notes.append(note("drift_forbids", **_weekly(moved), unit=_unit(pairs)))
    elif moved is not None and moved.found:
        notes.append(note("drift_shortens", **_weekly(moved), unit=_unit(pairs), until=until))
    return replace(
        nothing,
        model=model,
        offer=offer,
        pooled=pooled,
        clients=clients,
        cross_validation=cv,
        within_slope=slope,
        movement=moved,
        settings_apart=apart,
        range=_range(pairs, snapshot),
        valid_until=until if offer else "",
        advice_code=_advice(model, cv, slope),
        provisional=provisional,
        client_sd=used,
        line=line,
        line_clients=(
            _clients_of(client_offsets(line.fit, line.grid), snapshot)
            if line is not None and clients
            else ()
        ),
        method_error=error,
        notes=tuple(notes),
    )


def _size_ends(e: Estimate) -> Interval:
    """The interval of the size of an estimate whose interval leaves zero."""
    i = e.interval or Interval(e.value, e.value)
    return i if e.value > 0 else Interval(-i.high, -i.low)


def _weekly(moved: OffsetDrift) -> dict[str, float]:
    """A slope per week with its interval, as facts of a note."""
    e, i = moved.slope, moved.slope.interval or Interval(moved.slope.value, moved.slope.value)
    return {"slope": e.value, "low": i.low, "high": i.high}


def _unit(pairs: PairSet) -> str:
    metric = metric_of(pairs.metric)
    return metric.difference_unit


def _range(pairs: PairSet, snapshot: Snapshot) -> tuple[float, float]:
    """Mean ± 2 SD of the readings that may be shown, within what is possible.

    With one value any other reading is an extrapolation.
    """
    hidden = [i for i, c in snapshot.clients.items() if withheld(c, pairs.metric)]
    y, metric = pairs.y[~np.isin(pairs.client, hidden)], metric_of(pairs.metric)
    spread = 2 * float(y.std(ddof=1)) if y.size > 1 else 0.0
    middle = float(y.mean())
    return max(middle - spread, metric.low), min(middle + spread, metric.high)


def _pooled(
    c: CompareResult, bias: Estimate, stated: float | None, notes: list[Note]
) -> tuple[PooledOffset, float | None]:
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
        notes.append(note("spread_stated", sd=stated, clients=pairs.clients))
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
    return _clients_of(client_offsets(fit, c.grid), snapshot)


def _clients_of(o: ClientOffsets, snapshot: Snapshot) -> tuple[ClientOffset, ...]:
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


def _provisional(
    c: CompareResult, snapshot: Snapshot, notes: list[Note]
) -> tuple[ClientOffset, ...]:
    """Offset of one client from one scan and many mornings.

    It uses the day-to-day spread and the scan's stated precision.
    """
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
    np.minimum.at(
        first, np.searchsorted(mornings.occasions, columns.visit[own]), columns.instant[own]
    )
    order = np.argsort(first)
    series = mornings.mean[order]
    days = day_to_day(
        series, np.zeros(series.size, dtype=np.int64), (first[order] // DAY).astype(np.int64)
    )
    if days is None:
        notes.append(note("one_scan_needs_mornings", mornings=series.size))
        return ()
    error = c.reference_trend.reference if c.reference_trend is not None else None
    if error is None or not error.known:
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
    return (
        ClientOffset(
            code, offset, t_interval(offset, sd, df), sd, 1, 1.0, t_interval(offset, new, df)
        ),
    )


def _line(c: CompareResult) -> tuple[ClientMeans | None, LineFit | None]:
    """Calibration line between clients.

    Made where ten clients over ten units show that the error grows with the value.
    """
    trend, pairs = c.reference_trend, c.pairs
    if trend is None or trend.between is None:
        return None, None
    _, k = np.unique(pairs.client, return_inverse=True)
    if not may_be_a_line(np.bincount(k, pairs.x) / np.bincount(k), trend.between.slope):
        return None, None
    scans = pairs.anchors.n[pairs.occasion]
    means = client_means(pairs.d, pairs.x, scans, pairs.client, pairs.occasion, trend.reference)
    return means, line_fit(
        pairs.d, pairs.y, pairs.client, pairs.occasion, means, trend.between.slope
    )


def _method_error(c: CompareResult, notes: list[Note]) -> float | None:
    """SD of a field method that replaces a scan, as published.

    None for a scan, and where it is not known.
    """
    reference = c.pairs.reference
    if reference.kind == "reference":
        return None
    equation = EQUATIONS.get(reference.equation)
    error = equation.error_in(c.pairs.metric) if equation is not None else None
    code = "provisional_method" if error is not None else "method_error_unknown"
    notes.append(note(code, method=reference.name, sd=error))
    return error


def _widened(new: Interval | None, value: float, error: float | None) -> Interval | None:
    """An interval of a new difference with a further error in it, in quadrature on each side."""
    if new is None or error is None:
        return new
    more = normal_quantile(0.975) * error
    return Interval(
        value - math.hypot(value - new.low, more), value + math.hypot(new.high - value, more)
    )


def _offer(
    model: str, cv: CrossValidation | None, pooled: PooledOffset, clients: tuple[ClientOffset, ...]
) -> str:
    """What can be adopted: the chosen model, else the closer of those that there are.

    '' for none.
    """
    if model != "none":
        return model
    if clients and (pooled.new is None or (cv is not None and _better(cv, "client", "pooled"))):
        return "client"
    return "pooled" if pooled.new is not None else ""


def _better(cv: CrossValidation, one: str, other: str) -> bool:
    a, b = cv.of(one), cv.of(other)
    return a is not None and b is not None and a.rmse < b.rmse


def _advice(model: str, cv: CrossValidation | None, slope: Estimate | None) -> str:
    if cv is None:
        return "not_enough"
    if model == "none":
        return "none"
    answer = answer_on_change(slope)
    if answer == TOO_LITTLE:
        return "level_only"
    return "level_change_unknown" if answer == UNKNOWN else "level_and_change"


def _valid_until(
    c: CompareResult, moved: OffsetDrift | None, snapshot: Snapshot
) -> tuple[str, bool]:
    """Last day on which an offset is valid.

    EXPIRY_WEEKS after the last scan used, or when a drift amounts to half of the margin.

    With a drift the offset belongs to the middle of the anchors; True when it is too far gone at
    the last of them.
    """
    pairs = c.pairs
    last = datetime.fromtimestamp(
        float(pairs.anchors.instant[pairs.occasion].max()), zone_named(snapshot.catalogue.zone)
    ).date()
    weeks = float(EXPIRY_WEEKS)
    if moved is not None and moved.found:
        matters = c.margin if c.margin is not None else 2 * (c.sd or 0.0)
        weeks = min(weeks, matters / 2 / abs(moved.slope.value) - moved.weeks_after_middle)
    if weeks < 1:
        return "", True
    return (last + timedelta(days=math.floor(7 * weeks))).isoformat(), False
