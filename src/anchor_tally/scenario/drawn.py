"""Whole studies drawn with a chosen truth: one device, one scan, body fat in percent."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime, timedelta
from types import MappingProxyType

import numpy as np
import numpy.typing as npt

from ..domain.catalogue import Catalogue
from ..domain.import_rows import ImportRow
from ..domain.records import Client, Instrument, Setting
from ..domain.snapshot import FAILED, OK, Columns, Snapshot, VisitColumns, read_only
from ..domain.stations import STATION

Floats = npt.NDArray[np.float64]
METRIC = "body_fat_percent"
DEVICE, SCAN = "Device", STATION["scan"].instrument
START = date(2026, 1, 5)
LOWEST, HIGHEST = 3.0, 65.0
_DAY = 86_400


@dataclass(frozen=True, slots=True)
class Truth:
    """What a study is drawn with; SDs and shifts in percentage points.

    Attributes
    ----------
    clients, scans, repeats : int
        Clients, scans of each, and repeats of the device beside each scan.
    bias : float
        Mean of device − truth.
    client_sd, day_sd, repeat_sd, scan_sd : float
        SDs of the offset between clients, of the device from day to day, of its repeats, and of
        one scan.
    level, level_sd : float
        Mean and SD of the clients' body fat at the start.
    change_per_week, change_sd : float
        Mean change of a client's body fat a week, and its SD between clients.
    slope : float
        What the device shows of a change within a client; 1 shows all of it.
    drift_per_week : float
        What the device's error gains a week.
    step, step_week : float
        Shift of the device from a week on, with a change of its setting.
    water_sd, hydration : float
        SD of body water from day to day, and what a point of water takes off the fat shown.
    failures, mistypes, dropouts : float
        Shares of readings that fail, of readings with two digits swapped, of visits missed.
    weeks : float
        Weeks between scans.
    resolution : float
        Step of the device's display.
    """

    clients: int = 14
    scans: int = 3
    repeats: int = 3
    bias: float = 2.0
    client_sd: float = 2.0
    day_sd: float = 1.0
    repeat_sd: float = 0.3
    scan_sd: float = 0.5
    level: float = 22.0
    level_sd: float = 5.0
    change_per_week: float = 0.0
    change_sd: float = 0.0
    slope: float = 1.0
    drift_per_week: float = 0.0
    step: float = 0.0
    step_week: float = 0.0
    water_sd: float = 0.0
    hydration: float = 0.0
    failures: float = 0.0
    mistypes: float = 0.0
    dropouts: float = 0.0
    weeks: float = 12.0
    resolution: float = 0.1


@dataclass(frozen=True, eq=False)
class Drawn:
    """A drawn study: one element an occasion (m,) or a reading (m, repeats), and what is true.

    ``own`` (C,) is each client's true offset, ``fat`` (m,) the true body fat, ``shown`` (m, K)
    what the device showed (NaN for a failed reading), ``scan`` (m,) the scan; ``there`` (m,) is
    False for a visit that was missed.
    """

    truth: Truth
    client: npt.NDArray[np.int64]
    week: Floats
    own: Floats
    fat: Floats
    shown: Floats
    scan: Floats
    there: npt.NDArray[np.bool_]


def draw(truth: Truth, rng: np.random.Generator) -> Drawn:
    """Draw one study.

    Parameters
    ----------
    truth : Truth
        What is true.
    rng : numpy.random.Generator
        Source of all random numbers.

    Returns
    -------
    Drawn
    """
    t = truth
    n, a, k = t.clients, t.scans, t.repeats
    client = np.repeat(np.arange(n), a)
    week = np.tile(np.arange(a) * t.weeks, n)
    own = t.bias + t.client_sd * rng.standard_normal(n)
    level = t.level + t.level_sd * rng.standard_normal(n)
    change = t.change_per_week + t.change_sd * rng.standard_normal(n)
    moved = change[client] * week
    fat = np.clip(level[client] + moved, LOWEST + 2, HIGHEST - 2)
    wet = t.water_sd * rng.standard_normal(n * a)
    seen = level[client] + t.slope * moved + own[client]
    seen += t.drift_per_week * week - t.hydration * wet
    seen += np.where(week >= t.step_week, t.step, 0.0) if t.step else 0.0
    seen += t.day_sd * rng.standard_normal(n * a)
    shown = seen[:, None] + t.repeat_sd * rng.standard_normal((n * a, k))
    shown = np.clip(np.round(shown / t.resolution) * t.resolution, LOWEST, HIGHEST)
    swapped = rng.random((n * a, k)) < t.mistypes
    tens, ones = np.floor(shown / 10), np.floor(shown) % 10
    shown = np.where(swapped, np.clip(shown + 9 * (ones - tens), LOWEST, HIGHEST), shown)
    shown = np.where(rng.random((n * a, k)) < t.failures, np.nan, shown)
    scan = np.round(fat + t.scan_sd * rng.standard_normal(n * a), 1)
    there = (rng.random(n * a) >= t.dropouts) | (week == 0)
    return Drawn(t, client, week, own, fat, shown, scan, there)


def snapshot_of(d: Drawn) -> Snapshot:
    """A drawn study as the columns that the analysis reads."""
    t = d.truth
    codes = [f"C{k + 1:02}" for k in range(t.clients)]
    there = np.flatnonzero(d.there)
    k, m = t.repeats, there.size
    start = START.toordinal() - date(1970, 1, 1).toordinal()
    day = start + np.round(d.week[there] * 7).astype(np.int64)
    instant = day * _DAY + 7 * 3600 + d.client[there] * 60
    visit, client = np.arange(1, m + 1), d.client[there] + 1
    athlete = (d.week[there] >= t.step_week) & (t.step != 0)
    values = np.concatenate([d.shown[there].ravel(), d.scan[there]])
    status = np.where(np.isnan(values), FAILED, OK)

    def both(x: npt.NDArray[np.int64]) -> npt.NDArray[np.int64]:
        return np.concatenate([np.repeat(x, k), x])

    total = m * (k + 1)
    instrument = np.concatenate([np.ones(m * k, dtype=np.int64), np.full(m, 2)])
    setting = np.concatenate([np.repeat(np.where(athlete, 2, 1), k), np.zeros(m, dtype=np.int64)])
    columns = Columns(
        METRIC,
        read_only(np.arange(1, total + 1), np.int64),
        read_only(both(visit), np.int64),
        read_only(both(client), np.int64),
        read_only(instrument, np.int64),
        read_only(setting if t.step else np.zeros(total), np.int64),
        read_only(both(instant), np.int64),
        read_only(both(day), np.int64),
        read_only(np.ones(total), np.bool_),
        read_only(np.concatenate([np.tile(np.arange(1, k + 1), m), np.ones(m)]), np.int64),
        read_only(status, np.int64),
        read_only(values, np.float64),
    )
    clients = {i + 1: Client(i + 1, code) for i, code in enumerate(codes)}
    instruments = {
        1: Instrument(1, DEVICE, "device", electrodes="feet", repeats=k),
        2: Instrument(2, SCAN, "reference", repeats=1),
    }
    first = START.isoformat()
    changed = (START + timedelta(days=round(t.step_week * 7))).isoformat()
    settings = (
        {1: Setting(1, 1, "standard", first), 2: Setting(2, 1, "athlete", changed)}
        if t.step
        else {}
    )
    catalogue = Catalogue(
        title="Drawn study",
        clients=MappingProxyType(clients),
        instruments=MappingProxyType(instruments),
        settings=MappingProxyType(settings),
        stated=MappingProxyType({(METRIC, "reference_sd"): t.scan_sd} if t.scan_sd > 0 else {}),
    )
    nothing = read_only(np.full(m, np.nan), np.float64)
    visits = VisitColumns(
        read_only(visit, np.int64),
        read_only(client, np.int64),
        read_only(instant, np.int64),
        nothing,
        nothing,
    )
    return Snapshot(0, catalogue, visits, {METRIC: columns})


def rows_of(d: Drawn, device: str = DEVICE) -> tuple[ImportRow, ...]:
    """A drawn study as rows of a table, in the order of time."""
    t = d.truth
    out: list[ImportRow] = []

    def row(
        code: str, at: datetime, name: str, kind: str, value: float | None, k: int, setting: str
    ) -> None:
        shown = None if value is None or np.isnan(value) else round(float(value), 1)
        out.append(
            ImportRow(
                len(out) + 2,
                code,
                "",
                None,
                None,
                at.isoformat(timespec="minutes"),
                name,
                kind,
                setting,
                METRIC,
                shown,
                "" if shown is None else f"{shown:.1f}",
                "percent",
                k,
                "failed" if shown is None else "ok",
                "",
            )
        )

    for i in np.lexsort((d.client, d.week)).tolist():
        if not d.there[i]:
            continue
        at = datetime(START.year, START.month, START.day, 7) + timedelta(
            days=round(float(d.week[i]) * 7), minutes=int(d.client[i])
        )
        code = f"C{int(d.client[i]) + 1:02}"
        setting = ("athlete" if d.week[i] >= t.step_week else "standard") if t.step else ""
        for k, value in enumerate(d.shown[i].tolist(), start=1):
            row(code, at, device, "device", value, k, setting)
        row(code, at + timedelta(minutes=30), SCAN, "reference", float(d.scan[i]), 1, "")
    return tuple(out)
