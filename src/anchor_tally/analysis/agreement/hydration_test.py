"""A hydration challenge: two mornings of one healthy adult, dry and loaded.

What a kilogram of water does to the fat shown.
"""

from __future__ import annotations

import math
from collections.abc import Generator
from dataclasses import dataclass, replace
from datetime import datetime

import numpy as np

from ...domain.instants import zone_named
from ...domain.lens import Lens
from ...domain.records import Client, Instrument
from ...domain.snapshot import OK, Columns, Ints, Snapshot
from ...stats.distributions import t_estimate
from ...stats.estimate import Estimate, Note, note
from ..pairs.comparator import CannotCompare
from ..pairs.series import instrument_asked
from ..people.cautions import ADULT, cautions_of
from .repeatability import RepeatabilityRequest

FAT, MASS = "body_fat_percent", "body_mass"
LEAST_KG, MOST_DAYS = 0.5, 7


@dataclass(frozen=True, slots=True)
class HydrationTestResult:
    """Result of a hydration test on two mornings.

    Change of body mass (kg) and of the fat shown (pp), the part of it that is real (water
    dilutes fat), and the change per kg.

    ``per_kg`` is what is left over, pp for one kilogram; its interval holds repeats and, where
    it is known, the day-to-day spread.
    """

    instrument: Instrument
    client: str
    mass: float
    fat: float
    dilution: float
    per_kg: Estimate
    notes: tuple[Note, ...]


@dataclass(frozen=True, slots=True)
class HydrationTestRequest:
    """Sensitivity of one instrument to water that was drunk between two visits.

    Parameters
    ----------
    snapshot : Snapshot
        The study at one revision, with the columns of body fat and body mass.
    lens : Lens
        Metric and setting.
    instrument : str
        Name of the instrument.
    client : Client
        The client's card, given apart since cautions may be newer than the readings.
    dry, loaded : int
        Numbers of the visits before and after drinking.

    Raises
    ------
    CannotCompare
        From ``run``: a caution of the client forbids the test, or readings are missing.
    """

    snapshot: Snapshot
    lens: Lens
    instrument: str
    client: Client
    dry: int
    loaded: int

    def run(self) -> Generator[float, None, HydrationTestResult]:
        """Yield progress; return the sensitivity.

        Raises CannotCompare with the reason where there is none, or where nobody may ask.
        """
        s, item, client = (
            self.snapshot,
            instrument_asked(self.snapshot, self.instrument),
            self.client,
        )
        _refuse(s, client, (self.dry, self.loaded))
        fat, mass = s.columns.get(FAT), s.columns.get(MASS)
        if fat is None or mass is None:
            raise CannotCompare("a hydration test needs body fat and body mass on both mornings")
        shown = [_rows(fat, client.id, v, item.id) for v in (self.dry, self.loaded)]
        weighed = [_rows(mass, client.id, v, item.id) for v in (self.dry, self.loaded)]
        if not all(
            r.size for r in weighed
        ):  # another scale's mass serves, of one scale on both mornings
            first, second = (
                mass.instrument[_rows(mass, client.id, v, 0)] for v in (self.dry, self.loaded)
            )
            both = np.intersect1d(first, second)
            weighed = (
                [_rows(mass, client.id, v, int(both[0])) for v in (self.dry, self.loaded)]
                if both.size
                else weighed
            )
        if not all(r.size for r in (*shown, *weighed)):
            raise CannotCompare(
                f"{item.name} needs body fat, and one scale body mass, on both mornings"
            )
        f, m = (
            [float(fat.value[r].mean()) for r in shown],
            [float(mass.value[r].mean()) for r in weighed],
        )
        gained = m[1] - m[0]
        if abs(gained) < LEAST_KG:
            raise CannotCompare(
                f"the two mornings differ by less than {LEAST_KG} kg: too little water was drunk"
            )
        yield 0.3
        found = (
            yield from RepeatabilityRequest(s, replace(self.lens, metric=FAT), item.name).run()
        )[0].found
        if found.sd is None:
            raise CannotCompare(f"{item.name} has no repeats, so its noise is not known")
        notes = [] if found.day is not None else [note("challenge_day_unknown")]
        variance = found.sd.value**2 * (1 / shown[0].size + 1 / shown[1].size)
        df = found.df
        if found.day is not None:
            variance += 2 * found.day.value**2
            df = min(df, max(2 * found.day.n // 3, 1))
        dilution = -f[0] * gained / m[1]
        value, se = (f[1] - f[0] - dilution) / gained, math.sqrt(variance) / abs(gained)
        per_kg = t_estimate(
            value, se, df, int(shown[0].size + shown[1].size), "difference of two mornings"
        )
        return HydrationTestResult(
            item, client.code, gained, f[1] - f[0], dilution, per_kg, tuple(notes)
        )


def _rows(c: Columns, client: int, visit: int, instrument: int) -> Ints:
    """Places of ok readings of a visit; of any instrument for 0."""
    own = (c.client == client) & (c.visit == visit) & (c.status == OK) & (c.reading > 0)
    return np.flatnonzero(own & (c.instrument == instrument) if instrument else own)


def _refuse(s: Snapshot, client: Client, visits: tuple[int, int]) -> None:
    """Raise for people who are never asked to, and for visits that are no two mornings."""
    at = [
        int(np.flatnonzero(s.visits.visit == v)[0]) for v in visits if (s.visits.visit == v).any()
    ]
    if len(at) < 2 or at[0] == at[1]:
        raise CannotCompare("a hydration test needs two visits, one dry and one loaded")
    days = [
        datetime.fromtimestamp(int(s.visits.instant[k]), zone_named(s.catalogue.zone))
        .date()
        .isoformat()
        for k in at
    ]
    young = any(s.visits.age_years[k] < ADULT for k in at)
    if young or any(cautions_of(client, day) for day in days):
        raise CannotCompare(
            f"no hydration test for {client.code}: the card has a caution, or an age under {ADULT}"
        )
    if abs(int(s.visits.instant[at[0]] - s.visits.instant[at[1]])) > MOST_DAYS * 86400:
        raise CannotCompare(
            f"the two mornings are more than {MOST_DAYS} days apart: fat itself may have changed"
        )
