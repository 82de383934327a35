"""The calendar: planned days from the rules of a scheme, and which of them are done or due.

Days are ordinals (``date.toordinal``). A planned day never lies in a span in which nothing is
planned, a scan never nearer than eight weeks to another one without a stated reason, and nothing
is planned that a client's cautions forbid.
"""

from __future__ import annotations

from bisect import bisect_left, insort
from collections import defaultdict
from collections.abc import Generator, Iterable, Mapping
from dataclasses import dataclass
from datetime import date
from typing import Literal

from ...domain.catalogue import Catalogue
from ...domain.events import Event
from ...domain.records import Client
from ...domain.scheme import DEVICES, LEAST_DAYS, PLANNED, SCAN, Scheme, SchemeRule, is_blackout
from ..people.cautions import cautions_of, locks

State = Literal["done", "due", "overdue", "missed", "planned"]
WIDEST_DAYS = 10  # farthest a visit may lie from the planned day that it fulfils
APART = 28  # days between planned days that each count as fixed beforehand
Span = tuple[int, int]


@dataclass(frozen=True, slots=True)
class Measured:
    """A visit at which a station was measured.

    Client, station and day, the visit's number, and its hour (None where only the day is known).
    """

    client: int
    station: str
    day: int
    visit: int = 0
    hour: float | None = None


@dataclass(frozen=True, slots=True)
class PlannedDay:
    """One planned day of a client.

    Attributes
    ----------
    client, rule : int
        Whose, and of which rule of the scheme.
    station, label : str
        What is measured, and in which series of it.
    due, day : int
        The day that the rule made, and the day it stands on now.
    state : str
        done, due (today, or still in time), overdue, missed (a later one has come, or nothing
        fulfils it any more), planned.
    shifted : str
        Why it stands elsewhere: by hand, blackout, spacing; empty where it does not.
    done_on : int or None
        Day of the visit that fulfilled it.
    """

    client: int
    rule: int
    station: str
    label: str
    due: int
    day: int
    state: State
    shifted: str = ""
    done_on: int | None = None


@dataclass(frozen=True, slots=True)
class LeftOut:
    """Days of a rule that are not planned for a client, and why.

    ``why`` is caution, blackout, spacing or most.
    """

    client: int
    rule: int
    station: str
    why: str
    days: int


@dataclass(frozen=True, slots=True)
class ClientDays:
    """The calendar of one client, in the order of days.

    ``unplanned`` are visits that fulfil no planned day; ``spans`` those in which nothing is
    planned.
    """

    days: tuple[PlannedDay, ...]
    unplanned: tuple[Measured, ...]
    spans: tuple[Span, ...]
    left_out: tuple[LeftOut, ...]


@dataclass(frozen=True, slots=True)
class Schedule:
    """The calendar between two days, by client in the order of their codes.

    Attributes
    ----------
    today, first, last : int
        The present day, and the bounds.
    clients : mapping
        The calendar of each client, by number.
    stations : tuple of str
        Stations that are planned or measured, scans first.
    waiting : tuple of PlannedDay
        What is overdue or due, the longest waiting first.
    coming : PlannedDay or None
        The first planned day after today.
    """

    today: int
    first: int
    last: int
    clients: Mapping[int, ClientDays]
    stations: tuple[str, ...]
    waiting: tuple[PlannedDay, ...]
    coming: PlannedDay | None

    @property
    def days(self) -> tuple[PlannedDay, ...]:
        """All planned days, by client."""
        return tuple(d for c in self.clients.values() for d in c.days)

    @property
    def left_out(self) -> tuple[LeftOut, ...]:
        """What is not planned, by client."""
        return tuple(x for c in self.clients.values() for x in c.left_out)


_ORDER = {s: k for k, s in enumerate((SCAN, *(p for p in PLANNED if p != SCAN)))}


def _schedule(today: int, first: int, last: int, clients: Mapping[int, ClientDays]) -> Schedule:
    """A calendar of clients, with what follows from all of them."""
    waiting, coming, used = list[PlannedDay](), None, set[str]()
    for c in clients.values():
        used.update(d.station for d in c.days)
        used.update(m.station for m in c.unplanned)
        waiting += [d for d in c.days if d.state in ("overdue", "due")]
        ahead = next((d for d in c.days if d.state == "planned"), None)
        if ahead is not None and (coming is None or ahead.day < coming.day):
            coming = ahead
    waiting.sort(key=lambda d: d.day)
    stations = tuple(sorted(used, key=_ORDER.__getitem__))
    return Schedule(today, first, last, clients, stations, tuple(waiting), coming)


def ordinal(day: str) -> int:
    """An ISO day or date-time as an ordinal."""
    return date.fromisoformat(day[:10]).toordinal()


