"""What the program would say of studies whose truth is known: coverage, errors, verdicts."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Generator, Mapping
from dataclasses import dataclass

import numpy as np

from ...domain.lens import Lens
from ...domain.steps import finish
from ...scenario.drawn import DEVICE, METRIC, Drawn, Truth, draw, snapshot_of
from ...stats.planning import Design, Expected, Spreads, expected
from ..agreement.agreement import CompareResult
from ..agreement.change import ChangeRequest
from ..offsets.calibrate import CalibrateRequest, CalibrateResult
from ..pairs.comparator import CannotCompare
from ..pairs.reference_slopes import answer_on_change
from ..time.drift import DriftRequest

MOST_STUDIES = 10_000


@dataclass(frozen=True, slots=True)
class Rate:
    """A share of intervals, its Monte-Carlo standard error, and the number of studies behind it."""

    share: float
    error: float
    n: int


@dataclass(frozen=True, slots=True)
class Simulated:
    """What was found in the drawn studies.

    Attributes
    ----------
    truth, seed, studies
        What was drawn, how often, and from which seed.
    coverage : mapping
        Share of 95 % intervals that hold what is true: bias, limits, offset, reading.
    half_widths : mapping
        Mean half-width of those intervals, in percentage points.
    planned : Expected
        The planner's half-widths for the same design.
    bias_error, offset_rmse : float or None
        Mean error of the bias, and root mean square error of the clients' offsets.
    verdicts : mapping
        Shares of the verdicts: drift, change, advice, equivalent.
    refused : int
        Studies of which nothing could be said.
    """

    truth: Truth
    seed: int
    studies: int
    coverage: Mapping[str, Rate]
    half_widths: Mapping[str, float]
    planned: Expected
    bias_error: float | None
    offset_rmse: float | None
    verdicts: Mapping[str, Mapping[str, float]]
    refused: int


def _rate(held: list[float]) -> Rate:
    """Share with the error of its mean over studies."""
    x = np.array(held)
    error = float(x.std(ddof=1) / math.sqrt(x.size)) if x.size > 1 else math.nan
    if error == 0:  # all alike: two of each kind are added (Agresti & Coull 1998)
        p = (float(x.sum()) + 2) / (x.size + 4)
        error = math.sqrt(p * (1 - p) / (x.size + 4))
    return Rate(float(x.mean()), error, x.size)


class _Tally:
    """What is counted from study to study."""

    def __init__(self) -> None:
        self.study: dict[str, list[float]] = {}
        self.held: dict[str, list[float]] = {}
        self.half: dict[str, list[float]] = {}
        self.verdicts: dict[str, Counter[str]] = {
            k: Counter() for k in ("drift", "change", "advice", "equivalent")
        }
        self.bias: list[float] = []
        self.offset: list[float] = []
        self.refused = 0

    def interval(self, name: str, low: float, high: float, true: float) -> None:
        self.study.setdefault(name, []).append(float(low <= true <= high))
        self.half.setdefault(name, []).append((high - low) / 2)

    def close(self) -> None:
        """A study is done: its intervals depend on each other, so their mean counts once."""
        for name, held in self.study.items():
            self.held.setdefault(name, []).append(float(np.mean(held)))
        self.study = {}


@dataclass(frozen=True, slots=True)
class SimulationRequest:
    """Draw studies and run the real analysis on each.

    Parameters
    ----------
    truth : Truth
        What is true in every study.
    studies : int
        How many are drawn, at most ``MOST_STUDIES``.
    seed : int
        Seed of all random numbers.
    """

    truth: Truth
    studies: int = 100
    seed: int = 1

    def run(self) -> Generator[float, None, Simulated]:
        """Yield progress after each study; return what was found."""
        tally, t = _Tally(), self.truth
        rng = np.random.default_rng(self.seed)
        for k in range(self.studies):
            self._one(draw(t, rng), rng, tally)
            yield (k + 1) / self.studies
        said = self.studies - tally.refused
        spreads = Spreads(t.client_sd, t.scan_sd, t.day_sd, t.repeat_sd)
        return Simulated(
            t,
            self.seed,
            self.studies,
            {k: _rate(v) for k, v in tally.held.items()},
            {k: float(np.mean(v)) for k, v in tally.half.items()},
            expected(spreads, Design(t.clients, t.scans, 1, t.repeats)),
            float(np.mean(tally.bias)) if tally.bias else None,
            math.sqrt(float(np.mean(np.square(tally.offset)))) if tally.offset else None,
            {
                name: {word: n / max(said, 1) for word, n in sorted(found.items())}
                for name, found in tally.verdicts.items()
            },
            tally.refused,
        )

    def _one(self, d: Drawn, rng: np.random.Generator, tally: _Tally) -> None:
        lens, snapshot = Lens(METRIC), snapshot_of(d)
        try:
            found = finish(CalibrateRequest(snapshot, lens, DEVICE).run())[0]
            drift = finish(DriftRequest(snapshot, lens, DEVICE).run())[0]
            change = finish(ChangeRequest(snapshot, lens, DEVICE).run())[0]
        except CannotCompare:
            tally.refused += 1
            return
        self._level(found.comparison, d, tally)
        self._offsets(found, d, rng, tally)
        tally.close()
        tally.verdicts["drift"][drift.verdict] += 1
        tally.verdicts["advice"][found.advice_code] += 1
        tally.verdicts["change"][answer_on_change(change.follows)] += 1
        equal = found.comparison.equivalence
        if equal is not None:
            tally.verdicts["equivalent"]["yes" if equal.equivalent else "no"] += 1

    def _level(self, r: CompareResult, d: Drawn, tally: _Tally) -> None:
        """Bias and limits against what is true over the weeks that were measured."""
        t = d.truth
        moved = t.drift_per_week * d.week[d.there]
        moved = moved + (np.where(d.week[d.there] >= t.step_week, t.step, 0.0) if t.step else 0.0)
        true = t.bias + float(moved.mean())
        if r.bias is not None:
            tally.bias.append(r.bias.value - true)
            if r.bias.interval is not None:
                tally.interval("bias", r.bias.interval.low, r.bias.interval.high, true)
        # with a moving device, or one that shows a part of a change, limits of one study are none
        steady = not (t.drift_per_week or t.step or t.hydration or t.change_sd or t.slope != 1)
        if steady and r.limits is not None:
            sd = math.sqrt(t.client_sd**2 + t.day_sd**2 + t.scan_sd**2 + t.repeat_sd**2)
            ends = ((r.limits.lower_interval, -1.96), (r.limits.upper_interval, 1.96))
            for interval, z in ends:
                if interval is not None:
                    tally.interval("limits", interval.low, interval.high, true + z * sd)

    def _offsets(
        self, r: CalibrateResult, d: Drawn, rng: np.random.Generator, tally: _Tally
    ) -> None:
        """Offsets of clients, and of one new reading of each, in a device that does not move."""
        t = d.truth
        if t.drift_per_week or t.step or t.slope != 1:
            return
        for c in r.clients:
            own = float(d.own[int(c.client[1:]) - 1])
            tally.offset.append(c.offset - own)
            tally.interval("offset", c.interval.low, c.interval.high, own)
            spread = math.sqrt(
                t.day_sd**2 + t.scan_sd**2 + t.repeat_sd**2 + (t.hydration * t.water_sd) ** 2
            )
            new = own + spread * rng.standard_normal()
            tally.interval("reading", c.new.low, c.new.high, new)
