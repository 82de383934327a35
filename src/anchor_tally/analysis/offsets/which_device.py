"""Which device to choose, for level, for change and for daily use; each job in its own unit.

Level is the error on left-out scans after the best correction, change the error of a change
between two scans, daily use the smallest change that two readings, or two weeks, can show.
"""

from __future__ import annotations

import math
import re
from collections.abc import Generator, Mapping
from dataclasses import dataclass, field

import numpy as np

from ...domain.catalogue import Catalogue
from ...domain.lens import Lens
from ...domain.metrics import REGIONS, region_of
from ...domain.records import Instrument
from ...domain.snapshot import FAILED, Floats, Ints, Snapshot
from ...domain.steps import finish, scaled
from ...stats.change import smallest_change
from ...stats.day_steps import day_steps
from ...stats.estimate import Estimate, Note, note
from ...stats.ranking import Ranking, rank, root_mean
from ..agreement.repeatability import RepeatabilityRequest
from ..ask.question import Asked
from ..pairs.comparator import find_comparator, lens_for, others_of
from ..pairs.pairing import PairSet
from ..pairs.reference_slopes import (
    FOLLOWS,
    RESPONDS,
    SIZE_UNCERTAIN,
    answer_on_change,
    shows_too_little,
)
from ..pairs.series import rows_of_instrument, series_of
from ..people.cautions import locks
from .calibrate import CalibrateRequest, CalibrateResult

# share of resamples from which on one of two, of three, or of more devices is named alone: of equal
# devices one is named in about 5 %
CLEAR = (0.99, 0.975, 0.95)
CLOSE = 0.2  # and from which on another is named as close
JOBS = ("level", "change", "daily")
LEAST_STEPS = 6  # differences of neighbouring days behind a day-to-day SD
_FACTOR = 1.959964 * math.sqrt(2)
WEEK = 7


@dataclass(frozen=True, slots=True)
class MustHaves:
    """What a device must have to be chosen at all; empty and None ask nothing."""

    metric: str = ""
    segments: bool = False
    exports: bool = False
    most_price: float | None = None
    most_failed_percent: float | None = None
    for_client: str = ""


@dataclass(frozen=True, slots=True)
class Rated:
    """One device in one job: its error, and how often it is the best in resamples."""

    error: Estimate | None
    best: float | None


@dataclass(frozen=True, slots=True)
class Card:
    """One device in all jobs; errors are in the metric's unit.

    ``week`` is the smallest detectable change of means of seven days, ``follows`` the slope of
    the device on the scan within clients, ``failed`` the share of failed readings.
    """

    instrument: Instrument
    level: Rated
    change: Rated
    daily: Rated
    week: Estimate | None
    follows: Estimate | None
    price: float | None
    failed: float
    ruled_out: tuple[Note, ...]

    def of(self, job: str) -> Rated:
        """How the device does in one of JOBS."""
        return {"level": self.level, "change": self.change, "daily": self.daily}[job]


@dataclass(frozen=True, slots=True)
class Choice:
    """The device for one job.

    ``name`` is empty where none can be chosen, and ``missing`` states why. ``sure`` is the share of
    resamples in which it is the best, ``close`` names others that are often the best.
    ``expected`` is its error corrected for the choice among several, ``among`` their number.
    """

    job: str
    name: str = ""
    sure: float | None = None
    close: tuple[str, ...] = ()
    error: Estimate | None = None
    expected: float | None = None
    missing: str = ""
    among: int = 1

    @property
    def clear(self) -> bool:
        """Whether one device is named alone."""
        least = CLEAR[min(max(self.among - 2, 0), len(CLEAR) - 1)]
        return self.sure is not None and (self.among == 1 or self.sure >= least)


@dataclass(frozen=True, eq=False)
class WhichDeviceResult:
    """Cards in the study's order, the choice for each job, and baselines by job.

    Baselines need no device: another client's mean, an equation from body mass index, or the
    previous scan.
    """

    asked: Asked
    metric: str
    cards: tuple[Card, ...]
    choices: Mapping[str, Choice]
    baselines: Mapping[str, Mapping[str, float]]
    clients: int
    notes: tuple[Note, ...]


