"""Does the instrument follow change between two anchors of a client?"""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import dataclass

import numpy as np

from ...domain.lens import Lens
from ...domain.records import Instrument
from ...domain.snapshot import Floats, Ints, Snapshot, read_only
from ...domain.steps import finish
from ...stats.change import Change, change, smallest_change
from ...stats.estimate import Estimate, Note, note
from ...stats.trend import reference_error
from ..ask.question import Asked
from ..pairs.comparator import CannotCompare, find_comparator, lens_for, others_of
from ..pairs.drift_or_response import following
from ..pairs.pairing import PairSet, pair
from ..pairs.repeat_spread import outlying_repeats
from ..pairs.series import instrument_asked
from .repeatability import RepeatabilityRequest

_LEAST = 2.77  # 1.96·√2 SDs: least significant change (Glüer 1995)
DAYS = (1, 3, 7, 14)


@dataclass(frozen=True, eq=False)
class ChangeResult:
    """Changes of one instrument beside those of the reference, shape (n,).

    With the client of each change and the scans before and after it.

    ``smallest`` is the smallest change of one client that means of so many days on each side can
    show, by days. ``follows`` is the slope of the instrument on the reference within clients,
    corrected for the reference's error; None where that cannot be estimated.
    """

    asked: Asked
    instrument: Instrument
    reference: Instrument
    metric: str
    dx: Floats
    dy: Floats
    client: Ints
    first: Ints
    last: Ints
    found: Change
    follows: Estimate | None
    smallest: tuple[tuple[int, Estimate], ...]
    pairs: PairSet
    notes: tuple[Note, ...]


@dataclass(frozen=True, slots=True)
class _Spread:
    """SD from day to day, SD of repeats, and repeats a morning."""

    day: Estimate
    within: Estimate | None
    repeats: int

    @property
    def variance(self) -> float:
        """Of one morning's mean."""
        return self.day.value**2 + (
            self.within.value**2 / self.repeats if self.within is not None else 0.0
        )


@dataclass(frozen=True, slots=True)
class ChangeRequest:
    """Whether instruments respond to change, from changes between consecutive scans.

    Parameters
    ----------
    snapshot : Snapshot
        The study at one revision, with the columns of the lens' metric.
    lens : Lens
        Metric, reference, clients, setting and pairing window.
    instrument : str
        Name of one instrument; empty for all that have the metric.
    reference_sd : float, optional
        SD of one scan, in the metric's unit; by default as stated in the study.

    Raises
    ------
    CannotCompare
        From ``run``: no such instrument or reference, or no readings of the metric.
    """

    snapshot: Snapshot
    lens: Lens
    instrument: str = ""
    reference_sd: float | None = None

    def run(self) -> Generator[float, None, tuple[ChangeResult, ...]]:
        """Yield progress; return one result an instrument."""
        reference = find_comparator(self.snapshot, self.lens)
        items = others_of(self.snapshot, self.lens, reference)
        if self.instrument:
            items = [instrument_asked(self.snapshot, self.instrument)]
            if items[0].id == reference.id:
                raise CannotCompare(
                    f"{reference.name} is the comparator; choose another instrument"
                )
        out = []
        for k, item in enumerate(items):
            lens = self.lens if self.instrument else lens_for(self.snapshot, self.lens, item)
            out.append(self._of(lens, item, reference))
            yield (k + 1) / len(items)
        return tuple(out)

    def _of(self, lens: Lens, item: Instrument, reference: Instrument) -> ChangeResult:
        pairs = pair(self.snapshot, lens, item, reference)
        notes = list(pairs.notes)
        stated = self.reference_sd or self.snapshot.catalogue.stated.get(
            (lens.metric, "reference_sd")
        )
        error = reference_error(pairs.anchors.n, pairs.anchors.ss, stated)
        if not error.known:
            notes.append(note("no_exclusion_zone"))
        used, at = np.unique(pairs.occasion, return_inverse=True)
        y = np.bincount(at, pairs.y) / np.maximum(np.bincount(at), 1) if used.size else np.empty(0)
        order = np.lexsort((pairs.anchors.instant[used], pairs.anchors.client[used]))
        used, y = used[order], y[order]
        same = np.flatnonzero(pairs.anchors.client[used][1:] == pairs.anchors.client[used][:-1])
        x = pairs.anchors.mean[used]
        dx, dy, client = (
            x[same + 1] - x[same],
            y[same + 1] - y[same],
            pairs.anchors.client[used][same],
        )
        spread = _spread(self.snapshot, lens, item)
        ratio = (
            spread.variance / error.sd**2
            if spread is not None and error.sd > 0 and spread.variance > 0
            else None
        )
        found = change(dx, dy, client, _LEAST * error.sd, 1.0 if ratio is None else ratio)
        if ratio is None and found.slope is not None:
            notes.append(note("errors_taken_alike"))
        return ChangeResult(
            asked=Asked(self.snapshot.revision, self.lens),
            instrument=item,
            reference=reference,
            metric=lens.metric,
            dx=read_only(dx, np.float64),
            dy=read_only(dy, np.float64),
            client=read_only(client, np.int64),
            first=read_only(used[same], np.int64),
            last=read_only(used[same + 1], np.int64),
            found=found,
            follows=following(pairs, stated)[0] if reference.kind == "reference" else None,
            smallest=(
                tuple(
                    (days, smallest_change(spread.day, spread.within, spread.repeats, days))
                    for days in DAYS
                )
                if spread is not None
                else ()
            ),
            pairs=pairs,
            notes=(*notes, *outlying_repeats(pairs, self.snapshot.catalogue), *found.notes),
        )


def _spread(snapshot: Snapshot, lens: Lens, item: Instrument) -> _Spread | None:
    """Spread of one morning's mean of an instrument.

    None where the spread from day to day is not known.
    """
    if item.equation:
        return None
    result = finish(RepeatabilityRequest(snapshot, lens, item.name).run())[0]
    day, sd = result.found.day, result.found.sd
    if day is None:
        return None
    return _Spread(day, sd, max(result.found.replicates, 1))
