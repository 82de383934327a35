"""Is the instrument fooled by water?

Fat against water within clients, and whether both are one number.
"""

from __future__ import annotations

from collections.abc import Generator, Iterable
from dataclasses import dataclass

import numpy as np

from ...domain.lens import Lens
from ...domain.records import MOST_REPLICATES, Client, Instrument
from ...domain.snapshot import Floats, Ints, Snapshot, read_only
from ...stats.derived import is_derived
from ...stats.estimate import Estimate, Note, note
from ...stats.tallies import within as tallies_within
from ...stats.within_clients import WithinSlope, centred, detrended_slope, repeated_correlation
from ..ask.question import Asked
from ..pairs.comparator import CannotCompare, readers_of, refuse_withheld
from ..pairs.series import instrument_asked, rows_of_instrument, series_of
from ..people.cautions import cautions_of

FAT, WATER, MASS = "body_fat_percent", "total_body_water_percent", "body_mass"
_WEEK = 7 * 86400.0
LEAST_READINGS = 8  # readings with fat and water from which on it is asked whether one is computed


@dataclass(frozen=True, eq=False)
class HydrationResult:
    """Visit means of fat and water of one instrument, shape (n,).

    How they vary together within clients, and whether one is computed from the other.

    ``share`` is water over what is not fat, its mean and relative SD; ``by_rule`` and
    ``by_slope`` are SDs of fat from day to day within clients after correcting 1:1 and by the
    fitted slope, ``uncorrected`` before. ``within`` numbers the values of one client in one
    setting: a change of setting is no change of water.
    """

    asked: Asked
    instrument: Instrument
    fat: Floats
    water: Floats
    client: Ints
    within: Ints
    visit: Ints
    r: Estimate | None
    slope: WithinSlope | None
    circular: bool
    share: tuple[float, float] | None
    uncorrected: float | None
    by_rule: float | None
    by_slope: float | None
    notes: tuple[Note, ...]

    @property
    def n(self) -> int:
        """Number of visits with both."""
        return int(self.fat.size)


@dataclass(frozen=True, slots=True)
class HydrationRequest:
    """How body fat and body water of an instrument vary together.

    Parameters
    ----------
    snapshot : Snapshot
        The study at one revision, with the columns of body fat and body water.
    lens : Lens
        Clients and setting.
    instrument : str
        Name of one instrument; empty for all that show both.
    """

    snapshot: Snapshot
    lens: Lens
    instrument: str = ""

    def run(self) -> Generator[float, None, tuple[HydrationResult, ...]]:
        """Yield progress; return one result an instrument."""
        refuse_withheld(self.snapshot, self.lens, FAT)
        there = {i.id for i in readers_of(self.snapshot, WATER)}
        items = [i for i in readers_of(self.snapshot, FAT) if i.id in there and i.kind == "device"]
        if self.instrument:
            items = [instrument_asked(self.snapshot, self.instrument)]
        if not items:
            raise CannotCompare(
                "no device has readings of both body fat and body water (in percent)"
            )
        out = []
        for k, item in enumerate(items):
            out.append(_of(self.snapshot, self.lens, item))
            yield (k + 1) / len(items)
        return tuple(out)