@dataclass(frozen=True, slots=True)
class WhichDeviceRequest:
    """All devices and methods, in three jobs.

    Parameters
    ----------
    snapshot : Snapshot
        The study at one revision, with the columns of the lens' metric.
    lens : Lens
        Metric, reference, clients, setting and pairing window.
    must : MustHaves
        Requirements that rule devices out.
    offers : mapping of int to frozenset of str
        Metrics that each instrument shows.
    seed : int
        Seed of the resampled clients.

    Raises
    ------
    CannotCompare
        From ``run``: no comparator, or no readings of the metric.
    """

    snapshot: Snapshot
    lens: Lens
    must: MustHaves = MustHaves()
    offers: Mapping[int, frozenset[str]] = field(default_factory=dict)
    seed: int = 1

    def run(self) -> Generator[float, None, WhichDeviceResult]:
        """Yield progress; return the cards and choices."""
        comparator = find_comparator(self.snapshot, self.lens)
        items = others_of(self.snapshot, self.lens, comparator)
        codes = np.array(sorted(self.snapshot.clients), dtype=np.int64)
        found: dict[int, CalibrateResult] = {}
        if comparator.kind != "device":
            results = yield from scaled(CalibrateRequest(self.snapshot, self.lens).run(), 0.7)
            found = {r.comparison.pairs.instrument.id: r for r in results}
        reasons = [
            ruled_out(
                self.snapshot.catalogue,
                item,
                self.must,
                self.offers.get(item.id, frozenset()),
                self.snapshot,
                self.lens,
            )
            for item in items
        ]
        slopes = [found[i.id].within_slope if i.id in found else None for i in items]
        sums = {
            "level": [_level(found.get(i.id), codes) for i in items],
            "change": [_changes(found.get(i.id), codes) for i in items],
            "daily": [_days(self.snapshot, self.lens, i, codes) for i in items],
        }
        may = {
            # an offset of each client's own lets a device that does not respond repeat the scan
            "level": [
                not r and not _likely_stuck(s, slopes) for r, s in zip(reasons, slopes, strict=True)
            ],
            "change": [not r and _responds(s) for r, s in zip(reasons, slopes, strict=True)],
            "daily": [
                not r and not i.equation and not shows_too_little(s)
                for r, i, s in zip(reasons, items, slopes, strict=True)
            ],
        }
        rated: dict[str, list[Rated]] = {}
        choices: dict[str, Choice] = {}
        for k, job in enumerate(JOBS):
            rated[job], choices[job] = _rated(
                job, [i.name for i in items], sums[job], may[job], found, self.seed
            )
            yield 0.7 + 0.1 * (k + 1)
        smallest = [_smallest(self.snapshot, self.lens, i) for i in items]
        week, shown = [a for a, _ in smallest], [b for _, b in smallest]
        rated["daily"] = [
            Rated(e if e is not None else r.error, r.best)
            for e, r in zip(shown, rated["daily"], strict=True)
        ]
        cards = tuple(
            Card(
                instrument=item,
                level=rated["level"][k],
                change=rated["change"][k],
                daily=rated["daily"][k],
                week=week[k],
                follows=slopes[k],
                price=price_of(item.price),
                failed=_failed(self.snapshot, self.lens, item),
                ruled_out=reasons[k],
            )
            for k, item in enumerate(items)
        )
        pooled = tuple(
            r.comparison.pairs.instrument.name
            for r in found.values()
            if any(n.code == "settings_pooled" for n in r.comparison.pairs.notes)
        )
        yield 1.0
        return WhichDeviceResult(
            Asked(self.snapshot.revision, self.lens),
            self.lens.metric,
            cards,
            choices,
            _baselines(found, codes),
            max((r.comparison.pairs.clients for r in found.values()), default=0),
            (note("cards_pooled", names=pooled),) if pooled else (),
        )


def _level(r: CalibrateResult | None, codes: Ints) -> Floats:
    """By client: sum of squared errors on left-out scans after the best correction, and count."""
    out = np.zeros((codes.size, 2))
    cv = r.cross_validation if r is not None else None
    if cv is not None:
        at = np.searchsorted(codes, cv.client)
        out[:, 0] = np.bincount(at, cv.loss, codes.size)
        out[:, 1] = np.bincount(at, minlength=codes.size)
    return out


def _visits(pairs: PairSet) -> tuple[Floats, Floats, Ints]:
    """Mean difference, scan and client of each scan, in the order of client and time."""
    used, at = np.unique(pairs.occasion, return_inverse=True)
    d = np.bincount(at, pairs.d) / np.bincount(at)
    client = pairs.anchors.client[used]
    order = np.lexsort((pairs.anchors.instant[used], client))
    return d[order], pairs.anchors.mean[used][order], client[order]