@dataclass(frozen=True, slots=True)
class ScheduleRequest:
    """The calendar of a study.

    Parameters
    ----------
    catalogue : Catalogue
        Clients with their cautions, and instruments.
    scheme : Scheme
        Rules, and days moved by hand.
    events : tuple of Event
        Those of a kind in ``BLACKOUTS`` are spans in which nothing is planned.
    measured : tuple of Measured
        Every station of every visit in the study.
    today, first, last : str
        ISO days: the present one, and the bounds of the calendar.
    kept : Schedule, optional
        The calendar before an edit that touched one client only.
    only : int
        That client's number; 0 for all. Without ``kept`` the calendar is that of this client alone.
    """

    catalogue: Catalogue
    scheme: Scheme
    events: tuple[Event, ...]
    measured: tuple[Measured, ...]
    today: str
    first: str
    last: str
    kept: Schedule | None = None
    only: int = 0

    def run(self) -> Generator[float, None, Schedule]:
        """Yield progress; return the calendar."""
        today, first, last = (ordinal(d) for d in (self.today, self.first, self.last))
        done: dict[int, dict[str, list[int]]] = defaultdict(lambda: defaultdict(list))
        visits: dict[int, list[Measured]] = defaultdict(list)
        for m in sorted(self.measured, key=lambda m: m.day):
            done[m.client][m.station].append(m.day)
            visits[m.client].append(m)
        for_all = [_span(e, last) for e in self.events if e.client is None and is_blackout(e)]
        own: dict[int, list[Span]] = defaultdict(list)
        for e in self.events:
            if e.client is not None and is_blackout(e):
                own[e.client].append(_span(e, last))
        moved: dict[tuple[int, int], dict[int, int | None]] = defaultdict(dict)
        for x in self.scheme.moved:
            moved[x.scheme, x.client][ordinal(x.due)] = ordinal(x.day) if x.day else None
        made = dict(self.kept.clients) if self.kept is not None and self.only else {}
        clients = sorted(self.catalogue.clients.values(), key=lambda c: c.code)
        for k, client in enumerate(clients):
            alone = self.kept is None or client.id in made
            if self.only and client.id != self.only and alone:
                continue
            spans = tuple(sorted((*for_all, *own[client.id])))
            plan = _Client(
                client,
                (k, len(clients)),
                _forbidden(client, self.catalogue),
                spans,
                done[client.id],
                (today, first, last),
            )
            rules = [r for r in self.scheme.rules if r.client in (None, client.id)]
            for rule in sorted(rules, key=lambda r: (r.form == SCAN, r.station != SCAN)):
                plan.place(rule, moved[rule.id, client.id])
            days = plan.settled()
            by = {(d.station, d.done_on) for d in days if d.done_on is not None}
            seen = [
                m
                for m in visits[client.id]
                if first <= m.day <= last and (m.station, m.day) not in by
            ]
            made[client.id] = ClientDays(tuple(days), tuple(seen), spans, tuple(plan.left))
            if k % 20 == 19:
                yield (k + 1) / len(clients)
        found = _schedule(today, first, last, {c.id: made[c.id] for c in clients if c.id in made})
        yield 1.0
        return found


def _span(e: Event, last: int) -> Span:
    """First and last day of an event; without an end it lasts one day."""
    start = ordinal(e.starts)
    return start, max(ordinal(e.ends), start) if e.ends else min(start, last)


def _forbidden(client: Client, catalogue: Catalogue) -> frozenset[str]:
    """Stations that a client's cautions forbid."""
    forbids = {c.forbids for c in cautions_of(client)}
    out = {SCAN} if SCAN in forbids else set()
    if "impedance" in forbids:
        out.add("impedance")
        devices = [i for i in catalogue.instruments.values() if i.kind == "device"]
        if devices and len(locks(client, devices)) == len(devices):
            out.add(DEVICES)
    return frozenset(out)


@dataclass(frozen=True, slots=True)
class _Raw:
    """A day that a rule made, and where it stands after moves.

    ``missed`` where a scan came too late for it: nothing fulfils it, and nothing is planned by it.
    """

    rule: SchemeRule
    due: int
    day: int
    shifted: str
    done_on: int | None = None
    missed: bool = False


