"""What to subtract: pooled and client offsets, whether they help, and the correction of new readings."""

from __future__ import annotations

import hashlib
from collections.abc import Generator
from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np

from ..domain.lens import Lens
from ..domain.records import CalibrationRecord
from ..domain.snapshot import Snapshot
from ..stats.estimate import Interval, Note, note
from ..stats.offsets import (
    CrossValidation,
    PooledOffset,
    client_offsets,
    cross_validate,
    pooled_from_fit,
    pooled_from_single,
    prediction_interval,
)
from .compare import CompareResult, compare_pairs, instruments_of
from .pairing import CannotCompare, find_reference, pair

EXPIRY_WEEKS = 16


@dataclass(frozen=True, slots=True)
class ClientOffset:
    """Offset of one client: what is subtracted, its SD, anchors, shrinkage, SD and df of a corrected reading."""

    client: str
    offset: float
    sd: float
    n: int
    shrinkage: float
    prediction_sd: float
    df: float


@dataclass(frozen=True, eq=False)
class CalibrateResult:
    """Offsets of one instrument; ``model`` is 'none', 'pooled' or 'client'."""

    comparison: CompareResult
    model: str
    pooled: PooledOffset | None
    clients: tuple[ClientOffset, ...]
    cross_validation: CrossValidation | None
    range: tuple[float, float] | None
    advice: str
    notes: tuple[Note, ...]


@dataclass(frozen=True, slots=True)
class CalibrateRequest:
    """Offsets of all instruments that have the metric."""

    snapshot: Snapshot
    lens: Lens

    def run(self) -> Generator[float, None, tuple[CalibrateResult, ...]]:
        """Yield progress; return one result an instrument."""
        items = instruments_of(self.snapshot, self.lens)
        reference = find_reference(self.snapshot, self.lens)
        out = []
        for k, item in enumerate(items):
            lens = self.lens
            own = {s.label for s in self.snapshot.settings.values() if s.instrument == item.id}
            if lens.setting is not None and lens.setting not in own:
                lens = Lens(lens.metric, lens.reference, lens.clients, None, lens.window_hours)
            out.append(calibrate(compare_pairs(pair(self.snapshot, lens, item, reference), lens), self.snapshot))
            yield (k + 1) / len(items)
        return tuple(out)


def calibrate(comparison: CompareResult, snapshot: Snapshot) -> CalibrateResult:
    """Offsets from one comparison; the simpler model unless cross-validation favours the other."""
    pairs, bias, fit = comparison.pairs, comparison.bias, comparison.fit
    notes: list[Note] = []
    if bias is None:
        return CalibrateResult(
            comparison, "none", None, (), None, None, "no_pairs", (note("no_pairs", dropped=len(pairs.dropped)),)
        )
    y = pairs.y
    # with one value the range is that value, give or take nothing: any other reading is an extrapolation
    spread = 2 * float(y.std(ddof=1)) if pairs.n > 1 else 0.0
    span = (float(y.mean()) - spread, float(y.mean()) + spread)
    if fit is None:
        pooled = pooled_from_single(pairs.d, bias, comparison.sd)
        notes.append(note("client_offset_needs_repeats"))
        cv = _single_validation(pairs.d)
        return CalibrateResult(
            comparison,
            "pooled" if pooled.prediction_sd else "none",
            pooled,
            (),
            cv,
            span,
            _advice(bias.interval, cv, "pooled"),
            tuple(notes),
        )
    pooled = pooled_from_fit(fit, bias) if bias.interval is not None else PooledOffset(bias, None, None)
    clients: tuple[ClientOffset, ...] = ()
    cv = None
    if pairs.clients > 1 and pairs.occasions > pairs.clients:
        o = client_offsets(fit)
        clients = tuple(
            ClientOffset(
                snapshot.clients[int(k)].code,
                float(o.offset[i]),
                float(o.sd[i]),
                int(o.occasions[i]),
                float(o.shrinkage[i]),
                float(o.prediction_sd[i]),
                float(o.df[i]),
            )
            for i, k in enumerate(o.clients)
        )
    elif pairs.clients > 1:
        notes.append(note("client_offset_needs_anchors"))
    if pairs.clients > 1:
        cv = cross_validate(fit)
        if cv is not None and not clients:
            cv = CrossValidation(cv.before, cv.pooled, None, cv.scheme)
    better = cv is not None and cv.individual is not None and cv.individual < cv.pooled
    model = "none" if pooled.prediction_sd is None else "client" if clients and (better or cv is None) else "pooled"
    return CalibrateResult(comparison, model, pooled, clients, cv, span, _advice(bias.interval, cv, model), tuple(notes))


