"""What claims made elsewhere leave open: a correlation, a repeatability."""

from __future__ import annotations

from collections.abc import Generator, Sequence
from dataclasses import dataclass

import numpy as np

from ...domain.errors import UserError
from ...domain.lens import Lens
from ...domain.records import Instrument
from ...domain.snapshot import Snapshot
from ...domain.steps import scaled
from ...stats.claims import left_by_correlation
from ...stats.estimate import Estimate
from ...stats.limits import Limits
from .agreement import CompareResult, LadderRequest
from .repeatability import RepeatabilityRequest

ASSUMED_SDS = (4.0, 6.0, 8.0)  # between people, beside that of the study
LEAST_CLIENTS = 3  # from which on the spread of a study counts


@dataclass(frozen=True, slots=True)
class Claim:
    """What is claimed of a device: correlation with a reference, and range of its repeats.

    ``repeatability`` is the largest difference of two readings minutes apart, in the metric's
    unit.
    """

    correlation: float | None = None
    repeatability: float | None = None


@dataclass(frozen=True, slots=True)
class Measured:
    """What the study has of a device.

    ``minutes`` and ``days`` hold 95 % of the differences of two readings so far apart.
    """

    instrument: Instrument
    correlation: Estimate | None
    bias: Estimate | None
    limits: Limits | None
    minutes: float | None
    days: float | None


@dataclass(frozen=True, slots=True)
class ClaimResult:
    """A claim beside the study.

    ``left`` pairs an SD of the reference with the half-width that holds 95 % of errors at the
    claimed correlation; the first is the study's own where ``own`` says so.
    """

    claim: Claim
    metric: str
    own: bool
    left: tuple[tuple[float, float], ...]
    devices: tuple[Measured, ...]


@dataclass(frozen=True, slots=True)
class ClaimRequest:
    """A claim beside the study.

    Parameters
    ----------
    snapshot : Snapshot
        The study at one revision, with the column of the lens' metric.
    lens : Lens
        Metric, reference, clients, setting and pairing window.
    claim : Claim
        What is claimed.

    Raises
    ------
    UserError
        From ``run``: nothing is claimed, or what cannot be.
    """

    snapshot: Snapshot
    lens: Lens
    claim: Claim

    def run(self) -> Generator[float, None, ClaimResult]:
        """Yield progress; return the result."""
        r, repeats = self.claim.correlation, self.claim.repeatability
        if r is None and repeats is None:
            raise UserError("type a claimed correlation or a claimed repeatability")
        if r is not None and not -1 <= r <= 1:
            raise UserError("a correlation lies from −1 to 1")
        if repeats is not None and repeats < 0:
            raise UserError("a repeatability is 0 or more")
        compared = yield from scaled(LadderRequest(self.snapshot, self.lens).run(), 0.6)
        spreads = yield from scaled(RepeatabilityRequest(self.snapshot, self.lens).run(), 0.3, 0.6)
        own = _spread(compared)
        sds = (*(() if own is None else (own,)), *ASSUMED_SDS)
        found = {s.instrument.id: s.found for s in spreads}
        devices = []
        for c in compared:
            item = c.pairs.instrument
            spread = found.get(item.id)
            devices.append(
                Measured(
                    item,
                    c.agreement.pearson,
                    c.bias,
                    c.limits,
                    None
                    if spread is None or spread.coefficient is None
                    else spread.coefficient.value,
                    None if spread is None else spread.detectable_days,
                )
            )
        yield 1.0
        left = () if r is None else tuple((sd, left_by_correlation(r, sd)) for sd in sds)
        return ClaimResult(self.claim, self.lens.metric, own is not None, left, tuple(devices))


def _spread(compared: Sequence[CompareResult]) -> float | None:
    """SD of the clients' mean scans; None with too few clients."""
    best = max(compared, key=lambda c: c.pairs.clients, default=None)
    if best is None or best.pairs.clients < LEAST_CLIENTS:
        return None
    _, at = np.unique(best.pairs.client, return_inverse=True)
    means = np.bincount(at, best.pairs.x) / np.bincount(at)
    return float(means.std(ddof=1))
