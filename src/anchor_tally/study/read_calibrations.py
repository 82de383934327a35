"""Adopted calibrations of a study, of every form in which they were ever written."""

from __future__ import annotations

import json
import math
import sqlite3
from collections.abc import Iterable
from dataclasses import astuple
from typing import Any, NamedTuple

from ..domain.calibrations import FORM_0_EQUATIONS, CalibrationRecord, LineRecord, MadeOf, Proof


def in_force(versions: Iterable[tuple[CalibrationRecord, bool]]) -> list[CalibrationRecord]:
    """The newest calibration that is not withdrawn, for each instrument, metric and setting."""
    return list(
        {
            (r.instrument, r.metric, r.setting): r for r, withdrawn in versions if not withdrawn
        }.values()
    )


def calibration_versions(conn: sqlite3.Connection) -> list[tuple[CalibrationRecord, bool]]:
    """Every calibration ever adopted, oldest version first, and whether it was withdrawn."""
    rows = conn.execute(
        "SELECT k.id, i.name, k.metric, k.setting, k.reference, k.model, k.parameters, k.range_low,"
        " k.range_high, k.pairs, k.clients, k.fitted_at, k.valid_until, k.version, k.digest,"
        " ifnull((SELECT kind FROM calibration_mark m WHERE m.calibration = k.id ORDER BY m.id DESC"
        " LIMIT 1), '') = 'withdrawn' FROM calibration k JOIN instrument i ON i.id = k.instrument"
        " ORDER BY k.version"
    ).fetchall()
    out = []
    for r in rows:
        p = read_parameters(r[6])
        record = CalibrationRecord(
            id=r[0],
            instrument=r[1],
            metric=r[2],
            setting=r[3],
            reference=r[4],
            model=r[5],
            pooled=p.pooled,
            clients=p.clients,
            sources=p.sources,
            range_low=r[7],
            range_high=r[8],
            pairs=r[9],
            client_count=r[10],
            fitted_at=r[11],
            valid_until=r[12],
            version=r[13],
            digest=r[14],
            form=p.form,
            made_of=p.made_of,
            line=p.line,
        )
        out.append((record, bool(r[15])))
    return out


class Parameters(NamedTuple):
    """Parameters of an adopted calibration, of any form that was ever written."""

    form: int
    pooled: tuple[float, float, float] | None
    clients: dict[str, tuple[float, float, float, int]]
    sources: tuple[str, ...]
    made_of: MadeOf
    line: LineRecord | None


NEWEST_FORM = 3


def read_parameters(text: str) -> Parameters:
    """Parameters from their text.

    Raises ValueError for anything else, and for a form of a newer program.

    Forms 0 and 1 kept an SD and degrees of freedom where today's keeps the ends of the interval.
    """
    try:
        p = json.loads(text)
        form = int(p.get("form", 0))
        if form > NEWEST_FORM:
            raise ValueError(f"parameters of form {form} are of a newer program")
        ends = _ends if form < 2 else _plain_ends
        pooled = None if form >= 2 and p["pooled"] is None else ends(p["pooled"])
        clients = {str(k): (*ends(v[:3]), int(v[3])) for k, v in p["clients"].items()}
        sources = (
            tuple(str(s) for s in p["sources"])
            if form
            else tuple(_named(int(i)) for i in p["readings"])
        )
        made_of = _made_of(p["made_of"]) if form >= 2 else MadeOf(clients=tuple(clients))
        line = (
            LineRecord(**{k: float(v) for k, v in p["line"].items()})
            if form >= 3 and p.get("line")
            else None
        )
    except (KeyError, TypeError, AttributeError, IndexError, OverflowError) as error:
        raise ValueError("the parameters of a calibration are not whole") from error
    if not all(
        math.isfinite(x)
        for v in (
            (pooled or ()),
            *clients.values(),
            made_of.drift or (),
            made_of.offset_interval or (),
            () if made_of.proof is None else (made_of.proof.before, made_of.proof.after),
            _values(line),
        )
        for x in v
    ):
        raise ValueError("the parameters of a calibration are not whole")
    return Parameters(form, pooled, clients, sources, made_of, line)


def _values(line: LineRecord | None) -> tuple[float, ...]:
    return () if line is None else astuple(line)


def _plain_ends(values: list[float]) -> tuple[float, float, float]:
    offset, low, high = (float(x) for x in values)
    return offset, low, high


def _ends(values: list[float]) -> tuple[float, float, float]:
    offset, sd, df = (float(x) for x in values)
    if not (math.isfinite(sd) and sd >= 0 and df > 0):
        raise TypeError("not an SD and degrees of freedom")
    from ..stats.distributions import t_interval  # brings SciPy, for old records only

    interval = t_interval(offset, sd, df)
    return offset, interval.low, interval.high


def _made_of(p: dict[str, Any]) -> MadeOf:
    shown = p["lens_clients"]
    return MadeOf(
        clients=tuple(str(c) for c in p["clients"]),
        settings=tuple(str(c) for c in p["settings"]),
        anchors=int(p["anchors"]),
        last_anchor=str(p["last_anchor"]),
        window_hours=float(p["window_hours"]),
        around=bool(p["around"]),
        lens_clients=None if shown is None else tuple(str(c) for c in shown),
        client_sd=None if p["client_sd"] is None else float(p["client_sd"]),
        advice=str(p["advice"]),
        reason=str(p["reason"]),
        provisional=bool(p["provisional"]),
        comparator=str(p.get("comparator", "reference")),
        drift=_two(p.get("drift")),
        drift_from=str(p.get("drift_from", "")),
        offset_interval=_two(p.get("offset_interval")),
        proof=_proof(p.get("proof")),
    )


def _two(ends: list[float] | None) -> tuple[float, float] | None:
    return None if ends is None else (float(ends[0]), float(ends[1]))


def _proof(p: dict[str, Any] | None) -> Proof | None:
    if p is None:
        return None
    return Proof(
        float(p["before"]), float(p["after"]), int(p["scans"]), int(p["clients"]), str(p["scheme"])
    )


def _named(number: int) -> str:
    """Reading of a form 0 record.

    A negative number stands for an equation's place in the registry and the visit.
    """
    if number > 0:
        return str(number)
    place, visit = divmod(-number, 10_000_000)
    return f"{FORM_0_EQUATIONS[place - 1]}@{visit}"
