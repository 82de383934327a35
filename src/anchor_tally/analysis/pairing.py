"""Pairs of instrument and reference readings."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..domain.errors import UserError
from ..domain.lens import Lens
from ..domain.metrics import metric_named
from ..domain.records import Instrument
from ..domain.snapshot import Columns, Floats, Ints, Snapshot
from ..stats.estimate import Note, note


class CannotCompare(UserError):
    """A question that the study cannot answer as asked."""


@dataclass(frozen=True, slots=True)
class Dropped:
    """A reading or anchor that made no pair, and why."""

    client: str
    taken_at: str
    why: str
    reading: int


@dataclass(frozen=True, eq=False)
class PairSet:
    """Pairs as columns of shape (n,): reference mean x, instrument reading y, their sources and groups."""

    instrument: Instrument
    reference: Instrument
    metric: str
    x: Floats
    y: Floats
    client: Ints
    occasion: Ints
    reading: Ints
    row: Ints
    reference_rows: dict[int, tuple[int, ...]]
    dropped: tuple[Dropped, ...]
    notes: tuple[Note, ...]

    @property
    def d(self) -> Floats:
        """Differences instrument − reference."""
        return self.y - self.x

    @property
    def n(self) -> int:
        """Number of pairs."""
        return int(self.x.size)

    @property
    def clients(self) -> int:
        """Number of clients with pairs."""
        return int(np.unique(self.client).size)

    @property
    def occasions(self) -> int:
        """Number of anchors with pairs."""
        return int(np.unique(self.occasion).size)


def _named(metric: str) -> str:
    found = metric_named(metric)
    return f"{found.label.lower()} ({metric})" if found else f'"{metric}", a metric that is not known'


def find_reference(snapshot: Snapshot, lens: Lens) -> Instrument:
    """The lens' reference, or the only one that has the metric."""
    if lens.reference is not None:
        named = snapshot.instrument_named(lens.reference)
        if named is None:
            raise CannotCompare(f'no instrument is called "{lens.reference}"')
        return named
    columns = snapshot.columns.get(lens.metric)
    used = set(columns.instrument.tolist()) if columns is not None else set()
    found = [i for i in snapshot.instruments.values() if i.kind == "reference" and i.id in used]
    if not found:
        raise CannotCompare(f"no reference has readings of {_named(lens.metric)}")
    if len(found) > 1:
        raise CannotCompare(f"several references have {_named(lens.metric)}: {', '.join(i.name for i in found)}; name one")
    return found[0]