def _changes(r: CalibrateResult | None, codes: Ints) -> Floats:
    """By client: sum of squared errors of changes between scans, and their count."""
    out = np.zeros((codes.size, 2))
    if r is not None and r.comparison.pairs.n:
        d, _, client = _visits(r.comparison.pairs)
        same = client[1:] == client[:-1]
        at = np.searchsorted(codes, client[1:][same])
        out[:, 0] = np.bincount(at, np.diff(d)[same] ** 2, codes.size)
        out[:, 1] = np.bincount(at, minlength=codes.size)
    return out


def _days(snapshot: Snapshot, lens: Lens, item: Instrument, codes: Ints) -> Floats:
    """By client what a smallest detectable change is made of.

    Squared differences of neighbouring days, their count, their part of the repeats, the sum of
    squares within sets of repeats, and its degrees of freedom.
    """
    out = np.zeros((codes.size, 5))
    own = lens_for(snapshot, lens, item)
    rows = rows_of_instrument(snapshot, own, item, lens.metric)
    if item.equation or rows.size == 0:
        return out
    c = snapshot.columns[lens.metric]
    s = series_of(c, rows)
    steps = day_steps(s.mean, s.client * (int(s.setting.max()) + 1) + s.setting, s.day)
    second = steps.second
    at = np.searchsorted(codes, s.client[second])
    out[:, 0] = np.bincount(at, steps.step**2, codes.size)
    out[:, 1] = np.bincount(at, minlength=codes.size)
    share = (1 / s.size[second] + 1 / s.size[second - 1]) / 2
    out[:, 2] = np.bincount(at, share, codes.size)
    key = c.visit[rows] * (int(c.setting.max(initial=0)) + 1) + c.setting[rows]
    _, cell, size = np.unique(key, return_inverse=True, return_counts=True)
    value = c.value[rows]
    gap = value - (np.bincount(cell, value) / size)[cell]
    at = np.searchsorted(codes, c.client[rows])
    out[:, 3] = np.bincount(at, gap**2, codes.size)
    out[:, 4] = np.bincount(at, 1 - 1 / size[cell], codes.size)
    return out


def _detectable(sums: Floats) -> Floats:
    """Smallest detectable change of two single readings from the sums of ``_days`` (..., 5)."""
    steps, n, share, ss, df = np.moveaxis(sums, -1, 0)
    known = n >= LEAST_STEPS
    count = np.where(known, n, 1.0)
    within = np.where(df > 0.5, ss / np.where(df > 0.5, df, 1.0), 0.0)
    day = np.maximum(steps / (2 * count) - within * share / count, 0.0)
    return np.where(known, _FACTOR * np.sqrt(day + within), np.nan)


def _smallest(
    snapshot: Snapshot, lens: Lens, item: Instrument
) -> tuple[Estimate | None, Estimate | None]:
    """Smallest detectable change of means of seven days, and of one reading, with intervals."""
    own = lens_for(snapshot, lens, item)
    if item.equation or rows_of_instrument(snapshot, own, item, lens.metric).size == 0:
        return None, None
    found = finish(RepeatabilityRequest(snapshot, own, item.name).run())[0].found
    if found.day is None:
        return None, None
    return (
        smallest_change(found.day, found.sd, 1, WEEK),
        smallest_change(found.day, found.sd, 1, 1),
    )


def _responds(slope: Estimate | None) -> bool:
    return answer_on_change(slope) in (RESPONDS, SIZE_UNCERTAIN)


def _likely_stuck(slope: Estimate | None, every: list[Estimate | None]) -> bool:
    """Whether a device shows too little of a change.

    Surely, or by its estimate where another one is shown to respond.
    """
    below = slope is not None and slope.value < FOLLOWS
    return shows_too_little(slope) or (below and any(map(_responds, every)))