class _Client:
    """The calendar of one client while it is made."""

    def __init__(
        self,
        client: Client,
        place: tuple[int, int],
        forbidden: frozenset[str],
        spans: tuple[Span, ...],
        done: Mapping[str, list[int]],
        bounds: tuple[int, int, int],
    ) -> None:
        self.client, self.at, self.forbidden = client, place, forbidden
        self.spans, self.done = spans, done
        self.today, self.first, self.last = bounds
        self.made: dict[str, list[_Raw]] = defaultdict(list)
        self.rest = defaultdict[str, list[int]](list, {k: list(v) for k, v in done.items()})
        before = [ordinal(client.last_scan)] if len(client.last_scan) >= 10 else []
        # taken (the last one before the study included) and planned, in order
        self.scans = sorted([*done.get(SCAN, []), *before])
        self.left: list[LeftOut] = []

    def place(self, rule: SchemeRule, moved: Mapping[int, int | None]) -> None:
        """Make the days of a rule, moved round what stands in their way."""
        due = self._due(rule)
        if rule.station in self.forbidden:
            ahead = sum(d >= self.today for d in due)
            if ahead:
                self._leave(rule, "caution", ahead)
            return
        taken = self.rest[rule.station]
        there = {r.day for r in self.made[rule.station] if r.rule.label == rule.label}
        wanted = [(d, w) for d in due if (w := moved.get(d, d)) is not None and w not in there]
        wanted.sort(key=lambda pair: pair[1])
        fulfilled = matched([(w, tolerance(rule)) for _, w in wanted], taken)
        spare = [t for t in taken if t not in fulfilled]
        count = len(self.done.get(rule.station, []))
        count += (self.client.scans_before or 0) if rule.station == SCAN else 0
        without = defaultdict[str, int](int)
        for (d, w), by in zip(wanted, fulfilled, strict=True):
            hand = "hand" if w != d else ""
            if by is not None:  # what was measured stays where it was planned
                taken.remove(by)
                self.made[rule.station].append(_Raw(rule, d, w, hand, by))
                continue
            # a scan that came too late for its day takes its place: no other is asked for
            late = rule.station == SCAN and any(w < t < w + LEAST_DAYS for t in spare)
            if late and self._was_asked(w):
                self.made[SCAN].append(_Raw(rule, d, w, hand, missed=True))
                continue
            full = rule.most is not None and count >= rule.most
            barred = "most" if full else "spacing" if late else ""
            day, why = (None, barred) if barred else self._free(rule, w)
            if day is None:
                without[why] += w >= self.today
                continue
            count += 1
            self.made[rule.station].append(_Raw(rule, d, day, why or hand))
            if rule.station == SCAN:
                insort(self.scans, day)
        for why, n in without.items():
            if n:
                self._leave(rule, why, n)

    def _leave(self, rule: SchemeRule, why: str, days: int) -> None:
        self.left.append(LeftOut(self.client.id, rule.id, rule.station, why, days))

    def _due(self, rule: SchemeRule) -> list[int]:
        """The days that a rule makes within the bounds."""
        first = max(self.first, ordinal(rule.starts)) if rule.starts else self.first
        last = min(self.last, ordinal(rule.ends)) if rule.ends else self.last
        if rule.form == "days":
            return sorted(d for d in map(ordinal, map(str, rule.days)) if first <= d <= last)
        days = [int(d) for d in rule.days]
        if rule.form == "scan":
            ahead = (r.day for r in self.made[SCAN] if r.done_on is None and not r.missed)
            scans = {*self.done.get(SCAN, []), *ahead}
            return sorted({s + d for s in scans for d in days if first <= s + d <= last})
        if rule.form == "weekdays":
            wanted = set(days)
            return [d for d in range(first, last + 1) if date.fromordinal(d).weekday() in wanted]
        step = max(days[0], 1)
        if rule.form == "back":
            end = ordinal(rule.ends) if rule.ends else last
            return [d for d in range(end, first - 1, -step) if d <= last][::-1]
        start = ordinal(rule.starts) if rule.starts else self.first
        if rule.form == "last":
            start = max([*self.done.get(rule.station, []), start - step]) + step
        elif rule.spread:
            start += step * self.at[0] // self.at[1]
        begin = start + max(0, -(-(self.first - start) // step)) * step
        return list(range(begin, last + 1, step))

    def _free(self, rule: SchemeRule, wanted: int) -> tuple[int | None, str]:
        """The nearest day that may be used, and why it is another one; None where there is none."""
        reach = _reach(rule)
        why = "blackout"
        for step in (0, *(s for k in range(1, reach + 1) for s in (k, -k))):
            day = wanted + step
            if self._away(day):
                continue
            if rule.station == SCAN and not rule.reason and self._crowded(day):
                why = "spacing"
                continue
            if step < 0 and (rule.form == "last" or (day < self.today <= wanted)):
                continue
            return day, why if step else ""
        return None, why

    def _was_asked(self, day: int) -> bool:
        """Whether a scan was wanted on a day: nothing forbade it, none lay in the weeks before."""
        missed = (r.day for r in self.made[SCAN] if r.missed)
        return not self._away(day) and not any(
            day - LEAST_DAYS < o <= day for o in (*self.scans, *missed)
        )

    def _away(self, day: int) -> bool:
        """Whether nothing is planned on a day: a journey, an illness."""
        return any(a <= day <= b for a, b in self.spans)

    def _crowded(self, day: int) -> bool:
        """Whether a scan lies nearer than may be, taken or planned."""
        k = bisect_left(self.scans, day)
        return any(abs(day - o) < LEAST_DAYS for o in self.scans[max(k - 1, 0) : k + 1])

    def settled(self) -> list[PlannedDay]:
        """Tell of each planned day whether it is done, due, overdue or yet to come."""
        out = []
        for station, raw in self.made.items():
            raw.sort(key=lambda r: (r.day, r.rule.id))
            # a visit may also fulfil a day that was moved round something
            open_ = [r for r in raw if r.done_on is None and not r.missed]
            later = matched([(r.day, tolerance(r.rule)) for r in open_], self.rest[station])
            by = {(r.rule.id, r.due): t for r, t in zip(open_, later, strict=True)}
            passed = {r.rule.id: r.day for r in raw if r.day <= self.today}
            for r in raw:
                on = r.done_on if r.done_on is not None else by.get((r.rule.id, r.due))
                state = "done" if on is not None else self._state(r, passed)
                who = self.client.id, r.rule.id, station, r.rule.label
                out.append(PlannedDay(*who, r.due, r.day, state, r.shifted, on))
        out.sort(key=lambda d: (d.day, _ORDER[d.station], d.label))
        return out

    def _state(self, r: _Raw, passed: Mapping[int, int]) -> State:
        if r.missed:
            return "missed"
        if r.day > self.today:
            return "planned"
        if passed[r.rule.id] > r.day:
            return "missed"
        if self.today <= r.day + tolerance(r.rule):
            return "due"
        # the scan is over: no later reading is one beside it
        return "missed" if self._beside_taken(r) else "overdue"

    def _beside_taken(self, r: _Raw) -> bool:
        """Whether it is a day around a scan that was taken."""
        scans = self.done.get(SCAN, [])
        return r.rule.form == "scan" and any(r.due - int(d) in scans for d in r.rule.days)


def tolerance(rule: SchemeRule) -> int:
    """Days by which a visit may miss the planned day of a rule and still fulfil it."""
    if rule.form in ("every", "back", "last"):
        return min(max(int(rule.days[0]), 1) // 2, WIDEST_DAYS)
    if rule.form == "days":
        return 7 if rule.station == SCAN else 0
    return 0


def _reach(rule: SchemeRule) -> int:
    """Days by which a planned day may be moved round what stands in its way."""
    if rule.form in ("every", "back", "last"):
        step = max(int(rule.days[0]), 1)
        # a scan waits as long as it must; anything else is left out before it meets the next one
        return LEAST_DAYS + step if rule.station == SCAN else step // 2
    return 2 * LEAST_DAYS if rule.station == SCAN else 0


def early(within: int) -> int:
    """Days by which a visit may come before the planned day, where it may come ``within`` late."""
    return min(within, max(3, within // 2))


def matched(planned: list[tuple[int, int]], taken: Iterable[int]) -> list[int | None]:
    """The measured day that fulfils each planned day; each measured day fulfils one.

    Parameters
    ----------
    planned : list of (int, int)
        Day, and by how many days a visit may be late, in order; ``early`` tells how early.
    taken : iterable of int
        Days measured, in order.

    Returns
    -------
    list of int or None
        One entry a planned day.
    """
    out: list[int | None] = [None] * len(planned)
    days = [d for d, _ in planned]
    for t in taken:
        low = bisect_left(days, t - WIDEST_DAYS)
        best = None
        for k in range(low, len(days)):
            if days[k] > t + WIDEST_DAYS:
                break
            away, late = abs(days[k] - t), planned[k][1]
            fits = away <= (late if t >= days[k] else early(late))
            if out[k] is None and fits and (best is None or away < best[0]):
                best = away, k
        if best is not None:
            out[best[1]] = t
    return out


def fixed_beforehand(days: Iterable[PlannedDay]) -> frozenset[int]:
    """Days that count as fixed before anything was measured.

    Parameters
    ----------
    days : iterable of PlannedDay
        The calendar of one client.

    Returns
    -------
    frozenset of int
        Of each series of a rule the days that begin it, or come at least four weeks after its
        planned day before: as planned, as moved, and as measured. Days that lie closer offer so
        many pairs that the largest change could be picked from them.
    """
    out: set[int] = set()
    series: dict[tuple[int, str], list[PlannedDay]] = defaultdict(list)
    for d in days:
        series[d.rule, d.label].append(d)
    for own in series.values():
        before: int | None = None
        for d in sorted(own, key=lambda d: d.due):
            if before is None or d.due - before >= APART:
                out |= {x for x in (d.due, d.day, d.done_on) if x is not None}
            before = d.due
    return frozenset(out)