def pair(snapshot: Snapshot, lens: Lens, instrument: Instrument, reference: Instrument) -> PairSet:
    """Pair ok readings of ``instrument`` with the nearest anchor of their client.

    A reading lies within the window of an anchor when it is of the same calendar day or at most
    ``window_hours`` away, before or after. Where an anchor has readings of its own day, those of
    other days are left out. Reference readings of one visit are averaged.
    """
    c = snapshot.columns.get(lens.metric)
    if c is None:
        raise CannotCompare(f"the study has no readings of {_named(lens.metric)}")
    wanted = np.ones(c.n, dtype=bool)
    if lens.clients is not None:
        ids = [i for i, k in snapshot.clients.items() if k.code in lens.clients]
        wanted = np.isin(c.client, ids)
    is_ref = wanted & (c.instrument == reference.id)
    is_ins = wanted & (c.instrument == instrument.id)
    reasons: dict[int, str] = {}
    for mask in (is_ref, is_ins):
        for row in np.flatnonzero(mask & (c.status == 1)):
            reasons[int(row)] = "failed reading"
        for row in np.flatnonzero(mask & (c.status == 2)):
            reasons[int(row)] = "excluded reading"
    notes: list[Note] = []
    labels = {i: s.label for i, s in snapshot.settings.items()}
    labels[0] = "no setting"
    present = sorted({labels[int(s)] for s in np.unique(c.setting[is_ins & (c.status == 0)])})
    if lens.setting is not None:
        if lens.setting not in present and lens.setting not in {
            s.label for s in snapshot.settings.values() if s.instrument == instrument.id
        }:
            known = ", ".join(present)
            raise CannotCompare(f'{instrument.name} has no setting "{lens.setting}" (it has: {known})')
        of_setting = np.isin(c.setting, [i for i, label in labels.items() if label == lens.setting])
        for row in np.flatnonzero(is_ins & (c.status == 0) & ~of_setting):
            reasons[int(row)] = "another setting"
        is_ins &= of_setting
    elif len(present) > 1:
        notes.append(note("settings_pooled", settings=", ".join(present)))
    ref = np.flatnonzero(is_ref & (c.status == 0))
    ins = np.flatnonzero(is_ins & (c.status == 0))
    anchors, position = np.unique(c.visit[ref], return_inverse=True)
    count = np.bincount(position, minlength=anchors.size)
    x = np.bincount(position, c.value[ref], minlength=anchors.size) / np.maximum(count, 1)
    first = np.full(anchors.size, -1)
    first[position[::-1]] = ref[::-1]
    a_wall = np.bincount(position, c.wall[ref], minlength=anchors.size) / np.maximum(count, 1)
    a_client, a_day, a_timed = c.client[first], c.day[first], c.timed[first]
    chosen, same_day = _nearest(c, ins, a_client, a_wall, a_day, a_timed, lens.window_hours)
    has_own_day = np.zeros(anchors.size, dtype=bool)
    has_own_day[chosen[(chosen >= 0) & same_day]] = True
    other_day = (chosen >= 0) & ~same_day & has_own_day[chosen]
    for row in ins[other_day]:
        reasons[int(row)] = "the anchor has readings of its own day"
    with_anchor = np.isin(c.client[ins], a_client)
    for row in ins[(chosen < 0) & with_anchor]:
        reasons[int(row)] = "no scan within the window"
    for row in ins[(chosen < 0) & ~with_anchor]:
        reasons[int(row)] = "client without a scan"
    keep = (chosen >= 0) & ~other_day
    rows, at = ins[keep], chosen[keep]
    unused = np.setdiff1d(np.arange(anchors.size), at)
    for a in unused:
        reasons[int(first[a])] = f"scan without a reading of {instrument.name} within the window"
    dropped = tuple(
        Dropped(
            snapshot.clients[int(c.client[row])].code, wall_text(int(c.wall[row]), bool(c.timed[row])), why, int(c.reading[row])
        )
        for row, why in sorted(reasons.items())
    )
    members = (
        {int(a): tuple(c.reading[ref[position == a]].tolist()) for a in np.unique(at)}
        if anchors.size < 200
        else _members(c, ref, position)
    )
    return PairSet(
        instrument,
        reference,
        lens.metric,
        x[at],
        c.value[rows],
        c.client[rows],
        at.astype(np.int64),
        c.reading[rows],
        rows,
        members,
        dropped,
        tuple(notes),
    )


def _members(c: Columns, ref: Ints, position: Ints) -> dict[int, tuple[int, ...]]:
    order = np.argsort(position, kind="stable")
    cuts = np.flatnonzero(np.diff(position[order])) + 1
    groups = np.split(c.reading[ref[order]], cuts)
    return {k: tuple(g.tolist()) for k, g in enumerate(groups)}


def _nearest(
    c: Columns, ins: Ints, a_client: Ints, a_wall: Floats, a_day: Ints, a_timed: np.ndarray, hours: float
) -> tuple[Ints, np.ndarray]:
    """Index of the nearest anchor within the window (or -1) and whether it is of the same day."""
    chosen = np.full(ins.size, -1, dtype=np.int64)
    same_day = np.zeros(ins.size, dtype=bool)
    if ins.size == 0 or a_client.size == 0:
        return chosen, same_day
    span = 4.0e12  # longer than any calendar, so that clients never touch on the common axis
    order = np.lexsort((a_wall, a_client))
    axis = a_client[order] * span + a_wall[order]
    spot = np.searchsorted(axis, c.client[ins] * span + c.wall[ins])
    best = np.full(ins.size, np.inf)
    for shift in (-2, -1, 0, 1):  # two neighbours on each side hold the nearest and the same-day anchor
        k = np.clip(spot + shift, 0, order.size - 1)
        a = order[k]
        own = a_client[a] == c.client[ins]
        today = a_day[a] == c.day[ins]
        gap = np.abs(a_wall[a] - c.wall[ins])
        gap = np.where(today & ~(a_timed[a] & c.timed[ins]), 0.0, gap)
        inside = own & ((gap <= hours * 3600) | (today & (hours >= 24)))
        rank = np.where(inside, gap + np.where(today, 0.0, 1e9), np.inf)
        better = rank < best
        best = np.where(better, rank, best)
        chosen = np.where(better, a, chosen)
        same_day = np.where(better, today, same_day)
    return chosen, same_day


def wall_text(seconds: int, timed: bool) -> str:
    """ISO text of wall-clock seconds."""
    text = str(np.datetime64(seconds, "s"))
    return text[:16] if timed else text[:10]
