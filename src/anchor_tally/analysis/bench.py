"""The bench: what a visit's readings give, what must not be used, and what a reading means after correction."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

from ..domain.catalogue import Catalogue
from ..domain.metrics import metric_named, region_of
from ..domain.records import CalibrationRecord, Client, ImportCard, Instrument, Reading
from ..domain.stations import STATIONS
from ..stats.estimate import Note
from .calibration_record import Corrected, correct, record_for
from .cautions import Caution, cautions_of, essential_fat
from .tally import Tally, judge

REPEATS = (1, 2, 3)
MOST_LANES = 24  # lanes shown at once; further instruments are one choice away
_AT_STATIONS = frozenset(m for s in STATIONS for m in s.metrics)


@dataclass(frozen=True, slots=True)
class LanePlan:
    """One lane: an instrument and what it measures, with the repeats that are planned and how they are walked."""

    instrument: str
    kind: str
    metric: str
    repeats: int
    walk: str = "down"


@dataclass(frozen=True, slots=True)
class LaneAnswer:
    """What one lane gives: the tally, the corrected value (None: no calibration, or nothing to correct), notes.

    ``uncorrected`` marks a device's value that no calibration corrects, or none for this client and setting; ``warning`` speaks of
    essential fat, in the raw value too; ``locked`` is the caution that forbids the lane.
    """

    plan: LanePlan
    setting: str
    values: tuple[float, ...]
    usual: float | None
    tally: Tally
    corrected: Corrected | None
    uncorrected: bool
    warning: Note | None
    locked: Caution | None
    simulated: bool


def device_lanes(
    catalogue: Catalogue,
    read: Iterable[tuple[str, str, str]],
    added: Iterable[tuple[str, str, str]],
    here: Iterable[Reading] = (),
) -> tuple[tuple[LanePlan, ...], int]:
    """Lanes of the devices: what was read or is offered by a device, what no station has, and what was just added.

    At most MOST_LANES are given, those read in this visit and just added first; the second value counts the others.
    """
    named = {i.name: i for i in catalogue.instruments.values() if i.id > 0}
    there = [x for x in read if x[1] == "device" or (x[2] not in _AT_STATIONS and region_of(x[2])[1] == "total")]
    for number, metrics in catalogue.offers.items():
        i = catalogue.instruments.get(number)
        there += [(i.name, i.kind, m) for m in metrics if i and i.kind == "device"]
    added = list(added)
    used = {(r.instrument, r.kind, r.metric) for r in here}
    lanes = [x for x in dict.fromkeys((*there, *added)) if metric_named(x[2])]

    def place(x: tuple[str, str, str]) -> tuple[bool, int, int, int]:
        """Where a lane stands: by its instrument, and in the order of its display, so that a reading moves no lane."""
        i = named.get(x[0])
        if i is None:
            return True, 10**6, 10**6, 0
        shown = list(catalogue.offers.get(i.id, ()))
        return i.kind == "reference", i.position, i.id, shown.index(x[2]) if x[2] in shown else len(shown)

    lanes.sort(key=place)
    wanted = sorted(lanes, key=lambda x: x not in used and x not in added)[:MOST_LANES]
    shown = [x for x in lanes if x in set(wanted)]
    planned = {name: 1 if i.kind == "reference" else i.repeats for name, i in named.items()}
    walks = {name: i.walk for name, i in named.items()}
    return tuple(LanePlan(*x, planned.get(x[0], 3), walks.get(x[0], "down")) for x in shown), len(lanes) - len(shown)


def locks(client: Client | None, instruments: Iterable[Instrument]) -> dict[str, Caution]:
    """Instruments that must not be used with a client, with the caution that says why."""
    why = {c.forbids: c for c in reversed(cautions_of(client)) if c.forbids} if client else {}
    out: dict[str, Caution] = {}
    for i in instruments:
        caution = why.get("impedance") if i.is_impedance else why.get("scan") if i.kind == "reference" else None
        if caution is not None:
            out[i.name] = caution
    return out


def forbidden_readings(
    items: Catalogue, readings: Iterable[tuple[str, str, str, int]], cards: Iterable[ImportCard] = ()
) -> list[tuple[str, str, int, Caution]]:
    """Of (client, instrument, kind, count) those that a caution forbids, with the caution; ``cards`` are people not in the study yet."""
    told = {c.code: c.cautions for c in cards}
    named = {i.name: i for i in items.instruments.values()}
    out = []
    for code, name, kind, n in readings:
        client = items.client_coded(code) or Client(0, code)
        client = replace(client, cautions=client.cautions | told.get(code, frozenset()))
        caution = locks(client, [named.get(name, Instrument(0, name, kind))]).get(name)
        if caution is not None:
            out.append((code, name, n, caution))
    return out


def lane_answer(
    plan: LanePlan,
    readings: Sequence[Reading],
    *,
    client: Client | None,
    day: str,
    setting: str,
    usual: float | None,
    records: Sequence[CalibrationRecord],
    stale: Mapping[int, bool],
    locked: Caution | None,
    correcting: bool,
    blind: bool = False,
) -> LaneAnswer:
    """What the readings of one lane in one visit give, in the order of their repeats.

    ``setting`` is that of the readings; ``usual`` the instrument's usual within-tally SD; ``correcting`` is off where the
    values are raw measurements that nothing corrects. ``blind`` leaves the corrected value out, never a caution.
    """
    metric = metric_named(plan.metric)
    assert metric is not None
    ok = [r for r in readings if r.status == "ok"]
    values = tuple(r.value for r in ok if r.value is not None)
    tally = judge(metric, values, plan.repeats, usual)
    corrected, warning = None, None
    record = None
    if tally.value is not None and correcting and plan.kind != "reference":
        record = record_for(records, plan.instrument, plan.metric, setting)
        if record is not None and client is not None:
            corrected = correct(record, client.code, tally.value, day, setting, stale=stale.get(record.id, False))
    if tally.value is not None:
        ends = (
            (corrected.value, corrected.interval.low) if corrected and corrected.value is not None and corrected.interval else ()
        )
        warning = essential_fat(plan.metric, client.sex if client else "", tally.value, *ends)
    return LaneAnswer(
        plan=plan,
        setting=setting,
        values=values,
        usual=usual,
        tally=tally,
        corrected=None if blind else corrected,
        uncorrected=not blind
        and tally.value is not None
        and correcting
        and plan.kind != "reference"
        and (corrected is None or corrected.value is None),
        warning=warning,
        locked=locked,
        simulated=any(r.simulated for r in readings),
    )


def free_repeat(readings: Iterable[Reading], instrument: str, metrics: Iterable[str]) -> int | None:
    """The first repeat that none of these metrics of an instrument has yet; None when three are kept."""
    used: dict[str, set[int]] = {}
    for r in readings:
        if r.instrument == instrument:
            used.setdefault(r.metric, set()).add(r.replicate)
    wanted = list(metrics)
    return next((n for n in REPEATS if not any(n in used.get(m, ()) for m in wanted)), None)