def _of(snapshot: Snapshot, lens: Lens, item: Instrument) -> HydrationResult:
    notes: list[Note] = []
    parts = []
    for metric in (FAT, WATER):
        c = snapshot.columns.get(metric)
        rows = rows_of_instrument(snapshot, lens, item, metric, notes if metric == FAT else None)
        parts.append(series_of(c, rows) if c is not None else None)
    f, w = parts
    if f is None or w is None or not f.n or not w.n:
        raise CannotCompare(
            f"{item.name} has no visit with both body fat and body water (in percent)"
        )
    settings = max(int(f.setting.max()), int(w.setting.max())) + 1
    _, at, other = np.intersect1d(
        f.visit * settings + f.setting, w.visit * settings + w.setting, return_indices=True
    )
    order = np.argsort(at)
    at, other = at[order], other[order]
    fat, water, time = f.mean[at], w.mean[other], f.instant[at] / _WEEK
    within = np.unique(f.client[at] * settings + f.setting[at], return_inverse=True)[1].astype(
        np.int64
    )
    r = repeated_correlation(water, fat, within)
    spread_of_repeats = tallies_within(*_repeats(snapshot, lens, item)).variance
    noise = (spread_of_repeats or 0.0) * float((1 / w.size[other]).mean()) if at.size else 0.0
    slope = detrended_slope(water, fat, within, time, people=f.client[at], error=noise)
    if spread_of_repeats is None:
        notes.append(note("water_noise_unknown"))
    elif slope is None and detrended_slope(water, fat, within, time) is not None:
        notes.append(note("water_noise_hides"))
    if r is None:
        notes.append(note("few_water_visits", n=int(at.size)))
    share = water / (100 - fat)
    spread = float(share.std() / share.mean()) if at.size > 1 and float(share.mean()) > 0 else None
    circular = bool(_derived(snapshot, lens, item))
    if circular:
        notes.append(note("circular"))
    elif slope is not None and slope.clustered is False:
        notes.append(note("water_few_clients"))
    own_fat, own_water = centred(fat, within), centred(water, within)
    df = at.size - int(np.unique(within).size)

    def sd(v: Floats) -> float | None:
        return float(np.sqrt(v @ v / df)) if df >= 3 else None

    return HydrationResult(
        asked=Asked(snapshot.revision, lens),
        instrument=item,
        fat=read_only(fat, np.float64),
        water=read_only(water, np.float64),
        client=read_only(f.client[at], np.int64),
        within=read_only(within, np.int64),
        visit=read_only(f.visit[at], np.int64),
        r=r,
        slope=slope,
        circular=circular,
        share=None if spread is None else (float(share.mean()), spread),
        uncorrected=sd(own_fat),
        by_rule=sd(own_fat + own_water),
        by_slope=sd(own_fat - slope.slope.value * own_water) if slope is not None else None,
        notes=tuple(notes),
    )


def _repeats(snapshot: Snapshot, lens: Lens, item: Instrument) -> tuple[Ints, Floats]:
    """Set of repeats and value of each reading of water, (n,)."""
    c = snapshot.columns[WATER]
    rows = rows_of_instrument(snapshot, lens, item, WATER)
    return c.visit[rows] * (int(c.setting.max(initial=0)) + 1) + c.setting[rows], c.value[rows]


def _derived(snapshot: Snapshot, lens: Lens, item: Instrument) -> bool | None:
    """Whether fat follows from water (and mass) of the same reading."""
    at, value, keys = [], [], []
    for metric in (FAT, WATER, MASS):
        c = snapshot.columns.get(metric)
        if c is None:
            continue
        rows = rows_of_instrument(snapshot, lens, item, metric)
        if metric == MASS and not rows.size:
            continue
        settings = max(int(x.setting.max(initial=0)) for x in snapshot.columns.values()) + 1
        own = (c.visit[rows] * settings + c.setting[rows]) * (MOST_REPLICATES + 1)
        keys.append(own + c.replicate[rows])
        at.append(rows)
        value.append(c.value[rows])
    common = keys[0]
    for own in keys[1:]:
        common = np.intersect1d(common, own)
    if common.size < LEAST_READINGS and len(keys) == 3:  # the mass is read once a visit, or not
        keys, value = keys[:2], value[:2]
        common = np.intersect1d(keys[0], keys[1])
    if common.size < LEAST_READINGS:
        return None
    places = [np.unique(own, return_index=True) for own in keys]
    values = [
        v[first[np.searchsorted(found, common)]]
        for v, (found, first) in zip(value, places, strict=True)
    ]
    c = snapshot.columns[FAT]
    found, first = places[0]
    rows = at[0][first[np.searchsorted(found, common)]]
    client = c.client[rows] * (int(c.setting.max(initial=0)) + 1) + c.setting[rows]
    return is_derived(values[0], tuple(values[1:]), client, c.instant[rows] / _WEEK)


def unfit_for_hydration_test(clients: Iterable[Client], day: str) -> tuple[str, ...]:
    """Codes of clients who are never offered a hydration test.

    Any caution, an age under 18, illness, or cutting weight.
    """
    return tuple(c.code for c in clients if cautions_of(c, day))
