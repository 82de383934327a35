"""What the scans of all clients tell of a device: its slope on the scan, and its drift."""

from __future__ import annotations

from collections import OrderedDict
from dataclasses import dataclass
from hashlib import blake2b

import numpy as np

from ...domain.lens import Lens
from ...domain.records import Instrument
from ...domain.snapshot import OK, Columns, Snapshot
from ...stats.estimate import Estimate
from ..pairs.drift_or_response import following
from ..pairs.offset_drift import OffsetDrift
from ..pairs.pairing import pair
from ..pairs.reference_slopes import scan_error

MOST_KEPT = 256  # devices whose slopes are kept


@dataclass(frozen=True, slots=True)
class DeviceSlopes:
    """Slope within clients and drift, None where not known; SD of one scan by these pairs."""

    follows: Estimate | None
    moved: OffsetDrift | None
    scan_sd: float


# device and scan, pairing window, gap between visits, stated SD of a scan, and the readings
_Key = tuple[Instrument, Instrument, float, float, float | None, bytes]
# by the readings that they are computed from: an edit of one device leaves the others as they are
_KNOWN: OrderedDict[_Key, DeviceSlopes] = OrderedDict()


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
    stated = snapshot.catalogue.stated.get((lens.metric, "reference_sd"))
    readings = _digest(snapshot.columns[lens.metric], item, reference)
    key = (item, reference, lens.window_hours, snapshot.catalogue.gap, stated, readings)
    if key not in _KNOWN:
        everyone = Lens(lens.metric, reference.name, window_hours=lens.window_hours)
        pairs = pair(snapshot, everyone, item, reference)
        slopes = following(pairs, stated) if pairs.n else (None, None)
        _KNOWN[key] = DeviceSlopes(*slopes, scan_error(pairs, stated).sd)
        if len(_KNOWN) > MOST_KEPT:
            _KNOWN.popitem(last=False)
    _KNOWN.move_to_end(key)
    return _KNOWN[key]


def _digest(c: Columns, item: Instrument, reference: Instrument) -> bytes:
    """What stands for the readings of a device and of the scan."""
    rows = np.flatnonzero((c.instrument == item.id) | (c.instrument == reference.id))
    rows = rows[c.status[rows] == OK]
    found = blake2b(c.metric.encode(), digest_size=16)
    for part in (c.instrument, c.client, c.visit, c.setting, c.instant, c.day, c.timed, c.value):
        found.update(np.ascontiguousarray(part[rows]).tobytes())
    return found.digest()