def _rated(
    job: str,
    names: list[str],
    sums: list[Floats],
    may: list[bool],
    found: Mapping[int, CalibrateResult],
    seed: int,
) -> tuple[list[Rated], Choice]:
    """Errors of all devices in one job, and the choice among those that may be chosen."""
    if not names:
        return [], Choice(job, missing="no_device")
    value = _detectable if job == "daily" else root_mean
    every = rank(np.stack(sums, axis=1), value=value, seed=seed)
    open_ = [k for k, ok in enumerate(may) if ok and every.errors[k] is not None]
    best: dict[int, float | None] = {}
    choice = Choice(job, missing=_why(job, every, found, may))
    if open_:
        among = rank(np.stack([sums[k] for k in open_], axis=1), value=value, seed=seed)
        best = dict(zip(open_, among.best, strict=True))
        if among.chosen is not None:
            k = open_[among.chosen]
            close = sorted(
                (i for i in open_ if i != k and (best[i] or 0) >= CLOSE),
                key=lambda i: -(best[i] or 0),
            )
            choice = Choice(
                job,
                names[k],
                best[k],
                tuple(names[i] for i in close[:2]),
                every.errors[k],
                among.expected,
                among=len(open_),
            )
    return [Rated(e, best.get(k)) for k, e in enumerate(every.errors)], choice


def _why(job: str, every: Ranking, found: Mapping[int, CalibrateResult], may: list[bool]) -> str:
    """Why no device is chosen for a job, as a code that the wording knows."""
    if job != "daily" and not found:
        return "no_scan"
    if all(e is None for e in every.errors):
        return {"level": "few_clients", "change": "one_scan", "daily": "few_days"}[job]
    if not any(may):
        return "none_responds" if job == "change" else "none_left"
    return "few_clients"


def _baselines(found: Mapping[int, CalibrateResult], codes: Ints) -> dict[str, dict[str, float]]:
    """Errors without a device, from the device with the most scans: by job and by baseline."""
    rows = [r for r in found.values() if r.cross_validation is not None]
    out: dict[str, dict[str, float]] = {job: {} for job in JOBS}
    if not rows:
        return out
    r = max(rows, key=lambda r: r.comparison.pairs.occasions)
    b = r.cross_validation.baselines if r.cross_validation is not None else None
    if b is not None:
        out["level"] = {
            name: v
            for name, v in (
                ("last_scan", b.last_scan),
                ("sample_mean", b.sample_mean),
                ("bmi_equation", b.bmi_equation),
            )
            if v is not None
        }
    _, x, client = _visits(r.comparison.pairs)
    same = client[1:] == client[:-1]
    if same.any():
        out["change"] = {"last_scan": float(np.sqrt(np.mean(np.diff(x)[same] ** 2)))}
    return out


def price_of(text: str) -> float | None:
    """The number in a price such as "149 EUR", "1,299.00" or "89,90"; None without one."""
    found = re.search(r"\d[\d.,]*", text)
    if found is None:
        return None
    digits = found[0].rstrip(".,")
    last = max(digits.rfind("."), digits.rfind(","))
    cents = last >= 0 and len(digits) - last - 1 != 3  # three digits after the mark are thousands
    whole, rest = (digits[:last], digits[last + 1 :]) if cents else (digits, "")
    return float(f"{re.sub(r'[.,]', '', whole) or '0'}.{rest or '0'}")


def ruled_out(
    items: Catalogue,
    item: Instrument,
    must: MustHaves,
    offers: frozenset[str],
    snapshot: Snapshot,
    lens: Lens,
) -> tuple[Note, ...]:
    """Reasons why an instrument is ruled out.

    One note for each requirement that it does not meet, in the order of the requirements.
    """
    out = []
    has = offers | {m for m, c in snapshot.columns.items() if bool((c.instrument == item.id).any())}
    if must.metric and must.metric not in has:
        out.append(note("lacks_metric", metric=must.metric))
    if must.segments and not any(
        region_of(m)[1] in REGIONS and region_of(m)[1] not in ("subtotal", "head") for m in has
    ):
        out.append(note("lacks_segments"))
    if must.exports and item.exports_data is not True:
        out.append(note("lacks_export" if item.exports_data is False else "export_not_known"))
    price = price_of(item.price)
    if must.most_price is not None and (price is None or price > must.most_price):
        out.append(note("too_dear", price=item.price or "–", most=must.most_price))
    failed = _failed(snapshot, lens, item)
    if must.most_failed_percent is not None and 100 * failed > must.most_failed_percent:
        out.append(note("fails_too_often", share=100 * failed, most=must.most_failed_percent))
    client = items.client_coded(must.for_client) if must.for_client else None
    if client is not None and item.name in locks(client, [item]):
        out.append(note("not_for_client", client=client.code))
    return tuple(out)


def _failed(snapshot: Snapshot, lens: Lens, item: Instrument) -> float:
    """Share of failed readings."""
    c = snapshot.columns[lens.metric]
    own = c.instrument == item.id
    return float((c.status[own] == FAILED).mean()) if own.any() else 0.0
