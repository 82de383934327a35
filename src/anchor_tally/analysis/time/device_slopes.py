"""What the scans of all clients tell of a device: its slope on the scan, and its drift."""

from __future__ import annotations

from dataclasses import dataclass
from weakref import WeakKeyDictionary

from ...domain.catalogue import Catalogue
from ...domain.lens import Lens
from ...domain.records import Instrument
from ...domain.snapshot import Columns, Snapshot
from ...stats.estimate import Estimate
from ..pairs.drift_or_response import following
from ..pairs.offset_drift import OffsetDrift
from ..pairs.pairing import PairSet, pair


@dataclass(frozen=True, eq=False)
class DeviceSlopes:
    """Pairs of a device with the scans; slope within clients and drift, None where not known."""

    pairs: PairSet
    follows: Estimate | None
    moved: OffsetDrift | None


# instrument, reference and window
_Key = tuple[int, int, float]
# with each column of readings, which never changes, and gone with it: several questions about one
# revision, and each client, ask the same
_KNOWN: WeakKeyDictionary[Columns, tuple[Catalogue, dict[_Key, DeviceSlopes]]] = WeakKeyDictionary()


def device_slopes(
    snapshot: Snapshot, lens: Lens, item: Instrument, reference: Instrument
) -> DeviceSlopes:
    """Slopes of a device from the scans of all clients, in all its settings.

    Parameters
    ----------
    snapshot : Snapshot
        The study with the column of the lens' metric.
    lens : Lens
        Metric and pairing window; its other filters do not count.
    item, reference : Instrument
        The device, and the scan.
    """
    column, key = snapshot.columns[lens.metric], (item.id, reference.id, lens.window_hours)
    known = _KNOWN.get(column)
    if known is None or known[0] is not snapshot.catalogue:
        known = _KNOWN[column] = snapshot.catalogue, {}
    if key not in known[1]:
        everyone = Lens(lens.metric, reference.name, window_hours=lens.window_hours)
        pairs = pair(snapshot, everyone, item, reference)
        stated = snapshot.catalogue.stated.get((lens.metric, "reference_sd"))
        known[1][key] = DeviceSlopes(
            pairs, *(following(pairs, stated) if pairs.n else (None, None))
        )
    return known[1][key]
