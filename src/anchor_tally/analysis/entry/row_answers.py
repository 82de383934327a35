"""Results of the bench: values of a visit, locked instruments and corrected readings."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

from ...domain.calibrations import CalibrationRecord
from ...domain.catalogue import Catalogue
from ...domain.import_rows import ImportCard
from ...domain.metrics import Metric, metric_named
from ...domain.protocol import Condition
from ...domain.records import Client, Instrument, Reading
from ...domain.repeats import Rule
from ...domain.stations import landmark_of
from ...stats.estimate import Note
from ..offsets.record import Corrected, correct, record_for
from ..people.cautions import Caution, essential_fat, locks
from ..people.withheld import withheld
from .entry_rows import EntryRow
from .repeats import Tally, judge


@dataclass(frozen=True, slots=True)
class RowAnswer:
    """Result of one row: the set of repeats, the corrected value and notes.

    The corrected value is None without a calibration, or where nothing can be corrected.

    ``uncorrected`` marks a device's value that no calibration corrects, or none for this client
    and setting; ``warning`` is about essential fat, in the raw value too; ``locked`` is the
    caution that forbids the row. ``side`` is how much more there is than on the other side of
    the body; ``landmark`` the one that its readings were taken at, where it is not the study's;
    ``broken`` the conditions that this instrument wants and that were not kept. ``unseen``: no
    number of it is said.
    """

    plan: EntryRow
    setting: str
    values: tuple[float, ...]
    usual: float | None
    tally: Tally
    corrected: Corrected | None
    uncorrected: bool
    warning: Note | None
    locked: Caution | None
    simulated: bool
    side: float | None = None
    landmark: str = ""
    broken: tuple[Condition, ...] = ()
    unseen: bool = False


def forbidden_readings(
    items: Catalogue,
    readings: Iterable[tuple[str, str, str, int]],
    cards: Iterable[ImportCard] = (),
) -> list[tuple[str, str, int, Caution]]:
    """Of (client, instrument, kind, count) those that a caution forbids, with the caution.

    ``cards`` are people not in the study yet.
    """
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


def row_answer(
    plan: EntryRow,
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
    other_side: Sequence[Reading] = (),
    landmark: str = "",
    broken: tuple[Condition, ...] = (),
) -> RowAnswer:
    """What the readings of one row in one visit give, in the order of their repeats.

    ``setting`` is that of the readings; ``usual`` the instrument's usual within-tally SD;
    ``correcting`` is off where the values are raw measurements that nothing corrects. ``blind``
    leaves the corrected value out, never a caution.
    """
    metric = metric_named(plan.metric)
    assert metric is not None
    ok = [r for r in readings if r.status == "ok"]
    values = tuple(r.value for r in ok if r.value is not None)
    tally = judge(metric, values, plan.rule, usual)
    corrected, warning = None, None
    record = None
    if tally.value is not None and correcting and plan.kind != "reference":
        record = record_for(records, plan.instrument, plan.metric, setting)
        if record is not None and client is not None:
            corrected = correct(
                record, client.code, tally.value, day, setting, stale=stale.get(record.id, False)
            )
    if tally.value is not None:
        ends = (
            (corrected.value, corrected.interval.low)
            if corrected and corrected.value is not None and corrected.interval
            else ()
        )
        warning = essential_fat(plan.metric, client.sex if client else "", tally.value, *ends)
    return RowAnswer(
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
        side=_more_than(tally.value, other_side, metric, plan.rule),
        landmark=_other_landmark(readings, landmark),
        broken=broken if tally.value is not None else (),
        unseen=bool(withheld(client, plan.metric)),
    )


def _more_than(
    value: float | None, other_side: Sequence[Reading], metric: Metric, rule: Rule
) -> float | None:
    """How much more a tally gives than that of the other side."""
    values = [r.value for r in other_side if r.status == "ok" and r.value is not None]
    other = judge(metric, values, rule).value
    return None if value is None or other is None else value - other


def _other_landmark(readings: Sequence[Reading], landmark: str) -> str:
    """Landmark of the readings of a site, where it differs from the study's present one."""
    used = {landmark_of(r.setting) for r in readings} - {landmark} if landmark else set()
    return ", ".join(sorted(u or "the usual place" for u in used))


def free_repeat(
    readings: Iterable[Reading], instrument: str, metrics: Iterable[str], most: int
) -> int | None:
    """The first repeat that none of these metrics of an instrument has yet.

    None when ``most`` are kept.
    """
    used: dict[str, set[int]] = {}
    for r in readings:
        if r.instrument == instrument:
            used.setdefault(r.metric, set()).add(r.replicate)
    wanted = list(metrics)
    return next(
        (n for n in range(1, most + 1) if not any(n in used.get(m, ()) for m in wanted)), None
    )
