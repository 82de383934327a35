"""Adopting what was computed: the record that is written, and when it needs a reason."""

from __future__ import annotations

from datetime import datetime

import numpy as np

from ...domain.calibrations import CalibrationRecord, LineRecord, MadeOf, Proof
from ...domain.catalogue import Catalogue
from ...domain.errors import UserError
from ...domain.instants import zone_named
from ...stats.distributions import t_quantile
from ..pairs.comparator import CannotCompare
from .calibrate import LINES, CalibrateResult


def record_of(
    result: CalibrateResult, catalogue: Catalogue, now: datetime, reason: str = ""
) -> CalibrationRecord:
    """The record that adopting ``result`` writes.

    A ``reason`` is needed where the advice is not to correct.
    """
    pairs, lens = result.comparison.pairs, result.comparison.lens
    if not result.offer or result.range is None or result.pooled is None:
        raise CannotCompare("not enough pairs to adopt an offset with its uncertainty")
    if result.settings_apart is not None:
        raise CannotCompare(
            "the settings differ, and one offset does not fit all: choose one setting in the"
            " filters"
        )
    if not result.valid_until:
        raise CannotCompare(
            "the device drifts, so one offset for all scans is no longer valid; scan again"
        )
    if needs_reason(result) and not reason.strip():
        raise UserError("the advice is not to correct: give a reason for adopting the offset")
    p = result.pooled
    last = datetime.fromtimestamp(
        float(pairs.anchors.instant[pairs.occasion].max()), zone_named(catalogue.zone)
    ).date()
    labels = {i: s.label for i, s in catalogue.settings.items()} | {0: ""}
    parts = {"client": result.clients, "line_client": result.line_clients}.get(result.offer, ())
    own = {c.client: (c.offset, c.new.low, c.new.high, c.n) for c in parts}
    moved, drift, drift_from = result.movement, None, ""
    if moved is not None and moved.slope.interval is not None:
        drift = (moved.slope.interval.low, moved.slope.interval.high)
        # a shown drift counts from where the offset holds, one that is only not ruled out from
        # the end of the offset's validity
        drift_from = (
            datetime.fromtimestamp(moved.origin, zone_named(catalogue.zone)).date().isoformat()
            if moved.found
            else result.valid_until
        )
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
            comparator=pairs.reference.kind,
            drift=drift,
            drift_from=drift_from,
            offset_interval=(
                None
                if p.offset.interval is None
                else (p.offset.interval.low, p.offset.interval.high)
            ),
            proof=_proof(result),
        ),
        line=_line(result),
    )


def _proof(result: CalibrateResult) -> Proof | None:
    cv = result.cross_validation
    chosen = None if cv is None else cv.of(result.offer)
    if cv is None or chosen is None:
        return None
    return Proof(cv.before, chosen.rmse, cv.occasions, int(np.unique(cv.client).size), cv.scheme)


def _line(result: CalibrateResult) -> LineRecord | None:
    if result.line is None or result.offer not in LINES:
        return None
    x = result.line.line
    return LineRecord(
        x.centre,
        x.level,
        x.slope,
        x.new,
        x.level_variance,
        x.slope_variance,
        t_quantile(0.975, x.df),
    )


def needs_reason(result: CalibrateResult) -> bool:
    """Whether adopting goes against the advice, or before there is any."""
    return result.advice_code in ("none", "not_enough")
