"""What to subtract: pooled and client offsets, whether they help, and the correction of new readings."""

from __future__ import annotations

import hashlib
from collections.abc import Generator, Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from itertools import chain

import numpy as np
import numpy.typing as npt

from ..domain.lens import Lens
from ..domain.records import FORM_0_EQUATIONS, CalibrationRecord
from ..domain.snapshot import Columns, Ints, Snapshot
from ..stats.components import NestedFit
from ..stats.distributions import t_interval
from ..stats.estimate import Interval, Note, note
from ..stats.offsets import CrossValidation, PooledOffset, client_offsets, cross_validate, pooled_from_fit, pooled_from_single
from .compare import CompareResult, compare_pairs, instruments_of, lens_for
from .pairing import CannotCompare, find_reference, pair
from .question import Asked

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
    """Offsets of one instrument; ``model`` is 'none', 'pooled' or 'client'.

    ``sources`` names the readings behind them and ``digest`` fingerprints those, so that what is adopted is what was computed.
    """

    asked: Asked
    comparison: CompareResult
    model: str
    pooled: PooledOffset | None
    clients: tuple[ClientOffset, ...]
    cross_validation: CrossValidation | None
    range: tuple[float, float] | None
    advice: str
    sources: tuple[str, ...]
    digest: str
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
        asked = Asked(self.snapshot.revision, self.lens)
        out = []
        for k, item in enumerate(items):
            lens = lens_for(self.snapshot, self.lens, item)
            pairs = pair(self.snapshot, lens, item, reference)
            out.append(calibrate(compare_pairs(asked, pairs, lens), self.snapshot))
            yield (k + 1) / len(items)
        return tuple(out)


def calibrate(comparison: CompareResult, snapshot: Snapshot) -> CalibrateResult:
    """Offsets from one comparison; the simpler model unless cross-validation favours the other."""
    pairs, bias, fit = comparison.pairs, comparison.bias, comparison.fit
    scans = _rows_of(snapshot, pairs.metric, chain.from_iterable(pairs.reference_rows.values()))
    sources, digest = fingerprint(snapshot, pairs.metric, np.union1d(pairs.row, scans))
    none = CalibrateResult(
        asked=comparison.asked,
        comparison=comparison,
        model="none",
        pooled=None,
        clients=(),
        cross_validation=None,
        range=None,
        advice="no_pairs",
        sources=sources,
        digest=digest,
        notes=(note("no_pairs", dropped=pairs.left_out.n),),
    )
    if bias is None:
        return none
    notes: list[Note] = []
    y = pairs.y
    # with one value the range is that value, give or take nothing: any other reading is an extrapolation
    spread = 2 * float(y.std(ddof=1)) if pairs.n > 1 else 0.0
    span = (float(y.mean()) - spread, float(y.mean()) + spread)
    if fit is None:
        pooled = pooled_from_single(pairs.d, bias, comparison.sd)
        cv = _single_validation(pairs.d)
        return replace(
            none,
            model="pooled" if pooled.prediction_sd else "none",
            pooled=pooled,
            cross_validation=cv,
            range=span,
            advice=_advice(bias.interval, cv, "pooled"),
            notes=(note("client_offset_needs_repeats"),),
        )
    pooled = pooled_from_fit(fit, bias) if bias.interval is not None else PooledOffset(bias, None, None)
    clients: tuple[ClientOffset, ...] = ()
    cv = None
    if pairs.clients > 1 and pairs.occasions > pairs.clients:
        clients = _client_offsets(fit, snapshot)
    elif pairs.clients > 1:
        notes.append(note("client_offset_needs_anchors"))
    if pairs.clients > 1:
        cv = cross_validate(fit)
        if cv is not None and not clients:
            cv = replace(cv, individual=None)
    better = cv is not None and cv.individual is not None and cv.individual < cv.pooled
    model = "none" if pooled.prediction_sd is None else "client" if clients and (better or cv is None) else "pooled"
    return replace(
        none,
        model=model,
        pooled=pooled,
        clients=clients,
        cross_validation=cv,
        range=span,
        advice=_advice(bias.interval, cv, model),
        notes=tuple(notes),
    )


def _client_offsets(fit: NestedFit, snapshot: Snapshot) -> tuple[ClientOffset, ...]:
    o = client_offsets(fit)
    return tuple(
        ClientOffset(
            client=snapshot.clients[int(k)].code,
            offset=float(o.offset[i]),
            sd=float(o.sd[i]),
            n=int(o.occasions[i]),
            shrinkage=float(o.shrinkage[i]),
            prediction_sd=float(o.prediction_sd[i]),
            df=float(o.df[i]),
        )
        for i, k in enumerate(o.clients)
    )


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