def _single_validation(d: np.ndarray) -> CrossValidation | None:
    n = d.size
    if n < 3:
        return None
    left_out = (d.sum() - d) / (n - 1)
    return CrossValidation(float(np.sqrt(np.mean(d**2))), float(np.sqrt(np.mean((d - left_out) ** 2))), None, "leave out clients")


def _advice(interval: Interval | None, cv: CrossValidation | None, model: str) -> str:
    if interval is None or model == "none":
        return "not_enough"
    if cv is None:
        return "unproven"
    after = cv.individual if model == "client" and cv.individual is not None else cv.pooled
    return "helps" if after < cv.before else "does_not_help"


def record_of(result: CalibrateResult, snapshot: Snapshot, today: datetime) -> CalibrationRecord:
    """The record that adopting ``result`` writes; expiry is 16 weeks from today."""
    p, pairs = result.pooled, result.comparison.pairs
    if p is None or p.prediction_sd is None or p.df is None or result.range is None:
        raise CannotCompare("there are not enough pairs to adopt an offset with its uncertainty")
    rows = sorted(_sources(result, snapshot))
    return CalibrationRecord(
        id=0,
        instrument=pairs.instrument.name,
        metric=pairs.metric,
        setting=result.comparison.lens.setting or "",
        reference=pairs.reference.name,
        model=result.model,
        pooled=(p.offset.value, p.prediction_sd, p.df),
        clients={c.client: (c.offset, c.prediction_sd, c.df, c.n) for c in result.clients} if result.model == "client" else {},
        readings=tuple(rows),
        range_low=result.range[0],
        range_high=result.range[1],
        pairs=pairs.n,
        client_count=pairs.clients,
        fitted_at=today.isoformat(timespec="minutes"),
        valid_until=(today + timedelta(weeks=EXPIRY_WEEKS)).date().isoformat(),
        version=0,
        digest=readings_digest(snapshot, pairs.metric, tuple(rows)),
    )


def _sources(result: CalibrateResult, snapshot: Snapshot) -> set[int]:
    pairs = result.comparison.pairs
    used = set(pairs.reading.tolist())
    for ids in pairs.reference_rows.values():
        used |= set(ids)
    return used


def readings_digest(snapshot: Snapshot, metric: str, readings: tuple[int, ...]) -> str:
    """Fingerprint of the values and statuses of some readings, to see whether one has changed since."""
    c = snapshot.columns[metric]
    rows = np.flatnonzero(np.isin(c.reading, readings))
    rows = rows[np.argsort(c.reading[rows])]
    h = hashlib.sha256()
    for array in (c.reading, c.value, c.status):
        h.update(np.ascontiguousarray(array[rows]).tobytes())
    return h.hexdigest()[:16]


@dataclass(frozen=True, slots=True)
class Corrected:
    """A corrected reading with its 95 % prediction interval and what is to be said of it."""

    value: float
    interval: Interval
    offset: float
    version: int
    notes: tuple[Note, ...]


def correct(record: CalibrationRecord, client: str, value: float, day: str, setting: str, snapshot: Snapshot) -> Corrected:
    """Reading − offset; ``day`` is the ISO date of the reading."""
    own = record.clients.get(client)
    offset, sd, df = own[:3] if own else record.pooled
    notes: list[Note] = []
    if not record.range_low <= value <= record.range_high:
        notes.append(note("outside_range", low=f"{record.range_low:.1f}", high=f"{record.range_high:.1f}"))
    if day[:10] > record.valid_until:
        notes.append(note("expired", until=record.valid_until))
    if setting != record.setting:
        notes.append(note("other_setting", used=setting or "none", calibrated=record.setting or "all settings pooled"))
    if record.clients and own is None:
        notes.append(note("new_client"))
    if record.metric in snapshot.columns and readings_digest(snapshot, record.metric, record.readings) != record.digest:
        notes.append(note("stale"))
    corrected = value - offset
    return Corrected(corrected, prediction_interval(corrected, sd, df), offset, record.version, tuple(notes))
