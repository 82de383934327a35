"""Pairs of instrument and reference readings."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import datetime, tzinfo
from types import MappingProxyType

import numpy as np
import numpy.typing as npt

from ...domain.instants import zone_named
from ...domain.lens import WINDOWS, Lens
from ...domain.metrics import metric_named
from ...domain.records import Instrument
from ...domain.snapshot import (
    EXCLUDED,
    FAILED,
    OK,
    SIMULATED,
    Columns,
    Floats,
    Ints,
    Snapshot,
    read_only,
)
from ...stats.estimate import Note, note
from .comparator import (
    CONSENSUS,
    CannotCompare,
    may_be_shown,
    refuse_withheld,
    with_consensus,
    words_of,
)

Bools = npt.NDArray[np.bool_]
DAY = 86400.0
_SPAN = 4.0e11  # seconds, longer than any calendar: clients never meet on one axis


@dataclass(frozen=True, slots=True)
class Dropped:
    """A reading or anchor that made no pair, and why."""

    client: str
    taken_at: str
    why: str
    reading: int


@dataclass(frozen=True, eq=False)
class LeftOut:
    """Readings and scans that made no pair, as columns of shape (m,).

    ``why`` is a place in ``reasons``.

    ``clients`` maps a number to a code; moments are written in the time zone ``zone``.
    """

    reading: Ints
    client: Ints
    instant: Ints
    timed: Bools
    why: Ints
    reasons: tuple[str, ...]
    clients: Mapping[int, str]
    zone: str

    @property
    def n(self) -> int:
        """How many."""
        return int(self.reading.size)

    @property
    def counts(self) -> tuple[tuple[str, int], ...]:
        """Reasons with the number of readings, in alphabetical order."""
        found = np.bincount(self.why, minlength=len(self.reasons)).tolist()
        return tuple(sorted((why, n) for why, n in zip(self.reasons, found, strict=True) if n))

    def listed(self) -> tuple[Dropped, ...]:
        """Return them one by one, by client and time, whatever the order of entry."""
        zone = zone_named(self.zone)
        columns = (self.client, self.instant, self.timed, self.why, self.reading)
        rows = (
            (self.clients[c], at, timed, self.reasons[why], reading)
            for c, at, timed, why, reading in zip(*(a.tolist() for a in columns), strict=True)
        )
        return tuple(
            Dropped(code, stamp(at, zone, timed=timed), why, reading)
            for code, at, timed, why, reading in sorted(rows)
        )


@dataclass(frozen=True, eq=False)
class Anchors:
    """Scans as columns of shape (a,): first visit, mean instant, mean value, number of scans.

    ``ss`` is the sum of squares of the scans about their mean: what replicate scans say of the
    reference's own error.
    """

    visit: Ints
    client: Ints
    instant: Floats
    mean: Floats
    n: Ints
    ss: Floats


@dataclass(frozen=True, eq=False)
class PairSet:
    """Pairs as columns of shape (n,): reference x, reading y, their sources and groups.

    ``occasion`` is the place of the pair's anchor in ``anchors``; ``row`` that of the reading in
    the metric's columns.
    """

    instrument: Instrument
    reference: Instrument
    metric: str
    x: Floats
    y: Floats
    client: Ints
    occasion: Ints
    visit: Ints
    instant: Ints
    setting: Ints
    reading: Ints
    row: Ints
    anchors: Anchors
    reference_rows: dict[int, tuple[int, ...]]
    left_out: LeftOut
    notes: tuple[Note, ...]
    parts: tuple[tuple[int, ...], ...] = ()  # the stored readings behind each computed one

    @property
    def compared_with(self) -> str:
        """The comparator in words: its name, and that it is no reference where it is none."""
        return words_of(self.reference)

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


def pair(snapshot: Snapshot, lens: Lens, instrument: Instrument, reference: Instrument) -> PairSet:
    """Pair ok readings of ``instrument`` with the scans of their client, by instant.

    Where nothing pairs, a note tells which wider window would.

    Scans of one client closer than the study's visit gap, or dated alone and of one day, are one
    anchor; their mean is x. A reading goes to its nearest anchor within ``window_hours``; of the
    instrument's tallies (visits) at an anchor the nearest counts, or all of them when the lens
    says *around*. Where only a date is known, the same calendar day decides.
    """
    c = snapshot.columns.get(lens.metric)
    if c is None:
        found = metric_named(lens.metric)
        raise CannotCompare(f"the study has no readings of {found.name if found else lens.metric}")
    if reference.id == CONSENSUS.id:
        c = with_consensus(snapshot, c, instrument)
    wanted = np.ones(c.n, dtype=bool)
    if lens.clients is not None:
        wanted = np.isin(
            c.client, [i for i, k in snapshot.clients.items() if k.code in lens.clients]
        )
    refuse_withheld(snapshot, lens, lens.metric)
    is_ref = wanted & (c.instrument == reference.id)
    is_ins = wanted & (c.instrument == instrument.id)
    reasons: list[str] = []
    told = np.full(c.n, -1, dtype=np.int64)

    def leave_out(rows: Ints, why: str) -> None:
        told[rows] = len(reasons)
        reasons.append(why)

    for status, why in (
        (FAILED, "failed reading"),
        (EXCLUDED, "excluded reading"),
        (SIMULATED, "simulated reading"),
    ):
        leave_out(np.flatnonzero((is_ref | is_ins) & (c.status == status)), why)
    notes: list[Note] = []
    put_out = int(((is_ref | is_ins) & (c.status == EXCLUDED)).sum())
    if put_out:
        notes.append(note("excluded_readings", n=put_out))
    if reference.kind != "reference":
        notes.append(note("not_a_reference", comparator=reference.name, instrument=instrument.name))
    if instrument.id in snapshot.landmarks:
        notes.append(note("landmarks_mixed", sites=tuple(snapshot.landmarks[instrument.id])))
    is_ins = _of_setting(snapshot, lens, instrument, c, is_ins, notes, leave_out)
    ref, ins = np.flatnonzero(is_ref & (c.status == OK)), np.flatnonzero(is_ins & (c.status == OK))
    if instrument.counts == "last":
        last = _last_repeats(c, ins)
        leave_out(ins[~last], "an earlier repeat: the last one is used")
        ins = ins[last]
    position = _anchor_of(c, ref, snapshot.catalogue.gap)
    anchors, day, timed = _anchors(c, ref, position)
    chosen, gap, by_day = _nearest(c, ins, anchors, day, timed, lens.window_hours)
    with_anchor = np.isin(c.client[ins], anchors.client)
    anchor = "scan" if reference.kind == "reference" else f"reading of {reference.name}"
    leave_out(ins[(chosen < 0) & with_anchor], f"no {anchor} within the window")
    leave_out(ins[(chosen < 0) & ~with_anchor], f"client without a {anchor}")
    keep = chosen >= 0
    wider = (h for h in WINDOWS if h > lens.window_hours)
    if ins.size and not keep.any():
        for h in wider:
            n = int((_nearest(c, ins, anchors, day, timed, h)[0] >= 0).sum())
            if n:
                notes.append(note("wider_window", window=WINDOWS[h], readings=n))
                break
    if not lens.around:
        nearest = _nearest_tally(chosen, c.visit[ins], gap, anchors.mean.size)
        leave_out(ins[keep & ~nearest], "a visit nearer to the scan was used")
        keep &= nearest
    if not may_be_shown(snapshot, c.client[ins[keep]], lens.metric):
        leave_out(ins[keep], "may not be shown")  # this instrument read such clients alone
        keep = np.zeros_like(keep)
    rows, at = ins[keep], chosen[keep]
    if by_day[keep].any():
        notes.append(note("paired_by_day", readings=int(by_day[keep].sum())))
    first = np.full(anchors.mean.size, -1)
    first[position[::-1]] = ref[::-1]
    unused = np.setdiff1d(np.arange(anchors.mean.size), at)
    strangers = _of_strangers(snapshot, instrument, anchors, unused, lens.window_hours)
    leave_out(
        first[unused[~strangers]],
        f"{anchor} without a reading of {instrument.name} within the window",
    )
    leave_out(
        first[unused[strangers]], "outside the equation's population (age, sex or body mass index)"
    )
    out = np.flatnonzero(told >= 0)
    left_out = LeftOut(
        reading=read_only(c.reading[out], np.int64),
        client=read_only(c.client[out], np.int64),
        instant=read_only(c.instant[out], np.int64),
        timed=read_only(c.timed[out], np.bool_),
        why=read_only(told[out], np.int64),
        reasons=tuple(reasons),
        clients=MappingProxyType({i: k.code for i, k in snapshot.clients.items()}),
        zone=snapshot.catalogue.zone,
    )
    return PairSet(
        instrument=instrument,
        reference=reference,
        metric=lens.metric,
        x=read_only(anchors.mean[at], np.float64),
        y=read_only(c.value[rows], np.float64),
        client=read_only(c.client[rows], np.int64),
        occasion=read_only(at, np.int64),
        visit=read_only(c.visit[rows], np.int64),
        instant=read_only(c.instant[rows], np.int64),
        setting=read_only(c.setting[rows], np.int64),
        reading=read_only(c.reading[rows], np.int64),
        row=read_only(rows, np.int64),
        anchors=anchors,
        reference_rows=_members(c, ref, position),
        left_out=left_out,
        notes=tuple(notes),
        parts=tuple(c.parts[row] for row in rows.tolist()) if c.parts else (),
    )


def _of_strangers(
    snapshot: Snapshot, instrument: Instrument, anchors: Anchors, unused: Ints, hours: float
) -> Bools:
    """Count unused scans that have the inputs of an equation within the window.

    The equation does not apply to those clients.
    """
    visits = snapshot.visits
    rows = np.flatnonzero(np.isin(visits.visit, snapshot.outside.get(instrument.id, ())))
    if rows.size == 0 or unused.size == 0:
        return np.zeros(unused.size, dtype=bool)
    order = rows[np.argsort(visits.client[rows] * _SPAN + visits.instant[rows])]
    axis = visits.client[order] * _SPAN + visits.instant[order]
    at = anchors.client[unused] * _SPAN + anchors.instant[unused]
    spot = np.searchsorted(axis, at)
    near = [np.abs(axis[np.clip(spot + k, 0, order.size - 1)] - at) for k in (-1, 0)]
    return np.asarray(np.minimum(*near) <= max(hours * 3600, DAY), dtype=bool)


def _of_setting(
    snapshot: Snapshot,
    lens: Lens,
    instrument: Instrument,
    c: Columns,
    is_ins: Bools,
    notes: list[Note],
    leave_out: Callable[[Ints, str], None],
) -> Bools:
    """Readings of the lens' setting.

    With none chosen all of them, and a note that names what is mixed.
    """
    labels = {i: s.label for i, s in snapshot.settings.items()} | {0: "no setting"}
    present = sorted({labels[int(s)] for s in np.unique(c.setting[is_ins & (c.status == OK)])})
    if lens.setting is None:
        if len(present) > 1:
            notes.append(note("settings_pooled", settings=tuple(present)))
        return is_ins
    if lens.setting not in present and lens.setting not in {
        s.label for s in snapshot.catalogue.settings_of(instrument.id)
    }:
        raise CannotCompare(
            f'{instrument.name} has no setting "{lens.setting}" (it has: {", ".join(present)})'
        )
    of_setting = np.isin(c.setting, [i for i, label in labels.items() if label == lens.setting])
    leave_out(np.flatnonzero(is_ins & (c.status == OK) & ~of_setting), "another setting")
    return is_ins & of_setting


def _anchor_of(c: Columns, ref: Ints, gap: int) -> Ints:
    """Which anchor each scan belongs to: numbers from 0, in the order of client and time."""
    if ref.size == 0:
        return np.empty(0, dtype=np.int64)
    order = np.lexsort((c.instant[ref], c.timed[ref], c.client[ref]))
    k = ref[order]
    same = (c.client[k][1:] == c.client[k][:-1]) & (c.timed[k][1:] == c.timed[k][:-1])
    near = np.where(c.timed[k][1:], np.diff(c.instant[k]) < gap, np.diff(c.day[k]) == 0)
    number = np.concatenate([[0], np.cumsum(~(same & near))])
    position = np.empty(ref.size, dtype=np.int64)
    position[order] = number
    return position


def _anchors(c: Columns, ref: Ints, position: Ints) -> tuple[Anchors, Ints, Bools]:
    """Anchors, with the calendar day and whether the time of day is known."""
    size = int(position.max(initial=-1)) + 1
    count = np.bincount(position, minlength=size)
    first = np.full(size, -1)
    first[position[::-1]] = ref[::-1]
    mean = np.bincount(position, c.value[ref], minlength=size) / np.maximum(count, 1)
    instant = np.bincount(position, c.instant[ref], minlength=size) / np.maximum(count, 1)
    ss = np.bincount(position, (c.value[ref] - mean[position]) ** 2, minlength=size)
    anchors = Anchors(
        visit=read_only(c.visit[first], np.int64),
        client=read_only(c.client[first], np.int64),
        instant=read_only(instant, np.float64),
        mean=read_only(mean, np.float64),
        n=read_only(count, np.int64),
        ss=read_only(ss, np.float64),
    )
    return anchors, c.day[first], c.timed[first]


def _members(c: Columns, ref: Ints, position: Ints) -> dict[int, tuple[int, ...]]:
    order = np.argsort(position, kind="stable")
    cuts = np.flatnonzero(np.diff(position[order])) + 1
    groups = np.split(ref[order], cuts) if ref.size else []
    if not c.parts:
        return {k: tuple(c.reading[g].tolist()) for k, g in enumerate(groups)}
    return {
        k: tuple(i for row in g.tolist() for i in c.parts[row] or (int(c.reading[row]),))
        for k, g in enumerate(groups)
    }


def _nearest(
    c: Columns, ins: Ints, anchors: Anchors, day: Ints, timed: Bools, hours: float
) -> tuple[Ints, Floats, Bools]:
    """Nearest scan of each reading, the distance in seconds, and whether the day decided.

    −1 where none lies within the window.

    A reading and an anchor that both have a time of day are as far apart as their instants;
    otherwise they pair by calendar days: as many apart as keep them within the window whatever
    their hours were (the same day in 24 h, a day in 48 h, six in a week). They count as half a day
    farther, so that a known time goes first. Of two anchors equally far the earlier one.
    """
    chosen = np.full(ins.size, -1, dtype=np.int64)
    best = np.full(ins.size, np.inf)
    by_day = np.zeros(ins.size, dtype=bool)
    if ins.size == 0 or anchors.mean.size == 0:
        return chosen, best, by_day
    order = np.lexsort((anchors.instant, anchors.client))
    axis = anchors.client[order] * _SPAN + anchors.instant[order]
    spot = np.searchsorted(axis, c.client[ins] * _SPAN + c.instant[ins])
    for shift in range(
        -3, 3
    ):  # three neighbours on each side hold the nearest and that of the same day
        k = spot + shift
        there = (k >= 0) & (k < order.size)
        a = order[np.clip(k, 0, order.size - 1)]
        both = timed[a] & c.timed[ins]
        days = np.abs(day[a] - c.day[ins])
        gap = np.where(both, np.abs(anchors.instant[a] - c.instant[ins]), (days + 0.5) * DAY)
        inside = np.where(both, gap <= hours * 3600, days <= max(hours // 24 - 1, 0))
        gap = np.where(there & (anchors.client[a] == c.client[ins]) & inside, gap, np.inf)
        better = gap < best
        best = np.where(better, gap, best)
        chosen = np.where(better, a, chosen)
        by_day = np.where(better, ~both, by_day)
    return chosen, best, by_day


def _nearest_tally(chosen: Ints, visit: Ints, gap: Floats, anchors: int) -> Bools:
    """Whether a reading belongs to the tally (the visit) nearest to its anchor.

    Of two equally near the one first recorded.
    """
    there = np.flatnonzero(chosen >= 0)
    out = np.zeros(chosen.size, dtype=bool)
    if there.size == 0:
        return out
    order = there[np.lexsort((visit[there], gap[there], chosen[there]))]
    _, first = np.unique(chosen[order], return_index=True)
    winner = np.full(anchors, -1)
    winner[chosen[order][first]] = visit[order][first]
    out[there] = visit[there] == winner[chosen[there]]
    return out


def _last_repeats(c: Columns, rows: Ints) -> Bools:
    """Which readings are the last repeat of their visit and setting."""
    out = np.zeros(rows.size, dtype=bool)
    if rows.size:
        order = np.lexsort((c.replicate[rows], c.instant[rows], c.setting[rows], c.visit[rows]))
        k = rows[order]
        out[order] = np.append(
            (c.visit[k][1:] != c.visit[k][:-1]) | (c.setting[k][1:] != c.setting[k][:-1]), True
        )
    return out


def stamp(instant: int, zone: tzinfo, *, timed: bool) -> str:
    """ISO text of an instant in a time zone."""
    return datetime.fromtimestamp(instant, zone).strftime("%Y-%m-%dT%H:%M" if timed else "%Y-%m-%d")