def record_of(result: CalibrateResult, today: datetime) -> CalibrationRecord:
    """The record that adopting ``result`` writes; expiry is 16 weeks from today."""
    p, pairs = result.pooled, result.comparison.pairs
    if p is None or p.prediction_sd is None or p.df is None or result.range is None:
        raise CannotCompare("there are not enough pairs to adopt an offset with its uncertainty")
    own = {c.client: (c.offset, c.prediction_sd, c.df, c.n) for c in result.clients}
    return CalibrationRecord(
        id=0,
        instrument=pairs.instrument.name,
        metric=pairs.metric,
        setting=result.comparison.lens.setting or "",
        reference=pairs.reference.name,
        model=result.model,
        pooled=(p.offset.value, p.prediction_sd, p.df),
        clients=own if result.model == "client" else {},
        sources=result.sources,
        range_low=result.range[0],
        range_high=result.range[1],
        pairs=pairs.n,
        client_count=pairs.clients,
        fitted_at=today.isoformat(timespec="minutes"),
        valid_until=(today + timedelta(weeks=EXPIRY_WEEKS)).date().isoformat(),
        version=0,
        digest=result.digest,
    )


def _rows_of(snapshot: Snapshot, metric: str, readings: Iterable[int]) -> Ints:
    """Rows of stored readings."""
    return np.flatnonzero(np.isin(snapshot.columns[metric].reading, np.fromiter(readings, np.int64)))


def _rows_named(snapshot: Snapshot, c: Columns, sources: Sequence[str]) -> Ints:
    """Rows of the readings that a record names."""
    mask = np.isin(c.reading, [int(s) for s in sources if "@" not in s])
    computed: dict[str, list[int]] = {}
    for equation, _, visit in (s.partition("@") for s in sources if "@" in s):
        computed.setdefault(equation, []).append(int(visit))
    for equation, visits in computed.items():
        items = [i.id for i in snapshot.instruments.values() if i.equation == equation]
        mask |= (c.reading < 0) & np.isin(c.instrument, items) & np.isin(c.visit, visits)
    return np.flatnonzero(mask)


def _names(snapshot: Snapshot, c: Columns, rows: Ints) -> npt.NDArray[np.str_]:
    """What readings are known by for ever: the stored number, or ``equation@visit`` of a computed value."""
    names = c.reading[rows].astype(np.str_).astype(object)
    for item in np.unique(c.instrument[rows[c.reading[rows] < 0]]):
        at = np.flatnonzero((c.reading[rows] < 0) & (c.instrument[rows] == item))
        names[at] = f"{snapshot.instruments[int(item)].equation}@" + c.visit[rows[at]].astype(np.str_).astype(object)
    return names.astype(np.str_)


def fingerprint(snapshot: Snapshot, metric: str, rows: Ints, form: int = 1) -> tuple[tuple[str, ...], str]:
    """Names of readings and a fingerprint of their values and states.

    Form 0 is that of the first records, over numbers that hung on the order of the equations; it is kept to see whether one of
    those is stale.
    """
    c = snapshot.columns[metric]
    names = _names(snapshot, c, rows)
    h = hashlib.sha256()
    if form == 0:
        numbers = np.array([_form_0(name) for name in names.tolist()], dtype=np.int64)
        order = np.argsort(numbers)
        h.update(numbers[order].tobytes())
    else:
        order = np.argsort(names)
        h.update("\n".join(names[order].tolist()).encode())
    for array in (c.value, c.status):
        h.update(np.ascontiguousarray(array[rows[order]]).tobytes())
    return tuple(names[order].tolist()), h.hexdigest()[:16]


def _form_0(name: str) -> int:
    """The number by which a first record knew a reading."""
    equation, _, visit = name.partition("@")
    return int(name) if not visit else -((FORM_0_EQUATIONS.index(equation) + 1) * 10_000_000 + int(visit))


def is_stale(record: CalibrationRecord, snapshot: Snapshot) -> bool:
    """Whether a reading behind a record has changed since; ``snapshot`` needs those readings only."""
    c = snapshot.columns.get(record.metric)
    if c is None:
        return True
    names, digest = fingerprint(snapshot, record.metric, _rows_named(snapshot, c, record.sources), record.form)
    return set(names) != set(record.sources) or digest != record.digest


def record_for(records: Sequence[CalibrationRecord], instrument: str, metric: str, setting: str) -> CalibrationRecord | None:
    """The calibration in force for a reading: that of its setting, else the newest of the instrument (with its note)."""
    own = [r for r in records if (r.instrument, r.metric) == (instrument, metric)]
    return next((r for r in own if r.setting == setting), own[-1] if own else None)


@dataclass(frozen=True, slots=True)
class Corrected:
    """A corrected reading with its 95 % prediction interval and what is to be said of it."""

    value: float
    interval: Interval
    offset: float
    version: int
    notes: tuple[Note, ...]


def correct(record: CalibrationRecord, client: str, value: float, day: str, setting: str, *, stale: bool = False) -> Corrected:
    """Reading − offset; ``day`` is the ISO date of the reading, ``stale`` what ``is_stale`` says of the record."""
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
    if stale:
        notes.append(note("stale"))
    corrected = value - offset
    return Corrected(corrected, t_interval(corrected, sd, df), offset, record.version, tuple(notes))
